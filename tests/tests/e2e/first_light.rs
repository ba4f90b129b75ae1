//! First light: an estate stopped, started and restarted for real, each step proven.

use serde_json::{Value, json};
use yantro_e2e::{Server, wait_until};

use crate::quick;

fn up(server: &Server) {
    server.ok(&["start", "*", "--yes"]);
    assert_eq!(server.state("pier/front"), "proven");
}

#[test]
fn a_restart_goes_down_backwards_and_up_forwards_each_step_proven() {
    let server = Server::with_estate(&quick::estate(&[]));
    up(&server);
    let run = server.begin(&["restart", "db", "--why", "the patch"]);
    let view = server.run_is(run, &["finished"]);
    let steps = view["steps"].as_array().unwrap();
    let when = |address: &str, kind: &str, at: &str| {
        let step = steps.iter().find(|s| s["planned"]["address"] == address && s["planned"]["kind"] == kind).unwrap();
        step["now"][at].as_str().unwrap().to_owned()
    };
    // Down: what relies on it first. Up: only once what it relies on is proven.
    assert!(when("pier/front", "stop", "ended_at") <= when("quay/app", "stop", "began_at"));
    assert!(when("quay/app", "stop", "ended_at") <= when("quay/db", "stop", "began_at"));
    assert!(when("quay/db", "start", "ended_at") <= when("quay/app", "start", "began_at"));
    assert!(when("quay/app", "start", "ended_at") <= when("pier/front", "start", "began_at"));
    // The queue is nothing of its business.
    assert_eq!(server.records("queue"), ["start", "ready"]);
    assert_eq!(server.records("db"), ["start", "ready", "stop", "start", "ready"]);
    // Evidence: the exact command, the port and who holds it, the line that was seen.
    let shown = server.ok(&["show", &run.to_string(), "--evidence"]);
    for wanted in ["stand-in --name db", "listens on 5001", "db ready for connections", "kill -s TERM "] {
        assert!(shown.contains(wanted), "\"{wanted}\" is missing of:\n{shown}");
    }
    let events = server.get(&format!("/runs/{run}/events"));
    let numbers: Vec<u64> = events.as_array().unwrap().iter().map(|e| e["no"].as_u64().unwrap()).collect();
    assert_eq!(numbers, (1..=numbers.len() as u64).collect::<Vec<_>>(), "every event has its number");
    let trail = server.ok(&["trail"]);
    assert!(trail.contains("maren") && trail.contains("the patch"), "{trail}");
}

#[test]
fn a_failed_start_holds_with_its_evidence_and_goes_on_when_mended() {
    let server = Server::with_estate(&quick::estate(&[]));
    up(&server);
    server.trouble("app", Some("forbidden-line"));
    let told = server.exits(5, &["restart", "db", "--yes"]);
    assert!(told.contains("held") && told.contains("forbidden line") && told.contains("yantro again"), "{told}");
    let run = 2;
    assert_eq!((server.state("quay/db").as_str(), server.state("pier/front").as_str()), ("proven", "down"));
    // A decision that answers another hold is refused.
    let (status, problem) = server.post(&format!("/runs/{run}/decisions"), &json!({ "kind": "resume", "hold": 99 }));
    assert_eq!((status, problem["type"].as_str().unwrap()), (409, "urn:yantro:problem:stale-decision"));
    // Without a reason nothing is passed over.
    let refused = server.exits(1, &["pass-over", "--yes", "2"]);
    assert!(refused.contains("needs a reason"), "{refused}");
    server.trouble("app", None);
    server.ok(&["again", "--yes", "2", "--watch"]);
    assert_eq!(server.get("/runs/2")["state"], "finished");
    assert_eq!(server.records("app"), ["start", "ready", "stop", "start", "crash", "start", "ready"]);
}

/// A decision without a step is about the one that awaits it: by what is offered, and not by what has its decision already.
#[test]
fn a_decision_is_about_the_step_that_awaits_it() {
    let server = Server::with_estate(&quick::estate(&[]));
    up(&server);
    server.trouble("front", Some("forbidden-line"));
    server.trouble("boards", Some("forbidden-line"));
    let run = server.begin(&["restart", "front", "boards"]).to_string();
    let at = format!("/runs/{run}");
    let failed = |view: &Value| -> Vec<u64> {
        let steps = view["steps"].as_array().unwrap().iter().filter(|s| s["now"]["state"] == "failed");
        steps.map(|s| s["planned"]["id"].as_u64().unwrap()).collect()
    };
    let both = wait_until("both failed", || Some(failed(&server.get(&at))).filter(|failed| failed.len() == 2));
    let told = server.exits(1, &["again", "--yes", &run]);
    assert!(told.contains("several steps await a decision") && told.contains("start pier/front"), "{told}");
    assert!(told.contains(&format!("yantro again {run} {}", both[0])), "a command that does it: {told}");
    assert_eq!(failed(&server.get(&at)), both, "nothing was done");
    server.trouble("front", None);
    server.trouble("boards", None);
    // The first has its decision, and waits: the other still holds the run.
    server.ok(&["again", "--yes", &run, &both[0].to_string()]);
    server.ok(&["again", "--yes", &run]);
    server.run_is(run.parse().unwrap(), &["finished"]);
    let told = server.exits(1, &["again", "--yes", &run]);
    assert!(told.contains("no step of run") || told.contains("has ended"), "{told}");
}

#[test]
fn what_is_not_meant_is_asked_for() {
    let server = Server::with_estate(&quick::estate(&[]));
    up(&server);
    let told = server.exits(4, &["restart", "db"]);
    assert!(told.contains("--yes") && told.contains("Quick ferries") && told.contains("TEST"), "{told}");
    let told = server.exits(1, &["stop", "db", "--alone", "--yes"]);
    assert!(told.contains("--left-standing quay/app"), "{told}");
    let told = server.exits(1, &["start", "dbb", "--yes"]);
    assert!(told.contains("did you mean \"db\"?"), "{told}");
    assert_eq!(server.get("/runs")["runs"].as_array().unwrap().len(), 1, "nothing was begun");
}

#[test]
fn a_run_that_wants_what_another_holds_queues_behind_it() {
    let server = Server::with_estate(&quick::estate(&[]));
    up(&server);
    server.trouble("app", Some("never-ready"));
    let first = server.begin(&["restart", "app"]);
    let second = server.begin(&["restart", "front"]);
    let queued = server.run_is(second, &["queued"]);
    wait_until("it says behind whom", || {
        let view = server.get(&format!("/runs/{second}"));
        view["queued_behind"][0].as_str().is_some_and(|b| b.contains(&format!("run {first} (restart quay/app, maren)"))).then_some(())
    });
    assert_eq!(queued["state"], "queued");
    server.ok(&["give-up", "--yes", &first.to_string(), "--why", "the other is more urgent"]);
    server.run_is(first, &["given-up"]);
    // The second finds that things changed, and holds before its first act or refuses to start what cannot work.
    server.run_is(second, &["held", "finished", "refused"]);
}

#[test]
fn a_stop_that_is_not_heeded_is_forced_only_where_that_is_allowed() {
    let more =
        [("front", "stop = { force = \"allow\", patience = \"500ms\" }"), ("boards", "stop = { force = \"never\", patience = \"500ms\" }")];
    let server = Server::with_estate(&quick::estate(&more));
    for service in ["front", "boards"] {
        server.trouble(service, Some("ignore-stop"));
    }
    up(&server);
    // Forced, it leaves no "stopped" line: the log rung is against it, and the step is not good.
    let told = server.exits(5, &["stop", "boards", "--yes"]);
    assert!(told.contains("still there"), "{told}");
    assert_eq!(server.records("boards"), ["start", "ready"]);
    server.ok(&["give-up", "--yes", "2", "--why", "somebody looks at it"]);
    server.begin(&["stop", "front"]);
    wait_until("front is forced down", || (server.state("pier/front") == "down").then_some(()));
}

#[test]
fn one_switch_holds_everything() {
    let server = Server::with_estate(&quick::estate(&[]));
    server.ok(&["standstill", "on"]);
    let told = server.exits(1, &["start", "db", "--yes"]);
    assert!(told.contains("standstill"), "{told}");
    server.ok(&["standstill", "off", "--yes"]);
    server.ok(&["start", "db", "--yes"]);
}

#[test]
fn the_event_stream_resumes_where_it_was_cut() {
    use std::io::{BufRead, BufReader};
    let server = Server::with_estate(&quick::estate(&[]));
    up(&server);
    let stream = |last: &str| {
        let request =
            server.http().get(format!("{}/api/v1/events", server.base())).bearer_auth(server.token()).header("last-event-id", last);
        BufReader::new(request.send().unwrap())
    };
    let ids = |last: &str, n: usize| -> Vec<String> {
        stream(last).lines().map_while(Result::ok).filter_map(|l| l.strip_prefix("id: ").map(str::to_owned)).take(n).collect()
    };
    let numbers = |ids: &[String]| -> Vec<i64> { ids.iter().map(|id| id.rsplit_once('-').unwrap().1.parse().unwrap()).collect() };
    let all = ids("0", 20);
    assert_eq!(numbers(&all), (1..=20).collect::<Vec<i64>>());
    assert_eq!(numbers(&ids(&all[6], 5)), [8, 9, 10, 11, 12]);
}

/// A number in the stream means something else to a store that was restored: who comes back with one from before is told so.
#[test]
fn the_event_stream_of_a_restored_store_is_begun_anew() {
    use std::io::{BufRead, BufReader};
    let mut server = Server::with_estate(&quick::estate(&[]));
    let lines = |server: &Server, last: &str| {
        let request =
            server.http().get(format!("{}/api/v1/events", server.base())).bearer_auth(server.token()).header("last-event-id", last);
        BufReader::new(request.send().unwrap()).lines().map_while(Result::ok)
    };
    let told = |server: &Server, last: &str, n: usize| lines(server, last).filter(|l| !l.is_empty()).take(n).collect::<Vec<_>>();
    let last_of = |server: &Server, n: usize| {
        let ids = lines(server, "0").filter_map(|l| l.strip_prefix("id: ").map(str::to_owned));
        ids.take(n).last().unwrap()
    };
    let copied = |server: &Server, from: &str, to: &str| {
        for file in ["yantro.db", "yantro.db-wal"] {
            let (from, to) = (server.data().join(format!("{from}{file}")), server.data().join(format!("{to}{file}")));
            let _ = std::fs::remove_file(&to);
            let _ = std::fs::copy(from, to);
        }
    };
    up(&server);
    let before = last_of(&server, 10);
    server.kill();
    copied(&server, "", "copy-");
    server.start(&[]);
    server.ok(&["restart", "db", "--yes"]);
    let number = server.get("/runs/1")["events"].as_u64().unwrap() as usize + server.get("/runs/2")["events"].as_u64().unwrap() as usize;
    let ahead = last_of(&server, number);
    assert_ne!(before.split_once('-').unwrap().0, ahead.split_once('-').unwrap().0, "each session tells its own");
    assert!(!told(&server, &ahead, 3).contains(&"event: anew".to_owned()));
    server.kill();
    copied(&server, "copy-", "");
    server.start(&["--looking-only"]);
    for stray in [ahead.as_str(), "7", "x"] {
        let told = told(&server, stray, 6);
        let anew = told.iter().position(|l| l == "event: anew").unwrap_or_else(|| panic!("{stray}: {told:?}"));
        assert!(told[anew - 1].starts_with("id: "), "it comes back with a place of this stream: {told:?}");
    }
    // What the copy knows is told as ever.
    let known = told(&server, &before, 6);
    assert!(known.iter().any(|l| l == "event: run") && !known.contains(&"event: anew".to_owned()), "{known:?}");
}

#[test]
fn secrets_are_never_shown_and_overrides_are() {
    let more = [("db", "process = { env = { DB_KEY = \"file:KEYFILE\", LANE = \"A\" } }")];
    let text = quick::estate(&more);
    let server = Server::bare();
    server.put("key", "tide-and-time-47\n");
    server.put("estate.toml", &text.replace("NET", &server.net).replace("KEYFILE", &server.path("key")));
    server.ok(&["load", &server.path("estate.toml")]);
    server.ok(&["start", "db", "--yes", "--env", "quay/db:LANE=B"]);
    let pid = server.get("/board")["services"].as_array().unwrap().iter().find(|s| s["address"] == "quay/db").unwrap()["seen"]["pid"]
        .as_u64()
        .unwrap();
    let env = std::fs::read(format!("/proc/{pid}/environ")).unwrap();
    let env = String::from_utf8_lossy(&env);
    assert!(env.contains("DB_KEY=tide-and-time-47") && env.contains("LANE=B"), "{env}");
    let shown = server.ok(&["show", "1", "--evidence", "--json"]);
    assert!(shown.contains("LANE") && !shown.contains("tide-and-time-47"));
    let database = std::fs::read(server.data().join("yantro.db")).unwrap();
    let wal = std::fs::read(server.data().join("yantro.db-wal")).unwrap_or_default();
    let acts = std::process::Command::new("grep").args(["-r", "-l", "tide-and-time-47"]).arg(server.data().join("acts")).output().unwrap();
    assert!(acts.stdout.is_empty(), "no act's folder holds it");
    for bytes in [database, wal] {
        assert!(!bytes.windows(16).any(|w| w == b"tide-and-time-47"), "the store holds it");
    }
}
