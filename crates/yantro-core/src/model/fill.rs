//! Placeholders: `{name}` in the texts of a service stands for one of its values.
//!
//! A name starts with a lower-case letter, so that the counted repetitions of a pattern (`{2,3}`)
//! are left alone. `{{` and `}}` stand for the braces themselves.

use std::collections::BTreeMap;

use serde_json::Value;

/// A placeholder that no value has a name for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Unfilled {
    /// The path below the service at which it stands.
    pub path: String,
    /// Its name.
    pub name: String,
}

/// Puts values into every text below `node`. Below the keys of log patterns they are escaped, so
/// that a value is matched as itself.
pub fn fill(node: &mut Value, values: &BTreeMap<String, String>, path: &str, unfilled: &mut Vec<Unfilled>) {
    match node {
        Value::String(text) => {
            let is_pattern = ["must_see", "must_not_see", "overlook"].iter().any(|k| path.contains(k));
            *text = replace(text, |name| match values.get(name) {
                Some(value) if is_pattern => Some(regex::escape(value)),
                Some(value) => Some(value.clone()),
                None => {
                    unfilled.push(Unfilled { path: path.to_owned(), name: name.to_owned() });
                    None
                }
            });
        }
        Value::Array(items) => {
            for (i, item) in items.iter_mut().enumerate() {
                fill(item, values, &format!("{path}.{i}"), unfilled);
            }
        }
        Value::Object(map) => {
            for (key, item) in map.iter_mut() {
                fill(item, values, &if path.is_empty() { key.clone() } else { format!("{path}.{key}") }, unfilled);
            }
        }
        Value::Null | Value::Bool(_) | Value::Number(_) => {}
    }
}

/// The text with values put in; a placeholder without a value is left as it is.
pub fn text(text: &str, values: &BTreeMap<String, String>) -> String {
    replace(text, |name| values.get(name).cloned())
}

/// The names of the values that a text uses.
pub fn names(text: &str) -> Vec<String> {
    let mut names = Vec::new();
    replace(text, |name| {
        names.push(name.to_owned());
        None
    });
    names
}

/// The text with every placeholder replaced by a plain letter, to check what stands around them.
pub fn blank(text: &str) -> String {
    replace(text, |_| Some("x".to_owned()))
}

fn replace(text: &str, mut value_of: impl FnMut(&str) -> Option<String>) -> String {
    let mut out = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(at) = rest.find(['{', '}']) {
        out.push_str(&rest[..at]);
        let tail = &rest[at..];
        if tail.starts_with("{{") || tail.starts_with("}}") {
            out.push_str(&tail[..1]);
            rest = &tail[2..];
            continue;
        }
        let name = tail.strip_prefix('{').and_then(|t| t.split_once('}')).map(|(name, _)| name).filter(|n| is_name(n));
        match name {
            Some(name) => {
                match value_of(name) {
                    Some(value) => out.push_str(&value),
                    None => out.push_str(&tail[..name.len() + 2]),
                }
                rest = &tail[name.len() + 2..];
            }
            None => {
                out.push_str(&tail[..1]);
                rest = &tail[1..];
            }
        }
    }
    out.push_str(rest);
    out
}

/// Whether a value may have this name.
pub fn is_name(text: &str) -> bool {
    text.starts_with(|c: char| c.is_ascii_lowercase())
        && text.chars().all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '_' || c == '-')
}
