//! What a wish is asked with.

use std::collections::{BTreeMap, BTreeSet};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::{
    model::procedure::FoundBy,
    plan::forecast::Prefer,
    words::{
        kinds::Wish,
        name::{Address, GroupName},
    },
};

/// What is asked for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Request {
    /// The wish.
    pub wish: Wish,
    /// Of what.
    pub chosen: BTreeSet<Address>,
    /// Only these, without what relies on them or what they need.
    pub alone: bool,
    /// Services named one by one as left standing, or started, on what is not proven (R3).
    pub left_standing: BTreeSet<Address>,
    /// Groups whose `keep_up` may be broken (R20).
    pub below_keep_up: BTreeSet<GroupName>,
}

impl Request {
    /// A wish of a selection, with all that belongs to it.
    pub fn new(wish: Wish, chosen: BTreeSet<Address>) -> Self {
        Self { wish, chosen, alone: false, left_standing: BTreeSet::new(), below_keep_up: BTreeSet::new() }
    }
}

/// What was said beside what a plan is for, and stands nowhere in its sequence: worked out anew it is asked with the same.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(default)]
pub struct AskedWith {
    /// Nothing else is to be moved along (R3).
    pub alone: bool,
    /// Which of the allowed orders is taken.
    pub prefer: Prefer,
    /// Units that a host's manager moves along, named one by one as `host:unit` (R38).
    #[serde(skip_serializing_if = "BTreeSet::is_empty")]
    pub along: BTreeSet<String>,
    /// What earlier runs had found up, by the words that asked for it (R37).
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub found_by: FoundBy,
}
