//! What two procedures differ in, step by step.

use std::collections::BTreeSet;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use similar::{Algorithm, DiffOp, capture_diff_slices};

use crate::{
    text::{Faults, structure},
    words::name::ProcedureName,
};

/// What became of a step.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum StepChange {
    /// It says the same.
    Same,
    /// It says the same, at another place.
    Moved,
    /// It says something else.
    Changed,
    /// It is gone.
    Gone,
    /// It is new.
    New,
}

/// A step of two procedures beside each other.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct StepDifference {
    /// What became of it.
    pub change: StepChange,
    /// Its line in the first, from 1.
    pub old: Option<u32>,
    /// Its line in the second.
    pub new: Option<u32>,
    /// What it does, in a few words.
    pub says: String,
    /// What is different, key by key: `patience: 5m → 10m`.
    pub keys: Vec<String>,
}

/// What a piece says about a procedure: only what is written, values that are no good among them. Of a text that
/// is no TOML, as far as it is sound.
pub fn procedure_of(piece: &str, name: &ProcedureName) -> Map<String, Value> {
    let of = |all: &Value| {
        let found = all.get("procedure").and_then(Value::as_object);
        let found = found.and_then(|all| all.iter().find(|(key, _)| key.eq_ignore_ascii_case(name.as_str())));
        found.and_then(|(_, p)| p.as_object().cloned())
    };
    let shaped = |p: &Map<String, Value>| {
        let steps = p.get("steps").is_none_or(|s| s.as_array().is_some_and(|all| all.iter().all(Value::is_object)));
        steps && p.get("questions").is_none_or(|q| q.as_object().is_some_and(|all| all.values().all(Value::is_object)))
    };
    if let Some(written) = toml::from_str::<Value>(piece).ok().as_ref().and_then(of).filter(shaped) {
        return written;
    }
    // Its faults are told where it is vetted.
    let (sound, _) = structure::read(piece, &mut Faults::new(piece));
    of(&sound).unwrap_or_default()
}

/// What two procedures differ in, in the order of the second.
pub fn steps_difference(old: &Map<String, Value>, new: &Map<String, Value>) -> Vec<StepDifference> {
    let steps = |p: &Map<String, Value>| p.get("steps").and_then(Value::as_array).cloned().unwrap_or_default();
    let (old, new) = (steps(old), steps(new));
    // Compared as text: a step is the same where it says the same.
    let text = |all: &[Value]| all.iter().map(Value::to_string).collect::<Vec<_>>();
    let (old_text, new_text) = (text(&old), text(&new));
    let mut out = Vec::new();
    let row = |change, o: Option<usize>, n: Option<usize>, keys| StepDifference {
        change,
        old: o.map(|i| i as u32 + 1),
        new: n.map(|i| i as u32 + 1),
        says: n.map(|i| &new[i]).or(o.map(|i| &old[i])).map(says).unwrap_or_default(),
        keys,
    };
    for op in capture_diff_slices(Algorithm::Patience, &old_text, &new_text) {
        match op {
            DiffOp::Equal { old_index, new_index, len } => {
                out.extend((0..len).map(|i| row(StepChange::Same, Some(old_index + i), Some(new_index + i), Vec::new())));
            }
            DiffOp::Delete { old_index, old_len, .. } => {
                out.extend((old_index..old_index + old_len).map(|o| row(StepChange::Gone, Some(o), None, Vec::new())));
            }
            DiffOp::Insert { new_index, new_len, .. } => {
                out.extend((new_index..new_index + new_len).map(|n| row(StepChange::New, None, Some(n), Vec::new())));
            }
            DiffOp::Replace { old_index, old_len, new_index, new_len } => {
                for i in 0..old_len.max(new_len) {
                    let (o, n) = ((i < old_len).then_some(old_index + i), (i < new_len).then_some(new_index + i));
                    match (o, n) {
                        (Some(o), Some(n)) if alike(&old[o], &new[n]) => {
                            out.push(row(StepChange::Changed, Some(o), Some(n), keys(&old[o], &new[n])));
                        }
                        (o, n) => {
                            out.extend(o.map(|o| row(StepChange::Gone, Some(o), None, Vec::new())));
                            out.extend(n.map(|n| row(StepChange::New, None, Some(n), Vec::new())));
                        }
                    }
                }
            }
        }
    }
    moved(&mut out, &old_text, &new_text);
    out
}

/// What is gone here and new there, and says the same, was moved.
fn moved(rows: &mut Vec<StepDifference>, old: &[String], new: &[String]) {
    let at = |n: Option<u32>| n.map(|n| n as usize - 1);
    let mut taken = BTreeSet::new();
    let gone: Vec<(usize, usize)> =
        rows.iter().enumerate().filter(|(_, r)| r.change == StepChange::Gone).filter_map(|(i, r)| Some((i, at(r.old)?))).collect();
    for row in rows.iter_mut().filter(|r| r.change == StepChange::New) {
        let Some(n) = at(row.new) else { continue };
        if let Some((i, o)) = gone.iter().find(|(i, o)| !taken.contains(i) && old[*o] == new[n]) {
            taken.insert(*i);
            row.change = StepChange::Moved;
            row.old = Some(*o as u32 + 1);
        }
    }
    let mut i = 0;
    rows.retain(|_| {
        i += 1;
        !taken.contains(&(i - 1))
    });
}

/// Whether two steps are about the same thing: called the same, or doing the same kind of thing.
fn alike(old: &Value, new: &Value) -> bool {
    let (Some(old), Some(new)) = (old.as_object(), new.as_object()) else { return false };
    let same = |key: &str| old.get(key).is_some_and(|v| new.get(key) == Some(v));
    same("name") || same("title") || super::edit::DEEDS.iter().any(|d| old.contains_key(*d) && new.contains_key(*d))
}

fn keys(old: &Value, new: &Value) -> Vec<String> {
    let empty = Map::new();
    let (old, new) = (old.as_object().unwrap_or(&empty), new.as_object().unwrap_or(&empty));
    let all: BTreeSet<&String> = old.keys().chain(new.keys()).collect();
    let word = |v: Option<&Value>| match v {
        None => "nothing".to_owned(),
        Some(Value::String(text)) => text.clone(),
        Some(other) => other.to_string(),
    };
    let differ = all.into_iter().filter(|k| old.get(*k) != new.get(*k));
    differ.map(|k| format!("{k}: {} → {}", word(old.get(k)), word(new.get(k)))).collect()
}

/// What a step does, in a few words, from what is written.
fn says(step: &Value) -> String {
    if let Some(title) = step.get("title").and_then(Value::as_str) {
        return title.to_owned();
    }
    let deed = super::edit::DEEDS.iter().find_map(|d| Some((d, step.get(*d)?)));
    let Some((deed, value)) = deed else { return "nothing yet".to_owned() };
    let list = |v: &Value| v.as_array().into_iter().flatten().filter_map(Value::as_str).collect::<Vec<_>>().join(" ");
    match *deed {
        "act" => return format!("{} {}", value.as_str().unwrap_or_default(), step.get("of").map(list).unwrap_or_default()),
        "bring_back" if list(value) == "all" => return "bring back as found".to_owned(),
        _ => {}
    }
    let words = match value {
        Value::String(text) => text.lines().next().unwrap_or_default().to_owned(),
        Value::Array(all) => all.iter().map(|v| v.as_str().map_or_else(|| v.to_string(), str::to_owned)).collect::<Vec<_>>().join(" "),
        Value::Object(map) => map.get("asks").and_then(Value::as_str).map_or_else(|| value.to_string(), str::to_owned),
        other => other.to_string(),
    };
    format!("{} {words}", deed.replace('_', " "))
}
