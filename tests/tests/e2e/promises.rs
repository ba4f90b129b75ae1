//! What an operator may rely on, whatever comes in between: on real processes, at a terminal, in a pipe, and over restarts.

use std::{
    io::Read,
    process::{Command, Stdio},
    time::{Duration, Instant},
};

use rstest::rstest;
use serde_json::{Value, json};
use yantro_e2e::{Server, processes_with, program, wait_until};

use crate::quick;

fn up(more: &[(&str, &str)]) -> Server {
    let server = Server::with_estate(&quick::estate(more));
    server.ok(&["start", "*", "--yes"]);
    server
}

fn steps(view: &Value) -> &Vec<Value> {
    view["steps"].as_array().unwrap()
}

fn step<'v>(view: &'v Value, says: &str) -> &'v Value {
    steps(view).iter().find(|s| s["says"] == says).unwrap_or_else(|| panic!("no step \"{says}\" in {view}"))
}

// ---- consent ----

/// A server closes a connection that is silent for five seconds: a person reads for longer.
#[test]
fn whoever_reads_a_plan_for_longer_than_a_connection_lasts_begins_it_all_the_same() {
    let server = up(&[]);
    let mut terminal = server.at_terminal(&["restart", "db"]);
    let shown = terminal.shows(" to begin:");
    assert!(shown.contains("Quick ferries") && shown.contains("TEST"), "the estate is named: {shown}");
    let asked_at = Instant::now();
    wait_until("a person has read the plan", || (asked_at.elapsed() > Duration::from_secs(7)).then_some(()));
    terminal.types("restart");
    let (code, shown) = terminal.ends();
    assert_eq!(code, Some(0), "{shown}");
    assert!(!shown.contains("no server answers"), "{shown}");
    assert_eq!(server.get("/runs/2")["state"], "finished");
}

#[test]
fn what_is_asked_for_twice_under_one_identity_is_begun_once() {
    let mut server = up(&[]);
    let request = json!({ "does": { "services": { "wish": "restart", "of": ["front"] } }, "asked_as": "a-1" });
    let (status, first) = server.post("/runs", &request);
    assert_eq!(status, 200, "{first}");
    let (_, again) = server.post("/runs", &request);
    server.run_is(first["id"].as_u64().unwrap(), &["finished"]);
    server.kill();
    server.start(&[]);
    let (status, later) = server.post("/runs", &request);
    assert_eq!((status, &again, &later), (200, &first, &first), "also over a restart of the server");
    assert_eq!(server.records("front"), ["start", "ready", "stop", "start", "ready"]);
    let (status, problem) =
        server.post("/runs", &json!({ "does": { "services": { "wish": "restart", "of": ["front"] } }, "asked_as": "" }));
    assert_eq!(status, 422, "{problem}");
}

#[test]
fn what_would_come_out_otherwise_than_shown_is_refused_with_the_difference() {
    let server = up(&[]);
    let mut request = json!({ "does": { "services": { "wish": "restart", "of": ["db"] } } });
    let (_, plan) = server.post("/plan", &request);
    request["shown"] = plan["digest"].clone();
    // Another takes the boards down meanwhile.
    server.ok(&["stop", "boards", "--yes"]);
    let (status, problem) = server.post("/runs", &request);
    assert_eq!(status, 409, "{problem}");
    let detail = problem["detail"].as_str().unwrap();
    assert!(detail.contains("no longer: stop pier/boards") && detail.contains("no longer: start pier/boards"), "{detail}");
    // A new edition is no less of a difference, though the steps are the same.
    let (_, plan) = server.post("/plan", &request);
    request["shown"] = plan["digest"].clone();
    let text = quick::estate(&[("db", "steady = \"100ms\"")]).replace("NET", &server.net);
    server.put("estate.toml", &text);
    server.ok(&["load", &server.path("estate.toml")]);
    let (status, problem) = server.post("/runs", &request);
    assert!(status == 409 && problem["detail"].as_str().unwrap().contains("edition 2 now, and was edition 1"), "{problem}");
    let (_, plan) = server.post("/plan", &request);
    request["shown"] = plan["digest"].clone();
    assert_eq!(server.post("/runs", &request).0, 200, "what was shown last is begun");
}

#[test]
fn a_plan_that_changes_under_the_question_is_shown_anew_and_asked_about() {
    let server = up(&[]);
    let mut terminal = server.at_terminal(&["restart", "app"]);
    terminal.shows(" to begin:");
    server.ok(&["stop", "boards", "--yes"]);
    terminal.types("restart");
    terminal.shows("Nothing was begun:");
    let shown = terminal.shows("no longer: stop pier/boards");
    assert!(!shown.contains("Run 3"), "{shown}");
    wait_until("it asks once more", || (terminal.shows(" to begin:").matches(" to begin:").count() > 1).then_some(()));
    terminal.types("restart");
    let (code, shown) = terminal.ends();
    assert_eq!(code, Some(0), "{shown}");
    assert_eq!(server.state("pier/boards"), "down", "it was down when it was begun");
}

#[test]
fn a_decision_names_the_hold_and_the_step_that_its_person_saw() {
    let server = up(&[]);
    server.trouble("app", Some("forbidden-line"));
    let run = server.begin(&["restart", "app"]);
    let held = server.run_is(run, &["held"]);
    let (number, hold) = (run.to_string(), held["hold"].to_string());
    let told = server.ok(&["show", &number]);
    let failed = step(&held, "start quay/app")["planned"]["id"].to_string();
    assert!(told.contains(&format!("yantro again {run} {failed} --hold {hold}")), "printed commands carry both: {told}");
    // In a script nobody can be asked what they saw.
    let told = server.exits(4, &["again", &number, &failed]);
    assert!(told.contains("start quay/app") && told.contains("--yes"), "{told}");
    let told = server.exits(1, &["again", &number, &failed, "--hold", "77"]);
    assert!(told.contains("hold"), "{told}");
    assert_eq!(server.get(&format!("/runs/{run}"))["state"], "held");
    server.trouble("app", None);
    server.ok(&["again", &number, &failed, "--hold", &hold]);
    server.run_is(run, &["finished"]);
}

#[rstest]
#[case::put_back(&["put-back"], "start pier/front")]
#[case::give_up(&["give-up", "--why", "not tonight"], "leave out step")]
#[case::release(&["release", "pier/front", "--why", "another takes it"], "start pier/front")]
fn what_disrupts_names_the_estate_shows_what_it_does_and_asks(#[case] args: &[&str], #[case] does: &str) {
    let server = up(&[]);
    server.trouble("app", Some("forbidden-line"));
    let run = server.begin(&["restart", "app"]).to_string();
    server.run_is(run.parse().unwrap(), &["held"]);
    let (verb, rest) = args.split_first().unwrap();
    let all: Vec<&str> = [*verb, &run].iter().chain(rest).copied().collect();
    let told = server.exits(4, &all);
    assert!(told.contains("Quick ferries"), "{told}");
    assert_eq!(server.get(&format!("/runs/{run}"))["state"], "held", "nothing was done");
    let mut terminal = server.at_terminal(&all);
    let word = verb.replace('-', " ");
    let shown = terminal.shows(" to do it:");
    assert!(shown.contains(&word), "{shown}");
    assert!(shown.contains("Quick ferries") && shown.contains("restart quay/app") && shown.contains(does), "{shown}");
    terminal.types("no");
    assert_eq!(terminal.ends().0, Some(4));
    assert_eq!(server.get(&format!("/runs/{run}"))["state"], "held");
    let yes: Vec<&str> = all.iter().copied().chain(["--yes"]).collect();
    server.ok(&yes);
}

#[test]
fn a_put_back_that_does_more_by_the_time_it_is_confirmed_is_shown_again() {
    let server = up(&[]);
    server.trouble("app", Some("forbidden-line"));
    let run = server.begin(&["restart", "db"]);
    let held = server.run_is(run, &["held"]);
    let mut terminal = server.at_terminal(&["put-back", &run.to_string()]);
    let shown = terminal.shows(" to do it:");
    assert!(shown.contains("start pier/front"), "{shown}");
    // A colleague loads a mended estate, while that is read.
    let file = server.path("estate.toml");
    server.put("estate.toml", &server.read("estate.toml").replace("[service.boards]", "[service.boards]\ntitle = \"Boards, mended\""));
    server.ok(&["load", &file]);
    terminal.types("put back");
    let shown = terminal.shows("Nothing was done:");
    assert!(shown.contains("edition 2 now"), "{shown}");
    wait_until("it asks once more", || (terminal.shows(" to do it:").matches(" to do it:").count() > 1).then_some(()));
    assert_eq!(server.get(&format!("/runs/{run}"))["hold"], held["hold"], "nothing was done meanwhile");
    server.trouble("app", None);
    terminal.types("put back");
    assert_eq!(terminal.ends().0, Some(0));
    server.run_is(run, &["put-back"]);
}

#[test]
fn lifting_a_standstill_asks_and_making_one_does_not() {
    let server = up(&[]);
    server.ok(&["standstill", "on"]);
    let told = server.exits(4, &["standstill", "off"]);
    assert!(told.contains("Quick ferries") && told.contains("by maren"), "{told}");
    assert_eq!(server.get("/board")["standstill"], "maren");
    server.ok(&["standstill", "off", "--yes"]);
}

#[test]
fn json_at_a_terminal_shows_what_it_asks_about() {
    let server = up(&[]);
    let mut terminal = server.at_terminal(&["stop", "db", "--json"]);
    let shown = terminal.shows(" to begin:");
    assert!(shown.contains("Quick ferries") && shown.contains("quay/db") && shown.contains("pier/front"), "{shown}");
    terminal.types("no");
    assert_eq!(terminal.ends().0, Some(4));
}

// ---- the end of a watch ----

#[test]
fn a_watch_that_is_left_does_not_say_that_it_went_well() {
    let server = up(&[]);
    server.trouble("app", Some("ready-late 60s"));
    let mut terminal = server.at_terminal(&["restart", "app", "--yes", "--patience", "quay/app=2m"]);
    terminal.shows("Run 2");
    unsafe { libc::kill(terminal.pid(), libc::SIGINT) };
    let (code, shown) = terminal.ends();
    assert_eq!(code, Some(8), "{shown}");
    assert!(shown.contains("Run 2 goes on"), "{shown}");
    assert_eq!(server.get("/runs/2")["state"], "running");
}

#[rstest]
#[case::a_full_disk(true)]
#[case::a_reader_that_is_gone(false)]
fn a_watch_that_cannot_be_written_does_not_say_that_it_went_well(#[case] full: bool) {
    let server = up(&[]);
    let mut command = Command::new(program("yantro"));
    command.env("YANTRO_DATA", server.data()).args(["restart", "db", "--yes"]).stdin(Stdio::null()).stderr(Stdio::piped());
    if full {
        command.stdout(std::fs::File::options().write(true).open("/dev/full").unwrap());
    } else {
        command.stdout(Stdio::piped());
    }
    let mut child = command.spawn().unwrap();
    drop(child.stdout.take());
    let status = wait_until("it ends", || child.try_wait().unwrap());
    let mut said = String::new();
    child.stderr.take().unwrap().read_to_string(&mut said).unwrap();
    assert_eq!(status.code(), Some(8), "{said}");
    assert!(said.contains("cannot be written any more"), "{said}");
    server.run_is(2, &["finished"]);
}

// ---- a run's own promises ----

/// R17: its only failure was a line that did not appear.
#[test]
fn a_start_that_never_showed_its_lines_is_not_proven_and_is_started_anew() {
    let server = Server::with_estate(&quick::estate(&[]));
    let over = ["--for-this-run", "quay/db: start.must_see = [\"no such line\"]", "--for-this-run", "quay/db: start.patience = \"1s\""];
    let run = server.begin(&[&["start", "db"], over.as_slice()].concat());
    server.run_is(run, &["held"]);
    wait_until("the board does not call it proven", || (server.state("quay/db") == "ailing").then_some(()));
    let board = server.get("/board");
    let row = board["services"].as_array().unwrap().iter().find(|r| r["address"] == "quay/db").unwrap().clone();
    assert!(row["seen"]["says"].as_str().unwrap().contains("never showed \"no such line\""), "{row}");
    server.ok(&["again", "--yes", &run.to_string()]);
    let view = server.run_is(run, &["held"]);
    let kinds: Vec<&str> = steps(&view)[0]["now"]["acts"].as_array().unwrap().iter().map(|a| a["kind"].as_str().unwrap()).collect();
    assert_eq!(kinds, ["start", "clear", "start"], "it acted anew, and is not done by a look");
    server.ok(&["vouch", "--yes", &run.to_string(), "--why", "it writes another line by now"]);
    server.run_is(run, &["finished-with-exceptions"]);
    wait_until("vouched for, it is proven", || (server.state("quay/db") == "proven").then_some(()));
}

/// R7: three starts that are ready together, and one at a time allowed.
#[test]
fn one_at_a_time_on_a_host_is_one_at_a_time() {
    let estate = quick::estate(&[])
        + "\n[limits]\nper_host = 1\n[service.spare]\nlike = \"quick\"\nhost = \"quay\"\nvalues = { port = 5006, ready = \"80ms\" }\n";
    let server = Server::with_estate(&estate);
    let run = server.begin(&["start", "db", "queue", "spare"]);
    server.run_is(run, &["finished"]);
    let events = server.get(&format!("/runs/{run}/events"));
    let (mut under_way, mut most) = (std::collections::BTreeSet::new(), 0);
    for event in events.as_array().unwrap() {
        match event["event"].as_str() {
            Some("act-intended") => drop(under_way.insert(event["step"].as_u64())),
            Some("step-ended") => drop(under_way.remove(&event["step"].as_u64())),
            _ => {}
        }
        most = most.max(under_way.len());
    }
    assert_eq!(most, 1);
}

/// Starts a service as Yantro did in its first run, by hand.
fn by_hand(server: &Server, address: &str) -> std::process::Child {
    let child = begun_by_hand(server, address);
    wait_until("what was started by hand is seen", || (server.state(address) == "proven").then_some(()));
    child
}

fn begun_by_hand(server: &Server, address: &str) -> std::process::Child {
    let begun = step(&server.get("/runs/1"), &format!("start {address}"))["now"]["acts"][0]["begun"].clone();
    let command: Vec<&str> = begun["command"].as_array().unwrap().iter().map(|c| c.as_str().unwrap()).collect();
    let mut child = Command::new(command[0]);
    child.args(&command[1..]).current_dir(begun["dir"].as_str().unwrap());
    child.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap()
}

/// Work that must go on beside a service that is down: it is asked about before, looked at after, and not done beside one that came up.
#[test]
fn work_is_not_done_beside_what_came_up_meanwhile() {
    let patch = "[procedure.patch]\n[[procedure.patch.steps]]\nname = \"down\"\nstop = [\"app\"]\n\
                 [[procedure.patch.steps]]\ntitle = \"patch it\"\nscript = \"touch began; until test -e go; do sleep 0.05; done\"\n\
                 while_down = [\"app\"]\nwhile_up = [\"db\"]\n[[procedure.patch.steps]]\nbring_back = [\"down\"]\n\
                 [procedure.hasty]\n[[procedure.hasty.steps]]\nwork = [\"/bin/true\"]\nwhile_down = [\"db\"]\n";
    let server = Server::with_estate(&(quick::estate(&[]) + patch));
    server.ok(&["start", "*", "--yes"]);
    let refused = server.exits(1, &["carry-out", "hasty", "--yes"]);
    assert!(refused.contains("quay/db is proven there, and must be down while this works"), "{refused}");
    let run = server.begin(&["carry-out", "patch"]);
    wait_until("it works", || server.folder().join("began").exists().then_some(()));
    let mut child = by_hand(&server, "quay/app");
    server.put("go", "");
    let view = server.run_is(run, &["held", "finished"]);
    let why = view["held_because"].to_string();
    assert!(why.contains("quay/app was proven meanwhile, and had to be down while it worked"), "{why} {}", view["state"]);
    unsafe { libc::kill(child.id() as i32, libc::SIGKILL) };
    let _ = child.wait();
    server.ok(&["vouch", &run.to_string(), "--yes", "--why", "the file was looked through"]);
    server.run_is(run, &["finished", "finished-with-exceptions"]);
    assert_eq!(server.state("quay/app"), "proven");
}

/// Looked at less often, a row never says that it is newer than it is; an act looks whatever is said, and so does whoever asks.
#[test]
fn what_is_looked_at_less_often_says_how_old_it_is() {
    let lamp = |name: &str, more: &str| {
        let file = format!("{{dir}}/{name}");
        format!(
            "[service.{name}]\nhost = \"h\"\nrun_by = \"commands\"\nladder = [{{ rung = \"file\", path = \"{file}\" }}]\n{more}\
             commands = {{ start = [\"/bin/touch\", \"{file}\"], stop = [\"/bin/rm\", \"{file}\"], state = [\"/usr/bin/test\", \"-e\", \"{file}\"] }}\n"
        )
    };
    let head = "[estate]\nname = \"Lamps\"\nstands_for = \"test\"\n[host.h]\nreach = \"here\"\naddress = \"NET.1\"\n";
    let server = Server::with_estate(&format!("{head}{}{}", lamp("seldom", "look_every = \"10m\"\n"), lamp("often", "")));
    server.ok(&["start", "*", "--yes"]);
    wait_until("all is at rest", || (server.state("h/seldom") == "proven" && server.state("h/often") == "proven").then_some(()));
    for name in ["seldom", "often"] {
        std::fs::remove_file(server.folder().join(name)).unwrap();
    }
    wait_until("the one is seen down", || (server.state("h/often") == "down").then_some(()));
    assert_eq!(server.state("h/seldom"), "proven");
    wait_until("it says that it is older", || {
        let board = server.get("/board");
        let (behind, looked_at) = (board["behind"]["h/seldom"].as_str()?.to_owned(), board["looked_at"].as_str()?.to_owned());
        assert!(behind < looked_at && board["behind"]["h/often"].is_null(), "{behind} {looked_at}");
        Some(())
    });
    let told = server.ok(&["preview", "start", "seldom"]);
    assert!(told.contains("Starts 1"), "a plan looks: {told}");
    assert_eq!(server.state("h/seldom"), "down");
}

/// R33: that it was meant to be down is over once it is up, whoever brought it up: its next end is nobody's intention.
#[test]
fn a_stop_on_purpose_is_told_with_its_reason_until_the_service_is_up_again() {
    let server = up(&[]);
    let purpose = |server: &Server| {
        let board = server.get("/board");
        let rows = board["services"].as_array().unwrap();
        rows.iter().find(|r| r["address"] == "quay/app").unwrap()["intended_down"].as_str().unwrap_or_default().to_owned()
    };
    server.ok(&["stop", "app", "--yes", "--why", "its disk is moved"]);
    assert!(purpose(&server).ends_with("in run 2: its disk is moved"), "{}", purpose(&server));
    assert!(server.ok(&["board"]).contains("in run 2: its disk is moved"));
    let mut child = begun_by_hand(&server, "quay/app");
    // Whoever looks out of turn sees it first: to all else it is news all the same.
    wait_until("a look out of turn finds it", || {
        server.post("/look", &json!({}));
        (server.state("quay/app") == "proven").then_some(())
    });
    wait_until("it is meant to be up", || purpose(&server).is_empty().then_some(()));
    unsafe { libc::kill(child.id() as i32, libc::SIGKILL) };
    let _ = child.wait();
    wait_until("it is seen down", || (server.state("quay/app") == "down").then_some(()));
    assert_eq!(purpose(&server), "", "nobody meant this");
}

/// R8: planned while what relies on it was down, and begun after somebody brought that up.
#[test]
fn a_queued_run_that_things_changed_for_does_what_is_confirmed_anew_and_leaves_nobody_down() {
    let server = up(&[]);
    server.ok(&["stop", "app", "--yes"]);
    let never = ["--for-this-run", "quay/db: start.must_see = [\"no such line\"]", "--for-this-run", "quay/db: start.patience = \"500ms\""];
    let first = server.begin(&[&["restart", "db"], never.as_slice()].concat());
    server.run_is(first, &["held"]);
    let queued = server.begin(&["restart", "db", "app"]);
    server.run_is(queued, &["queued"]);
    let mut child = by_hand(&server, "quay/app");
    server.ok(&["give-up", &first.to_string(), "--yes", "--why", "once more, as it should be"]);
    let held = server.run_is(queued, &["held", "finished"]);
    assert_eq!(held["state"], "held", "it stops what nobody confirmed to stop");
    let because = held["held_because"][0].as_str().unwrap();
    for says in [
        "new: stop quay/app, found proven",
        "quay/app is proven now, and was down",
        "in all it would now stop quay/app, stop quay/db, start quay/db, start quay/app",
    ] {
        assert!(because.contains(says), "{says}: {because}");
    }
    let number = queued.to_string();
    let (status, problem) = server.post(&format!("/runs/{queued}/decisions"), &json!({ "kind": "resume", "hold": held["hold"] }));
    assert_eq!(status, 409, "{problem}");
    let told = server.exits(4, &["resume", &number]);
    assert!(told.contains("Worked out anew") && told.contains("quay/app") && told.contains("Quick ferries"), "{told}");
    server.ok(&["resume", &number, "--yes"]);
    let view = server.run_is(queued, &["finished", "held"]);
    assert_eq!(view["state"], "finished", "{}", view["held_because"]);
    assert_eq!((server.state("quay/db"), server.state("quay/app")), ("proven".into(), "proven".into()), "found up, it is up again");
    let _ = child.wait();
}

/// N54: lines before are vouched for, and the board proves otherwise.
#[test]
fn beginning_at_a_later_line_does_not_patch_a_running_database() {
    let night = "[procedure.night]\n[[procedure.night.steps]]\nstop = [\"db\"]\n\
                 [[procedure.night.steps]]\ntitle = \"patch\"\nwork = [\"/usr/bin/touch\", \"{dir}/patched\"]\n\
                 [[procedure.night.steps]]\nstart = [\"db\"]\n";
    let server = Server::with_estate(&(quick::estate(&[]) + night));
    server.ok(&["start", "*", "--yes"]);
    let told = server.exits(1, &["carry-out", "night", "--from-line", "2", "--why", "line 1 is done", "--yes"]);
    assert!(
        told.contains("vouched for") && told.contains("quay/db is down, and it is proven") && told.contains("--vouched-for quay/db"),
        "{told}"
    );
    let told = server.exits(1, &["rehearse", "night", "--from-line", "2"]);
    assert!(told.contains("vouched for") && told.contains("quay/db is down, and it is proven"), "{told}");
    assert!(!std::path::Path::new(&server.path("patched")).exists());
    let everything =
        ["--vouched-for", "quay/db", "--vouched-for", "quay/app", "--vouched-for", "pier/front", "--vouched-for", "pier/boards"];
    server.exits(6, &[&["carry-out", "night", "--from-line", "2", "--why", "a dry run", "--yes"], everything.as_slice()].concat());
    assert!(std::path::Path::new(&server.path("patched")).exists(), "said in so many words it is done");
}

/// Kills the server, and the recorder with what it had begun of the first step; then starts the server anew.
fn is_lost_with_its_recorder(server: &mut Server, run: u64, command: &str) {
    let pid = wait_until("it is under way", || {
        let view = server.get(&format!("/runs/{run}"));
        steps(&view)[0]["now"]["acts"][0]["begun"]["pid"].as_i64()
    });
    let stat = std::fs::read_to_string(format!("/proc/{pid}/stat")).unwrap();
    let recorder: i32 = stat.rsplit_once(')').unwrap().1.split_whitespace().nth(1).unwrap().parse().unwrap();
    server.kill();
    for pid in [recorder, pid as i32] {
        unsafe { libc::kill(pid, libc::SIGKILL) };
    }
    wait_until("both are gone", || (processes_with(command).is_empty()).then_some(()));
    server.start(&[]);
}

/// R21: the server and the recorder are killed with the work, and nobody knows how far it came.
#[test]
fn work_that_was_lost_with_its_recorder_holds() {
    let night = "[procedure.night]\n[[procedure.night.steps]]\ntitle = \"patch\"\nwork = [\"/bin/sleep\", \"300.25\"]\npatience = \"10m\"\n\
                 [[procedure.night.steps]]\nstart = [\"db\"]\n";
    let mut server = Server::with_estate(&(quick::estate(&[]) + night));
    let run = server.begin(&["carry-out", "night"]);
    is_lost_with_its_recorder(&mut server, run, "sleep\u{0}300.25");
    let view = server.run_is(run, &["held", "finished"]);
    assert_eq!(view["state"], "held", "a database is started on a half-done patch");
    assert_eq!(steps(&view)[0]["now"]["state"], "outcome-unknown", "{}", steps(&view)[0]["now"]);
    wait_until("it was looked at again", || (server.state("quay/db") != "unknown").then_some(()));
    assert_eq!(server.state("quay/db"), "down");
}

/// R21: nobody knows what became of a start whose recorder was killed with it. Its ladder may show it; it is not given a second time by
/// itself, however many attempts it has.
#[test]
fn a_start_that_was_lost_with_its_recorder_is_not_given_again() {
    let till = "[service.till]\nhost = \"quay\"\nrun_by = \"commands\"\nstart = { patience = \"4s\", attempts = 3, gap = \"1s\" }\n\
                ladder = [{ rung = \"file\", path = \"{dir}/till-is-up\" }]\n[service.till.commands]\n\
                start = [\"/bin/sh\", \"-c\", \"echo given >> '{dir}/given'; exec sleep 300.75\"]\nstop = [\"/bin/true\"]\n\
                state = [\"/usr/bin/test\", \"-e\", \"{dir}/till-is-up\"]\nwithin = \"5m\"\n";
    let mut server = Server::with_estate(&(quick::estate(&[]) + till));
    let run = server.begin(&["start", "quay/till"]);
    is_lost_with_its_recorder(&mut server, run, "sleep\u{0}300.75");
    let view = server.run_is(run, &["held", "finished", "finished with exceptions"]);
    assert_eq!(steps(&view)[0]["now"]["state"], "outcome-unknown", "{}", steps(&view)[0]["now"]);
    assert_eq!(std::fs::read_to_string(server.path("given")).unwrap(), "given\n", "it was given again");
}

/// R25: hands-off by a newer edition, while the run is on.
#[test]
fn what_a_newer_edition_forbids_is_not_done_by_resuming() {
    let server = up(&[]);
    server.trouble("app", Some("ready-late 2s"));
    let run = server.begin(&["restart", "db"]);
    wait_until("app is on its way up", || {
        let view = server.get(&format!("/runs/{run}"));
        (step(&view, "start quay/app")["now"]["state"] == "proving").then_some(())
    });
    server.put("estate.toml", &quick::estate(&[("front", "hands_off = \"it is looked at\"")]).replace("NET", &server.net));
    server.ok(&["load", &server.path("estate.toml")]);
    let view = server.run_is(run, &["held"]);
    assert!(view["held_because"][0].as_str().unwrap().contains("hands-off now"), "{view}");
    wait_until("what is in flight has ended", || {
        let view = server.get(&format!("/runs/{run}"));
        (step(&view, "start quay/app")["now"]["state"] == "ended").then_some(())
    });
    server.ok(&["resume", "--yes", &run.to_string()]);
    wait_until("it says so again, and does nothing", || {
        let view = server.get(&format!("/runs/{run}"));
        (view["state"] == "held" && view["hold"].as_u64() > Some(1)).then_some(())
    });
    // Whoever wants the others back lets go of what is somebody else's.
    server.ok(&["release", &run.to_string(), "pier/front", "--yes", "--why", "it is looked at"]);
    server.ok(&["resume", "--yes", &run.to_string()]);
    let view = server.run_is(run, &["finished-with-exceptions"]);
    assert_eq!(server.state("pier/boards"), "proven");
    assert_eq!(
        steps(&view).iter().filter(|s| s["says"] == "start pier/front" && s["now"]["acts"].as_array().unwrap().is_empty()).count(),
        1
    );
    assert_eq!(server.state("pier/front"), "down", "it is somebody else's now");
}

// ---- the server itself ----

#[test]
fn a_server_whose_store_is_damaged_under_it_ends_with_its_reason() {
    let mut server = up(&[]);
    let log = server.path("server.log");
    // Somebody takes a table out: no trying again mends that.
    let store = rusqlite::Connection::open(server.data().join("yantro.db")).unwrap();
    store.execute_batch("ALTER TABLE audit RENAME TO gone").unwrap();
    server.cli(&["restart", "front", "--yes"]);
    let said =
        wait_until("it says why it ends", || Some(std::fs::read_to_string(&log).unwrap_or_default()).filter(|t| t.contains("ends itself")));
    assert!(said.contains("cannot be stored"), "{said}");
    server.kill();
}

// ---- on hosts ----

const ALIKE: &str = "[estate]\nname = \"Lanes\"\nstands_for = \"test\"\n[host.quay]\nreach = \"here\"\n\
    [like.lane]\nhost = \"quay\"\nrun_by = \"process\"\nladder = [{ rung = \"process\" }]\n\
    [service.left]\nlike = \"lane\"\nprocess = { program = \"/bin/sleep\", args = [\"8NET\"], env = { LANE = \"left\" } }\n\
    [service.right]\nlike = \"lane\"\nprocess = { program = \"/bin/sleep\", args = [\"8NET\"], env = { LANE = \"right\" } }\n";

/// The same program with the same arguments: only its environment tells.
#[test]
fn of_two_services_that_look_alike_one_is_never_taken_for_the_other() {
    let mut server = Server::bare();
    server.put("estate.toml", &ALIKE.replace("NET", server.net.trim_start_matches("127.")));
    server.ok(&["load", &server.path("estate.toml")]);
    let line = format!("sleep\u{0}8{}\u{0}", server.net.trim_start_matches("127."));
    let sleeps = || processes_with(&line);
    server.ok(&["start", "left", "--yes"]);
    let left = sleeps();
    assert_eq!((server.state("quay/left"), server.state("quay/right")), ("proven".into(), "down".into()));
    // Its record is gone with an earlier server: it is known again, and not as another.
    server.kill();
    std::fs::remove_dir_all(server.data().join("acts")).unwrap();
    server.start(&[]);
    wait_until("it is known again", || (server.state("quay/left") == "proven").then_some(()));
    assert_eq!(server.state("quay/right"), "down");
    server.ok(&["stop", "right", "--yes"]);
    assert_eq!(sleeps(), left, "to stop the one ended the other");
    server.ok(&["start", "right", "--yes"]);
    assert_eq!(sleeps().len(), 2);
    server.ok(&["stop", "left", "--yes"]);
    wait_until("the right one stays", || (server.state("quay/right") == "proven" && sleeps().len() == 1).then_some(()));
    server.ok(&["stop", "right", "--yes"]);
    assert!(sleeps().is_empty());
}

#[rstest]
#[case::accepted("{ rung = \"connect\", port = 5001, to = \"NET.1\" }")]
#[case::answered("{ rung = \"web\", url = \"http://NET.1:5001/\" }")]
fn what_anothers_process_answers_is_no_proof(#[case] rung: &str) {
    let liar = format!(
        "[service.liar]\nhost = \"quay\"\nrun_by = \"process\"\nprocess = {{ program = \"/bin/sleep\", args = [\"9NET\"] }}\n\
         ladder = [{{ rung = \"process\" }}, {rung}]\nstart = {{ patience = \"2s\" }}\n"
    );
    let server = Server::bare();
    // A length of sleep that no other test has.
    let liar = liar.replace("9NET", &format!("9{}", server.net.trim_start_matches("127.")));
    server.put("estate.toml", &(quick::estate(&[]) + liar.as_str()).replace("NET", &server.net));
    server.ok(&["load", &server.path("estate.toml")]);
    server.ok(&["start", "db", "--yes"]);
    let run = server.begin(&["start", "liar"]);
    let view = server.run_is(run, &["held", "finished"]);
    assert_eq!(view["state"], "held", "it is proven by the database's answer");
    assert!(view["held_because"][0].as_str().unwrap().contains("which is not quay/liar"), "{}", view["held_because"]);
    server.ok(&["give-up", "--yes", &run.to_string(), "--why", "it was to be tried"]);
    server.ok(&["stop", "liar", "--yes"]);
}

/// It returns, and what it left behind goes on writing where it did.
#[test]
fn what_a_start_command_leaves_behind_is_not_ended_by_its_own_next_line() {
    let talker = "[service.talker]\nhost = \"quay\"\nrun_by = \"commands\"\n\
        commands = { start = [\"sh\", \"-c\", \"(while :; do echo line; echo x >> lines; sleep 0.02; done) & echo $! > pid; echo started\"], \
        stop = [\"sh\", \"-c\", \"kill $(cat pid)\"], state = [\"sh\", \"-c\", \"test -e pid && kill -0 $(cat pid) 2>/dev/null || exit 1\"] }\n";
    let server = Server::with_estate(&(quick::estate(&[]) + talker));
    server.ok(&["start", "talker", "--yes"]);
    let lines = || server.read("lines").lines().count();
    let at_its_proof = lines();
    wait_until("it writes on", || (lines() > at_its_proof + 50).then_some(()));
    assert_eq!(server.state("quay/talker"), "proven");
    server.ok(&["stop", "talker", "--yes"]);
    let view = server.get("/runs/1");
    let output = &steps(&view)[0]["now"]["acts"][0]["end"][1]["output"];
    assert!(output.as_str().unwrap().contains("started"), "{output}");
}

const CANARY: &str = "canary-7f3a-tides";

fn folders_with(folder: &std::path::Path, text: &str) -> Vec<String> {
    let mut all = Vec::new();
    for entry in std::fs::read_dir(folder).into_iter().flatten().flatten() {
        let path = entry.path();
        if path.is_dir() {
            all.extend(folders_with(&path, text));
        } else if std::fs::read(&path).is_ok_and(|bytes| bytes.windows(text.len()).any(|w| w == text.as_bytes())) {
            all.push(path.display().to_string());
        }
    }
    all
}

/// R26: in nothing that is kept, told or shown, and not after a restart of the server either.
#[test]
fn a_secret_is_nowhere_but_where_it_was_written() {
    let teller = "[service.teller]\nhost = \"quay\"\nrun_by = \"commands\"\n\
        commands = { start = [\"sh\", \"-c\", \"echo $KEY >&2; echo first $KEY; echo $LONG; touch told\"], stop = [\"rm\", \"told\"], \
        state = [\"sh\", \"-c\", \"echo $KEY; test -e told\"], env = { KEY = \"file:DIR/key\", LONG = \"file:DIR/long\" } }\n\
        [procedure.tell]\nquestions = { key = { asks = \"Which key?\", kind = \"secret\" } }\n\
        steps = [{ script = \"echo $VALUE_KEY; exit 3\" }]\n";
    let mut server = Server::bare();
    server.put("key", CANARY);
    server.put("long", &format!("first line\n{CANARY}-second\nthird line\n"));
    let estate = (quick::estate(&[]) + teller.replace("DIR", &server.folder().display().to_string()).as_str()).replace("NET", &server.net);
    server.put("estate.toml", &estate);
    server.ok(&["load", &server.path("estate.toml")]);
    server.ok(&["start", "teller", "--yes"]);
    let run = server.begin(&["carry-out", "tell", "--answer", &format!("key=file:{}", server.path("key"))]);
    server.run_is(run, &["held"]);
    let all = |server: &Server| {
        let mut told = String::new();
        for path in ["/board", "/runs/1", "/runs/1/events", "/runs/2", "/runs/2/events", "/runs/2/report", "/audit"] {
            told += &server.get(path).to_string();
        }
        for args in
            [vec!["show", "1"], vec!["show", "2"], vec!["report", "2"], vec!["board"], vec!["started-with", "teller"], vec!["trail"]]
        {
            told += &yantro_e2e::told(&server.cli(&args));
        }
        told
    };
    let told = all(&server);
    assert!(!told.contains(CANARY), "told: {}", told.split(CANARY).next().unwrap().chars().rev().take(200).collect::<String>());
    assert!(told.contains("first [file:"), "and what stands for it is there: {told}");
    server.kill();
    server.start(&[]);
    assert!(!all(&server).contains(CANARY), "after a restart it is masked no more");
    assert_eq!(folders_with(&server.data(), CANARY), [""; 0]);
    // Nobody else reads what is kept.
    use std::os::unix::fs::PermissionsExt;
    for kept in ["", "acts", "output", "yantro.db"] {
        let mode = std::fs::metadata(server.data().join(kept)).unwrap().permissions().mode();
        assert_eq!(mode & 0o027, 0, "{kept}: {mode:o}");
    }
    let log = server.read("server.log");
    assert!(!log.contains(CANARY));
}

/// A secret on a mount whose server is gone: whoever reads it waits for ever.
#[test]
fn what_hangs_holds_up_its_own_run_and_no_other() {
    let stuck = "[service.stuck]\nhost = \"quay\"\nrun_by = \"process\"\nprocess = { program = \"/bin/sleep\", args = [\"603.5\"], env = { KEY = \"file:DIR/hangs\" } }\n\
                 ladder = [{ rung = \"process\" }]\n";
    let server = Server::bare();
    let path = server.path("hangs");
    assert!(Command::new("mkfifo").arg(&path).status().unwrap().success());
    let estate = (quick::estate(&[]) + stuck.replace("DIR", &server.folder().display().to_string()).as_str()).replace("NET", &server.net);
    server.put("estate.toml", &estate);
    server.ok(&["load", &server.path("estate.toml")]);
    let run = server.begin(&["start", "stuck"]);
    server.ok(&["start", "db", "--yes"]);
    let view = server.run_is(run, &["held"]);
    assert!(view["held_because"][0].as_str().unwrap().contains("does not answer"), "{}", view["held_because"]);
    server.ok(&["restart", "db", "--yes"]);
    server.ok(&["give-up", "--yes", &run.to_string(), "--why", "its key hangs"]);
}

/// A log that cannot be opened any more, as on a mount whose server is gone: whoever reads it waits for ever.
#[test]
fn a_log_that_hangs_keeps_nobody_else_waiting_and_is_read_on_once_it_answers() {
    let stuck = "[service.stuck]\nhost = \"quay\"\nrun_by = \"process\"\nprocess = { program = \"/bin/sleep\", args = [\"604.OWN\"] }\n\
                 logs = [\"DIR/stuck.log\"]\nstart = { patience = \"3m\", must_see = [\"ready\"] }\nladder = [{ rung = \"process\" }]\n";
    let server = Server::bare();
    server.put("stuck.log", "of an earlier life\n");
    let stuck = stuck.replace("OWN", &server.net.replace('.', ""));
    let estate = (quick::estate(&[]) + stuck.replace("DIR", &server.folder().display().to_string()).as_str()).replace("NET", &server.net);
    server.put("estate.toml", &estate);
    server.ok(&["load", &server.path("estate.toml")]);
    let run = server.begin(&["start", "stuck"]);
    let climbed = || step(&server.get(&format!("/runs/{run}")), "start quay/stuck")["now"]["climbed"].clone();
    wait_until("only its log is waited for", || (climbed() == 1).then_some(()));
    let log = server.path("stuck.log");
    std::fs::remove_file(&log).unwrap();
    assert!(Command::new("mkfifo").arg(&log).status().unwrap().success());
    // More readers than the server has threads to wait with.
    std::thread::scope(|scope| {
        let readers: Vec<_> = (0..6).map(|_| scope.spawn(|| yantro_e2e::told(&server.cli(&["logs", "stuck"])))).collect();
        server.ok(&["restart", "db", "--yes"]);
        for reader in readers {
            let told = reader.join().unwrap();
            assert!(told.contains("stuck.log") && told.contains("does not answer"), "{told}");
        }
    });
    assert_eq!(server.get(&format!("/runs/{run}"))["state"], "running", "that a log cannot be read is no verdict");
    std::fs::rename(&log, server.path("was")).unwrap();
    server.put("stuck.log", "ready\n");
    // Whoever waits there is answered by its other end.
    drop(std::fs::File::options().write(true).open(server.path("was")).unwrap());
    server.run_is(run, &["finished"]);
    server.ok(&["stop", "stuck", "--yes"]);
}

/// Its host's boot started it, and for its first while it answers that it is still starting.
#[test]
fn what_is_still_starting_is_awaited_whoever_started_it() {
    let web = "ladder = [{ rung = \"port\", port = \"{port}\" }, { rung = \"web\", url = \"http://{address}:{port}/\", not_yet = \"still starting\" }]";
    let server = Server::with_estate(&quick::estate(&[("db", web)]));
    server.ok(&["start", "db", "--yes"]);
    server.ok(&["stop", "db", "--yes"]);
    server.trouble("db", Some("ready-late 3s"));
    let begun = step(&server.get("/runs/1"), "start quay/db")["now"]["acts"][0]["begun"].clone();
    let command: Vec<&str> = begun["command"].as_array().unwrap().iter().map(|c| c.as_str().unwrap()).collect();
    let mut child = Command::new(command[0]);
    let child = child.args(&command[1..]).current_dir(begun["dir"].as_str().unwrap()).stdout(Stdio::null()).stderr(Stdio::null());
    let mut child = child.spawn().unwrap();
    let state = wait_until("it is seen to run", || Some(server.state("quay/db")).filter(|s| s != "down"));
    assert_eq!(state, "rising");
    // Needed by another, it is waited for and not started over.
    server.ok(&["start", "app", "--yes"]);
    let view = server.get("/runs/3");
    assert_eq!(view["state"], "finished");
    assert!(step(&view, "start quay/db")["now"]["acts"].as_array().unwrap().is_empty(), "it was started over");
    server.ok(&["stop", "db", "--yes"]);
    let _ = child.wait();
}

/// R32: what takes over is asked what every begin is asked.
#[test]
fn a_divert_is_refused_by_the_change_freeze_that_would_refuse_its_begin() {
    let night = "[freeze.sailing]\ntitle = \"Boats are sailing\"\nfrom = \"2020-01-01T00:00\"\nrule = \"FREQ=DAILY\"\nlength = \"24h\"\nimpact = \"outage\"\nbegin = \"refused\"\n\
                 [procedure.rescue]\nsteps = [{ stop = [\"front\"] }]\n\
                 [procedure.night]\nif_it_fails = { divert = \"rescue\" }\nsteps = [{ work = [\"/bin/false\"], title = \"patch\", changes_nothing = true }]\n";
    let outage = [("front", "impact = { level = \"outage\", says = \"No page.\" }")];
    let server = Server::with_estate(&(quick::estate(&outage) + night));
    server.ok(&["start", "*", "--yes"]);
    let run = server.begin(&["carry-out", "night"]);
    let view = server.run_is(run, &["held", "finished", "finished-with-exceptions"]);
    assert_eq!(view["state"], "held");
    assert!(view["held_because"][0].as_str().unwrap().contains("Boats are sailing"), "{}", view["held_because"]);
    assert_eq!(server.state("pier/front"), "proven");
}

/// A server that takes a call and says nothing: what it did with it is not known.
#[test]
fn a_call_that_may_have_been_carried_out_is_not_called_unanswered_for_want_of_a_server() {
    let mut server = up(&[]);
    server.kill();
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let address = server.data().join("address");
    let of_the_dead = std::fs::read_to_string(&address).unwrap();
    let stat = std::fs::read_to_string("/proc/self/stat").unwrap();
    let started = stat.rsplit_once(')').unwrap().1.split_whitespace().nth(19).unwrap();
    let boot = std::fs::read_to_string("/proc/sys/kernel/random/boot_id").unwrap();
    let own = format!("{} {started} {boot}", std::process::id());
    let write = |server: &str| std::fs::write(&address, format!("http://{}\n{server}", listener.local_addr().unwrap())).unwrap();
    // Whoever has its address after it is sent nothing, the token least of all.
    listener.set_nonblocking(true).unwrap();
    write(of_the_dead.lines().nth(1).unwrap());
    for (args, code) in [(["standstill", "on"], 7), (["board", "--json"], 7)] {
        let told = server.exits(code, &args);
        assert!(told.contains("has ended") && told.contains("yantro serve"), "{told}");
        assert!(listener.accept().is_err(), "it is connected to");
    }
    listener.set_nonblocking(false).unwrap();
    write(&own);
    std::thread::spawn(move || {
        for stream in listener.incoming().flatten() {
            // It reads what is asked, and is gone.
            let _ = (&stream).read(&mut [0; 4096]);
        }
    });
    let told = server.exits(9, &["standstill", "on"]);
    assert!(told.contains("it may have been carried out") && told.contains("yantro board"), "{told}");
    let told = server.exits(7, &["board"]);
    assert!(told.contains("no server answers"), "to look changes nothing: {told}");
}

/// What others wrote acts on no terminal: no line overwrites another, hides, or passes for one of ours.
#[test]
fn what_others_wrote_is_seen_at_a_terminal_and_never_acts_there() {
    let server = Server::with_estate(&quick::estate(&[]));
    let run = server.begin(&["start", "db"]);
    server.run_is(run, &["finished"]);
    server.ok(&["note", &run.to_string(), "all well\u{1b}[1A\r✓ proven \u{202e}"]);
    let mut log = server.read("logs/db.log");
    log += "✗ lost\rok \u{1b}[2K\u{9b}1A gone\n";
    server.put("logs/db.log", &log);
    for (args, shows) in
        [(&["show", &run.to_string()][..], "all well␛[1A␍✓ proven <202e>"), (&["logs", "db", "--plain"][..], "✗ lost␍ok ␛[2K")]
    {
        let mut terminal = server.at_terminal(args);
        let shown = terminal.shows(shows);
        assert!(!shown.contains('\u{202e}') && !shown.contains('\u{9b}') && !shown.contains("\u{1b}[1A"), "{shown:?}");
        // In a pipe likewise.
        assert!(server.ok(args).contains(shows), "{}", server.ok(args));
    }
    let json = server.ok(&["show", &run.to_string(), "--json"]);
    let view: serde_json::Value = serde_json::from_str(&json).unwrap();
    assert!(view["notes"].to_string().contains("all well\\u001b[1A\\r✓ proven"), "to the letter: {}", view["notes"]);
    assert!(!json.contains('\u{202e}') && !json.contains('\u{1b}'), "{json:?}");
}

// ---- what cannot be looked at ----

/// Sets how many descriptors a process may have from now on; what it has open stays so. Gives back what it might have before.
fn descriptors_at_most(pid: i32, soft: u64) -> u64 {
    let mut before = libc::rlimit { rlim_cur: 0, rlim_max: 0 };
    // Sound: the kernel writes into memory that outlives the call.
    assert_eq!(unsafe { libc::prlimit(pid, libc::RLIMIT_NOFILE, std::ptr::null(), &raw mut before) }, 0);
    let now = libc::rlimit { rlim_cur: soft, rlim_max: before.rlim_max };
    // Sound: the kernel only reads it.
    assert_eq!(unsafe { libc::prlimit(pid, libc::RLIMIT_NOFILE, &raw const now, std::ptr::null_mut()) }, 0);
    before.rlim_cur
}

/// The server holds open what thousands of hosts take; what it starts gets what the server was given.
#[test]
fn what_is_started_has_no_more_descriptors_than_the_server_was_given() {
    let mut server = Server::bare();
    server.put(
        "estate.toml",
        "[estate]\nname = \"Quick ferries\"\nstands_for = \"test\"\n[host.quay]\nreach = \"here\"\n[service.well]\nhost = \"quay\"\n\
         run_by = \"commands\"\nladder = [{ rung = \"file\", path = \"{dir}/started\" }]\n[service.well.commands]\n\
         start = [\"/bin/sh\", \"-c\", \"ulimit -Sn > {dir}/started\"]\nstop = [\"/bin/rm\", \"-f\", \"{dir}/started\"]\n\
         state = [\"/bin/sh\", \"-c\", \"ulimit -Sn > {dir}/looked; test -e {dir}/started\"]\n",
    );
    server.kill();
    server.start_with_descriptors(700);
    server.ok(&["load", &server.path("estate.toml")]);
    server.ok(&["start", "*", "--yes"]);
    assert_eq!(server.read("started").trim(), "700");
    wait_until("a look had as many", || (server.read("looked").trim() == "700").then_some(()));
    assert!(descriptors_at_most(server.pid(), 700) > 700, "the server itself took more");
}

/// R14: whoever has no descriptor left cannot read who runs, and has not seen that nobody does.
#[test]
fn a_server_without_descriptors_takes_nothing_for_gone() {
    let server = Server::with_estate(
        "[estate]\nname = \"Quick ferries\"\nstands_for = \"test\"\n[host.quay]\nreach = \"here\"\n[like.held]\nhost = \"quay\"\nrun_by = \"process\"\n\
         values = { waits_for = \"{dir}/let-go-of-{service}\" }\nstop = { patience = \"60s\" }\nladder = [{ rung = \"process\" }]\n\
         process = { program = \"/bin/sh\", args = [\"-c\", \"trap '' TERM; n=0; while [ ! -e {waits_for} ] && [ $n -lt 2400 ]; do sleep 0.05; n=$((n+1)); done\"] }\n\
         [service.well]\nlike = \"held\"\n[service.gate]\nlike = \"held\"\nrelies_on = [\"well\"]\n",
    );
    server.ok(&["start", "*", "--yes"]);
    let run = server.begin(&["stop", "*"]);
    let stop_of = |name: &str| step(&server.get(&format!("/runs/{run}")), &format!("stop quay/{name}"))["now"].clone();
    let asked = |now: &Value| now["acts"].as_array().is_some_and(|all| all.iter().any(|act| act["end"].is_array()));
    wait_until("it was asked to end", || asked(&stop_of("gate")).then_some(()));
    let before = descriptors_at_most(server.pid(), 0);
    let row = || {
        let board = server.get("/board");
        board["services"].as_array().unwrap().iter().find(|row| row["address"] == "quay/gate").unwrap()["seen"].clone()
    };
    let seen = wait_until("it was looked for", || Some(row()).filter(|seen| !seen["says"].to_string().contains("still there")));
    let (of_gate, of_well) = (stop_of("gate"), stop_of("well"));
    descriptors_at_most(server.pid(), before);
    assert!(seen["says"].to_string().contains("cannot be read"), "{seen}");
    assert_ne!(of_gate["state"], "ended", "it runs, and nobody could see that it does not: {of_gate}");
    assert_eq!(of_well["state"], "waiting", "what it relies on stays: {of_well}");
    server.put("let-go-of-gate", "");
    server.put("let-go-of-well", "");
    server.run_is(run, &["finished"]);
}
