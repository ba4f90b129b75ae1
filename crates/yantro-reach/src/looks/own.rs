//! What Yantro's own processes hang on, where they run: nothing of that is ever acted on by a run (R13).

use std::{collections::BTreeSet, fs};

use crate::looks::{gone::unless_gone, procs};

/// This process and those that it descends from; the host's first one is left out.
///
/// # Errors
/// In words: that cannot be read.
pub(crate) fn line() -> Result<Vec<u32>, String> {
    let (mut all, mut at) = (Vec::new(), std::process::id());
    while at > 1 {
        all.push(at);
        at = match procs::stat(at) {
            // One that ended meanwhile has left its children to the first; and beyond what another account keeps to itself nothing is seen.
            Ok(of_it) => of_it.map_or(1, |s| s.parent),
            Err(error) if error.kind() == std::io::ErrorKind::PermissionDenied => 1,
            Err(error) => return Err(format!("what Yantro's own processes hang on cannot be read: {error}")),
        };
    }
    Ok(all)
}

/// The units of the host's manager that those are in: the server's own, and of an outpost the SSH server that let it in,
/// whatever that is called.
///
/// # Errors
/// In words: that cannot be read.
pub(crate) fn units() -> Result<BTreeSet<String>, String> {
    let mut all = BTreeSet::new();
    for pid in line()? {
        let groups = match fs::read_to_string(format!("/proc/{pid}/cgroup")) {
            Err(error) if error.kind() == std::io::ErrorKind::PermissionDenied => Ok(None),
            read => unless_gone(read),
        };
        let groups = groups.map_err(|e| format!("which units Yantro's own processes are in cannot be read: {e}"))?;
        all.extend(groups.and_then(|groups| unit_in(&groups)));
    }
    Ok(all)
}

/// Those units, as far as they are known: for a plan. What acts asks anew, and refuses where they cannot be read.
pub(crate) fn known_units() -> BTreeSet<String> {
    units().unwrap_or_else(|why| {
        tracing::warn!(%why, "what must not be acted on is asked for again at each act");
        BTreeSet::new()
    })
}

/// The unit that a process is in by its control groups, as cgroups(7) has them: in the unified hierarchy, or in the one
/// that systemd keeps for itself.
pub(crate) fn unit_in(groups: &str) -> Option<String> {
    let managers =
        |line: &str| line.strip_prefix("0::").or_else(|| line.split_once(":name=systemd:").map(|(_, path)| path)).map(str::to_owned);
    let is_unit = |part: &&str| [".service", ".scope"].iter().any(|end| part.ends_with(end));
    groups
        .lines()
        .filter_map(managers)
        .find_map(|path| path.split('/').find(is_unit).map(str::to_owned))
        .filter(|unit| unit != "init.scope")
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::unified("0::/system.slice/yantro.service\n", Some("yantro.service"))]
    #[case::its_own_hierarchy("9:name=systemd:/system.slice/ssh.service\n8:pids:/a.service\n0::/\n", Some("ssh.service"))]
    #[case::below_a_manager_of_ones_own("0::/user.slice/user-7.slice/user@7.service/app.slice/x.service\n", Some("user@7.service"))]
    #[case::a_session("0::/user.slice/user-0.slice/session-3.scope\n", Some("session-3.scope"))]
    #[case::an_instance("0::/system.slice/system-ssh.slice/ssh@0-10.0.0.1:22.service\n", Some("ssh@0-10.0.0.1:22.service"))]
    #[case::the_host_itself("0::/init.scope\n", None)]
    #[case::none("0::/\n", None)]
    fn a_unit_is_told_by_control_groups(#[case] groups: &str, #[case] unit: Option<&str>) {
        assert_eq!(unit_in(groups).as_deref(), unit);
    }

    #[test]
    fn ones_own_line_begins_with_oneself() {
        let line = line().unwrap();
        assert_eq!(line.first(), Some(&std::process::id()));
        assert!(line.contains(&std::os::unix::process::parent_id()) || std::os::unix::process::parent_id() == 1, "{line:?}");
        assert!(!line.contains(&1), "{line:?}");
    }
}
