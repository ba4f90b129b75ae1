//! Vets the structure of an estate file against the JSON Schema made from [`super::file`].
//!
//! The schema is the one description of the format; walking the text against it finds every
//! unknown key, wrong type and bad value in one pass, where reading would stop at the first. What
//! is at fault is left out of the outcome, so that everything else can still be vetted.

use std::{
    borrow::Cow,
    collections::{BTreeMap, BTreeSet},
    ops::Range,
    sync::LazyLock,
};

use regex::Regex;
use serde_json::{Map, Value, json};
use toml::{
    Spanned,
    de::{DeTable, DeValue},
};

use super::{
    fault::{Faults, NOT_TOML},
    file::EstateFile,
};
use crate::{
    proof::logs,
    words::{
        name::{did_you_mean, near_misses},
        time::Span,
    },
};

/// The format of the estate file, as a JSON Schema: what vetting walks by. What is published of it says more.
pub(super) fn format() -> Value {
    schemars::schema_for!(EstateFile).to_value()
}

/// Where each key and value of the file stands, by path: `service.fares-db.start.patience`; and where something was meant
/// that is blamed: by a value that it cannot be, or a key that is misspelt.
#[derive(Debug, Default)]
pub struct Places(BTreeMap<String, (Range<usize>, Range<usize>)>, BTreeSet<String>);

impl Places {
    /// The place of the value at a path, or of the nearest thing above it.
    pub fn value(&self, path: &str) -> Range<usize> {
        self.nearest(path).map_or(0..0, |(_, value)| value.clone())
    }
    /// The place of the key at a path, or of the nearest thing above it.
    pub fn key(&self, path: &str) -> Range<usize> {
        self.nearest(path).map_or(0..0, |(key, _)| key.clone())
    }
    /// Whether the file itself says something at this path.
    pub fn has(&self, path: &str) -> bool {
        self.0.contains_key(path)
    }
    /// Whether the file was meant to say something at this path: by a value that it cannot be, or by a key that is misspelt. Either is
    /// blamed itself.
    pub fn is_meant(&self, path: &str) -> bool {
        self.1.contains(path)
    }
    fn nearest(&self, path: &str) -> Option<&(Range<usize>, Range<usize>)> {
        let mut path = path;
        loop {
            if let Some(found) = self.0.get(path) {
                return Some(found);
            }
            path = &path[..path.rfind('.')?];
        }
    }
}

/// Reads the text as far as it goes: what is sound as JSON, and where everything stands.
pub fn read(text: &str, faults: &mut Faults<'_>) -> (Value, Places) {
    let readable = without_unreadable(text, faults);
    let (table, _) = DeTable::parse_recoverable(&readable);
    let schema = format();
    let mut walk = Walk { root: &schema, faults, places: Places::default() };
    let value = walk.table(&schema, table.get_ref(), &table.span(), "");
    (Value::Object(value), walk.places)
}

/// The text with every table that is no TOML blanked out, each told once, at the first place where it cannot be read: what a
/// reader makes of the rest of such a table is guesswork, and its other faults are those of the guess.
fn without_unreadable<'t>(text: &'t str, faults: &mut Faults<'_>) -> Cow<'t, str> {
    let mut readable = Cow::Borrowed(text);
    for _ in 0..UNREADABLE_AT_MOST {
        let (_, errors) = DeTable::parse_recoverable(&readable);
        // A list or a text that is not closed is told where the reader gave up; it began before that.
        let Some(error) = errors.iter().min_by_key(|e| e.span().map_or(0, |s| s.start)) else { return readable };
        let says = error.message().trim();
        let span = where_it_broke_off(&readable, error.span().unwrap_or(0..0), says);
        let table = table_around(&readable, span.start);
        faults.error(NOT_TOML, span, format!("this is not TOML: {says}"), mend_for_toml(says));
        faults.left_unread();
        if readable[table.clone()].trim().is_empty() {
            return readable; // Blanked already: nothing more can be done for it.
        }
        let blank: String =
            readable[table.clone()].chars().map(|c| if c == '\n' { "\n".to_owned() } else { " ".repeat(c.len_utf8()) }).collect();
        readable.to_mut().replace_range(table, &blank);
    }
    // It may be no such file at all: what else is wrong with it is nobody's concern yet.
    Cow::Borrowed("")
}

/// Where a reader gave up, or, where that is at the head of a table, the end of what comes before: it is that which is not
/// closed, and the next table is none the worse for it. Only a table that is there twice is at fault by its head.
fn where_it_broke_off(text: &str, span: Range<usize>, says: &str) -> Range<usize> {
    let is_head = HEADER.find_at(text, span.start).is_some_and(|head| head.start() == span.start);
    let before = text.get(..span.start).unwrap_or_default().trim_end().len();
    if is_head && before > 0 && !says.contains("duplicate") { before - 1..before } else { span }
}

/// From the header of the table that a place is in up to the next one's.
fn table_around(text: &str, place: usize) -> Range<usize> {
    let place = place.min(text.len());
    let headers = || HEADER.find_iter(text).map(|h| h.start());
    let begin = headers().take_while(|at| *at <= place).last().unwrap_or(0);
    // Tables below it mean nothing without it.
    let name = name_in(&text[begin..]);
    let is_below =
        |at: usize| name.is_some_and(|name| name_in(&text[at..]).is_some_and(|n| n.strip_prefix(name).is_some_and(|n| n.starts_with('.'))));
    let end = headers().find(|at| *at > place && !is_below(*at)).unwrap_or(text.len());
    begin..end
}

/// The dotted name in the header that a text begins with.
fn name_in(text: &str) -> Option<&str> {
    let name = text.trim_start().strip_prefix('[')?.split(']').next()?;
    Some(name.trim_start_matches('[').trim())
}

/// A file with more tables that cannot be read is read no further.
const UNREADABLE_AT_MOST: usize = 20;

/// A line that begins a table: a dotted name in brackets, and nothing else but a comment.
static HEADER: LazyLock<Regex> = LazyLock::new(|| {
    Regex::new(r#"(?m)^[ \t]*\[\[?[ \t]*[A-Za-z0-9_"'-][A-Za-z0-9_."' \t-]*\]\]?[ \t]*(#.*)?\r?$"#).expect("it is a pattern")
});

fn mend_for_toml(message: &str) -> &'static str {
    if message.contains("duplicate key") {
        "write each key and each table once; join what the two say"
    } else if message.contains("array") {
        "a list is closed by ], with a comma between any two of its values: see the line before, too"
    } else if message.contains("inline table") {
        "a table in one line is closed by }, with a comma between any two of its keys: see the line before, too"
    } else if message.contains("string") || message.contains("quote") {
        "text stands in double quotes, closed on the same line"
    } else {
        "a line is `key = value`, a [table] or a [[list entry]]; text stands in double quotes"
    }
}

/// Whether a table has every key that it must: one that is missing or was no good was told already,
/// and the rest of the file is vetted without the table.
fn is_complete(schema: &Value, map: &Map<String, Value>) -> bool {
    schema.get("required").and_then(Value::as_array).into_iter().flatten().filter_map(Value::as_str).all(|key| map.contains_key(key))
}

struct Walk<'s, 'f, 't> {
    root: &'s Value,
    faults: &'f mut Faults<'t>,
    places: Places,
}

impl<'s> Walk<'s, '_, '_> {
    fn resolved(&self, mut schema: &'s Value) -> &'s Value {
        while let Some(reference) = schema.get("$ref").and_then(Value::as_str) {
            schema = self.root.pointer(reference.trim_start_matches('#')).expect("schemars refers only to what it defines");
        }
        schema
    }

    /// A choice of choices, as one list.
    fn flat(&self, schema: &'s Value) -> Vec<&'s Value> {
        let schema = self.resolved(schema);
        match schema.get("anyOf").or_else(|| schema.get("oneOf")).and_then(Value::as_array) {
            Some(inner) => inner.iter().flat_map(|c| self.flat(c)).collect(),
            None => vec![schema],
        }
    }

    fn table(&mut self, schema: &'s Value, table: &DeTable<'_>, span: &Range<usize>, path: &str) -> Map<String, Value> {
        let mut out = Map::new();
        let properties = schema.get("properties").and_then(Value::as_object);
        let others = schema.get("additionalProperties").filter(|v| v.is_object());
        for (key, value) in table {
            let name: &str = key.get_ref();
            let here = if path.is_empty() { name.to_owned() } else { format!("{path}.{name}") };
            self.places.0.insert(here.clone(), (key.span(), value.span()));
            let inner = properties.and_then(|p| p.get(name)).or(others);
            let Some(inner) = inner else {
                let known: Vec<&str> = properties.map(|p| p.keys().map(String::as_str).collect()).unwrap_or_default();
                let at = |key: &str| if path.is_empty() { key.to_owned() } else { format!("{path}.{key}") };
                self.places.1.extend(near_misses(name, known.iter().copied()).into_iter().map(at));
                let place = if path.is_empty() { "at the top of the file".to_owned() } else { format!("in [{path}]") };
                self.faults.error(
                    "unknown-key",
                    key.span(),
                    format!("\"{name}\" is no key {place}"),
                    did_you_mean(name, known.iter().copied()),
                );
                continue;
            };
            match self.value(inner, value, &here) {
                Some(sound) => drop(out.insert(name.to_owned(), sound)),
                None => drop(self.places.1.insert(here)),
            }
        }
        for wanted in schema.get("required").and_then(Value::as_array).into_iter().flatten().filter_map(Value::as_str) {
            if !table.iter().any(|(key, _)| key.get_ref() == wanted) {
                self.faults.error("missing-key", span.clone(), format!("[{path}] has no \"{wanted}\""), format!("add `{wanted} = …`"));
            }
        }
        out
    }

    fn value(&mut self, schema: &'s Value, node: &Spanned<DeValue<'_>>, path: &str) -> Option<Value> {
        let schema = self.resolved(schema);
        if let Some(choices) = schema.get("anyOf").or_else(|| schema.get("oneOf")).and_then(Value::as_array) {
            let choices: Vec<&'s Value> = choices.iter().flat_map(|c| self.flat(c)).collect();
            return self.choice(&choices, node, path);
        }
        if !fits(schema, node.get_ref()) {
            self.wrong_type(&[schema], node, path);
            return None;
        }
        match node.get_ref() {
            DeValue::Table(table) => {
                let map = self.table(schema, table, &node.span(), path);
                is_complete(schema, &map).then_some(Value::Object(map))
            }
            DeValue::Array(items) => {
                let inner = schema.get("items")?;
                let sound = items.iter().enumerate().filter_map(|(i, item)| {
                    let here = format!("{path}.{i}");
                    self.places.0.insert(here.clone(), (item.span(), item.span()));
                    let sound = self.value(inner, item, &here);
                    if sound.is_none() {
                        self.places.1.insert(path.to_owned());
                    }
                    sound
                });
                Some(Value::Array(sound.collect()))
            }
            DeValue::String(text) => self.text(schema, text, node.span()),
            DeValue::Integer(number) => self.number(schema, number.as_str(), number.radix(), node.span()),
            DeValue::Boolean(truth) => Some(json!(truth)),
            DeValue::Float(number) => self.fraction(schema, number.as_str(), node.span()),
            DeValue::Datetime(_) => {
                self.wrong_type(&[schema], node, path);
                None
            }
        }
    }

    fn choice(&mut self, choices: &[&'s Value], node: &Spanned<DeValue<'_>>, path: &str) -> Option<Value> {
        // A list of fixed words.
        let words: Vec<&str> = choices.iter().flat_map(|c| words_of(c, self.root)).collect();
        if let DeValue::String(text) = node.get_ref()
            && !words.is_empty()
            && !choices.iter().any(|c| c.get("type") == Some(&json!("string")) && c.get("const").is_none() && c.get("enum").is_none())
        {
            return match words.iter().find(|w| w.eq_ignore_ascii_case(text)) {
                Some(word) => Some(json!(word)),
                None => {
                    let key = path.rsplit('.').next().unwrap_or(path);
                    self.faults.error(
                        "unknown-word",
                        node.span(),
                        format!("\"{text}\" is nothing that {key} can be"),
                        did_you_mean(text, words.iter().copied()),
                    );
                    None
                }
            };
        }
        // Tables told apart by a fixed word in one of their keys.
        if let DeValue::Table(table) = node.get_ref()
            && let Some((tag, _)) = choices.iter().find_map(|c| tag_of(c))
        {
            let known: Vec<&str> = choices.iter().filter_map(|c| tag_of(c)).map(|(_, word)| word).collect();
            let said = table.iter().find(|(key, _)| key.get_ref() == tag);
            let Some((_, said)) = said else {
                self.faults.error(
                    "missing-key",
                    node.span(),
                    format!("this entry of {path} does not say which {tag} it is"),
                    format!("add `{tag} = \"…\"`; {}", did_you_mean("", known.iter().copied())),
                );
                return None;
            };
            let word = said.get_ref().as_str().unwrap_or_default();
            return match choices.iter().find(|c| tag_of(c).is_some_and(|(_, known)| known == word)) {
                Some(schema) => {
                    let map = self.table(schema, table, &node.span(), path);
                    is_complete(schema, &map).then_some(Value::Object(map))
                }
                None => {
                    self.faults.error(
                        "unknown-word",
                        said.span(),
                        format!("\"{word}\" is no {tag}"),
                        did_you_mean(word, known.iter().copied()),
                    );
                    None
                }
            };
        }
        match choices.iter().find(|c| fits(c, node.get_ref())) {
            Some(schema) => self.value(schema, node, path),
            None => {
                self.wrong_type(choices, node, path);
                None
            }
        }
    }

    fn text(&mut self, schema: &'s Value, text: &str, span: Range<usize>) -> Option<Value> {
        match schema.get("format").and_then(Value::as_str) {
            Some("yantro-span") => {
                if let Err(error) = text.parse::<Span>() {
                    self.faults.error(
                        "bad-duration",
                        span,
                        error.to_string(),
                        "write a number and its unit, such as \"200ms\", \"90s\", \"5m\" or \"1h 30m\"",
                    );
                    return None;
                }
            }
            Some("yantro-pattern") => {
                // Placeholders are put in later, with their meaning taken away; any word stands for them here.
                if let Err(error) = logs::check_pattern(&crate::model::fill::blank(text)) {
                    self.faults.error(
                        "bad-pattern",
                        span,
                        format!("\"{text}\" is no pattern: {error}"),
                        "patterns are regular expressions matched within one line; put \\ before a sign that is meant as itself",
                    );
                    return None;
                }
            }
            _ => {}
        }
        if let Some(words) = schema.get("enum").and_then(Value::as_array) {
            let words: Vec<&str> = words.iter().filter_map(Value::as_str).collect();
            if let Some(word) = words.iter().find(|w| w.eq_ignore_ascii_case(text)) {
                return Some(json!(word));
            }
            self.faults.error("unknown-word", span, format!("\"{text}\" cannot stand here"), did_you_mean(text, words.iter().copied()));
            return None;
        }
        Some(json!(text))
    }

    fn number(&mut self, schema: &'s Value, digits: &str, radix: u32, span: Range<usize>) -> Option<Value> {
        if types(schema).contains(&"number") {
            return self.fraction(schema, digits, span);
        }
        let low = schema.get("minimum").and_then(Value::as_f64).unwrap_or(i64::MIN as f64);
        let high = schema.get("maximum").and_then(Value::as_f64).unwrap_or(i64::MAX as f64);
        match i64::from_str_radix(digits, radix) {
            Ok(n) if (n as f64) >= low && (n as f64) <= high => Some(json!(n)),
            _ => {
                let range = if high < i64::MAX as f64 { format!("from {low} to {high}") } else { format!("of at least {low}") };
                self.faults.error("bad-number", span, format!("{digits} is out of range"), format!("write a whole number {range}"));
                None
            }
        }
    }

    fn fraction(&mut self, schema: &'s Value, digits: &str, span: Range<usize>) -> Option<Value> {
        let low = schema.get("minimum").and_then(Value::as_f64).unwrap_or(f64::MIN);
        let high = schema.get("maximum").and_then(Value::as_f64).unwrap_or(f64::MAX);
        match digits.parse::<f64>() {
            Ok(n) if (low..=high).contains(&n) => Some(json!(n)),
            _ => {
                self.faults.error("bad-number", span, format!("{digits} is out of range"), format!("write a number from {low} to {high}"));
                None
            }
        }
    }

    fn wrong_type(&mut self, wanted: &[&Value], node: &Spanned<DeValue<'_>>, path: &str) {
        let mut names: Vec<&str> = wanted.iter().flat_map(|s| type_names(s)).collect();
        names.dedup();
        let key = path.split('.').rfind(|p| p.parse::<usize>().is_err()).unwrap_or(path);
        self.faults.error(
            "wrong-type",
            node.span(),
            format!("{key} must be {}, and this is {}", names.join(" or "), said_type(node.get_ref())),
            example_of(&names),
        );
    }
}

fn tag_of(schema: &Value) -> Option<(&str, &str)> {
    let properties = schema.get("properties")?.as_object()?;
    properties.iter().find_map(|(key, value)| Some((key.as_str(), value.get("const")?.as_str()?)))
}

fn words_of<'s>(schema: &'s Value, root: &'s Value) -> Vec<&'s str> {
    if let Some(word) = schema.get("const").and_then(Value::as_str) {
        return vec![word];
    }
    if let Some(words) = schema.get("enum").and_then(Value::as_array) {
        return words.iter().filter_map(Value::as_str).collect();
    }
    if let Some(target) = schema.get("$ref").and_then(Value::as_str) {
        return root.pointer(target.trim_start_matches('#')).map(|s| words_of(s, root)).unwrap_or_default();
    }
    schema.get("oneOf").and_then(Value::as_array).map(|all| all.iter().flat_map(|s| words_of(s, root)).collect()).unwrap_or_default()
}

fn types(schema: &Value) -> Vec<&str> {
    match schema.get("type") {
        Some(Value::String(one)) => vec![one],
        Some(Value::Array(many)) => many.iter().filter_map(Value::as_str).collect(),
        _ if schema.get("oneOf").is_some() => vec!["string"],
        _ => vec![],
    }
}

fn fits(schema: &Value, node: &DeValue<'_>) -> bool {
    // A whole number is a number, too.
    if matches!(node, DeValue::Integer(_)) && types(schema).contains(&"number") {
        return true;
    }
    let wanted = match node {
        DeValue::String(_) => "string",
        DeValue::Integer(_) => "integer",
        DeValue::Boolean(_) => "boolean",
        DeValue::Array(_) => "array",
        DeValue::Table(_) => "object",
        DeValue::Float(_) => "number",
        DeValue::Datetime(_) => return false,
    };
    types(schema).contains(&wanted)
}

fn type_names(schema: &Value) -> Vec<&'static str> {
    types(schema)
        .into_iter()
        .filter_map(|t| match t {
            "string" => Some("text"),
            "integer" => Some("a whole number"),
            "number" => Some("a number"),
            "boolean" => Some("true or false"),
            "array" => Some("a list"),
            "object" => Some("a table"),
            _ => None,
        })
        .collect()
}

fn said_type(node: &DeValue<'_>) -> &'static str {
    match node {
        DeValue::String(_) => "text",
        DeValue::Integer(_) => "a whole number",
        DeValue::Float(_) => "a number with a fraction",
        DeValue::Boolean(_) => "true or false",
        DeValue::Datetime(_) => "a date or time",
        DeValue::Array(_) => "a list",
        DeValue::Table(_) => "a table",
    }
}

fn example_of(names: &[&str]) -> String {
    match names.first() {
        Some(&"text") => "put it in double quotes: \"…\"".to_owned(),
        Some(&"a list") => "put it in brackets: [\"…\"]".to_owned(),
        Some(&"a table") => "write it as { key = value } or as a [table] of its own".to_owned(),
        Some(&("a whole number" | "a number")) => "write digits, without quotes".to_owned(),
        Some(&"true or false") => "write true or false, without quotes".to_owned(),
        _ => "see docs/estate.md".to_owned(),
    }
}
