//! Services that the host's own manager runs, on real hosts: PostgreSQL, Redis, nginx and a program of our own.

use std::time::Duration;

use rstest::rstest;
use serde_json::Value;
use yantro_e2e::{Server, program, wait_until};
use yantro_lab::{Host, Lab, Spec, ferry::Ferry, until};

fn row(server: &Server, address: &str) -> Value {
    let board = server.get("/board");
    board["services"].as_array().into_iter().flatten().find(|r| r["address"] == address).cloned().unwrap_or_default()
}

pub(crate) fn proven(server: &Server, addresses: &[&str]) {
    for address in addresses {
        let began = std::time::Instant::now();
        while server.state(address) != "proven" {
            assert!(began.elapsed() < Duration::from_secs(60), "{address} is not proven: {}", row(server, address));
            std::thread::sleep(Duration::from_millis(50));
        }
    }
}

pub(crate) const ALL: [&str; 4] = ["harbour/bookings-db", "desk/sessions", "desk/booking", "gate/front"];

#[test]
fn a_database_is_restarted_with_all_that_relies_on_it_over_three_hosts() {
    let Some(lab) = Lab::raise() else { return };
    if !std::path::Path::new("/usr/lib/postgresql/15/bin/postgres").exists() || !std::path::Path::new("/usr/sbin/nginx").exists() {
        eprintln!("PostgreSQL 15, Redis and nginx are not installed here: this test is left out");
        return;
    }
    let ferry = Ferry::raise(&lab, &program("yantro-stand-in"));
    let server = Server::with_estate(&ferry.estate(&lab));
    proven(&server, &ALL);
    // Two witnesses: the manager's word beside the ladder's.
    let seen = row(&server, "harbour/bookings-db")["seen"].clone();
    assert_eq!(
        (seen["manager"]["active"].as_str(), seen["manager"]["unit"].as_str()),
        (Some("active"), Some("postgresql@15-main.service")),
        "{seen}"
    );
    let invocation =
        |unit: &str, host: &Host| host.ok(&["systemctl", "show", "--property=InvocationID", "--value", unit]).trim().to_owned();
    let before =
        (invocation("postgresql@15-main", &ferry.harbour), invocation("nginx", &ferry.gate), invocation("redis-server", &ferry.desk));

    let told = server.ok(&["restart", "bookings-db", "--yes"]);
    // The order turned round, edge by edge: down from the front, up from the database.
    let given: Vec<String> = server.get("/runs/1")["steps"]
        .as_array()
        .into_iter()
        .flatten()
        .map(|s| format!("{} {}", s["planned"]["kind"].as_str().unwrap_or_default(), s["planned"]["address"].as_str().unwrap_or_default()))
        .collect();
    let wanted = [
        "stop gate/front",
        "stop desk/booking",
        "stop harbour/bookings-db",
        "start harbour/bookings-db",
        "start desk/booking",
        "start gate/front",
    ];
    assert_eq!(given, wanted, "{told}");
    proven(&server, &ALL);
    let after =
        (invocation("postgresql@15-main", &ferry.harbour), invocation("nginx", &ferry.gate), invocation("redis-server", &ferry.desk));
    assert!(before.0 != after.0 && before.1 != after.1, "both were restarted");
    assert_eq!(before.2, after.2, "Redis was none of it");
    // Evidence: the exact command, the manager's word, the line of the journal that was wanted.
    let run = server.get("/runs/1").to_string();
    for wanted in ["systemctl", "--no-ask-password", "active (running)", "ready for connections", "journal:booking.service"] {
        assert!(run.contains(wanted), "{wanted} is not in {run}");
    }
    // What runs there and is not described yet is found, described and taken in.
    ferry.desk.ok(&["sh", "-c", "printf '[Unit]\\nDescription=Tide tables\\nRequires=redis-server.service\\n[Service]\\nExecStart=/opt/ferry/stand-in --name tides --listen 127.0.0.1:7100\\n' > /etc/systemd/system/tides.service; systemctl daemon-reload; systemctl start tides"]);
    wait_until("it listens", || server.ok(&["look-through", "desk"]).contains("7100").then_some(()));
    let found = server.ok(&["look-through", "desk"]);
    assert!(found.contains("desk/booking") && found.contains("Tide tables") && !found.contains("systemd-journald"), "{found}");
    assert!(server.ok(&["look-through", "desk", "--everything"]).contains("systemd-journald"));
    let toml = server.ok(&["look-through", "desk", "--describe", "tides"]);
    assert!(toml.contains("[service.tides]") && toml.contains("port = 7100") && toml.contains("desk/sessions"), "{toml}");
    server.ok(&["look-through", "desk", "--adopt", "tides", "--why", "found on the desk"]);
    proven(&server, &["desk/tides"]);
    assert!(server.ok(&["editions"]).contains("found on the desk"));
    // The file that it was loaded from does not have it: that is told, not done.
    let refused = server.exits(1, &["load", &server.path("estate.toml")]);
    assert!(refused.contains("desk/tides"), "{refused}");
    let logs = server.ok(&["logs", "booking"]);
    assert!(logs.contains("stopped") && logs.contains("another run of it"), "{logs}");
    // Acts and the journal's own lines tell their times in one zone, that of whoever asks, and say which.
    let logs = yantro_e2e::told(&server.cli_with(&["logs", "booking"], &[("TZ", "Etc/GMT-3")]));
    let stamped = |l: &&str| l.contains(":") && l.contains(" +03:00 ");
    let (acts, lines): (Vec<&str>, Vec<&str>) = logs.lines().filter(|l| !l.trim().is_empty()).partition(|l| l.contains("── 2"));
    assert!(acts.len() >= 2 && acts.iter().all(&stamped), "{acts:?}");
    assert!(lines.len() >= 4 && lines.iter().all(&stamped), "{lines:?}");
    // The stop stands before what the manager wrote of it.
    let at = |what: &str| logs.lines().position(|l| l.contains(what)).unwrap_or_else(|| panic!("no {what} in {logs}"));
    assert!(at("── ") < logs.lines().count() - 1 && at("Stopping") < at("another run of it"), "{logs}");
}

/// A host with a unit of ours on it.
fn raise<'l>(lab: &'l Lab, unit: &str, more: &[(&str, &str)]) -> Host<'l> {
    let mut files = vec![("/etc/systemd/system/fares.service".to_owned(), 0o644, unit.to_owned())];
    files.extend(more.iter().map(|(path, text)| ((*path).to_owned(), 0o644, (*text).to_owned())));
    let programs = vec![(program("yantro-stand-in"), "/opt/ferry/stand-in".to_owned())];
    let prepare = "chmod 755 /opt/ferry /opt/ferry/stand-in".to_owned();
    lab.host("pier", 11, &Spec { files, programs, prepare, ..Spec::default() })
}

fn estate(lab: &Lab, more: &str) -> String {
    format!(
        "[estate]\nname = \"Pier\"\nstands_for = \"test\"\n[host.pier]\nreach = \"ssh\"\naddress = \"{}\"\n\
         ssh = {{ account = \"root\", key = \"{}\", known_hosts = \"{}\" }}\n\
         [service.fares]\nhost = \"pier\"\nrun_by = \"systemd\"\n{more}",
        lab.address(11),
        lab.file("key").display(),
        lab.file("known_hosts").display()
    )
}

const RUN: &str = "ExecStart=/opt/ferry/stand-in --name fares --listen 127.0.0.1:7001 --ready-after 200ms";
const LADDER: &str = "ladder = [{ rung = \"port\", port = 7001, on = \"127.0.0.1\" }]\n";

#[rstest]
#[case::missing_group("Group=nobody-here\nExecStart=/bin/sleep 60", "its group is missing", "make the group")]
#[case::no_interpreter("ExecStart=/opt/ferry/adrift", "its program cannot be run", "install it")]
#[case::no_view("ReadWritePaths=/nowhere\nExecStart=/bin/sleep 60", "its own view of the files cannot be made", "must be there")]
#[case::own_limit("Type=notify\nTimeoutStartSec=1\nExecStart=/bin/sleep 60", "the manager's own time limit came first", "TimeoutStartSec")]
#[case::crash_loop("Restart=always\nRestartSec=100ms\nStartLimitIntervalSec=0\nExecStart=/bin/sh -c 'sleep 0.3; exit 4'", "crash loop", "")]
#[case::ends_at_once("Type=oneshot\nExecStart=/bin/false", "exit code 1", "journal")]
fn a_start_that_fails_shows_the_managers_own_reason(#[case] service: &str, #[case] why: &str, #[case] mend: &str) {
    let Some(lab) = Lab::raise() else { return };
    let pier = raise(&lab, &format!("[Service]\n{service}\n"), &[("/opt/ferry/adrift", "#!/opt/ferry/no-shell\n")]);
    pier.ok(&["chmod", "755", "/opt/ferry/adrift"]);
    let server = Server::with_estate(&estate(&lab, &format!("{LADDER}start = {{ patience = \"20s\" }}\n")));
    wait_until("it was looked at", || (server.state("pier/fares") == "down").then_some(()));
    let run = server.begin(&["start", "fares"]);
    let view = server.run_is(run, &["held"]);
    let because = view["held_because"].to_string();
    assert!(because.contains(why) && because.contains(mend), "{because}");
}

/// A bus that is restarted takes everybody's connection with it: what the manager says is heard again after that.
#[test]
fn the_manager_is_asked_again_after_its_bus_was_restarted() {
    let Some(lab) = Lab::raise() else { return };
    let pier = raise(&lab, &format!("[Service]\n{RUN}\n"), &[]);
    pier.ok(&["systemctl", "start", "fares"]);
    let server = Server::with_estate(&estate(&lab, LADDER));
    proven(&server, &["pier/fares"]);
    pier.ok(&["systemctl", "restart", "dbus"]);
    pier.ok(&["systemctl", "stop", "fares"]);
    wait_until("what it says is heard", || (server.state("pier/fares") == "down").then_some(()));
    // Its signals too: a run is told when the unit is up.
    server.ok(&["start", "fares", "--yes"]);
    proven(&server, &["pier/fares"]);
}

/// What runs as root behind a sudo cannot be ended by the account that asked for it: that is no end, and nothing is begun beside it.
#[test]
fn what_cannot_be_ended_at_its_limit_is_not_called_ended() {
    let Some(lab) = Lab::raise() else { return };
    if !std::path::Path::new("/usr/bin/sudo").exists() {
        eprintln!("sudo is not installed here: this test is left out");
        return;
    }
    let stubborn = "#!/bin/sh\ntrap '' TERM HUP\necho begun >> /opt/ferry/stubborn.record\nsleep 25 &\nwait\nwait\nsleep 25\n";
    let allowed = "purser ALL=(root) NOPASSWD: /opt/ferry/stubborn\n";
    let files = vec![
        ("/opt/ferry/stubborn".to_owned(), 0o755, stubborn.to_owned()),
        ("/etc/sudoers.d/yantro".to_owned(), 0o440, allowed.to_owned()),
    ];
    let prepare = "chmod 755 /opt/ferry; useradd -m -s /bin/sh purser; mkdir -p /home/purser/.ssh; \
        cp /root/.ssh/authorized_keys /home/purser/.ssh/; chown -R purser: /home/purser; mkdir -p /var/lib/systemd/linger; touch /var/lib/systemd/linger/purser"
        .to_owned();
    let pier = lab.host("pier", 11, &Spec { files, prepare, ..Spec::default() });
    let commands = "commands = { start = [\"/opt/ferry/stubborn\"], stop = [\"/bin/true\"], state = [\"/bin/sh\", \"-c\", \"exit 3\"], state_down = [3], user = \"root\", within = \"1s\" }\n";
    let ladder =
        "ladder = [{ rung = \"port\", port = 7001, held_by_any = true }]\nstart = { patience = \"12s\", attempts = 2, gap = \"100ms\" }\n";
    let text = estate(&lab, &format!("{commands}{ladder}"))
        .replace("account = \"root\"", "account = \"purser\", sudo = \"acts\"")
        .replace("run_by = \"systemd\"", "run_by = \"commands\"");
    let server = Server::with_estate(&text);
    until("the account has a manager of its own", Duration::from_secs(30), || {
        pier.run(&["sh", "-c", "test -S /run/user/$(id -u purser)/bus"]).status.success().then_some(())
    });
    wait_until("it was looked at", || (server.state("pier/fares") == "down").then_some(()));
    let run = server.begin(&["start", "fares"]);
    wait_until("its time is over, and nobody can say what became of it", || {
        server.get(&format!("/runs/{run}/events")).to_string().contains("act-unknown").then_some(())
    });
    assert!(pier.run(&["pgrep", "-f", "/opt/ferry/stubborn"]).status.success(), "it goes on");
    assert_eq!(pier.ok(&["cat", "/opt/ferry/stubborn.record"]).lines().count(), 1, "nothing was begun beside it");
}

/// What it could not come up again without is said while it still runs.
#[rstest]
#[case::missing_account("User=nobody-here\nExecStart=/bin/sleep 60", "fares.service runs as nobody-here, and there is no such account")]
#[case::no_program("ExecStart=/opt/ferry/none", "runs /opt/ferry/none, and there is no such program")]
#[case::wrong_folder("WorkingDirectory=/nowhere\nExecStart=/bin/sleep 60", "runs in /nowhere, and there is no such folder")]
fn what_a_unit_lacks_refuses_its_restart_before_it_is_stopped(#[case] broken: &str, #[case] why: &str) {
    let Some(lab) = Lab::raise() else { return };
    let pier = raise(&lab, &format!("[Service]\n{RUN}\n"), &[]);
    pier.ok(&["systemctl", "start", "fares"]);
    let server = Server::with_estate(&estate(&lab, LADDER));
    proven(&server, &["pier/fares"]);
    pier.ok(&["sh", "-c", &format!("printf '[Service]\n{broken}\n' > /etc/systemd/system/fares.service; systemctl daemon-reload")]);
    let shown = server.ok(&["preview", "restart", "fares"]);
    assert!(shown.contains(why) && shown.contains("refused before its first act, as things stand: pier/fares can be started"), "{shown}");
    let told = yantro_e2e::told(&server.cli(&["restart", "fares", "--yes"]));
    assert!(told.contains("refused") && told.contains(why), "{told}");
    assert_eq!(pier.ok(&["systemctl", "is-active", "fares"]).trim(), "active", "it was never stopped");
}

#[test]
fn what_the_manager_would_move_along_refuses_the_plan_until_it_is_named() {
    let Some(lab) = Lab::raise() else { return };
    let beside = "[Unit]\nBindsTo=fares.service\nAfter=fares.service\n[Service]\nExecStart=/bin/sleep 600\n";
    let unit = format!("[Service]\nTimeoutStopSec=5\n{RUN}\n");
    let pier = raise(&lab, &unit, &[("/etc/systemd/system/exporter.service", beside)]);
    pier.ok(&["systemctl", "start", "fares", "exporter"]);
    let server = Server::with_estate(&estate(&lab, &format!("{LADDER}stop = {{ patience = \"30s\", force = \"ask\" }}\n")));
    proven(&server, &["pier/fares"]);
    let refused = server.cli(&["stop", "fares", "--yes"]);
    let told = yantro_e2e::told(&refused);
    assert!(!refused.status.success() && told.contains("exporter.service") && told.contains("--along pier:exporter.service"), "{told}");
    assert!(told.contains("the manager lets a stop take 5s, and then kills it; our patience is 30s"), "{told}");
    let refused =
        yantro_e2e::told(&server.cli(&["stop", "fares", "--along", "pier:exporter.service", "--env", "pier/fares:LANE=A", "--yes"]));
    assert!(refused.contains("environment and arguments are its unit's"), "{refused}");
    server.ok(&["stop", "fares", "--along", "pier:exporter.service", "--yes"]);
    assert_eq!(server.state("pier/fares"), "down");

    // What may never be forced must not be killed by the manager on our word either.
    server.put("never.toml", &estate(&lab, &format!("{LADDER}stop = {{ patience = \"30s\", force = \"never\" }}\n")));
    server.ok(&["load", &server.path("never.toml")]);
    pier.ok(&["systemctl", "start", "fares"]);
    proven(&server, &["pier/fares"]);
    let refused = server.cli(&["stop", "fares", "--yes"]);
    assert!(!refused.status.success() && yantro_e2e::told(&refused).contains("TimeoutStopSec="), "{}", yantro_e2e::told(&refused));
}

#[test]
fn the_board_hears_of_changes_and_says_what_differs_from_the_estate() {
    let Some(lab) = Lab::raise() else { return };
    let pier = raise(&lab, &format!("[Service]\n{RUN}\n[Install]\nWantedBy=multi-user.target\n"), &[]);
    let server = Server::with_estate(&estate(&lab, &format!("at_boot = true\n{LADDER}")));
    pier.ok(&["systemctl", "start", "fares"]);
    proven(&server, &["pier/fares"]);
    assert!(
        row(&server, "pier/fares")["notes"].to_string().contains("should come up at boot, and will not"),
        "{}",
        row(&server, "pier/fares")
    );
    // Put right by an act of its own, with its proof.
    assert_eq!(row(&server, "pier/fares")["acts"], serde_json::json!(["at-boot-on"]));
    let told = server.ok(&["act", "at-boot-on", "fares", "--why", "it is noticed after the next power cut", "--yes"]);
    assert!(told.contains("finished"), "{told}");
    assert_eq!(pier.ok(&["systemctl", "is-enabled", "fares"]).trim(), "enabled");
    wait_until("nothing differs", || row(&server, "pier/fares")["notes"].is_null().then_some(()));
    // A definition on disk that the manager has not read.
    pier.ok(&["sh", "-c", "sleep 1.1; echo '# changed' >> /etc/systemd/system/fares.service"]);
    wait_until("it is to be re-read", || {
        row(&server, "pier/fares")["notes"].to_string().contains("newer than what the manager").then_some(())
    });
    server.ok(&["act", "re-read", "fares", "--yes"]);
    wait_until("it is re-read", || row(&server, "pier/fares")["notes"].is_null().then_some(()));
    let refused = server.exits(1, &["act", "at-boot", "fares", "--yes"]);
    assert!(refused.contains("has no act \"at-boot\"") && refused.contains("at-boot-on"), "{refused}");
    // Ended past Yantro: the board sees it.
    pier.ok(&["systemctl", "kill", "--signal=KILL", "fares"]);
    wait_until("it is down", || (server.state("pier/fares") == "down").then_some(()));
    assert!(row(&server, "pier/fares")["seen"]["manager"]["signal"] == 9);
    // At rest, too: what its manager knows of it can be changed.
    server.ok(&["act", "at-boot-off", "fares", "--yes"]);
    assert_eq!(String::from_utf8_lossy(&pier.run(&["systemctl", "is-enabled", "fares"]).stdout).trim(), "disabled");
    until("the run of it is over", Duration::from_secs(5), || {
        (pier.run(&["systemctl", "is-active", "fares"]).stdout != b"active\n").then_some(())
    });
}

#[test]
fn an_account_with_the_least_rights_acts_through_sudo_where_that_is_allowed() {
    let Some(lab) = Lab::raise() else { return };
    if !std::path::Path::new("/usr/bin/sudo").exists() {
        eprintln!("sudo is not installed here: this test is left out");
        return;
    }
    let files = vec![("/etc/systemd/system/fares.service".to_owned(), 0o644, format!("[Service]\n{RUN}\n"))];
    let programs = vec![(program("yantro-stand-in"), "/opt/ferry/stand-in".to_owned())];
    let prepare = "chmod 755 /opt/ferry /opt/ferry/stand-in; useradd -m -s /bin/sh -G systemd-journal purser; mkdir -p /home/purser/.ssh; \
        cp /root/.ssh/authorized_keys /home/purser/.ssh/; chown -R purser: /home/purser"
        .to_owned();
    let pier = lab.host("pier", 11, &Spec { files, programs, prepare, ..Spec::default() });
    let ladder = "ladder = [{ rung = \"port\", port = 7001, on = \"127.0.0.1\", held_by_any = true }]\nstart = { must_see = [\"ready for connections\"] }\n";
    let text = estate(&lab, ladder).replace("account = \"root\"", "account = \"purser\", sudo = \"acts\"");
    let server = Server::with_estate(&text);
    wait_until("it was looked at", || (server.state("pier/fares") == "down").then_some(()));
    let allow = |lines: &[&str]| {
        let text = lines.iter().map(|l| format!("purser ALL=(root) {l}\n")).collect::<String>();
        pier.ok(&["sh", "-c", &format!("rm -f /etc/sudoers.d/yantro; umask 227; printf '%s' '{text}' > /etc/sudoers.d/yantro")]);
    };
    let lane = |deed: &str| format!("/usr/bin/systemctl --no-ask-password {deed} -- fares.service");
    let (start, stop) = (format!("NOPASSWD: {}", lane("start")), format!("NOPASSWD: {}", lane("stop")));
    // The line that is missing is named before anything is touched, in the words in which it is to be written.
    let told = yantro_e2e::told(&server.cli(&["start", "fares", "--yes"]));
    assert!(told.contains("refused") && told.contains(&format!("purser ALL=(root) {start}")), "{told}");
    allow(&[&start]);
    let run = server.begin(&["start", "fares"]);
    server.run_is(run, &["finished"]);
    proven(&server, &["pier/fares"]);
    assert!(server.get(&format!("/runs/{run}")).to_string().contains("\"sudo\""), "the exact command is on record");
    // A restart that could stop and not start, or only with somebody there to type a password, does neither.
    for lines in [vec![stop.as_str()], vec![&stop, &lane("start")], vec![&start]] {
        allow(&lines);
        let told = yantro_e2e::told(&server.cli(&["restart", "fares", "--yes"]));
        assert!(told.contains("refused") && told.contains("/etc/sudoers.d/yantro"), "{lines:?}: {told}");
        assert_eq!(pier.ok(&["systemctl", "is-active", "fares"]).trim(), "active", "{lines:?}");
    }
    allow(&[&stop, &start]);
    server.ok(&["restart", "fares", "--yes"]);
    proven(&server, &["pier/fares"]);
}
