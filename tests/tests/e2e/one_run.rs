//! What one run is asked for its own sake: other settings, another order, an end to a hold; and what is recycled,
//! recalled, and looked back on.

use serde_json::{Value, json};
use thirtyfour::prelude::*;
use yantro_e2e::{Server, wait_until};

use crate::{browser::Browser, quick};

fn step<'v>(view: &'v Value, says: &str) -> &'v Value {
    let all = view["steps"].as_array().unwrap();
    all.iter().find(|s| s["says"] == says).unwrap_or_else(|| panic!("no step \"{says}\" in {view}"))
}

#[test]
fn what_something_else_brings_back_is_recycled_and_proven_new() {
    let server = Server::demo();
    wait_until("the keeper's service is up", || (server.state("pier-north/fog-horn") == "proven").then_some(()));
    let process = || {
        let board = server.get("/board");
        let row = board["services"].as_array().unwrap().iter().find(|r| r["address"] == "pier-north/fog-horn").unwrap().clone();
        row["seen"]["pid"].as_u64()
    };
    let before = process();
    let told = server.ok(&["preview", "restart", "fog-horn"]);
    assert!(told.contains("await the return of"), "{told}");
    let run = server.begin(&["restart", "fog-horn"]);
    let view = server.run_is(run, &["finished"]);
    let stop = &step(&view, "stop pier-north/fog-horn")["now"]["acts"][0];
    assert!(stop["rungs"][0]["says"].as_str().unwrap().ends_with("is gone"), "{stop}");
    let back = &step(&view, "await the return of pier-north/fog-horn")["now"];
    assert_eq!((back["end"].as_str(), back["acts"].as_array().map(Vec::len)), (Some("done"), Some(0)), "no act was given: {back}");
    assert!(back["rungs"].as_array().unwrap().iter().any(|r| r["says"].as_str().unwrap().contains("ready for connections")), "{back}");
    wait_until("the board shows the new process", || (process().is_some() && process() != before).then_some(()));
}

#[test]
fn any_setting_can_be_put_over_for_one_run() {
    let server = Server::with_estate(&quick::estate(&[]));
    let told = server.exits(1, &["start", "db", "--yes", "--for-this-run", "quay/db: stedy = \"1s\""]);
    assert!(told.contains("\"stedy\" is no key") && told.contains("did you mean \"steady\"?"), "{told}");
    let told = server.exits(1, &["start", "db", "--yes", "--for-this-run", "quay/db: host = \"pier\""]);
    assert!(told.contains("no run can change that"), "{told}");
    let over = [
        "--for-this-run",
        "quay/db: steady = \"300ms\"",
        "--for-this-run",
        "quay/db: start.must_see = [\"no such line\"]",
        "--for-this-run",
        "quay/db: start.patience = \"1s\"",
    ];
    let mut args = vec!["start", "db", "app"];
    args.extend(over);
    let run = server.begin(&args);
    let view = server.run_is(run, &["held"]);
    assert!(view["held_because"][0].as_str().unwrap().contains("not proven within 1s"), "{}", view["held_because"]);
    let shown = server.ok(&["show", &run.to_string()]);
    assert!(shown.contains("for this run only, quay/db: steady = \"300ms\", start.must_see = [\"no such line\"]"), "{shown}");
    server.ok(&["give-up", "--yes", &run.to_string(), "--why", "tried"]);
    server.run_is(run, &["given-up"]);
    // The next run is by the estate again.
    server.ok(&["restart", "db", "--yes"]);
    assert_eq!(server.get("/estate")["edition"], 1);
}

#[test]
fn a_hold_that_nobody_ends_is_put_back_where_that_was_said() {
    let server = Server::with_estate(&quick::estate(&[]));
    server.ok(&["start", "*", "--yes"]);
    server.trouble("app", Some("forbidden-line"));
    let run = server.begin(&["restart", "db", "--held-at-most", "2s"]);
    let held = server.run_is(run, &["held"]);
    assert!(held["hold_ends"].is_string(), "{}", held["hold_ends"]);
    server.trouble("app", None);
    let view = server.run_is(run, &["put-back", "put-back-in-part"]);
    assert_eq!(view["state"], "put-back");
    let report = server.ok(&["report", &run.to_string()]);
    assert!(report.contains("put back") && report.contains("- quay/db: proven, process "), "{report}");
    for service in ["quay/db", "quay/app", "pier/front"] {
        wait_until("all is as found", || (server.state(service) == "proven").then_some(()));
    }
}

#[test]
fn work_that_changes_nothing_is_ended_when_the_way_is_left() {
    let night = "[procedure.count]\n[[procedure.count.steps]]\nstop = [\"front\"]\n\
                 [[procedure.count.steps]]\ntitle = \"count\"\nwork = [\"/bin/sleep\", \"300\"]\nchanges_nothing = true\npatience = \"10m\"\n\
                 [[procedure.count.steps]]\ntitle = \"wait\"\nalongside = true\nuntil = [{ rung = \"file\", path = \"never\" }]\npatience = \"10m\"\n";
    let server = Server::with_estate(&(quick::estate(&[]) + night));
    server.ok(&["start", "*", "--yes"]);
    let run = server.begin(&["carry-out", "count"]);
    let sleeps = || yantro_e2e::processes_with("/bin/sleep\u{0}300").len() + yantro_e2e::processes_with("sleep\u{0}300").len();
    let pid = wait_until("the work is under way", || {
        let view = server.get(&format!("/runs/{run}"));
        step(&view, "count")["now"]["acts"][0]["begun"]["pid"].as_u64().or_else(|| (sleeps() > 0).then_some(0))
    });
    server.ok(&["put-back", "--yes", &run.to_string(), "--why", "not tonight"]);
    let view = server.run_is(run, &["put-back"]);
    for says in ["count", "wait"] {
        assert_eq!(step(&view, says)["now"]["end"], "passed-over", "{}", step(&view, says)["now"]);
    }
    assert_eq!(step(&view, "count")["now"]["acts"][0]["end"][1]["how"], "signalled");
    assert!(pid == 0 || !std::path::Path::new(&format!("/proc/{pid}")).exists(), "process {pid} is still there");
    wait_until("the front is back", || (server.state("pier/front") == "proven").then_some(()));
}

#[test]
fn users_feel_least_where_that_is_asked_and_the_run_goes_so() {
    let more =
        [("front", "impact = \"outage\"\nstop = { usually = \"100ms\" }"), ("boards", "stop = { usually = \"20s\", patience = \"1m\" }")];
    let server = Server::with_estate(&quick::estate(&more));
    server.ok(&["start", "*", "--yes"]);
    let told = server.ok(&["preview", "restart", "app", "--least-felt"]);
    assert!(told.contains("users are without services") && told.contains("less in all"), "{told}");
    let run = server.begin(&["restart", "app", "--least-felt"]);
    let view = server.run_is(run, &["finished"]);
    let at = |says: &str, when: &str| step(&view, says)["now"][when].as_str().unwrap().to_owned();
    assert!(at("stop pier/boards", "ended_at") <= at("stop pier/front", "began_at"), "what users need goes down last");
}

#[test]
fn logs_come_together_with_the_acts_between_their_lines() {
    let server = Server::with_estate(&quick::estate(&[]));
    server.ok(&["start", "*", "--yes"]);
    server.ok(&["restart", "front", "--yes"]);
    let lines = server.get("/logs?of=pier/front,quay/db&run=2&lines=1");
    let lines = lines.as_array().unwrap();
    let texts: Vec<&str> = lines.iter().map(|l| l["text"].as_str().unwrap()).collect();
    let place = |what: &str| texts.iter().position(|t| t.contains(what)).unwrap_or_else(|| panic!("no \"{what}\" in {texts:#?}"));
    assert!(place("stop · run 2") < place("stopped") && place("stopped") < place("start · run 2"), "{texts:#?}");
    assert!(lines[place("start · run 2")]["act"]["run"] == 2 && texts[place("start · run 2")..].iter().any(|t| t.contains("ready for")));
    // From the first act on, with one line before it.
    let front: Vec<&str> = lines.iter().filter(|l| l["address"] == "pier/front").map(|l| l["text"].as_str().unwrap()).collect();
    assert!(front[0].contains("ready for connections") && front[1].starts_with("stop · run 2"), "{front:#?}");
    let told = server.ok(&["logs", "front", "--run", "2", "--with", "stopped"]);
    assert!(told.contains("── ") && told.lines().count() == 3, "{told}");
}

#[test]
fn a_run_is_laid_beside_all_earlier_ones_of_its_kind() {
    let server = Server::with_estate(&quick::estate(&[]));
    server.ok(&["start", "*", "--yes"]);
    for _ in 0..3 {
        server.ok(&["restart", "boards", "--yes"]);
    }
    let comparison = server.get("/runs/4/comparison");
    let earlier: Vec<u64> = comparison["earlier"].as_array().unwrap().iter().map(|e| e["run"].as_u64().unwrap()).collect();
    assert_eq!((earlier.as_slice(), comparison["with"].as_u64()), (&[3, 2][..], Some(3)));
    let took = &comparison["steps"][0]["earlier"];
    assert_eq!(took["runs"], 2);
    assert!(took["least_ms"].as_u64() <= took["median_ms"].as_u64() && took["median_ms"].as_u64() <= took["most_ms"].as_u64(), "{took}");
    assert!(server.ok(&["compare", "4"]).contains("2 BEFORE"));
}

#[test]
fn a_secret_answered_reaches_work_and_nothing_else() {
    let night = "[procedure.sign]\n[procedure.sign.questions.key]\nkind = \"secret\"\nasks = \"Which key?\"\n\
                 [[procedure.sign.steps]]\ntitle = \"sign\"\nscript = \"printf '%s' \\\"$SIGN_KEY\\\" | wc -c > signed; echo \\\"with $SIGN_KEY\\\"\"\nenv = { SIGN_KEY = \"{key}\" }\nchanges_nothing = true\n";
    let server = Server::with_estate(&(quick::estate(&[]) + night));
    server.put("key", "harbour-light-77");
    let told = server.exits(1, &["carry-out", "sign", "--yes", "--answer", "key=harbour-light-77"]);
    assert!(told.contains("env:NAME") && !told.contains("light-77 is"), "a secret itself is refused: {told}");
    let run = server.begin(&["carry-out", "sign", "--answer", &format!("key=file:{}", server.path("key"))]);
    let view = server.run_is(run, &["finished"]);
    assert_eq!(server.read("signed").trim(), "16", "the secret itself reached the work");
    for shown in [view.to_string(), server.get(&format!("/runs/{run}/events")).to_string(), server.ok(&["report", &run.to_string()])] {
        assert!(!shown.contains("harbour-light-77"), "the secret is shown: {shown}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn settings_and_a_divert_are_chosen_in_the_console() {
    let Some(browser) = Browser::open(1280, 900).await else { return };
    let desk = "[procedure.desk]\ntitle = \"Call the desk\"\n[procedure.desk.questions.failed]\ndefault = \"nothing\"\n[procedure.desk.questions.reason]\ndefault = \"none\"\n\
                [[procedure.desk.steps]]\nannounce = \"{failed} failed\"\n";
    let server = tokio::task::block_in_place(|| {
        let server = Server::with_estate(&(quick::estate(&[]) + desk));
        server.ok(&["start", "*", "--yes"]);
        server
    });
    browser.sign_in(&server).await;
    browser.driver.goto(format!("{}/plan?wish=restart&of=quay%2Fapp", server.base())).await.unwrap();
    browser.see("Stops 3 and starts 3 services").await;
    browser.driver.query(By::Css("summary")).first().await.unwrap().click().await.unwrap();
    browser.driver.query(By::XPath("//option[.='quay/app']")).first().await.unwrap().click().await.unwrap();
    let written = browser.driver.query(By::Css("textarea[aria-label^='Settings of quay/app']")).first().await.unwrap();
    written.send_keys("start.patiense = \"1s\"").await.unwrap();
    browser.see("\"patiense\" is no key").await;
    written.clear().await.unwrap();
    written.send_keys("start.must_see = [\"no such line\"]\nstart.patience = \"1s\"").await.unwrap();
    browser.see("Stops 3 and starts 3 services").await;
    browser.press("Restart…").await;
    browser.press("Restart now").await;
    browser.see("For this run only").await;
    browser.see("start.patience = \"1s\"").await;
    browser.see("Held:").await;
    browser.press("Divert…").await;
    browser.see("has another procedure take over").await;
    browser.press("Divert").await;
    browser.see("desk took over").await;
    let view = tokio::task::block_in_place(|| server.run_is(2, &["finished", "finished-with-exceptions"]));
    assert!(view["steps"].as_array().unwrap().iter().any(|s| s["says"].as_str().unwrap().contains("quay/app failed")), "{view}");
    // Its log, from the act on.
    browser.driver.goto(format!("{}/logs?of=quay/app&run=2", server.base())).await.unwrap();
    browser.see("start · run 2").await;
    browser.driver.query(By::Id("search")).first().await.unwrap().send_keys("ready" + Key::Enter).await.unwrap();
    browser.see("Go on").await;
    browser.see("quay/app").await;
    browser.close().await;
    tokio::task::block_in_place(|| drop(server));
}

#[test]
fn overrides_by_the_api_are_json_and_vetted() {
    let server = Server::with_estate(&quick::estate(&[]));
    let body = |written: &str| json!({ "does": { "services": { "wish": "start", "of": ["db"] } }, "overrides": { "quay/db": { "written": written } } });
    let (status, told) = server.post("/plan", &body("relies_on = [\"nobody\"]"));
    assert_eq!(status, 422, "{told}");
    assert_eq!(told["type"], "urn:yantro:problem:bad-override");
    assert!(told["detail"].as_str().unwrap().contains("quay/db"), "{told}");
    let (status, told) = server.post("/plan", &body("steady = \"1s\""));
    assert_eq!(status, 200, "{told}");
}
