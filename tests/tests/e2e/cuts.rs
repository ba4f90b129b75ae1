//! The link to a host is cut before, during and after each kind of act, at instants drawn as event numbers: no act is
//! doubled, none is lost, and the run goes on when the link is back.

use std::{
    thread::sleep,
    time::{Duration, Instant},
};

use rstest::rstest;
use yantro_e2e::{Server, program, wait_until};
use yantro_lab::{Host, Lab, Spec, until};

use crate::far::{self, connected, link, records};

/// A unit that records its starts, stops and reloads.
const UNIT: &str = "[Service]
ExecStart=/opt/ferry/stand-in --name fares --listen 127.0.0.1:7001 --ready-after 100ms --record /var/log/ferry/fares.record
ExecReload=/bin/sh -c 'echo reload >> /var/log/ferry/fares.record'
TimeoutStopSec=60
";

fn raise<'l>(lab: &'l Lab, name: &str, number: u8) -> Host<'l> {
    let spec = Spec {
        files: vec![("/etc/systemd/system/fares.service".to_owned(), 0o644, UNIT.to_owned())],
        programs: vec![(program("yantro-stand-in"), "/opt/ferry/stand-in".to_owned())],
        prepare: "chmod 755 /opt/ferry /opt/ferry/stand-in; mkdir -p /var/log/ferry".to_owned(),
        ..Spec::default()
    };
    lab.host(name, number, &spec)
}

/// Every kind of act: processes, a unit with its reload, commands, a further act, work and a script.
fn estate(lab: &Lab, pier: &Host, quay: &Host) -> String {
    let noted = |what: &str, file: &str| format!("[\"/bin/sh\", \"-c\", \"sleep 0.1; echo {what} >> /var/log/ferry/{file}.record\"]");
    let more = format!(
        r#"
[service.fares]
host = "pier"
run_by = "systemd"
relies_on = ["db"]
ladder = [{{ rung = "port", port = 7001, on = "127.0.0.1" }}]
start = {{ patience = "60s" }}
stop = {{ patience = "50s" }}
reload = {{ patience = "60s" }}
acts = {{ drain = {{ command = {drain}, changes_nothing = true }} }}
[service.lamp]
host = "quay"
run_by = "commands"
commands = {{ start = ["/bin/sh", "-c", "echo start >> /var/log/ferry/lamp.record; touch /run/lamp"], stop = ["/bin/sh", "-c", "echo stop >> /var/log/ferry/lamp.record; rm -f /run/lamp"], state = ["/usr/bin/test", "-e", "/run/lamp"] }}
start = {{ patience = "60s" }}
stop = {{ patience = "50s" }}
[procedure.round]
title = "A round of every kind of act"
[[procedure.round.steps]]
reload = ["fares"]
[[procedure.round.steps]]
act = "drain"
of = ["fares"]
[[procedure.round.steps]]
stop = ["lamp"]
[[procedure.round.steps]]
title = "Work there"
work = {work}
on = "pier"
patience = "60s"
changes_nothing = true
[[procedure.round.steps]]
restart = ["db"]
[[procedure.round.steps]]
start = ["lamp"]
[[procedure.round.steps]]
title = "A script there"
script = "sleep 0.1; echo script >> /var/log/ferry/script.record"
on = "quay"
patience = "60s"
changes_nothing = true
"#,
        drain = noted("drain", "drain"),
        work = noted("work", "work"),
    );
    far::estate(lab, &[pier, quay], &more)
        .replace("300ms", "100ms")
        .replace("stop = { patience = \"30s\" }", "stop = { patience = \"50s\" }")
}

/// What every round leaves in the records of a host, as often as there were rounds.
fn is_as_often(host: &Host, service: &str, what: &[&str], rounds: usize, cuts: usize) {
    let all = records(host, service);
    for word in what {
        let count = all.iter().filter(|r| r == word).count();
        assert_eq!(count, rounds, "{word} of {service} after {rounds} rounds and {cuts} cuts: {all:?}");
    }
}

/// Goes round while the links are cut; `cuts` in all, each for so long.
fn cut(cuts: usize, length: Duration) {
    let Some(lab) = Lab::raise() else { return };
    let (pier, quay) = (raise(&lab, "pier", 11), raise(&lab, "quay", 12));
    let server = Server::with_estate(&estate(&lab, &pier, &quay));
    connected(&server, "pier");
    connected(&server, "quay");
    server.ok(&["start", "app", "fares", "lamp", "--yes"]);
    let (mut done, mut rounds) = (0, 0);
    while done < cuts {
        let run = server.begin(&["carry-out", "round"]);
        rounds += 1;
        let mut at = 0u64;
        let began = Instant::now();
        loop {
            let view = server.get(&format!("/runs/{run}?since=1"));
            if view["ended_at"].is_string() {
                assert_eq!(view["state"], "finished", "{view}");
                break;
            }
            assert_ne!(view["state"], "held", "after {done} cuts: {}", view["held_because"]);
            assert!(began.elapsed() < Duration::from_secs(180), "{view}");
            if done < cuts && view["events"].as_u64().unwrap_or(0) >= at {
                let host = if rand::random_bool(0.5) { &pier } else { &quay };
                host.link_is(false);
                sleep(length);
                host.link_is(true);
                done += 1;
                at = server.get(&format!("/runs/{run}?since=1"))["events"].as_u64().unwrap_or(0) + rand::random_range(1..9);
            } else {
                sleep(Duration::from_millis(2));
            }
        }
    }
    let often = |host: &Host, service: &str, what: &[&str], more: usize| is_as_often(host, service, what, rounds + more, done);
    for (host, service) in [(&pier, "db"), (&quay, "app"), (&pier, "fares")] {
        // The first start was before all rounds.
        often(host, service, &["start", "ready"], 1);
        often(host, service, &["stop"], 0);
    }
    often(&pier, "fares", &["reload"], 0);
    often(&quay, "lamp", &["start"], 1);
    often(&quay, "lamp", &["stop"], 0);
    for (host, service, what) in [(&pier, "drain", "drain"), (&pier, "work", "work"), (&quay, "script", "script")] {
        often(host, service, &[what], 0);
    }
}

// A hundred in all, side by side: a cut is mostly waiting.
#[rstest]
#[case::first(25)]
#[case::second(25)]
#[case::third(25)]
#[case::fourth(25)]
fn a_link_cut_at_drawn_instants_doubles_no_act_and_loses_none(#[case] cuts: usize) {
    cut(cuts, Duration::from_secs(1));
}

#[test]
#[ignore = "a command of its own: scripts/cut-thousand"]
fn a_link_cut_at_a_thousand_instants_doubles_no_act() {
    let cuts = std::env::var("YANTRO_CUTS").map_or(1000, |n| n.parse().expect("YANTRO_CUTS is a number"));
    cut(cuts, Duration::from_secs(1));
}

#[test]
fn a_link_cut_for_twenty_seconds_in_the_middle_of_acts_is_awaited() {
    let Some(lab) = Lab::raise() else { return };
    let (pier, quay) = (raise(&lab, "pier", 11), raise(&lab, "quay", 12));
    let server = Server::with_estate(&estate(&lab, &pier, &quay).replace("\"100ms\"", "\"3s\""));
    connected(&server, "pier");
    connected(&server, "quay");
    let run = server.begin(&["start", "app"]);
    until("db was started", Duration::from_secs(30), || records(&pier, "db").contains(&"start".to_owned()).then_some(()));
    pier.link_is(false);
    let began = Instant::now();
    wait_until("it is out of reach, and the board says since when", || {
        (link(&server, "pier")["up"] == false && server.state("pier/fares") == "out-of-reach").then_some(())
    });
    sleep(Duration::from_secs(20).saturating_sub(began.elapsed()));
    assert_eq!(server.get(&format!("/runs/{run}"))["state"], "running", "it waits");
    assert_eq!(records(&quay, "app"), Vec::<String>::new(), "nothing begins that relies on what cannot be seen");
    pier.link_is(true);
    let view = server.run_is(run, &["finished", "held"]);
    assert_eq!(view["state"], "finished", "{}", view["held_because"]);
    assert_eq!((records(&pier, "db"), records(&quay, "app")), (vec!["start".into(), "ready".into()], vec!["start".into(), "ready".into()]));
}
