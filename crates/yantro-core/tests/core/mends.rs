//! Mends followed to the letter: whoever writes what a fault's mend says has a sound estate.

use std::sync::LazyLock;

use rstest::rstest;
use yantro_core::text::{Severity, vet};

use crate::estates::toml;

const B: &str = "[service.b]\nlike = \"x\"\nladder = [{ rung = \"port\", port = 1 }]\n";
const OWN: &str = "[service.b]\nhost = \"h\"\nrun_by = \"commands\"\ncommands = { start = [\"on\"], stop = [\"off\"], state = [\"is\"] }\n";
const FAR: &str = "[host.far]\nreach = \"ssh\"\naddress = \"10.0.0.9\"\npower = { by = \"wake\", mac = \"02:00:5e:10:00:02\", broadcast = \"10.0.0.255\" }\n";

/// Pieces of text that a mend says to write, with what stands in them for something of the reader's own left open. A key alone is
/// only named.
fn written(mend: &str) -> Vec<Vec<&str>> {
    let pieces = mend.split('`').enumerate().filter(|(i, piece)| i % 2 == 1 && piece.contains(['=', '[', '"']));
    pieces.map(|(_, piece)| piece.split('…').map(str::trim).collect()).collect()
}

fn stands_in(piece: &[&str], text: &str) -> bool {
    let mut rest = text;
    piece.iter().all(|part| match rest.find(part) {
        Some(at) => {
            rest = &rest[at + part.len()..];
            true
        }
        None => false,
    })
}

/// What the published schema says of a text, as an editor that knows it would.
fn against_schema(text: &str) -> Vec<String> {
    static SCHEMA: LazyLock<(boon::Schemas, boon::SchemaIndex)> = LazyLock::new(|| {
        let (mut schemas, mut compiler) = (boon::Schemas::new(), boon::Compiler::new());
        compiler.add_resource("estate.json", yantro_core::text::json_schema()).expect("it can be read");
        let index = compiler.compile("estate.json", &mut schemas).expect("it is a schema");
        (schemas, index)
    });
    let read: toml::Value = toml::from_str(text).expect("it is TOML");
    let read = serde_json::to_value(read).expect("it is JSON");
    match SCHEMA.0.validate(&read, SCHEMA.1) {
        Ok(()) => Vec::new(),
        Err(against) => vec![format!("{against:#}")],
    }
}

/// `slip` has a fault of a kind; `mended` is what comes of its mend. Behind a `~` is what a schema has no words for: a fault of more
/// than one table, of what is elsewhere, or of what may be meant.
fn is_mended(slip: &str, kind: &str, mended: &str) {
    let (slip, mended) = (toml("a, c -> a", slip), toml("a, c -> a", mended));
    let (kind, is_beyond) = kind.strip_prefix('~').map_or((kind, false), |kind| (kind, true));
    let by_schema = against_schema(&slip);
    assert_eq!(by_schema.is_empty(), is_beyond, "{kind} by the schema: {by_schema:?}");
    assert_eq!(against_schema(&mended), Vec::<String>::new());
    let faults = vet(&slip, "/e").faults;
    let fault = faults.iter().find(|f| f.kind == kind).unwrap_or_else(|| panic!("no {kind}: {faults:#?}"));
    let pieces = written(&fault.mend);
    // Of several ways to mend it one was taken; something may as well be taken out.
    let is_followed = pieces.is_empty() || fault.mend.contains("take ") || pieces.iter().any(|piece| stands_in(piece, &mended));
    assert!(is_followed, "\"{}\" is not what was done:\n{mended}", fault.mend);
    for near in fault.mend.split("did you mean ").skip(1) {
        let name = near.split('"').nth(1).expect("it names one");
        assert!(mended.contains(name), "\"{}\" is not what was done:\n{mended}", fault.mend);
    }
    let left = vet(&mended, "/e").faults;
    assert!(left.iter().all(|f| f.severity == Severity::Warning), "by the mend \"{}\": {left:#?}", fault.mend);
    assert!(!left.iter().any(|f| f.kind == kind), "by the mend \"{}\": {left:#?}", fault.mend);
}

/// What is used passes.
#[test]
fn the_estates_that_are_there_pass_the_schema() {
    for text in [include_str!("../../../../demo/estate.toml"), include_str!("../../../../lab/src/ferry.toml")] {
        // What the lab fills in when it is raised.
        assert_eq!(against_schema(&text.replace("@CONTROLLER@", "https://10.0.9.2")), Vec::<String>::new());
    }
}

#[rstest]
#[case::a_key("laddr = [{ rung = \"port\", port = 1 }]", "unknown-key", "ladder = [{ rung = \"port\", port = 1 }]")]
#[case::a_rung("ladder = [{ rung = \"prot\", port = 1 }]", "unknown-word", "ladder = [{ rung = \"port\", port = 1 }]")]
#[case::a_word(
    "ladder = [{ rung = \"port\", port = 1 }]\nexpected = \"upp\"",
    "unknown-word",
    "ladder = [{ rung = \"port\", port = 1 }]\nexpected = \"up\""
)]
#[case::a_value(
    "values = { port = 1 }\nladder = [{ rung = \"port\", port = \"{prt}\" }]",
    "~unknown-value",
    "values = { port = 1 }\nladder = [{ rung = \"port\", port = \"{port}\" }]"
)]
#[case::what_it_relies_on(
    "relies_on = [\"cc\"]\nladder = [{ rung = \"port\", port = 1 }]",
    "~unknown-name",
    "relies_on = [\"c\"]\nladder = [{ rung = \"port\", port = 1 }]"
)]
#[case::whom_it_is_never_with(
    "never_with = [\"cc\"]\nladder = [{ rung = \"port\", port = 1 }]\nexpected = \"down\"",
    "~unknown-name",
    "never_with = [\"c\"]\nladder = [{ rung = \"port\", port = 1 }]\nexpected = \"down\""
)]
#[case::a_relation_that_is_no_list(
    "relies_on = \"c\"\nladder = [{ rung = \"port\", port = 1 }]",
    "wrong-type",
    "relies_on = [\"c\"]\nladder = [{ rung = \"port\", port = 1 }]"
)]
#[case::a_relation_that_is_a_table(
    "never_with = { any = [\"c\"] }\nladder = [{ rung = \"port\", port = 1 }]\nexpected = \"down\"",
    "wrong-type",
    "never_with = [\"c\"]\nladder = [{ rung = \"port\", port = 1 }]\nexpected = \"down\""
)]
#[case::a_length_without_a_unit(
    "start = { patience = 45 }\nladder = [{ rung = \"port\", port = 1 }]",
    "wrong-type",
    "start = { patience = \"45s\" }\nladder = [{ rung = \"port\", port = 1 }]"
)]
#[case::a_length_of_digits(
    "start = { patience = \"45\" }\nladder = [{ rung = \"port\", port = 1 }]",
    "bad-duration",
    "start = { patience = \"45s\" }\nladder = [{ rung = \"port\", port = 1 }]"
)]
#[case::months(
    "start = { patience = \"5M\" }\nladder = [{ rung = \"port\", port = 1 }]",
    "bad-length",
    "start = { patience = \"5m\" }\nladder = [{ rung = \"port\", port = 1 }]"
)]
#[case::no_time_at_all(
    "start = { patience = \"0s\" }\nladder = [{ rung = \"port\", port = 1 }]",
    "no-patience",
    "start = { patience = \"30s\" }\nladder = [{ rung = \"port\", port = 1 }]"
)]
#[case::a_status(
    "ladder = [{ rung = \"web\", url = \"http://127.0.0.1:1/\", status = \"ok\" }]",
    "wrong-type",
    "ladder = [{ rung = \"web\", url = \"http://127.0.0.1:1/\", status = [200] }]"
)]
#[case::half_a_page(
    "ladder = [{ rung = \"web\", url = \"127.0.0.1:1/\" }]",
    "bad-url",
    "ladder = [{ rung = \"web\", url = \"http://127.0.0.1:1/\" }]"
)]
#[case::forced_never(
    "stop = { force = \"never\" }\nladder = [{ rung = \"port\", port = 1 }]",
    "~no-stop-patience",
    "stop = { force = \"never\", patience = \"2m\" }\nladder = [{ rung = \"port\", port = 1 }]"
)]
#[case::nobodys_unit(
    "unit = \"b\"\nladder = [{ rung = \"port\", port = 1 }]",
    "~contradiction",
    "ladder = [{ rung = \"port\", port = 1 }]"
)]
#[case::only_its_process("ladder = [{ rung = \"process\" }]", "~weak-proof", "ladder = [{ rung = \"port\", port = 1 }]")]
#[case::a_name_that_each_has(
    "values = { address = \"::1\" }\nladder = [{ rung = \"port\", port = 1 }]",
    "taken-name",
    "values = { at = \"::1\" }\nladder = [{ rung = \"port\", port = 1 }]"
)]
#[case::a_secret(
    "ladder = [{ rung = \"port\", port = 1 }]\nprocess = { env = { PASSWORD = \"hunter2\" } }",
    "~secret-in-the-open",
    "ladder = [{ rung = \"port\", port = 1 }]\nprocess = { env = { PASSWORD = \"file:/etc/yantro/b\" } }"
)]
#[case::a_password_in_an_address(
    "ladder = [{ rung = \"port\", port = 1 }]\nprocess = { args = [\"postgres://u:hunter2@h/db\"] }",
    "~secret-in-the-open",
    "ladder = [{ rung = \"port\", port = 1 }]\nprocess = { args = [\"postgres://u@h/db\"], env = { PGPASSWORD = \"file:/etc/yantro/b\" } }"
)]
#[case::brought_back_and_stopped_twice(
    "ladder = [{ rung = \"port\", port = 1 }]\nbrought_back_by = \"cron\"\nstop = { attempts = 2 }",
    "contradiction",
    "ladder = [{ rung = \"port\", port = 1 }]\nbrought_back_by = \"cron\"\nstop = { }"
)]
#[case::never_with_itself(
    "never_with = [\"b\"]\nladder = [{ rung = \"port\", port = 1 }]",
    "~names-itself",
    "never_with = []\nladder = [{ rung = \"port\", port = 1 }]"
)]
#[case::both_expected_up(
    "never_with = [\"c\"]\nladder = [{ rung = \"port\", port = 1 }]",
    "~never-with",
    "never_with = [\"c\"]\nexpected = \"down\"\nladder = [{ rung = \"port\", port = 1 }]"
)]
fn a_slip_of_a_service(#[case] slip: &str, #[case] kind: &str, #[case] mended: &str) {
    let service = |of_it: &str| format!("[service.b]\nlike = \"x\"\n{of_it}\n");
    is_mended(&service(slip), kind, &service(mended));
}

#[rstest]
#[case::nothing_proves_it(
    "[service.b]\nhost = \"h\"\nrun_by = \"process\"\nprocess = { program = \"/bin/b\" }\n",
    "~no-proof",
    "[service.b]\nhost = \"h\"\nrun_by = \"process\"\nprocess = { program = \"/bin/b\" }\nladder = [{ rung = \"port\", port = 5432 }]\n"
)]
#[case::patterns_and_no_log(
    &format!("{OWN}start = {{ must_see = [\"up\"] }}\n"),
    "~no-log",
    &format!("{OWN}start = {{ must_see = [\"up\"] }}\nlogs = [\"b.log\"]\n")
)]
#[case::on_no_host(
    "[service.b]\nrun_by = \"process\"\nprocess = { program = \"/bin/b\" }\nladder = [{ rung = \"port\", port = 1 }]\n",
    "missing-key",
    "[service.b]\nhost = \"h\"\nrun_by = \"process\"\nprocess = { program = \"/bin/b\" }\nladder = [{ rung = \"port\", port = 1 }]\n"
)]
#[case::no_program(
    "[service.b]\nhost = \"h\"\nrun_by = \"process\"\nladder = [{ rung = \"port\", port = 1 }]\n",
    "~missing-key",
    "[service.b]\nhost = \"h\"\nrun_by = \"process\"\nladder = [{ rung = \"port\", port = 1 }]\nprocess = { program = \"/bin/b\" }\n"
)]
#[case::no_carrier(
    "[service.b]\nhost = \"h\"\nladder = [{ rung = \"port\", port = 1 }]\n",
    "~missing-key",
    "[service.b]\nhost = \"h\"\nrun_by = \"systemd\"\nladder = [{ rung = \"port\", port = 1 }]\n"
)]
#[case::optional_and_off(
    &format!("[host.k]\nreach = \"here\"\n{B}host = \"k\"\noptional = true\n"),
    "~nowhere",
    &format!("[host.k]\nreach = \"here\"\nturns_on = [\"b\"]\n{B}host = \"k\"\noptional = true\n")
)]
#[case::no_state(&format!("{}ladder = [{{ rung = \"port\", port = 1 }}]\n", OWN.replace(", state = [\"is\"]", "")), "~missing-key", &format!("{}ladder = [{{ rung = \"port\", port = 1 }}]\n", OWN.replace("[\"is\"]", "[\"program\", \"argument\"]")))]
#[case::no_command_to_stop("[service.b]\nhost = \"h\"\nrun_by = \"commands\"\ncommands = { start = [\"on\"], state = [\"is\"] }\nladder = [{ rung = \"port\", port = 1 }]\n", "~missing-key", &format!("{}ladder = [{{ rung = \"port\", port = 1 }}]\n", OWN.replace("[\"off\"]", "[\"program\", \"argument\"]")))]
#[case::at_boot_of_no_unit(&format!("{B}at_boot = true\n"), "~stray-key", B)]
#[case::at_boot_of_a_unit(&format!("{B}at_boot = true\n"), "~stray-key", "[service.b]\nhost = \"h\"\nrun_by = \"systemd\"\nladder = [{ rung = \"port\", port = 1 }]\nat_boot = true\n")]
#[case::common_in_a_circle("[like.p]\nlike = \"q\"\n[like.q]\nlike = \"p\"\n", "~like-cycle", "[like.p]\nlike = \"q\"\n[like.q]\n")]
#[case::a_host_without_a_way("[host.k]\n", "missing-key", "[host.k]\nreach = \"here\"\n")]
#[case::a_host_without_an_address("[host.k]\nreach = \"ssh\"\n", "missing-key", "[host.k]\nreach = \"ssh\"\naddress = \"10.0.0.9\"\n")]
#[case::ssh_to_here("[host.k]\nreach = \"here\"\nssh = { account = \"y\" }\n", "contradiction", "[host.k]\nreach = \"here\"\n")]
#[case::ssh_after_all(
    "[host.k]\nreach = \"here\"\naddress = \"10.0.0.9\"\nssh = { account = \"y\" }\n",
    "contradiction",
    "[host.k]\nreach = \"ssh\"\naddress = \"10.0.0.9\"\nssh = { account = \"y\" }\n"
)]
#[case::acted_on_without_power(
    "[host.k]\nreach = \"here\"\nstop = { patience = \"1m\" }\n",
    "stray-key",
    "[host.k]\nreach = \"here\"\nstop = { patience = \"1m\" }\npower = { by = \"nobody\" }\n"
)]
#[case::power_by_what(
    "[host.k]\nreach = \"here\"\npower = { }\n",
    "missing-key",
    "[host.k]\nreach = \"here\"\npower = { by = \"nobody\" }\n"
)]
#[case::no_controller(
    "[host.k]\nreach = \"here\"\npower = { by = \"redfish\", system = \"/redfish/v1/Systems/1\", account = \"y\", password = \"file:/etc/y\" }\n",
    "missing-key",
    "[host.k]\nreach = \"here\"\npower = { by = \"redfish\", controller = \"https://10.0.9.2\", system = \"/redfish/v1/Systems/1\", account = \"y\", password = \"file:/etc/y\" }\n"
)]
#[case::no_hardware_address(&FAR.replace("mac = \"02:00:5e:10:00:02\", ", ""), "missing-key", &FAR.replace("00:02", "00:01"))]
#[case::an_odd_hardware_address(&FAR.replace("02:00:5e:10:00:02", "2:0:5e:10:0:1"), "bad-address", &FAR.replace("00:02", "00:01"))]
#[case::no_command_for_power(
    "[host.k]\nreach = \"here\"\npower = { by = \"commands\" }\n",
    "missing-key",
    "[host.k]\nreach = \"here\"\npower = { by = \"commands\", on = [\"program\", \"argument\"] }\n"
)]
#[case::an_outlet_without_a_controller(&FAR.replace("255\" }", "255\", outlet = \"/redfish/v1/x\" }"), "contradiction", FAR)]
#[case::relies_on_a_host_without_power(
    "[host.k]\nreach = \"here\"\nrelies_on = [\"h\"]\npower = { by = \"nobody\" }\n[host.k2]\nreach = \"here\"\n",
    "~no-power",
    "[host.k]\nreach = \"here\"\npower = { by = \"nobody\" }\nrelies_on = [\"k2\"]\n[host.k2]\nreach = \"here\"\npower = { by = \"nobody\" }\n"
)]
#[case::simulated_and_real(
    "[host.k]\nreach = \"here\"\nsimulated = { starts = \"1s\" }\n",
    "contradiction",
    "[host.k]\nreach = \"simulated\"\nsimulated = { starts = \"1s\" }\n"
)]
#[case::a_freeze_without_times("[freeze.f]\n", "missing-key", "[freeze.f]\nfrom = \"2026-06-06T06:00\"\nlength = \"14h\"\n")]
#[case::a_freeze_of_years(
    "[freeze.f]\nfrom = \"2026-06-06T06:00\"\nlength = \"20000h\"\n",
    "~long-freeze",
    "[freeze.f]\nfrom = \"2026-06-06T06:00\"\nlength = \"14h\"\n"
)]
#[case::no_zone(
    "[freeze.f]\nfrom = \"2026-06-06T06:00\"\nlength = \"14h\"\nzone = \"Europe/Lodnon\"\n",
    "~bad-hours",
    "[freeze.f]\nfrom = \"2026-06-06T06:00\"\nlength = \"14h\"\nzone = \"Europe/London\"\n"
)]
#[case::no_rule(
    "[freeze.f]\nfrom = \"2026-06-06T06:00\"\nlength = \"14h\"\nrule = \"WEEKLY\"\n",
    "bad-hours",
    "[freeze.f]\nfrom = \"2026-06-06T06:00\"\nlength = \"14h\"\nrule = \"FREQ=WEEKLY;BYDAY=SA,SU\"\n"
)]
#[case::groups_that_disagree(
    "[group.g]\nif_it_fails = \"hold\"\n[group.k]\nif_it_fails = \"carry-on\"\n[service.b]\nlike = \"x\"\ngroups = [\"g\", \"k\"]\nladder = [{ rung = \"port\", port = 1 }]\n",
    "~groups-disagree",
    "[group.g]\nif_it_fails = \"hold\"\n[group.k]\nif_it_fails = \"carry-on\"\n[service.b]\nlike = \"x\"\ngroups = [\"g\", \"k\"]\nladder = [{ rung = \"port\", port = 1 }]\nif_it_fails = \"hold\"\n"
)]
#[case::in_a_circle(&format!("{B}relies_on = [\"d\"]\n[service.d]\nlike = \"x\"\nladder = [{{ rung = \"port\", port = 2 }}]\nrelies_on = [\"b\"]\n"), "~cycle", &format!("{B}relies_on = [\"d\"]\n[service.d]\nlike = \"x\"\nladder = [{{ rung = \"port\", port = 2 }}]\n"))]
fn a_slip_of_the_estate(#[case] slip: &str, #[case] kind: &str, #[case] mended: &str) {
    is_mended(slip, kind, mended);
}

#[rstest]
#[case::nothing_to_do("", "no-steps", "steps = [{ stop = [\"c\"] }]")]
#[case::a_service("steps = [{ stop = [\"cc\"] }]", "~selection", "steps = [{ stop = [\"c\"] }]")]
#[case::a_key("steps = [{ stopp = [\"c\"] }]", "unknown-key", "steps = [{ stop = [\"c\"] }]")]
#[case::left_standing(
    "steps = [{ stop = [\"a\"], alone = true }]",
    "~out-of-place",
    "steps = [{ stop = [\"a\"], alone = true, left_standing = [\"h/c\"] }]"
)]
#[case::a_choice_of_nothing(
    "questions = { q = { asks = \"Q?\", kind = \"choice\" } }\nsteps = [{ stop = [\"c\"] }]",
    "no-choices",
    "questions = { q = { asks = \"Q?\", kind = \"choice\", choices = [\"a\", \"b\"] } }\nsteps = [{ stop = [\"c\"] }]"
)]
#[case::turned_round(
    "questions = { q = { asks = \"Q?\", kind = \"number\", at_least = 5, at_most = 2 } }\nsteps = [{ stop = [\"c\"] }]",
    "~contradiction",
    "questions = { q = { asks = \"Q?\", kind = \"number\", at_least = 2, at_most = 5 } }\nsteps = [{ stop = [\"c\"] }]"
)]
#[case::two_deeds(
    "steps = [{ stop = [\"c\"], announce = \"down\" }]",
    "one-deed",
    "steps = [{ stop = [\"c\"] }, { announce = \"down\", alongside = true }]"
)]
#[case::a_question_without_words("steps = [{ question = { } }]", "missing-key", "steps = [{ question = { asks = \"So?\" } }]")]
#[case::a_value_without_a_name(
    "steps = [{ question = { asks = \"How many?\", kind = \"value\" } }]",
    "missing-key",
    "steps = [{ name = \"many\", question = { asks = \"How many?\", kind = \"value\" } }]"
)]
#[case::a_value_that_is_yes(
    "steps = [{ name = \"n\", question = { asks = \"How many?\", kind = \"value\", unanswered = \"yes\" } }]",
    "contradiction",
    "steps = [{ name = \"n\", question = { asks = \"How many?\", kind = \"value\" } }]"
)]
#[case::a_look_alongside(
    "steps = [{ look = { rung = \"file\", path = \"x\" }, preflight = true, alongside = true }, { stop = [\"c\"] }]",
    "stray-key",
    "steps = [{ look = { rung = \"file\", path = \"x\" }, preflight = true }, { stop = [\"c\"] }]"
)]
#[case::a_piece_without_brackets(
    "steps = [{ work = [\"bin/v\"], changes_nothing = true, keep = { version = \"now at [0-9.]+\" } }]",
    "bad-keep",
    "steps = [{ work = [\"bin/v\"], changes_nothing = true, keep = { version = \"now at ([0-9.]+)\" } }]"
)]
#[case::a_value_in_a_script(
    "questions = { tag = { asks = \"Tag?\" } }\nsteps = [{ script = \"patch {tag}\", changes_nothing = true }]",
    "~value-in-script",
    "questions = { tag = { asks = \"Tag?\" } }\nsteps = [{ script = \"patch \\\"$VALUE_TAG\\\"\", changes_nothing = true }]"
)]
#[case::a_value_in_code(
    "questions = { tag = { asks = \"Tag?\" } }\nsteps = [{ work = [\"sh\", \"-c\", \"patch {tag}\"], changes_nothing = true }]",
    "~value-in-code",
    "questions = { tag = { asks = \"Tag?\" } }\nsteps = [{ script = \"patch \\\"$VALUE_TAG\\\"\", changes_nothing = true }]"
)]
#[case::a_secret_as_an_argument(
    "questions = { pass = { asks = \"Pass?\", kind = \"secret\" } }\nsteps = [{ work = [\"bin/x\", \"{pass}\"], changes_nothing = true }]",
    "~secret-shown",
    "questions = { pass = { asks = \"Pass?\", kind = \"secret\" } }\nsteps = [{ work = [\"bin/x\"], env = { PASSWORD = \"{pass}\" }, changes_nothing = true }]"
)]
#[case::an_act_of_nothing(
    "steps = [{ act = \"drain\" }]",
    "missing-key",
    "steps = [{ act = \"drain\", of = [\"q\"] }]\n[service.q]\nlike = \"x\"\nladder = [{ rung = \"port\", port = 8 }]\n[service.q.acts.drain]\ncommand = [\"bin/drain\"]\nchanges_nothing = true"
)]
#[case::counter_of_nothing(
    "steps = [{ work = [\"bin/x\"], changes_nothing = true, counter = { work = [\"bin/y\"] } }]",
    "contradiction",
    "steps = [{ work = [\"bin/x\"], changes_nothing = true }]"
)]
#[case::it_diverts_to_itself(
    "if_it_fails = { divert = \"p\" }\nsteps = [{ stop = [\"c\"] }]",
    "~contradiction",
    "if_it_fails = \"put-back\"\nsteps = [{ stop = [\"c\"] }]"
)]
#[case::an_open_question_of_what_takes_over(
    "if_it_fails = { divert = \"k\" }\nsteps = [{ stop = [\"c\"] }]\n[procedure.k]\nquestions = { q = { asks = \"Q?\" } }\nsteps = [{ announce = \"{q}\" }]",
    "~unanswered",
    "if_it_fails = { divert = \"k\" }\nsteps = [{ stop = [\"c\"] }]\n[procedure.k]\nquestions = { q = { asks = \"Q?\", default = \"x\" } }\nsteps = [{ announce = \"{q}\" }]"
)]
#[case::a_name_twice(
    "steps = [{ name = \"n\", stop = [\"c\"] }, { name = \"n\", start = [\"c\"] }]",
    "~duplicate",
    "steps = [{ name = \"n\", stop = [\"c\"] }, { name = \"m\", start = [\"c\"] }]"
)]
#[case::what_nobody_took_down(
    "steps = [{ name = \"down\", stop = [\"c\"] }, { bring_back = [\"dwn\"] }]",
    "~unknown-name",
    "steps = [{ name = \"down\", stop = [\"c\"] }, { bring_back = [\"down\"] }]"
)]
#[case::as_found_by_nobody(
    "steps = [{ start = [\"as-found-by:k\"] }]\n[procedure.kk]\nsteps = [{ stop = [\"c\"] }]",
    "~unknown-name",
    "steps = [{ start = [\"as-found-by:kk\"] }]\n[procedure.kk]\nsteps = [{ stop = [\"c\"] }]"
)]
fn a_slip_of_a_procedure(#[case] slip: &str, #[case] kind: &str, #[case] mended: &str) {
    let procedure = |of_it: &str| format!("[procedure.p]\n{of_it}\n");
    is_mended(&procedure(slip), kind, &procedure(mended));
}
