//! The published schema of the estate: what it takes is what can be said, and it speaks of nothing that is not there.

use proptest::prelude::*;
use regex::Regex;
use rstest::rstest;
use serde_json::Value;
use yantro_core::{
    text::json_schema,
    words::{name::HostName, time::Span},
};

const SPAN: &str = "/$defs/Span/pattern";
const NAME: &str = "/properties/service/propertyNames/pattern";

fn pattern(at: &str) -> String {
    let schema = json_schema();
    schema.pointer(at).and_then(Value::as_str).unwrap_or_else(|| panic!("{at}")).to_owned()
}

#[rstest]
#[case::a_length(SPAN, &["90s", "1h 30m", "200ms", "10 minutes", " 5m "], &["", "90", "soon", "5M", "1y", "-5s", "s"])]
#[case::a_name(NAME, &["quay-1", "Fares_DB", "7"], &["", "-x", "a b", "a/b", "a.b"])]
#[case::a_mask("/$defs/ProcessFile/properties/umask/pattern", &["022", "0027", "7"], &["", "088", "1000", "0x1"])]
#[case::an_account(
    "/$defs/ProcessFile/properties/user/pattern",
    &["root", "fares.db", "pc$", "fares@quay.example", "QUAY\\fares", "{account}"],
    &["", "root; rm -rf /", "-x"]
)]
#[case::a_variable("/$defs/ProcessFile/properties/env/propertyNames/pattern", &["PORT", "a.b"], &["", "A=B", "A B"])]
fn patterns_fit_what_can_be_said(#[case] at: &str, #[case] fits: &[&str], #[case] does_not: &[&str]) {
    let pattern = Regex::new(&pattern(at)).unwrap();
    let wrong: Vec<_> = fits.iter().filter(|t| !pattern.is_match(t)).chain(does_not.iter().filter(|t| pattern.is_match(t))).collect();
    assert!(wrong.is_empty(), "{wrong:?}");
}

/// The pattern with bounds: a number may be too large for any length.
fn drawn_from_span() -> String {
    pattern(SPAN).trim_matches(['^', '$']).replace("[0-9]+", "[0-9]{1,6}").replace("\\s*", "[ \t]{0,2}").replace(")+", "){1,4}")
}

proptest! {
    #[test]
    fn what_the_schema_takes_for_a_length_is_one(text in proptest::string::string_regex(&drawn_from_span()).unwrap()) {
        prop_assert!(Regex::new(&pattern(SPAN)).unwrap().is_match(&text));
        prop_assert!(text.parse::<Span>().is_ok(), "{text:?}");
    }

    #[test]
    fn what_the_schema_takes_for_a_name_is_one_and_nothing_else(text in "[ -~]{0,12}") {
        let taken = Regex::new(&pattern(NAME)).unwrap().is_match(&text);
        prop_assert_eq!(taken, text.parse::<HostName>().is_ok() && text.trim() == text, "{:?}", text);
    }
}

/// A key that was renamed in the format is said of by its new name everywhere: whatever is demanded is one of its table's keys, and
/// whatever is said of a key stands beside what the format says of it.
#[test]
fn what_is_said_besides_is_said_of_what_there_is() {
    let schema = json_schema();
    for (name, table) in schema["$defs"].as_object().unwrap() {
        let Some(keys) = table["properties"].as_object() else { continue };
        let demanded = table["required"].as_array().into_iter().flatten();
        let one_of = table["oneOf"].as_array().into_iter().flatten().flat_map(|one| one["required"].as_array().into_iter().flatten());
        for key in demanded.chain(one_of).filter_map(Value::as_str) {
            assert!(keys.contains_key(key), "{name} has no {key}");
        }
        for (key, value) in keys {
            let says_more = ["type", "$ref", "anyOf", "oneOf", "allOf", "enum", "additionalProperties", "items"];
            assert!(says_more.iter().any(|k| value.get(k).is_some()), "nothing but a pattern is said of {name}.{key}: {value}");
        }
    }
    assert!(schema["$defs"]["StepFile"]["oneOf"].as_array().unwrap().len() > 10, "each deed is one");
    assert_eq!(schema["$defs"]["StartFile"]["properties"]["accept_exits"]["items"]["maximum"], 255);
}
