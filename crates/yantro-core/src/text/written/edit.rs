//! Changes of a procedure's text, one at a time.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use toml_edit::{ArrayOfTables, DocumentMut, Item, Table, TableLike};

use super::{
    APART, EditFault, each_table, extent,
    in_value::{self, Steps},
    inline, key_of, read,
};
use crate::words::name::ProcedureName;

/// One change of a procedure. Lines are counted from 1, as they stand when the change is made.
///
/// Where keys are set, `null`, `false`, an empty text, an empty list and an empty table take the key out:
/// they are what a key that is not written means.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(tag = "edit", rename_all = "kebab-case", deny_unknown_fields)]
pub enum Edit {
    /// Sets keys of the procedure itself: title, purpose, if_it_fails.
    Head {
        /// The keys.
        set: Map<String, Value>,
    },
    /// Sets keys of a question that is asked before it begins; without keys, it is no longer asked.
    Ask {
        /// Its name.
        name: String,
        /// The keys.
        #[serde(default)]
        set: Option<Map<String, Value>>,
    },
    /// Writes a step, so that it becomes this line.
    Insert {
        /// The line.
        line: u32,
        /// What the step says.
        step: Map<String, Value>,
    },
    /// Sets keys of a step.
    Change {
        /// The line.
        line: u32,
        /// The keys.
        set: Map<String, Value>,
    },
    /// Moves a step, so that it becomes the line `to`.
    Move {
        /// The line.
        line: u32,
        /// Where it goes.
        to: u32,
    },
    /// Takes a step out.
    Remove {
        /// The line.
        line: u32,
    },
}

/// What a step can do, by its key.
pub(crate) const DEEDS: [&str; 18] = [
    "stop",
    "start",
    "restart",
    "reload",
    "shut_down",
    "power_on",
    "reboot",
    "power_cycle",
    "act",
    "bring_back",
    "work",
    "script",
    "pause",
    "until",
    "until_time",
    "question",
    "look",
    "announce",
];

/// The keys of a step in the order in which they are written; others follow.
const ORDER: [&str; 28] = [
    "name",
    "title",
    "stop",
    "start",
    "restart",
    "reload",
    "shut_down",
    "power_on",
    "reboot",
    "power_cycle",
    "act",
    "of",
    "bring_back",
    "work",
    "script",
    "pause",
    "until",
    "until_time",
    "question",
    "look",
    "announce",
    "to",
    "except",
    "alone",
    "alongside",
    "preflight",
    "patience",
    "if_it_fails",
];

/// The text of a procedure with these changes made, one after another.
pub fn edited(text: &str, name: &ProcedureName, edits: &[Edit]) -> Result<String, EditFault> {
    if edits.is_empty() {
        return Ok(text.to_owned());
    }
    let mut document = read(text)?;
    let none = || EditFault::new(format!("this text has no procedure {name}"), format!("begin it with [procedure.{name}]"));
    let all = document.get("procedure").and_then(Item::as_table).ok_or_else(none)?;
    let key = key_of(all, name).ok_or_else(none)?;
    for edit in edits {
        one(&mut document, &key, edit)?;
    }
    Ok(document.to_string())
}

fn one(document: &mut DocumentMut, key: &str, edit: &Edit) -> Result<(), EditFault> {
    let table = document["procedure"][key].as_table_mut().ok_or_else(inline)?;
    match edit {
        Edit::Head { set } => {
            table.set_implicit(false);
            set_keys(table, set)
        }
        Edit::Ask { name, set: None } => {
            if let Some(questions) = table.get_mut("questions").and_then(Item::as_table_like_mut) {
                questions.remove(name);
            }
            Ok(())
        }
        Edit::Ask { name, set: Some(set) } => {
            let at = extent(table).map_or(0, |(first, _)| first);
            let questions = table.entry("questions").or_insert_with(|| {
                let mut table = Table::new();
                table.set_implicit(true);
                Item::Table(table)
            });
            let questions = questions.as_table_like_mut().ok_or_else(inline)?;
            if !questions.contains_key(name) {
                let mut question = Table::new();
                // Right after the head: before the steps that use its answer.
                question.set_position(Some(at));
                question.decor_mut().set_prefix("\n");
                questions.insert(name, Item::Table(question));
            }
            let question = questions.get_mut(name).and_then(Item::as_table_like_mut).ok_or_else(inline)?;
            set_keys(question, set)
        }
        Edit::Change { line, set } if is_in_line(table) => in_line(table, |steps| {
            let count = steps.entries.len();
            let step = &mut steps.entries[index(*line, count)?].step;
            let before = step.len();
            let said: Vec<String> = step.iter().map(|(k, _)| k.to_owned()).collect();
            set_keys(step, set)?;
            if step.len() != before || step.iter().any(|(k, _)| !said.iter().any(|s| s == k)) {
                in_value::even(step);
            }
            Ok(())
        }),
        Edit::Insert { line, step } if is_in_line(table) => in_line(table, |steps| {
            let at = (*line as usize)
                .checked_sub(1)
                .filter(|at| *at <= steps.entries.len())
                .ok_or_else(|| no_line(*line, steps.entries.len()))?;
            let mut new = toml_edit::InlineTable::new();
            for (key, value) in in_order(step) {
                new.insert(&key, value_of(&value)?);
            }
            in_value::even(&mut new);
            let new = steps.entry(new);
            steps.entries.insert(at, new);
            Ok(())
        }),
        Edit::Move { line, to } if is_in_line(table) => in_line(table, |steps| {
            let count = steps.entries.len();
            let (from, to) = (index(*line, count)?, index(*to, count)?);
            let step = steps.entries.remove(from);
            steps.entries.insert(to, step);
            Ok(())
        }),
        Edit::Remove { line } if is_in_line(table) => in_line(table, |steps| {
            steps.entries.remove(index(*line, steps.entries.len())?);
            Ok(())
        }),
        Edit::Change { line, set } => {
            let mut steps = steps_of(table)?;
            let count = steps.len();
            let step = steps.get_mut(index(*line, count)?).ok_or_else(|| no_line(*line, count))?;
            set_keys(step, set)?;
            table["steps"] = Item::ArrayOfTables(steps);
            Ok(())
        }
        Edit::Insert { line, step } => {
            let mut new = Table::new();
            new.decor_mut().set_prefix("\n");
            for (key, value) in in_order(step) {
                new.insert(&key, Item::Value(value_of(&value)?));
            }
            arranged(document, key, |steps| {
                let at = (*line as usize).checked_sub(1).filter(|at| *at <= steps.len()).ok_or_else(|| no_line(*line, steps.len()))?;
                steps.insert(at, new);
                Ok(())
            })
        }
        Edit::Move { line, to } => arranged(document, key, |steps| {
            let (from, to) = (index(*line, steps.len())?, index(*to, steps.len())?);
            let step = steps.remove(from);
            steps.insert(to, step);
            Ok(())
        }),
        Edit::Remove { line } => arranged(document, key, |steps| {
            steps.remove(index(*line, steps.len())?);
            Ok(())
        }),
    }
}

/// Whether the steps of a procedure are written as a list in one value.
fn is_in_line(table: &Table) -> bool {
    table.get("steps").and_then(Item::as_array).is_some_and(|steps| Steps::of(steps).is_some())
}

/// Changes steps that are written as a list in one value, where they are.
fn in_line(table: &mut Table, change: impl FnOnce(&mut Steps) -> Result<(), EditFault>) -> Result<(), EditFault> {
    let Some(array) = table.get_mut("steps").and_then(Item::as_array_mut) else { return Ok(()) };
    let Some(mut steps) = Steps::of(array) else { return Ok(()) };
    change(&mut steps)?;
    let mut new = steps.array();
    *new.decor_mut() = array.decor().clone();
    *array = new;
    Ok(())
}

/// What a step says, in the order in which it is written, without what says nothing.
fn in_order(step: &Map<String, Value>) -> Vec<(String, Value)> {
    let ordered = ORDER.iter().filter_map(|k| Some(((*k).to_owned(), step.get(*k)?.clone())));
    let rest = step.iter().filter(|(k, _)| !ORDER.contains(&k.as_str())).map(|(k, v)| (k.clone(), v.clone()));
    ordered.chain(rest).filter(|(_, v)| !is_unset(v)).collect()
}

fn no_line(line: u32, count: usize) -> EditFault {
    EditFault::new(format!("there is no line {line}: the procedure has {count}"), "see the procedure for its lines")
}

fn index(line: u32, count: usize) -> Result<usize, EditFault> {
    (line as usize).checked_sub(1).filter(|at| *at < count).ok_or_else(|| no_line(line, count))
}

/// The steps, taken out of their table. Ones that were written inline come under heads of their own.
fn steps_of(table: &mut Table) -> Result<ArrayOfTables, EditFault> {
    match table.remove("steps") {
        None => Ok(ArrayOfTables::new()),
        Some(item) => item
            .into_array_of_tables()
            .map_err(|_| EditFault::new("\"steps\" is no list of steps", "write each step under [[procedure.NAME.steps]]")),
    }
}

/// Arranges the steps anew. In the text a table stands where its position says, so all of them are given
/// new ones.
fn arranged(
    document: &mut DocumentMut,
    key: &str,
    arrange: impl FnOnce(&mut Vec<Table>) -> Result<(), EditFault>,
) -> Result<(), EditFault> {
    let mut last = 0;
    each_table(document.as_table_mut(), &mut |t| {
        if let Some(at) = t.position() {
            t.set_position(Some(at * APART));
            last = last.max(at * APART);
        }
    });
    let table = document["procedure"][key].as_table_mut().ok_or_else(inline)?;
    let mut steps: Vec<Table> = steps_of(table)?.into_iter().collect();
    let base = steps.iter_mut().filter_map(|s| extent(s).map(|(first, _)| first)).min().unwrap_or(last + APART);
    let result = arrange(&mut steps);
    let mut next = base;
    for step in &mut steps {
        // The first of the whole text may lack the empty line before it.
        let prefix = super::prefix_of(step);
        if !prefix.starts_with('\n') {
            step.decor_mut().set_prefix(format!("\n{prefix}"));
        }
        let own: Vec<isize> = {
            let mut own = Vec::new();
            each_table(step, &mut |t| own.extend(t.position()));
            own.sort_unstable();
            own.dedup();
            own
        };
        let first = next;
        each_table(step, &mut |t| {
            let rank = t.position().and_then(|p| own.binary_search(&p).ok()).unwrap_or(0) as isize;
            t.set_position(Some(first + rank));
        });
        next += own.len().max(1) as isize;
    }
    if !steps.is_empty() {
        let mut array = ArrayOfTables::new();
        steps.into_iter().for_each(|s| array.push(s));
        table["steps"] = Item::ArrayOfTables(array);
    }
    // Counted from one again, so that any number of changes fit.
    let mut all = Vec::new();
    each_table(document.as_table_mut(), &mut |t| all.extend(t.position()));
    all.sort_unstable();
    all.dedup();
    each_table(document.as_table_mut(), &mut |t| {
        t.set_position(t.position().and_then(|p| all.binary_search(&p).ok()).map(|at| at as isize))
    });
    result
}

fn is_unset(value: &Value) -> bool {
    match value {
        Value::Null | Value::Bool(false) => true,
        Value::String(text) => text.is_empty(),
        Value::Array(all) => all.is_empty(),
        Value::Object(map) => map.is_empty(),
        Value::Bool(true) | Value::Number(_) => false,
    }
}

fn set_keys(table: &mut dyn TableLike, set: &Map<String, Value>) -> Result<(), EditFault> {
    for (key, value) in set {
        if is_unset(value) {
            table.remove(key);
            continue;
        }
        set_key(table, key, value)?;
    }
    Ok(())
}

/// Keys inside a key: there `false` and an empty text may say something, such as `verify_tls = false` or an empty
/// value of the environment. Only `null` takes one out.
fn set_within(table: &mut dyn TableLike, set: &Map<String, Value>) -> Result<(), EditFault> {
    for (key, value) in set {
        if value.is_null() {
            table.remove(key);
        } else {
            set_key(table, key, value)?;
        }
    }
    Ok(())
}

fn set_key(table: &mut dyn TableLike, key: &str, value: &Value) -> Result<(), EditFault> {
    match table.get_mut(key) {
        // What says the same stays as it is written.
        Some(item) if json_of(item) == *value => {}
        Some(item) => match (item.as_table_like_mut(), value) {
            (Some(inner), Value::Object(wanted)) => {
                let gone: Vec<String> = inner.iter().map(|(k, _)| k.to_owned()).filter(|k| !wanted.contains_key(k)).collect();
                gone.iter().for_each(|k| drop(inner.remove(k)));
                set_within(inner, wanted)?;
            }
            _ => {
                let mut new = value_of(value)?;
                if let Some(old) = item.as_value() {
                    *new.decor_mut() = old.decor().clone();
                }
                *item = Item::Value(new);
            }
        },
        None => {
            table.insert(key, Item::Value(value_of(value)?));
        }
    }
    Ok(())
}

/// A value as it is written in TOML. A key inside it whose value is nothing is left out.
fn value_of(value: &Value) -> Result<toml_edit::Value, EditFault> {
    Ok(match value {
        Value::Null => return Err(EditFault::new("a list has an empty place", "take it out")),
        Value::Bool(b) => (*b).into(),
        Value::Number(n) => match (n.as_i64(), n.as_f64()) {
            (Some(whole), _) => whole.into(),
            (None, Some(real)) => real.into(),
            (None, None) => return Err(EditFault::new(format!("{n} is no number that fits"), "write a smaller one")),
        },
        Value::String(text) => text.as_str().into(),
        Value::Array(all) => toml_edit::Value::Array(all.iter().map(value_of).collect::<Result<toml_edit::Array, _>>()?),
        Value::Object(map) => {
            let mut table = toml_edit::InlineTable::new();
            for (key, value) in map.iter().filter(|(_, v)| !v.is_null()) {
                table.insert(key, value_of(value)?);
            }
            toml_edit::Value::InlineTable(table)
        }
    })
}

/// What is written, as JSON; a point in time as its text.
fn json_of(item: &Item) -> Value {
    match item {
        Item::None => Value::Null,
        Item::Value(value) => json_of_value(value),
        Item::Table(table) => Value::Object(table.iter().map(|(k, v)| (k.to_owned(), json_of(v))).collect()),
        Item::ArrayOfTables(all) => {
            all.iter().map(|t| Value::Object(t.iter().map(|(k, v)| (k.to_owned(), json_of(v))).collect())).collect()
        }
    }
}

fn json_of_value(value: &toml_edit::Value) -> Value {
    match value {
        toml_edit::Value::String(text) => text.value().as_str().into(),
        toml_edit::Value::Integer(n) => (*n.value()).into(),
        toml_edit::Value::Float(n) => (*n.value()).into(),
        toml_edit::Value::Boolean(b) => (*b.value()).into(),
        toml_edit::Value::Datetime(at) => at.value().to_string().into(),
        toml_edit::Value::Array(all) => all.iter().map(json_of_value).collect(),
        toml_edit::Value::InlineTable(table) => Value::Object(table.iter().map(|(k, v)| (k.to_owned(), json_of_value(v))).collect()),
    }
}
