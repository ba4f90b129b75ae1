//! What a service is seen to be, and when it was seen so.

use std::{collections::BTreeMap, fmt};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::{
    proof::unit::UnitWord,
    words::{name::Address, time::Timestamp},
};

/// A seen state. "Out of reach" and "unknown" count neither as up nor as down.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum SeenState {
    /// Never looked at.
    #[default]
    Unknown,
    /// Not running.
    Down,
    /// On its way up its ladder.
    Rising,
    /// Climbed its whole ladder and steady.
    Proven,
    /// Running, but a rung or its log is against it.
    Ailing,
    /// On its way down.
    Sinking,
    /// Its host does not answer.
    OutOfReach,
}

impl SeenState {
    /// Whether something of it runs: what a stop must take as up (R10, R16).
    pub fn is_up(self) -> bool {
        match self {
            SeenState::Proven | SeenState::Ailing | SeenState::Rising | SeenState::Sinking => true,
            SeenState::Down | SeenState::Unknown | SeenState::OutOfReach => false,
        }
    }
    /// The word people read.
    pub fn word(self) -> &'static str {
        match self {
            SeenState::Unknown => "unknown",
            SeenState::Down => "down",
            SeenState::Rising => "rising",
            SeenState::Proven => "proven",
            SeenState::Ailing => "ailing",
            SeenState::Sinking => "sinking",
            SeenState::OutOfReach => "out of reach",
        }
    }
}

impl fmt::Display for SeenState {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.word())
    }
}

/// What a service is seen to be.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Seen {
    /// The state.
    pub state: SeenState,
    /// When it was last looked at.
    pub as_of: Timestamp,
    /// Since when it is in this state.
    pub since: Timestamp,
    /// How many rungs it stands on.
    pub rungs_climbed: u32,
    /// How many its ladder has.
    pub rungs: u32,
    /// The rung that is against it, counted from 0.
    pub rung_against: Option<u32>,
    /// What shows it, in words.
    pub says: String,
    /// Its main process, where one is known.
    pub pid: Option<u32>,
    /// What the host's service manager says of it, where that runs it: the first witness, beside its own ladder.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub manager: Option<UnitWord>,
    /// What it was when its host was last within reach, where it is not now (R19).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub last_known: Option<LastKnown>,
    /// A forbidden line in its log, which keeps it ailing until its next start or until somebody
    /// acknowledges it with a reason (R17).
    #[serde(default)]
    pub log_against: Option<LogAgainst>,
}

/// The last state of a service before its host went out of reach.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct LastKnown {
    /// The state.
    pub state: SeenState,
    /// When it was last seen so.
    pub at: Timestamp,
}

/// A forbidden line that a run saw in a service's log.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct LogAgainst {
    /// The line, secrets masked.
    pub line: String,
    /// The file it is in.
    pub source: String,
    /// Nothing forbidden was seen: these are lines that must appear since its start, and did not.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub missing: bool,
    /// The run that saw it.
    pub run: u64,
    /// When.
    pub at: Timestamp,
}

/// How everything stands, by address. A service that is not in it is unknown.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Facts(pub BTreeMap<Address, SeenState>);

impl Facts {
    /// The state of one service.
    pub fn of(&self, address: &Address) -> SeenState {
        self.0.get(address).copied().unwrap_or_default()
    }
}

impl FromIterator<(Address, SeenState)> for Facts {
    fn from_iter<I: IntoIterator<Item = (Address, SeenState)>>(iter: I) -> Self {
        Self(iter.into_iter().collect())
    }
}
