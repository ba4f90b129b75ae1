//! Other hosts, over SSH: everything of this machine works there, from that host's own point of view, and goes on over
//! whatever happens to the connection.

use std::{
    collections::BTreeSet,
    time::{Duration, Instant},
};

use rstest::rstest;
use serde_json::Value;
use yantro_e2e::{Server, program, wait_until};
use yantro_lab::{Host, Lab, Spec, until};

/// A host with the stand-in, and what the estate calls it.
pub(crate) fn raise<'l>(lab: &'l Lab, name: &str, number: u8) -> Host<'l> {
    let programs = vec![(program("yantro-stand-in"), "/opt/ferry/stand-in".to_owned())];
    let prepare = "chmod 755 /opt/ferry/stand-in; mkdir -p /var/log/ferry; useradd -m -s /bin/sh purser; \
        mkdir -p /home/purser/.ssh; cp /root/.ssh/authorized_keys /home/purser/.ssh/; chown -R purser: /home/purser/.ssh /var/log/ferry"
        .to_owned();
    lab.host(name, number, &Spec { programs, prepare, ..Spec::default() })
}

/// An estate over these hosts: db on the first, app on the second relies on it.
pub(crate) fn estate(lab: &Lab, hosts: &[&Host], more: &str) -> String {
    let mut text = "[estate]\nname = \"Sound\"\nstands_for = \"test\"\n".to_owned();
    for host in hosts {
        text.push_str(&format!(
            "[host.{}]\nreach = \"ssh\"\naddress = \"{}\"\nssh = {{ account = \"root\", key = \"{}\", known_hosts = \"{}\" }}\n",
            host.name(),
            host.address(),
            lab.file("key").display(),
            lab.file("known_hosts").display()
        ));
    }
    let (first, last) = (hosts[0].name(), hosts[hosts.len() - 1].name());
    text.push_str(&format!(
        r#"
[like.ferry]
run_by = "process"
process = {{ program = "/opt/ferry/stand-in", args = ["--name", "{{service}}", "--listen", "{{address}}:{{port}}", "--ready-after", "300ms", "--log", "/var/log/ferry/{{service}}.log", "--record", "/var/log/ferry/{{service}}.record"] }}
logs = ["/var/log/ferry/{{service}}.log"]
ladder = [{{ rung = "port", port = "{{port}}" }}]
start = {{ must_see = ["ready for connections"], patience = "60s" }}
stop = {{ patience = "30s" }}
[service.db]
like = "ferry"
host = "{first}"
values = {{ port = 5001 }}
[service.app]
like = "ferry"
host = "{last}"
values = {{ port = 5002 }}
relies_on = ["db"]
{more}"#
    ));
    text
}

pub(crate) fn link(server: &Server, host: &str) -> Value {
    let board = server.get("/board");
    board["hosts"].as_array().into_iter().flatten().find(|h| h["name"] == host).map(|h| h["link"].clone()).unwrap_or_default()
}

pub(crate) fn connected(server: &Server, host: &str) {
    wait_until(&format!("{host} is connected: {}", link(server, host)), || (link(server, host)["up"] == true).then_some(()));
}

pub(crate) fn records(host: &Host, service: &str) -> Vec<String> {
    let text = String::from_utf8_lossy(&host.run(&["cat", &format!("/var/log/ferry/{service}.record")]).stdout).into_owned();
    text.lines().filter_map(|l| l.split(' ').next().map(str::to_owned)).collect()
}

#[test]
fn services_on_other_hosts_are_started_proven_and_stopped_in_order() {
    let Some(lab) = Lab::raise() else { return };
    let (pier, quay) = (raise(&lab, "pier", 11), raise(&lab, "quay", 12));
    let mut server = Server::with_estate(&estate(&lab, &[&pier, &quay], ""));
    connected(&server, "pier");
    connected(&server, "quay");
    let there = link(&server, "pier");
    assert_eq!((there["calls_itself"].as_str(), there["account"].as_str()), (Some("pier"), Some("root")), "{there}");

    let told = server.ok(&["start", "app", "--yes"]);
    assert!(told.contains("pier/db") && told.contains("quay/app"), "{told}");
    assert_eq!((server.state("pier/db").as_str(), server.state("quay/app").as_str()), ("proven", "proven"));
    assert_eq!(records(&pier, "db"), ["start", "ready"]);
    assert_eq!(records(&quay, "app"), ["start", "ready"]);
    // What it makes has the rights that it has here, too, and not those of the login that it came by.
    assert_eq!(pier.ok(&["stat", "--format=%a", "/var/log/ferry/db.record"]).trim(), "644");
    // Its evidence is there: the exact command, the process on that host, the line that was wanted.
    let run = server.get("/runs/1");
    let text = run.to_string();
    assert!(text.contains("/opt/ferry/stand-in") && text.contains("ready for connections") && text.contains("listens on 5001"), "{text}");
    assert!(server.ok(&["logs", "db"]).contains("ready for connections"));

    // Another server run goes on with what this one started.
    server.kill();
    server.start(&[]);
    connected(&server, "quay");
    wait_until("both are proven again", || (server.state("pier/db") == "proven" && server.state("quay/app") == "proven").then_some(()));
    server.ok(&["stop", "db", "--yes"]);
    assert_eq!(records(&pier, "db"), ["start", "ready", "stop"]);
    assert_eq!(records(&quay, "app"), ["start", "ready", "stop"]);
    assert_eq!(server.state("pier/db"), "down");
}

/// R26: resolved on its host, and masked there before anything leaves it.
#[test]
fn a_secret_of_another_host_never_leaves_it() {
    const CANARY: &str = "canary-91c4-quay";
    let Some(lab) = Lab::raise() else { return };
    let pier = raise(&lab, "pier", 11);
    let teller = "[service.teller]\nhost = \"pier\"\nrun_by = \"commands\"\nlogs = [\"/var/log/ferry/teller.log\"]\n\
        commands = { start = [\"sh\", \"-c\", \"echo opened with $KEY | tee -a /var/log/ferry/teller.log; touch /tmp/told\"], stop = [\"rm\", \"/tmp/told\"], \
        state = [\"sh\", \"-c\", \"echo $KEY; test -e /tmp/told\"], env = { KEY = \"file:/root/teller.key\" } }\n\
        start = { must_see = [\"opened with\"] }\n";
    pier.ok(&["sh", "-c", &format!("printf {CANARY} > /root/teller.key; touch /var/log/ferry/teller.log")]);
    let mut server = Server::with_estate(&estate(&lab, &[&pier], teller));
    connected(&server, "pier");
    server.ok(&["start", "teller", "--yes"]);
    let told = |server: &Server| {
        let (run, board) = (server.get("/runs/1").to_string(), server.get("/board").to_string());
        [run, board, server.ok(&["logs", "teller", "--plain"]), server.ok(&["show", "1"])].concat()
    };
    let all = told(&server);
    assert!(all.contains("opened with [file:/root/teller.key]"), "{all}");
    assert!(!all.contains(CANARY), "{all}");
    // The outpost is another by then, and knows it again.
    server.kill();
    server.start(&[]);
    connected(&server, "pier");
    assert!(!told(&server).contains(CANARY));
    let store = std::fs::read(server.data().join("yantro.db")).unwrap();
    assert!(!store.windows(CANARY.len()).any(|w| w == CANARY.as_bytes()), "it is in the database");
    let kept = pier.ok(&["sh", "-c", &format!("grep -rl {CANARY} /var/lib/yantro || true")]);
    assert_eq!(kept.trim(), "", "it is in what the outpost keeps");
}

/// Nothing goes down for what may not come up again: what only waits comes first.
#[test]
fn a_restart_waits_for_what_it_needs_before_it_takes_anything_down() {
    let Some(lab) = Lab::raise() else { return };
    let (pier, quay) = (raise(&lab, "pier", 11), raise(&lab, "quay", 12));
    let server = Server::with_estate(&estate(&lab, &[&pier, &quay], ""));
    connected(&server, "pier");
    connected(&server, "quay");
    server.ok(&["start", "app", "--yes"]);
    pier.link_is(false);
    wait_until("the database is out of reach", || (server.state("pier/db") == "out-of-reach").then_some(()));
    let run = server.begin(&["restart", "app"]);
    wait_until("it waits for the database", || {
        let view = server.get(&format!("/runs/{run}"));
        let steps = view["steps"].as_array().unwrap();
        steps.iter().any(|s| s["says"] == "wait for pier/db" && s["now"]["state"] == "proving").then_some(())
    });
    assert_eq!(server.state("quay/app"), "proven", "users are without a page while the link is mended");
    assert_eq!(records(&quay, "app"), ["start", "ready"]);
    pier.link_is(true);
    server.run_is(run, &["finished"]);
    assert_eq!(records(&quay, "app"), ["start", "ready", "stop", "start", "ready"]);
}

#[rstest]
#[case::wrong_host_key("known_hosts", "host key is not the one that is known", "ssh-keygen -f")]
#[case::unknown_host_key("nobody_known", "host key is not known yet", "ssh-keyscan")]
#[case::key_not_accepted("key", "accepts no key of ours for account root", "authorized_keys")]
fn what_keeps_a_host_out_of_reach_is_told_with_its_mend(#[case] wrong: &str, #[case] why: &str, #[case] mend: &str) {
    let Some(lab) = Lab::raise() else { return };
    let pier = raise(&lab, "pier", 11);
    let other = |name: &str| lab.file(name).display().to_string();
    std::process::Command::new("ssh-keygen").args(["-q", "-t", "ed25519", "-N", "", "-f", &other("other")]).status().unwrap();
    let mut text = estate(&lab, &[&pier], "");
    match wrong {
        "known_hosts" => {
            let key = std::fs::read_to_string(lab.file("other.pub")).unwrap();
            std::fs::write(lab.file("known_hosts"), format!("{} {key}", pier.address())).unwrap();
        }
        "nobody_known" => std::fs::write(lab.file("known_hosts"), "").unwrap(),
        _ => text = text.replace(&format!("key = \"{}\"", other("key")), &format!("key = \"{}\"", other("other"))),
    }
    let server = Server::with_estate(&text);
    wait_until("it is told", || link(&server, "pier")["why"].as_str().unwrap_or_default().contains(why).then_some(()));
    assert!(link(&server, "pier")["mend"].as_str().unwrap().contains(mend));
    wait_until("its services are out of reach", || (server.state("pier/db") == "out-of-reach").then_some(()));
    // Nothing is begun there, and the board says why.
    let refused = server.cli(&["start", "db", "--yes"]);
    assert!(!refused.status.success());
    let board = server.ok(&["board"]);
    assert!(board.contains(why), "{board}");
}

#[test]
fn a_link_that_is_cut_and_comes_back_doubles_no_act() {
    let Some(lab) = Lab::raise() else { return };
    let (pier, quay) = (raise(&lab, "pier", 11), raise(&lab, "quay", 12));
    let slow = "[service.slow]\nlike = \"ferry\"\nhost = \"pier\"\nvalues = { port = 5003 }\nstart = { patience = \"90s\" }\n";
    let server = Server::with_estate(&estate(&lab, &[&pier, &quay], slow).replace("300ms", "3s"));
    connected(&server, "pier");
    connected(&server, "quay");
    let run = server.begin(&["start", "app", "slow"]);
    // In the middle of db's start.
    until("db was started", Duration::from_secs(30), || records(&pier, "db").contains(&"start".to_owned()).then_some(()));
    pier.link_is(false);
    wait_until("it is seen to be out of reach", || (link(&server, "pier")["up"] == false).then_some(()));
    wait_until("its services say so, with what they were", || {
        let board = server.get("/board");
        let rows = board["services"].as_array()?;
        rows.iter().find(|r| r["address"] == "pier/slow" && r["seen"]["state"] == "out-of-reach").map(|_| ())
    });
    assert!(server.get(&format!("/runs/{run}"))["state"] == "running");
    pier.link_is(true);
    let view = server.run_is(run, &["finished"]);
    assert_eq!(view["state"], "finished");
    assert_eq!(records(&pier, "db"), ["start", "ready"], "started once");
    assert_eq!(records(&pier, "slow"), ["start", "ready"]);
    assert_eq!(records(&quay, "app"), ["start", "ready"]);
}

/// The outposts on a host, by their processes.
fn outposts(host: &Host) -> BTreeSet<String> {
    let out = host.run(&["pgrep", "-f", "/yantro/outpost-"]);
    String::from_utf8_lossy(&out.stdout).lines().map(str::to_owned).collect()
}

#[test]
fn an_outpost_that_is_killed_comes_again_and_the_run_goes_on() {
    let Some(lab) = Lab::raise() else { return };
    let pier = raise(&lab, "pier", 11);
    // What starts has to stay steady for so long that it is killed several times meanwhile.
    let server = Server::with_estate(&estate(&lab, &[&pier], "").replace("300ms", "4s"));
    connected(&server, "pier");
    let run = server.begin(&["start", "app"]);
    let began = Instant::now();
    // What is out of reach when its turn comes holds, and that is another test.
    until("db was started", Duration::from_secs(30), || records(&pier, "db").contains(&"start".to_owned()).then_some(()));
    let mut killed = 0;
    while server.get(&format!("/runs/{run}"))["state"] != "finished" {
        assert!(began.elapsed() < Duration::from_secs(90), "{}", server.get(&format!("/runs/{run}")));
        if killed < 6 && !outposts(&pier).is_empty() {
            pier.run(&["pkill", "-KILL", "-f", "/yantro/outpost-"]);
            killed += 1;
        }
        std::thread::sleep(Duration::from_millis(300));
    }
    assert!(killed >= 3);
    assert_eq!((records(&pier, "db"), records(&pier, "app")), (vec!["start".into(), "ready".into()], vec!["start".into(), "ready".into()]));
    // With the server, its outposts end; what they started goes on.
    drop(server);
    until("no outpost is left", Duration::from_secs(20), || outposts(&pier).is_empty().then_some(()));
    assert_eq!(records(&pier, "db"), ["start", "ready"]);
}

/// An outpost that is installed there comes before one that is carried over; here one whose clock is an hour ahead.
#[test]
fn a_clock_that_is_an_hour_off_changes_no_proof() {
    let Some(lab) = Lab::raise() else { return };
    let wrapper = "#!/bin/sh\nYANTRO_OUTPOST_CLOCK=3600 exec /opt/ferry/outpost \"$@\"\n";
    let spec = Spec {
        files: vec![("/usr/local/lib/yantro/outpost".to_owned(), 0o755, wrapper.to_owned())],
        programs: vec![
            (program("yantro-stand-in"), "/opt/ferry/stand-in".to_owned()),
            (program("yantro-outpost"), "/opt/ferry/outpost".to_owned()),
        ],
        prepare: "chmod 755 /opt/ferry/*; mkdir -p /var/log/ferry".to_owned(),
        ..Spec::default()
    };
    let pier = lab.host("pier", 11, &spec);
    let server = Server::with_estate(&estate(&lab, &[&pier], ""));
    connected(&server, "pier");
    server.ok(&["start", "app", "--yes"]);
    server.ok(&["restart", "db", "--yes"]);
    assert_eq!((server.state("pier/db").as_str(), server.state("pier/app").as_str()), ("proven", "proven"));
    let board = server.ok(&["board"]);
    assert!(board.contains("the clock of pier is") && board.contains("ahead of ours"), "{board}");
    assert!(!board.contains("restart owed"), "files' times are held against its own clock: {board}");
    assert_eq!(pier.run(&["ls", "/root/.cache/yantro"]).stdout, b"", "nothing was carried there");
}

#[test]
fn a_full_disk_is_told_and_an_act_is_refused_before_anything_begins() {
    let Some(lab) = Lab::raise() else { return };
    let pier = raise(&lab, "pier", 11);
    let paused = estate(&lab, &[&pier], "").replace("patience = \"60s\"", "patience = \"60s\", pause_before = \"4s\"");
    let server = Server::with_estate(&paused);
    connected(&server, "pier");
    // What is written down of acts goes to a file system without room: no run begins, and none goes on.
    let fill = || pier.ok(&["sh", "-c", "for d in /var/lib/yantro/*/acts; do mount -t tmpfs -o size=4k,nr_inodes=1 tmpfs $d; done"]);
    fill();
    let told = yantro_e2e::told(&server.cli(&["start", "db", "--yes"]));
    assert!(told.contains("refused") && told.contains("no room for more files"), "{told}");
    pier.ok(&["sh", "-c", "for d in /var/lib/yantro/*/acts; do umount $d; done"]);
    let run = server.begin(&["start", "db"]);
    wait_until("its preflight is over", || {
        let taken = server.get(&format!("/runs/{run}"))["preflight"].as_array().is_some_and(|p| !p.is_empty());
        taken.then_some(())
    });
    fill();
    let view = server.run_is(run, &["held"]);
    assert!(view["held_because"].to_string().contains("No space left"), "{}", view["held_because"]);
    assert!(records(&pier, "db").is_empty(), "nothing was begun");
    pier.ok(&["sh", "-c", "for d in /var/lib/yantro/*/acts; do umount $d; done"]);
    server.ok(&["again", "--yes", &run.to_string()]);
    server.run_is(run, &["finished"]);
    assert_eq!(records(&pier, "db"), ["start", "ready"]);
}

#[test]
fn a_host_that_is_gone_between_plan_and_act_holds_the_run() {
    let Some(lab) = Lab::raise() else { return };
    let (pier, quay) = (raise(&lab, "pier", 11), raise(&lab, "quay", 12));
    let server = Server::with_estate(&estate(&lab, &[&pier, &quay], "").replace("300ms", "2s"));
    connected(&server, "pier");
    connected(&server, "quay");
    let run = server.begin(&["start", "app"]);
    until("db was started", Duration::from_secs(30), || records(&pier, "db").contains(&"start".to_owned()).then_some(()));
    quay.cut_power();
    let view = server.run_is(run, &["held"]);
    assert!(view["held_because"].to_string().contains("quay"), "{}", view["held_because"]);
    assert_eq!(server.state("pier/db"), "proven", "what is up stays up");
    // On again, it goes on where it was.
    quay.on();
    connected(&server, "quay");
    server.ok(&["again", "--yes", &run.to_string()]);
    server.run_is(run, &["finished"]);
    assert_eq!(records(&quay, "app"), ["start", "ready"]);
}

/// Processes of an account that is not root outlive the connection they were started over, or are not started at all.
#[test]
fn an_account_with_the_least_rights_starts_only_what_outlives_its_sessions() {
    let Some(lab) = Lab::raise() else { return };
    let pier = raise(&lab, "pier", 11);
    let server = Server::with_estate(&estate(&lab, &[&pier], "").replace("account = \"root\"", "account = \"purser\""));
    connected(&server, "pier");
    let told = yantro_e2e::told(&server.cli(&["start", "db", "--yes"]));
    assert!(told.contains("refused") && told.contains("loginctl enable-linger"), "{told}");
    assert!(records(&pier, "db").is_empty());
    pier.ok(&["loginctl", "enable-linger", "purser"]);
    until("the account has a manager of its own", Duration::from_secs(30), || {
        pier.run(&["sh", "-c", "test -S /run/user/$(id -u purser)/bus"]).status.success().then_some(())
    });
    server.ok(&["start", "db", "--yes"]);
    assert_eq!(server.state("pier/db"), "proven");
    // Every session of it ends, and the way to it with them.
    pier.ok(&[
        "sh",
        "-c",
        "for s in $(loginctl list-sessions --no-legend | awk '$3 == \"purser\" { print $1 }'); do loginctl terminate-session $s; done",
    ]);
    wait_until("it was connected anew", || (link(&server, "pier")["up"] == true && server.state("pier/db") == "proven").then_some(()));
    assert_eq!(records(&pier, "db"), ["start", "ready"], "it was started once");
    server.ok(&["stop", "db", "--yes"]);
    assert_eq!(server.state("pier/db"), "down");
}

/// How often the others are looked at while one is cut off: as often as ever.
#[test]
fn looks_at_the_others_keep_their_pace_while_one_host_is_cut_off() {
    let Some(lab) = Lab::raise() else { return };
    let (pier, quay) = (raise(&lab, "pier", 11), raise(&lab, "quay", 12));
    let server = Server::with_estate(&estate(&lab, &[&pier, &quay], ""));
    connected(&server, "pier");
    connected(&server, "quay");
    server.ok(&["start", "app", "--yes"]);
    let as_of = || {
        let board = server.get("/board");
        let row = board["services"].as_array().into_iter().flatten().find(|r| r["address"] == "pier/db").cloned().unwrap_or_default();
        row["seen"]["as_of"].as_str().unwrap_or_default().to_owned()
    };
    // Looks a minute, until something is so. Not the longest time between two: a machine with much else to do has pauses of its own.
    let pace = |until: &dyn Fn(Duration) -> bool| {
        let (mut last, mut looks, began) = (as_of(), 0.0, Instant::now());
        wait_until("some rounds were taken", || {
            let is = as_of();
            if is != last {
                (last, looks) = (is, looks + 1.0);
            }
            until(began.elapsed()).then_some(())
        });
        looks * 60.0 / began.elapsed().as_secs_f64()
    };
    let before = pace(&|passed| passed > Duration::from_secs(12));
    quay.link_is(false);
    // Until it was given up, and for some rounds after that.
    let cut_off = pace(&|passed| passed > Duration::from_secs(20) && server.state("quay/app") == "out-of-reach");
    assert!(
        cut_off > before * 0.6,
        "pier/db was looked at {cut_off:.0} times a minute while quay was cut off, and {before:.0} times before"
    );
    quay.link_is(true);
    connected(&server, "quay");
}

/// Who mends what keeps a host out of reach does not wait for the next attempt.
#[test]
fn a_host_key_that_is_added_is_noticed_at_once_and_a_host_can_be_tried_now() {
    let Some(lab) = Lab::raise() else { return };
    let pier = raise(&lab, "pier", 11);
    let known = std::fs::read_to_string(lab.file("known_hosts")).unwrap();
    let at = lab.file("known hosts of ours");
    std::fs::write(&at, "").unwrap();
    let text = estate(&lab, &[&pier], "").replace(&lab.file("known_hosts").display().to_string(), &at.display().to_string());
    let server = Server::with_estate(&text);
    wait_until("it was tried some times", || (link(&server, "pier")["tries"].as_u64() >= Some(4)).then_some(()));
    let told = server.exits(1, &["reach", "pier"]);
    assert!(told.contains("pier is out of reach: its host key is not known yet"), "{told}");
    let scan = format!("ssh-keyscan {} >> '{}'", pier.address(), at.display());
    assert!(told.contains(&scan), "{told}");
    assert!(server.exits(1, &["reach", "nowhere"]).contains("see the board for the hosts there are"));
    let tries = || link(&server, "pier")["tries"].as_u64().unwrap_or_default();
    // The pauses have grown again.
    let before = tries();
    wait_until("it was tried some more times", || (tries() >= before + 7).then_some(()));
    let began = Instant::now();
    std::fs::write(&at, known).unwrap();
    connected(&server, "pier");
    // The outpost is carried there in that time; the next attempt was due in more than twelve seconds.
    assert!(began.elapsed() < Duration::from_secs(9), "it took {:?}", began.elapsed());
    assert!(server.ok(&["reach", "pier"]).contains("pier is reached as root"));
}

#[test]
fn a_host_that_another_server_acts_on_is_left_alone_over_ssh_too() {
    let Some(lab) = Lab::raise() else { return };
    let pier = raise(&lab, "pier", 11);
    let text = estate(&lab, &[&pier], "");
    let (first, second) = (Server::with_estate(&text), Server::with_estate(&text));
    connected(&first, "pier");
    first.ok(&["start", "db", "--yes"]);
    connected(&second, "pier");
    // The host itself keeps who acts there.
    let refused = second.cli(&["restart", "db", "--yes"]);
    assert!(
        !refused.status.success() && yantro_e2e::told(&refused).contains("another server acts there"),
        "{}",
        yantro_e2e::told(&refused)
    );
    assert_eq!(records(&pier, "db"), ["start", "ready"]);
    second.ok(&["take-over", "--yes", "pier", "--why", "the first is gone for good"]);
    second.ok(&["restart", "db", "--yes"]);
    let refused = first.cli(&["stop", "db", "--yes"]);
    assert!(!refused.status.success(), "{}", yantro_e2e::told(&refused));
    assert_eq!(records(&pier, "db"), ["start", "ready", "stop", "start", "ready"]);
}
