//! On a host with a service manager: what Yantro starts gets a scope of its own, and outlives the
//! server's unit whichever way that ends (R22).

use yantro_e2e::{program, wait_until};
use yantro_lab::{Host, Lab, Spec};

const ESTATE: &str = r#"
[estate]
name = "Quay office"
stands_for = "test"
[host.quay]
reach = "here"
address = "127.0.0.1"
[like.l]
host = "quay"
run_by = "process"
process = { program = "/opt/ferry/yantro-stand-in", args = ["--name", "{service}", "--listen", "127.0.0.1:{port}", "--ready-after", "80ms", "--log", "/tmp/{service}.log"] }
logs = ["/tmp/{service}.log"]
ladder = [{ rung = "port", port = "{port}" }]
start = { must_see = ["ready for connections"] }
[service.db]
like = "l"
values = { port = 5001 }
[service.app]
like = "l"
values = { port = 5002 }
relies_on = ["db"]
"#;

/// What a person at the host's own terminal would type.
fn typed<'w>(words: &[&'w str]) -> Vec<&'w str> {
    ["env", "YANTRO_DATA=/tmp/data", "YANTRO_WHO=maren"].into_iter().chain(words.iter().copied()).collect()
}

fn stand_ins(host: &Host) -> Vec<String> {
    let out = host.run(&["pgrep", "-f", "yantro-stand-in --name"]);
    String::from_utf8_lossy(&out.stdout).lines().map(str::to_owned).collect()
}

#[test]
fn what_it_starts_outlives_its_unit() {
    let Some(lab) = Lab::raise() else { return };
    let spec = Spec {
        files: vec![("/opt/ferry/estate.toml".to_owned(), 0o644, ESTATE.to_owned())],
        programs: ["yantro", "yantro-stand-in"].map(|name| (program(name), format!("/opt/ferry/{name}"))).to_vec(),
        ..Spec::default()
    };
    let host = lab.host("quay", 11, &spec);
    let run = |words: &[&str]| host.run(&typed(words));
    let ok = |words: &[&str]| host.ok(&typed(words));
    // As a plain unit: when it ends, the manager ends its whole control group.
    ok(&["systemd-run", "--quiet", "--unit=yantro", "/opt/ferry/yantro", "serve", "--data", "/tmp/data", "--listen", "127.0.0.1:8400"]);
    wait_until("the server answers", || run(&["/opt/ferry/yantro", "board"]).status.success().then_some(()));
    ok(&["/opt/ferry/yantro", "load", "/opt/ferry/estate.toml"]);
    ok(&["/opt/ferry/yantro", "start", "app", "--yes"]);
    let before = stand_ins(&host);
    assert_eq!(before.len(), 2);
    for pid in &before {
        let group = ok(&["cat", &format!("/proc/{pid}/cgroup")]);
        assert!(group.lines().any(|l| l.contains("/yantro-act-") && l.ends_with(".scope")), "{group}");
    }
    let started = || {
        let scopes = ok(&["systemctl", "list-units", "--plain", "--no-legend", "yantro-act-*.scope"]);
        let of = |name: &str| scopes.lines().filter(|l| l.contains(&format!("Started by Yantro: quay/{name}"))).count();
        ((of("app"), of("db")) == (1, 1)).then_some(())
    };
    wait_until("each start has a scope that says what it is", started);

    ok(&["systemctl", "restart", "yantro"]);
    wait_until("everything is known again", || {
        let board = run(&["/opt/ferry/yantro", "board"]);
        String::from_utf8_lossy(&board.stdout).contains("2 of 2 proven").then_some(())
    });
    assert_eq!(stand_ins(&host), before, "nothing was ended or started");
    ok(&["systemctl", "kill", "--signal=KILL", "yantro"]);
    assert_eq!(stand_ins(&host), before, "nor when the unit's group is ended by force");

    // Stopped by a later server, the processes are gone and their scopes with them.
    run(&["systemctl", "reset-failed", "yantro"]);
    ok(&["systemd-run", "--quiet", "--unit=yantro-2", "/opt/ferry/yantro", "serve", "--data", "/tmp/data", "--listen", "127.0.0.1:8400"]);
    wait_until("the next server answers", || run(&["/opt/ferry/yantro", "board"]).status.success().then_some(()));
    ok(&["/opt/ferry/yantro", "stop", "db", "--yes"]);
    assert!(stand_ins(&host).is_empty());
    wait_until("the scopes are gone", || {
        let left = run(&["systemctl", "list-units", "--plain", "--no-legend", "yantro-act-*.scope"]);
        left.stdout.is_empty().then_some(())
    });
}
