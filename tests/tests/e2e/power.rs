//! Hosts as things that stop and start: shut down in order and seen to be off, powered on, rebooted, by a controller that
//! is slow, errs and lies.

use std::{
    net::UdpSocket,
    path::Path,
    sync::Arc,
    time::{Duration, Instant},
};

use rstest::rstest;
use serde_json::Value;
use yantro_e2e::{Server, program, told, wait_until};
use yantro_lab::{
    Host, Lab,
    controller::{ACCOUNT, Controller, Fault},
    ferry::Ferry,
    until,
};

use crate::{
    far::{self, connected, link, raise, records},
    units::{ALL, proven},
};

/// The estate of [`far`] with a controller that gives all hosts power; `of_hosts` is said of each.
pub(crate) fn estate(lab: &Lab, controller: &Controller, hosts: &[&Host], of_hosts: &str, more: &str) -> String {
    std::fs::write(lab.file("password"), format!("{}\n", ACCOUNT.1)).unwrap();
    let mut text = far::estate(lab, hosts, more);
    for host in hosts {
        let name = host.name();
        let power = format!(
            "[host.{name}]\npower = {{ by = \"redfish\", controller = \"{}\", system = \"/redfish/v1/Systems/{name}\", account = \"{}\", \
             password = \"file:{}\", believes = \"{}\"@MORE@ }}\n{of_hosts}\n",
            controller.url(),
            ACCOUNT.0,
            lab.file("password").display(),
            controller.certificate().display()
        );
        text = text.replace(&format!("[host.{name}]\n"), &power);
    }
    text
}

fn boot(server: &Server, host: &str) -> String {
    link(server, host)["boot"].as_str().unwrap_or_default().to_owned()
}

/// When a run's step on an address began and ended, as text that sorts.
fn times(view: &Value, address: &str, kind: &str) -> (String, String) {
    let steps = view["steps"].as_array().unwrap();
    let step = steps.iter().find(|s| s["planned"]["address"] == address && s["planned"]["kind"] == kind);
    let now = &step.unwrap_or_else(|| panic!("no {kind} of {address}: {view}"))["now"];
    let at = |key: &str| now[key].as_str().unwrap_or_default().to_owned();
    (at("began_at"), at("ended_at"))
}

fn is_installed() -> bool {
    let all = ["/usr/lib/postgresql/15/bin/postgres", "/usr/sbin/nginx", "/usr/bin/redis-server"].iter().all(|p| Path::new(p).exists());
    if !all {
        eprintln!("PostgreSQL 15, Redis and nginx are not installed here: this test is left out");
    }
    all
}

#[test]
fn three_hosts_go_off_in_the_evening_and_come_back_in_the_morning() {
    let Some(lab) = Lab::raise() else { return };
    if !is_installed() {
        return;
    }
    let ferry = Ferry::raise(&lab, &program("yantro-stand-in"));
    let mut server = Server::with_estate(&ferry.estate(&lab));
    proven(&server, &ALL);
    proven(&server, &["harbour/host", "desk/host", "gate/host"]);

    let evening = server.begin(&["carry-out", "evening-off"]);
    let view = server.run_is(evening, &["finished", "held", "finished-with-exceptions"]);
    assert_eq!(view["state"], "finished", "{}", view["held_because"]);
    for host in [&ferry.harbour, &ferry.desk, &ferry.gate] {
        assert!(!host.is_on(), "{} is off", host.name());
    }
    assert_eq!(ferry.controller.asked(), Vec::<String>::new(), "each shut itself down: no power was cut");
    // What runs on a host, and what relies on that, is down before the host is.
    for (service, host) in [("gate/front", "gate/host"), ("desk/booking", "desk/host"), ("harbour/bookings-db", "harbour/host")] {
        assert!(times(&view, service, "stop").1 <= times(&view, host, "stop").0, "{service} before {host}");
    }
    assert!(times(&view, "desk/booking", "stop").1 <= times(&view, "harbour/bookings-db", "stop").0);
    assert!(times(&view, "gate/host", "stop").1 <= times(&view, "desk/host", "stop").0, "desk yields to harbour, gate to desk");
    // Two signs each: what gives it power, and its silence.
    let text = view.to_string();
    for sign in ["its power is off", "it answers no more", "poweroff"] {
        assert!(text.contains(sign), "{sign}: {text}");
    }
    wait_until("the board says off", || (server.state("harbour/host") == "down").then_some(()));
    assert_eq!(server.state("harbour/bookings-db"), "down", "off is down, not out of reach");
    assert!(server.ok(&["board"]).contains("desk, gate, harbour are off"));

    // The server is away for the night, too.
    server.kill();
    server.start(&[]);
    let morning = server.begin(&["carry-out", "morning-on"]);
    let view = server.run_is(morning, &["finished", "held", "finished-with-exceptions"]);
    assert_eq!(view["state"], "finished", "{}", view["held_because"]);
    proven(&server, &ALL);
    assert!(ferry.controller.asked().iter().all(|a| a.ends_with(" On")) && ferry.controller.asked().len() == 3);
    assert!(times(&view, "harbour/host", "start").1 <= times(&view, "harbour/bookings-db", "start").0);
    assert!(times(&view, "harbour/bookings-db", "start").1 <= times(&view, "desk/booking", "start").0);
    assert!(!view.to_string().contains(ACCOUNT.1), "the password is nowhere");

    // Patched and rebooted: proven by another boot.
    let before = boot(&server, "harbour");
    let run = server.begin(&["carry-out", "patch-and-reboot", "--answer", "patches=2026.12"]);
    let view = server.run_is(run, &["finished", "held", "finished-with-exceptions"]);
    assert_eq!(view["state"], "finished", "{}", view["held_because"]);
    assert!(boot(&server, "harbour") != before && !before.is_empty());
    assert!(view.to_string().contains("reached in a new boot"), "{view}");
    assert_eq!(ferry.harbour.ok(&["cat", "/opt/ferry/patches"]).trim(), "2026.12");
    assert_eq!(ferry.controller.asked().len(), 3, "its power was left alone");
    proven(&server, &ALL);
}

#[test]
fn as_found_by_an_earlier_run_leaves_down_what_was_down() {
    let Some(lab) = Lab::raise() else { return };
    let (pier, quay) = (raise(&lab, "pier", 11), raise(&lab, "quay", 12));
    let controller = Controller::serve(&lab, [pier.machine(), quay.machine()]);
    let server = Server::with_estate(&estate(&lab, &controller, &[&pier, &quay], "", "").replace("@MORE@", ""));
    connected(&server, "pier");
    connected(&server, "quay");
    server.ok(&["start", "db", "--yes"]);
    let evening = server.begin(&["shut-down", "*"]);
    assert_eq!(server.run_is(evening, &["finished", "held"])["state"], "finished");
    assert!(!pier.is_on() && !quay.is_on());
    let morning = server.begin(&["start", &format!("as-found-by:{evening}")]);
    let view = server.run_is(morning, &["finished", "held"]);
    assert_eq!(view["state"], "finished", "{}", view["held_because"]);
    assert!(pier.is_on() && quay.is_on());
    assert_eq!((server.state("pier/db").as_str(), server.state("quay/app").as_str()), ("proven", "down"));
    assert_eq!(records(&quay, "app"), Vec::<String>::new());
    let none = server.exits(1, &["start", "as-found-by:9", "--yes"]);
    assert!(none.contains('9'), "{none}");
}

#[rstest]
#[case::errs(Fault::Errs, "The power supply did not follow")]
#[case::gives_none(Fault::GivesNone, "not proven within")]
fn a_controller_that_gives_no_power_fails_the_step_and_is_tried_again(#[case] fault: Fault, #[case] why: &str) {
    let Some(lab) = Lab::raise() else { return };
    let pier = raise(&lab, "pier", 11);
    let controller = Controller::serve(&lab, [pier.machine()]);
    let text = estate(&lab, &controller, &[&pier], "start = { patience = \"6s\" }", "").replace("@MORE@", "");
    let server = Server::with_estate(&text);
    connected(&server, "pier");
    server.ok(&["start", "app", "--yes"]);
    let run = server.begin(&["power-cycle", "pier"]);
    // Only once it is off, so that the way down is not what fails.
    until("it is off", Duration::from_secs(60), || (!pier.is_on()).then_some(()));
    controller.fault(Some(fault));
    let view = server.run_is(run, &["held", "finished"]);
    assert_eq!(view["state"], "held");
    assert!(view["held_because"].to_string().contains(why), "{}", view["held_because"]);
    assert!(!pier.is_on());
    controller.fault(None);
    server.ok(&["load", &rewritten(&server, "\"6s\"", "\"90s\"")]);
    server.ok(&["again", "--yes", &run.to_string(), "--patience", "90s"]);
    let view = server.run_is(run, &["finished", "held"]);
    assert_eq!(view["state"], "finished", "{}", view["held_because"]);
    assert_eq!(records(&pier, "app"), ["start", "ready", "stop", "start", "ready"]);
}

/// The test's estate with another word in it, as a file.
fn rewritten(server: &Server, from: &str, to: &str) -> String {
    server.put("again.toml", &server.read("estate.toml").replace(from, to));
    server.path("again.toml")
}

#[test]
fn a_slow_controller_is_waited_for_and_one_that_refuses_is_found_out_beforehand() {
    let Some(lab) = Lab::raise() else { return };
    let pier = raise(&lab, "pier", 11);
    let controller = Controller::serve(&lab, [pier.machine()]);
    let server = Server::with_estate(&estate(&lab, &controller, &[&pier], "", "").replace("@MORE@", ""));
    connected(&server, "pier");
    controller.fault(Some(Fault::Refuses));
    let refused = server.begin(&["power-cycle", "pier"]);
    let view = server.run_is(refused, &["refused", "held", "finished"]);
    assert_eq!(view["state"], "refused", "what could not be raised again is not taken down");
    assert!(view.to_string().contains("temporarily unavailable") && pier.is_on(), "{view}");
    controller.fault(Some(Fault::Slow(Duration::from_secs(2))));
    let before = boot(&server, "pier");
    let run = server.begin(&["power-cycle", "pier"]);
    let view = server.run_is(run, &["finished", "held"]);
    assert_eq!(view["state"], "finished", "{}", view["held_because"]);
    assert_ne!(boot(&server, "pier"), before);
}

#[rstest]
#[case::never_forced("never", "held")]
#[case::forced_in_vain("allow", "held")]
fn a_controller_that_says_off_while_its_host_answers_is_not_believed(#[case] force: &str, #[case] state: &str) {
    let Some(lab) = Lab::raise() else { return };
    let pier = raise(&lab, "pier", 11);
    let controller = Controller::serve(&lab, [pier.machine()]);
    let stop = format!("stop = {{ patience = \"5s\", force = \"{force}\" }}");
    // A host that does not heed its command, and a controller that says it is off.
    let text = estate(&lab, &controller, &[&pier], &stop, "").replace("@MORE@", ", shut_down = [\"/bin/true\"]");
    let server = Server::with_estate(&text);
    connected(&server, "pier");
    controller.fault(Some(Fault::SaysOff));
    let run = server.begin(&["shut-down", "pier"]);
    let view = server.run_is(run, &["held", "finished"]);
    assert_eq!(view["state"], state);
    assert!(view["held_because"].to_string().contains("still answers"), "{}", view["held_because"]);
    assert!(pier.is_on() && server.state("pier/host") != "down");
    assert_eq!(controller.asked().iter().any(|a| a.contains("ForceOff")), force == "allow", "{:?}", controller.asked());
}

#[test]
fn a_host_that_clings_is_forced_off_where_the_operator_says_so() {
    let Some(lab) = Lab::raise() else { return };
    let pier = raise(&lab, "pier", 11);
    let controller = Controller::serve(&lab, [pier.machine()]);
    let stop = "stop = { patience = \"4s\", force = \"ask\" }";
    let text = estate(&lab, &controller, &[&pier], stop, "").replace("@MORE@", ", shut_down = [\"/bin/true\"]");
    let server = Server::with_estate(&text);
    connected(&server, "pier");
    let run = server.begin(&["shut-down", "pier"]);
    server.run_is(run, &["held"]);
    assert!(pier.is_on() && controller.asked().is_empty(), "nobody asked for force");
    server.ok(&["force", "--yes", &run.to_string()]);
    assert_eq!(server.run_is(run, &["finished"])["state"], "finished");
    assert!(!pier.is_on() && controller.asked() == ["pier ForceOff"], "{:?}", controller.asked());
}

#[test]
fn a_reboot_that_does_not_come_back_is_held_after_its_patience() {
    let Some(lab) = Lab::raise() else { return };
    let pier = raise(&lab, "pier", 11);
    let controller = Controller::serve(&lab, [pier.machine()]);
    // What was to reboot it turns it off.
    let text = estate(&lab, &controller, &[&pier], "start = { patience = \"8s\" }", "")
        .replace("@MORE@", ", reboot = [\"systemctl\", \"poweroff\"]");
    let server = Server::with_estate(&text);
    connected(&server, "pier");
    server.ok(&["start", "app", "--yes"]);
    let run = server.begin(&["reboot", "pier"]);
    let view = server.run_is(run, &["held", "finished"]);
    assert_eq!(view["state"], "held");
    assert!(view["held_because"].to_string().contains("not proven within 8s"), "{}", view["held_because"]);
    assert_eq!(records(&pier, "db").len(), 0, "it is off");
    // Somebody presses its button.
    pier.on();
    connected(&server, "pier");
    server.ok(&["again", "--yes", &run.to_string()]);
    let view = server.run_is(run, &["finished", "held"]);
    assert_eq!(view["state"], "finished", "{}", view["held_because"]);
    assert_eq!(records(&pier, "app"), ["start", "ready", "stop", "start", "ready"]);
}

/// Started by its host's boot, it answers for its first seconds that it is still starting: that is no ailment.
#[test]
fn what_comes_up_at_boot_and_is_still_starting_is_awaited_after_a_reboot() {
    let Some(lab) = Lab::raise() else { return };
    let pier = raise(&lab, "pier", 11);
    let unit = "[Service]\\nExecStart=/opt/ferry/stand-in --name fares --listen 127.0.0.1:7001 --ready-after 8s\\n\
                [Install]\\nWantedBy=multi-user.target\\n";
    pier.ok(&["sh", "-c", &format!("printf '{unit}' > /etc/systemd/system/fares.service; systemctl enable --now fares")]);
    let fares = "[service.fares]\nhost = \"pier\"\nrun_by = \"systemd\"\nstart = { patience = \"90s\" }\n\
                 ladder = [{ rung = \"port\", port = 7001, on = \"127.0.0.1\" }, \
                 { rung = \"web\", url = \"http://127.0.0.1:7001/\", not_yet = \"still starting\" }]\n\
                 [service.door]\nhost = \"pier\"\nrun_by = \"systemd\"\nunit = \"ssh\"\n";
    let controller = Controller::serve(&lab, [pier.machine()]);
    let server = Server::with_estate(&estate(&lab, &controller, &[&pier], "", fares).replace("@MORE@", ""));
    proven(&server, &["pier/fares", "pier/door"]);
    let run = server.begin(&["reboot", "pier"]);
    let view = server.run_is(run, &["finished", "held", "finished-with-exceptions"]);
    assert_eq!(view["state"], "finished", "{}", view["held_because"]);
    let steps = view["steps"].as_array().unwrap();
    // The SSH server goes and comes with its host: by it the host is asked.
    assert!(steps.iter().all(|s| s["planned"]["address"] != "pier/door"), "{steps:?}");
    let up = steps.iter().rfind(|s| s["planned"]["address"] == "pier/fares").unwrap();
    assert!(up["now"]["acts"].as_array().unwrap().is_empty(), "it was started over, which begins its while anew: {up}");
    let (began, ended) = times(&view, "pier/fares", up["planned"]["kind"].as_str().unwrap());
    assert!(began < ended, "{began} {ended}");
    assert_eq!(server.state("pier/fares"), "proven");
    let starts = pier.ok(&["journalctl", "--boot", "--unit=fares", "--output=cat"]);
    assert_eq!(starts.matches("Started ").count(), 1, "{starts}");
}

#[test]
fn the_ways_by_which_yantro_comes_to_hosts_are_never_acted_on() {
    let Some(lab) = Lab::raise() else { return };
    let (pier, quay) = (raise(&lab, "pier", 11), raise(&lab, "quay", 12));
    // An SSH server under no name that is known, by which Yantro comes to the quay.
    let unit = "[Service]\\nExecStart=/usr/sbin/sshd -D -p 2222\\n";
    quay.ok(&["sh", "-c", &format!("printf '{unit}' > /etc/systemd/system/gatekeeper.service; systemctl start gatekeeper")]);
    let known = std::fs::read_to_string(lab.file("known_hosts")).unwrap();
    let at_2222 = known.replace(&quay.address(), &format!("[{}]:2222", quay.address()));
    std::fs::write(lab.file("known_hosts"), format!("{known}{at_2222}")).unwrap();
    let config = format!(
        "Host *\n  UserKnownHostsFile {known}\n  IdentityFile {key}\n  IdentitiesOnly yes\n  User root\nHost {}\n  ProxyJump {to}\nHost {to}\n  Port 2222\n",
        pier.address(),
        to = quay.address(),
        known = lab.file("known_hosts").display(),
        key = lab.file("key").display()
    );
    std::fs::write(lab.file("ssh_config"), config).unwrap();
    let text = format!(
        "[estate]\nname = \"Sound\"\nstands_for = \"test\"\n\
         [host.office]\nreach = \"here\"\naddress = \"127.0.0.1\"\npower = {{ by = \"nobody\" }}\n\
         [host.pier]\nreach = \"ssh\"\naddress = \"{}\"\nssh = {{ config = \"{config}\" }}\npower = {{ by = \"nobody\" }}\n\
         [host.quay]\nreach = \"ssh\"\naddress = \"{}\"\nssh = {{ config = \"{config}\" }}\npower = {{ by = \"nobody\" }}\n\
         [service.sshd]\nhost = \"pier\"\nrun_by = \"systemd\"\nunit = \"ssh\"\n\
         [service.gatekeeper]\nhost = \"quay\"\nrun_by = \"systemd\"\n",
        pier.address(),
        quay.address(),
        config = lab.file("ssh_config").display()
    );
    let server = Server::with_estate(&text);
    connected(&server, "quay");
    connected(&server, "pier");
    for (asked, why) in [
        (["reboot", "office"], "machine that Yantro itself runs on"),
        (["reboot", "quay"], "here → quay → pier"),
        (["stop", "sshd"], "here → pier"),
        (["restart", "gatekeeper"], "quay/gatekeeper is never acted on by a run: Yantro comes to quay by it (here → quay)"),
    ] {
        let refused = server.cli(&[asked[0], asked[1], "--yes"]);
        assert!(!refused.status.success() && told(&refused).contains(why), "{asked:?}: {}", told(&refused));
    }
    assert!(pier.is_on() && quay.is_on());
}

/// What a unit is called may change between the plan and the act: by then it is another name of what Yantro comes by (R13).
#[rstest]
#[case::over_an_outpost(false)]
#[case::by_a_plain_shell(true)]
fn what_yantro_comes_by_is_not_stopped_under_another_name(#[case] by_plain_shell: bool) {
    let Some(lab) = Lab::raise() else { return };
    let pier = if by_plain_shell { crate::plain_shell::raise(&lab) } else { raise(&lab, "pier", 11) };
    let tollhouse = "/etc/systemd/system/tollhouse.service";
    pier.ok(&["sh", "-c", &format!("printf '[Service]\nExecStart=/bin/sleep 900\n' > {tollhouse}; systemctl start tollhouse")]);
    let text = format!(
        "[estate]\nname = \"Sound\"\nstands_for = \"test\"\n\
         [host.pier]\nreach = \"ssh\"\naddress = \"{}\"\nssh = {{ account = \"root\", key = \"{}\", known_hosts = \"{}\" }}\n\
         [service.tollhouse]\nhost = \"pier\"\nrun_by = \"systemd\"\n\
         [procedure.dusk]\ntitle = \"Dusk\"\nsteps = [{{ question = {{ asks = \"Is the road shut?\" }} }}, {{ stop = [\"tollhouse\"] }}]\n",
        pier.address(),
        lab.file("key").display(),
        lab.file("known_hosts").display()
    );
    let server = Server::with_estate(&text);
    connected(&server, "pier");
    proven(&server, &["pier/tollhouse"]);
    let run = server.begin(&["carry-out", "dusk"]);
    wait_until("it asks", || server.get(&format!("/runs/{run}")).to_string().contains("answer").then_some(()));
    let unit = pier.ok(&["systemctl", "show", "--value", "--property=FragmentPath", "ssh"]);
    let swap = format!("systemctl stop tollhouse; rm {tollhouse}; ln -s {} {tollhouse}; systemctl daemon-reload", unit.trim());
    pier.ok(&["sh", "-c", &swap]);
    assert_eq!(pier.ok(&["systemctl", "is-active", "tollhouse"]).trim(), "active", "it is another name by now");
    server.ok(&["board", "--look"]);
    proven(&server, &["pier/tollhouse"]);
    server.ok(&["answer", &run.to_string(), "1", "yes"]);
    let view = server.run_is(run, &["held", "finished", "finished-with-exceptions"]);
    assert_eq!(view["state"], "held", "{view}");
    assert!(view["held_because"].to_string().contains("Yantro's own processes here hang on"), "{}", view["held_because"]);
    assert_eq!(pier.ok(&["systemctl", "is-active", "ssh"]).trim(), "active");
    // Who plans it now is told beforehand.
    let refused = told(&server.cli(&["stop", "tollhouse", "--yes"]));
    assert!(refused.contains("pier/tollhouse is never acted on by a run") && refused.contains("goes with it"), "{refused}");
}

#[test]
fn a_host_with_something_hands_off_on_it_is_left_on_until_that_is_vouched_for() {
    let Some(lab) = Lab::raise() else { return };
    let pier = raise(&lab, "pier", 11);
    let controller = Controller::serve(&lab, [pier.machine()]);
    let hands_off = "[service.horn]\nhost = \"pier\"\nrun_by = \"systemd\"\nunit = \"horn\"\nhands_off = \"the pilots look after it\"\n";
    let server = Server::with_estate(&estate(&lab, &controller, &[&pier], "", hands_off).replace("@MORE@", ""));
    connected(&server, "pier");
    pier.ok(&["systemd-run", "--quiet", "--unit=horn", "sleep", "900"]);
    proven(&server, &["pier/horn"]);
    let refused = server.cli(&["shut-down", "pier", "--yes"]);
    assert!(!refused.status.success() && told(&refused).contains("the pilots look after it"), "{}", told(&refused));
    // Told by the way: what else listens there.
    pier.ok(&["systemd-run", "--quiet", "--unit=tides", "/opt/ferry/stand-in", "--name", "tides", "--listen", "0.0.0.0:7100"]);
    wait_until("it listens", || {
        told(&server.cli(&["preview", "stop", "power:pier", "--left-standing", "pier/horn"])).contains("7100").then_some(())
    });
    let remark = told(&server.cli(&["preview", "stop", "power:pier", "--left-standing", "pier/horn"]));
    assert!(remark.contains("takes down with it what no service describes: tides.service on 7100"), "{remark}");
    server.begin(&["shut-down", "pier", "--left-standing", "pier/horn"]);
    until("it is off", Duration::from_secs(60), || (!pier.is_on()).then_some(()));
}

/// A card that wakes its host when the packet for its address comes.
fn wakes(lab: &Lab, host: &Host, mac: [u8; 6]) -> u16 {
    let socket = UdpSocket::bind((lab.address(1).as_str(), 0)).unwrap();
    socket.set_read_timeout(Some(Duration::from_secs(120))).unwrap();
    let port = socket.local_addr().unwrap().port();
    let machine = host.machine();
    std::thread::spawn(move || {
        let mut packet = [0; 200];
        while let Ok(length) = socket.recv(&mut packet) {
            if length == 102 && packet[..6] == [0xff; 6] && packet[6..].chunks(6).take(16).all(|c| c == mac) {
                machine.power_on();
            }
        }
    });
    port
}

#[test]
fn hosts_are_woken_by_a_packet_and_switched_by_commands() {
    let Some(lab) = Lab::raise() else { return };
    let (pier, quay) = (raise(&lab, "pier", 11), raise(&lab, "quay", 12));
    let port = wakes(&lab, &pier, [2, 0, 0x5e, 0x10, 0, 1]);
    let (switch, asked, machine) = (lab.file("switch"), lab.file("asked"), quay.machine());
    let tell = {
        let switch = switch.clone();
        move |on: bool| {
            // Never half written: whoever asks meanwhile would take it for off.
            let (next, word) = (switch.with_extension("next"), if on { "on" } else { "off" });
            std::fs::write(&next, word).and_then(|()| std::fs::rename(&next, &switch)).unwrap();
        }
    };
    tell(true);
    // What stands behind the commands: a file that tells, and one that is asked by.
    let (ask, state, woken) = (asked.clone(), Arc::clone(&machine), pier.machine());
    let ended = Arc::new(std::sync::atomic::AtomicBool::new(false));
    let end = Arc::clone(&ended);
    let behind = std::thread::spawn(move || {
        let mut was_on = true;
        // A card without power answers nobody: that a host went off is for its firmware to see.
        while !end.load(std::sync::atomic::Ordering::SeqCst) {
            let word = std::fs::read_to_string(&ask).unwrap_or_default();
            match word.trim() {
                "give" => state.power_on(),
                "take" => state.cut_power(),
                _ => {}
            }
            if !word.is_empty() {
                let _ = std::fs::remove_file(&ask);
            }
            let _ = (woken.ended(), state.ended());
            let on = state.is_on();
            if on != was_on {
                tell(on);
                was_on = on;
            }
            std::thread::sleep(Duration::from_millis(20));
        }
    });
    let asked = asked.display();
    let switch = switch.display();
    let mut text = far::estate(&lab, &[&pier, &quay], "");
    let woken = format!(
        "[host.pier]\npower = {{ by = \"wake\", mac = \"02:00:5e:10:00:01\", broadcast = \"{}\", port = {port} }}\n",
        lab.address(1)
    );
    let switched = format!(
        "[host.quay]\npower = {{ by = \"commands\", on = [\"/bin/sh\", \"-c\", \"echo give > {asked}\"], off = [\"/bin/sh\", \"-c\", \"echo take > {asked}\"], \
         state = [\"/bin/grep\", \"-qx\", \"on\", \"{switch}\"] }}\n"
    );
    text = text.replace("[host.pier]\n", &woken).replace("[host.quay]\n", &switched);
    let server = Server::with_estate(&text);
    connected(&server, "pier");
    connected(&server, "quay");
    server.ok(&["start", "app", "--yes"]);
    let run = server.begin(&["power-cycle", "pier", "quay"]);
    let view = server.run_is(run, &["finished", "held"]);
    assert_eq!(view["state"], "finished", "{}", view["held_because"]);
    let text = view.to_string();
    // Nothing tells the power of the first: that its shutdown was seen to its end is the positive sign.
    assert!(text.contains("it had taken the command to shut down, was seen to go"), "{text}");
    assert!(text.contains("\"wake\",\"02:00:5e:10:00:01\""), "{text}");
    assert!(records(&quay, "app") == ["start", "ready", "stop", "start", "ready"] && server.state("quay/app") == "proven");
    ended.store(true, std::sync::atomic::Ordering::SeqCst);
    behind.join().unwrap();
}

#[test]
fn a_server_killed_while_hosts_go_down_and_come_up_goes_on() {
    let Some(lab) = Lab::raise() else { return };
    let pier = raise(&lab, "pier", 11);
    let controller = Controller::serve(&lab, [pier.machine()]);
    let mut server = Server::with_estate(&estate(&lab, &controller, &[&pier], "", "").replace("@MORE@", ""));
    connected(&server, "pier");
    server.ok(&["start", "app", "--yes"]);
    let run = server.begin(&["power-cycle", "pier"]);
    let began = Instant::now();
    let mut kills = 0;
    while server.get(&format!("/runs/{run}"))["state"] != "finished" {
        let view = server.get(&format!("/runs/{run}"));
        assert!(began.elapsed() < Duration::from_secs(120), "{view}");
        assert_ne!(view["state"], "held", "{}", view["held_because"]);
        if kills < 8 {
            server.kill();
            server.start(&[]);
            kills += 1;
        }
        std::thread::sleep(Duration::from_millis(150));
    }
    assert!(kills >= 4, "{kills}");
    assert_eq!(controller.asked(), ["pier On"], "each was asked for once");
    assert_eq!(records(&pier, "app"), ["start", "ready", "stop", "start", "ready"]);
}

/// What the act came to is written down on the very host that went down with it: nobody waits for it to be raised.
#[test]
fn a_host_that_went_off_while_the_server_was_away_is_off() {
    let Some(lab) = Lab::raise() else { return };
    let pier = raise(&lab, "pier", 11);
    let controller = Controller::serve(&lab, [pier.machine()]);
    let slowly = ", shut_down = [\"/bin/sh\", \"-c\", \"sleep 1.5; systemctl --no-ask-password poweroff\"]";
    let mut server = Server::with_estate(&estate(&lab, &controller, &[&pier], "", "").replace("@MORE@", slowly));
    connected(&server, "pier");
    let run = server.begin(&["power-cycle", "pier"]);
    wait_until("it has begun to shut down", || {
        let view = server.get(&format!("/runs/{run}"));
        let steps = view["steps"].as_array()?;
        let step = steps.iter().find(|s| s["planned"]["address"] == "pier/host" && s["planned"]["kind"] == "stop")?;
        (step["now"]["begun"] == true).then_some(())
    });
    server.kill();
    until("it is off", Duration::from_secs(30), || (!pier.is_on()).then_some(()));
    server.start(&[]);
    let view = server.run_is(run, &["finished", "held"]);
    assert_eq!(view["state"], "finished", "{}", view["held_because"]);
    assert_eq!(controller.asked(), ["pier On"], "it shut itself down, once");
}
