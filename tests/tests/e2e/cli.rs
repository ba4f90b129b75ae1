//! The command line: what each command answers, as text and as JSON, and how it ends.

use rstest::rstest;
use serde_json::Value;
use yantro_e2e::{Server, told, wait_until};

use crate::quick;

fn up() -> Server {
    let server = Server::with_estate(&quick::estate(&[]));
    server.ok(&["start", "*", "--yes"]);
    server
}

/// Everything that is shown can be had as JSON, and nothing but JSON is printed then.
#[test]
fn every_answer_can_be_had_as_json() {
    let server = up();
    for args in [
        &["board"][..],
        &["board", "--differs"],
        &["relations", "app"],
        &["preview", "restart", "db"],
        &["runs"],
        &["show", "1"],
        &["trail"],
        &["logs", "db"],
        &["restart", "front", "--yes"],
        &["restart", "front", "--yes", "--unwatched"],
        &["standstill", "on"],
        &["standstill", "off", "--yes"],
        &["vet", &server.path("estate.toml")],
        &["load", &server.path("estate.toml")],
    ] {
        let mut all = args.to_vec();
        all.push("--json");
        let text = server.ok(&all);
        let sound = serde_json::Deserializer::from_str(&text).into_iter::<Value>().all(|v| v.is_ok());
        assert!(sound && !text.trim().is_empty(), "{args:?}:\n{text}");
        if args.contains(&"--unwatched") {
            server.run_is(serde_json::from_str::<Value>(&text).unwrap()["id"].as_u64().unwrap(), &["finished"]);
        }
    }
}

#[rstest]
#[case::wrong_usage(&["restart"], 2, "required")]
#[case::an_unknown_command(&["explode", "db"], 2, "unrecognized")]
#[case::no_such_run(&["show", "99"], 1, "there is no run 99")]
#[case::no_such_service(&["relations", "dbb"], 1, "did you mean")]
#[case::no_such_file(&["vet", "/nowhere/estate.toml"], 1, "cannot be read")]
#[case::not_confirmed(&["stop", "db"], 4, "--yes")]
#[case::nothing_to_decide(&["again", "1"], 1, "no step of run 1 awaits a decision")]
#[case::not_held(&["resume", "1"], 1, "has ended")]
#[case::an_override_that_cannot_be_read(&["restart", "db", "--env", "quay/db"], 1, "write it as")]
#[case::a_patience_that_cannot_be_read(&["restart", "db", "--patience", "quay/db=soon"], 1, "write it as")]
#[case::not_at_all_at_once(&["restart", "db", "--at-once", "0"], 2, "at-once")]
fn commands_end_with_their_codes_and_say_why(#[case] args: &[&str], #[case] code: i32, #[case] says: &str) {
    let server = up();
    let told = server.exits(code, args);
    assert!(told.contains(says), "{told}");
}

#[test]
fn without_a_server_it_is_said_where_one_was_looked_for() {
    let mut server = Server::bare();
    server.kill();
    let told = server.exits(7, &["board"]);
    assert!(told.contains("no server answers") && told.contains("yantro serve"), "{told}");
}

#[rstest]
#[case("bash")]
#[case("zsh")]
#[case("fish")]
fn completions_know_the_commands(#[case] shell: &str) {
    let server = Server::bare();
    let text = server.ok(&["completions", shell]);
    for command in ["restart", "acknowledge", "take-over", "release", "standstill"] {
        assert!(text.contains(command), "{command} is missing of the completions for {shell}");
    }
}

#[test]
fn a_run_is_watched_to_its_end_and_shown_with_what_it_did() {
    let server = up();
    let told = server.ok(&["restart", "app", "--yes", "--why", "a new key"]);
    assert!(told.contains("finished"), "{told}");
    let shown = server.ok(&["show", "2"]);
    assert!(shown.contains("a new key") && shown.contains("stop") && shown.contains("pier/front"), "{shown}");
    let one = server.ok(&["show", "2", "--step", "1"]);
    assert!(one.contains("kill -s TERM "), "one step is shown with its evidence:\n{one}");
    let listed = server.ok(&["runs"]);
    assert!(listed.find("restart quay/app").unwrap() < listed.find("and 4 more").unwrap(), "the newest first:\n{listed}");
    let watched = server.ok(&["watch", "2"]);
    assert!(watched.contains("finished"), "a run that ended is told at once:\n{watched}");
}

/// One override for one run is told with the run, and the next run is without it.
#[test]
fn an_override_holds_for_its_run_alone() {
    let server = up();
    server.ok(&["restart", "front", "--yes", "--env", "pier/front:LANE=3", "--patience", "pier/front=30s"]);
    let shown = server.ok(&["show", "2"]);
    assert!(shown.contains("for this run only, pier/front") && shown.contains("LANE") && shown.contains("30s"), "{shown}");
    let front = server
        .stand_ins()
        .into_iter()
        .find(|pid| String::from_utf8_lossy(&std::fs::read(format!("/proc/{pid}/environ")).unwrap_or_default()).contains("LANE=3"));
    assert!(front.is_some(), "it reached the process");
    server.ok(&["restart", "front", "--yes"]);
    let left = server
        .stand_ins()
        .into_iter()
        .any(|pid| String::from_utf8_lossy(&std::fs::read(format!("/proc/{pid}/environ")).unwrap_or_default()).contains("LANE=3"));
    assert!(!left, "the next run is without it");
}

/// A machine that has no certificates to believe serves and is commanded all the same: only of a page that asks for them is nothing
/// known, and it says why.
#[test]
fn a_machine_that_believes_no_certificates_lacks_only_pages_that_ask_for_them() {
    let nowhere = [("SSL_CERT_FILE", "/nowhere/all.pem"), ("SSL_CERT_DIR", "/nowhere")];
    let mut server = Server::bare();
    server.kill();
    server.start_with(&[], &nowhere);
    server.put(
        "estate.toml",
        "[estate]\nname = \"Brannock Sound, unbelieving\"\nstands_for = \"test\"\n[host.quay]\nreach = \"here\"\naddress = \"127.0.0.1\"\n\
         [like.page]\nhost = \"quay\"\nrun_by = \"process\"\nhands_off = \"only watched\"\n\
         [service.fares]\nlike = \"page\"\nladder = [{ rung = \"web\", url = \"https://127.0.0.1:9/\" }]\n\
         [service.tides]\nlike = \"page\"\nladder = [{ rung = \"web\", url = \"http://127.0.0.1:9/\" }]\n",
    );
    let loaded = server.cli_with(&["load", &server.path("estate.toml")], &nowhere);
    assert!(loaded.status.success(), "{}", told(&loaded));
    let row = |name: &str| {
        wait_until("it was looked at", || {
            let board = server.get("/board");
            let row = board["services"].as_array()?.iter().find(|r| r["address"] == format!("quay/{name}"))?.clone();
            (row["seen"]["state"] == "down" || !row["seen"]["says"].as_str()?.is_empty()).then_some(row)
        })
    };
    let (fares, tides) = (row("fares"), row("tides"));
    assert!(fares["seen"]["says"].as_str().unwrap().contains("certificates that this machine believes cannot be read"), "{fares}");
    assert_eq!((&fares["seen"]["state"], &tides["seen"]["state"]), (&Value::from("unknown"), &Value::from("down")));
}
