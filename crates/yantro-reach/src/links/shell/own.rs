//! What the plain shell itself hangs on: its units, and those that would take one of them along (R13).

use std::collections::{BTreeMap, BTreeSet};

use yantro_core::proof::UnitTerms;

use super::channel::Sh;
use crate::{links::quoting::shell_word, looks::own::unit_in};

/// The control groups of the shell and of those that it descends from, a line each.
const LINE: &str = "line() { p=$$; while [ \"${p:-0}\" -gt 1 ] && [ -r /proc/$p/status ]; do \
    sed -n 's/^0:://p; s/^[0-9]*:name=systemd://p' /proc/$p/cgroup; p=$(sed -n 's/^PPid:[^0-9]*//p' /proc/$p/status); done; }; ";

/// The units that the shell is in.
pub(super) async fn units(sh: &Sh) -> BTreeSet<String> {
    let (_, said) = sh.run(&format!("{LINE}line")).await;
    said.lines().filter_map(|path| unit_in(&format!("0::{path}"))).collect()
}

/// What the shell asks for that: it prints the unit, or nothing, or ends with 2 where the manager does not answer.
fn asked_of(unit: &str) -> String {
    format!(
        "{LINE}all=$(line); [ -n \"$all\" ] || {{ echo 'its own control group cannot be read'; exit 2; }}; \
         along=$(systemctl show --value -p RequiredBy -p BoundBy -p ConsistsOf -p RequisiteOf {unit} 2>&1) || {{ echo \"$along\"; exit 2; }}; \
         for u in {unit} $along; do \
         g=$(systemctl show --value -p ControlGroup \"$u\" 2>&1) || {{ echo \"$g\"; exit 2; }}; [ -n \"$g\" ] && [ \"$g\" != / ] || continue; \
         for c in $all; do case \"$c/\" in \"$g\"/*) echo \"$u\"; exit 0;; esac; done; done; exit 0",
        unit = shell_word(unit)
    )
}

/// The unit that the shell hangs on, where it is this one, by whatever name, or would be stopped along with it.
///
/// # Errors
/// In words: nobody can say.
pub(super) async fn hung_on(sh: &Sh, unit: &str) -> Result<Option<String>, String> {
    match sh.run(&asked_of(unit)).await {
        (0, said) => Ok(Some(said.trim().to_owned()).filter(|unit| !unit.is_empty())),
        (code, said) => {
            let said = said.trim();
            Err(if said.is_empty() { format!("exit code {code}") } else { said.to_owned() })
        }
    }
}

/// Of the managers' terms, what is known of units here: whether the shell hangs on them.
pub(super) async fn terms(sh: &Sh, units: &[String]) -> BTreeMap<String, UnitTerms> {
    let mut known = BTreeMap::new();
    for unit in units {
        // What is not known here is asked for again at the act.
        if let Ok(Some(hung_on)) = hung_on(sh, unit).await {
            known.insert(unit.clone(), UnitTerms { hung_on: Some(hung_on), ..UnitTerms::default() });
        }
    }
    known
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::PermissionsExt;

    use rstest::rstest;

    use super::*;

    /// A manager that does not answer has not said that nothing of ours hangs on a unit (R13).
    #[rstest]
    #[case::nothing_of_ours("echo /system.slice/of-another.service", 0, "")]
    #[case::no_answer("echo 'Failed to connect to bus: Host is down' >&2; exit 1", 2, "Failed to connect to bus: Host is down")]
    #[case::no_manager("exit 127", 2, "")]
    #[case::none_of_its_group("case \"$*\" in *ControlGroup*) echo 'Connection timed out'; exit 1;; esac", 2, "Connection timed out")]
    fn what_the_shell_hangs_on_is_said_or_not_known(#[case] manager: &str, #[case] code: i32, #[case] says: &str) {
        let dir = tempfile::tempdir().unwrap();
        let systemctl = dir.path().join("systemctl");
        // It is asked for two things: which units would go along, and the control group of each.
        let along = if code == 0 { "case \"$*\" in *RequiredBy*) exit 0;; esac\n" } else { "" };
        std::fs::write(&systemctl, format!("#!/bin/sh\n{along}{manager}\n")).unwrap();
        std::fs::set_permissions(&systemctl, std::fs::Permissions::from_mode(0o700)).unwrap();
        let path = format!("{}:/usr/bin:/bin", dir.path().display());
        let ran = std::process::Command::new("/bin/sh").args(["-c", &asked_of("gate.service")]).env("PATH", path).output().unwrap();
        assert_eq!((ran.status.code(), String::from_utf8_lossy(&ran.stdout).trim()), (Some(code), says));
    }
}
