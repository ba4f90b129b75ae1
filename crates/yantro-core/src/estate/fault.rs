//! What is wrong with an estate file: where, why, and how to mend it.

use std::ops::Range;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

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

/// Gathers faults against one text, so that all are found in one pass.
#[derive(Debug)]
pub struct Faults<'t> {
    text: &'t str,
    found: Vec<Fault>,
}

impl<'t> Faults<'t> {
    /// None yet.
    pub fn new(text: &'t str) -> Self {
        Self { text, found: Vec::new() }
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
        let start = span.start.min(self.text.len());
        let before = self.text.get(..start).unwrap_or(self.text);
        let line = before.matches('\n').count() + 1;
        let column = before.rsplit('\n').next().map_or(0, |l| l.chars().count()) + 1;
        let fault = Fault { severity, kind: kind.to_owned(), message, mend, line, column, span, also };
        // Copies of a service are resolved one by one; a fault they share is told once.
        if !self.found.contains(&fault) {
            self.found.push(fault);
        }
    }

    /// Whether an error is among them.
    pub fn any_error(&self) -> bool {
        self.found.iter().any(|f| f.severity == Severity::Error)
    }

    /// All of them, in the order of the text.
    pub fn into_sorted(mut self) -> Vec<Fault> {
        self.found.sort_by(|a, b| (a.span.start, b.severity, &a.kind, &a.message).cmp(&(b.span.start, a.severity, &b.kind, &b.message)));
        self.found
    }
}
