//! Vetting: all faults in one pass, each with its place and its mend.

use rstest::rstest;
use yantro_core::{
    model::ServiceRunner,
    text::{Severity, json_schema, vet},
};

use crate::estates::toml;

fn faults(text: &str) -> Vec<(String, usize, String)> {
    let vetted = vet(text, "/e");
    assert!(vetted.estate.is_none(), "this should not be loadable");
    vetted
        .faults
        .into_iter()
        .filter(|f| f.severity == Severity::Error)
        .map(|f| (f.kind, f.line, format!("{} / {}", f.message, f.mend)))
        .collect()
}

#[rstest]
#[case::unknown_key("a", "[service.b]\nlike = \"x\"\nladdr = []\n", "unknown-key", "did you mean \"ladder\"?")]
#[case::unknown_name(
    "a -> b",
    "[service.c]\nlike = \"x\"\nladder = [{ rung = \"port\", port = 1 }]\nrelies_on = [\"bb\"]\n",
    "unknown-name",
    "did you mean \"b\"?"
)]
#[case::cycle("a -> b, b -> c, c -> a", "", "cycle", "h/a → h/b → h/c → h/a")]
#[case::cycle_through_yields("a -> b, b ~> a", "", "cycle", "h/a → h/b → h/a")]
#[case::two_on_one_port("a", "[service.b]\nlike = \"x\"\nladder = [{ rung = \"port\", port = 4000 }]\n", "port-twice", "h/b and h/a")]
#[case::no_proof(
    "a",
    "[service.b]\nrun_by = \"commands\"\nhost = \"h\"\ncommands = { start = [\"a\"], stop = [\"b\"] }\n",
    "no-proof",
    "nothing proves"
)]
#[case::force_without_patience(
    "a",
    "[service.b]\nlike = \"x\"\nladder = [{ rung = \"port\", port = 1 }]\nstop = { force = \"never\" }\n",
    "no-stop-patience",
    "patience"
)]
#[case::bad_duration(
    "a",
    "[service.b]\nlike = \"x\"\nladder = [{ rung = \"port\", port = 1 }]\nstart = { patience = \"90\" }\n",
    "bad-duration",
    "its unit"
)]
#[case::bad_pattern(
    "a",
    "[service.b]\nlike = \"x\"\nladder = [{ rung = \"port\", port = 1 }]\nstart = { must_see = [\"a(\"] }\n",
    "bad-pattern",
    "no pattern"
)]
#[case::unknown_rung(
    "a",
    "[service.b]\nlike = \"x\"\nladder = [{ rung = \"prot\", port = 1 }]\n",
    "unknown-word",
    "did you mean \"port\"?"
)]
#[case::unknown_word(
    "a",
    "[service.b]\nlike = \"x\"\nladder = [{ rung = \"port\", port = 1 }]\nexpected = \"upp\"\n",
    "unknown-word",
    "did you mean \"up\"?"
)]
#[case::wrong_type("a", "[service.b]\nlike = \"x\"\nladder = \"port\"\n", "wrong-type", "a list")]
#[case::diverts_to_nothing(
    "a",
    "[service.b]\nlike = \"x\"\nladder = [{ rung = \"port\", port = 1 }]\nif_it_fails = { divert = \"call\" }\n",
    "unknown-name",
    "no such procedure"
)]
#[case::relies_on_itself("a -> a", "", "relies-on-itself", "itself")]
#[case::unknown_like("a", "[service.b]\nlike = \"y\"\n", "unknown-name", "[like.y]")]
#[case::unknown_value(
    "a",
    "[service.b]\nlike = \"x\"\nladder = [{ rung = \"port\", port = \"{prt}\" }]\nvalues = { port = 1 }\n",
    "unknown-value",
    "did you mean \"port\"?"
)]
#[case::keep_up_of_all(
    "a",
    "[group.g]\nkeep_up = 1\n[service.b]\nlike = \"x\"\ngroups = [\"g\"]\nladder = [{ rung = \"port\", port = 1 }]\n",
    "keep-up",
    "below 1"
)]
#[case::several_copies(
    "a",
    "[service.b]\nlike = \"x\"\ncopies = { l = {}, r = {} }\nladder = [{ rung = \"process\" }]\n[service.c]\nlike = \"x\"\nladder = [{ rung = \"port\", port = 1 }]\nrelies_on = [\"b\"]\n",
    "several-copies",
    "h/b.l, h/b.r"
)]
#[case::an_optional_one_that_is_off(
    "a",
    "[service.b]\nlike = \"x\"\noptional = true\nladder = [{ rung = \"port\", port = 1 }]\n[service.c]\nlike = \"x\"\nladder = [{ rung = \"port\", port = 2 }]\nrelies_on = [\"b\"]\n",
    "unknown-name",
    "turns_on"
)]
#[case::groups_disagree(
    "a",
    "[group.g]\nif_it_fails = \"hold\"\n[group.k]\nif_it_fails = \"carry-on\"\n[service.b]\nlike = \"x\"\ngroups = [\"g\", \"k\"]\nladder = [{ rung = \"port\", port = 1 }]\n",
    "groups-disagree",
    "say it on the service"
)]
#[case::twice_but_for_case("a", "[service.A]\nlike = \"x\"\nladder = [{ rung = \"port\", port = 1 }]\n", "duplicate", "h/a is there twice")]
#[case::shared_log(
    "a",
    "[service.b]\nlike = \"x\"\nlogs = [\"one.log\"]\ncopies = { l = {}, r = {} }\nladder = [{ rung = \"process\" }]\nstart = { must_see = [\"up\"] }\n",
    "shared-log",
    "whose line it is"
)]
#[case::broken_toml("a", "[service.b\nlike = \"x\"\n", "not-toml", "not TOML")]
fn each_fault_is_found_with_its_mend(#[case] relations: &str, #[case] more: &str, #[case] kind: &str, #[case] says: &str) {
    let found = faults(&toml(relations, more));
    assert!(found.iter().any(|(k, line, text)| k == kind && *line > 0 && text.contains(says)), "{found:#?}");
}

#[test]
fn all_faults_are_found_in_one_pass() {
    let more =
        "[service.b]\nlike = \"x\"\nladdr = []\nsteady = \"9\"\nexpected = \"sideways\"\n[service.c]\nlike = \"zz\"\nhost = \"nowhere\"\n";
    let kinds: Vec<String> = faults(&toml("a -> a", more)).into_iter().map(|(k, ..)| k).collect();
    for kind in ["unknown-key", "bad-duration", "unknown-word", "unknown-name", "relies-on-itself"] {
        assert!(kinds.iter().any(|k| k == kind), "{kind} is missing of {kinds:?}");
    }
}

#[test]
fn what_is_common_is_written_once_and_a_copy_says_what_differs() {
    let more = "[service.b]\nlike = \"x\"\nvalues = { port = 7 }\nladder = [{ rung = \"port\", port = \"{port}\" }]\n\
                process = { args = [\"--port\", \"{port}\", \"--copy\", \"{copy}\"], env = { LANE = \"A\" } }\n\
                copies = { l = {}, r = { values = { port = 8 }, env = { LANE = \"B\" } } }\n";
    let estate = vet(&toml("a", more), "/e").estate.unwrap();
    let of = |a: &str| match &estate.services[&a.parse().unwrap()].runner {
        yantro_core::model::ServiceRunner::Process(p) => (p.args.join(" "), p.env["LANE"].clone()),
        other => panic!("it is a process: {other:?}"),
    };
    assert_eq!(of("h/b.l"), ("--port 7 --copy l".to_owned(), "A".to_owned()));
    assert_eq!(of("h/b.r"), ("--port 8 --copy r".to_owned(), "B".to_owned()));
}

#[test]
fn the_published_schema_is_current() {
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../../docs/estate.schema.json");
    let published: serde_json::Value = serde_json::from_str(&std::fs::read_to_string(path).unwrap()).unwrap();
    assert_eq!(published, json_schema(), "make it anew: yantro schema > docs/estate.schema.json");
}

/// A value that is no good keeps nothing else from being vetted.
#[test]
fn a_bad_value_hides_no_other_fault() {
    let more = "[service.b]\nlike = \"x\"\nladder = [{ rung = \"port\", port = 70000 }]\nsteady = \"soon\"\nrelies_on = [\"aa\"]\n";
    let kinds: Vec<String> = faults(&toml("a", more)).into_iter().map(|(kind, ..)| kind).collect();
    assert!(kinds.iter().any(|k| k == "unknown-name") && kinds.iter().any(|k| k == "bad-duration"), "{kinds:?}");
    assert!(!kinds.iter().any(|k| k == "unreadable"), "{kinds:?}");
}

const SOUND: &str = "ladder = [{ rung = \"port\", port = 1 }]\n";

fn service(more: &str) -> String {
    format!("[service.b]\nlike = \"x\"\n{more}")
}

#[rstest]
#[case::no_network_address("[host.k]\nreach = \"here\"\naddress = \"the pier\"\n".to_owned(), "bad-address", "127.0.2.1")]
#[case::another_machines_address("[host.k]\nreach = \"here\"\naddress = \"10.1.2.3\"\n".to_owned(), "not-loopback", "no loopback address")]
#[case::a_name_with_a_dot("[service.\"b.c\"]\nlike = \"x\"\nladder = [{ rung = \"port\", port = 1 }]\n".to_owned(), "bad-name", "letters, digits")]
#[case::a_number_out_of_range(
    service("start = { attempts = -1 }\nladder = [{ rung = \"port\", port = 1 }]\n"),
    "bad-number",
    "out of range"
)]
#[case::a_port_that_is_none(service("ladder = [{ rung = \"port\", port = 70000 }]\n"), "", "70000")]
#[case::a_port_of_a_word(
    service("values = { port = \"seven\" }\nladder = [{ rung = \"port\", port = \"{port}\" }]\n"),
    "bad-port",
    "no port"
)]
#[case::a_page_that_is_none(service("ladder = [{ rung = \"web\", url = \"quay/health\" }]\n"), "bad-url", "write it whole")]
#[case::blocks_in_a_circle("[like.p]\nlike = \"q\"\n[like.q]\nlike = \"p\"\n[service.b]\nlike = \"p\"\nladder = [{ rung = \"port\", port = 1 }]\n".to_owned(), "like-cycle", "circle")]
#[case::hands_off_without_a_reason(service(&format!("hands_off = \"\"\n{SOUND}")), "missing-reason", "who looks after it")]
#[case::never_with_itself(service(&format!("never_with = [\"b\"]\n{SOUND}")), "names-itself", "take it out")]
#[case::never_with_nobody(service(&format!("never_with = [\"bb\"]\n{SOUND}")), "unknown-name", "bb")]
#[case::a_command_of_nothing(service("ladder = [{ rung = \"command\", command = [] }]\n"), "no-command", "program and arguments")]
fn more_faults_are_found_with_their_mends(#[case] more: String, #[case] kind: &str, #[case] says: &str) {
    let found = faults(&toml("a", &more));
    assert!(found.iter().any(|(k, line, text)| (kind.is_empty() || k == kind) && *line > 0 && text.contains(says)), "{found:#?}");
}

#[rstest]
#[case::of_nothing_at_all("")]
#[case::of_an_estate_without_a_name("[estate]\nstands_for = \"test\"\n")]
#[case::of_one_that_stands_for_nothing("[estate]\nname = \"t\"\n")]
#[case::of_services_on_no_host("[estate]\nname = \"t\"\nstands_for = \"test\"\n[service.a]\nrun_by = \"process\"\n")]
fn what_is_missing_is_told_with_what_to_add(#[case] text: &str) {
    let found = faults(text);
    assert!(found.iter().all(|(_, _, text)| text.contains(" / ") && !text.ends_with(" / ")), "{found:#?}");
    assert!(!found.is_empty());
}

fn warnings(text: &str) -> Vec<(String, String)> {
    let vetted = vet(text, "/e");
    assert!(vetted.estate.is_some(), "a warning keeps nothing from being loaded: {:#?}", vetted.faults);
    vetted.faults.into_iter().map(|f| (f.kind, format!("{} / {}", f.message, f.mend))).collect()
}

#[rstest]
#[case::only_its_process(service("ladder = [{ rung = \"process\" }]\n"), "weak-proof", "port, web")]
#[case::a_group_of_nobody("[group.g]\n".to_owned(), "empty-group", "put services in it")]
fn warnings_are_told_and_keep_nothing_from_being_loaded(#[case] more: String, #[case] kind: &str, #[case] says: &str) {
    let found = warnings(&toml("a", &more));
    assert!(found.iter().any(|(k, text)| k == kind && text.contains(says)), "{found:#?}");
}

#[test]
fn a_sound_estate_is_told_nothing() {
    assert!(warnings(&toml("a -> b, b -> c, c ~> d", "")).is_empty());
}

/// Whatever is put in, vetting answers: with an estate or with at least one error, never with neither.
mod whatever {
    use proptest::prelude::*;
    use yantro_core::text::{Severity, vet};

    use crate::estates::toml;

    proptest! {
        #![proptest_config(ProptestConfig { cases: 300, ..ProptestConfig::default() })]

        #[test]
        fn is_put_in_is_answered(cut in 0usize..900, with in "[\\[\\]a-z0-9=\"{},.\\n#éß]{0,12}") {
            let text = toml("a -> b, b -> c, c ~> a2", "[group.g]\nkeep_up = 1\n");
            let at = (0..=cut.min(text.len())).rev().find(|i| text.is_char_boundary(*i)).unwrap_or(0);
            let torn = format!("{}{with}{}", &text[..at], &text[at..]);
            let vetted = vet(&torn, "/e");
            let errors = vetted.faults.iter().filter(|f| f.severity == Severity::Error).count();
            prop_assert_eq!(vetted.estate.is_some(), errors == 0, "{:#?}", vetted.faults);
            for fault in &vetted.faults {
                prop_assert!(!fault.message.is_empty() && !fault.mend.is_empty());
                prop_assert!(fault.span.end <= torn.len() && fault.span.start <= fault.span.end, "{:?} of {}", fault.span, torn.len());
                prop_assert!(torn.is_char_boundary(fault.span.start) && torn.is_char_boundary(fault.span.end));
            }
        }
    }
}

#[test]
fn what_a_service_is_started_with_says_where_each_value_is_written() {
    let text = "[estate]\nname = \"t\"\nstands_for = \"test\"\n[host.h]\nreach = \"here\"\n\
        [like.app]\nrun_by = \"process\"\nprocess = { program = \"bin/app\", user = \"ferries\", env = { LANG = \"C\", LANE = \"A\" } }\n\
        [service.Gate]\nlike = \"app\"\nhost = \"h\"\nladder = [{ rung = \"port\", port = \"{port}\" }]\nvalues = { port = 7 }\n\
        process = { args = [\"--port\", \"{port}\"], env = { KEY = \"file:/etc/key\" } }\n\
        copies = { left = { env = { LANE = \"L\" } }, right = { values = { port = 8 } } }\n";
    let estate = vet(text, "/e").estate.unwrap();
    let launch = yantro_core::model::launch(&estate, text, &"h/gate.left".parse().unwrap()).unwrap();
    let told: Vec<(&str, &str)> = launch.command.iter().map(|s| (s.value.as_str(), s.from.as_str())).collect();
    assert_eq!(told, [("/e/bin/app", "[like.app.process]"), ("--port", "[service.Gate.process]"), ("7", "[service.Gate.process]")]);
    let env = |name: &str| (launch.env[name].value.as_str(), launch.env[name].from.as_str());
    assert_eq!(env("LANG"), ("C", "[like.app.process]"));
    assert_eq!(env("LANE"), ("L", "[service.Gate.copies.left]"));
    assert_eq!(env("KEY"), ("file:/etc/key", "[service.Gate.process]"), "a secret stands as its reference");
    assert_eq!(launch.dir.from, "the estate's folder");
    assert_eq!(launch.user.unwrap().from, "[like.app.process]");
}

const FAR: &str = r#"
[estate]
name = "Sound"
stands_for = "test"
[host.pier]
reach = "ssh"
address = "10.77.0.11"
ssh = { account = "yantro", key = "keys/pier", sudo = "acts" }
[service.db]
host = "pier"
run_by = "process"
process = { program = "/opt/db", args = ["--on", "{address}"] }
logs = ["/var/log/db.log"]
ladder = [{ rung = "port", port = 5432 }]
"#;

#[test]
fn a_host_reached_over_ssh_has_folders_of_its_own() {
    let estate = yantro_core::text::vet(FAR, "/srv/estate").estate.expect("it is sound");
    let host = &estate.hosts[&"pier".parse().unwrap()];
    let ssh = host.ssh.as_ref().unwrap();
    assert_eq!((ssh.key.as_deref(), ssh.account.as_deref()), (Some("/srv/estate/keys/pier"), Some("yantro")), "keys are here");
    let db = &estate.services[&"pier/db".parse().unwrap()];
    let yantro_core::model::ServiceRunner::Process(p) = &db.runner else { panic!("{db:?}") };
    assert_eq!((p.dir.as_str(), p.args[1].as_str()), ("/", "10.77.0.11"), "what runs is there");
}

#[rstest]
#[case::relative_program("program = \"/opt/db\"", "program = \"bin/db\"", "relative-path")]
#[case::relative_log("\"/var/log/db.log\"", "\"log/db.log\"", "relative-path")]
#[case::the_estates_folder("\"/var/log/db.log\"", "\"{dir}/db.log\"", "unknown-value")]
#[case::no_address("address = \"10.77.0.11\"\n", "", "missing-key")]
#[case::an_option_for_an_address("10.77.0.11", "-oProxyCommand=x", "bad-address")]
#[case::an_option_for_an_account("account = \"yantro\"", "account = \"-x\"", "bad-address")]
#[case::reached_otherwise("reach = \"ssh\"\naddress = \"10.77.0.11\"", "reach = \"here\"", "contradiction")]
fn what_cannot_be_on_another_host_is_a_fault(#[case] is: &str, #[case] would_be: &str, #[case] code: &str) {
    let text = FAR.replacen(is, would_be, 1);
    assert_ne!(text, FAR);
    let vetted = yantro_core::text::vet(&text, "/srv/estate");
    assert!(vetted.estate.is_none() && vetted.faults.iter().any(|f| f.kind == code), "{:#?}", vetted.faults);
}

const UNIT: &str = r#"
[estate]
name = "Sound"
stands_for = "test"
[host.pier]
reach = "here"
[service.db]
host = "pier"
run_by = "systemd"
unit = "postgresql@15-main"
at_boot = true
logs = ["journal:cron.service"]
ladder = [{ rung = "port", port = 5432 }]
start = { must_see = ["ready"] }
"#;

#[test]
fn a_unit_has_its_manager_for_a_first_witness_and_its_journal_for_a_log() {
    use yantro_core::model::{RungKind, ServiceRunner};
    let estate = yantro_core::text::vet(UNIT, "/srv").estate.expect("it is sound");
    let db = &estate.services[&"pier/db".parse().unwrap()];
    let ServiceRunner::Systemd(spec) = &db.runner else { panic!("{db:?}") };
    assert_eq!(
        (spec.unit.as_str(), spec.at_boot, spec.journal()),
        ("postgresql@15-main.service", Some(true), "journal:postgresql@15-main.service".to_owned())
    );
    assert!(db.ladder[0].kind == RungKind::Manager && db.ladder[0].gone_after_stop);
    assert_eq!(db.logs, ["journal:cron.service"], "a journal is no path");
}

#[rstest]
#[case::no_units_name("\"postgresql@15-main\"", "\"a b\"", "bad-unit")]
#[case::an_option("\"postgresql@15-main\"", "\"--now\"", "bad-unit")]
#[case::of_a_process("run_by = \"systemd\"", "run_by = \"process\"\nprocess = { program = \"x\" }", "stray-key")]
fn what_is_no_unit_is_a_fault(#[case] is: &str, #[case] would_be: &str, #[case] kind: &str) {
    let vetted = yantro_core::text::vet(&UNIT.replacen(is, would_be, 1), "/srv");
    assert!(vetted.estate.is_none() && vetted.faults.iter().any(|f| f.kind == kind), "{:#?}", vetted.faults);
}

/// What a unit's manager would do past the plan (R38).
#[rstest]
#[case::nothing(&[], "force = \"ask\"", None, "")]
#[case::something_beside(&["exporter.service"], "force = \"ask\"", None, "would stop exporter.service along with it")]
#[case::named(&["exporter.service"], "force = \"ask\"", Some("pier:exporter.service"), "")]
#[case::a_kill_that_is_not_allowed(&[], "force = \"never\"", None, "sooner than its patience")]
fn the_managers_terms_are_held_against_a_plan(
    #[case] too: &[&str],
    #[case] force: &str,
    #[case] along: Option<&str>,
    #[case] refused: &str,
) {
    use yantro_core::{
        graph::EstateGraph,
        guards::Around,
        plan::{Request, forecast::Usual, plan},
        proof::{Facts, SeenState, UnitTerms},
        words::{kinds::Wish, time::Span},
    };
    let text = format!("{UNIT}stop = {{ patience = \"2m\", {force} }}\n");
    let estate = yantro_core::text::vet(&text, "/srv").estate.expect("it is sound");
    let db: yantro_core::words::name::Address = "pier/db".parse().unwrap();
    let facts: Facts = [(db.clone(), SeenState::Proven)].into_iter().collect();
    let request =
        Request { wish: Wish::Stop, chosen: [db.clone()].into(), alone: false, left_standing: [].into(), below_keep_up: [].into() };
    let mut plan = plan(&estate, &EstateGraph::new(&estate), &facts, &Usual::default(), &request);
    let terms = UnitTerms {
        stop_within: Some(Span::secs(90)),
        kills: true,
        stops_too: too.iter().map(|u| (*u).to_owned()).collect(),
        ..UnitTerms::default()
    };
    plan.asked_with.along = along.map(str::to_owned).into_iter().collect();
    let now = yantro_core::words::time::Timestamp::from_ms(0);
    plan.guard(&Around { terms: [(db, terms)].into(), ..Around::of(&estate, now, &Default::default()) });
    let why: Vec<&str> = plan.obstacles.iter().map(|o| o.why.as_str()).collect();
    assert!(if refused.is_empty() { why.is_empty() } else { why.len() == 1 && why[0].contains(refused) }, "{why:?}");
    assert!(plan.remarks[0].contains("lets a stop take 1m 30s, and then kills it"), "{:?}", plan.remarks);
}

/// An estate of two services with a slip in it: what is put into the block of the first, and what is added.
fn with_slip(process: &str, of_db: &str, more: &str) -> Vec<yantro_core::text::Fault> {
    let text = format!(
        "[estate]\nname = \"T\"\nstands_for = \"test\"\n[host.h]\nreach = \"here\"\n\
         [service.db]\nhost = \"h\"\nrun_by = \"process\"\nprocess = {{ program = \"/bin/db\"{process} }}\n\
         ladder = [{{ rung = \"port\", port = 5001 }}]\n{of_db}\n\
         [service.app]\nhost = \"h\"\nrun_by = \"process\"\nprocess = {{ program = \"/bin/app\" }}\n\
         ladder = [{{ rung = \"port\", port = 5002 }}]\nrelies_on = [\"db\"]\n{more}\n"
    );
    vet(&text, "/e").faults
}

const X: &str =
    "[service.x]\nhost = \"h\"\nrun_by = \"process\"\nprocess = { program = \"/bin/x\" }\nladder = [{ rung = \"port\", port = 5003 }]\n";

#[rstest]
#[case::common_blocks_in_a_circle("", "", "[like.a]\nlike = \"b\"\n[like.b]\nlike = \"a\"", "like-cycle", "a → b → a")]
#[case::a_host_it_is_not_on("", "on = { nowhere = { values = { A = \"1\" } } }", "", "unknown-name", "nowhere")]
#[case::a_host_that_is_not_there("", "", "[like.a]\non = { nowhere = { values = { A = \"1\" } } }", "unknown-name", "nowhere")]
#[case::blocks_of_two_carriers("", "commands = { start = [\"/bin/a\"] }", "", "contradiction", "run_by = \"commands\"")]
#[case::a_value_that_it_has_already("", "values = { address = \"10.0.0.9\" }", "", "taken-name", "address")]
#[case::an_account_that_is_a_command(", user = \"root; rm -rf /\"", "", "", "bad-account", "root; rm -rf /")]
#[case::an_empty_variable(", env = { \"\" = \"x\" }", "", "", "bad-variable", "\"\"")]
#[case::a_variable_with_an_equals(", env = { \"A=B\" = \"x\" }", "", "", "bad-variable", "A=B")]
#[case::a_zero_byte(", args = [\"a\\u0000b\"]", "", "", "odd-character", "U+0000")]
#[case::text_that_runs_backwards("", "title = \"x \\u202e y\"", "", "odd-character", "U+202E")]
#[case::no_mask(", umask = \"088\"", "", "", "bad-umask", "088")]
#[case::no_exit_code("", "start = { accept_exits = [256] }", "", "bad-exit", "256")]
#[case::no_patience_at_all("", "start = { patience = \"0s\" }", "", "no-patience", "patience")]
#[case::months_for_minutes("", "start = { patience = \"5M\" }", "", "bad-length", "5M")]
#[case::years("", "start = { patience = \"1y\" }", "", "bad-length", "1y")]
#[case::wanted_and_forbidden("", "start = { must_see = [\"up\"], must_not_see = [\"up\"] }", "", "contradiction", "\"up\"")]
#[case::a_target("", "", "[service.x]\nhost = \"h\"\nrun_by = \"systemd\"\nunit = \"reboot.target\"", "bad-unit", "reboot.target")]
#[case::it_diverts_to_itself(
    "",
    "",
    "[procedure.p]\nif_it_fails = { divert = \"p\" }\nsteps = [{ stop = [\"db\"] }]",
    "contradiction",
    "itself"
)]
#[case::an_answer_that_cannot_be(
    "",
    "",
    "[procedure.p]\nquestions = { n = { asks = \"N?\", kind = \"number\", at_least = 5, at_most = 2 } }\nsteps = [{ stop = [\"db\"] }]",
    "contradiction",
    "at least 5"
)]
#[case::needs_two_that_are_never_up_together(
    "",
    "",
    &format!("{X}never_with = [\"db\"]\nexpected = \"either\"\n[service.y]\nhost = \"h\"\nrun_by = \"process\"\nrelies_on = [\"x\", \"db\"]\nprocess = {{ program = \"/bin/y\" }}\nladder = [{{ rung = \"port\", port = 5009 }}]\n"),
    "never-up",
    "can never be up"
)]
#[case::needs_through_another_what_it_is_never_up_with("", "", &format!("{X}never_with = [\"db\"]\nrelies_on = [\"app\"]"), "never-up", "can never be up")]
#[case::a_name_like_an_option("", "", "[procedure.-p]\nsteps = [{ stop = [\"db\"] }]", "bad-name", "dash")]
fn a_slip_is_an_error_with_its_mend(
    #[case] process: &str,
    #[case] of_db: &str,
    #[case] more: &str,
    #[case] kind: &str,
    #[case] says: &str,
) {
    assert!(with_slip("", "", "").is_empty(), "{:?}", with_slip("", "", ""));
    let faults = with_slip(process, of_db, more);
    let fault = faults
        .iter()
        .find(|f| f.kind == kind && format!("{} {}", f.message, f.mend).contains(says))
        .unwrap_or_else(|| panic!("{faults:?}"));
    assert!(fault.severity == Severity::Error && !fault.mend.is_empty() && fault.line > 0, "{fault:?}");
}

/// Of a pair, each has another that it must not be up with; what a copy says takes the place of what its service says.
#[test]
fn relations_are_written_for_one_copy_or_for_all() {
    let gate = "[service.gate]\nhost = \"h\"\nrun_by = \"process\"\nrelies_on = [\"db\"]\nprocess = { program = \"/bin/gate\", args = [\"{copy}\"] }\n\
                ladder = [{ rung = \"process\" }]\ncopies = { a = { never_with = [\"x\"], expected = \"either\" }, b = { relies_on = [\"app\"], yields_to = [\"x\"] } }\n";
    let text = format!(
        "[estate]\nname = \"T\"\nstands_for = \"test\"\n[host.h]\nreach = \"here\"\n{}{}{X}{gate}",
        X.replace("service.x", "service.db").replace("/bin/x", "/bin/db").replace("5003", "5001"),
        X.replace("service.x", "service.app").replace("/bin/x", "/bin/app").replace("5003", "5002"),
    );
    let vetted = vet(&text, "/e");
    let estate = vetted.estate.unwrap_or_else(|| panic!("{:?}", vetted.faults));
    let of = |copy: &str| &estate.services[&format!("h/gate.{copy}").parse().unwrap()];
    let said = |copy: &str| {
        let text = |all: Vec<String>| all.join(" ");
        let service = of(copy);
        (
            text(service.relies_on_any().map(ToString::to_string).collect()),
            text(service.yields_to.iter().map(ToString::to_string).collect()),
            text(service.never_with.iter().map(ToString::to_string).collect()),
        )
    };
    assert_eq!(said("a"), ("h/db".to_owned(), String::new(), "h/x".to_owned()));
    assert_eq!(said("b"), ("h/app".to_owned(), "h/x".to_owned(), String::new()));
}

#[test]
fn a_unit_is_described_once() {
    let unit = |name: &str, unit: &str, port: u16| {
        format!(
            "[service.{name}]\nhost = \"h\"\nrun_by = \"systemd\"\nunit = \"{unit}\"\nladder = [{{ rung = \"port\", port = {port} }}]\n"
        )
    };
    let faults = with_slip("", "", &(unit("x", "nginx", 5003) + &unit("y", "nginx.service", 5004)));
    assert!(faults.iter().any(|f| f.kind == "unit-twice" && f.message.contains("nginx.service")), "{faults:?}");
}

/// What may be meant is said, and loaded all the same; a secret is never repeated in what is said of it.
#[rstest]
#[case::a_password(", env = { DB_PASSWORD = \"hunter2\" }", "", "secret-in-the-open", "DB_PASSWORD")]
#[case::a_password_in_an_address(", args = [\"postgres://u:hunter2@h/db\"]", "", "secret-in-the-open", "password")]
#[case::nowhere("", &format!("{X}optional = true"), "nowhere", "turns_on")]
#[case::a_freeze_of_years("", "[freeze.peak]\nfrom = \"2026-06-06T06:00\"\nlength = \"20000h\"", "long-freeze", "length")]
#[case::two_that_are_never_up_together("", &format!("{X}never_with = [\"db\"]"), "never-with", "expected")]
fn a_slip_that_may_be_meant_is_a_warning(#[case] process: &str, #[case] more: &str, #[case] kind: &str, #[case] says: &str) {
    let faults = with_slip(process, "", more);
    let fault = faults.iter().find(|f| f.kind == kind).unwrap_or_else(|| panic!("{faults:?}"));
    let told = format!("{} {}", fault.message, fault.mend);
    assert!(fault.severity == Severity::Warning && told.contains(says) && !told.contains("hunter2"), "{fault:?}");
    assert!(faults.iter().all(|f| f.severity == Severity::Warning), "{faults:?}");
}

/// What is over is told by whoever knows the time; what comes again, or is still to come, is not.
#[rstest]
#[case::over("from = \"2026-06-06T06:00\"", "2026-06-06T20:00:00Z", true)]
#[case::on("from = \"2026-06-06T06:00\"", "2026-06-06T19:00:00Z", false)]
#[case::to_come("from = \"2026-06-06T06:00\"", "2026-06-05T00:00:00Z", false)]
#[case::comes_again("from = \"2026-06-06T06:00\"\nrule = \"FREQ=WEEKLY;BYDAY=SA\"", "2031-01-01T00:00:00Z", false)]
#[case::on_a_leap_day("from = \"2024-02-29T06:00\"\nrule = \"FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=29\"", "2096-03-01T00:00:00Z", false)]
#[case::came_so_often("from = \"2026-06-06T06:00\"\nrule = \"FREQ=WEEKLY;COUNT=3\"", "2026-07-01T00:00:00Z", true)]
fn what_is_over_is_told(#[case] hours: &str, #[case] now: &str, #[case] is_over: bool) {
    let now = serde_json::from_value(serde_json::Value::String(now.to_owned())).unwrap();
    for table in ["freeze", "window"] {
        let text = toml("a", &format!("[{table}.peak]\n{hours}\nlength = \"14h\"\n"));
        let faults = vet(&text, "/e").by(&text, now).faults;
        let told = faults.iter().any(|f| f.kind == "over" && f.severity == Severity::Warning && text[f.span.clone()].contains("peak"));
        assert_eq!(told, is_over, "{faults:?}");
    }
}

#[rstest]
#[case::a_reference(", env = { DB_PASSWORD = \"file:/etc/pw\" }")]
#[case::a_placeholder(", env = { DB_PASSWORD = \"{service}\" }")]
#[case::an_account_of_a_domain(", user = \"fares@sound.example\"")]
#[case::an_address_without_one(", args = [\"postgres://u@h:5432/db\"]")]
fn what_only_looks_like_a_slip_is_none(#[case] process: &str) {
    let faults = with_slip(process, "", "");
    assert!(faults.is_empty(), "{faults:?}");
}

#[test]
fn a_time_zone_that_is_not_there_is_told_once_though_no_hours_use_it() {
    let faults = vet(
        "[estate]\nname = \"T\"\nstands_for = \"test\"\ntime_zone = \"Europe/Olso\"\n\
                      [freeze.ball]\nfrom = \"2026-06-06T06:00\"\nlength = \"14h\"\n",
        "/e",
    )
    .faults;
    let zones: Vec<_> = faults.iter().filter(|f| f.message.contains("Europe/Olso")).collect();
    assert!(zones.len() == 1 && zones[0].mend.contains("Europe/Oslo"), "{faults:?}");
}

/// A database with a missing bracket, and two faults elsewhere that have nothing to do with it.
const BROKEN: &str = r#"[estate]
name = "Sound"
stands_for = "test"
[host.quay]
reach = "here"
address = "127.0.0.1"
[like.gate]
run_by = "process"
process = { program = "/bin/gate", args = ["{service}"] }
ladder = [{ rung = "file", path = "/run/{service}" }]
[service.db]
like = "gate"
host = "quay"
relies_on = ["disk", "net"
start = { patience = "10s" }
[service.db.stop]
patience = "10s"
[service.app]
like = "gate"
host = "quay"
relies_on = ["db"]
start = { patience = "ten" }
[service.desk]
like = "gate"
host = "quay"
shade = 4
[procedure.night]
title = "Night"
steps = [{ restart = ["db"] }, { restart = ["app"], patience = "soon" }]
"#;

/// What cannot be read comes first and spoils nothing else: neither what it would have named, nor other tables.
#[rstest]
#[case::a_bracket("", "", &["15 not-toml", "22 bad-duration", "26 unknown-key", "29 bad-duration"])]
#[case::in_what_others_are_like("run_by = \"process\"\n", "run_by = \"process\n", &["8 not-toml", "15 not-toml", "22 bad-duration", "26 unknown-key", "29 bad-duration"])]
#[case::a_table_twice("[service.desk]", "[service.app]", &["15 not-toml", "23 not-toml", "22 bad-duration", "29 bad-duration"])]
#[case::at_the_end_of_its_table("start = { patience = \"10s\" }\n[service.db.stop]\npatience = \"10s\"\n", "\n", &["14 not-toml", "20 bad-duration", "24 unknown-key", "27 bad-duration"])]
#[case::text_at_the_end_of_its_table("relies_on = [\"disk\", \"net\"\nstart = { patience = \"10s\" }\n[service.db.stop]\npatience = \"10s\"\n", "title = \"x\n\n", &["14 not-toml", "20 bad-duration", "24 unknown-key", "27 bad-duration"])]
#[case::mended("\"net\"\n", "\"net\"]\n", &["14 unknown-name", "14 unknown-name", "22 bad-duration", "26 unknown-key", "29 bad-duration"])]
fn what_cannot_be_read_spoils_nothing_else(#[case] from: &str, #[case] to: &str, #[case] faults: &[&str]) {
    let text = if from.is_empty() { BROKEN.to_owned() } else { BROKEN.replacen(from, to, 1) };
    let found: Vec<String> = vet(&text, "/e").faults.iter().map(|f| format!("{} {}", f.line, f.kind)).collect();
    assert_eq!(found, faults);
}

/// One fault once: each copy has it, and it is mended in one place.
#[test]
fn a_fault_of_a_service_is_told_once_for_all_its_copies() {
    let copies: String = (1..=9).map(|n| format!("c{n} = {{}}, ")).collect();
    let text = toml(
        "zz",
        &format!(
            "[service.gate]\nlike = \"x\"\ncopies = {{ {copies} }}\nladder = [{{ rung = \"process\" }}]\nrelies_on = [\"zy\"]\nnever_with = [\"zw\"]\n"
        ),
    );
    let faults = vet(&text, "/e").faults;
    let of_names: Vec<&str> = faults.iter().filter(|f| f.kind == "unknown-name").map(|f| f.message.as_str()).collect();
    assert_eq!(of_names.len(), 2, "{of_names:#?}");
}

/// However much is wrong, it is found in a time that grows with the file, and not with its square.
#[test]
#[allow(clippy::disallowed_methods, reason = "how long it takes is what is asked here")]
fn vetting_takes_no_longer_per_fault_where_there_are_many() {
    let with = |missing: usize| {
        let services: String = (0..missing)
            .map(|n| format!("[service.s{n}]\nlike = \"x\"\nladder = [{{ rung = \"port\", port = 9 }}]\nrelies_on = [\"gone-{n}\"]\n"))
            .collect();
        let text = toml("zz", &services);
        let began = std::time::Instant::now();
        assert!(vet(&text, "/e").faults.len() >= missing);
        began.elapsed()
    };
    with(100);
    // Eight times as many; with the square it is eighty times and more. Others work on this machine, too: one calm moment will do.
    let mut times = Vec::new();
    let is_linear = (0..3).any(|_| {
        let (few, many) = (with(500), with(4_000));
        times.push((few, many));
        many < few * 8 * 4
    });
    assert!(is_linear, "500 and 4,000: {times:?}");
}

/// Only where a restart would start something else is one owed: not for how it is looked at, stopped or reached.
#[rstest]
#[case::its_program("program = \"/bin/b\"", "program = \"/bin/c\"", false)]
#[case::an_argument("args = [\"on\"]", "args = [\"off\"]", false)]
#[case::its_environment("A = \"1\"", "A = \"2\"", false)]
#[case::its_ladder("port = 7", "port = 8", true)]
#[case::its_patience("patience = \"1m\"", "patience = \"2m\"", true)]
#[case::where_its_host_is("address = \"127.0.0.7\"", "address = \"127.0.0.8\"", true)]
#[case::the_command_that_starts_it("start = [\"/bin/on\"]", "start = [\"/bin/up\"]", false)]
#[case::the_command_that_says_whether_it_is_up("state = [\"/bin/is\"]", "state = [\"/bin/are\"]", true)]
#[case::the_command_that_stops_it("stop = [\"/bin/off\"]", "stop = [\"/bin/down\"]", true)]
fn a_restart_is_owed_where_it_would_change_something(#[case] was: &str, #[case] is: &str, #[case] is_same: bool) {
    let text = "[estate]\nname = \"t\"\nstands_for = \"test\"\n[host.h]\nreach = \"here\"\naddress = \"127.0.0.7\"\n\
        [service.b]\nhost = \"h\"\nrun_by = \"process\"\nprocess = { program = \"/bin/b\", args = [\"on\"], env = { A = \"1\" } }\n\
        ladder = [{ rung = \"port\", port = 7 }]\nstart = { patience = \"1m\" }\n\
        [service.c]\nhost = \"h\"\nrun_by = \"commands\"\ncommands = { start = [\"/bin/on\"], stop = [\"/bin/off\"], state = [\"/bin/is\"] }\n\
        ladder = [{ rung = \"port\", port = 9 }]\n";
    assert!(text.contains(was));
    let of = |text: &str| vet(text, "/e").estate.unwrap().services;
    let (before, after) = (of(text), of(&text.replace(was, is)));
    assert!(before != after, "something changed");
    assert_eq!(before.iter().all(|(a, s)| s.runner.starts_as(&after[a].runner)), is_same);
}

/// An estate may lie in the root, or name it: what names no folder runs there, and not in none.
#[rstest]
#[case::it_lies_there("", "/", "/", "/bell")]
#[case::it_names_it("dir = \"/\"", "/srv/ferry", "/", "/bell")]
#[case::elsewhere("", "/srv/ferry/", "/srv/ferry", "/srv/ferry/bell")]
fn what_names_no_folder_runs_in_the_estates(#[case] dir: &str, #[case] lies_in: &str, #[case] wanted: &str, #[case] program: &str) {
    let text = format!(
        "[estate]\nname = \"Brannock Sound\"\nstands_for = \"test\"\n{dir}\n[host.quay]\nreach = \"here\"\n\
         [service.lamp]\nhost = \"quay\"\nrun_by = \"commands\"\ncommands = {{ start = [\"./bell\"], stop = [\"./bell\"], state = [\"./bell\"] }}\n\
         [service.buoy]\nhost = \"quay\"\nrun_by = \"process\"\nprocess = {{ program = \"./bell\", dir = \"{{dir}}\" }}\nladder = [{{ rung = \"process\" }}]\n\
         [procedure.oil]\ntitle = \"Oil\"\nsteps = [{{ title = \"Oil it\", work = [\"./bell\"], on = \"quay\", changes_nothing = true }}]\n"
    );
    let vetted = vet(&text, lies_in);
    let estate = vetted.estate.unwrap_or_else(|| panic!("{:?}", vetted.faults));
    let dirs: Vec<(&str, &str)> = estate
        .services
        .values()
        .map(|s| match &s.runner {
            ServiceRunner::Commands(c) => (c.dir.as_str(), c.start[0].as_str()),
            ServiceRunner::Process(p) => (p.dir.as_str(), p.program.as_str()),
            other => panic!("{other:?}"),
        })
        .collect();
    assert_eq!(dirs, [(wanted, program), (wanted, program)]);
}

/// An estate with a host, a service, a freeze and a procedure; one piece of it written otherwise.
fn written_otherwise(piece: &str, otherwise: &str) -> Vec<(String, String)> {
    let text = "[estate]\nname = \"T\"\nstands_for = \"test\"\n[host.quay]\nreach = \"here\"\naddress = \"127.0.0.1\"\n\
                [host.pier]\nreach = \"ssh\"\naddress = \"10.0.0.9\"\npower = { by = \"redfish\", controller = \"https://10.0.9.2\", system = \"/s\" }\n\
                [service.db]\nhost = \"quay\"\nrun_by = \"process\"\nprocess = { program = \"/bin/db\" }\nladder = [{ rung = \"port\", port = 5001 }]\n\
                [service.lamp]\nhost = \"quay\"\nrun_by = \"commands\"\nladder = [{ rung = \"file\", path = \"/run/lamp\" }]\n\
                commands = { start = [\"/bin/on\"], stop = [\"/bin/off\"], state = [\"/bin/is\"] }\n\
                [freeze.ball]\nfrom = \"2026-06-06T06:00\"\nrule = \"FREQ=WEEKLY\"\nlength = \"14h\"\nzone = \"Europe/London\"\n\
                [procedure.dusk]\nsteps = [{ stop = [\"db\"] }, { work = [\"/bin/sweep\"], title = \"sweep\", changes_nothing = true }]\n";
    assert!(vet(text, "/e").faults.is_empty(), "{:?}", vet(text, "/e").faults);
    assert_eq!(text.matches(piece).count(), 1, "{piece}");
    let faults = vet(&text.replacen(piece, otherwise, 1), "/e").faults;
    faults.into_iter().filter(|f| f.severity == Severity::Error).map(|f| (f.kind.to_string(), f.message)).collect()
}

/// What is misspelt is blamed, and nothing is said to be missing for it.
#[rstest]
#[case::a_carrier("run_by = \"process\"", "run_by = \"proces\"")]
#[case::the_key_of_the_carrier("run_by = \"process\"", "runby = \"process\"")]
#[case::a_program("program = ", "progam = ")]
#[case::a_command("state = ", "sate = ")]
#[case::a_way_to_a_host("reach = \"here\"", "reach = \"hree\"")]
#[case::the_key_of_that("reach = \"here\"", "raech = \"here\"")]
#[case::what_gives_power("by = \"redfish\"", "by = \"redfsh\"")]
#[case::a_controller("controller = ", "controler = ")]
#[case::the_address_over_ssh("address = \"10.0.0.9\"", "adress = \"10.0.0.9\"")]
#[case::a_host("host = \"quay\"\nrun_by = \"process\"", "host = \"qauy\"\nrun_by = \"process\"")]
#[case::the_key_of_a_host("host = \"quay\"\nrun_by = \"process\"", "hots = \"quay\"\nrun_by = \"process\"")]
#[case::a_deed("stop = [\"db\"]", "stpo = [\"db\"]")]
#[case::a_length("length = \"14h\"", "length = \"14x\"")]
#[case::the_key_of_a_length("length = \"14h\"", "lenght = \"14h\"")]
#[case::what_it_stands_for("stands_for = \"test\"", "stands_for = \"tset\"")]
#[case::the_key_of_that_too("stands_for", "stand_for")]
#[case::a_name("name = \"T\"", "nmae = \"T\"")]
fn one_slip_is_one_fault(#[case] piece: &str, #[case] otherwise: &str) {
    let faults = written_otherwise(piece, otherwise);
    assert_eq!(faults.len(), 1, "{faults:?}");
}

/// Whatever else is wrong in its table is told along with it.
#[rstest]
#[case::hours(
    "from = \"2026-06-06T06:00\"\nrule = \"FREQ=WEEKLY\"\nlength = \"14h\"\nzone = \"Europe/London\"",
    "from = \"2026-13-06T06:00\"\nrule = \"FREQ=WEKLY\"\nlength = \"14x\"\nzone = \"Europe/Lodnon\"",
    &["2026-13-06", "WEKLY", "14x", "Lodnon"]
)]
#[case::a_host_that_is_not_there(
    "host = \"quay\"\nrun_by = \"process\"\nprocess = { program = \"/bin/db\" }",
    "host = \"qauy\"\nrun_by = \"process\"\nprocess = { program = \"/bin/db\", args = [\"{nope}\"] }\nrelies_on = [\"nobody\"]",
    &["qauy", "nope", "nobody"]
)]
#[case::no_host_at_all(
    "host = \"quay\"\nrun_by = \"process\"\nprocess = { program = \"/bin/db\" }",
    "run_by = \"process\"\nprocess = { program = \"/bin/db\", args = [\"{nope}\"] }",
    &["is on no host", "nope"]
)]
#[case::copies_on_a_host_that_is_not_there(
    "host = \"quay\"\nrun_by = \"process\"\nprocess = { program = \"/bin/db\" }",
    "host = \"qauy\"\nrun_by = \"process\"\nprocess = { program = \"/bin/db\", args = [\"{lane}\"] }\ncopies = { left = { values = { lane = \"A\" } } }",
    &["qauy"]
)]
#[case::no_command_in_its_list("start = [\"/bin/on\"]", "start = []", &["has no start command"])]
#[case::no_host_in_its_list("host = \"quay\"\nrun_by = \"process\"", "hosts = []\nrun_by = \"process\"", &["is on no host"])]
#[case::nothing_that_gives_power(
    "by = \"redfish\", controller = \"https://10.0.9.2\", system = \"/s\"",
    "by = \"commands\", on = []",
    &["no command gives host pier power"]
)]
#[case::power_by_what_is_unknown(
    "by = \"redfish\", controller = \"https://10.0.9.2\", system = \"/s\"",
    "by = \"redfsh\", controller = \"http://10.0.9.2\", system = \"s\", password = \"hunter2\"",
    &["redfsh", "http://10.0.9.2", "\"s\"", "password"]
)]
#[case::a_step_on_a_host_that_is_not_there(
    "work = [\"/bin/sweep\"], title",
    "work = [\"/bin/sweep\", \"{nope}\"], on = \"peir\", title",
    &["peir", "nope"]
)]
fn one_bad_value_hides_no_other_of_its_table(#[case] piece: &str, #[case] otherwise: &str, #[case] all: &[&str]) {
    let faults = written_otherwise(piece, otherwise);
    for says in all {
        assert!(faults.iter().any(|(_, message)| message.contains(says)), "{says}: {faults:?}");
    }
    assert_eq!(faults.len(), all.len(), "{faults:?}");
}

/// A service on a host that is not there is held against no other: which it would share a port with nobody knows.
#[test]
fn what_is_on_no_host_takes_nothing_from_others() {
    let of = |name: &str, host: &str| {
        format!(
            "[service.{name}]\nhost = \"{host}\"\nrun_by = \"process\"\nprocess = {{ program = \"/bin/x\" }}\n\
             ladder = [{{ rung = \"port\", port = 5001 }}]\n[service.{name}-unit]\nhost = \"{host}\"\nrun_by = \"systemd\"\nunit = \"same\"\n"
        )
    };
    let text =
        format!("[estate]\nname = \"T\"\nstands_for = \"test\"\n[host.quay]\nreach = \"here\"\n{}{}", of("db", "qauy"), of("app", "quay"));
    let faults = vet(&text, "/e").faults;
    let errors: Vec<&str> = faults.iter().filter(|f| f.severity == Severity::Error).map(|f| f.message.as_str()).collect();
    assert_eq!(errors, ["there is no host \"qauy\""; 2]);
}
