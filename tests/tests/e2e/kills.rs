//! The server is killed at any instant and started again: no event lost, no act doubled.

use std::time::{Duration, Instant};

use yantro_e2e::{Server, wait_until};

use crate::quick;

/// Kills the server once a run has stored so many events, and starts it again.
fn kill_at(server: &mut Server, run: u64, events: u64) {
    let began = Instant::now();
    loop {
        let view = server.get(&format!("/runs/{run}"));
        let ended = view["ended_at"].is_string();
        assert_ne!(view["state"], "held", "{} {}", view["held_because"], server.get(&format!("/runs/{run}/events")));
        assert!(began.elapsed() < Duration::from_secs(120), "no event {events} within two minutes: {view}");
        if ended || view["events"].as_u64().unwrap_or(0) >= events {
            break;
        }
        std::thread::sleep(Duration::from_millis(1));
    }
    server.kill();
    server.start(&[]);
}

/// Restarts the quick estate while killing the server; how many kills were done.
fn killed_restarts(kills: usize) {
    // What is shown is that nothing is lost or doubled, not how fast a busy machine is.
    let patient =
        quick::estate(&[]).replace("patience = \"10s\"", "patience = \"100s\"").replace("patience = \"5s\"", "patience = \"100s\"");
    let mut server = Server::with_estate(&patient);
    server.ok(&["start", "*", "--yes"]);
    let mut done = 0;
    let mut restarts = 0;
    let services = ["db", "app", "front", "boards"];
    while done < kills {
        let run = server.begin(&["restart", "db"]);
        restarts += 1;
        let mut at = 0u64;
        loop {
            at += rand::random_range(1..14);
            kill_at(&mut server, run, at);
            done += 1;
            let view = server.get(&format!("/runs/{run}"));
            if view["ended_at"].is_string() || done >= kills {
                break;
            }
        }
        let view = server.run_is(run, &["finished", "held"]);
        assert_eq!(view["state"], "finished", "{}", view["held_because"]);
        // Every event is there, in order, once.
        let events = server.get(&format!("/runs/{run}/events"));
        let numbers: Vec<u64> = events.as_array().unwrap().iter().map(|e| e["no"].as_u64().unwrap()).collect();
        assert_eq!(numbers, (1..=numbers.len() as u64).collect::<Vec<_>>());
        // Each service was started once and stopped once for this run, by its own record.
        for service in services {
            let records = server.records(service);
            let count = |what: &str| records.iter().filter(|r| *r == what).count();
            assert_eq!((count("start"), count("stop")), (restarts + 1, restarts), "{service} after {restarts} restarts and {done} kills");
        }
        assert_eq!(server.records("queue"), ["start", "ready"]);
    }
}

#[test]
fn killed_at_fifty_instants_it_goes_on_and_doubles_no_act() {
    killed_restarts(50);
}

#[test]
#[ignore = "a command of its own: scripts/kill-thousand"]
fn killed_at_a_thousand_instants_it_goes_on_and_doubles_no_act() {
    killed_restarts(1000);
}

#[test]
fn what_it_started_outlives_it_and_is_known_again() {
    let mut server = Server::with_estate(&quick::estate(&[]));
    server.ok(&["start", "*", "--yes"]);
    let before = server.stand_ins();
    assert!(before.len() >= 5);
    server.kill();
    server.start(&[]);
    wait_until("everything is known again", || (server.state("pier/front") == "proven").then_some(()));
    assert_eq!(server.stand_ins(), before, "nothing was started or ended");
    server.ok(&["stop", "*", "--yes"]);
    assert!(server.stand_ins().is_empty());
}

/// Ends every process of a control group, as a host's service manager does when it restarts a unit.
#[test]
fn the_estate_lives_on_when_the_servers_control_group_is_ended() {
    let own = std::path::Path::new("/sys/fs/cgroup/systemd");
    let root = if own.exists() { own } else { std::path::Path::new("/sys/fs/cgroup") };
    let group = root.join(format!("yantro-test-{}", std::process::id()));
    if std::fs::create_dir(&group).is_err() {
        eprintln!("control groups cannot be made here (it takes root): this test is left out");
        return;
    }
    let inner = group.join("yantro.service");
    std::fs::create_dir(&inner).unwrap();
    // Whoever is started from this thread on is in the group.
    let procs = inner.join("cgroup.procs");
    let mut server = {
        let mut server = Server::with_estate(&quick::estate(&[]));
        server.kill();
        std::fs::write(&procs, std::process::id().to_string()).unwrap();
        server.start(&[]);
        std::fs::write(root.join("cgroup.procs"), std::process::id().to_string()).unwrap();
        server
    };
    server.ok(&["start", "*", "--yes"]);
    let before = server.stand_ins();
    let in_group = std::fs::read_to_string(&procs).unwrap();
    assert!(in_group.lines().any(|p| p == server.pid().to_string()), "the server is in its group");
    // Whatever other tests began in that moment is in it, too, and none of ours to end.
    let parent = |pid: i32| {
        let stat = std::fs::read_to_string(format!("/proc/{pid}/stat")).ok()?;
        stat.rsplit_once(')')?.1.split_whitespace().nth(1)?.parse::<i32>().ok()
    };
    let is_ours = |pid: i32| std::iter::successors(Some(pid), |p| parent(*p).filter(|above| *above > 1)).any(|p| p == server.pid());
    for pid in in_group.lines().filter_map(|p| p.parse::<i32>().ok()) {
        if is_ours(pid) {
            unsafe { libc::kill(pid, libc::SIGKILL) };
        } else {
            let _ = std::fs::write(root.join("cgroup.procs"), pid.to_string());
        }
    }
    server.kill();
    std::thread::sleep(Duration::from_millis(50));
    assert_eq!(server.stand_ins(), before, "the whole group was ended, and the estate lives on");
    server.start(&[]);
    wait_until("everything is known again", || (server.state("pier/front") == "proven").then_some(()));
    server.ok(&["stop", "*", "--yes"]);
    drop(server);
    let _ = std::fs::remove_dir(inner);
    let _ = std::fs::remove_dir(group.join("yantro-acts"));
    let _ = std::fs::remove_dir(group);
}
