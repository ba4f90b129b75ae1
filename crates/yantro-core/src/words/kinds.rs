//! The small closed lists of what can be wished, and what a step can do.

use std::fmt;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// What is wanted of a selection.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Wish {
    /// Up, with what it needs.
    Start,
    /// Down, with what relies on it.
    Stop,
    /// Down and up again, with what relies on it.
    Restart,
    /// Configuration re-read, without a restart.
    Reload,
    /// Of hosts: down and up again by their power, where a restart would have them reboot by themselves.
    PowerCycle,
    /// Up what is expected to be up, down what is expected to be down.
    BringToExpected,
}

impl Wish {
    /// The word people read.
    pub fn word(self) -> &'static str {
        match self {
            Wish::Start => "start",
            Wish::Stop => "stop",
            Wish::Restart => "restart",
            Wish::Reload => "reload",
            Wish::PowerCycle => "power cycle",
            Wish::BringToExpected => "bring to expected",
        }
    }
}

impl fmt::Display for Wish {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.word())
    }
}

/// What a step does.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum StepKind {
    /// Takes it down.
    Stop,
    /// Brings it up.
    Start,
    /// Has it re-read its configuration.
    Reload,
    /// Never acts: waits for it to be proven by others.
    Await,
    /// A further act of a service.
    Act,
    /// A command or a script.
    Work,
    /// Waits for a length of time.
    Pause,
    /// Waits until rungs hold.
    Until,
    /// Waits until a time of day.
    UntilTime,
    /// Asks a person.
    Question,
    /// Proves that something holds now.
    Look,
    /// Tells people something.
    Announce,
    /// Something that only a person can put back.
    ByHand,
}

impl StepKind {
    /// The word people read.
    pub fn word(self) -> &'static str {
        match self {
            StepKind::Stop => "stop",
            StepKind::Start => "start",
            StepKind::Reload => "reload",
            StepKind::Await => "wait for",
            StepKind::Act => "act",
            StepKind::Work => "work",
            StepKind::Pause => "pause",
            StepKind::Until | StepKind::UntilTime => "wait",
            StepKind::Question => "question",
            StepKind::Look => "look",
            StepKind::Announce => "announce",
            StepKind::ByHand => "by hand",
        }
    }
}
