//! Which server acts on a host that has a plain shell only (R35).

use serde_json::{Value, json};

use super::channel::Sh;
use crate::links::{quoting::shell_word, wire::ToldClaim};

/// Whether another server acts there (R35). Where that cannot be read, nobody may say that none does.
pub(super) async fn kept(sh: &Sh, claim: &ToldClaim) -> Value {
    match sh.run(WHO_ACTS).await {
        (0, other) => kept_by(&other, claim),
        (_, said) => json!({ "says": format!("which server acts there cannot be read: {}", said.trim()), "doubts": false }),
    }
}

fn kept_by(other: &str, claim: &ToldClaim) -> Value {
    if other.is_empty() || other == claim.server {
        return Value::Null;
    }
    json!({ "says": format!("another server acts there ({other})"), "doubts": false })
}

/// Why an act's script gave way: another server acts there, or that none does could not be written down.
pub(super) fn gave_way(said: &str, claim: &ToldClaim) -> Option<Value> {
    let other = said.lines().find_map(|line| line.strip_prefix(GAVE_WAY))?.trim();
    let kept = kept_by(other, claim);
    let unwritten = || json!({ "says": "which server acts there cannot be written down: make room there, or see whose its folder is", "doubts": false });
    Some(if kept.is_null() { unwritten() } else { kept })
}

/// What an act's script says before the server that has the host.
pub(super) const GAVE_WAY: &str = "kept ";

/// Which server acts there; nothing where none ever did.
const WHO_ACTS: &str = "f=\"$d/acting-server\"; if [ -e \"$f\" ] || [ -L \"$f\" ]; then cat \"$f\"; elif [ ! -d \"$d\" ] || [ ! -x \"$d\" ]; then echo \"$d cannot be entered\"; false; fi";

/// Claims the host, as far as nobody has: of two that do so at once one does, and the file is whole or not there. It prints who has
/// it, and fails where it cannot be written. An empty one is nobody's: an older version could leave that on a full disk.
pub(super) fn claiming(server: &str) -> String {
    format!(
        "f=\"$d/acting-server\"; [ -s \"$f\" ] || [ ! -f \"$f\" ] || rm -f \"$f\"; \
         if [ ! -e \"$f\" ]; then printf %s {} > \"$f.$$\" && sync && ln \"$f.$$\" \"$f\" 2>/dev/null; rm -f \"$f.$$\"; fi; cat \"$f\"",
        shell_word(server)
    )
}

/// Takes it over from whoever had it.
pub(super) fn taking_over(server: &str) -> String {
    format!("f=\"$d/acting-server\"; printf %s {} > \"$f.$$\" && sync && mv -f \"$f.$$\" \"$f\" && sync", shell_word(server))
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;
    use crate::links::shell::given::trying::sh;

    /// Of two servers that claim a host at once one has it, and what cannot be read is not taken for nobody's.
    #[test]
    fn a_host_is_claimed_by_one_and_never_by_guess() {
        let dir = tempfile::tempdir().unwrap();
        let d = shell_word(&dir.path().display().to_string());
        let run = |script: &str| sh(&format!("d={d}; {script}"), &[]);
        assert_eq!(run(WHO_ACTS), (0, String::new()));
        let all: Vec<(i32, String)> = std::thread::scope(|scope| {
            let claims: Vec<_> = (0..8).map(|n| scope.spawn(move || claiming(&format!("server-{n}")))).map(|c| c.join().unwrap()).collect();
            let run = &run;
            let running: Vec<_> = claims.into_iter().map(|c| scope.spawn(move || run(&c))).collect();
            running.into_iter().map(|r| r.join().unwrap()).collect()
        });
        assert!(all[0].1.starts_with("server-") && all.iter().all(|one| one == &all[0]), "{all:?}");
        assert_eq!(run(WHO_ACTS), all[0]);
        assert_eq!(run(&taking_over("server-9")).0, 0);
        assert_eq!(run(&claiming("server-1")).1, "server-9");
        // What a full disk left empty keeps nobody out.
        std::fs::write(dir.path().join("acting-server"), "").unwrap();
        assert_eq!(run(WHO_ACTS), (0, String::new()));
        assert_eq!(run(&claiming("server-1")).1, "server-1");
        assert_eq!(std::fs::read_dir(dir.path()).unwrap().count(), 1, "nothing is left beside it");
        // A link that leads nowhere is there, and cannot be read.
        std::fs::remove_file(dir.path().join("acting-server")).unwrap();
        std::os::unix::fs::symlink("nowhere", dir.path().join("acting-server")).unwrap();
        assert_ne!(run(WHO_ACTS).0, 0);
        assert_ne!(run(&claiming("server-1")).1, "server-1");
    }

    fn claim() -> ToldClaim {
        let text = |t: &str| t.to_owned();
        ToldClaim { server: text("ours"), session: text("s"), sessions: Vec::new(), counter: 0, data: text("/d") }
    }

    #[rstest]
    #[case::it_went_on("begun 4711", None)]
    #[case::another_has_it("kept theirs", Some("another server acts there (theirs)"))]
    #[case::not_written("cat: /s/acting-server: No such file or directory\nkept \n", Some("cannot be written down"))]
    #[case::not_written_and_cut("kept ", Some("cannot be written down"))]
    fn an_act_gives_way_to_who_has_the_host_or_where_nobody_can_say(#[case] said: &str, #[case] says: Option<&str>) {
        let gave_way = gave_way(said, &claim());
        assert_eq!(gave_way.is_some(), says.is_some(), "{gave_way:?}");
        assert!(says.is_none_or(|wanted| gave_way.unwrap()["says"].as_str().unwrap().contains(wanted)));
    }

    /// Where the folder is on a full disk, nothing is claimed and nothing half is left.
    #[test]
    fn what_cannot_be_written_is_no_claim() {
        let dir = tempfile::tempdir().unwrap();
        let d = shell_word(&dir.path().join("gone").display().to_string());
        let (_, said) = sh(&format!("d={d}; o=$({}); [ \"$o\" = ours ] || echo \"{GAVE_WAY}$o\"", claiming("ours")), &[]);
        assert!(gave_way(&said, &claim()).is_some(), "{said}");
    }
}
