//! Steps that are written as a list in one value, `steps = [ { … }, { … } ]`: arranged there, each with the comments above it
//! and the one behind it.

use toml_edit::{Array, InlineTable, Value};

/// A step of such a list with what is written around it.
pub(super) struct Entry {
    /// The lines above it, and its indent.
    lead: String,
    /// The step.
    pub step: InlineTable,
    /// What follows its comma on the same line.
    tail: String,
}

/// A list taken apart; put together again it is what it was, to the byte.
pub(super) struct Steps {
    /// What follows the opening bracket on its line.
    head: String,
    pub entries: Vec<Entry>,
    /// What stands between the last line of the last step and the closing bracket.
    end: String,
    /// Whether the last has a comma, too.
    comma: bool,
    /// The blanks of a list that is all in one line; there is no more around its steps then.
    blanks: Option<Blanks>,
}

/// Blanks of a list in one line.
struct Blanks {
    /// Before the first.
    first: String,
    /// Before each further one.
    further: String,
    /// Before each comma.
    comma: String,
    /// After the last.
    last: String,
    /// Before the closing bracket, behind a comma.
    end: String,
}

impl Blanks {
    fn of(array: &Array) -> Option<Self> {
        let around = |at: usize| array.get(at).map(|v| (said(v.decor().prefix()), said(v.decor().suffix())));
        let all: Vec<(String, String)> = (0..array.len()).filter_map(around).collect();
        let end = said(Some(array.trailing()));
        let (first, last) = (all.first()?, all.last()?);
        let is_blank = |text: &String| text.chars().all(|c| c == ' ' || c == '\t');
        let in_one_line = is_blank(&end) && all.iter().all(|(before, after)| is_blank(before) && is_blank(after));
        let (further, comma) = all.get(1).map_or((" ", ""), |(further, _)| (further.as_str(), first.1.as_str()));
        let (first, last) = (first.0.clone(), last.1.clone());
        in_one_line.then(|| Self { first, further: further.to_owned(), comma: comma.to_owned(), last, end })
    }

    fn array(self, steps: Vec<Entry>, comma: bool) -> Array {
        let (mut array, count) = (Array::new(), steps.len());
        for (i, Entry { mut step, .. }) in steps.into_iter().enumerate() {
            step.decor_mut().set_prefix(if i == 0 { &self.first } else { &self.further });
            step.decor_mut().set_suffix(if i + 1 == count { &self.last } else { &self.comma });
            array.push_formatted(Value::InlineTable(step));
        }
        array.set_trailing(self.end);
        array.set_trailing_comma(comma && count > 0);
        array
    }
}

/// What is on the same line, and what is from the next on.
fn first_line(text: &str) -> (String, String) {
    let (line, rest) = text.split_at(text.find('\n').unwrap_or(if text.trim().is_empty() { 0 } else { text.len() }));
    (line.to_owned(), rest.to_owned())
}

fn said(raw: Option<&toml_edit::RawString>) -> String {
    raw.and_then(|r| r.as_str()).unwrap_or_default().to_owned()
}

impl Steps {
    /// Takes a list apart; `None` where it is one of anything but steps.
    pub fn of(array: &Array) -> Option<Self> {
        let mut steps =
            Self { head: String::new(), entries: Vec::new(), end: String::new(), comma: array.trailing_comma(), blanks: Blanks::of(array) };
        for value in array {
            let mut step = value.as_inline_table()?.clone();
            let (line, lead) = first_line(&said(step.decor().prefix()));
            match steps.entries.last_mut() {
                Some(before) => before.tail.push_str(&line),
                None => steps.head = line,
            }
            // Without a comma behind it, what follows a step on its line is its own.
            let tail = said(step.decor().suffix());
            step.decor_mut().clear();
            steps.entries.push(Entry { lead, step, tail });
        }
        let (line, end) = first_line(&said(Some(array.trailing())));
        match steps.entries.last_mut() {
            Some(last) => {
                let (own, below) = first_line(&last.tail);
                last.tail = format!("{own}{line}");
                steps.end = format!("{below}{end}");
            }
            None => (steps.head, steps.end) = (line, end),
        }
        Some(steps)
    }

    /// A step as the others here are written, to become the one at a place.
    pub fn entry(&self, step: InlineTable) -> Entry {
        let beside = self.entries.last().map(|e| e.lead.as_str());
        let lead = match beside.map(|lead| lead.rsplit_once('\n')) {
            Some(Some((_, indent))) => format!("\n{indent}"),
            Some(None) => String::new(),
            None if self.end.contains('\n') || self.head.contains('#') => "\n  ".to_owned(),
            None => String::new(),
        };
        Entry { lead, step, tail: String::new() }
    }

    /// The list, put together.
    pub fn array(self) -> Array {
        if let Some(blanks) = self.blanks {
            return blanks.array(self.entries, self.comma);
        }
        let mut array = Array::new();
        let mut before = self.head;
        let count = self.entries.len();
        for (i, Entry { lead, mut step, tail }) in self.entries.into_iter().enumerate() {
            // A comment would take in whatever follows it on its line.
            let lead = if before.contains('#') && !lead.starts_with('\n') { format!("\n{lead}") } else { lead };
            step.decor_mut().set_prefix(format!("{before}{lead}"));
            step.decor_mut().set_suffix("");
            before = tail;
            if i + 1 == count && !self.comma {
                step.decor_mut().set_suffix(std::mem::take(&mut before));
            }
            array.push_formatted(Value::InlineTable(step));
        }
        let end = if before.contains('#') && !self.end.starts_with('\n') { format!("\n{}", self.end) } else { self.end };
        array.set_trailing(format!("{before}{end}"));
        array.set_trailing_comma(self.comma && count > 0);
        array
    }
}

/// Evens out the blanks of a table in one line after keys were added or taken out; comments cannot stand in one.
pub(super) fn even(table: &mut InlineTable) {
    let padded = table.iter().next().is_none_or(|_| {
        table.get_values().first().is_some_and(|(keys, _)| {
            keys.first().is_none_or(|k| k.leaf_decor().prefix().and_then(|p| p.as_str()).is_none_or(|p| !p.is_empty()))
        })
    });
    let count = table.len();
    for (i, (mut key, value)) in table.iter_mut().enumerate() {
        let blank = if i == 0 && !padded { "" } else { " " };
        key.leaf_decor_mut().set_prefix(blank);
        value.decor_mut().set_suffix(if i + 1 == count && padded { " " } else { "" });
    }
}
