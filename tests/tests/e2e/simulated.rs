//! Hosts and services that are played: for rehearsing, teaching, and scale.

use std::fmt::Write as _;

use serde_json::Value;
use yantro_e2e::{Server, told, wait_until};

/// Two quays, each with a database and what works on it; a start takes a minute, and the play goes sixty times as fast.
fn estate(more: &str) -> String {
    format!(
        r#"
[estate]
name = "Sound, played"
stands_for = "test"
[simulation]
speed = 60
seed = 7
[host.quay-1]
reach = "simulated"
power = {{ by = "nobody" }}
[host.quay-2]
reach = "simulated"
[like.played]
run_by = "simulated"
start = {{ usually = "60s", patience = "20s" }}
stop = {{ usually = "30s", patience = "20s" }}
[service.db]
like = "played"
host = "quay-1"
[service.app]
like = "played"
host = "quay-2"
relies_on = ["db"]
{more}"#
    )
}

fn view_of(server: &Server, args: &[&str]) -> Value {
    let run = server.begin(args);
    server.run_is(run, &["finished", "held", "refused", "finished-with-exceptions"])
}

#[test]
fn what_is_played_is_restarted_and_rebooted_like_what_is_real() {
    let server = Server::with_estate(&estate(""));
    wait_until("all is up to begin with", || {
        (server.state("quay-1/db") == "proven" && server.state("quay-2/app") == "proven").then_some(())
    });
    let view = view_of(&server, &["restart", "db"]);
    assert_eq!(view["state"], "finished", "{}", view["held_because"]);
    let text = view.to_string();
    assert!(text.contains("simulated"), "every act says that it was none: {text}");
    assert_eq!(server.state("quay-2/app"), "proven");
    // A host that is off has nothing up on it.
    let view = view_of(&server, &["shut-down", "quay-1"]);
    assert_eq!(view["state"], "finished", "{}", view["held_because"]);
    assert_eq!((server.state("quay-1/host").as_str(), server.state("quay-1/db").as_str()), ("down", "down"));
    let view = view_of(&server, &["start", "app"]);
    assert_eq!(view["state"], "finished", "power, then the database, then the app: {}", view["held_because"]);
    assert_eq!((server.state("quay-1/host").as_str(), server.state("quay-2/app").as_str()), ("proven", "proven"));
    let view = view_of(&server, &["reboot", "quay-1"]);
    assert_eq!(view["state"], "finished", "{}", view["held_because"]);
    assert!(view.to_string().contains("between two boots"), "{view}");
}

#[test]
fn what_goes_wrong_by_chance_goes_wrong_the_same_way_each_time() {
    let fails = "[service.boards]\nlike = \"played\"\nhost = \"quay-2\"\nsimulated = { fails = 1.0 }\nexpected = \"down\"\n\
                 [service.clings]\nlike = \"played\"\nhost = \"quay-2\"\nsimulated = { clings = 1.0 }\nstop = { patience = \"2s\", force = \"ask\" }\n";
    let server = Server::with_estate(&estate(fails));
    wait_until("it is looked at", || (server.state("quay-2/boards") == "down").then_some(()));
    let view = view_of(&server, &["start", "boards"]);
    assert_eq!(view["state"], "held");
    assert!(view["held_because"].to_string().contains("as chance had it"), "{}", view["held_because"]);
    server.ok(&["give-up", "--yes", "1", "--why", "it was a rehearsal"]);
    let view = view_of(&server, &["stop", "clings"]);
    assert_eq!(view["state"], "held");
    server.ok(&["force", "--yes", "2"]);
    server.run_is(2, &["finished"]);
    assert_eq!(server.state("quay-2/clings"), "down");
}

#[test]
fn a_server_that_begins_anew_finds_what_is_played_as_the_estate_begins_it() {
    let mut server = Server::with_estate(&estate(""));
    wait_until("all is up", || (server.state("quay-2/app") == "proven").then_some(()));
    let run = server.begin(&["stop", "db"]);
    server.run_is(run, &["finished"]);
    server.kill();
    server.start(&[]);
    wait_until("it is up again, as the estate has it", || (server.state("quay-1/db") == "proven").then_some(()));
    // What is real cannot be played, and what is played has nothing to be found.
    server.put("mixed.toml", &estate("").replace("[host.quay-2]\nreach = \"simulated\"", "[host.quay-2]\nreach = \"here\""));
    let faults = told(&server.cli(&["vet", &server.path("mixed.toml")]));
    assert!(faults.contains("is simulated, and quay-2 is not"), "{faults}");
    let refused = told(&server.cli(&["look-through", "quay-1"]));
    assert!(refused.contains("nothing to be found"), "{refused}");
}

/// Hundreds at once: nothing that only waits for its turn in the server is taken for late, and whoever asks how it goes
/// on is told without the run being played for each.
#[test]
fn a_thousand_services_are_restarted_at_once() {
    let server = Server::with_estate(&large(200));
    wait_until("all is seen", || {
        let board = server.get("/board");
        let seen = board["services"].as_array()?.iter().filter(|r| r["seen"]["state"] == "proven").count();
        (seen == 1000).then_some(())
    });
    let run = server.begin(&["restart", "*"]);
    let mut told = std::collections::BTreeSet::new();
    let view = loop {
        let forecast = server.get(&format!("/runs/{run}/forecast?steps=false"));
        assert_eq!((&forecast["now"]["steps"], &forecast["now"]["away"]), (&serde_json::json!([]), &serde_json::json!([])));
        told.insert(forecast["as_of"].to_string());
        let view = server.get(&format!("/runs/{run}?since=1000000"));
        if view["state"] != "running" {
            break view;
        }
    };
    assert_eq!(view["state"], "finished", "{}", view["held_because"]);
    assert_eq!(view["steps_in_all"], serde_json::json!([2000, 2000]));
    assert!(!told.is_empty());
    let whole = server.get(&format!("/runs/{run}/forecast"));
    assert_eq!(whole["begun_by"]["steps"].as_array().unwrap().len(), 2000);
}

/// So many hosts with five services each; on every tenth is the database that those of the nine after it rely on.
pub fn large(hosts: u32) -> String {
    let mut text = String::from(
        "[estate]\nname = \"The whole coast, played\"\nstands_for = \"test\"\n[simulation]\nspeed = 20\n\
         [like.played]\nrun_by = \"simulated\"\nstart = { usually = \"20s\", patience = \"60s\" }\nstop = { usually = \"5s\", patience = \"60s\" }\n",
    );
    for h in 0..hosts {
        let _ = writeln!(text, "[host.quay-{h:04}]\nreach = \"simulated\"");
        let first = h - h % 10;
        let of_first = if first == h { String::new() } else { format!("\"fares-{first:04}\"") };
        let services = [
            ("fares", of_first),
            ("booking", format!("\"fares-{h:04}\"")),
            ("gate", format!("\"booking-{h:04}\"")),
            ("boards", format!("\"booking-{h:04}\"")),
            ("horn", String::new()),
        ];
        for (name, relies_on) in services {
            let _ = writeln!(text, "[service.{name}-{h:04}]\nlike = \"played\"\nhost = \"quay-{h:04}\"\nrelies_on = [{relies_on}]");
        }
    }
    text
}
