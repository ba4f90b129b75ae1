//! What keeps people and servers out of each other's way: releases, lines held against a service,
//! hosts that another server acts on, and runs that go slowly.

use std::io::Write;

use rstest::rstest;
use serde_json::{Value, json};
use yantro_e2e::{Server, wait_until};

use crate::quick;

fn up(more: &[(&str, &str)]) -> Server {
    let server = Server::with_estate(&quick::estate(more));
    server.ok(&["start", "*", "--yes"]);
    server
}

#[test]
fn a_service_released_from_a_held_run_is_free_for_another() {
    let server = up(&[]);
    server.trouble("app", Some("forbidden-line"));
    let held = server.begin(&["restart", "db"]);
    server.run_is(held, &["held"]);
    server.trouble("app", None);
    let waiting = server.begin(&["start", "app"]);
    server.run_is(waiting, &["queued"]);
    let refused = server.exits(1, &["release", "--yes", &held.to_string(), "quay/app"]);
    assert!(refused.contains("needs a reason"), "{refused}");
    let refused = server.exits(1, &["release", "--yes", &held.to_string(), "pier/kiosk", "--why", "x"]);
    assert!(refused.contains("does not hold pier/kiosk"), "{refused}");
    let told = server.ok(&["show", &held.to_string()]);
    assert!(told.contains(&format!("yantro release {held} ADDRESS --hold 1 --why")), "{told}");
    server.ok(&["release", "--yes", &held.to_string(), "quay/app", "--why", "tove takes it from here"]);
    let view = server.run_is(held, &["finished-with-exceptions", "held"]);
    assert!(view["released"].as_array().unwrap().contains(&json!("quay/app")), "{view}");
    server.run_is(waiting, &["finished"]);
    assert_eq!(server.state("quay/app"), "proven");
    assert!(server.ok(&["trail"]).contains("tove takes it from here"));
}

fn write_line(server: &Server, service: &str, line: &str) {
    let path = server.folder().join(format!("logs/{service}.log"));
    let mut log = std::fs::OpenOptions::new().append(true).open(path).unwrap();
    writeln!(log, "{line}").unwrap();
}

/// Waits until a restart of the application has come to proving what relies on it.
fn front_climbs(server: &Server, run: u64) {
    let is_it = |s: &Value| s["planned"]["address"] == "pier/front" && s["planned"]["kind"] == "start" && s["now"]["state"] == "proving";
    wait_until("the front climbs", || server.get(&format!("/runs/{run}"))["steps"].as_array()?.iter().any(is_it).then_some(()));
}

fn row(server: &Server, address: &str) -> Value {
    let board = server.get("/board");
    board["services"].as_array().unwrap().iter().find(|r| r["address"] == address).unwrap().clone()
}

#[test]
fn a_forbidden_line_outlasts_its_run_until_it_is_acknowledged_or_left_behind() {
    let mut server = up(&[("front", "start = { patience = \"60s\" }")]);
    server.trouble("front", Some("never-ready"));
    let run = server.begin(&["restart", "app"]);
    front_climbs(&server, run);
    write_line(&server, "app", "ERROR berth table is torn");
    server.run_is(run, &["held"]);
    server.ok(&["give-up", "--yes", &run.to_string(), "--why", "it is left for the morning"]);
    server.run_is(run, &["given-up"]);
    // The run is over, its rungs hold, and still it is not called proven; nor after the server was killed.
    for _ in 0..2 {
        wait_until("it is looked at", || (server.state("quay/app") == "ailing").then_some(()));
        let app = row(&server, "quay/app");
        assert!(app["seen"]["says"].as_str().unwrap().contains("berth table is torn"), "{app}");
        assert_eq!(app["seen"]["log_against"]["run"], json!(run));
        server.kill();
        server.start(&[]);
    }
    // Started again a moment ago, it has to look first.
    wait_until("the board says what to do", || server.ok(&["board"]).contains("yantro acknowledge quay/app").then_some(()));
    let refused = server.exits(1, &["acknowledge", "quay/app"]);
    assert!(refused.contains("needs a reason"), "{refused}");
    let told = server.ok(&["acknowledge", "quay/app", "--why", "the table was rebuilt by hand"]);
    assert!(told.contains("proven"), "{told}");
    assert!(server.ok(&["trail"]).contains("the table was rebuilt by hand"));
    let refused = server.exits(1, &["acknowledge", "quay/app", "--why", "again"]);
    assert!(refused.contains("no forbidden line is held against quay/app"), "{refused}");
}

#[test]
fn a_new_start_leaves_an_old_forbidden_line_behind() {
    let server = up(&[("front", "start = { patience = \"60s\" }")]);
    server.trouble("front", Some("never-ready"));
    let run = server.begin(&["restart", "app"]);
    front_climbs(&server, run);
    write_line(&server, "app", "ERROR berth table is torn");
    server.run_is(run, &["held"]);
    server.ok(&["give-up", "--yes", &run.to_string(), "--why", "it is restarted instead"]);
    server.run_is(run, &["given-up"]);
    server.trouble("front", None);
    server.ok(&["restart", "app", "--yes"]);
    assert_eq!((server.state("quay/app").as_str(), row(&server, "quay/app")["seen"]["log_against"].clone()), ("proven", Value::Null));
}

#[test]
fn a_host_that_another_server_acts_on_is_left_alone_until_it_is_taken_over() {
    let first = up(&[]);
    // A second server on this machine, with the same estate and data of its own.
    let mut second = Server::bare();
    second.kill();
    let records = first.path("hosts");
    second.start(&["--host-records", &records]);
    second.ok(&["load", &first.path("estate.toml")]);
    let refused = second.exits(1, &["restart", "db", "--yes"]);
    assert!(refused.contains("another server acts there") && refused.contains("yantro take-over"), "{refused}");
    assert!(second.ok(&["board"]).contains("quay is not acted on"));
    assert_eq!(second.get("/runs")["runs"].as_array().unwrap().len(), 0, "nothing was begun");
    let refused = second.exits(1, &["take-over", "--yes", "quay"]);
    assert!(refused.contains("needs a reason"), "{refused}");
    let refused = second.exits(1, &["take-over", "--yes", "nowhere", "--why", "x"]);
    assert!(refused.contains("no host nowhere"), "{refused}");
    for host in ["quay", "pier"] {
        second.ok(&["take-over", "--yes", host, "--why", "the old one is retired"]);
    }
    second.ok(&["restart", "front", "--yes"]);
    // Whoever acted before is told, and acts no more.
    let refused = first.exits(1, &["restart", "front", "--yes"]);
    assert!(refused.contains("another server acts there"), "{refused}");
    assert!(second.ok(&["trail"]).contains("the old one is retired"));
}

#[test]
fn a_store_restored_from_a_copy_starts_looking_only() {
    let mut server = up(&[]);
    server.kill();
    let copy = server.folder().join("copy.db");
    let store = server.data().join("yantro.db");
    // With the server ended, everything is in these files.
    for end in ["", "-wal", "-shm"] {
        let from = format!("{}{end}", store.display());
        let _ = std::fs::copy(from, format!("{}{end}", copy.display()));
    }
    server.start(&[]);
    server.ok(&["restart", "front", "--yes"]);
    server.kill();
    for end in ["", "-wal", "-shm"] {
        let to = format!("{}{end}", store.display());
        let _ = std::fs::remove_file(&to);
        let _ = std::fs::copy(format!("{}{end}", copy.display()), to);
    }
    server.start(&[]);
    let standstill = server.get("/board")["standstill"].as_str().unwrap_or_default().to_owned();
    assert!(standstill.contains("what host"), "{standstill}");
    let refused = server.exits(1, &["restart", "front", "--yes"]);
    assert!(refused.contains("standstill"), "{refused}");
    for host in ["quay", "pier"] {
        server.ok(&["take-over", "--yes", host, "--why", "restored after the disk broke"]);
    }
    server.ok(&["standstill", "off", "--yes"]);
    server.ok(&["restart", "front", "--yes"]);
    assert_eq!(server.state("pier/front"), "proven");
}

#[rstest]
#[case::one_by_one("1", 1)]
#[case::two("2", 2)]
fn a_run_goes_no_faster_than_it_was_asked_to(#[case] at_once: &str, #[case] most: usize) {
    let server = Server::with_estate(&quick::estate(&[]));
    server.ok(&["start", "*", "--at-once", at_once, "--yes"]);
    let events = server.get("/runs/1/events");
    let mut under_way = std::collections::BTreeSet::new();
    let mut seen = 0;
    for event in events.as_array().unwrap() {
        let step = event["step"].as_u64();
        match (event["event"].as_str(), step) {
            (Some("act-intended"), Some(step)) => drop(under_way.insert(step)),
            (Some("step-ended"), Some(step)) => drop(under_way.remove(&step)),
            _ => {}
        }
        seen = seen.max(under_way.len());
    }
    assert_eq!(seen, most);
    assert_eq!(server.get("/runs/1")["at_once"], json!(most));
    let (status, problem) = server.post("/plan", &json!({ "does": { "services": { "wish": "start", "of": ["*"] } }, "at_once": 0 }));
    assert_eq!(status, 422, "{problem}");
}

#[test]
fn a_restart_is_owed_by_a_newer_configuration_or_description_until_it_is_done() {
    let server = Server::with_estate(&quick::estate(&[("db", "configuration = [\"db.conf\"]")]));
    server.put("db.conf", "rows = 10\n");
    server.ok(&["start", "db", "--yes"]);
    let owed = |server: &Server| {
        let board = server.get("/board");
        let row = board["services"].as_array().unwrap().iter().find(|r| r["address"] == "quay/db").unwrap().clone();
        row["owed_because"].as_str().map(str::to_owned)
    };
    assert_eq!(owed(&server), None);
    // File times are as coarse as the kernel's clock tick.
    wait_until("the configuration is newer", || {
        server.put("db.conf", "rows = 20\n");
        owed(&server).filter(|why| why.contains("db.conf was written after its start"))
    });
    let board = server.ok(&["board"]);
    assert!(board.contains("restart owed"), "{board}");
    server.ok(&["restart", "db", "--yes"]);
    wait_until("nothing is owed", || owed(&server).is_none().then_some(()));
    let more = [("db", "configuration = [\"db.conf\"]\nprocess = { env = { LANE = \"B\" } }")];
    server.put("estate.toml", &quick::estate(&more).replace("NET", &server.net));
    server.ok(&["load", &server.path("estate.toml")]);
    assert!(owed(&server).is_some_and(|why| why.contains("edition 1")), "{:?}", owed(&server));
    // What it would be started with now, and where that is written.
    let told = server.ok(&["started-with", "db"]);
    for wanted in ["LANE=B", "[service.db.process]", "[like.quick.process]", "the estate's folder"] {
        assert!(told.contains(wanted), "\"{wanted}\" is missing of:\n{told}");
    }
}

#[test]
fn attended_a_services_own_output_comes_through_and_ctrl_c_stops_it() {
    use std::io::{BufRead, BufReader};
    let args = "process = { args = [\"--name\", \"{service}\", \"--listen\", \"{address}:{port}\", \"--ready-after\", \"{ready}\"] }";
    let server = Server::with_estate(&quick::estate(&[("db", args)]));
    for leave_on in [false, true] {
        let more: &[&str] = if leave_on { &["--leave-on"] } else { &[] };
        let mut child = server.spawn(&[&["attend", "quay/db"], more].concat());
        let (told, said) = std::sync::mpsc::channel();
        let lines = BufReader::new(child.stdout.take().unwrap()).lines();
        std::thread::spawn(move || lines.map_while(Result::ok).for_each(|l| drop(told.send(l))));
        wait_until("what it says comes through", || said.try_iter().find(|l| l.contains("db ready for connections")));
        wait_until("it is proven", || (server.state("quay/db") == "proven").then_some(()));
        unsafe { libc::kill(child.id() as i32, libc::SIGINT) };
        let ended = wait_until("it ends", || child.try_wait().unwrap());
        assert!(ended.success());
        assert_eq!(server.state("quay/db"), if leave_on { "proven" } else { "down" });
    }
    let told = server.exits(1, &["attend", "db"]);
    assert!(told.contains("is proven, and would not be started anew"), "{told}");
    let output = std::fs::read_to_string(server.data().join("output/quay_db.log")).unwrap();
    assert_eq!(output.matches("ready for connections").count(), 2, "and it is kept");
}
