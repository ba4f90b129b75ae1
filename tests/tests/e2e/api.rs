//! The API as a client sees it: every error a problem with a mend, every list continued, nothing
//! said that is not in its description.

use std::{
    io::{BufRead, Write},
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering},
    },
    time::Duration,
};

use rstest::rstest;
use serde_json::{Value, json};
use yantro_e2e::Server;

use crate::quick;

/// Every error has a stable type, what it is this time, and what to do about it.
#[rstest]
#[case::an_unknown_wish("/plan", json!({ "does": { "services": { "wish": "explode", "of": ["db"] } } }), 422, "bad-body", "explode")]
#[case::an_unknown_key("/plan", json!({ "does": { "services": { "wish": "stop", "of": ["db"] } }, "quickly": true }), 422, "bad-body", "quickly")]
#[case::no_selection("/plan", json!({ "does": { "services": { "wish": "stop" } } }), 422, "bad-body", "of")]
#[case::an_unknown_service("/plan", json!({ "does": { "services": { "wish": "stop", "of": ["dbb"] } } }), 422, "selection", "dbb")]
#[case::an_unknown_group("/plan", json!({ "does": { "services": { "wish": "stop", "of": ["group:boats"] } } }), 422, "selection", "boats")]
#[case::all_left_out("/plan", json!({ "does": { "services": { "wish": "stop", "of": ["db"], "except": ["db"] } } }), 422, "selection", "")]
#[case::a_stop_that_is_not_needed_twice("/runs/9/decisions", json!({ "kind": "hold" }), 404, "no-run", "9")]
#[case::a_decision_of_no_kind("/runs/9/decisions", json!({ "kind": "pray" }), 422, "bad-body", "pray")]
#[case::an_override_of_a_bystander("/runs", json!({ "does": { "services": { "wish": "start", "of": ["db"] } }, "overrides": { "quay/queue": { "env": { "A": "1" } } } }), 422, "stray-override", "quay/queue")]
#[case::standing_on_what_stops("/runs", json!({ "does": { "services": { "wish": "stop", "of": ["db"], "alone": true } } }), 409, "not-as-it-is", "")]
#[case::an_estate_with_faults("/estate", json!({ "text": "[estate]\nname = 3\n", "folder": "/" }), 422, "estate-faults", "error")]
#[case::nothing_to_acknowledge("/acknowledgements", json!({ "address": "quay/db", "why": "x" }), 409, "nothing-against", "quay/db")]
#[case::no_such_host("/take-overs", json!({ "host": "moon", "why": "x" }), 404, "no-host", "moon")]
fn every_error_says_what_and_how_to_mend_it(
    #[case] path: &str,
    #[case] body: Value,
    #[case] status: u16,
    #[case] kind: &str,
    #[case] says: &str,
) {
    let server = Server::with_estate(&quick::estate(&[]));
    if path == "/runs" && kind == "not-as-it-is" {
        server.ok(&["start", "*", "--yes"]);
    }
    let (got, problem) = server.post(path, &body);
    assert_eq!((got, problem["status"].as_u64()), (status, Some(u64::from(status))), "{problem}");
    assert_eq!(problem["type"], format!("urn:yantro:problem:{kind}"));
    let text = |key: &str| problem[key].as_str().unwrap_or_default().to_owned();
    assert!(!text("title").is_empty() && !text("hint").is_empty() && text("detail").contains(says), "{problem}");
    if kind == "estate-faults" {
        assert!(!problem["faults"].as_array().unwrap().is_empty());
    }
    if kind == "not-as-it-is" {
        let asks = problem["plan"]["asks"].as_array().unwrap();
        assert!(asks.iter().any(|a| a.to_string().contains("quay/app")), "what it would take is said: {asks:?}");
    }
}

#[rstest]
#[case("/board")]
#[case("/runs")]
#[case("/audit")]
#[case("/estate")]
#[case("/openapi.json")]
#[case("/schema.json")]
fn what_is_served_is_json(#[case] path: &str) {
    let server = Server::with_estate(&quick::estate(&[]));
    assert!(!server.get(path).is_null());
}

#[test]
fn the_description_that_is_served_names_every_call_that_is_documented() {
    let server = Server::bare();
    let description = server.get("/openapi.json");
    assert_eq!(description["openapi"], "3.1.0");
    let documented = include_str!("../../../docs/api.md");
    for path in description["paths"].as_object().unwrap().keys() {
        let short = path.trim_start_matches("/api/v1").replace("{run}", "N").replace("{procedure}", "NAME");
        assert!(
            documented.contains(&short) || ["/sign-in-link", "/schema.json"].contains(&short.as_str()),
            "docs/api.md says nothing of {short}"
        );
    }
}

#[test]
fn runs_are_listed_page_by_page_the_newest_first() {
    let server = Server::with_estate(&quick::estate(&[]));
    for _ in 0..3 {
        server.ok(&["start", "db", "--yes"]);
        server.ok(&["stop", "db", "--yes"]);
    }
    let mut seen: Vec<u64> = Vec::new();
    let mut path = "/runs?limit=4".to_owned();
    loop {
        let page = server.get(&path);
        seen.extend(page["runs"].as_array().unwrap().iter().map(|r| r["id"].as_u64().unwrap()));
        match page["next"].as_u64() {
            Some(next) => path = format!("/runs?limit=4&before={next}"),
            None => break,
        }
    }
    assert_eq!(seen, [6, 5, 4, 3, 2, 1]);
    // One that ended and was forgotten is read back whole.
    let view = server.get("/runs/1");
    assert_eq!((view["state"].as_str(), view["title"].as_str()), (Some("finished"), Some("start quay/db")));
}

#[test]
fn relations_are_told_near_and_far() {
    let server = Server::with_estate(&quick::estate(&[]));
    let all = server.get("/relations?of=app");
    assert_eq!(all["relies_on"], json!(["quay/db", "quay/queue"]));
    assert_eq!(all["takes_with_it"], json!(["pier/boards", "pier/front"]));
    let far = server.get("/relations?of=db");
    assert_eq!(
        (far["reliant"].clone(), far["takes_with_it"].clone()),
        (json!(["quay/app"]), json!(["pier/boards", "pier/front", "quay/app"]))
    );
}

#[test]
fn a_plan_says_in_a_sentence_what_it_comes_to_and_touches_nothing() {
    let server = Server::with_estate(&quick::estate(&[]));
    let (status, plan) = server.post("/plan", &json!({ "does": { "services": { "wish": "start", "of": ["front"] } } }));
    assert_eq!((status, plan["can_begin"].as_bool()), (200, Some(true)));
    assert_eq!(plan["says"], "Starts 4 services; users notice nothing.");
    let steps = plan["sequence"]["steps"].as_array().unwrap();
    let order: Vec<&str> = steps.iter().map(|s| s["address"].as_str().unwrap()).collect();
    assert_eq!(order, ["quay/db", "quay/queue", "quay/app", "pier/front"]);
    assert!(server.stand_ins().is_empty() && server.get("/runs")["runs"].as_array().unwrap().is_empty());
}

#[test]
fn an_estate_is_vetted_without_being_loaded_and_a_change_makes_an_edition() {
    let server = Server::with_estate(&quick::estate(&[]));
    let text = server.get("/estate")["text"].as_str().unwrap().to_owned();
    let folder = server.folder().display().to_string();
    let changed = text.replace("name = \"Quick ferries\"", "name = \"Quicker ferries\"");
    let (_, vetted) = server.post("/estate/vet", &json!({ "text": changed, "folder": folder }));
    assert_eq!((vetted["good"].as_bool(), server.get("/board")["edition"].as_u64()), (Some(true), Some(1)));
    let (_, again) = server.post("/estate", &json!({ "text": text, "folder": folder }));
    assert_eq!((again["edition"].as_u64(), again["changed"].as_bool()), (Some(1), Some(false)), "the same text makes no edition");
    let without = text.split("[service.boards]").next().unwrap().to_owned();
    let (_, loaded) = server.post("/estate", &json!({ "text": without, "folder": folder, "why": "the boards go" }));
    assert_eq!((loaded["edition"].as_u64(), loaded["removed"].clone()), (Some(2), json!(["pier/boards"])));
    let board = server.get("/board");
    assert_eq!((board["edition"].as_u64(), board["services"].as_array().unwrap().len()), (Some(2), 4));
    let trail = server.get("/audit");
    assert!(trail.as_array().unwrap().iter().any(|l| l["what"] == "load" && l["why"] == "the boards go"), "{trail}");
}

#[test]
fn logs_of_several_services_are_read_together_and_followed() {
    let server = Server::with_estate(&quick::estate(&[]));
    server.ok(&["start", "app", "--yes"]);
    let lines = server.get("/logs?of=db,queue&lines=50");
    let of = |address: &str| lines.as_array().unwrap().iter().filter(|l| l["address"] == address).count();
    assert!(of("quay/db") >= 3 && of("quay/queue") >= 3 && of("quay/app") == 0, "{lines}");
    // Followed on the command line, what is written next comes with its service.
    let mut follow = server.spawn(&["logs", "db", "--follow", "--lines", "0"]);
    let told = std::io::BufReader::new(follow.stdout.take().unwrap());
    let path = server.folder().join("logs/db.log");
    let done = Arc::new(AtomicBool::new(false));
    // Written again and again: when the follower begins to listen is its own affair.
    let writer = {
        let done = Arc::clone(&done);
        std::thread::spawn(move || {
            while !done.load(Ordering::Relaxed) {
                let mut log = std::fs::OpenOptions::new().append(true).open(&path).unwrap();
                writeln!(log, "the tide turns").unwrap();
                std::thread::sleep(Duration::from_millis(20));
            }
        })
    };
    let line = told.lines().next().unwrap().unwrap();
    done.store(true, Ordering::Relaxed);
    let _ = follow.kill();
    let _ = follow.wait();
    writer.join().unwrap();
    assert!(line.contains("quay/db") && line.contains("the tide turns"), "{line}");
}

/// What was described when a service was started is what it is judged and stopped by (R24).
#[test]
fn a_service_is_stopped_where_it_was_started_whatever_the_estate_says_now() {
    let server = Server::with_estate(&quick::estate(&[]));
    server.ok(&["start", "db", "--yes"]);
    let text = server.get("/estate")["text"].as_str().unwrap().replace("port = 5001", "port = 5101");
    server.put("moved.toml", &text);
    server.ok(&["load", &server.path("moved.toml")]);
    let board = server.get("/board");
    let db = board["services"].as_array().unwrap().iter().find(|r| r["address"] == "quay/db").unwrap().clone();
    assert_eq!((db["seen"]["state"].as_str(), db["restart_owed"].as_bool()), (Some("proven"), Some(true)), "{db}");
    server.ok(&["restart", "db", "--yes"]);
    let board = server.get("/board");
    let db = board["services"].as_array().unwrap().iter().find(|r| r["address"] == "quay/db").unwrap().clone();
    assert_eq!(db["restart_owed"].as_bool(), Some(false));
    assert!(db["seen"]["says"].as_str().unwrap().contains("5101"), "{db}");
}
