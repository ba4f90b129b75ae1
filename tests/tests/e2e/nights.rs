//! Written nights: "patch the fares database" of the demo, run three ways, and what procedures do besides.

use serde_json::{Value, json};
use yantro_e2e::{Server, wait_until};

use crate::quick;

fn steps(view: &Value) -> &Vec<Value> {
    view["steps"].as_array().unwrap()
}

fn step<'v>(view: &'v Value, says: &str) -> &'v Value {
    steps(view).iter().find(|s| s["says"] == says).unwrap_or_else(|| panic!("no step \"{says}\" in {view}"))
}

fn all_proven(server: &Server) {
    let board = server.get("/board");
    let wrong: Vec<String> =
        board["services"].as_array().unwrap().iter().filter(|r| r["differs"] == true).map(|r| r["address"].to_string()).collect();
    assert!(wrong.is_empty(), "these differ from what is expected: {wrong:?}");
}

#[test]
fn the_night_as_it_is_written() {
    let server = Server::demo();
    let told = server.ok(&["rehearse", "patch-fares-db"]);
    for wanted in ["9 in 10 within", "The backup is of today", "users are without", "line 8   work"] {
        assert!(told.contains(wanted), "\"{wanted}\" is missing of:\n{told}");
    }
    let sheet = server.ok(&["rehearse", "patch-fares-db", "--sheet"]);
    assert!(sheet.contains("[ ]  16. Patch") && sheet.contains("bin/patch-fares") && sheet.contains("proof: exit code 0"), "{sheet}");
    assert_eq!(server.get("/runs")["runs"].as_array().unwrap().len(), 1, "a rehearsal is no run");
    let run = server.begin(&["carry-out", "patch-fares-db", "--answer", "package=fares-db-14.4", "--change", "BSF-311"]);
    let view = server.run_is(run, &["finished"]);
    assert_eq!(server.read("demo/fares-db.version"), "14.4\n");
    assert_eq!((view["values"]["version"].as_str(), view["change"].as_str()), (Some("14.4"), Some("BSF-311")));
    // Half the gates stay up while the other half goes down, and the queue is empty before the database stops.
    let when = |says: &str, at: &str| step(&view, says)["now"][at].as_str().unwrap().to_owned();
    assert!(when("stop pier-north/gate-check.left", "ended_at") <= when("stop pier-south/gate-check.left", "began_at"));
    assert!(when("No receipt waits any longer", "ended_at") <= when("stop quay-1/fares-db", "began_at"));
    assert!(when("stop quay-1/fares-db", "ended_at") <= when("Patch", "began_at"));
    assert!(when("Patch", "ended_at") <= when("start quay-1/fares-db", "began_at"));
    assert!(view["preflight"].as_array().unwrap().iter().all(|p| p["answer"]["verdict"] == "holds"));
    let board = server.read("demo/logs/boards-pier-north.log");
    assert!(board.contains("the fares database is at 14.4") && board.contains("\"specversion\":\"1.0\""), "{board}");
    all_proven(&server);
}

#[test]
fn the_night_in_which_the_patch_fails_is_put_back() {
    let server = Server::demo();
    server.trouble("patch", Some("fail"));
    let told = server.exits(6, &["carry-out", "patch-fares-db", "--yes"]);
    assert!(told.contains("put back"), "{told}");
    let view = server.get("/runs/2");
    assert_eq!(view["state"], "put-back", "{}", view["held_because"]);
    assert_eq!(server.read("demo/fares-db.version"), "14.2\n", "the half-way patch is taken back");
    let back: Vec<&str> = steps(&view).iter().filter(|s| s["planned"]["part"] == "put-back").map(|s| s["says"].as_str().unwrap()).collect();
    assert_eq!(back.first(), Some(&"Take the patch back"));
    assert!(back.contains(&"start quay-1/fares-db") && back.contains(&"start pier-south/gate-check.right"), "{back:?}");
    // It took no longer than its own longest way, and little for deciding: shown as a figure, not judged here.
    assert!(view["differences"].as_array().unwrap().is_empty());
    all_proven(&server);
    let shown = server.ok(&["show", "2"]);
    assert!(shown.contains("the way back") && shown.contains("checksum differs"), "{shown}");
}

#[test]
fn the_night_in_which_a_gate_will_not_stop_and_is_vouched_for() {
    let server = Server::demo();
    server.trouble("gate-pier-south-left", Some("ignore-stop"));
    server.ok(&["restart", "pier-south/gate-check.left", "--yes"]);
    let told = server.exits(5, &["carry-out", "patch-fares-db", "--yes"]);
    assert!(told.contains("may it be ended by force?") && told.contains("yantro vouch 3") && told.contains("yantro put-back 3"), "{told}");
    let refused = server.exits(1, &["vouch", "--yes", "3"]);
    assert!(refused.contains("needs a reason"), "{refused}");
    let told = server.exits(6, &["vouch", "--yes", "3", "--why", "its lane is closed off by hand", "--watch"]);
    assert!(told.contains("finished with exceptions"), "{told}");
    assert_eq!(server.read("demo/fares-db.version"), "14.3\n");
    let view = server.get("/runs/3");
    let gate = step(&view, "stop pier-south/gate-check.left");
    assert_eq!((gate["now"]["end"].as_str(), gate["now"]["why"].as_str()), (Some("vouched"), Some("its lane is closed off by hand")));
}

#[test]
fn a_backup_that_is_too_old_refuses_before_anything_is_touched() {
    let server = Server::demo();
    let dump = server.folder().join("demo/backup/fares-db.dump");
    let old = std::time::SystemTime::now() - std::time::Duration::from_secs(30 * 3600);
    std::fs::File::options().write(true).open(dump).unwrap().set_modified(old).unwrap();
    let told = server.exits(1, &["rehearse", "patch-fares-db"]);
    assert!(told.contains("It would be refused") && told.contains("1day 6h"), "{told}");
    let told = server.exits(6, &["carry-out", "patch-fares-db", "--yes"]);
    assert!(told.contains("refused") && told.contains("The backup is of today"), "{told}");
    let view = server.get("/runs/2");
    assert!(steps(&view).iter().all(|s| s["now"]["acts"].as_array().unwrap().is_empty()), "nothing was touched");
    all_proven(&server);
}

#[test]
fn what_if_a_step_fails_is_played_for_every_rule_and_touches_nothing() {
    let server = Server::demo();
    let told: Value = serde_json::from_str(&server.ok(&["rehearse", "patch-fares-db", "--if-fails", "16", "--json"])).unwrap();
    let what = told["what_if"].as_array().unwrap();
    let state = |rule: &str| what.iter().find(|w| w["rule"] == rule).unwrap()["state"].clone();
    assert_eq!((state("hold"), state("put-back")), (json!("held"), json!("put-back")));
    let own = what.iter().find(|w| w["is_its_rule"] == true).unwrap();
    assert_eq!((own["rule"].as_str(), own["stands"].as_object().unwrap().len()), (Some("put-back"), 0));
    all_proven(&server);
    // Offline, from the file alone, with an assumption.
    let file = server.path("demo/estate.toml");
    let told = server.ok(&["rehearse", "stop", "fares-db", "--offline", &file, "--assume", "quay-2/booking=down"]);
    assert!(told.contains("quay-2/booking is down, and stays so") && told.contains("Forecast"), "{told}");
}

#[test]
fn an_answer_that_is_not_allowed_is_refused_with_the_question() {
    let server = Server::demo();
    let told = server.exits(1, &["carry-out", "patch-fares-db", "--yes", "--answer", "package=$(reboot)"]);
    assert!(told.contains("not allowed") && told.contains("fares-db-"), "{told}");
    let told = server.exits(1, &["carry-out", "patch-fares-bd", "--yes"]);
    assert!(told.contains("did you mean \"patch-fares-db\"?"), "{told}");
    let (status, problem) =
        server.post("/plan", &json!({ "does": { "procedure": { "name": "patch-fares-db", "answers": { "packet": "x" } } } }));
    assert_eq!((status, problem["answers"][0]["question"].as_str()), (422, Some("packet")));
}

/// The quick estate with procedures, and a file that each piece of work writes into.
fn quick_nights(more: &str) -> Server {
    let estate = quick::estate(&[]) + more;
    let server = Server::with_estate(&estate);
    server.ok(&["start", "*", "--yes"]);
    server
}

const NIGHT: &str = r#"
[procedure.night]
title = "A quick night"
if_it_fails = "put-back"
steps = [
  { stop = ["front"] },
  { stop = ["db"] },
  { title = "first", script = "echo did >> work.log", counter = { title = "first back", script = "echo undid >> work.log" } },
  { title = "second", script = "test ! -e trouble/second", changes_nothing = true },
  { start = ["db"] },
  { bring_back = ["all"] },
]

[procedure.boats]
steps = [
  { name = "boats", question = { asks = "Are the boats in?", who = ["maren"] } },
  { restart = ["front"], if_it_fails = { divert = "desk" } },
]

[procedure.desk]
title = "Call the desk"
questions = { failed = { default = "" }, reason = { default = "" } }
steps = [
  { title = "tell", script = "echo \"$VALUE_FAILED: $VALUE_REASON\" >> desk.log", changes_nothing = true },
  { restart = ["boards"] },
]
"#;

#[test]
fn killed_at_any_event_the_way_back_is_gone_once() {
    let mut server = quick_nights(NIGHT);
    server.put("trouble/second", "");
    let (mut runs, mut kills) = (0, 0);
    while kills < 25 {
        let run = server.begin(&["carry-out", "night"]);
        runs += 1;
        let mut at = 4u64;
        loop {
            at += rand::random_range(3..16);
            let ended = kill_at(&mut server, run, at);
            kills += 1;
            if ended || kills >= 25 {
                break;
            }
        }
        let view = server.run_is(run, &["put-back", "put-back-in-part", "held"]);
        assert_eq!(view["state"], "put-back", "{}", view["held_because"]);
        let log = server.read("work.log");
        let count = |what: &str| log.lines().filter(|l| *l == what).count();
        assert_eq!((count("did"), count("undid")), (runs, runs), "after {runs} runs and {kills} kills: {log}");
        for service in ["db", "app", "front"] {
            let records = server.records(service);
            let count = |what: &str| records.iter().filter(|r| *r == what).count();
            assert_eq!((count("start"), count("stop")), (runs + 1, runs), "{service} after {runs} runs and {kills} kills");
        }
    }
    for service in ["quay/db", "quay/app", "pier/front"] {
        wait_until(&format!("{service} stands as found"), || (server.state(service) == "proven").then_some(()));
    }
}

#[test]
fn killed_at_any_event_what_takes_over_takes_over_once() {
    let mut server = quick_nights(NIGHT);
    server.trouble("front", Some("forbidden-line"));
    let run = server.begin(&["carry-out", "boats"]);
    let view = server.run_is(run, &["running"]);
    assert_eq!(view["diverted_to"], Value::Null);
    wait_until("it asks", || (step(&server.get(&format!("/runs/{run}")), "Are the boats in?")["now"]["state"] == "asking").then_some(()));
    let (status, _) = server.post(&format!("/runs/{run}/decisions"), &json!({ "kind": "answer", "step": 1, "value": "perhaps" }));
    assert_eq!(status, 409);
    server.ok(&["answer", &run.to_string(), "1", "yes"]);
    for at in [9, 14, 19, 24, 29, 34] {
        if kill_at(&mut server, run, at) {
            break;
        }
    }
    let view = server.run_is(run, &["finished-with-exceptions", "held"]);
    assert_eq!(view["state"], "finished-with-exceptions", "{}", view["held_because"]);
    assert_eq!(view["diverted_to"], "desk");
    let desk = server.read("desk.log");
    assert!(desk.lines().count() == 1 && desk.starts_with("pier/front: "), "{desk}");
    let boards = server.records("boards");
    assert_eq!(boards.iter().filter(|r| *r == "start").count(), 2, "{boards:?}");
}

/// Kills the server once a run has stored so many events, and starts it again; whether the run had ended.
fn kill_at(server: &mut Server, run: u64, events: u64) -> bool {
    let ended = loop {
        let view = server.get(&format!("/runs/{run}"));
        let ended = view["ended_at"].is_string();
        if ended || view["events"].as_u64().unwrap_or(0) >= events {
            break ended;
        }
        std::thread::yield_now();
    };
    server.kill();
    server.start(&[]);
    ended
}

#[test]
fn only_those_asked_may_answer_and_notes_outlast_the_run() {
    let server = quick_nights(NIGHT);
    let run = server.begin(&["carry-out", "boats"]);
    let number = run.to_string();
    wait_until("it asks", || (step(&server.get(&format!("/runs/{run}")), "Are the boats in?")["now"]["state"] == "asking").then_some(()));
    let refused = server.exits(1, &["answer", &number, "1", "yes", "--who", "tove"]);
    assert!(refused.contains("tove is not among them"), "{refused}");
    server.ok(&["take-on", &number, "--who", "tove"]);
    assert_eq!(server.get(&format!("/runs/{run}"))["taken_by"], "tove");
    server.ok(&["answer", &number, "1", "no"]);
    let view = server.run_is(run, &["held"]);
    assert!(view["held_because"][0].as_str().unwrap().contains("maren answered no"), "{view}");
    server.ok(&["give-up", "--yes", &number, "--why", "not tonight"]);
    server.run_is(run, &["given-up"]);
    server.ok(&["note", &number, "the skerry is late, try at six"]);
    assert_eq!(server.get(&format!("/runs/{run}"))["notes"][0]["text"], "the skerry is late, try at six");
    assert!(server.ok(&["trail"]).contains("the skerry is late"));
}

#[test]
fn begun_at_a_later_line_the_earlier_ones_are_vouched_for() {
    let server = quick_nights(NIGHT);
    server.ok(&["stop", "db", "--yes"]);
    let refused = server.exits(1, &["carry-out", "night", "--yes", "--from-line", "5"]);
    assert!(refused.contains("needs a reason"), "{refused}");
    server.exits(6, &["carry-out", "night", "--yes", "--from-line", "5", "--why", "patched by hand this afternoon"]);
    let view = server.get("/runs/3");
    assert_eq!(view["state"], "finished-with-exceptions");
    assert_eq!(server.read("work.log"), "", "what was vouched for is not done again");
    for service in ["quay/db", "quay/app", "pier/front"] {
        assert_eq!(server.state(service), "proven", "{service}");
    }
}

#[test]
fn everything_is_brought_to_what_is_expected() {
    let server = quick_nights("");
    server.ok(&["stop", "db", "--yes"]);
    assert_eq!(server.state("pier/front"), "down");
    server.ok(&["bring-to-expected", "*", "--yes"]);
    assert_eq!(server.state("pier/front"), "proven");
    let told = server.ok(&["bring-to-expected", "*", "--yes"]);
    assert!(told.contains("finished"), "{told}");
}

/// Hours that began a while ago and end in so many seconds, by the wall clock of UTC.
fn hours_now(kind: &str, name: &str, ends_in: i64, more: &str) -> String {
    let now = chrono::Utc::now();
    let from = (now - chrono::TimeDelta::minutes(10)).format("%Y-%m-%dT%H:%M").to_string();
    let began = chrono::NaiveDateTime::parse_from_str(&from, "%Y-%m-%dT%H:%M").unwrap().and_utc();
    let length = (now - began).num_seconds() + ends_in;
    format!("\n[{kind}.{name}]\ntitle = \"{name}\"\nzone = \"UTC\"\nfrom = \"{from}\"\nlength = \"{length}s\"\n{more}\n")
}

#[test]
fn inside_a_change_freeze_a_disruptive_run_is_refused_or_begun_in_so_many_words() {
    let sailing = hours_now("freeze", "sailing", 3600, "begin = \"with-reason\"");
    let storm = hours_now("freeze", "storm", 3600, "impact = \"outage\"");
    let estate = quick::estate(&[("front", "impact = \"brief\""), ("db", "impact = \"outage\"")]);
    let estate = format!("{estate}{sailing}{storm}");
    let server = Server::with_estate(&estate);
    // Starting takes nothing from anybody.
    server.ok(&["start", "*", "--yes"]);
    let told = server.exits(1, &["restart", "front", "--yes"]);
    assert!(told.contains("sailing is a change freeze until") && told.contains("--in-freeze sailing"), "{told}");
    let told = server.exits(1, &["restart", "front", "--yes", "--in-freeze", "sailing"]);
    assert!(told.contains("needs a reason"), "{told}");
    server.ok(&["restart", "front", "--yes", "--in-freeze", "sailing", "--why", "the till is dead"]);
    assert_eq!(server.get("/runs/2")["in_freeze"], json!(["sailing"]));
    let told = server.exits(1, &["restart", "db", "--yes", "--in-freeze", "sailing", "--in-freeze", "storm", "--why", "hurry"]);
    assert!(told.contains("Not possible") && told.contains("storm is a change freeze"), "{told}");
    // What users do not notice goes on.
    server.ok(&["restart", "queue", "--alone", "--left-standing", "quay/app", "--yes"]);
}

#[test]
fn a_freeze_that_begins_meanwhile_holds_the_next_stop() {
    let estate = quick::estate(&[("front", "impact = \"brief\""), ("app", "stop = { pause_before = \"4s\" }\nimpact = \"brief\"")]);
    let server = Server::with_estate(&estate);
    server.ok(&["start", "*", "--yes"]);
    let run = server.begin(&["stop", "app"]);
    wait_until("the first is down", || (server.state("pier/front") == "down").then_some(()));
    server.put("estate.toml", &format!("{}{}", estate.replace("NET", &server.net), hours_now("freeze", "sailing", 3600, "")));
    server.ok(&["load", &server.path("estate.toml")]);
    let view = server.run_is(run, &["held"]);
    assert!(view["held_because"][0].as_str().unwrap().contains("sailing is a change freeze"), "{}", view["held_because"]);
    assert_eq!(server.state("quay/app"), "proven");
    // The way back is never frozen.
    server.exits(6, &["put-back", "--yes", &run.to_string(), "--watch"]);
    assert_eq!(server.get(&format!("/runs/{run}"))["state"], "put-back");
    assert_eq!(server.state("pier/front"), "proven");
}

#[test]
fn a_run_bound_to_a_window_is_put_back_at_the_last_moment() {
    let (tonight, shut) = (hours_now("window", "tonight", 30, ""), hours_now("window", "shut", -60, ""));
    let estate = format!("{}{tonight}{shut}", quick::estate(&[("app", "stop = { pause_before = \"60s\" }")]));
    let server = Server::with_estate(&estate);
    server.ok(&["start", "*", "--yes"]);
    let told = server.exits(1, &["stop", "app", "--yes", "--window", "shut"]);
    assert!(told.contains("is not open now") && told.contains("never again"), "{told}");
    let run = server.begin(&["stop", "app", "--window", "tonight", "--at-last-moment", "put-back"]);
    wait_until("something was done", || (server.state("pier/front") == "down").then_some(()));
    let forecast = server.get(&format!("/runs/{run}/forecast"));
    assert_eq!(forecast["window"]["title"], "tonight");
    assert!(forecast["last_moment"].is_string() && forecast["way_back_ms"].as_u64().unwrap() > 0, "{forecast}");
    let view = server.run_is(run, &["put-back", "held"]);
    assert_eq!(view["state"], "put-back", "{}", view["held_because"]);
    assert_eq!(server.state("pier/front"), "proven");
    let report = server.ok(&["report", &run.to_string()]);
    assert!(report.contains("the way back") && report.contains("**put back**"), "{report}");
}

#[test]
fn a_report_is_one_thing_in_four_forms_and_runs_stand_beside_each_other() {
    let server = quick_nights(NIGHT);
    server.ok(&["carry-out", "night", "--yes"]);
    server.put("trouble/second", "");
    server.exits(6, &["carry-out", "night", "--yes", "--why", "the second try"]);
    server.ok(&["note", "3", "second is to be looked at"]);
    let markdown = server.ok(&["report", "3"]);
    for wanted in ["# Run 3: A quick night", "**put back**", "why: the second try", "| **the way back** |", "second is to be looked at"] {
        assert!(markdown.contains(wanted), "\"{wanted}\" is missing of:\n{markdown}");
    }
    let json: Value = serde_json::from_str(&server.ok(&["report", "3", "--as", "json"])).unwrap();
    let steps = json["steps"].as_array().unwrap().len();
    assert_eq!(server.ok(&["report", "3", "--as", "csv"]).lines().next().unwrap().split(',').next(), Some("run"));
    let junit = server.ok(&["report", "3", "--as", "junit"]);
    assert_eq!(junit.matches("<testcase").count(), steps);
    assert!(junit.contains("<failure") && junit.contains("type=\"passed over\""), "{junit}");
    let told = server.ok(&["compare", "3"]);
    assert!(told.contains("RUN 3") && told.contains("RUN 2") && told.contains("passed over, was done"), "{told}");
    let told: Value = serde_json::from_str(&server.ok(&["compare", "2", "--json"])).unwrap();
    assert_eq!(told["with"], Value::Null, "there was none before");
    assert!(told["forecast_ms"].is_array());
    let (status, _) = (server.post("/runs/3/notes", &json!({ "text": " " })).0, ());
    assert_eq!(status, 422);
}
