//! A run in a few words, as it stands in lists and in the store's table of runs.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::{run::id::RunId, words::time::Timestamp};

/// A run in a list.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct RunSummary {
    /// Its number.
    pub id: RunId,
    /// How it stands, as a word.
    pub state: String,
    /// What it does, in a few words.
    pub title: String,
    /// Who began it.
    pub who: String,
    /// When.
    pub began_at: Timestamp,
    /// When it ended.
    pub ended_at: Option<Timestamp>,
    /// How many steps it has.
    pub steps: u32,
    /// How many have ended.
    pub steps_ended: u32,
}
