//! What a command is given there: its folder, its environment, its account.

use std::collections::{BTreeMap, BTreeSet};

use crate::links::quoting::shell_word;

/// What stands in place of an output that may show a secret.
pub(super) const WITHHELD: &str = "its output is withheld: it was given a secret, and a plain shell cannot mask it";

/// Whether a command is given a secret, whose value only its host knows.
pub(super) fn has_secret(env: &BTreeMap<String, String>, to_the_letter: &BTreeSet<String>) -> bool {
    env.iter().any(|(name, value)| !to_the_letter.contains(name) && (value.starts_with("file:") || value.starts_with("env:")))
}

/// A command with its folder and environment, and nothing else of the account's own but where programs are, the language, a home
/// and the zone; a reference is resolved there, by the shell, and is in no argument. What came from outside is taken to the
/// letter, whatever it looks like.
pub(super) fn in_place(words: &[String], dir: &str, env: &BTreeMap<String, String>, to_the_letter: &BTreeSet<String>) -> String {
    let mut script = format!("cd {} || {{ echo \"the folder cannot be entered\"; exit 126; }}; ", shell_word(dir));
    for (name, value) in env.iter().filter(|(name, _)| is_variable(name)) {
        let unread = format!("|| {{ echo \"the secret of {name} cannot be read\"; exit 126; }}");
        script += &match (value.strip_prefix("file:"), value.strip_prefix("env:")) {
            _ if to_the_letter.contains(name) => format!("export {name}={}; ", shell_word(value)),
            (Some(path), _) => format!("{name}=\"$(cat {} 2>/dev/null)\" {unread}; export {name}; ", shell_word(path)),
            (_, Some(of)) if is_variable(of) => format!("[ -n \"${{{of}+set}}\" ] {unread}; export {name}=\"${{{of}}}\"; "),
            _ => format!("export {name}={}; ", shell_word(value)),
        };
    }
    // `a` and `d` are the script's own.
    let kept: String = env.keys().filter(|name| is_variable(name)).map(|name| format!("|{name}")).collect();
    script += &format!(
        "for v in $(env | sed -n 's/^\\([A-Za-z_][A-Za-z0-9_]*\\)=.*/\\1/p'); do case \"$v\" in a|d|PATH|LANG|HOME|TZ{kept}) ;; *) unset \"$v\";; esac; done; "
    );
    script + &words.iter().map(|w| shell_word(w)).collect::<Vec<_>>().join(" ")
}

/// The words by which a command is run as another account, keeping what it is given.
pub(super) fn as_account(user: &str, env: &BTreeMap<String, String>) -> Vec<String> {
    let names: Vec<&str> = env.keys().map(String::as_str).filter(|name| is_variable(name)).collect();
    let kept = (!names.is_empty()).then(|| format!("--preserve-env={}", names.join(",")));
    ["sudo", "-n", "-u", user].map(str::to_owned).into_iter().chain(kept).chain(["--".to_owned()]).collect()
}

/// Whether a shell takes this as the name of a variable, and as nothing else.
pub(super) fn is_variable(name: &str) -> bool {
    let mut chars = name.chars();
    chars.next().is_some_and(|c| c.is_ascii_alphabetic() || c == '_') && chars.all(|c| c.is_ascii_alphanumeric() || c == '_')
}

pub(super) fn takes_outpost(what: &str) -> String {
    format!("{what} takes the outpost, which cannot run on this host")
}

#[cfg(test)]
pub(super) mod trying {
    /// What a script comes to in a shell of this machine.
    pub fn sh(script: &str, args: &[&str]) -> (i32, String) {
        let ran = std::process::Command::new("/bin/sh").args(["-c", script]).args(args).output().unwrap();
        (ran.status.code().unwrap(), format!("{}{}", String::from_utf8_lossy(&ran.stdout), String::from_utf8_lossy(&ran.stderr)))
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::{trying::sh, *};

    /// A command is not run without the secret that it was to be given.
    #[rstest]
    #[case::no_file("file:/nowhere/secret")]
    #[case::no_variable("env:YANTRO_TEST_UNSET")]
    fn a_secret_that_cannot_be_read_is_said(#[case] reference: &str) {
        let env = BTreeMap::from([("KEY".to_owned(), reference.to_owned())]);
        let (code, printed) = sh(&in_place(&["echo".into(), "ran".into()], "/", &env, &BTreeSet::new()), &[]);
        assert_eq!((code, printed.trim()), (126, "the secret of KEY cannot be read"));
    }
}
