//! Climbs: each rung in its turn, logs from the act's own position on, and what is told at once.

use std::{net::TcpListener, time::Duration};

use rstest::rstest;
use yantro_core::{proof::Verdict, run::ActKind, words::kinds::StepKind};

use crate::world::{World, until};

const LOGGING: &str = "logs = [\"DIR/gate.log\"]\nstart = { must_see = [\"ready for connections\", \"lane [0-9]+ open\"], must_not_see = [\"ERROR\"], overlook = [\"ERROR of old\"] }";

#[tokio::test]
async fn rungs_are_climbed_in_their_order() {
    let world = World::new();
    let service = world
        .service("run_by = \"process\"\nhands_off = \"only watched\"\nladder = [{ rung = \"file\", path = \"DIR/one\" }, { rung = \"file\", path = \"DIR/two\" }]\n");
    let mut climb = world.climb(&service, StepKind::Start, None, Default::default());
    world.append("two", "");
    let report = climb.until("the first rung", |r| r.rung == 0).await;
    assert_eq!(report.answer.verdict, Verdict::NotYet, "the second is there, and it is not its turn");
    world.append("one", "");
    climb.until("the first rung", |r| r.rung == 0 && r.answer.verdict == Verdict::Holds).await;
    climb.until("the second", |r| r.rung == 1 && r.answer.verdict == Verdict::Holds).await;
}

#[tokio::test]
async fn a_rung_lost_after_the_last_was_climbed_is_told() {
    let world = World::new();
    let service = world.service(
        "run_by = \"process\"\nhands_off = \"only watched\"\nsteady = \"10s\"\nladder = [{ rung = \"file\", path = \"DIR/one\" }, { rung = \"file\", path = \"DIR/two\" }]\n",
    );
    world.append("one", "");
    world.append("two", "");
    let mut climb = world.climb(&service, StepKind::Start, None, Default::default());
    climb.until("the last rung", |r| r.rung == 1 && r.answer.verdict == Verdict::Holds).await;
    std::fs::remove_file(world.path("one")).unwrap();
    let lost = climb.until("the loss", |r| r.answer.verdict == Verdict::NotYet).await;
    assert_eq!(lost.rung, 0);
    world.append("one", "");
    climb.until("it climbs again", |r| r.rung == 0 && r.answer.verdict == Verdict::Holds).await;
}

#[rstest]
#[case::wanted_lines("lane 3 open\nready for connections\n", Verdict::Holds, "lane 3 open")]
#[case::one_of_two("ready for connections\n", Verdict::NotYet, "lane [0-9]+ open")]
#[case::a_forbidden_one("lane 3 open\nERROR torn\nready for connections\n", Verdict::Against, "ERROR torn")]
#[case::known_noise("ERROR of old\nlane 3 open\nready for connections\n", Verdict::Holds, "")]
#[tokio::test]
async fn the_log_is_the_last_rung(#[case] written: &str, #[case] verdict: Verdict, #[case] says: &str) {
    let world = World::new();
    world.append("gate.log", "ERROR before the act\nready for connections\nlane 1 open\n");
    let service = world.script("sleep 60", LOGGING);
    let marks = world.marks(&service);
    let (record, _news) = world.started("log/1", &service).await;
    let mut climb = world.climb(&service, StepKind::Start, Some(record.clone()), marks);
    climb.until("the process", |r| r.rung == 0 && r.answer.verdict == Verdict::Holds).await;
    for line in written.split_inclusive('\n') {
        world.append("gate.log", line);
    }
    let report = climb.until("the log", |r| r.rung == 1 && (r.answer.verdict == verdict && r.answer.says.contains(says))).await;
    if verdict == Verdict::Holds {
        let evidence = report.logs.iter().find(|l| l.source.ends_with("gate.log")).expect("its lines are evidence");
        assert!(evidence.hits.iter().any(|h| h.text == "ready for connections") && evidence.complete);
        assert_eq!(evidence.count.lines, written.lines().count() as u64, "what stood there before does not count");
    }
    world.here.end_trees(&[record]).await;
}

#[tokio::test]
async fn lines_of_its_own_output_count_like_those_of_a_file() {
    let world = World::new();
    let service = world.script("echo gate starting; echo ready for connections; sleep 60", "start = { must_see = [\"ready for\"] }");
    let marks = world.marks(&service);
    let (record, _news) = world.started("own/1", &service).await;
    let mut climb = world.climb(&service, StepKind::Start, Some(record.clone()), marks);
    climb.until("the line", |r| r.rung == 1 && r.answer.verdict == Verdict::Holds).await;
    world.here.end_trees(&[record]).await;
}

#[rstest]
#[case::its_last_words("echo FATAL no berth; exit 3", "FATAL", Verdict::Against, "FATAL no berth")]
#[case::silently("exit 3", "FATAL", Verdict::Against, "its process ended")]
#[case::half_a_line("printf 'FATAL half'; exit 3", "FATAL", Verdict::Against, "FATAL half")]
#[tokio::test]
async fn a_start_that_ends_is_told_with_what_it_wrote_last(
    #[case] script: &str,
    #[case] forbidden: &str,
    #[case] verdict: Verdict,
    #[case] says: &str,
) {
    let world = World::new();
    let patterns = format!("start = {{ must_see = [\"ready\"], must_not_see = [\"{forbidden}\"] }}");
    let service = world.script(script, &patterns);
    let marks = world.marks(&service);
    let (record, mut news) = world.started("ends/1", &service).await;
    let mut climb = world.climb(&service, StepKind::Start, Some(record), marks);
    let report = climb.until("its end", |r| r.answer.verdict == verdict).await;
    assert!(report.answer.says.contains(says), "{}", report.answer.says);
    crate::world::ended(&mut news).await;
}

#[tokio::test]
async fn a_stop_is_climbed_once_process_and_port_are_gone() {
    let world = World::new();
    let port = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    // A process that forks away and goes on: what the recorder adopted belongs to it too.
    let service = world.service(&format!(
        "run_by = \"process\"\nprocess = {{ program = \"/bin/sh\", args = [\"-c\", \"sleep 61 & echo forked; sleep 62\"] }}\n\
         ladder = [{{ rung = \"process\" }}, {{ rung = \"port\", port = {port} }}]\n"
    ));
    let (record, _news) = world.started("stop/1", &service).await;
    let mut climb = world.climb(&service, StepKind::Stop, Some(record.clone()), Default::default());
    let report = climb.until("a first look", |r| r.rung == 0).await;
    assert!(report.answer.verdict == Verdict::NotYet && report.answer.says.contains("still there"), "{}", report.answer.says);
    let output = world.here.output_of(&service);
    until("it has forked", || std::fs::read_to_string(&output).is_ok_and(|o| o.contains("forked"))).await;
    // The main process alone is not all of it.
    let main = record.process.clone().unwrap();
    unsafe { libc::kill(main.pid as i32, libc::SIGKILL) };
    until("the main process is gone", || !main.is_alive()).await;
    assert!(record.recorder.is_alive(), "its children are left");
    world.here.end_trees(&[record]).await;
    climb.until("no process", |r| r.rung == 0 && r.answer.verdict == Verdict::Holds).await;
    climb.until("a free port", |r| r.rung == 1 && r.answer.verdict == Verdict::Holds).await;
}

#[tokio::test]
async fn a_port_that_another_took_after_a_stop_is_named() {
    let world = World::new();
    let stranger = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = stranger.local_addr().unwrap().port();
    let service = world.service(&format!(
        "run_by = \"process\"\nprocess = {{ program = \"/bin/true\" }}\nladder = [{{ rung = \"port\", port = {port} }}]\n"
    ));
    let mut climb = world.climb(&service, StepKind::Stop, None, Default::default());
    let report = climb.until("the port", |r| r.answer.says.contains("held by")).await;
    assert_eq!(report.answer.verdict, Verdict::Holds, "the port is its service's no longer");
    assert!(report.answer.says.contains(&std::process::id().to_string()), "{}", report.answer.says);
}

#[tokio::test]
async fn a_forbidden_line_is_seen_long_after_the_proof() {
    let world = World::new();
    let service = world.script("sleep 60", LOGGING);
    let marks = world.marks(&service);
    let watched = {
        let (here, service) = (std::sync::Arc::clone(&world.here), service.clone());
        tokio::spawn(async move { here.watch_log(&service, StepKind::Start, &marks).await })
    };
    for line in ["lane 3 open\n", "ERROR of old\n", "ready for connections\n"] {
        world.append("gate.log", line);
    }
    tokio::time::sleep(Duration::from_millis(50)).await;
    assert!(!watched.is_finished(), "nothing forbidden was written yet");
    world.append("gate.log", "ERROR the berth is torn\n");
    let report = tokio::time::timeout(crate::world::PATIENCE, watched).await.unwrap().unwrap().expect("it is told");
    assert!(report.answer.verdict == Verdict::Against && report.answer.says.contains("the berth is torn"), "{}", report.answer.says);
}

#[tokio::test]
async fn secrets_are_masked_in_what_a_climb_says() {
    let world = World::new();
    std::fs::write(world.path("key"), "s3cret-of-the-quay\n").unwrap();
    let service = world.service(
        "run_by = \"process\"\nprocess = { program = \"/bin/sh\", args = [\"-c\", \"echo key is $KEY; sleep 60\"], env = { KEY = \"file:DIR/key\" } }\n\
         ladder = [{ rung = \"process\" }]\nstart = { must_see = [\"key is\"] }\n",
    );
    let marks = world.marks(&service);
    let mut news = world.act("secret/1", ActKind::Start, &service, None).await.unwrap();
    let record = match crate::world::next(&mut news).await {
        yantro_reach::ActNews::Begun(begun, record) => {
            assert!(!format!("{begun:?}").contains("s3cret"), "the command is kept without it");
            *record
        }
        other => panic!("{other:?}"),
    };
    let mut climb = world.climb(&service, StepKind::Start, Some(record.clone()), marks);
    let report = climb.until("the line", |r| r.rung == 1 && r.answer.verdict == Verdict::Holds).await;
    let all = format!("{report:?}");
    assert!(!all.contains("s3cret-of-the-quay") && all.contains("file:"), "{all}");
    world.here.end_trees(&[record]).await;
}

/// A service that logs its own health checks: its log wakes the climb, which must not ask again for that.
#[tokio::test]
async fn what_a_look_itself_writes_asks_for_no_further_look() {
    let world = World::new();
    world.append("gate.log", "");
    let service = world.service(
        "run_by = \"process\"\nhands_off = \"only watched\"\nlogs = [\"DIR/gate.log\"]\nstart = { must_see = [\"ready for\"] }\n\
         ladder = [{ rung = \"command\", command = [\"/bin/sh\", \"-c\", \"echo checked >> DIR/gate.log; exit 1\"], not_yet = [1] }]\n",
    );
    let mut climb = world.climb(&service, StepKind::Start, None, world.marks(&service));
    climb.until("the first look", |r| r.rung == 0 && r.answer.verdict == Verdict::NotYet).await;
    let checked = || std::fs::read_to_string(world.path("gate.log")).unwrap().lines().count() as u128;
    let (began, before) = (std::time::Instant::now(), checked());
    until("some looks were taken", || checked() > before + 20).await;
    let (looks, took) = (checked() - before, began.elapsed().as_millis());
    // The least time between two looks, with room for one that was due.
    assert!(looks <= took / 15 + 2, "{looks} looks in {took} ms");
}
