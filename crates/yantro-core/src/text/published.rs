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
