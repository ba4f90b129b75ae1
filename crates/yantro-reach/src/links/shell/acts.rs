//! Acts by a plain shell: a folder that can be made once only, with what stands beside the act and its end written down in it.

use std::{
    collections::{BTreeMap, BTreeSet},
    time::Duration,
};

use serde_json::{Value, json};
use yantro_core::{
    model::{CommandsSpec, Service, ServiceRunner, secrecy},
    plan::{manager_command, manager_kill},
    run::{ActBegun, ActEnd, ActKind},
    words::time::Span,
};

use super::{
    channel::Sh,
    claims::{GAVE_WAY, claiming, gave_way, kept},
    given::{WITHHELD, as_account, has_secret, in_place, takes_outpost},
    own::hung_on,
};
use crate::{
    acts::recorder::{ActNews, ActRecord, GOES_ON, Recorded},
    links::{
        quoting::shell_word,
        wire::{Hello, ToldClaim},
    },
    looks::procs::ProcessId,
};

/// How often an act under way is looked at.
const PACE: Duration = Duration::from_millis(400);
/// At most this much of an act's output is kept.
const OUTPUT_LIMIT: usize = 64 * 1024;

/// What an act's command is, where and as whom, and how long it may take.
struct Prepared<'s> {
    words: Vec<String>,
    dir: &'s str,
    env: BTreeMap<String, String>,
    to_the_letter: BTreeSet<String>,
    user: Option<String>,
    within: Span,
}

fn prepared<'s>(service: &'s Service, kind: ActKind, sudo: bool) -> Result<Prepared<'s>, String> {
    let (start, stop) = (service.start.patience, service.stop.patience);
    let within = if matches!(kind, ActKind::Stop | ActKind::Clear | ActKind::Force | ActKind::Evidence(_)) { stop } else { start };
    let root = || sudo.then(|| "root".to_owned());
    let bare = |words: Vec<String>, user| Prepared { words, dir: "/", env: BTreeMap::new(), to_the_letter: BTreeSet::new(), user, within };
    let prepared = match (&service.runner, kind) {
        (_, ActKind::Evidence(n)) => bare(service.stop.evidence.get(n as usize).cloned().unwrap_or_default(), None),
        (ServiceRunner::Systemd(s), ActKind::Start) => bare(manager_command("start", &s.unit), root()),
        (ServiceRunner::Systemd(s), ActKind::Stop | ActKind::Clear) => bare(manager_command("stop", &s.unit), root()),
        (ServiceRunner::Systemd(s), ActKind::Reload) => bare(manager_command("reload", &s.unit), root()),
        (ServiceRunner::Systemd(s), ActKind::Force) => bare(manager_kill(&s.unit), root()),
        (ServiceRunner::Host(h), ActKind::Stop | ActKind::Clear) => {
            bare(if h.reboots { h.reboot.clone() } else { h.shut_down.clone() }, root())
        }
        (ServiceRunner::Commands(c), kind) => {
            let CommandsSpec { start, stop, force, reload, dir, env, to_the_letter, user, within, .. } = c;
            let words = match kind {
                ActKind::Stop | ActKind::Clear => stop,
                ActKind::Force => force,
                ActKind::Reload => reload,
                _ => start,
            };
            Prepared {
                words: words.clone(),
                dir,
                env: env.clone(),
                to_the_letter: to_the_letter.clone(),
                user: user.clone(),
                within: *within,
            }
        }
        _ => return Err(takes_outpost("a process that Yantro itself starts and knows again")),
    };
    if prepared.words.is_empty() { Err("the estate has no command for that".to_owned()) } else { Ok(prepared) }
}

fn of_process(boot: &str, pid: u32, started: u64, begun: Option<ActBegun>) -> ActRecord {
    let process = ProcessId { boot: boot.to_owned(), pid, started };
    ActRecord { process: Some(process.clone()), recorder: process, group: None, begun }
}

/// What a process is, whatever others have its number by now: that, its start and the boot, as far as the system tells.
const WHO: &str = "$(cut -d' ' -f22 \"/proc/$p/stat\" 2>/dev/null) $(cat /proc/sys/kernel/random/boot_id 2>/dev/null)";

/// Whether what stands beside the act of folder `$a` is there still: it sets `$p`.
pub(super) fn is_there() -> String {
    format!(
        "p=$(cat \"$a/pid\" 2>/dev/null); [ -n \"$p\" ] && kill -0 \"$p\" 2>/dev/null && [ \"{WHO}\" = \"$(cat \"$a/who\" 2>/dev/null)\" ]"
    )
}

/// What is left in a session but for whoever leads it: of a command that was ended at its limit and does not heed that, or that
/// runs as another account behind a `sudo` that was ended. It is ended by force as far as that may be, and what goes on is written down:
/// an act whose end could not be forced is no end. Where that cannot be written, no end is either: then nobody can say.
const ENDS_WHOLE: &str = "left() { for q in $(pgrep -s \"$p\"); do g=$(ps -o pgid= -p \"$q\" | tr -d ' '); [ -z \"$g\" ] || [ \"$g\" = \"$p\" ] || echo \"$q\"; done; }; \
    if [ \"$c\" = 124 ] || [ \"$c\" = 137 ]; then for q in $(left); do kill -KILL \"$q\" 2>/dev/null; done; i=0; \
    while [ -n \"$(left)\" ] && [ $i -lt 20 ]; do sleep 0.1; i=$((i+1)); done; [ -z \"$(left)\" ] || true > \"$0/goes-on\" || exit 1; fi; ";

/// What is run beside an act, in its folder: its end is written under another name first, and so is there whole or not at all.
pub(super) fn beside(is_withheld: bool) -> String {
    let (before, into) =
        if is_withheld { (format!("echo \"{WITHHELD}\" > \"$0/output\"; "), "/dev/null") } else { (String::new(), "$0/output") };
    format!(
        "p=$$; echo \"{WHO}\" > \"$0/who\"; echo $$ > \"$0/pid\"; {before}\"$@\" > \"{into}\" 2>&1 < /dev/null; c=$?; {ENDS_WHOLE}echo $c > \"$0/code.new\" && mv \"$0/code.new\" \"$0/code\""
    )
}

#[allow(clippy::too_many_arguments, reason = "the parts of one request")]
pub(super) async fn act(
    sh: &Sh,
    hello: &Hello,
    sudo: bool,
    identity: &str,
    kind: ActKind,
    service: &Service,
    claim: &ToldClaim,
    tell: &impl Fn(Value),
) -> Result<Value, String> {
    let kept = kept(sh, claim).await;
    if !kept.is_null() {
        return Ok(json!({ "kept": kept }));
    }
    if let (ServiceRunner::Systemd(s), false) = (&service.runner, matches!(kind, ActKind::Evidence(_))) {
        let against = match hung_on(sh, &s.unit).await {
            Ok(unit) => unit.map(|unit| (format!("Yantro's own processes here hang on {unit}"), "do it by hand")),
            Err(why) => Some((
                format!("whether Yantro's own processes here hang on {} cannot be said: {why}", s.unit),
                "see what keeps the host's manager from answering, and try again",
            )),
        };
        if let Some((why, mend)) = against {
            tell(json!(ActNews::Ended(ActEnd::Refused { why, mend: mend.to_owned() })));
            return Ok(Value::Null);
        }
    }
    let Prepared { mut words, dir, env, to_the_letter, user, within } = prepared(service, kind, sudo)?;
    let begun = ActBegun {
        env: env.iter().map(|(name, value)| (name.clone(), secrecy::shown(name, value))).collect(),
        to_the_letter: to_the_letter.clone(),
        command: words.clone(),
        dir: dir.to_owned(),
        user: user.clone().unwrap_or_else(|| hello.account.clone()),
        pid: None,
        started: None,
        marks: BTreeMap::new(),
        boot: None,
    };
    if let Some(user) = user.filter(|u| *u != hello.account) {
        words.splice(0..0, as_account(&user, &env));
    }
    let limited = format!("{}s", within.0.as_secs().max(1));
    let mut all = vec!["setsid".to_owned(), "sh".to_owned(), "-c".to_owned(), beside(has_secret(&env, &to_the_letter)), "@ACT@".to_owned()];
    // What does not heed its limit is ended by force, so that the act has an end.
    all.extend(["timeout".to_owned(), "-k".to_owned(), "5".to_owned(), limited]);
    // What is written down of it is for this account only; what it makes itself is not.
    all.extend(["sh", "-c", "umask \"$0\"; exec \"$@\"", &format!("{:03o}", service.runner.umask())].map(str::to_owned));
    all.extend(words);
    let script = format!(
        "a=\"$d/acts/\"{}; o=$({}); [ \"$o\" = {} ] || {{ echo \"{GAVE_WAY}$o\"; exit 0; }}; mkdir -p \"${{a%/*}}\"; mkdir \"$a\" 2>/dev/null || {{ echo before; exit 0; }}; \
         printf %s {} > \"$a/note\"; sync; {} >/dev/null 2>&1 & \
         i=0; while [ ! -s \"$a/pid\" ] && [ $i -lt 50 ]; do sleep 0.1; i=$((i+1)); done; echo begun \"$(cat \"$a/pid\")\"",
        shell_word(identity),
        claiming(&claim.server),
        shell_word(&claim.server),
        shell_word(&json!(begun).to_string()),
        in_place(&all, dir, &env, &to_the_letter).replace("'@ACT@'", "\"$a\""),
    );
    let (_, said) = sh.run(&script).await;
    let pid = said.trim().strip_prefix("begun ").and_then(|p| p.trim().parse::<u32>().ok());
    if let Some(kept) = gave_way(&said, claim) {
        return Ok(json!({ "kept": kept }));
    }
    match (said.trim(), pid) {
        ("before", _) => tell(json!(ActNews::BegunBefore)),
        (_, Some(pid)) => {
            let begun = ActBegun { pid: Some(pid), ..begun };
            tell(json!(ActNews::Begun(Box::new(begun.clone()), Box::new(of_process(&hello.boot, pid, 0, Some(begun))))));
            follow(sh, hello, &format!("a=\"$d/acts/\"{}; ", shell_word(identity)), tell).await;
        }
        (other, None) => {
            let why = format!("its shell could not begin it: {other}");
            tell(json!(ActNews::Ended(ActEnd::Refused { why, mend: "see what its shell says, mend it, and try again".to_owned() })));
        }
    }
    Ok(Value::Null)
}

/// What is written down of an act; `at` sets its folder.
pub(super) async fn recorded(sh: &Sh, hello: &Hello, at: &str) -> Recorded {
    let script = format!(
        "{at}[ -d \"$a\" ] || {{ echo nothing; exit 0; }}; [ ! -e \"$a/burnt\" ] || {{ echo burnt; exit 0; }}; [ ! -e \"$a/goes-on\" ] || {{ echo goes-on; exit 0; }}; cat \"$a/note\" 2>/dev/null; echo; p=$(cat \"$a/pid\" 2>/dev/null); \
         if [ -e \"$a/code\" ]; then echo \"ended $(cat \"$a/code\") $p $(cat \"$a/who\" 2>/dev/null)\"; head -c {OUTPUT_LIMIT} \"$a/output\"; \
         elif [ -n \"$p\" ]; then {there} && echo \"alive 0 $p $(cat \"$a/who\")\" || echo \"gone 0 $p $(cat \"$a/who\" 2>/dev/null)\"; else echo folder; fi",
        there = is_there()
    );
    let (_, said) = sh.run(&script).await;
    let mut lines = said.splitn(3, '\n');
    let note = lines.next().unwrap_or_default();
    if note == "nothing" {
        return Recorded::Nothing;
    }
    if note == "burnt" {
        return Recorded::Burnt;
    }
    if note == "goes-on" {
        return Recorded::GoesOn;
    }
    let begun: Option<ActBegun> = serde_json::from_str(note).ok();
    let words: Vec<&str> = lines.next().unwrap_or_default().split_whitespace().collect();
    let output = lines.next().unwrap_or_default().to_owned();
    let pid = words.get(2).and_then(|p| p.parse::<u32>().ok());
    let (started, boot) = (words.get(3).and_then(|s| s.parse::<u64>().ok()), words.get(4));
    let record = |pid: u32| {
        let boot = boot.map_or_else(|| hello.boot.clone(), |b| (*b).to_owned());
        of_process(&boot, pid, started.unwrap_or_default(), begun.map(|b| ActBegun { pid: Some(pid), ..b }))
    };
    match (words.first().copied(), pid) {
        (Some("ended"), pid) => {
            let code = words.get(1).and_then(|c| c.parse::<i32>().ok()).unwrap_or(255);
            let end = if code == 124 { ActEnd::TimedOut { output } } else { ActEnd::Exited { code, output } };
            Recorded::Ended(pid.map(record), end)
        }
        (Some("alive" | "gone"), Some(pid)) => Recorded::Begun(record(pid)),
        _ => Recorded::OnlyFolder,
    }
}

/// Follows an act to its end.
pub(super) async fn follow(sh: &Sh, hello: &Hello, at: &str, tell: &impl Fn(Value)) {
    let mut gone = 0;
    loop {
        match recorded(sh, hello, at).await {
            Recorded::Ended(_, end) => return tell(json!(ActNews::Ended(end))),
            Recorded::Begun(_) => {
                let (code, _) = sh.run(&format!("{at}{}", is_there())).await;
                gone = if code == 0 { 0 } else { gone + 1 };
            }
            Recorded::GoesOn => return tell(json!(ActNews::Lost(GOES_ON.to_owned()))),
            Recorded::Nothing | Recorded::OnlyFolder | Recorded::Burnt => gone += 1,
        }
        // Its end is written down a moment after it.
        if gone > 3 {
            return tell(json!(ActNews::Lost("neither its process nor its end is there any more".to_owned())));
        }
        tokio::time::sleep(PACE).await;
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;
    use crate::links::shell::given::trying::sh;

    /// A number is another process's after a reboot, and after enough others: what has it is not what stands beside the act.
    #[test]
    fn what_stands_beside_an_act_is_not_taken_for_another_of_its_number() {
        let dir = tempfile::tempdir().unwrap();
        let act = dir.path().display().to_string();
        let beside = beside(false);
        let mut child = std::process::Command::new("/bin/sh").args(["-c", &beside, &act, "sleep", "30.0531"]).spawn().unwrap();
        let there = || sh(&format!("a={}; {}", shell_word(&act), is_there()), &[]).0 == 0;
        let who = dir.path().join("who");
        while !dir.path().join("pid").exists() {
            std::thread::yield_now();
        }
        let is = std::fs::read_to_string(&who).unwrap();
        assert!(there(), "{is}");
        std::fs::write(&who, is.replacen(char::is_numeric, "9", 1) + "9").unwrap();
        assert!(!there(), "another boot, another start");
        std::fs::write(&who, &is).unwrap();
        assert!(there());
        let _ = std::process::Command::new("pkill").args(["-P", &child.id().to_string()]).status();
        child.wait().unwrap();
        assert!(!there());
    }

    /// Where nothing can be written any more, no end is written: half of one would be read as another.
    #[test]
    fn an_end_that_cannot_be_written_is_none() {
        let dir = tempfile::tempdir().unwrap();
        let act = dir.path().display().to_string();
        // There is no room: the system's own file that is always full.
        std::os::unix::fs::symlink("/dev/full", dir.path().join("code.new")).unwrap();
        sh(&beside(false), &[&act, "true"]);
        assert!(!dir.path().join("code").exists());
    }

    /// A command that does not heed its limit, nor what it began, is ended by force; and whatever cannot be is no end.
    #[rstest]
    #[case::ended("trap '' TERM; (trap '' TERM; sleep MARK; sleep MARK) & wait; sleep MARK", "", "137", false)]
    #[case::what_it_began("(trap '' TERM; sleep MARK; sleep MARK) & wait", "", "124", false)]
    #[case::what_may_not_be_ended("(trap '' TERM; exec sleep MARK) & wait", "kill() { :; }; ", "124", true)]
    #[case::a_daemon_that_it_started("setsid sh -c 'sleep MARK' & exit 124", "", "124", false)]
    fn an_act_that_is_ended_at_its_limit_is_ended_whole(
        #[case] script: &str,
        #[case] before: &str,
        #[case] code: &str,
        #[case] goes_on: bool,
    ) {
        let mark = format!("32.{}{}", std::process::id(), script.len() + before.len());
        let dir = tempfile::tempdir().unwrap();
        let act = dir.path().display().to_string();
        let words = [
            "setsid",
            "-w",
            "sh",
            "-c",
            &format!("{before}{}", beside(false)),
            &act,
            "timeout",
            "-k",
            "1",
            "1",
            "sh",
            "-c",
            &script.replace("MARK", &mark),
        ];
        let all: Vec<String> = words.iter().map(|w| shell_word(w)).collect();
        sh(&all.join(" "), &[]);
        assert_eq!(std::fs::read_to_string(dir.path().join("code")).unwrap().trim(), code);
        assert_eq!(dir.path().join("goes-on").exists(), goes_on);
        let left = || !std::process::Command::new("pgrep").args(["-f", &format!("sleep {mark}")]).output().unwrap().stdout.is_empty();
        assert_eq!(left(), goes_on || script.contains("setsid"));
        let _ = std::process::Command::new("pkill").args(["-KILL", "-f", &format!("sleep {mark}")]).status();
    }
}
