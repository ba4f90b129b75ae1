//! The text of a procedure, changed: what people wrote stays as they wrote it.

use proptest::prelude::*;
use rstest::rstest;
use serde_json::{Map, Value, json};
use yantro_core::{
    text::{
        vet,
        written::{Edit, Side, StepChange, blank, difference, edited, piece, procedure_of, renamed, steps_difference, with_piece},
    },
    words::name::ProcedureName,
};

const DEMO: &str = include_str!("../../../../demo/estate.toml");

const PIECE: &str = r#"[procedure.night]
title = "The night"   # as the desk calls it

# Which one?
[procedure.night.questions.package]
asks = "Which package?"

# First, the gates.
[[procedure.night.steps]]
stop   = [ "gates" ] # all of them
patience = "30s"

# Then the work.
[[procedure.night.steps]]
work = ["bin/patch", "{package}"]

# How it is taken back.
[procedure.night.steps.counter]
work = ["bin/patch", "back"]

[[procedure.night.steps]]
start = ["gates"]
"#;

fn name(text: &str) -> ProcedureName {
    text.parse().expect("a name")
}

fn map(value: Value) -> Map<String, Value> {
    value.as_object().expect("an object").clone()
}

fn night(edits: &[Edit]) -> String {
    edited(PIECE, &name("night"), edits).expect("the edits fit")
}

/// What each step does first: enough to tell them apart.
fn deeds(text: &str) -> Vec<String> {
    let steps = procedure_of(text, &name("night")).get("steps").and_then(Value::as_array).cloned().unwrap_or_default();
    let deed = |s: &Value| ["stop", "work", "start", "pause"].iter().find(|d| s.get(**d).is_some()).map(|d| (*d).to_owned());
    steps.iter().filter_map(deed).collect()
}

#[rstest]
#[case("patch-fares-db")]
#[case("piers-off")]
#[case("night-desk")]
#[case("Night-Desk")]
fn a_piece_put_back_leaves_the_estate_as_it_was(#[case] procedure: &str) {
    let procedure = name(procedure);
    let piece = piece(DEMO, &procedure).expect("it is TOML").expect("it is there");
    assert!(piece.starts_with(&format!("[procedure.{procedure}]")), "{piece}");
    assert_eq!(with_piece(DEMO, &procedure, Some(&piece)).expect("it fits"), DEMO);
}

#[test]
fn a_title_over_a_whole_section_is_no_part_of_a_piece_and_outlives_it() {
    let without = with_piece(DEMO, &name("patch-fares-db"), None).expect("it can be taken out");
    assert!(without.contains("# ---- procedures ----\n"), "{without}");
    assert!(!without.contains("patch-fares-db"), "{without}");
    assert!(piece(&without, &name("patch-fares-db")).expect("it is TOML").is_none());
    let found = without.find("# ---- procedures").expect("found above");
    assert!(without[found..].contains("[procedure.piers-off]"));
}

#[test]
fn a_new_procedure_comes_at_the_end_and_the_rest_stays() {
    let text = blank(&name("new-one"), "A \"new\" one");
    let whole = with_piece(DEMO, &name("new-one"), Some(&text)).expect("it fits");
    assert!(whole.starts_with(DEMO), "the rest stays to the byte");
    assert_eq!(&whole[DEMO.len()..], "\n[procedure.new-one]\ntitle = 'A \"new\" one'\n");
}

#[test]
fn a_comment_at_the_end_of_a_piece_is_kept() {
    let (first, second) = (name("night"), name("zebra"));
    let estate = format!("{PIECE}\n[procedure.zebra]\ntitle = \"Z\"\n");
    let text = piece(&estate, &first).expect("it is TOML").expect("it is there") + "# the end of the night\n";
    let whole = with_piece(&estate, &first, Some(&text)).expect("it fits");
    assert!(whole.contains("# the end of the night\n\n[procedure.zebra]"), "{whole}");
    assert_eq!(piece(&whole, &second).expect("it is TOML").expect("it is there"), "[procedure.zebra]\ntitle = \"Z\"\n");
}

#[rstest]
#[case::not_toml("[procedure.night", "is not TOML")]
#[case::another("[procedure.night]\n[procedure.other]\n", "other")]
#[case::more_than_a_procedure("[procedure.night]\n[estate]\nname = \"x\"\n", "\"estate\" too")]
#[case::another_name("[procedure.day]\n", "no procedure night")]
#[case::nothing("", "no procedure night")]
#[case::inline("procedure = { night = {} }", "inline")]
fn a_piece_that_is_more_or_less_than_the_procedure_is_refused(#[case] text: &str, #[case] says: &str) {
    let fault = with_piece(DEMO, &name("night"), Some(text)).expect_err("it does not fit");
    assert!(fault.what.contains(says), "{fault}");
    assert!(!fault.mend.is_empty());
}

#[rstest]
#[case::moved_down(vec![Edit::Move { line: 1, to: 3 }], &["work", "start", "stop"])]
#[case::moved_up(vec![Edit::Move { line: 3, to: 1 }], &["start", "stop", "work"])]
#[case::there_and_back(vec![Edit::Move { line: 1, to: 2 }, Edit::Move { line: 2, to: 1 }], &["stop", "work", "start"])]
#[case::taken_out(vec![Edit::Remove { line: 2 }], &["stop", "start"])]
#[case::all_out(vec![Edit::Remove { line: 1 }, Edit::Remove { line: 1 }, Edit::Remove { line: 1 }], &[])]
#[case::first(vec![Edit::Insert { line: 1, step: map(json!({ "pause": "5s" })) }], &["pause", "stop", "work", "start"])]
#[case::last(vec![Edit::Insert { line: 4, step: map(json!({ "pause": "5s" })) }], &["stop", "work", "start", "pause"])]
fn steps_are_arranged(#[case] edits: Vec<Edit>, #[case] wanted: &[&str]) {
    let text = night(&edits);
    assert_eq!(deeds(&text), wanted, "{text}");
    // Nothing that was written about a step that is still there is lost, and it stands before its step.
    for (comment, step) in
        [("# First, the gates.\n", "stop   = [ \"gates\" ] # all of them"), ("# Then the work.\n", "work = [\"bin/patch\", \"{package}\"]")]
    {
        if text.contains(step) {
            assert!(text.contains(&format!("{comment}[[procedure.night.steps]]\n{step}")), "{text}");
        }
    }
    assert!(
        text.starts_with("[procedure.night]\ntitle = \"The night\"   # as the desk calls it\n\n# Which one?\n[procedure.night.questions"),
        "{text}"
    );
    // The way back stays with its step.
    if deeds(&text).contains(&"work".to_owned()) {
        assert!(text.contains("{package}\"]\n\n# How it is taken back.\n[procedure.night.steps.counter]"), "{text}");
    }
}

#[rstest]
#[case::changed(json!({ "patience": "45s" }), "stop   = [ \"gates\" ] # all of them\npatience = \"45s\"\n")]
#[case::the_same(json!({ "stop": ["gates"] }), "stop   = [ \"gates\" ] # all of them\npatience = \"30s\"\n")]
#[case::taken_out(json!({ "patience": null }), "stop   = [ \"gates\" ] # all of them\n\n# Then")]
#[case::off_is_unwritten(json!({ "alone": false, "except": [] }), "# all of them\npatience = \"30s\"\n\n# Then")]
#[case::added(json!({ "if_it_fails": { "divert": "desk" } }), "patience = \"30s\"\nif_it_fails = { divert = \"desk\" }\n")]
#[case::many_lines(json!({ "patience": null, "script": "one\ntwo \"$X\"\n" }), "script = \"\"\"\none\ntwo \"$X\"\n\"\"\"\n")]
#[case::values_stay_values(json!({ "title": "a\"\n[procedure.night.questions.x]\n" }), "title = ")]
fn keys_of_a_step_are_set_where_they_are(#[case] set: Value, #[case] wanted: &str) {
    let text = night(&[Edit::Change { line: 1, set: map(set) }]);
    assert!(text.contains(wanted), "{text}");
    assert_eq!(deeds(&text).len(), 3);
    assert!(procedure_of(&text, &name("night"))["questions"].get("x").is_none(), "a value became text of its own: {text}");
}

/// Inside a key, `false` and an empty text say something: a change beside them leaves them as they are.
#[rstest]
#[case(json!({ "look": { "rung": "web", "url": "https://127.0.0.1/b", "verify_tls": false } }), "verify_tls = false")]
#[case(json!({ "env": { "LANE": "", "SIDE": "left" } }), "LANE = \"\"")]
fn what_is_said_by_nothing_inside_a_key_stays(#[case] set: Value, #[case] wanted: &str) {
    let text = "[procedure.night]\n[[procedure.night.steps]]\nlook = { rung = \"web\", url = \"https://127.0.0.1/a\", verify_tls = false }\nenv = { LANE = \"\" }\n";
    let changed = edited(text, &name("night"), &[Edit::Change { line: 1, set: map(set.clone()) }]).expect("it fits");
    assert!(changed.contains(wanted), "{changed}");
    let key = set.as_object().and_then(|o| o.keys().next().cloned()).expect("one key");
    assert_eq!(procedure_of(&changed, &name("night"))["steps"][0][&key], set[&key], "{changed}");
}

#[test]
fn a_way_back_under_a_head_of_its_own_is_changed_there() {
    let set = map(json!({ "counter": { "script": "undo", "patience": "9s" } }));
    let text = night(&[Edit::Change { line: 2, set }]);
    assert!(text.contains("# How it is taken back.\n[procedure.night.steps.counter]\n"), "{text}");
    let step = &procedure_of(&text, &name("night"))["steps"][1];
    assert_eq!(step["counter"], json!({ "script": "undo", "patience": "9s" }), "{text}");
}

#[test]
fn head_and_questions_are_set() {
    let text = night(&[
        Edit::Head { set: map(json!({ "purpose": "Sleep.", "if_it_fails": "put-back" })) },
        Edit::Ask { name: "hour".to_owned(), set: Some(map(json!({ "asks": "When?", "kind": "number", "at_most": 5 }))) },
        Edit::Ask { name: "package".to_owned(), set: None },
    ]);
    let written = procedure_of(&text, &name("night"));
    assert_eq!(written["purpose"], "Sleep.");
    assert_eq!(written["questions"], json!({ "hour": { "asks": "When?", "kind": "number", "at_most": 5 } }));
    let (asks, steps) = (text.find("questions.hour").expect("asked"), text.find("[[procedure").expect("steps"));
    assert!(asks < steps, "a question stands before the steps that use it: {text}");
}

#[rstest]
#[case(Edit::Move { line: 0, to: 1 })]
#[case(Edit::Move { line: 1, to: 4 })]
#[case(Edit::Remove { line: 4 })]
#[case(Edit::Change { line: 9, set: Map::new() })]
#[case(Edit::Insert { line: 5, step: Map::new() })]
fn a_line_that_is_not_there_is_told(#[case] edit: Edit) {
    let fault = edited(PIECE, &name("night"), &[edit]).expect_err("there is no such line");
    assert!(fault.what.starts_with("there is no line"), "{fault}");
    assert!(fault.what.ends_with("has 3"), "{fault}");
}

/// Steps in one value, as the docs write them.
const IN_VALUE: &str = r#"[procedure.night]
title = "The night"
steps = [ # in this order
  # First, the gates.
  { stop = ["gates"], patience = "30s" }, # all of them
  { work = ["bin/patch"] },   # by hand before

  # Then up.
  { start = ["gates"] }, # at last
]
if_it_fails = "hold" # nobody is there
"#;

#[rstest]
#[case::a_key(json!({ "edit": "change", "line": 1, "set": { "patience": "1m" } }), "\"30s\"", "\"1m\"")]
#[case::a_new_key(json!({ "edit": "change", "line": 2, "set": { "title": "Patch" } }), "[\"bin/patch\"] }", "[\"bin/patch\"], title = \"Patch\" }")]
#[case::a_key_less(json!({ "edit": "change", "line": 1, "set": { "patience": null } }), "[\"gates\"], patience = \"30s\" }", "[\"gates\"] }")]
#[case::a_step_less(json!({ "edit": "remove", "line": 2 }), "\n  { work = [\"bin/patch\"] },   # by hand before", "")]
#[case::the_last_less(json!({ "edit": "remove", "line": 3 }), "\n\n  # Then up.\n  { start = [\"gates\"] }, # at last", "")]
#[case::a_step_more(
    json!({ "edit": "insert", "line": 2, "step": { "pause": "1m", "title": "Wait" } }),
    "# all of them\n",
    "# all of them\n  { title = \"Wait\", pause = \"1m\" },\n"
)]
#[case::one_more_at_the_end(
    json!({ "edit": "insert", "line": 4, "step": { "pause": "1m" } }),
    "# at last\n",
    "# at last\n  { pause = \"1m\" },\n"
)]
#[case::moved(
    json!({ "edit": "move", "line": 2, "to": 1 }),
    "\n  # First, the gates.\n  { stop = [\"gates\"], patience = \"30s\" }, # all of them\n  { work = [\"bin/patch\"] },   # by hand before",
    "\n  { work = [\"bin/patch\"] },   # by hand before\n  # First, the gates.\n  { stop = [\"gates\"], patience = \"30s\" }, # all of them"
)]
#[case::nothing(json!({ "edit": "change", "line": 1, "set": { "patience": "30s" } }), "", "")]
fn steps_in_one_value_keep_their_layout(#[case] edit: Value, #[case] from: &str, #[case] to: &str) {
    let edit: Edit = serde_json::from_value(edit).expect("an edit");
    let now = edited(IN_VALUE, &name("night"), &[edit]).expect("it fits");
    assert!(IN_VALUE.contains(from));
    assert_eq!(now, IN_VALUE.replacen(from, to, 1));
}

#[rstest]
#[case::moved(json!({ "edit": "move", "line": 2, "to": 1 }), "[{ start = [\"b\"] }, { stop = [\"a\"] }]")]
#[case::less(json!({ "edit": "remove", "line": 1 }), "[{ start = [\"b\"] }]")]
#[case::more(json!({ "edit": "insert", "line": 3, "step": { "pause": "1m" } }), "[{ stop = [\"a\"] }, { start = [\"b\"] }, { pause = \"1m\" }]")]
#[case::more_at_first(json!({ "edit": "insert", "line": 1, "step": { "pause": "1m" } }), "[{ pause = \"1m\" }, { stop = [\"a\"] }, { start = [\"b\"] }]")]
fn steps_in_one_line_stay_in_it(#[case] edit: Value, #[case] wanted: &str) {
    let edit: Edit = serde_json::from_value(edit).expect("an edit");
    let text = "[procedure.night]\ntitle = \"N\"\nsteps = [{ stop = [\"a\"] }, { start = [\"b\"] }] # two\n";
    let now = edited(text, &name("night"), &[edit]).expect("it fits");
    assert_eq!(now, format!("[procedure.night]\ntitle = \"N\"\nsteps = {wanted} # two\n"));
}

#[rstest]
#[case::no_comma_at_the_end("[\n\t{ stop = [\"a\"] },\n\t{ start = [\"b\"] } # the last\n  # that is all\n]")]
#[case::empty_lines("[\n\n  { stop = [\"a\"] },\n\n\n  { start = [\"b\"] },\n\n]")]
#[case::two_in_a_line("[\n  { stop = [\"a\"] }, { start = [\"b\"] },\n]")]
#[case::close("[{stop=[\"a\"]},{start=[\"b\"]}]")]
#[case::wide("[ { stop = [\"a\"] } , { start = [\"b\"] } , ]")]
#[case::one("[ { stop = [\"a\"] } ]")]
fn what_is_moved_to_where_it_is_changes_nothing(#[case] steps: &str) {
    let text = format!("[procedure.night]\nsteps = {steps}\ntitle = \"N\"\n");
    assert_eq!(edited(&text, &name("night"), &[Edit::Move { line: 1, to: 1 }]).expect("it fits"), text);
}

/// Whoever wrote the file wrote its ends of lines, and its mark, too.
#[rstest]
#[case::as_on_windows(|text: &str| text.replace('\n', "\r\n"))]
#[case::with_a_mark(|text: &str| format!("\u{feff}{text}"))]
#[case::with_both(|text: &str| format!("\u{feff}{}", text.replace('\n', "\r\n")))]
#[case::of_both_kinds(|text: &str| text.replacen('\n', "\r\n", 40))]
fn a_change_leaves_ends_of_lines_and_the_mark_and_undone_leaves_the_same_bytes(#[case] written: fn(&str) -> String) {
    let (night, whole) = (name("night"), written(&format!("{DEMO}\n{IN_VALUE}\n[procedure.after]\ntitle = \"After\"\n")));
    let before = piece(&whole, &night).expect("it is TOML").expect("it is there");
    let edit = Edit::Change { line: 1, set: map(json!({ "patience": "1m" })) };
    let after = edited(&before, &night, &[edit]).expect("it fits");
    let changed = with_piece(&whole, &night, Some(&after)).expect("it fits");
    assert_eq!(changed, whole.replacen("patience = \"30s\" }, # all", "patience = \"1m\" }, # all", 1));
    assert_eq!(with_piece(&changed, &night, Some(&before)).expect("it fits"), whole);
}

#[test]
fn steps_written_inline_can_be_changed_too() {
    let text = "[procedure.night]\nsteps = [{ stop = [\"a\"] }, { start = [\"a\"] }]\n";
    let moved = edited(text, &name("night"), &[Edit::Move { line: 2, to: 1 }]).expect("it fits");
    assert_eq!(deeds(&moved), ["start", "stop"], "{moved}");
}

#[test]
fn a_copy_has_its_own_name_and_the_same_steps() {
    let copy = renamed(PIECE, &name("night"), &name("dusk")).expect("it can be copied");
    assert!(!copy.contains("procedure.night"), "{copy}");
    assert_eq!(copy.replace("procedure.dusk", "procedure.night"), PIECE);
}

#[test]
fn a_difference_shows_what_is_gone_and_new_with_lines_around() {
    let new = night(&[Edit::Change { line: 1, set: map(json!({ "patience": "45s" })) }]);
    let found = difference(PIECE, &new, 1);
    assert_eq!((found.gone, found.new, found.places.len()), (1, 1, 1));
    let sides: Vec<Side> = found.places[0].iter().map(|l| l.side).collect();
    assert_eq!(sides, [Side::Both, Side::Gone, Side::New, Side::Both]);
    assert_eq!(found.places[0][2].text, "patience = \"45s\"");
    assert_eq!((found.places[0][1].old, found.places[0][2].new), (Some(11), Some(11)));
    assert!(difference(PIECE, PIECE, 3).is_none());
}

#[test]
fn steps_beside_each_other_tell_moved_changed_gone_and_new() {
    let new = night(&[
        Edit::Change { line: 1, set: map(json!({ "patience": "45s" })) },
        Edit::Move { line: 3, to: 2 },
        Edit::Insert { line: 4, step: map(json!({ "pause": "5s" })) },
    ]);
    let rows = steps_difference(&procedure_of(PIECE, &name("night")), &procedure_of(&new, &name("night")));
    let changes: Vec<StepChange> = rows.iter().map(|r| r.change).collect();
    assert_eq!(changes.iter().filter(|c| **c == StepChange::Moved).count(), 1, "{rows:?}");
    let changed = rows.iter().find(|r| r.change == StepChange::Changed).expect("one is changed");
    assert_eq!((changed.old, changed.new, changed.keys.as_slice()), (Some(1), Some(1), &["patience: 30s → 45s".to_owned()][..]));
    assert!(rows.iter().any(|r| r.change == StepChange::New && r.says == "pause 5s"), "{rows:?}");
}

/// The keys that an inserted step is written in are keys that steps have.
#[test]
fn every_key_of_a_step_can_be_inserted() {
    let schema = yantro_core::text::json_schema();
    let keys = schema["$defs"]["StepFile"]["properties"].as_object().expect("a step has keys");
    for key in keys.keys() {
        let text = night(&[Edit::Insert { line: 1, step: map(json!({ key: "x" })) }]);
        assert!(text.contains(&format!("[[procedure.night.steps]]\n{key} = \"x\"\n")), "{key}: {text}");
    }
}

fn any_edit() -> impl Strategy<Value = Edit> {
    prop_oneof![
        (1u32..8, 1u32..8).prop_map(|(line, to)| Edit::Move { line, to }),
        (1u32..8).prop_map(|line| Edit::Remove { line }),
        (1u32..8, "[a-z\"#\\[\\]\n=]{0,12}")
            .prop_map(|(line, text)| Edit::Insert { line, step: map(json!({ "announce": text, "title": "t" })) }),
        (1u32..8, "\\PC{0,12}").prop_map(|(line, text)| Edit::Change { line, set: map(json!({ "title": text })) }),
    ]
}

proptest! {
    /// Whatever is done to one procedure, the rest of the estate stays to the byte, the piece that comes out is
    /// the one that went in, and what was done to the text is what the same would do to a list.
    #[test]
    fn edits_do_to_the_text_what_they_say_and_no_more(edits in proptest::collection::vec(any_edit(), 1..12)) {
        let procedure = name("patch-fares-db");
        let mut text = piece(DEMO, &procedure).expect("TOML").expect("there");
        let mut list: Vec<Value> = procedure_of(&text, &procedure)["steps"].as_array().cloned().expect("steps");
        for edit in &edits {
            let count = list.len();
            let there = |line: u32| (line as usize) <= count;
            let fits = match edit {
                Edit::Move { line, to } => there(*line) && there(*to),
                Edit::Insert { line, .. } => (*line as usize) <= count + 1,
                Edit::Change { line, .. } | Edit::Remove { line } => there(*line),
                _ => true,
            };
            let outcome = edited(&text, &procedure, std::slice::from_ref(edit));
            prop_assert_eq!(outcome.is_ok(), fits);
            let Ok(new) = outcome else { continue };
            text = new;
            match edit {
                Edit::Move { line, to } => { let step = list.remove(*line as usize - 1); list.insert(*to as usize - 1, step); }
                Edit::Remove { line } => { list.remove(*line as usize - 1); }
                Edit::Insert { line, step } => {
                    let kept = step.iter().filter(|(_, v)| v.as_str() != Some("")).map(|(k, v)| (k.clone(), v.clone())).collect();
                    list.insert(*line as usize - 1, Value::Object(kept));
                }
                Edit::Change { line, set } => {
                    let step = list[*line as usize - 1].as_object_mut().expect("a step");
                    match set["title"].as_str() { Some("") | None => step.remove("title"), Some(t) => step.insert("title".to_owned(), t.into()) };
                }
                _ => {}
            }
        }
        let written = procedure_of(&text, &procedure).get("steps").and_then(Value::as_array).cloned().unwrap_or_default();
        prop_assert_eq!(&written, &list);
        let whole = with_piece(DEMO, &procedure, Some(&text)).expect("it fits");
        prop_assert_eq!(piece(&whole, &procedure).expect("TOML").expect("there"), text);
        let (before, after) = DEMO.split_at(DEMO.find("[procedure.patch-fares-db]").expect("there"));
        prop_assert!(whole.starts_with(before));
        prop_assert!(whole.ends_with(&after[after.find("\n[procedure.piers-off]").expect("there")..]));
    }
}

#[test]
fn a_step_moved_out_of_its_place_is_told_with_its_relation() {
    let procedure = name("patch-fares-db");
    let text = piece(DEMO, &procedure).expect("TOML").expect("there");
    // The north pier's gates are to go down while the south pier's stay up.
    let moved = edited(&text, &procedure, &[Edit::Move { line: 4, to: 3 }]).expect("it fits");
    let vetted = vet(&with_piece(DEMO, &procedure, Some(&moved)).expect("it fits"), "/");
    let fault = vetted.faults.iter().find(|f| f.kind == "out-of-place").expect("it is told");
    assert!(fault.message.contains("gates") && vetted.estate.is_none(), "{}", fault.message);
    let alone = edited(&text, &procedure, &[Edit::Change { line: 7, set: map(json!({ "alone": true })) }]).expect("it fits");
    let vetted = vet(&with_piece(DEMO, &procedure, Some(&alone)).expect("it fits"), "/");
    let fault = vetted.faults.iter().find(|f| f.kind == "out-of-place").expect("it is told");
    assert!(fault.message.contains("quay-2/fares"), "{}", fault.message);
}
