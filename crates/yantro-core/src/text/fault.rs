//! What is wrong with an estate file: where, why, and how to mend it.

use std::{
    collections::{BTreeMap, btree_map::Entry},
    ops::Range,
    sync::LazyLock,
};

use regex::Regex;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::words::name::did_you_mean;

/// How much a fault matters.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Severity {
    /// The estate can be loaded, and somebody should look at this.
    Warning,
    /// The estate cannot be loaded.
    Error,
}

/// One fault of an estate file.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Fault {
    /// How much it matters.
    pub severity: Severity,
    /// A stable word for this kind of fault, such as `unknown-key`.
    pub kind: String,
    /// What is wrong, with the value that is.
    pub message: String,
    /// How to mend it.
    pub mend: String,
    /// The line it is on, from 1.
    pub line: usize,
    /// The column it starts at, from 1, counted in characters.
    pub column: usize,
    /// The piece of text at fault, in bytes from the start of the file.
    pub span: Range<usize>,
    /// Other places that belong to it, each with what it is.
    pub also: Vec<(Range<usize>, String)>,
}

/// Why a file is no text, with the place from which on it is none; `None` where it is UTF-8.
pub fn not_text(bytes: &[u8]) -> Option<Fault> {
    let good = std::str::from_utf8(bytes).err()?.valid_up_to();
    let before = String::from_utf8_lossy(&bytes[..good]);
    let line = before.matches('\n').count() + 1;
    let column = before.rsplit('\n').next().map_or(0, |l| l.chars().count()) + 1;
    let message = format!("this is no UTF-8 text: byte {} is 0x{:02x}", good + 1, bytes[good]);
    let mend = "save the file as UTF-8".to_owned();
    Some(Fault { severity: Severity::Error, kind: "not-utf8".to_owned(), message, mend, line, column, span: good..good, also: Vec::new() })
}

/// Gathers faults against one text, so that all are found in one pass.
#[derive(Debug)]
pub struct Faults<'t> {
    text: &'t str,
    /// Where its lines begin.
    lines: Vec<usize>,
    found: Vec<Fault>,
    /// Where each fault stands among those found, by what makes it one: copies of a service share theirs.
    known: BTreeMap<OneFault, usize>,
    /// How many more there are of a fault that was found.
    more: BTreeMap<usize, usize>,
    /// What is near to what was typed.
    nears: BTreeMap<String, String>,
    /// Pieces that could not be read at all. What they would have named is not missing.
    unread: bool,
}

/// What makes a fault one: its kind, its place, and what it says but for whose copy it says it of.
type OneFault = (String, usize, usize, String);

/// An address in what is said.
static ADDRESS: LazyLock<Regex> = LazyLock::new(|| Regex::new(r"\b[a-z0-9-]+/[a-z0-9-]+(\.[a-z0-9-]+)?\b").expect("it is a pattern"));

/// Of so many missing names what is near is looked for.
const NEAR_AT_MOST: usize = 300;

/// The kind of what cannot be read at all.
pub const NOT_TOML: &str = "not-toml";

/// What is said of names that are not there, or of whatever would use them.
const OF_THE_REST: [&str; 16] = [
    "unknown-name",
    "missing-key",
    "unknown-value",
    "no-such-copy",
    "several-copies",
    "too-few-copies",
    "empty-group",
    "nowhere",
    "selection",
    "no-proof",
    "weak-proof",
    "no-command",
    "no-log",
    "no-steps",
    "no-power",
    "no-stop-patience",
];

impl<'t> Faults<'t> {
    /// None yet.
    pub fn new(text: &'t str) -> Self {
        let lines = std::iter::once(0).chain(text.match_indices('\n').map(|(at, _)| at + 1)).collect();
        Self { text, lines, found: Vec::new(), known: BTreeMap::new(), more: BTreeMap::new(), nears: BTreeMap::new(), unread: false }
    }

    /// What was typed, and is not known: what is near it among what is. To find that takes going through all there is, which
    /// is done for the first few hundred.
    pub fn near(&mut self, typed: &str, known: impl FnOnce() -> Vec<String>) -> String {
        if let Some(near) = self.nears.get(typed) {
            return near.clone();
        }
        if self.nears.len() >= NEAR_AT_MOST {
            return "describe it, or take it out; with so many missing, what is near is told only of the first".to_owned();
        }
        let known = known();
        let near = did_you_mean(typed, known.iter().map(String::as_str));
        self.nears.insert(typed.to_owned(), near.clone());
        near
    }

    /// A piece of the text cannot be read: from now on nothing is said of what that piece may hold.
    pub fn left_unread(&mut self) {
        self.unread = true;
    }

    /// Adds an error.
    pub fn error(&mut self, kind: &str, span: Range<usize>, message: impl Into<String>, mend: impl Into<String>) {
        self.push(Severity::Error, kind, span, message.into(), mend.into(), Vec::new());
    }

    /// Adds an error that has more than one place.
    pub fn error_also(
        &mut self,
        kind: &str,
        span: Range<usize>,
        message: impl Into<String>,
        mend: impl Into<String>,
        also: Vec<(Range<usize>, String)>,
    ) {
        self.push(Severity::Error, kind, span, message.into(), mend.into(), also);
    }

    /// Adds a warning.
    pub fn warn(&mut self, kind: &str, span: Range<usize>, message: impl Into<String>, mend: impl Into<String>) {
        self.push(Severity::Warning, kind, span, message.into(), mend.into(), Vec::new());
    }

    fn push(
        &mut self,
        severity: Severity,
        kind: &str,
        span: Range<usize>,
        message: String,
        mend: String,
        also: Vec<(Range<usize>, String)>,
    ) {
        if self.unread && OF_THE_REST.contains(&kind) {
            return;
        }
        let start = span.start.min(self.text.len());
        let line = self.lines.partition_point(|begin| *begin <= start);
        let column = self.text.get(self.lines[line - 1]..start).map_or(0, |before| before.chars().count()) + 1;
        // Copies of a service are resolved one by one; a fault they share is told once.
        let one = (kind.to_owned(), span.start, span.end, ADDRESS.replace_all(&message, "").into_owned());
        match self.known.entry(one) {
            Entry::Vacant(place) => {
                place.insert(self.found.len());
                self.found.push(Fault { severity, kind: kind.to_owned(), message, mend, line, column, span, also });
            }
            Entry::Occupied(place) if self.found[*place.get()].message != message => *self.more.entry(*place.get()).or_default() += 1,
            Entry::Occupied(_) => {}
        }
    }

    /// Whether an error is among them.
    pub fn any_error(&self) -> bool {
        self.found.iter().any(|f| f.severity == Severity::Error)
    }

    /// All of them: first what keeps a piece from being read at all, then the rest, in the order of the text.
    pub fn into_sorted(mut self) -> Vec<Fault> {
        for (at, more) in self.more {
            self.found[at].message.push_str(&format!(" (and so it is of {more} more)"));
        }
        let first = |f: &Fault| f.kind != NOT_TOML;
        self.found.sort_by(|a, b| {
            (first(a), a.span.start, b.severity, &a.kind, &a.message).cmp(&(first(b), b.span.start, a.severity, &b.kind, &b.message))
        });
        self.found
    }
}
