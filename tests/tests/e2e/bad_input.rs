//! Bad input and faults get a clear error, and nothing is lost.

use std::net::TcpListener;

use serde_json::json;
use yantro_e2e::{Server, wait_until};

use crate::quick;

#[test]
fn a_broken_estate_is_told_fault_by_fault_and_the_one_before_stays() {
    let server = Server::with_estate(&quick::estate(&[]));
    let broken = quick::estate(&[("db", "laddr = []"), ("app", "expected = \"upp\"")]).replace("NET", &server.net);
    server.put("broken.toml", &broken);
    let told = server.exits(3, &["load", &server.path("broken.toml")]);
    for wanted in
        ["\"laddr\" is no key", "did you mean \"ladder\"?", "\"upp\" is nothing that expected can be", "Nothing was loaded", "2 errors"]
    {
        assert!(told.contains(wanted), "\"{wanted}\" is missing of:\n{told}");
    }
    assert_eq!(server.get("/board")["edition"], 1);
}

#[test]
fn a_file_of_fifty_megabytes_is_refused_before_it_is_read() {
    let server = Server::bare();
    server.put("huge.toml", &"# nothing\n".repeat(5_000_000));
    let told = server.exits(1, &["load", &server.path("huge.toml")]);
    assert!(told.contains("an estate may have"), "{told}");
    let (status, problem) = server.post("/estate", &json!({ "text": "#".repeat(50_000_000), "folder": "/" }));
    assert_eq!((status, problem["status"].as_u64()), (413, Some(413)));
}

#[test]
fn nobody_is_let_in_without_the_token_or_from_another_page() {
    let server = Server::bare();
    let url = format!("{}/api/v1/board", server.base());
    assert_eq!(server.http().get(&url).send().unwrap().status(), 401);
    assert_eq!(server.http().get(&url).bearer_auth("wrong").send().unwrap().status(), 401);
    assert_eq!(server.http().get(&url).bearer_auth(server.token()).header("host", "yantro.example").send().unwrap().status(), 403);
    // A link is good once; its session may look, and change things only from the console's own page.
    let link = server.ok(&["sign-in"]);
    let client =
        reqwest::blocking::Client::builder().no_proxy().tls_certs_only([]).redirect(reqwest::redirect::Policy::none()).build().unwrap();
    let cookie = client.get(link.trim()).send().unwrap().headers()["set-cookie"].to_str().unwrap().to_owned();
    assert!(cookie.contains("HttpOnly") && cookie.contains("SameSite=Strict"), "{cookie}");
    assert_eq!(client.get(link.trim()).send().unwrap().status(), 403);
    let session = cookie.split(';').next().unwrap();
    assert_eq!(client.get(&url).header("cookie", session).send().unwrap().status(), 200);
    let change = |origin: &str| {
        let url = format!("{}/api/v1/standstill", server.base());
        client
            .post(url)
            .header("cookie", session)
            .header("x-yantro", "console")
            .header("origin", origin.to_owned())
            .json(&json!({ "on": false }))
            .send()
            .unwrap()
            .status()
    };
    assert_eq!((change("http://elsewhere.example").as_u16(), change(&server.base()).as_u16()), (403, 200));
    let mode = std::os::unix::fs::PermissionsExt::mode(&std::fs::metadata(server.data().join("token")).unwrap().permissions());
    assert_eq!(mode & 0o777, 0o600);
    let told = server.exits(1, &["serve", "--listen", "0.0.0.0:8401"]);
    assert!(told.contains("no loopback address"), "{told}");
}

#[test]
fn every_error_is_a_problem_with_a_hint() {
    let server = Server::bare();
    for (path, body, status) in [
        ("/plan", json!({ "does": { "services": { "wish": "start", "of": ["x"] } } }), 409),
        ("/plan", json!({ "does": { "services": { "wish": "explode", "of": ["x"] } } }), 422),
        ("/runs/77/decisions", json!({ "kind": "hold" }), 404),
        ("/nothing", json!({}), 404),
    ] {
        let (got, problem) = server.post(path, &body);
        assert_eq!(got, status, "{path}: {problem}");
        assert!(
            problem["type"].as_str().unwrap().starts_with("urn:yantro:problem:") && !problem["hint"].as_str().unwrap().is_empty(),
            "{problem}"
        );
    }
}

#[test]
fn a_program_that_is_not_there_says_so() {
    let server = Server::with_estate(&quick::estate(&[("db", "process = { program = \"./not-there\" }")]));
    let told = server.exits(6, &["start", "db", "--yes"]);
    assert!(told.contains("refused") && told.contains("there is no program") && told.contains("not-there"), "{told}");
}

#[test]
fn a_restart_takes_nothing_down_whose_program_is_gone() {
    let server = Server::with_estate(&quick::estate(&[("db", "process = { program = \"./db-program\" }")]));
    let link = server.folder().join("db-program");
    std::os::unix::fs::symlink(yantro_e2e::program("yantro-stand-in"), &link).unwrap();
    server.ok(&["start", "db", "--yes"]);
    std::fs::remove_file(link).unwrap();
    let told = server.exits(6, &["restart", "db", "--yes"]);
    assert!(told.contains("there is no program"), "{told}");
    assert_eq!(server.state("quay/db"), "proven", "found out before anything was touched");
}

#[test]
fn a_port_taken_by_a_stranger_names_the_stranger() {
    let server = Server::with_estate(&quick::estate(&[]));
    let stranger = TcpListener::bind(format!("{}.1:5001", server.net)).unwrap();
    let told = server.exits(6, &["start", "db", "--yes"]);
    assert!(told.contains(&format!("process {}", std::process::id())), "{told}");
    assert!(server.records("db").is_empty(), "it was found before the start");
    drop(stranger);
    server.ok(&["start", "db", "--yes"]);
}

#[test]
fn a_log_that_may_not_be_read_proves_nothing() {
    let server = Server::with_estate(&quick::estate(&[("db", "logs = [\"unreadable\"]\nstart = { patience = \"2s\" }")]));
    // A folder in its place: root may read any file.
    std::fs::create_dir(server.folder().join("unreadable")).unwrap();
    let told = server.exits(5, &["start", "db", "--yes"]);
    assert!(told.contains("cannot be read"), "{told}");
}

#[test]
fn a_service_deleted_while_a_run_holds_it_holds_the_run() {
    let server = Server::with_estate(&quick::estate(&[]));
    server.ok(&["start", "*", "--yes"]);
    server.trouble("app", Some("ready-late 3s"));
    let run = server.begin(&["restart", "app"]);
    server.run_is(run, &["running"]);
    let without: String = quick::estate(&[]).replace("NET", &server.net).split("\n[service.front]").next().unwrap().to_owned();
    server.put("less.toml", &without);
    server.ok(&["load", &server.path("less.toml")]);
    let view = server.run_is(run, &["held"]);
    assert!(view["held_because"].to_string().contains("no longer in the estate"), "{view}");
    // To resume is not to act on what is nobody's any more: whoever wants the rest back lets go of it.
    server.ok(&["resume", "--yes", &run.to_string()]);
    for gone in ["pier/front", "pier/boards"] {
        server.run_is(run, &["held"]);
        wait_until("what is in flight has ended", || {
            let refused = server.cli(&["release", &run.to_string(), gone, "--yes", "--why", "it is taken out"]);
            refused.status.success().then_some(())
        });
        server.cli(&["resume", "--yes", &run.to_string()]);
    }
    server.run_is(run, &["finished-with-exceptions"]);
    assert_eq!(server.records("front").last().map(String::as_str), Some("stop"), "it was started, though it is in no estate");
}

#[test]
fn two_servers_do_not_share_a_data_folder() {
    let server = Server::bare();
    let told = server.exits(1, &["serve", "--listen", "127.0.0.1:0"]);
    assert!(told.contains("another server has the data folder"), "{told}");
}

#[test]
fn with_the_disk_full_the_run_holds_and_goes_on_when_there_is_room() {
    let mut server = Server::bare();
    let small = server.folder().join("small");
    std::fs::create_dir(&small).unwrap();
    server.kill();
    let mounted = std::process::Command::new("mount").args(["-t", "tmpfs", "-o", "size=16m", "tmpfs"]).arg(&small).status();
    if !mounted.is_ok_and(|s| s.success()) {
        eprintln!("nothing can be mounted here (it takes root): this test is left out");
        return;
    }
    let data = server.data();
    std::fs::remove_dir_all(&data).unwrap();
    std::os::unix::fs::symlink(&small, &data).unwrap();
    server.start(&[]);
    server.put("estate.toml", &quick::estate(&[("db", "start = { pause_before = \"3s\" }")]).replace("NET", &server.net));
    server.ok(&["load", &server.path("estate.toml")]);
    let run = server.begin(&["start", "db"]);
    // There was room when it was looked at before the first act.
    wait_until("its preflight is over", || {
        let taken = server.get(&format!("/runs/{run}"))["preflight"].as_array().is_some_and(|p| !p.is_empty());
        taken.then_some(())
    });
    // Filled to the last byte.
    let filler = small.join("filler");
    {
        use std::io::Write;
        let mut file = std::fs::File::create(&filler).unwrap();
        while file.write_all(&[0u8; 4096]).is_ok() {}
    }
    wait_until("it says that nothing can be stored", || server.get("/board")["storage_trouble"].is_string().then_some(()));
    std::fs::remove_file(&filler).unwrap();
    server.run_is(run, &["finished"]);
    assert_eq!(server.records("db"), ["start", "ready"]);
    let events = server.get(&format!("/runs/{run}/events"));
    assert!(events.to_string().contains("could not be stored") || events.to_string().contains("storage"), "the hold is on record");
    drop(server);
    let _ = std::process::Command::new("umount").arg(&small).status();
}

/// A page that was left open on a sleeping machine, a proxy that hangs: they hold nobody up.
#[test]
fn clients_that_stop_reading_hold_nobody_up() {
    use std::io::Write;
    let server = Server::with_estate(&quick::estate(&[]));
    let address = server.base().trim_start_matches("http://").to_owned();
    let resident = || -> u64 {
        let text = std::fs::read_to_string(format!("/proc/{}/status", server.pid())).unwrap();
        text.lines().find(|l| l.starts_with("VmRSS")).unwrap().split_whitespace().nth(1).unwrap().parse().unwrap()
    };
    let before = resident();
    let deaf: Vec<std::net::TcpStream> = (0..200)
        .map(|_| {
            let mut stream = std::net::TcpStream::connect(&address).unwrap();
            let token = server.token();
            write!(stream, "GET /api/v1/events HTTP/1.1\r\nhost: {address}\r\nauthorization: Bearer {token}\r\n\r\n").unwrap();
            stream
        })
        .collect();
    for _ in 0..3 {
        server.ok(&["start", "*", "--yes"]);
        server.ok(&["stop", "*", "--yes"]);
    }
    // Whoever does read is told everything, and the server has not grown by what it could not send.
    let told = server.get("/runs/6/events");
    assert_eq!(told.as_array().unwrap().last().unwrap()["event"], "ended");
    let grown = resident().saturating_sub(before);
    assert!(grown < 200 * 64, "{grown} kB more for 200 clients that do not read");
    drop(deaf);
    server.ok(&["board"]);
}
