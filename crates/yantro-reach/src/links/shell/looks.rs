//! Looks by a plain shell: at its answer, or not at all.

use std::{
    collections::{BTreeMap, BTreeSet},
    time::Duration,
};

use serde_json::{Value, json};
use yantro_core::{
    model::{Rung, RungKind, Service, ServiceRunner},
    proof::{Answer, Verdict},
    words::{kinds::StepKind, time::Span},
};

use super::{
    channel::Sh,
    given::{WITHHELD, as_account, has_secret, in_place, takes_outpost},
};
use crate::{
    links::{quoting::shell_word, wire::Hello},
    looks::{
        climb::{Climb, Report},
        look::RawLook,
    },
};

/// Between looks of a climb.
const PACE: Duration = Duration::from_millis(400);

pub(super) async fn look(sh: &Sh, account: &str, service: &Service) -> RawLook {
    let runs = match &service.runner {
        ServiceRunner::Systemd(_) => Some(RungKind::Manager),
        ServiceRunner::Commands(c) if !c.state.is_empty() => Some(RungKind::State),
        _ => None,
    };
    let runs = match runs {
        Some(kind) => {
            let answer = look_at(sh, account, Some(service), &kind).await;
            match answer.verdict {
                Verdict::Holds => Some(true),
                Verdict::Against | Verdict::NotYet => Some(is_between(&kind, &answer)),
                Verdict::CouldNotLook => None,
            }
        }
        None => None,
    };
    let mut rungs = Vec::new();
    for rung in &service.ladder {
        let answer = look_at(sh, account, Some(service), &rung.kind).await;
        let holds = answer.verdict == Verdict::Holds;
        rungs.push(answer);
        if !holds {
            break;
        }
    }
    RawLook { runs, main: None, manager: None, rungs, total: service.ladder.len() }
}

/// What a look by command prints last, with its exit code, when it ended by itself: one that was ended at its limit did not.
pub(super) const ENDED: &str = "yantro-ended ";

/// A look by command: ended with its whole group at its limit, as timeout(1) does; of one that is given a secret only the exit code
/// leaves its host.
pub(super) fn look_in_place(words: &[String], of: &LooksAs<'_>, within: Span) -> String {
    let withheld =
        if has_secret(of.env, of.to_the_letter) { format!(" > /dev/null 2>&1; c=$?; echo \"{WITHHELD}\"") } else { "; c=$?".to_owned() };
    let seconds = within.0.as_secs().max(1).to_string();
    let script = format!("\"$@\"{withheld}; printf '\\n{ENDED}%s' \"$c\"");
    let mut all: Vec<String> = ["timeout", "-s", "KILL", &seconds, "sh", "-c", &script, "sh"].map(str::to_owned).to_vec();
    all.extend(of.user.map(|user| as_account(user, of.env)).unwrap_or_default());
    all.extend(words.iter().cloned());
    // However much it prints, its end is what is wanted.
    format!("({}) 2>&1 | tail -c 4096", in_place(&all, of.dir, of.env, of.to_the_letter))
}

/// Where, with what and as whom the commands of a service look.
pub(super) struct LooksAs<'s> {
    pub dir: &'s str,
    pub env: &'s BTreeMap<String, String>,
    pub to_the_letter: &'s BTreeSet<String>,
    pub user: Option<&'s str>,
}

/// A look, as a shell takes it.
struct Look {
    script: String,
    /// Exit codes by which it holds.
    holds: Vec<i32>,
    /// Exit codes by which it is not yet.
    not_yet: Vec<i32>,
    /// How long it may take.
    within: Duration,
    /// Whether it is a command of somebody's, which says at its end how it ended.
    is_command: bool,
}

/// What the system itself is asked may hang, too: on a network's files, say.
const ASKED_WITHIN: Duration = Duration::from_secs(10);

/// A look by whoever came in as `account`.
fn look_of(account: &str, service: Option<&Service>, kind: &RungKind) -> Option<Look> {
    let (none, no_names) = (BTreeMap::new(), BTreeSet::new());
    // Who is not root looks as itself: what sudo allows it is acts.
    let of = match service.map(|s| &s.runner) {
        Some(ServiceRunner::Commands(c)) => LooksAs {
            dir: &c.dir,
            env: &c.env,
            to_the_letter: &c.to_the_letter,
            user: c.user.as_deref().filter(|user| account == "root" && *user != account),
        },
        _ => LooksAs { dir: "/", env: &none, to_the_letter: &no_names, user: None },
    };
    let by_command = |words: &[String], holds: &[i32], not_yet: &[i32], within: Span| {
        let script = look_in_place(words, &of, within);
        // What is ended at its limit is given a moment for that.
        Some(Look { script, holds: holds.to_vec(), not_yet: not_yet.to_vec(), within: within.0 + Duration::from_secs(5), is_command: true })
    };
    let asking = |script: String, holds: i32, not_yet: i32| {
        Some(Look { script, holds: vec![holds], not_yet: vec![not_yet], within: ASKED_WITHIN, is_command: false })
    };
    let plain = |script: String| asking(script, 0, 1);
    match kind {
        RungKind::Command { command, holds, not_yet, within } => by_command(command, holds, not_yet, *within),
        RungKind::State => match service.map(|s| &s.runner) {
            Some(ServiceRunner::Commands(c)) => by_command(&c.state, &c.state_up, &c.state_down, c.within),
            _ => None,
        },
        RungKind::Manager => match service.map(|s| &s.runner) {
            // Its word counts, not its exit code: by that a unit on its way down is down already.
            Some(ServiceRunner::Systemd(s)) => asking(
                format!(
                    "s=$(systemctl is-active -- {} 2>&1); echo \"$s\"; \
                     case \"$s\" in active) exit 0;; inactive|failed|unknown) exit 3;; {}) exit 3;; *) exit 1;; esac",
                    shell_word(&s.unit),
                    BETWEEN.join("|")
                ),
                0,
                3,
            ),
            _ => None,
        },
        // systemctl(1) has these words; whatever else it prints says nothing of the system.
        RungKind::Booted => plain(
            "s=$(systemctl is-system-running 2>&1); echo \"$s\"; \
             case \"$s\" in running|degraded) exit 0;; initializing|starting|maintenance|stopping) exit 1;; *) exit 2;; esac"
                .to_owned(),
        ),
        RungKind::File { path, since_start: false, newer_than: None, at_least: None } => plain(there(path)),
        RungKind::Mount { path } => plain(format!("grep -F {} /proc/mounts", shell_word(&format!(" {path} ")))),
        RungKind::Program { program } => plain(format!("command -v {}", shell_word(program))),
        // That there is no such account is told from a list that does not answer; the second is how small systems say it.
        RungKind::Account { account } => plain(format!(
            "s=$(LC_ALL=C id {} 2>&1) && {{ echo \"$s\"; exit 0; }}; echo \"$s\"; case \"$s\" in *'no such user'*|*'unknown user'*) exit 1;; *) exit 2;; esac",
            shell_word(account)
        )),
        RungKind::Owner { path, account } => {
            plain(format!("o=$(stat -c %U {}) || exit 2; [ \"$o\" = {} ]", shell_word(path), shell_word(account)))
        }
        RungKind::Room { path, bytes } => {
            plain(format!("[ \"$(df -Pk {} | tail -n 1 | tr -s ' ' | cut -d' ' -f4)\" -ge {} ]", shell_word(path), bytes.div_ceil(1024)))
        }
        RungKind::Unit { unit } => plain(format!(
            "s=$(systemctl show --property=LoadState --value -- {0} 2>&1) || {{ echo \"$s\"; exit 2; }}; \
             [ \"$s\" = loaded ] || {{ echo \"{0} is not loaded: $s\"; exit 1; }}",
            shell_word(unit)
        )),
        // Each act leads a session of its own there; what else would end it the shell cannot tell.
        RungKind::Outlives => plain("true".to_owned()),
        RungKind::Records { bytes, .. } => {
            plain(format!("[ \"$(df -Pk \"$d\" | tail -n 1 | tr -s ' ' | cut -d' ' -f4)\" -ge {} ]", bytes.div_ceil(1024)))
        }
        RungKind::Port { port, on: None, .. } => plain(listens(*port)),
        RungKind::PortFree { port, on: None } => plain(listens(*port) + "; [ $? -ne 0 ]"),
        _ => None,
    }
}

/// The manager's words for a unit that is neither up nor down.
const BETWEEN: [&str; 5] = ["activating", "deactivating", "reloading", "refreshing", "maintenance"];

/// Whether the manager says of its unit that it is on its way: not proven, and not down either.
fn is_between(kind: &RungKind, answer: &Answer) -> bool {
    *kind == RungKind::Manager && BETWEEN.contains(&answer.says.as_str())
}

/// What a look after a stop comes to: it must find nothing (R15).
fn gone(kind: &RungKind, answer: Answer) -> Answer {
    match answer.verdict {
        Verdict::Holds => Answer::not_yet(format!("still so: {}", answer.says)),
        Verdict::NotYet | Verdict::Against if is_between(kind, &answer) => answer,
        Verdict::NotYet | Verdict::Against => Answer::holds(format!("gone: {}", answer.says)),
        Verdict::CouldNotLook => answer,
    }
}

/// Whether anything listens on a port, by the system's socket table; 0A is LISTEN. Without it nobody can say.
fn listens(port: u16) -> String {
    format!("cat /proc/net/tcp > /dev/null || exit 2; cat /proc/net/tcp /proc/net/tcp6 2>/dev/null | grep -iqE ':{port:04X} 0+:0000 0A'")
}

/// Whether a file is there: that there is none is told from not being let look.
fn there(path: &str) -> String {
    format!(
        "s=$(LC_ALL=C ls -ld {} 2>&1) && {{ echo \"$s\"; exit 0; }}; echo \"$s\"; case \"$s\" in *'No such file'*|*'Not a directory'*) exit 1;; *) exit 2;; esac",
        shell_word(path)
    )
}

pub(super) async fn look_at(sh: &Sh, account: &str, service: Option<&Service>, kind: &RungKind) -> Answer {
    let Some(look) = look_of(account, service, kind) else { return Answer::could_not(takes_outpost(&kind.says())) };
    match tokio::time::timeout(look.within, sh.run(&look.script)).await {
        Ok((code, printed)) => answer_of(kind, code, &printed, &look),
        Err(_) => Answer::could_not(format!("{}: its shell did not answer within {}", kind.says(), Span(look.within))),
    }
}

/// What a look's script came to: its exit code, and a line that it printed.
fn answer_of(kind: &RungKind, code: i32, printed: &str, look: &Look) -> Answer {
    let (code, line) = match look.is_command {
        true => {
            let ended = printed.rsplit_once(ENDED).and_then(|(before, code)| Some((before, code.trim().parse::<i32>().ok()?)));
            let Some((before, code)) = ended else {
                let last = printed.lines().rev().find(|l| !l.trim().is_empty()).map(|l| format!(": {}", l.trim())).unwrap_or_default();
                return Answer::could_not(format!("{} did not end by itself in its time{last}", kind.says()));
            };
            (code, before.lines().rev().find(|l| !l.trim().is_empty()))
        }
        false => (code, printed.lines().next()),
    };
    let line = line.unwrap_or_default().trim();
    let says = if line.is_empty() { format!("{}: exit code {code}, by the plain shell", kind.says()) } else { line.to_owned() };
    match code {
        c if look.holds.contains(&c) => Answer::holds(says),
        c if look.not_yet.contains(&c) => Answer::not_yet(says),
        _ => Answer::could_not(format!("exit code {code}: {says}")),
    }
}

/// Whether this account may give a command as another one; `sudo -n -l` only lists.
pub(super) async fn rights(sh: &Sh, hello: &Hello, sudo: bool, account: &str, command: &[String]) -> Answer {
    let own = &hello.account;
    if own == "root" || own == account {
        return Answer::holds(format!("it is {own} itself"));
    }
    if !sudo && command.first().is_some_and(|c| c == "systemctl") {
        return Answer::holds(format!("what its manager lets {own} do cannot be asked by a plain shell"));
    }
    let words: Vec<String> = command.iter().map(|w| shell_word(w)).collect();
    let (code, _) = sh.run(&format!("sudo -n -l -u {} -- {} > /dev/null 2>&1", shell_word(account), words.join(" "))).await;
    match code {
        0 => Answer::holds(format!("sudo lets {own} do it as {account}")),
        _ => Answer::not_yet(format!(
            "sudo does not let {own} do it as {account}: allow `{}` there, with NOPASSWD, in /etc/sudoers.d/yantro",
            command.join(" ")
        )),
    }
}

/// Climbs by looking again and again, until left.
pub(super) async fn climb_by_looks(sh: &Sh, account: &str, climb: Climb, tell: &impl Fn(Value)) {
    let rungs = climb.service.ladder_of(climb.kind);
    let look = async |rung: &Rung| {
        let answer = look_at(sh, account, Some(&climb.service), &rung.kind).await;
        if climb.kind == StepKind::Stop { gone(&rung.kind, answer) } else { answer }
    };
    let (mut at, mut last): (usize, Option<(usize, Answer)>) = (climb.from, None);
    loop {
        // All below is looked at again once the last was climbed.
        let from = if at >= rungs.len() { 0 } else { at };
        for (i, rung) in rungs.iter().enumerate().skip(from) {
            let answer = look(rung).await;
            let holds = answer.verdict == Verdict::Holds;
            let is_news = if i < at { !holds } else { last.as_ref() != Some(&(i, answer.clone())) };
            if is_news {
                tell(json!(Report { rung: i as u32, answer: answer.clone(), logs: Vec::new() }));
            }
            if !holds {
                (at, last) = (i, Some((i, answer)));
                break;
            }
            at = at.max(i + 1);
        }
        tokio::time::sleep(PACE).await;
    }
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::PermissionsExt;

    use rstest::rstest;

    use super::*;
    use crate::links::shell::given::trying::sh;

    /// A unit's state as its manager words it; exit codes as systemctl(1) has them, which are 3 for all that is not active.
    #[rstest]
    #[case::up("active", 0, Verdict::Holds, Verdict::NotYet)]
    #[case::down("inactive", 3, Verdict::NotYet, Verdict::Holds)]
    #[case::failed("failed", 3, Verdict::NotYet, Verdict::Holds)]
    #[case::no_such_unit("inactive", 4, Verdict::NotYet, Verdict::Holds)]
    #[case::on_its_way_up("activating", 3, Verdict::NotYet, Verdict::NotYet)]
    #[case::on_its_way_down("deactivating", 3, Verdict::NotYet, Verdict::NotYet)]
    #[case::taking_its_settings("reloading", 0, Verdict::NotYet, Verdict::NotYet)]
    #[case::no_manager("Failed to connect to bus: Host is down", 1, Verdict::CouldNotLook, Verdict::CouldNotLook)]
    #[case::a_word_of_later_days("thawing", 3, Verdict::CouldNotLook, Verdict::CouldNotLook)]
    fn a_unit_on_its_way_is_neither_up_nor_down(#[case] word: &str, #[case] code: i32, #[case] up: Verdict, #[case] down: Verdict) {
        let text = "[estate]\nname = \"Reach\"\nstands_for = \"test\"\n[host.quay]\nreach = \"here\"\n[service.gate]\nhost = \"quay\"\n\
                    run_by = \"systemd\"\nunit = \"gate.service\"\n";
        let service = yantro_core::text::vet(text, "/").estate.unwrap().services.into_values().next().unwrap();
        let dir = tempfile::tempdir().unwrap();
        let manager = dir.path().join("systemctl");
        std::fs::write(&manager, format!("#!/bin/sh\necho '{word}'\nexit {code}\n")).unwrap();
        std::fs::set_permissions(&manager, std::fs::Permissions::from_mode(0o700)).unwrap();
        let look = look_of("root", Some(&service), &RungKind::Manager).unwrap();
        let path = format!("{}:/usr/bin:/bin", dir.path().display());
        let ran = std::process::Command::new("/bin/sh").args(["-c", &look.script]).env("PATH", path).output().unwrap();
        let printed = String::from_utf8_lossy(&ran.stdout);
        let answer = answer_of(&RungKind::Manager, ran.status.code().unwrap(), &printed, &look);
        assert_eq!(answer.verdict, up, "{answer:?}");
        assert_eq!(gone(&RungKind::Manager, answer.clone()).verdict, down, "{answer:?}");
        assert_eq!(is_between(&RungKind::Manager, &answer), up == Verdict::NotYet && down == Verdict::NotYet);
    }

    fn by_command(words: &[&str], not_yet: Vec<i32>) -> (RungKind, Look) {
        let command = words.iter().map(|w| (*w).to_owned()).collect();
        let kind = RungKind::Command { command, holds: vec![0], not_yet, within: Span(Duration::from_secs(1)) };
        let look = look_of("root", None, &kind).unwrap();
        (kind, look)
    }

    /// The exit codes of whatever ends a look at its limit are none of its own, whichever those are.
    #[rstest]
    #[case::up("echo lit; exit 0", Verdict::Holds, "lit")]
    #[case::not_yet("echo out; exit 124", Verdict::NotYet, "out")]
    #[case::by_a_signal_of_its_own("echo hit; kill -9 $$", Verdict::NotYet, "")]
    #[case::its_time_is_over("echo slow; sleep MARK", Verdict::CouldNotLook, "slow")]
    #[case::it_does_not_heed_its_limit("trap '' TERM; echo deaf; sleep MARK; sleep MARK", Verdict::CouldNotLook, "deaf")]
    #[case::undeclared("echo what; exit 7", Verdict::CouldNotLook, "exit code 7: what")]
    #[case::it_prints_much("yes | head -c 300000; echo much; exit 0", Verdict::Holds, "much")]
    #[case::what_it_is_not_given("echo \"of:$YANTRO_TEST_OF_SHELLS:it\"; [ -n \"$HOME\" ]", Verdict::Holds, "of::it")]
    fn a_look_by_command_is_taken_at_its_own_word(#[case] script: &str, #[case] verdict: Verdict, #[case] says: &str) {
        use std::sync::atomic::{AtomicU32, Ordering};
        static CASE: AtomicU32 = AtomicU32::new(0);
        // Told from what others have sleeping.
        let mark = format!("31.{}{}", std::process::id(), CASE.fetch_add(1, Ordering::Relaxed));
        let (kind, look) = by_command(&["sh", "-c", &script.replace("MARK", &mark)], vec![1, 124, 137]);
        let began = std::time::Instant::now();
        let ran = std::process::Command::new("/bin/sh").args(["-c", &look.script]).env("YANTRO_TEST_OF_SHELLS", "the account's").output();
        let ran = ran.unwrap();
        let answer = answer_of(&kind, ran.status.code().unwrap(), &String::from_utf8_lossy(&ran.stdout), &look);
        assert!(answer.verdict == verdict && answer.says.contains(says), "{answer:?} of {}", look.script);
        assert!(began.elapsed() < Duration::from_secs(20));
        let left = std::process::Command::new("pgrep").args(["-f", &format!("sleep {mark}")]).output().unwrap();
        // Its limit ends its whole group.
        assert!(left.stdout.is_empty() || verdict != Verdict::CouldNotLook, "{}", String::from_utf8_lossy(&left.stdout));
    }

    /// "It is not there" and "it cannot be looked for" are two things, and so are "nothing listens" and "nobody can say".
    #[rstest]
    #[case::there("/etc", Verdict::Holds)]
    #[case::not_there("/etc/nowhere-at-all", Verdict::NotYet)]
    #[case::below_a_file("/etc/passwd/below", Verdict::NotYet)]
    fn a_file_that_is_not_there_is_told_from_one_that_cannot_be_looked_for(#[case] path: &str, #[case] verdict: Verdict) {
        let kind = RungKind::File { path: path.to_owned(), since_start: false, newer_than: None, at_least: None };
        let look = look_of("root", None, &kind).unwrap();
        let (code, printed) = sh(&look.script, &[]);
        assert_eq!(answer_of(&kind, code, &printed, &look).verdict, verdict, "{printed}");
    }

    /// The system's own programs, in places of their own.
    fn with_programs(dir: &std::path::Path, programs: &[(&str, &str)], script: &str) -> (i32, String) {
        for (name, text) in programs {
            std::fs::write(dir.join(name), format!("#!/bin/sh\n{text}\n")).unwrap();
            std::fs::set_permissions(dir.join(name), std::fs::Permissions::from_mode(0o700)).unwrap();
        }
        let path = format!("{}:/usr/bin:/bin", dir.display());
        let ran = std::process::Command::new("/bin/sh").args(["-c", script]).env("PATH", path).output().unwrap();
        (ran.status.code().unwrap(), String::from_utf8_lossy(&ran.stdout).into_owned())
    }

    #[rstest]
    #[case::a_file(RungKind::File { path: "/x".into(), since_start: false, newer_than: None, at_least: None }, "ls", "echo 'ls: /x: Permission denied'; exit 2")]
    #[case::a_port(RungKind::Port { port: 7010, on: None, held_by_any: true }, "cat", "exit 1")]
    #[case::a_free_port(RungKind::PortFree { port: 7010, on: None }, "cat", "exit 1")]
    #[case::whether_it_is_up(RungKind::Booted, "systemctl", "echo 'Failed to connect to bus: Host is down'; exit 1")]
    #[case::an_account(RungKind::Account { account: "purser".into() }, "id", "echo 'id: cannot find name: Input/output error' >&2; exit 1")]
    #[case::a_unit(RungKind::Unit { unit: "gate.service".into() }, "systemctl", "echo 'Failed to get properties: Transport endpoint is not connected' >&2; exit 1")]
    #[case::an_owner(RungKind::Owner { path: "/x".into(), account: "root".into() }, "stat", "exit 1")]
    fn what_cannot_be_looked_at_is_neither(#[case] kind: RungKind, #[case] program: &str, #[case] does: &str) {
        let dir = tempfile::tempdir().unwrap();
        let look = look_of("root", None, &kind).unwrap();
        let (code, printed) = with_programs(dir.path(), &[(program, does)], &look.script);
        assert_eq!(answer_of(&kind, code, &printed, &look).verdict, Verdict::CouldNotLook, "{code} {printed}");
    }

    #[rstest]
    #[case::up(RungKind::Booted, "systemctl", "echo degraded; exit 1", Verdict::Holds)]
    #[case::not_yet_up(RungKind::Booted, "systemctl", "echo starting; exit 1", Verdict::NotYet)]
    #[case::an_account(RungKind::Account { account: "root".into() }, "none", "", Verdict::Holds)]
    #[case::no_such_account(RungKind::Account { account: "no-such-account-here".into() }, "none", "", Verdict::NotYet)]
    #[case::a_unit(RungKind::Unit { unit: "gate.service".into() }, "systemctl", "echo loaded", Verdict::Holds)]
    #[case::no_such_unit(RungKind::Unit { unit: "gate.service".into() }, "systemctl", "echo not-found", Verdict::NotYet)]
    fn what_the_system_says_is_taken_at_its_word(
        #[case] kind: RungKind,
        #[case] program: &str,
        #[case] does: &str,
        #[case] verdict: Verdict,
    ) {
        let dir = tempfile::tempdir().unwrap();
        let look = look_of("root", None, &kind).unwrap();
        let (code, printed) = with_programs(dir.path(), &[(program, does)], &look.script);
        assert_eq!(answer_of(&kind, code, &printed, &look).verdict, verdict, "{code} {printed}");
    }
}
