//! What is wrong with the way to a host, in words, with the mend.

use yantro_core::model::SshSpec;

use crate::links::quoting::shell_word;

/// What is wrong with a link, and how to mend it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Trouble {
    /// What.
    pub why: String,
    /// How to mend it.
    pub mend: String,
}

/// A path as a word of a shell, as it is where that means nothing to one.
fn quoted(path: &str) -> String {
    let plain = |c: char| c.is_ascii_alphanumeric() || "/._-+@:".contains(c);
    if path.chars().all(plain) { path.to_owned() } else { shell_word(path) }
}

/// What the SSH client, the shell or `sudo` said, in words, with the mend.
pub(super) fn trouble_of(address: &str, spec: &SshSpec, code: Option<i32>, said: &str) -> Option<Trouble> {
    let to = spec.to.as_deref().unwrap_or(address);
    let account = spec.account.as_deref().map_or_else(|| "the account".to_owned(), |a| format!("account {a}"));
    let has = |text: &str| said.contains(text);
    // The file that is really asked, and the name that it has the key under: both can be pasted.
    let known = spec.known_hosts.as_deref().map_or_else(|| "~/.ssh/known_hosts".to_owned(), quoted);
    let named = spec.port.filter(|p| *p != 22).map_or_else(|| to.to_owned(), |port| format!("'[{to}]:{port}'"));
    let at = spec.port.filter(|p| *p != 22).map_or_else(String::new, |port| format!("-p {port} "));
    let scan = format!("ssh-keyscan {at}{to} >> {known}");
    let trouble = |why: String, mend: String| Some(Trouble { why, mend });
    if has("REMOTE HOST IDENTIFICATION HAS CHANGED") {
        return trouble(
            "its host key is not the one that is known: it was made anew, or somebody stands in between".to_owned(),
            format!(
                "compare its fingerprint on the host's own console; only where it is right, `ssh-keygen -f {known} -R {named}` and add the new one: `{scan}`"
            ),
        );
    }
    if has("Host key verification failed") || has("host key is known for") {
        return trouble(
            "its host key is not known yet".to_owned(),
            format!("compare its fingerprint on the host's own console, then add it: `{scan}`"),
        );
    }
    if has("Permission denied") {
        return trouble(
            format!("it accepts no key of ours for {account}"),
            "put the public key into that account's authorized_keys; see that the private one, or an agent that has it, is there"
                .to_owned(),
        );
    }
    if has("sudo:") {
        let last = said.lines().rev().find(|l| l.contains("sudo:")).unwrap_or_default();
        return trouble(
            format!("sudo is refused to {account}: {}", last.trim_start_matches("sudo:").trim()),
            "allow it without a password for the outpost, by a file in /etc/sudoers.d; docs/hosts.md has one".to_owned(),
        );
    }
    if has("No space left on device") || matches!(code, Some(72)) {
        return trouble(
            "its disk is full: the outpost cannot be put there".to_owned(),
            "make room in the account's cache folder".to_owned(),
        );
    }
    if matches!(code, Some(71)) {
        return trouble(
            "the account's cache folder cannot be made".to_owned(),
            "give the account a home folder that it may write to, or install the outpost there".to_owned(),
        );
    }
    if matches!(code, Some(73)) {
        return trouble("the outpost did not arrive whole".to_owned(), "it is carried again by itself".to_owned());
    }
    if has("Exec format error") || has("cannot execute binary") || code == Some(126) {
        return trouble(
            "the outpost cannot be run there: another processor, or a file system that lets nothing run".to_owned(),
            "install one that fits as /usr/local/lib/yantro/outpost".to_owned(),
        );
    }
    for (text, why) in [
        ("Connection refused", "nothing answers on its SSH port"),
        ("No route to host", "there is no way to it"),
        ("Network is unreachable", "there is no way to it"),
        ("timed out", "it does not answer"),
        ("Could not resolve hostname", "its name is not known here"),
        ("Connection reset", "it ended the connection"),
        ("Connection closed", "it ended the connection"),
    ] {
        if has(text) {
            return trouble(format!("{why} ({to})"), "see whether the host is on, its SSH server, and the way there".to_owned());
        }
    }
    let last = said.lines().rev().find(|l| !l.trim().is_empty())?;
    trouble(last.trim().to_owned(), format!("see what `ssh {to}` says"))
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::changed_key(
        "@@@ WARNING: REMOTE HOST IDENTIFICATION HAS CHANGED! @@@\nHost key verification failed.",
        Some(255),
        "host key is not the one that is known",
        "ssh-keygen -f '/etc/yantro/known hosts' -R '[10.77.0.11]:2222'` and add the new one: `ssh-keyscan -p 2222 10.77.0.11 >> '/etc/yantro/known hosts'`"
    )]
    #[case::unknown_key(
        "No ED25519 host key is known for 10.77.0.11 and you have requested strict checking.\nHost key verification failed.",
        Some(255),
        "not known yet",
        "ssh-keyscan -p 2222 10.77.0.11 >> '/etc/yantro/known hosts'"
    )]
    #[case::key(
        "yantro@10.77.0.11: Permission denied (publickey).",
        Some(255),
        "accepts no key of ours for account yantro",
        "authorized_keys"
    )]
    #[case::sudo("sudo: a password is required", Some(1), "sudo is refused to account yantro: a password is required", "sudoers.d")]
    #[case::disk("head: error writing 'standard output': No space left on device", Some(72), "disk is full", "make room")]
    #[case::off("ssh: connect to host 10.77.0.11 port 22: No route to host", Some(255), "no way to it", "on")]
    #[case::processor("sh: 1: /x/outpost: Exec format error", Some(126), "another processor", "install one that fits")]
    #[case::else_what_it_said("one\nsomething odd\n\n", Some(255), "something odd", "ssh 10.77.0.11")]
    fn trouble_is_told_with_its_mend(#[case] said: &str, #[case] code: Option<i32>, #[case] why: &str, #[case] mend: &str) {
        let known_hosts = Some("/etc/yantro/known hosts".into());
        let spec = SshSpec { account: Some("yantro".into()), port: Some(2222), known_hosts, ..SshSpec::default() };
        let trouble = trouble_of("10.77.0.11", &spec, code, said).unwrap();
        assert!(trouble.why.contains(why) && trouble.mend.contains(mend), "{trouble:?}");
    }
}
