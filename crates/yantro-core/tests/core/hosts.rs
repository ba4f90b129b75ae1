//! Hosts as things that stop and start: what goes down with them, in which order, and what is never acted on.

use std::collections::{BTreeMap, BTreeSet};

use rstest::rstest;
use yantro_core::{
    graph::EstateGraph,
    guards::{Around, Ways},
    model::{Estate, PowerDeed, RungKind, ServiceRunner},
    plan::{Plan, Preflight, Request, command_of, forecast::Usual, plan, preflight},
    proof::{Facts, SeenState, UnitTerms},
    selection::{of_host, resolve},
    text::{
        survey::{FoundPort, FoundUnit, Survey},
        vet,
    },
    words::{
        kinds::{StepKind, Wish},
        name::Address,
        time::Timestamp,
    },
};

/// A storage host, a database host that cannot work without it, and a desk that comes up after that one where both are
/// in play; nobody gives the office power.
const SOUND: &str = r#"
[estate]
name = "Sound"
stands_for = "test"
[host.storage]
reach = "ssh"
address = "10.0.0.1"
power = { by = "redfish", controller = "https://10.0.9.1", system = "/redfish/v1/Systems/1", outlet = "/redfish/v1/PowerEquipment/RackPDUs/1/Outlets/A1" }
[host.harbour]
reach = "ssh"
address = "10.0.0.2"
power = { by = "wake", mac = "02:00:5e:10:00:02", broadcast = "10.0.0.255" }
relies_on = ["storage"]
[host.desk]
reach = "ssh"
address = "10.0.0.3"
power = { by = "commands", on = ["/opt/on"], off = ["/opt/off"], state = ["/opt/state"] }
yields_to = ["harbour"]
[host.office]
reach = "here"
address = "127.0.0.4"
power = { by = "nobody" }
[like.unit]
run_by = "systemd"
stop = { patience = "30s" }
[service.db]
like = "unit"
host = "harbour"
ladder = [{ rung = "port", port = 5432 }]
[service.booking]
like = "unit"
host = "desk"
relies_on = ["db"]
[service.ssh]
like = "unit"
host = "desk"
unit = "ssh"
expected = "either"
"#;

fn sound(more: &str) -> (Estate, EstateGraph) {
    let vetted = vet(&format!("{SOUND}{more}"), "/e");
    let estate = vetted.estate.unwrap_or_else(|| panic!("{:#?}", vetted.faults));
    let graph = EstateGraph::new(&estate);
    (estate, graph)
}

/// What a wish comes to with everything up but for those named.
fn planned(more: &str, wish: Wish, words: &[&str], down: &[&str]) -> (Plan, Estate) {
    let (estate, graph) = sound(more);
    let words: Vec<String> = words.iter().map(|w| (*w).to_owned()).collect();
    let chosen = resolve(&estate, &graph, &words, &["desk/ssh".to_owned()]).unwrap();
    let mut facts: Facts = estate.services.keys().map(|a| (a.clone(), SeenState::Proven)).collect();
    for address in down {
        facts.0.insert(address.parse().unwrap(), SeenState::Down);
    }
    (plan(&estate, &graph, &facts, &Usual::default(), &Request::new(wish, chosen)), estate)
}

fn steps(plan: &Plan) -> Vec<String> {
    plan.sequence.steps.iter().map(|s| s.says()).collect()
}

#[test]
fn shutting_a_host_down_takes_down_what_runs_on_it_and_what_relies_on_that_first() {
    let (plan, _) = planned("", Wish::Stop, &["power:harbour"], &[]);
    assert_eq!(steps(&plan), ["stop desk/booking", "stop harbour/db", "shut down harbour/host"]);
    assert!(plan.can_begin(), "{:?}", plan.obstacles);
}

#[test]
fn the_host_that_others_rely_on_goes_last_and_comes_first_with_its_outlet() {
    let (plan, _) = planned("", Wish::PowerCycle, &["power:storage"], &["desk/ssh"]);
    let wanted = [
        "stop desk/booking",
        "stop harbour/db",
        "shut down harbour/host",
        "shut down storage/host",
        "power on storage/host",
        "power on harbour/host",
        "start harbour/db",
        "start desk/booking",
    ];
    assert_eq!(steps(&plan), wanted);
    // Its outlet is a thing of its own: switched off only where that is wished for, after the host is off.
    let (plan, _) = planned("", Wish::Stop, &["storage/outlet"], &["harbour/host", "harbour/db", "desk/booking"]);
    assert_eq!(steps(&plan)[steps(&plan).len() - 2..], ["shut down storage/host", "switch off storage/outlet"]);
}

/// What takes another account, and room for what is written down, is looked at before the first act.
#[test]
fn every_act_that_takes_another_account_is_asked_for_beforehand() {
    let more = "[service.pump]\nhost = \"office\"\nrun_by = \"commands\"\nladder = [{ rung = \"port\", port = 1 }]\n\
        commands = { start = [\"/bin/on\"], stop = [\"/bin/off\"], state = [\"/bin/is\"], user = \"purser\" }\n\
        [service.gauge]\nhost = \"office\"\nrun_by = \"process\"\nladder = [{ rung = \"port\", port = 3 }]\n\
        process = { program = \"/bin/gauge\", user = \"purser\" }\n\
        [service.cache]\nlike = \"unit\"\nhost = \"office\"\nladder = [{ rung = \"port\", port = 2 }]\nstop = { force = \"allow\", patience = \"30s\" }\n";
    let asked = |wish: Wish, words: &[&str]| {
        let (mut plan, estate) = planned(more, wish, words, &["desk/ssh"]);
        plan.preflight = preflight(&estate, &plan.sequence.steps);
        let of = |l: &Preflight| match &l.rung.kind {
            RungKind::Rights { account, command, .. } => Some(format!("{} {account}: {}", l.host, command.join(" "))),
            RungKind::Unit { unit } => Some(format!("{} {unit}", l.host)),
            RungKind::Signals { account } => Some(format!("{} signals {account}", l.host)),
            RungKind::Outlives => Some(format!("{} outlives", l.host)),
            RungKind::Records { of_server: true, .. } => Some("the server's room".to_owned()),
            RungKind::Records { of_server: false, .. } => Some(format!("{}'s room", l.host)),
            _ => None,
        };
        plan.preflight.iter().filter_map(of).collect::<Vec<_>>()
    };
    let ctl = "systemctl --no-ask-password";
    let down = [format!("desk root: {ctl} stop -- booking.service"), format!("harbour root: {ctl} stop -- db.service")];
    let stop = asked(Wish::Stop, &["power:harbour"]);
    assert!(down.iter().all(|d| stop.contains(d)), "{stop:?}");
    assert!(stop.iter().any(|l| l.starts_with("harbour root:") && l.contains("poweroff")), "{stop:?}");
    assert!(["the server's room", "harbour's room", "desk's room"].iter().all(|r| stop.contains(&(*r).to_owned())), "{stop:?}");
    let restart = asked(Wish::Restart, &["cache"]);
    let wanted = [
        "office cache.service".to_owned(),
        format!("office root: {ctl} stop -- cache.service"),
        format!("office root: {ctl} kill --signal=KILL -- cache.service"),
        format!("office root: {ctl} start -- cache.service"),
        "office's room".to_owned(),
        "the server's room".to_owned(),
    ];
    assert_eq!(restart, wanted);
    assert_eq!(asked(Wish::Restart, &["pump"])[..3], ["office outlives", "office purser: /bin/off", "office purser: /bin/on"]);
    assert_eq!(asked(Wish::Start, &["gauge"])[..3], ["office outlives", "office signals purser", "office purser: /bin/gauge"]);
}

#[test]
fn a_host_reboots_by_itself_unless_what_it_needs_is_away_meanwhile() {
    let (plan, estate) = planned("", Wish::Restart, &["power:harbour"], &["desk/ssh"]);
    let wanted = [
        "stop desk/booking",
        "stop harbour/db",
        "reboot harbour/host",
        "await the return of harbour/host",
        "start harbour/db",
        "start desk/booking",
    ];
    assert_eq!(steps(&plan), wanted);
    let command = command_of(&plan.sequence.steps[2], &estate, &plan);
    assert!(command.command.concat().contains("reboot"), "{command:?}");
    let back = command_of(&plan.sequence.steps[3], &estate, &plan);
    assert!(back.command.is_empty() && back.proof[0].contains("in a new boot"), "{back:?}");
    let (plan, _) = planned("", Wish::Restart, &["power:storage"], &["desk/ssh"]);
    assert!(steps(&plan).contains(&"reboot storage/host".to_owned()));
    assert!(steps(&plan).contains(&"power on harbour/host".to_owned()), "it waits with its power off: {:?}", steps(&plan));
}

#[test]
fn order_between_hosts_counts_only_where_both_are_in_play() {
    let (plan, _) = planned("", Wish::Stop, &["power:harbour", "power:desk"], &["desk/ssh"]);
    let at = |what: &str| steps(&plan).iter().position(|s| s == what).unwrap();
    let waits = |of: usize| plan.sequence.steps[of].waits.iter().map(|w| w.step.0 as usize - 1).collect::<BTreeSet<_>>();
    assert!(waits(at("shut down harbour/host")).contains(&at("shut down desk/host")), "the desk goes before: {:?}", steps(&plan));
    let (plan, _) = planned("", Wish::Start, &["power:desk"], &["desk/host", "desk/booking", "desk/ssh"]);
    assert_eq!(steps(&plan), ["power on desk/host"]);
}

#[test]
fn starting_a_service_whose_host_is_off_powers_that_on_first() {
    let (plan, _) =
        planned("", Wish::Start, &["booking"], &["storage/host", "harbour/host", "harbour/db", "desk/host", "desk/booking", "desk/ssh"]);
    let all = steps(&plan);
    let at = |what: &str| all.iter().position(|s| s == what).unwrap_or_else(|| panic!("{what}: {all:?}"));
    assert!(at("power on storage/host") < at("power on harbour/host") && at("power on harbour/host") < at("start harbour/db"));
    assert!(at("power on desk/host") < at("start desk/booking") && at("start harbour/db") < at("start desk/booking"));
    // Nothing can be looked at beforehand on a host that is off.
    assert!(plan.preflight.iter().all(|l| l.rung.kind != RungKind::Process));
}

#[rstest]
#[case::own(&["power:office"], "office is never acted on by a run: it is the machine that Yantro itself runs on")]
#[case::way(&["power:harbour"], "harbour is never acted on by a run: Yantro comes to storage through it")]
#[case::taken_along(&["power:storage"], "harbour is never acted on")]
#[case::ssh(&["desk/ssh"], "desk/ssh is the SSH server by which Yantro comes to desk")]
#[case::own_unit(&["office/yantro"], "office/yantro is never acted on by a run: Yantro itself runs in it")]
#[case::taken_down_for_another(&["office/ledger"], "office/yantro is never acted on by a run: Yantro itself runs in it")]
#[case::may_be_a_way(&["power:desk"], "whether Yantro comes to others through desk cannot be said: storage: ssh -G does not answer")]
fn the_ways_to_hosts_are_refused_with_the_path(#[case] words: &[&str], #[case] why: &str) {
    let unit = "like = \"unit\"\nhost = \"office\"\n";
    let (estate, graph) = sound(&format!("[service.ledger]\n{unit}[service.yantro]\n{unit}relies_on = [\"ledger\"]\n"));
    let own = BTreeMap::from([("yantro.service".to_owned(), "Yantro itself runs in it".to_owned())]);
    let units = BTreeMap::from([("office".parse().unwrap(), own)]);
    let unsaid = vec!["storage: ssh -G does not answer".to_owned()];
    let words: Vec<String> = words.iter().map(|w| (*w).to_owned()).collect();
    let chosen = resolve(&estate, &graph, &words, &[]).unwrap();
    let facts: Facts = estate.services.keys().map(|a| (a.clone(), SeenState::Proven)).collect();
    let mut plan = plan(&estate, &graph, &facts, &Usual::default(), &Request::new(Wish::Restart, chosen));
    let ways = BTreeMap::from([
        ("office".parse().unwrap(), "it is the machine that Yantro itself runs on".to_owned()),
        ("harbour".parse().unwrap(), "Yantro comes to storage through it (here → harbour → storage)".to_owned()),
    ]);
    let ways = Ways { hosts: ways, units, unsaid };
    plan.guard(&Around { ways, ..Around::of(&estate, Timestamp::from_ms(0), &BTreeSet::new()) });
    assert!(plan.obstacles.iter().any(|o| o.why.contains(why)), "{:?}", plan.obstacles);
    assert!(!plan.can_begin());
}

/// What a unit is called tells nothing: what Yantro hangs on may have another name, or go along with another. Nobody can allow that.
#[rstest]
#[case::by_another_name("tollhouse.service", "")]
#[case::along_with_another("gate.service", "office:gate.service")]
fn what_yantro_hangs_on_is_refused_by_whatever_name(#[case] hung_on: &str, #[case] along: &str) {
    let (estate, graph) = sound("[service.ledger]\nlike = \"unit\"\nhost = \"office\"\n");
    let chosen = resolve(&estate, &graph, &["office/ledger".to_owned()], &[]).unwrap();
    let facts: Facts = estate.services.keys().map(|a| (a.clone(), SeenState::Proven)).collect();
    let ledger: Address = "office/ledger".parse().unwrap();
    let stops_too = along.split(':').skip(1).map(str::to_owned).collect();
    let terms = BTreeMap::from([(ledger, UnitTerms { hung_on: Some(hung_on.to_owned()), stops_too, ..UnitTerms::default() })]);
    let mut plan = plan(&estate, &graph, &facts, &Usual::default(), &Request::new(Wish::Stop, chosen));
    plan.asked_with.along = [along.to_owned()].into();
    plan.guard(&Around { terms, ..Around::of(&estate, Timestamp::from_ms(0), &BTreeSet::new()) });
    let why: Vec<&str> = plan.obstacles.iter().map(|o| o.why.as_str()).collect();
    let goes = format!("office/ledger is never acted on by a run: {hung_on}, which Yantro hangs on at office, goes with it");
    assert_eq!(why, [goes]);
}

/// A manager that could not be asked has not said that nothing goes along.
#[rstest]
#[case::not_asked(false, true)]
#[case::asked(true, false)]
fn a_manager_that_could_not_be_asked_is_told(#[case] is_asked: bool, #[case] is_told: bool) {
    let (estate, graph) = sound("[service.ledger]\nlike = \"unit\"\nhost = \"office\"\n");
    let chosen = resolve(&estate, &graph, &["office/ledger".to_owned()], &[]).unwrap();
    let facts: Facts = estate.services.keys().map(|a| (a.clone(), SeenState::Proven)).collect();
    let ledger: Address = "office/ledger".parse().unwrap();
    let terms = is_asked.then(|| (ledger, UnitTerms::default())).into_iter().collect();
    let mut plan = plan(&estate, &graph, &facts, &Usual::default(), &Request::new(Wish::Restart, chosen));
    plan.guard(&Around { terms, ..Around::of(&estate, Timestamp::from_ms(0), &BTreeSet::new()) });
    let told = "what else the manager of office would stop or start along with office/ledger is not known: it could not be asked";
    assert_eq!(plan.remarks.contains(&told.to_owned()), is_told, "{:?}", plan.remarks);
}

/// The SSH server is the way by which a host is asked to go down: it goes and comes with it, and is no step of any run.
#[rstest]
#[case::shut_down(Wish::Stop)]
#[case::reboot(Wish::Restart)]
#[case::power_cycle(Wish::PowerCycle)]
fn a_host_goes_down_with_its_described_ssh_server(#[case] wish: Wish) {
    let (estate, graph) = sound("[service.gatekeeper]\nlike = \"unit\"\nhost = \"desk\"\nunit = \"dropbear@lan\"\n");
    let chosen = resolve(&estate, &graph, &["power:desk".to_owned()], &[]).unwrap();
    let facts: Facts = estate.services.keys().map(|a| (a.clone(), SeenState::Proven)).collect();
    let mut plan = plan(&estate, &graph, &facts, &Usual::default(), &Request::new(wish, chosen));
    plan.guard(&Around::of(&estate, Timestamp::from_ms(0), &BTreeSet::new()));
    assert!(plan.can_begin(), "{:?}", plan.obstacles);
    let of_ways: Vec<String> = steps(&plan).into_iter().filter(|s| s.contains("ssh") || s.contains("gatekeeper")).collect();
    assert!(of_ways.is_empty(), "{of_ways:?}");
}

#[test]
fn what_nobody_described_and_goes_down_too_is_told() {
    let (mut plan, estate) = planned(
        "[service.tides]\nlike = \"unit\"\nhost = \"harbour\"\nat_boot = true\nexpected = \"down\"\n",
        Wish::Restart,
        &["power:harbour"],
        &["harbour/tides"],
    );
    let port = |port: u16, on: &str, process: &str| FoundPort { port, on: on.to_owned(), process: Some(process.to_owned()) };
    let unit =
        |name: &str, ports: Vec<FoundPort>, plumbing: bool| FoundUnit { unit: name.to_owned(), ports, plumbing, ..FoundUnit::default() };
    let survey = Survey {
        units: vec![
            unit("db.service", vec![port(5432, "0.0.0.0", "postgres")], false),
            unit("horn.service", vec![port(7300, "0.0.0.0", "horn")], false),
            unit("systemd-resolved.service", vec![port(53, "0.0.0.0", "resolved")], true),
        ],
        others: vec![port(9000, "0.0.0.0", "java"), port(6010, "127.0.0.1", "x"), port(22, "0.0.0.0", "sshd")],
    };
    let surveys = BTreeMap::from([("harbour".parse().unwrap(), survey)]);
    plan.guard(&Around { surveys, ..Around::of(&estate, Timestamp::from_ms(0), &BTreeSet::new()) });
    assert!(
        plan.remarks.contains(&"harbour takes down with it what no service describes: horn.service on 7300, java on 9000".to_owned()),
        "{:?}",
        plan.remarks
    );
    assert!(
        plan.remarks.iter().any(|r| r.contains("harbour/tides is not among what is started, and comes up by itself")),
        "{:?}",
        plan.remarks
    );
}

#[rstest]
#[case(&["power:harbour"], "harbour/host")]
#[case::globs_name_hosts(&["power:*r*"], "harbour/host storage/host")]
#[case::a_host_has_to_be_named(&["host:harbour"], "harbour/db")]
#[case::everything_is_services(&["*"], "desk/booking desk/ssh harbour/db")]
#[case::named_in_full(&["*/host"], "desk/host harbour/host office/host storage/host")]
#[case::what_it_takes_along(&["reliant-on:harbour/host"], "desk/booking harbour/db")]
fn hosts_are_chosen_by_their_own_names(#[case] words: &[&str], #[case] chosen: &str) {
    let (estate, graph) = sound("");
    let words: Vec<String> = words.iter().map(|w| (*w).to_owned()).collect();
    let found: Vec<String> = resolve(&estate, &graph, &words, &[]).unwrap().iter().map(ToString::to_string).collect();
    assert_eq!(found.join(" "), chosen);
    assert_eq!((of_host("harbour"), of_host("*"), of_host("group:a")), ("power:harbour".into(), "power:*".into(), "group:a".into()));
}

#[rstest]
#[case("power:peer", "nothing is called")]
#[case("as-found-by:evening", "needs a server")]
fn hosts_that_are_not_there_are_told(#[case] word: &str, #[case] says: &str) {
    let (estate, graph) = sound("");
    let error = resolve(&estate, &graph, &[word.to_owned()], &[]).unwrap_err();
    assert!(error.to_string().contains(says) && !error.hint().is_empty(), "{error} {}", error.hint());
}

#[rstest]
#[case::redfish("storage", PowerDeed::Off, Some("yantro power off --controller https://10.0.9.1 --part /redfish/v1/Systems/1"))]
#[case::wake("harbour", PowerDeed::On, Some("yantro power wake 02:00:5e:10:00:02 --to 10.0.0.255 --port 9"))]
#[case::wake_takes_none_away("harbour", PowerDeed::Off, None)]
#[case::commands("desk", PowerDeed::Off, Some("/opt/off"))]
#[case::nobody("office", PowerDeed::On, None)]
fn power_is_a_command_that_anyone_could_type(#[case] host: &str, #[case] deed: PowerDeed, #[case] command: Option<&str>) {
    let (estate, _) = sound("");
    let power = estate.hosts[&host.parse().unwrap()].power.clone().unwrap();
    assert_eq!(power.command(deed).map(|(words, _)| words.join(" ")).as_deref(), command);
}

#[test]
fn a_host_is_proven_by_its_power_its_ping_its_link_and_its_manager() {
    let (estate, _) = sound("");
    let ladder = |name: &str, kind: StepKind| {
        let address: Address = name.parse().unwrap();
        estate.services[&address].ladder_of(kind).iter().map(|r| r.kind.says()).collect::<Vec<_>>().join(", ")
    };
    assert_eq!(ladder("storage/host", StepKind::Start), "power, 10.0.0.1 answers ping, reached, through with booting");
    assert_eq!(ladder("storage/host", StepKind::Stop), "power, 10.0.0.1 answers ping, reached", "two signs and more");
    assert_eq!(ladder("harbour/host", StepKind::Stop), "10.0.0.2 answers ping, reached", "nothing tells its power");
    assert_eq!(ladder("storage/outlet", StepKind::Stop), "power");
}

#[rstest]
#[case::nothing_gives_it_power(
    "[host.a]\nreach = \"ssh\"\naddress = \"10.1.1.1\"\nrelies_on = [\"desk\"]\n",
    "nothing that could be acted on itself"
)]
#[case::no_controller(
    "[host.a]\nreach = \"ssh\"\naddress = \"10.1.1.1\"\npower = { by = \"redfish\", system = \"/x\" }\n",
    "does not say `controller`"
)]
#[case::not_over_tls(
    "[host.a]\nreach = \"ssh\"\naddress = \"10.1.1.1\"\npower = { by = \"redfish\", system = \"/x\", controller = \"http://1.2.3.4\" }\n",
    "Redfish is spoken over HTTPS"
)]
#[case::an_open_password(
    "[host.a]\nreach = \"ssh\"\naddress = \"10.1.1.1\"\npower = { by = \"redfish\", system = \"/x\", controller = \"https://1.2.3.4\", password = \"tide\" }\n",
    "a password stands in the estate"
)]
#[case::no_mac(
    "[host.a]\nreach = \"ssh\"\naddress = \"10.1.1.1\"\npower = { by = \"wake\", mac = \"02:00\", broadcast = \"10.1.1.255\" }\n",
    "no hardware address"
)]
#[case::no_way_on(
    "[host.a]\nreach = \"ssh\"\naddress = \"10.1.1.1\"\npower = { by = \"commands\", off = [\"/x\"] }\n",
    "no command gives host a power"
)]
#[case::unknown_host(
    "[host.a]\nreach = \"ssh\"\naddress = \"10.1.1.1\"\npower = { by = \"nobody\" }\nrelies_on = [\"harbor\"]\n",
    "did you mean \"harbour\"?"
)]
#[case::a_circle(
    "[host.a]\nreach = \"ssh\"\naddress = \"10.1.1.1\"\npower = { by = \"nobody\" }\nrelies_on = [\"b\"]\n[host.b]\nreach = \"ssh\"\naddress = \"10.1.1.2\"\npower = { by = \"nobody\" }\nrelies_on = [\"a\"]\n",
    "a/host → b/host → a/host"
)]
#[case::a_name_that_is_taken("[service.host]\nlike = \"unit\"\nhost = \"desk\"\n", "stands for the host itself")]
#[case::played_on_a_real_host("[service.p]\nhost = \"desk\"\nrun_by = \"simulated\"\n", "is simulated, and desk is not")]
#[case::a_real_host_played(
    "[host.a]\nreach = \"ssh\"\naddress = \"10.1.1.1\"\nsimulated = { starts = \"1s\" }\n",
    "says how it is simulated, and is real"
)]
#[case::a_chance_beyond_one(
    "[host.a]\nreach = \"simulated\"\n[service.p]\nhost = \"a\"\nsimulated = { fails = 1.5 }\n",
    "write a number from 0 to 1"
)]
#[case::a_speed_that_is_text("[simulation]\nspeed = \"fast\"\n", "a number")]
#[case::as_found_by_nobody("[[procedure.morning.steps]]\nstart = [\"as-found-by:evening\"]\n", "no procedure \"evening\"")]
fn faults_of_hosts_are_told_with_their_mend(#[case] more: &str, #[case] says: &str) {
    let vetted = vet(&format!("{SOUND}{more}"), "/e");
    assert!(vetted.estate.is_none());
    let told: Vec<String> = vetted.faults.iter().map(|f| format!("{} / {}", f.message, f.mend)).collect();
    assert!(told.iter().any(|t| t.contains(says)), "{told:#?}");
    assert!(vetted.faults.iter().all(|f| f.line > 0));
}

#[test]
fn on_a_simulated_host_everything_is_played_whatever_carries_it_elsewhere() {
    let played = "[simulation]\nspeed = 10\n[host.a]\nreach = \"simulated\"\n\
                  [service.p]\nhost = \"a\"\nrun_by = \"process\"\nprocess = { program = \"/opt/p\" }\nladder = [{ rung = \"port\", port = 1 }]\n\
                  start = { usually = \"30s\" }\nsimulated = { fails = 0.25, begins_down = true }\n";
    let (estate, _) = sound(played);
    let service = &estate.services[&"a/p".parse().unwrap()];
    let ServiceRunner::Simulated(how) = &service.runner else { panic!("{service:?}") };
    assert_eq!((how.starts.to_string(), how.fails, how.begins_down), ("3s".to_owned(), 250, true), "ten times as fast");
    assert_eq!(estate.hosts[&"a".parse().unwrap()].simulated.as_ref().unwrap().stops.to_string(), "1s");
}

/// What comes up by itself at a boot is told of hosts that boot, and of what is not started anyway.
#[rstest]
#[case::a_reboot(Wish::Restart, &["harbour/tides is not among what is started, and comes up by itself when harbour boots"])]
#[case::a_shut_down(Wish::Stop, &[])]
fn what_comes_up_by_itself_is_told_of_hosts_that_boot(#[case] wish: Wish, #[case] expected: &[&str]) {
    let more = "[service.tides]\nlike = \"unit\"\nhost = \"harbour\"\nat_boot = true\nexpected = \"down\"\n\
                [service.charts]\nlike = \"unit\"\nhost = \"harbour\"\nat_boot = true\n\
                [service.bell]\nlike = \"unit\"\nhost = \"storage\"\nat_boot = true\n";
    let (mut plan, estate) = planned(more, wish, &["power:harbour"], &["harbour/tides"]);
    plan.guard(&Around::of(&estate, Timestamp::from_ms(0), &BTreeSet::new()));
    let told: Vec<&String> = plan.remarks.iter().filter(|r| r.contains("comes up by itself when")).collect();
    assert_eq!(told, expected);
    assert_eq!(plan.hosts_acted_on().iter().map(ToString::to_string).collect::<Vec<_>>(), ["harbour"]);
}

/// A run that takes a host down is answerable for everything there, whoever relies on it (R18, R37).
#[test]
fn a_run_of_a_host_is_answerable_for_all_that_is_there() {
    let (plan, estate) = planned(
        "[service.charts]\nlike = \"unit\"\nhost = \"harbour\"\nexpected = \"either\"\n",
        Wish::Stop,
        &["power:harbour"],
        &["harbour/charts"],
    );
    let all: Vec<String> = yantro_core::run::answerable(&estate, &plan.sequence.steps).iter().map(ToString::to_string).collect();
    assert!(all.contains(&"harbour/charts".to_owned()) && !all.contains(&"desk/ssh".to_owned()), "{all:?}");
    let (plan, estate) = planned("", Wish::Stop, &["desk/booking"], &[]);
    let all: Vec<String> = yantro_core::run::answerable(&estate, &plan.sequence.steps).iter().map(ToString::to_string).collect();
    assert_eq!(all, ["desk/booking", "desk/host", "harbour/db"]);
}
