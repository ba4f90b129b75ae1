//! A host on which no outpost can run: acts and commands by its plain shell, and what that cannot do is said.

use std::time::{Duration, Instant};

use yantro_e2e::{Server, told, wait_until};
use yantro_lab::{Host, Lab, Spec, until};

use crate::far::{connected, link, records};

/// A host that says it has another processor.
pub(crate) fn raise(lab: &Lab) -> Host<'_> {
    let spec = Spec {
        files: vec![
            (
                "/usr/local/bin/uname".to_owned(),
                0o755,
                "#!/bin/sh\n[ \"$1\" = -sm ] && echo Linux riscv64 && exit\nexec /usr/bin/uname \"$@\"\n".to_owned(),
            ),
            ("/etc/systemd/system/fares.service".to_owned(), 0o644, "[Service]\nExecStart=/bin/sleep 900\n".to_owned()),
            ("/etc/ferry-key".to_owned(), 0o600, "tide-48-harbour\n".to_owned()),
        ],
        prepare: "mkdir -p /var/log/ferry".to_owned(),
        ..Spec::default()
    };
    lab.host("pier", 11, &spec)
}

fn estate(lab: &Lab, pier: &Host) -> String {
    let noted = |what: &str, more: &str| format!("[\"/bin/sh\", \"-c\", \"echo {what} >> /var/log/ferry/lamp.record; {more}\"]");
    format!(
        r#"
[estate]
name = "Old pier"
stands_for = "test"
[host.pier]
reach = "ssh"
address = "{}"
ssh = {{ account = "root", key = "{}", known_hosts = "{}" }}
[service.lamp]
host = "pier"
run_by = "commands"
commands = {{ start = {}, stop = {}, state = ["/usr/bin/test", "-e", "/run/lamp"], env = {{ LAMP_KEY = "file:/etc/ferry-key" }} }}
ladder = [{{ rung = "file", path = "/run/lamp" }}]
start = {{ patience = "20s" }}
stop = {{ patience = "20s" }}
[service.fares]
host = "pier"
run_by = "systemd"
relies_on = ["lamp"]
start = {{ patience = "20s" }}
stop = {{ patience = "20s" }}
[service.page]
host = "pier"
run_by = "process"
process = {{ program = "/bin/sleep", args = ["60"] }}
ladder = [{{ rung = "process" }}]
expected = "either"
[procedure.oil]
title = "Oil the lamp"
[[procedure.oil.steps]]
title = "Oil it"
work = {}
on = "pier"
patience = "30s"
changes_nothing = true
"#,
        pier.address(),
        lab.file("key").display(),
        lab.file("known_hosts").display(),
        noted("start", "test ${#LAMP_KEY} = 15 && echo lit by $LAMP_KEY && touch /run/lamp"),
        noted("stop", "rm -f /run/lamp"),
        noted("oil", "sleep 3; echo oiled it is"),
    )
}

#[test]
fn a_host_without_an_outpost_is_acted_on_by_its_plain_shell() {
    let Some(lab) = Lab::raise() else { return };
    let pier = raise(&lab);
    let server = Server::with_estate(&estate(&lab, &pier));
    connected(&server, "pier");
    // What it cannot do is said, on the board and where it is asked for.
    let says = link(&server, "pier")["plain_shell"].to_string();
    assert!(says.contains("no outpost runs on") && says.contains("logs"), "{says}");
    assert!(server.ok(&["board"]).contains("by its plain shell only"));
    assert!(told(&server.cli(&["look-through", "pier"])).contains("takes the outpost"));
    wait_until("both are seen to be down", || (server.state("pier/lamp") == "down" && server.state("pier/fares") == "down").then_some(()));
    let run = server.begin(&["start", "fares"]);
    let view = server.run_is(run, &["finished", "held"]);
    assert_eq!(view["state"], "finished", "{}", view["held_because"]);
    assert_eq!((server.state("pier/lamp").as_str(), server.state("pier/fares").as_str()), ("proven", "proven"));
    assert_eq!(pier.ok(&["stat", "--format=%a", "/run/lamp"]).trim(), "644", "by the mask that it has everywhere");
    assert_eq!(pier.ok(&["systemctl", "is-active", "fares"]).trim(), "active");
    let told_of_it = [view.to_string(), server.ok(&["report", &run.to_string()]), server.ok(&["show", &run.to_string()])].concat();
    assert!(!told_of_it.contains("tide-48-harbour"), "the secret is resolved there, and what prints it stays there");
    assert!(view.to_string().contains("its output is withheld"), "{view}");
    server.ok(&["restart", "lamp", "--yes"]);
    assert_eq!(records(&pier, "lamp"), ["start", "stop", "start"]);
    // A process of ours takes the outpost: refused, with the reason, and nothing begun.
    let refused = server.exits(1, &["start", "page", "--yes"]);
    assert!(refused.contains("pier/page is unknown: whether it runs cannot be said"), "{refused}");
    let board = server.get("/board");
    let row = board["services"].as_array().unwrap().iter().find(|r| r["address"] == "pier/page").unwrap();
    assert!(row["seen"]["says"].as_str().unwrap().contains("takes the outpost"), "{row}");
}

#[test]
fn an_act_by_a_plain_shell_goes_on_over_a_cut_and_a_killed_server() {
    let Some(lab) = Lab::raise() else { return };
    let pier = raise(&lab);
    let mut server = Server::with_estate(&estate(&lab, &pier));
    connected(&server, "pier");
    let run = server.begin(&["carry-out", "oil"]);
    until("it is at work", Duration::from_secs(30), || (!records(&pier, "lamp").is_empty()).then_some(()));
    server.kill();
    let began = Instant::now();
    server.start(&[]);
    let view = server.run_is(run, &["finished", "held"]);
    assert_eq!(view["state"], "finished", "{} after {:?}", view["held_because"], began.elapsed());
    assert_eq!(records(&pier, "lamp"), ["oil"], "once");
    assert!(view.to_string().contains("oiled it is"), "its output is kept there until it is fetched: {view}");
}
