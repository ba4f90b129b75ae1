//! Acts through the recorder: given once, followed to their end, found again (R21, R22, R26).

use std::{collections::BTreeMap, sync::Arc};

use rstest::rstest;
use yantro_core::{
    model::Service,
    proof::Verdict,
    run::{ActEnd, ActKind},
    words::kinds::StepKind,
};
use yantro_reach::{ActNews, ActRecord, Recorded};

use crate::world::{World, ended, next, until};

/// A service with commands of its own.
fn commands(world: &World, start: &str, more: &str) -> Arc<Service> {
    world.service(&format!(
        "run_by = \"commands\"\ncommands = {{ start = [\"/bin/sh\", \"-c\", '''{start}'''], stop = [\"/bin/true\"], state = [\"/bin/true\"]{more} }}\n"
    ))
}

#[rstest]
#[case::fine("echo berthed", "", ActEnd::Exited { code: 0, output: "berthed\n".into() })]
#[case::with_an_exit_code("echo no berth >&2; exit 4", "", ActEnd::Exited { code: 4, output: "no berth\n".into() })]
#[case::by_a_signal("kill -9 $$", "", ActEnd::Signalled { signal: 9, output: String::new() })]
#[case::too_slow("echo begun; sleep 60", ", within = \"300ms\"", ActEnd::TimedOut { output: "begun\n".into() })]
#[case::in_its_folder("pwd", ", dir = \"/\"", ActEnd::Exited { code: 0, output: "/\n".into() })]
#[case::with_its_environment("echo $LANE", ", env = { LANE = \"3\" }", ActEnd::Exited { code: 0, output: "3\n".into() })]
#[case::with_the_usual_mask("umask", "", ActEnd::Exited { code: 0, output: "0022\n".into() })]
#[case::with_its_mask("umask", ", umask = \"027\"", ActEnd::Exited { code: 0, output: "0027\n".into() })]
#[case::quoted_as_it_is("printf '%s|' \"a b\" '$HOME' ';'", "", ActEnd::Exited { code: 0, output: "a b|$HOME|;|".into() })]
#[tokio::test(flavor = "multi_thread")]
async fn a_command_is_followed_to_its_end(#[case] script: &str, #[case] more: &str, #[case] end: ActEnd) {
    let world = World::new();
    let service = commands(&world, script, more);
    let mut news = world.act("run-1/act-1", ActKind::Start, &service, None).await.unwrap();
    let ActNews::Begun(begun, _) = next(&mut news).await else { panic!("it begins first") };
    assert_eq!(begun.command[..2], ["/bin/sh", "-c"]);
    assert_eq!(ended(&mut news).await, end);
    // Whoever asks later is told the same.
    match world.here.recorded("run-1/act-1") {
        Recorded::Ended(Some(record), known) => {
            assert_eq!(known, end);
            assert_eq!(record.begun.unwrap().command, begun.command);
        }
        other => panic!("{other:?}"),
    }
}

/// As another account it has that one's home and name, and not the server's; what its service says wins.
#[rstest]
#[case::its_own("", "/nonexistent nobody nobody\n")]
#[case::what_its_service_says(", env = { HOME = \"/srv\" }", "/srv nobody nobody\n")]
#[tokio::test(flavor = "multi_thread")]
async fn a_command_as_another_account_is_at_home_there(#[case] more: &str, #[case] output: &str) {
    if unsafe { libc::geteuid() } != 0 {
        return;
    }
    let world = World::new();
    let service = commands(&world, "echo $HOME $USER $LOGNAME", &format!(", user = \"nobody\", dir = \"/\"{more}"));
    let mut news = world.act("run-1/act-1", ActKind::Start, &service, None).await.unwrap();
    assert_eq!(ended(&mut news).await, ActEnd::Exited { code: 0, output: output.to_owned() });
}

/// R13: whatever the estate says of it, no signal goes to Yantro itself, nor to what it descends from.
#[rstest]
#[case::asked(ActKind::Stop)]
#[case::reloaded(ActKind::Reload)]
#[tokio::test(flavor = "multi_thread")]
async fn what_yantro_itself_is_known_by_is_never_signalled(#[case] kind: ActKind) {
    let world = World::new();
    for pid in ["self".to_owned(), std::os::unix::process::parent_id().to_string()] {
        let line = std::fs::read(format!("/proc/{pid}/cmdline")).unwrap();
        let words: Vec<String> = line.split(|b| *b == 0).map(|w| String::from_utf8_lossy(w).into_owned()).collect();
        let (program, args) = (&words[0], &words[1..words.len() - 1]);
        // A signal that nobody minds, if it came.
        let service = world.service(&format!(
            "run_by = \"process\"\nprocess = {{ program = {program:?}, args = {args:?} }}\nladder = [{{ rung = \"process\" }}]\nstop = {{ signal = \"WINCH\" }}\nreload = {{ signal = \"WINCH\" }}\n"
        ));
        let Err(ActEnd::Refused { why: said, .. }) = world.act("run-1/act-1", kind, &service, None).await else {
            panic!("{pid} is signalled: {words:?}");
        };
        assert!(said.contains("is Yantro's own, or one that it hangs on"), "{said}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn of_much_output_the_end_is_kept() {
    let world = World::new();
    let service = commands(&world, "i=0; while [ $i -lt 30000 ]; do echo line $i; i=$((i+1)); done", "");
    let mut news = world.act("run-1/act-1", ActKind::Start, &service, None).await.unwrap();
    let ActEnd::Exited { code: 0, output } = ended(&mut news).await else { panic!("it ends well") };
    assert!(output.len() <= 64 * 1024 + 200 && output.ends_with("line 29999\n"), "{} bytes", output.len());
}

#[tokio::test(flavor = "multi_thread")]
async fn an_identity_is_begun_only_once() {
    let world = World::new();
    let service = commands(&world, "echo once >> DIR/times", "");
    let mut first = world.act("run-1/act-1", ActKind::Start, &service, None).await.unwrap();
    ended(&mut first).await;
    let mut second = world.act("run-1/act-1", ActKind::Start, &service, None).await.unwrap();
    assert_eq!(next(&mut second).await, ActNews::BegunBefore);
    assert_eq!(std::fs::read_to_string(world.path("times")).unwrap(), "once\n");
}

/// Something that is mounted while a test goes on.
struct Mounted(std::path::PathBuf);

impl Drop for Mounted {
    fn drop(&mut self) {
        let _ = std::process::Command::new("umount").arg(&self.0).status();
    }
}

/// What was begun must be known to have been: where that cannot be written down, nothing begins.
#[tokio::test(flavor = "multi_thread")]
async fn nothing_begins_whose_begin_cannot_be_written_down() {
    let world = World::new();
    let acts = world.path("data/acts");
    std::fs::create_dir_all(&acts).unwrap();
    // Room for the act's folder, and for no file in it.
    let full = std::process::Command::new("mount").args(["-t", "tmpfs", "-o", "nr_inodes=3", "tmpfs"]).arg(&acts).status();
    if !full.is_ok_and(|s| s.success()) {
        eprintln!("nothing can be mounted here (it takes root): this test is left out");
        return;
    }
    let _mounted = Mounted(acts);
    let service = commands(&world, "echo once >> DIR/times", "");
    let mut news = world.act("run-1/act-1", ActKind::Start, &service, None).await.unwrap();
    let end = ended(&mut news).await;
    let ActEnd::Refused { why, mend } = end else { panic!("{end:?}") };
    assert!(why.contains("cannot be written down, and nothing was begun") && mend.contains("make room"), "{why}; {mend}");
    assert!(!world.path("times").exists(), "it was begun all the same");
}

/// What became of each signal is written down: nothing is called sent that reached nobody who was meant.
#[rstest]
#[case::the_one_meant(0, "sent", r#"[["PID","sent"]]"#)]
#[case::another_with_its_number(1, "refused", r#"[["PID","another process"]]"#)]
#[tokio::test(flavor = "multi_thread")]
async fn what_became_of_a_signal_is_written_down(#[case] later: u64, #[case] ended: &str, #[case] signals: &str) {
    let world = World::new();
    let recorder = std::fs::read_dir(world.path("data/bin")).unwrap().next().unwrap().unwrap().path();
    let mut program = std::process::Command::new("sleep").arg("60").spawn().unwrap();
    let pid = program.id();
    let started = yantro_reach::ProcessId::of(pid).unwrap().unwrap().started + later;
    let order =
        serde_json::json!({ "folder": world.path("act"), "do": "signal", "signal": 15, "targets": [{ "pid": pid, "started": started }] });
    let mut given =
        std::process::Command::new(recorder).stdin(std::process::Stdio::piped()).stdout(std::process::Stdio::null()).spawn().unwrap();
    std::io::Write::write_all(&mut given.stdin.take().unwrap(), order.to_string().as_bytes()).unwrap();
    given.wait().unwrap();
    let record: serde_json::Value = serde_json::from_slice(&std::fs::read(world.path("act/ended.json")).unwrap()).unwrap();
    assert!(!record[ended].is_null(), "{record}");
    assert_eq!(record["signals"].to_string(), signals.replace("\"PID\"", &pid.to_string()));
    let was_asked = program.try_wait().unwrap().is_some() || later == 0 && program.wait().is_ok();
    assert_eq!(was_asked, later == 0);
    let _ = program.kill().and_then(|()| program.wait());
}

/// A server that ends between that and noting it asks again: it is out of use still, and was never begun.
#[tokio::test(flavor = "multi_thread")]
async fn an_identity_taken_out_of_use_is_so_however_often_it_is_asked() {
    let world = World::new();
    let service = commands(&world, "echo once >> DIR/times", "");
    for _ in 0..2 {
        assert_eq!(world.here.burn("run-1/act-1"), Ok(true));
        assert_eq!(world.here.recorded("run-1/act-1"), Recorded::Burnt);
    }
    let mut late = world.act("run-1/act-1", ActKind::Start, &service, None).await.unwrap();
    assert_eq!(next(&mut late).await, ActNews::BegunBefore);
    let mut begun = world.act("run-1/act-2", ActKind::Start, &service, None).await.unwrap();
    ended(&mut begun).await;
    assert_eq!(world.here.burn("run-1/act-2"), Ok(false), "what was begun cannot be taken out of use");
    assert!(matches!(world.here.recorded("run-1/act-2"), Recorded::Ended(Some(_), _)));
    assert_eq!(std::fs::read_to_string(world.path("times")).unwrap(), "once\n");
}

#[rstest]
#[case::no_such_program("program = \"/nowhere/gate\"", "there is no program /nowhere/gate")]
#[case::not_in_the_path("program = \"gate-of-nowhere\"", "there is no program gate-of-nowhere")]
#[case::no_such_account("program = \"/bin/true\", user = \"nobody-at-all\"", "there is no account \"nobody-at-all\"")]
#[case::a_reference_to_nothing("program = \"/bin/true\", env = { KEY = \"env:YANTRO_TEST_UNSET\" }", "YANTRO_TEST_UNSET")]
#[case::a_file_that_is_not_there("program = \"/bin/true\", env = { KEY = \"file:DIR/no-key\" }", "no-key")]
#[tokio::test(flavor = "multi_thread")]
async fn what_cannot_be_given_is_refused_with_its_mend(#[case] process: &str, #[case] says: &str) {
    let world = World::new();
    let service = world.service(&format!("run_by = \"process\"\nprocess = {{ {process} }}\nladder = [{{ rung = \"process\" }}]\n"));
    let refused = world.act("run-1/act-1", ActKind::Start, &service, None).await.err();
    let Some(ActEnd::Refused { why, mend }) = refused else { panic!("{refused:?}") };
    assert!(why.contains(says) && !mend.is_empty(), "{why}; {mend}");
    assert_eq!(world.here.recorded("run-1/act-1"), Recorded::Nothing, "nothing was begun");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_program_that_may_not_be_run_is_refused_by_the_system() {
    let world = World::new();
    world.append("plain", "no program");
    let service = world.service("run_by = \"process\"\nprocess = { program = \"DIR/plain\" }\nladder = [{ rung = \"process\" }]\n");
    let mut news = world.act("run-1/act-1", ActKind::Start, &service, None).await.unwrap();
    let ActEnd::Refused { why, mend } = ended(&mut news).await else { panic!("it is refused") };
    assert!(why.contains("cannot be run") && mend.contains("may be run"), "{why}; {mend}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_started_process_is_asked_to_stop_and_only_then_forced() {
    let world = World::new();
    let service = world.script("trap 'echo asked' TERM; echo up; while true; do sleep 0.05; done", "");
    let (record, mut news) = world.started("run-1/act-1", &service).await;
    let main = record.process.clone().unwrap();
    let output = world.here.output_of(&service);
    // Asked before it can hear, it would just end.
    until("it can hear", || std::fs::read_to_string(&output).is_ok_and(|o| o.contains("up"))).await;
    let mut stop = world.act("run-1/act-2", ActKind::Stop, &service, Some(&record)).await.unwrap();
    assert_eq!(ended(&mut stop).await, ActEnd::Sent);
    until("it was asked", || std::fs::read_to_string(&output).is_ok_and(|o| o.contains("asked"))).await;
    assert!(main.is_alive(), "it does not heed it");
    let mut force = world.act("run-1/act-3", ActKind::Force, &service, Some(&record)).await.unwrap();
    assert_eq!(ended(&mut force).await, ActEnd::Sent);
    assert!(matches!(ended(&mut news).await, ActEnd::Signalled { signal: 9, .. }));
    assert!(!main.is_alive());
}

/// Of each start that was given a control group for itself; without one there is nothing to be shown here.
fn group_of(record: &ActRecord) -> Option<std::path::PathBuf> {
    if record.group.is_none() {
        eprintln!("no control group can be made here (it takes root and the unified hierarchy): this test is left out");
    }
    record.group.clone()
}

#[tokio::test(flavor = "multi_thread")]
async fn what_forks_while_it_is_forced_is_ended_with_it() {
    let world = World::new();
    // Never the same process for a millisecond, and each handed on at once; it ends by itself, and says so.
    let script = "hop() { if [ $1 = 0 ]; then echo through; else (hop $(($1 - 1))) & fi; }; echo up; hop 900; exec sleep 30";
    let service = world.script(script, "");
    let output = world.here.output_of(&service);
    let (record, mut news) = world.started("run-1/act-1", &service).await;
    if group_of(&record).is_none() {
        return world.here.end_trees(&[record]).await;
    }
    until("it hops", || std::fs::read_to_string(&output).is_ok_and(|o| o.contains("up"))).await;
    let mut force = world.act("run-1/act-2", ActKind::Force, &service, Some(&record)).await.unwrap();
    assert_eq!(ended(&mut force).await, ActEnd::Sent);
    assert!(matches!(ended(&mut news).await, ActEnd::Signalled { signal: 9, .. }));
    assert!(matches!(next(&mut news).await, ActNews::Gone));
    assert_eq!(std::fs::read_to_string(&output).unwrap(), "up\n", "one force ended all of it");
    assert!(!record.group.unwrap().exists(), "its group is taken away");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_forked_away_is_known_though_its_recorder_was_ended() {
    let world = World::new();
    let service = world.script("(exec sleep 30) & (exec sleep 31) & echo up; exec sleep 32", "");
    let (record, news) = world.started("run-1/act-1", &service).await;
    let Some(group) = group_of(&record) else { return world.here.end_trees(&[record]).await };
    let members = || std::fs::read_to_string(group.join("cgroup.procs")).map_or(0, |m| m.lines().count());
    until("it has forked", || members() == 3).await;
    // Ours: the recorder and the main process beside it.
    for id in [&record.recorder, record.process.as_ref().unwrap()] {
        unsafe { libc::kill(id.pid as i32, libc::SIGKILL) };
    }
    until("both ended", || !record.recorder.is_alive() && !record.process.as_ref().unwrap().is_alive()).await;
    let look = world.here.look(&service, Some(&record), &world.here.round_from_now()).await;
    assert_eq!(look.runs, Some(true), "two of it are left");
    let mut force = world.act("run-1/act-2", ActKind::Force, &service, Some(&record)).await.unwrap();
    assert_eq!(ended(&mut force).await, ActEnd::Sent);
    until("nobody is left", || members() == 0).await;
    let look = world.here.look(&service, Some(&record), &world.here.round_from_now()).await;
    assert_eq!(look.runs, Some(false));
    drop(news);
    let _ = std::fs::remove_dir(group);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_signal_never_reaches_another_process_of_the_same_number() {
    let world = World::new();
    let service = world.script("sleep 60", "");
    let (record, _news) = world.started("run-1/act-1", &service).await;
    // The same number with another start time is another process: nothing is sent to it.
    let mut stale = record.clone();
    let process = stale.process.as_mut().unwrap();
    process.started += 1;
    stale.recorder.started += 1;
    stale.group = None;
    assert!(!process.is_alive());
    let other = world.script("sleep 61.5", "");
    let mut stop = world.act("run-1/act-2", ActKind::Stop, &other, Some(&stale)).await.unwrap();
    ended(&mut stop).await;
    assert!(record.process.as_ref().unwrap().is_alive());
    world.here.end_trees(&[record]).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_start_is_found_and_followed_again_by_another_server() {
    let world = World::new();
    let service = world
        .script("while [ ! -e DIR/go ]; do sleep 0.02; done; exit 5".replace("DIR", &world.folder().display().to_string()).as_str(), "");
    let (record, news) = world.started("run-1/act-1", &service).await;
    // Nobody listens any longer, as when the server was killed.
    drop(news);
    let Recorded::Begun(found) = world.here.recorded("run-1/act-1") else { panic!("it goes on") };
    assert_eq!((&found.process, &found.recorder), (&record.process, &record.recorder));
    let (teller, mut told) = tokio::sync::mpsc::unbounded_channel();
    world.here.follow("run-1/act-1", found, move |news| drop(teller.send(news))).await;
    world.append("go", "");
    assert!(matches!(ended(&mut told).await, ActEnd::Exited { code: 5, .. }));
}

/// Between being made and being its program a process is a copy of the recorder: its output file, which nobody reads, keeps it there.
#[tokio::test(flavor = "multi_thread")]
async fn a_process_that_is_not_its_program_yet_proves_nothing() {
    let world = World::new();
    let service = world.script("while :; do sleep 0.1; done", "");
    let output = world.here.output_of(&service);
    let made = std::process::Command::new("mkfifo").arg(&output).status().unwrap();
    assert!(made.success());
    let (record, _news) = world.started("run-1/act-1", &service).await;
    let mut climbing = world.climb(&service, StepKind::Start, Some(record.clone()), BTreeMap::new());
    let report = climbing.until("its first rung", |_| true).await;
    assert_eq!(report.answer.verdict, Verdict::NotYet, "{}", report.answer.says);
    assert!(report.answer.says.contains("not its program yet"), "{}", report.answer.says);
    // It is there all the same: nobody takes it for down.
    let look = world.here.look(&service, Some(&record), &world.here.round_from_now()).await;
    assert_eq!(look.runs, Some(true));
    let mut stopping = world.climb(&service, StepKind::Stop, Some(record.clone()), BTreeMap::new());
    let report = stopping.until("what a stop finds", |_| true).await;
    assert!(report.answer.verdict == Verdict::NotYet && report.answer.says.contains("still there"), "{}", report.answer.says);
    drop(stopping);
    let reader = std::fs::File::open(&output).unwrap();
    climbing.until("its program", |r| r.answer.verdict == Verdict::Holds).await;
    world.here.end_trees(&[record]).await;
    drop(reader);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_recorder_that_was_ended_leaves_the_outcome_unknown() {
    let world = World::new();
    let service = commands(&world, "sleep 60", "");
    let mut news = world.act("run-1/act-1", ActKind::Start, &service, None).await.unwrap();
    let ActNews::Begun(_, record) = next(&mut news).await else { panic!("it begins first") };
    // Ours: the process and the recorder beside it.
    for id in [&record.recorder, record.process.as_ref().unwrap()] {
        unsafe { libc::kill(id.pid as i32, libc::SIGKILL) };
    }
    assert!(matches!(next(&mut news).await, ActNews::Lost(_)));
}
