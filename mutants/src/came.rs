//! What became of a mutant.

use serde::{Deserialize, Serialize};

/// What the tests make of a mutant.
#[derive(Clone, Debug, Deserialize, Serialize, PartialEq, Eq)]
#[serde(rename_all = "kebab-case")]
pub enum Came {
    /// Some test failed.
    Noticed {
        /// Which, and what it said.
        by: String,
    },
    /// They went on without end.
    Hung,
    /// None failed.
    Survived,
    /// None even comes by.
    Untouched,
    /// It cannot be built.
    NotBuilt,
}
