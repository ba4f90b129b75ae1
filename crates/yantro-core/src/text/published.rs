//! The JSON Schema of the estate file as it is published, for editors: the format that vetting walks by, and what else can be
//! said of it in a schema. Vetting says the rest, with how to mend it.

use serde_json::{Map, Value, json};

use super::{file::MEAN_ONLY_BESIDE, structure, vet::slips::GIVEN};
use crate::text::written::DEEDS;

/// A length of time, as [`crate::words::time::Span`] reads it; months and years are none that anybody waits for.
const SPAN: &str = "^\\s*([0-9]+\\s*(ns|us|ms|millis|msec|s|secs?|seconds?|m|mins?|minutes?|h|hrs?|hours?|d|days?|w|wks?|weeks?)\\s*)+$";
/// A name of a host, service, group or procedure.
const NAME: &str = "^[A-Za-z0-9_][A-Za-z0-9_-]{0,99}$";
/// A mask of rights, in octal digits.
const UMASK: &str = "^0*[0-7]{1,3}$";
/// The name of an account.
const ACCOUNT: &str = "^([A-Za-z0-9_][A-Za-z0-9_.@\\\\-]*\\$?|.*\\{.*)$";
/// The name of a variable of the environment.
const VARIABLE: &str = "^[^=\\s]+$";
/// A length of time that is none.
const NO_TIME: &str = "^\\s*(0+\\s*[a-z]+\\s*)+$";
/// A page.
const URL: &str = "^(https?://|.*\\{)";
/// A hardware address.
const MAC: &str = "^([0-9A-Fa-f]{2}[:-]){5}[0-9A-Fa-f]{2}$";
/// Keys that hold exit codes.
const EXITS: [&str; 5] = ["accept_exits", "state_up", "state_down", "holds", "not_yet"];

/// The published JSON Schema of the estate file.
pub fn json_schema() -> Value {
    let mut schema = structure::format();
    schema["description"] = json!("An estate: everything Yantro looks after. See docs/estate.md.");
    schema["required"] = json!(["estate"]);
    for named in ["host", "service", "group", "procedure"] {
        schema["properties"][named]["propertyNames"] = json!({ "pattern": NAME });
    }
    let defined = &mut schema["$defs"];
    defined["Span"]["pattern"] = json!(SPAN);
    defined["HeadFile"]["required"] = json!(["name", "stands_for"]);
    defined["HeadFile"]["properties"]["name"]["minLength"] = json!(1);
    what_must_be_there(defined);
    what_goes_together(defined);
    for definition in defined.as_object_mut().into_iter().flat_map(Map::values_mut) {
        of_properties(definition);
    }
    // A common block need not say it all, nor what takes its settings from one.
    let of_service = schema["properties"]["service"]["additionalProperties"].take();
    let on_a_host = json!({ "anyOf": [{ "required": ["host"] }, { "required": ["hosts"] }, { "required": ["like"] }] });
    schema["properties"]["service"]["additionalProperties"] = json!({ "allOf": [of_service, on_a_host] });
    schema
}

fn what_must_be_there(defined: &mut Value) {
    let tables: [(&str, &[&str]); 7] = [
        ("HostFile", &["reach"]),
        ("PowerFile", &["by"]),
        ("FreezeFile", &["from", "length"]),
        ("WindowFile", &["from", "length"]),
        ("ProcedureFile", &["steps"]),
        ("PersonFile", &["asks"]),
        ("ActFile", &["command"]),
    ];
    for (table, keys) in tables {
        defined[table]["required"] = json!(keys);
    }
    defined["ProcedureFile"]["properties"]["steps"]["minItems"] = json!(1);
    defined["StepFile"]["oneOf"] = DEEDS.iter().map(|deed| json!({ "required": [deed] })).collect();
}

/// What a table says by one key, and must or must not say by others then.
fn what_goes_together(defined: &mut Value) {
    let says = |key: &str, value: Value| json!({ "required": [key], "properties": { key: { "const": value } } });
    let any_of = |keys: &[&str]| json!({ "anyOf": keys.iter().map(|key| json!({ "required": [key] })).collect::<Vec<_>>() });
    let where_so = |so: Value, then: Value| json!({ "if": so, "then": then });
    let not = |what: Value| json!({ "not": what });
    let needs = |keys: &[&str]| json!({ "required": keys });

    let to_elsewhere = json!({ "properties": { "ssh": { "required": ["to"] } }, "required": ["ssh"] });
    for table in ["FreezeFile", "WindowFile"] {
        defined[table]["properties"]["rule"]["pattern"] = json!("[Ff][Rr][Ee][Qq]=");
    }
    let of_itself = [
        "relies_on",
        "yields_to",
        "expected",
        "impact",
        "hands_off",
        "owner",
        "start",
        "stop",
        "ladder",
        "steady",
        "ailing_after",
        "if_it_fails",
    ];
    defined["HostFile"]["allOf"] = json!([
        where_so(says("reach", json!("ssh")), json!({ "anyOf": [needs(&["address"]), to_elsewhere] })),
        where_so(not(says("reach", json!("ssh"))), not(needs(&["ssh"]))),
        where_so(not(says("reach", json!("simulated"))), not(needs(&["simulated"]))),
        where_so(any_of(&of_itself), needs(&["power"])),
    ]);
    let by = |what: &str| says("by", json!(what));
    let has_on = json!({ "required": ["on"], "properties": { "on": { "minItems": 1 } } });
    defined["PowerFile"]["allOf"] = json!([
        where_so(by("redfish"), needs(&["controller", "system"])),
        where_so(by("wake"), needs(&["mac", "broadcast"])),
        where_so(by("commands"), has_on),
        where_so(needs(&["outlet"]), by("redfish")),
    ]);
    defined["PowerFile"]["properties"]["mac"]["pattern"] = json!(MAC);
    defined["PowerFile"]["properties"]["controller"]["pattern"] = json!("^https://");
    let has_choices = json!({ "required": ["choices"], "properties": { "choices": { "minItems": 1 } } });
    defined["QuestionFile"]["allOf"] = json!([where_so(says("kind", json!("choice")), has_choices)]);
    let answered = json!({ "required": ["unanswered"], "properties": { "unanswered": { "enum": ["yes", "no"] } } });
    defined["PersonFile"]["allOf"] = json!([where_so(says("kind", json!("value")), not(answered))]);

    let mut of_step: Vec<Value> = MEAN_ONLY_BESIDE.iter().map(|(keys, deeds)| where_so(any_of(keys), any_of(&deeds.concat()))).collect();
    let value = json!({ "required": ["question"], "properties": { "question": says("kind", json!("value")) } });
    of_step.extend([
        where_so(needs(&["act"]), needs(&["of"])),
        where_so(value, needs(&["name"])),
        where_so(says("preflight", json!(true)), not(says("alongside", json!(true)))),
        where_so(says("changes_nothing", json!(true)), not(needs(&["counter"]))),
    ]);
    defined["StepFile"]["allOf"] = Value::Array(of_step);
    defined["StepFile"]["properties"]["keep"]["additionalProperties"] = json!({ "type": "string", "pattern": "\\(" });
    defined["StepFile"]["properties"]["to"]["pattern"] = json!(URL);

    let run_by = |all: &[&str]| json!({ "required": ["run_by"], "properties": { "run_by": { "enum": all } } });
    let stopped_twice = json!({ "required": ["stop"], "properties": { "stop": { "required": ["attempts"], "properties": { "attempts": { "minimum": 2 } } } } });
    defined["ServiceFile"]["allOf"] = json!([
        where_so(run_by(&["process", "commands", "simulated"]), not(any_of(&["unit", "at_boot"]))),
        where_so(run_by(&["systemd", "commands", "simulated"]), not(needs(&["process"]))),
        where_so(run_by(&["systemd", "process", "simulated"]), not(needs(&["commands"]))),
        where_so(needs(&["brought_back_by"]), not(stopped_twice)),
    ]);
}

/// What keys of the same name can hold, wherever they stand.
fn of_properties(definition: &mut Value) {
    for one in definition.get_mut("oneOf").and_then(Value::as_array_mut).into_iter().flatten() {
        of_properties(one);
    }
    let Some(properties) = definition.get_mut("properties").and_then(Value::as_object_mut) else { return };
    for (key, value) in properties {
        match key.as_str() {
            _ if EXITS.contains(&key.as_str()) && value["items"]["type"] == "integer" => {
                (value["items"]["minimum"], value["items"]["maximum"]) = (json!(0), json!(255));
            }
            "umask" => value["pattern"] = json!(UMASK),
            "user" => value["pattern"] = json!(ACCOUNT),
            "env" => value["propertyNames"] = json!({ "pattern": VARIABLE }),
            "values" => value["propertyNames"] = json!({ "not": { "enum": GIVEN } }),
            "patience" | "within" => value["not"] = json!({ "type": "string", "pattern": NO_TIME }),
            "url" => value["pattern"] = json!(URL),
            _ => {}
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use regex::Regex;
    use rstest::rstest;

    use super::*;
    use crate::words::{name::HostName, time::Span};

    #[rstest]
    #[case::a_length(SPAN, &["90s", "1h 30m", "200ms", "10 minutes", " 5m "], &["", "90", "soon", "5M", "1y", "-5s", "s"])]
    #[case::a_name(NAME, &["quay-1", "Fares_DB", "7"], &["", "-x", "a b", "a/b", "a.b"])]
    #[case::a_mask(UMASK, &["022", "0027", "7"], &["", "088", "1000", "0x1"])]
    #[case::an_account(ACCOUNT, &["root", "fares.db", "pc$", "fares@quay.example", "QUAY\\fares", "{account}"], &["", "root; rm -rf /", "-x"])]
    #[case::a_variable(VARIABLE, &["PORT", "a.b"], &["", "A=B", "A B"])]
    fn patterns_fit_what_can_be_said(#[case] pattern: &str, #[case] fits: &[&str], #[case] does_not: &[&str]) {
        let pattern = Regex::new(pattern).unwrap();
        let wrong: Vec<_> = fits.iter().filter(|t| !pattern.is_match(t)).chain(does_not.iter().filter(|t| pattern.is_match(t))).collect();
        assert!(wrong.is_empty(), "{wrong:?}");
    }

    /// The pattern with bounds: a number may be too large for any length.
    fn drawn_from_span() -> String {
        SPAN.trim_matches(['^', '$']).replace("[0-9]+", "[0-9]{1,6}").replace("\\s*", "[ \t]{0,2}").replace(")+", "){1,4}")
    }

    proptest! {
        #[test]
        fn what_the_schema_takes_for_a_length_is_one(text in proptest::string::string_regex(&drawn_from_span()).unwrap()) {
            prop_assert!(Regex::new(SPAN).unwrap().is_match(&text));
            prop_assert!(text.parse::<Span>().is_ok(), "{text:?}");
        }

        #[test]
        fn what_the_schema_takes_for_a_name_is_one_and_nothing_else(text in "[ -~]{0,12}") {
            let taken = Regex::new(NAME).unwrap().is_match(&text);
            prop_assert_eq!(taken, text.parse::<HostName>().is_ok() && text.trim() == text, "{:?}", text);
        }
    }

    /// A key that was renamed in the format is said here, too.
    #[test]
    fn what_is_said_besides_is_said_of_what_there_is() {
        let (format, published) = (structure::format(), json_schema());
        for (path, key) in
            [("/$defs/Span", "format"), ("/$defs/HeadFile/properties/name", "type"), ("/$defs/HostFile/properties/reach", "default")]
        {
            assert!(format.pointer(path).is_some_and(|at| at.get(key).is_some()), "{path}");
        }
        for deed in DEEDS {
            assert!(format["$defs"]["StepFile"]["properties"].get(deed).is_some(), "{deed}");
        }
        let text = published.to_string();
        for said in [UMASK, ACCOUNT, VARIABLE, NAME, SPAN] {
            assert!(text.contains(&json!(said).to_string()), "{said}");
        }
        assert_eq!(published["$defs"]["StartFile"]["properties"]["accept_exits"]["items"]["maximum"], 255);
    }
}
