//! What a look says: whether something holds.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// What a look at a rung came to (R14).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Verdict {
    /// It is so.
    Holds,
    /// It is not so yet, and may become so.
    NotYet,
    /// Something speaks against it that waiting will not mend.
    Against,
    /// The look itself could not be taken: neither for nor against.
    CouldNotLook,
}

/// A look's answer: the verdict, and what was seen in words.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Answer {
    /// What it came to.
    pub verdict: Verdict,
    /// What was looked at and answered: "port 7412 held by gate (pid 48121)".
    pub says: String,
}

impl Answer {
    /// It is so.
    pub fn holds(says: impl Into<String>) -> Self {
        Self { verdict: Verdict::Holds, says: says.into() }
    }
    /// Not yet.
    pub fn not_yet(says: impl Into<String>) -> Self {
        Self { verdict: Verdict::NotYet, says: says.into() }
    }
    /// Against it.
    pub fn against(says: impl Into<String>) -> Self {
        Self { verdict: Verdict::Against, says: says.into() }
    }
    /// Could not look.
    pub fn could_not(says: impl Into<String>) -> Self {
        Self { verdict: Verdict::CouldNotLook, says: says.into() }
    }
}
