//! Everything that can be wrong with a written procedure, told with its place and its mend.

use rstest::rstest;
use yantro_core::text::{Fault, Severity, vet};

use crate::estates::toml;

const SERVICES: &str = "[group.gates]\nkeep_up = 1\n[service.gate]\nlike = \"x\"\ncopies = { left = {}, right = {} }\ngroups = [\"gates\"]\nrelies_on = [\"app\"]\nladder = [{ rung = \"process\" }]\n\
                        [service.queue]\nlike = \"x\"\nladder = [{ rung = \"port\", port = 8 }]\n[service.queue.acts.drain]\ncommand = [\"bin/drain\"]\nchanges_nothing = true\n";

/// The faults of a procedure on the usual estate.
fn faults(procedure: &str) -> Vec<Fault> {
    let text = toml("app -> db", SERVICES) + procedure;
    let faults = vet(&text, "/e").faults;
    let begins = text.len() - procedure.len();
    for fault in &faults {
        assert!(fault.span.start >= begins || fault.severity == Severity::Warning, "it is told where it is: {fault:?}");
        assert!(!fault.mend.trim().is_empty(), "it is told how to mend it: {fault:?}");
    }
    faults.into_iter().filter(|f| f.severity == Severity::Error).collect()
}

fn one_step(step: &str) -> Vec<Fault> {
    faults(&format!("[procedure.p]\n[[procedure.p.steps]]\n{step}\n"))
}

#[rstest]
#[case::says_nothing("title = \"x\"", "one-deed", "does not say what it does")]
#[case::says_two_things("stop = [\"db\"]\nstart = [\"db\"]", "one-deed", "several things: stop, start")]
#[case::unknown_key("stopp = [\"db\"]", "unknown-key", "\"stopp\" is no key")]
#[case::unknown_service("stop = [\"bd\"]", "selection", "bd")]
#[case::unknown_group_of_services("stop = [\"group:gate\"]", "selection", "gate")]
#[case::unknown_group("stop = [\"db\"]\nbelow_keep_up = [\"gate\"]", "unknown-name", "there is no group \"gate\"")]
#[case::unknown_address("stop = [\"db\"]\nleft_standing = [\"app\"]", "unknown-name", "nothing has the address \"app\"")]
#[case::unknown_host("work = [\"bin/x\"]\nchanges_nothing = true\non = \"quay\"", "unknown-name", "there is no host \"quay\"")]
#[case::unknown_act("act = \"drane\"\nof = [\"queue\"]", "unknown-name", "drane")]
#[case::act_of_nothing("act = \"drain\"", "missing-key", "of which service")]
#[case::nothing_to_reload_with("reload = [\"nobody\"]", "selection", "nobody")]
#[case::of_without_act("stop = [\"db\"]\nof = [\"queue\"]", "stray-key", "`of` means nothing in a step that says `stop`")]
#[case::env_without_work("pause = \"1s\"\nenv = { A = \"1\" }", "stray-key", "`env` means nothing")]
#[case::counter_without_work("pause = \"1s\"\ncounter = { work = [\"bin/x\"] }", "stray-key", "`counter` means nothing")]
#[case::except_without_services("announce = \"x\"\nexcept = [\"db\"]", "stray-key", "`except` means nothing")]
#[case::patience_on_a_pause("pause = \"1s\"\npatience = \"9s\"", "stray-key", "`patience` means nothing")]
#[case::preflight_on_work("work = [\"bin/x\"]\nchanges_nothing = true\npreflight = true", "stray-key", "`preflight` means nothing")]
#[case::preflight_alongside(
    "look = { rung = \"file\", path = \"x\" }\npreflight = true\nalongside = true",
    "stray-key",
    "before the first act"
)]
#[case::where_a_pause_is("pause = \"1s\"\non = \"h\"", "stray-key", "`on` means nothing")]
#[case::nothing_told_to("pause = \"1s\"\nto = \"http://127.0.0.1/\"", "stray-key", "`to` means nothing")]
#[case::no_length("pause = \"soon\"", "bad-duration", "soon")]
#[case::no_time_of_day("until_time = \"25:00\"", "bad-time", "\"25:00\" is no time of day")]
#[case::no_page("announce = \"x\"\nto = \"127.0.0.1\"", "bad-url", "is no page")]
#[case::a_wait_for_nothing("until = []", "missing-key", "waits for nothing")]
#[case::a_wait_for_its_process("until = [{ rung = \"process\" }]", "stray-key", "belongs to a service's start")]
#[case::a_file_since_a_start("look = { rung = \"file\", path = \"x\", since_start = true }", "stray-key", "belongs to a service's start")]
#[case::a_question_without_one("question = { look_at = \"x\" }", "missing-key", "asks nothing")]
#[case::a_value_without_a_name("question = { asks = \"How many?\", kind = \"value\" }", "missing-key", "no name to keep it under")]
#[case::a_value_that_is_yes(
    "name = \"n\"\nquestion = { asks = \"How many?\", kind = \"value\", limit = \"1m\", unanswered = \"yes\" }",
    "contradiction",
    "value"
)]
#[case::no_command("work = []\nchanges_nothing = true", "no-command", "names no command")]
#[case::a_program_that_hangs_on_a_value(
    "work = [\"bin/{which}\"]\nchanges_nothing = true",
    "value-as-program",
    "may not hang on an answer"
)]
#[case::a_counter_of_two_kinds(
    "work = [\"bin/x\"]\ncounter = { work = [\"a\"], script = \"b\" }",
    "one-deed",
    "neither work nor a script, or both"
)]
#[case::a_counter_of_none("work = [\"bin/x\"]\ncounter = { title = \"back\" }", "one-deed", "neither work nor a script, or both")]
#[case::a_counter_to_nothing(
    "work = [\"bin/x\"]\nchanges_nothing = true\ncounter = { work = [\"a\"] }",
    "contradiction",
    "has no counter-step"
)]
#[case::a_piece_without_brackets("work = [\"bin/x\"]\nkeep = { v = \"now at\" }", "bad-keep", "one piece in round brackets")]
#[case::two_pieces_under_one_name("work = [\"bin/x\"]\nkeep = { v = \"(a)(b)\" }", "bad-keep", "one piece in round brackets")]
#[case::a_piece_under_no_name("work = [\"bin/x\"]\nkeep = { V = \"(a)\" }", "bad-keep", "lower case")]
#[case::a_value_in_a_script("script = \"rm {which}\"\nchanges_nothing = true", "value-in-script", "{which} stands in the text of a script")]
#[case::an_unknown_value("work = [\"bin/x\", \"{which}\"]", "unknown-value", "which")]
#[case::bring_back_nobody("bring_back = [\"later\"]", "unknown-name", "later")]
#[case::an_unknown_rule("stop = [\"db\"]\nif_it_fails = \"panic\"", "unknown-word", "panic")]
#[case::a_divert_to_nowhere("stop = [\"db\"]\nif_it_fails = { divert = \"desk\" }", "unknown-name", "desk")]
#[case::out_of_its_place("stop = [\"db\"]\nalone = true", "out-of-place", "h/app")]
#[case::below_what_is_kept("stop = [\"gate*\"]", "out-of-place", "group gates keeps 1 up")]
fn what_is_wrong_with_a_step_is_told(#[case] step: &str, #[case] kind: &str, #[case] says: &str) {
    let found = one_step(step);
    let told: Vec<String> = found.iter().map(|f| format!("{}: {}", f.kind, f.message)).collect();
    assert!(found.iter().any(|f| f.kind == kind && f.message.contains(says)), "{told:#?}");
}

#[rstest]
#[case::no_name("[procedure.p.questions.Which]\nasks = \"?\"", "bad-name", "\"Which\" cannot be the name")]
#[case::the_folder("[procedure.p.questions.dir]\nasks = \"?\"", "bad-name", "\"dir\" cannot be the name")]
#[case::nothing_to_choose_from("[procedure.p.questions.which]\nkind = \"choice\"", "no-choices", "has nothing to choose from")]
#[case::no_pattern("[procedure.p.questions.which]\nallowed = \"(\"", "bad-pattern", "no pattern")]
#[case::a_default_that_is_not_allowed(
    "[procedure.p.questions.which]\nallowed = \"a+\"\ndefault = \"b\"",
    "bad-default",
    "the default of \"which\""
)]
#[case::a_default_that_is_no_choice(
    "[procedure.p.questions.which]\nkind = \"choice\"\nchoices = [\"a\"]\ndefault = \"b\"",
    "bad-default",
    "the default"
)]
#[case::a_default_too_small("[procedure.p.questions.which]\nkind = \"number\"\nat_least = 3\ndefault = 2", "bad-default", "the default")]
#[case::a_default_that_is_no_service(
    "[procedure.p.questions.which]\nkind = \"address\"\ndefault = \"h/nobody\"",
    "bad-default",
    "the default"
)]
#[case::a_secret_by_itself("[procedure.p.questions.which]\nkind = \"secret\"\ndefault = \"hunter2\"", "bad-default", "the default")]
fn what_is_wrong_with_a_question_is_told(#[case] question: &str, #[case] kind: &str, #[case] says: &str) {
    let found = faults(&format!("{question}\n[[procedure.p.steps]]\npause = \"1s\"\n"));
    assert!(found.iter().any(|f| f.kind == kind && f.message.contains(says)), "{found:#?}");
}

#[rstest]
#[case::no_steps("[procedure.p]\ntitle = \"x\"\n", "no-steps", "has no steps")]
#[case::twice("[procedure.p]\nsteps = [{ pause = \"1s\" }]\n[procedure.P]\nsteps = [{ pause = \"1s\" }]\n", "duplicate", "is there twice")]
#[case::bad_name("[procedure.\"a b\"]\nsteps = [{ pause = \"1s\" }]\n", "bad-name", "a b")]
#[case::one_name_for_two(
    "[procedure.p]\nsteps = [{ name = \"a\", pause = \"1s\" }, { name = \"a\", pause = \"1s\" }]\n",
    "duplicate",
    "two steps are called \"a\""
)]
#[case::a_value_before_it_is_known(
    "[procedure.p]\nsteps = [{ announce = \"{v}\" }, { work = [\"bin/x\"], changes_nothing = true, keep = { v = \"(a)\" } }]\n",
    "unknown-value",
    "not known there"
)]
#[case::services_that_hang_on_what_comes_later(
    "[procedure.p]\nsteps = [{ work = [\"bin/x\"], changes_nothing = true, keep = { v = \"(a)\" } }, { stop = [\"{v}\"] }]\n",
    "value-too-late",
    "v"
)]
#[case::a_secret_that_would_be_seen(
    "[procedure.p]\nsteps = [{ announce = \"{key}\" }]\n[procedure.p.questions.key]\nkind = \"secret\"\n",
    "secret-shown",
    "key"
)]
#[case::a_divert_that_would_ask(
    "[procedure.p]\nif_it_fails = { divert = \"desk\" }\nsteps = [{ pause = \"1s\" }]\n[procedure.desk]\nsteps = [{ announce = \"{whom}\" }]\n[procedure.desk.questions.whom]\nasks = \"?\"\n",
    "unanswered",
    "nobody is there to answer"
)]
#[case::beside_what_it_relies_on(
    "[procedure.p]\nsteps = [{ stop = [\"queue\"] }, { start = [\"queue\"], alongside = true }]\n",
    "out-of-place",
    "h/queue"
)]
#[case::held_for_no_length("[procedure.p]\nheld_at_most = 20\nsteps = [{ pause = \"1s\" }]\n", "wrong-type", "held_at_most")]
fn what_is_wrong_with_a_whole_is_told(#[case] procedure: &str, #[case] kind: &str, #[case] says: &str) {
    let found = faults(procedure);
    let told: Vec<String> = found.iter().map(|f| format!("{}: {}", f.kind, f.message)).collect();
    assert!(found.iter().any(|f| f.kind == kind && f.message.contains(says)), "{told:#?}");
}

/// Each of several faults is found in one pass, in the order of the text.
#[test]
fn all_faults_are_told_at_once_in_the_order_of_the_text() {
    let found = faults(
        "[procedure.p]\n[[procedure.p.steps]]\nstop = [\"nobody\"]\n[[procedure.p.steps]]\npause = \"soon\"\n[[procedure.p.steps]]\ntitle = \"x\"\n",
    );
    assert!(found.len() >= 3, "{found:#?}");
    assert!(found.windows(2).all(|w| w[0].line <= w[1].line));
}

#[rstest]
#[case::nobody_is_named("brought_back_by = \" \"", "it is not said by what")]
#[case::watched_only("brought_back_by = \"k\"\nhands_off = \"theirs\"", "could not be told from the old one")]
#[case::by_commands(
    "brought_back_by = \"k\"\nrun_by = \"commands\"\ncommands = { start = [\"a\"], stop = [\"b\"], state = [\"c\"] }",
    "could not be told from the old one"
)]
#[case::stopped_again("brought_back_by = \"k\"\nstop = { attempts = 2 }", "would be stopped again")]
fn what_comes_back_by_itself_must_be_known_again(#[case] says: &str, #[case] told: &str) {
    let text = toml("db", &format!("[service.lamp]\nlike = \"x\"\nladder = [{{ rung = \"port\", port = 9 }}]\n{says}\n"));
    let faults = vet(&text, "/e").faults;
    assert!(faults.iter().any(|f| f.severity == Severity::Error && f.message.contains(told)), "{faults:#?}");
}
