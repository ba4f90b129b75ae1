//! On a host with a service manager: what Yantro starts gets a scope of its own, and outlives the
//! server's unit whichever way that ends (R22).

use yantro_e2e::{host::Host, wait_until};

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
process = { program = "/tmp/w/yantro-stand-in", args = ["--name", "{service}", "--listen", "127.0.0.1:{port}", "--ready-after", "80ms", "--log", "/tmp/{service}.log"] }
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

fn stand_ins(host: &Host) -> Vec<String> {
    let out = host.run(&["pgrep", "-f", "yantro-stand-in --name"]);
    String::from_utf8_lossy(&out.stdout).lines().map(str::to_owned).collect()
}

#[test]
fn what_it_starts_outlives_its_unit() {
    let Some(host) = Host::raise() else { return };
    std::fs::write(host.shared("estate.toml"), ESTATE).unwrap();
    // As a plain unit: when it ends, the manager ends its whole control group.
    host.ok(&["systemd-run", "--quiet", "--unit=yantro", "/tmp/w/yantro", "serve", "--data", "/tmp/data", "--listen", "127.0.0.1:8400"]);
    wait_until("the server answers", || host.run(&["/tmp/w/yantro", "board"]).status.success().then_some(()));
    host.ok(&["/tmp/w/yantro", "load", "/tmp/w/estate.toml"]);
    host.ok(&["/tmp/w/yantro", "start", "app", "--yes"]);
    let before = stand_ins(&host);
    assert_eq!(before.len(), 2);
    for pid in &before {
        let group = host.ok(&["cat", &format!("/proc/{pid}/cgroup")]);
        assert!(group.lines().any(|l| l.contains("/yantro-run-1-") && l.ends_with(".scope")), "{group}");
    }
    let scopes = host.ok(&["systemctl", "list-units", "--plain", "--no-legend", "yantro-run-*.scope"]);
    assert!(scopes.contains("Started by Yantro: quay/app") && scopes.lines().count() == 2, "{scopes}");

    host.ok(&["systemctl", "restart", "yantro"]);
    wait_until("everything is known again", || {
        let board = host.run(&["/tmp/w/yantro", "board"]);
        String::from_utf8_lossy(&board.stdout).contains("2 of 2 proven").then_some(())
    });
    assert_eq!(stand_ins(&host), before, "nothing was ended or started");
    host.ok(&["systemctl", "kill", "--signal=KILL", "yantro"]);
    assert_eq!(stand_ins(&host), before, "nor when the unit's group is ended by force");

    // Stopped by a later server, the processes are gone and their scopes with them.
    host.run(&["systemctl", "reset-failed", "yantro"]);
    host.ok(&["systemd-run", "--quiet", "--unit=yantro-2", "/tmp/w/yantro", "serve", "--data", "/tmp/data", "--listen", "127.0.0.1:8400"]);
    wait_until("the next server answers", || host.run(&["/tmp/w/yantro", "board"]).status.success().then_some(()));
    host.ok(&["/tmp/w/yantro", "stop", "db", "--yes"]);
    assert!(stand_ins(&host).is_empty());
    wait_until("the scopes are gone", || {
        let left = host.run(&["systemctl", "list-units", "--plain", "--no-legend", "yantro-run-*.scope"]);
        left.stdout.is_empty().then_some(())
    });
}
