//! What two texts differ in, line by line.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use similar::{ChangeTag, TextDiff};

/// In which of two texts a line stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Side {
    /// In both.
    Both,
    /// In the first only: it is gone.
    Gone,
    /// In the second only: it is new.
    New,
}

/// One line of a difference.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct DiffLine {
    /// Where it stands.
    pub side: Side,
    /// Its number in the first text, from 1.
    pub old: Option<u32>,
    /// Its number in the second.
    pub new: Option<u32>,
    /// The line.
    pub text: String,
}

/// What two texts differ in.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Difference {
    /// How many lines are gone.
    pub gone: u32,
    /// How many are new.
    pub new: u32,
    /// The places that differ, each with lines around it.
    pub places: Vec<Vec<DiffLine>>,
}

impl Difference {
    /// Whether the texts are the same.
    pub fn is_none(&self) -> bool {
        self.gone == 0 && self.new == 0
    }
}

/// What two texts differ in, with so many lines around each place.
pub fn difference(old: &str, new: &str, around: usize) -> Difference {
    let diff = TextDiff::from_lines(old, new);
    let mut out = Difference::default();
    for group in diff.grouped_ops(around) {
        let mut place = Vec::new();
        for change in group.iter().flat_map(|op| diff.iter_changes(op)) {
            let side = match change.tag() {
                ChangeTag::Equal => Side::Both,
                ChangeTag::Delete => Side::Gone,
                ChangeTag::Insert => Side::New,
            };
            out.gone += u32::from(side == Side::Gone);
            out.new += u32::from(side == Side::New);
            let number = |at: Option<usize>| at.map(|n| n as u32 + 1);
            place.push(DiffLine {
                side,
                old: number(change.old_index()),
                new: number(change.new_index()),
                text: change.value().trim_end_matches(['\n', '\r']).to_owned(),
            });
        }
        out.places.push(place);
    }
    out
}
