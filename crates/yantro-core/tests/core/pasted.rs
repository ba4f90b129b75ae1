//! The record's exact command, as it can be pasted into a shell.

use rstest::rstest;
use yantro_core::run::ActBegun;

fn begun(command: &[&str], dir: &str, user: &str, env: &[(&str, &str)], letter: &[&str]) -> ActBegun {
    ActBegun {
        command: command.iter().map(|w| (*w).to_owned()).collect(),
        dir: dir.to_owned(),
        user: user.to_owned(),
        env: env.iter().map(|(n, v)| ((*n).to_owned(), (*v).to_owned())).collect(),
        to_the_letter: letter.iter().map(|n| (*n).to_owned()).collect(),
        ..ActBegun::default()
    }
}

#[rstest]
#[case::a_unit(begun(&["systemctl", "stop", "--", "a b.service"], "/", "root", &[], &[]), "systemctl stop -- 'a b.service'")]
#[case::a_signal(begun(&["signal TERM", "231", "232"], "/", "fares", &[], &[]), "kill -s TERM 231 232")]
#[case::through_sudo(begun(&["sudo", "-n", "--", "/bin/on"], "/", "purser", &[], &[]), "sudo -n -- /bin/on")]
#[case::as_an_account(begun(&["/bin/on"], "/srv/it's", "fares", &[], &[]), r"cd '/srv/it'\''s' && sudo -u fares -- /bin/on")]
#[case::with_a_secret(begun(&["/bin/on"], "/", "root", &[("KEY", "file:/etc/k"), ("T", "env:TOKEN")], &[]), "KEY=\"$(cat /etc/k)\" T=\"$TOKEN\" /bin/on")]
#[case::with_a_secret_as_an_account(
    begun(&["/bin/on", "a b"], "/srv", "fares", &[("KEY", "file:/etc/k")], &[]),
    r#"cd /srv && sudo -u fares -- sh -c 'KEY="$(cat /etc/k)" /bin/on '\''a b'\'''"#
)]
#[case::with_what_looks_like_one(begun(&["/bin/on"], "/", "root", &[("WHO", "file:/etc/shadow")], &["WHO"]), "WHO=file:/etc/shadow /bin/on")]
#[case::with_what_looks_like_a_variable(begun(&["/bin/on"], "/", "root", &[("WHO", "env:HOME")], &["WHO"]), "WHO=env:HOME /bin/on")]
fn a_command_can_be_pasted(#[case] begun: ActBegun, #[case] typed: &str) {
    assert_eq!(begun.typed(), typed);
}

/// A shell takes it as it was given, whatever is in it.
#[test]
fn what_is_pasted_does_the_same() {
    let odd = "a'b \"c\" $HOME `id` ;\\ *";
    let begun = begun(&["printf", "%s|%s", odd, "two  words"], "/tmp", "root", &[("X", odd)], &[]);
    let ran = std::process::Command::new("sh").args(["-c", &format!("{}; printf %s \"$PWD\"", begun.typed())]).output().unwrap();
    assert_eq!(String::from_utf8_lossy(&ran.stdout), format!("{odd}|two  words/tmp"));
}
