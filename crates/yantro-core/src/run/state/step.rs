//! A step of a run as it stands, and the words for it.

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::{
    proof::{Answer, SeenState},
    run::{
        acts::{ActBegun, ActEnd, ActId, ActKind, LogEvidence},
        ends::StepEnd,
    },
    words::{PersonKind, name::Address, time::Timestamp},
};

/// How a run stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum RunState {
    /// Waits for locks.
    Queued,
    /// Goes on.
    Running,
    /// Begins nothing new and waits for the operator.
    Held,
    /// On its way back to how it was found.
    PuttingBack,
    /// Ended, every step as wished for.
    Finished,
    /// Ended, with something passed over or vouched for.
    FinishedWithExceptions,
    /// Ended, everything as found again.
    PutBack,
    /// Ended, and not everything as found again.
    PutBackInPart,
    /// Ended by an operator.
    GivenUp,
    /// Never began.
    Refused,
}

impl RunState {
    /// The word people read.
    pub fn word(self) -> &'static str {
        match self {
            RunState::Queued => "queued",
            RunState::Running => "running",
            RunState::Held => "held",
            RunState::PuttingBack => "putting back",
            RunState::PutBack => "put back",
            RunState::PutBackInPart => "put back in part",
            RunState::Finished => "finished",
            RunState::FinishedWithExceptions => "finished with exceptions",
            RunState::GivenUp => "given up",
            RunState::Refused => "refused",
        }
    }
}

/// Every state a run can be in.
pub fn state_words() -> [RunState; 10] {
    use RunState::*;
    [Queued, Running, Held, PuttingBack, Finished, FinishedWithExceptions, PutBack, PutBackInPart, GivenUp, Refused]
}

/// How a step stands. Data sits only in the state where it means something.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(tag = "state", rename_all = "kebab-case")]
#[schemars(transform = say_ended)]
pub enum StepState {
    /// For other steps, for room, or for a look.
    Waiting,
    /// A pause before or after the act, or the gap between attempts.
    Pausing {
        /// Until when.
        until: Timestamp,
        /// Whether the act is already behind it.
        after_act: bool,
    },
    /// A person is asked: whether force may be used, or what a procedure asks.
    Asking {
        /// What is asked, or why.
        reason: String,
        /// What a procedure wants to know; `None` where it is force that is asked for.
        #[serde(default)]
        answer: Option<PersonKind>,
        /// How long an answer is waited for.
        #[serde(default)]
        until: Option<Timestamp>,
    },
    /// An act is given and its outcome awaited.
    Acting {
        /// The act.
        act: ActId,
        /// What it does.
        kind: ActKind,
        /// Whether the recorder has begun it.
        begun: bool,
        /// When its patience ends.
        patience_ends: Timestamp,
    },
    /// The ladder is climbed.
    Proving {
        /// How many rungs are climbed.
        climbed: u32,
        /// Until when it must stay on the last.
        steady_until: Option<Timestamp>,
        /// When its patience ends.
        patience_ends: Timestamp,
        /// Whether what is proven is that an earlier attempt is gone.
        clearing: bool,
    },
    /// Failed, and awaits a decision.
    Failed {
        /// Why.
        reason: String,
    },
    /// What became of its act is unknown, and it awaits a decision.
    OutcomeUnknown {
        /// Why.
        reason: String,
    },
    /// Ended.
    Ended(StepEnd),
}

/// The schema of a tagged variant that holds another tagged enum lacks the outer tag: said here.
pub(in crate::run) fn say_ended(schema: &mut schemars::Schema) {
    let Some(variants) = schema.get_mut("oneOf").and_then(|v| v.as_array_mut()) else { return };
    for variant in variants {
        if variant.get("$ref").is_some() || variant.get("oneOf").is_some() {
            let inner = variant.take();
            *variant = serde_json::json!({
                "allOf": [inner, { "type": "object", "properties": { "state": { "const": "ended", "type": "string" } }, "required": ["state"] }]
            });
        }
    }
}

impl StepState {
    /// Whether it ended.
    pub fn has_ended(&self) -> bool {
        matches!(self, StepState::Ended(_))
    }
    /// Whether it awaits a decision.
    pub fn awaits_decision(&self) -> bool {
        matches!(self, StepState::Failed { .. } | StepState::OutcomeUnknown { .. } | StepState::Asking { .. })
    }
    /// The word people read.
    pub fn word(&self) -> &'static str {
        match self {
            StepState::Waiting => "waiting",
            StepState::Pausing { .. } => "pausing",
            StepState::Asking { .. } => "asking",
            StepState::Acting { .. } => "acting",
            StepState::Proving { .. } => "proving",
            StepState::Failed { .. } => "failed",
            StepState::OutcomeUnknown { .. } => "outcome unknown",
            StepState::Ended(end) => end.word(),
        }
    }
}

/// An act that was given, with all that is known of it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct ActNow {
    /// Its identity.
    pub act: ActId,
    /// What it does.
    pub kind: ActKind,
    /// The attempt it belongs to.
    pub attempt: u32,
    /// When it was intended.
    pub intended_at: Timestamp,
    /// How it began.
    pub begun: Option<ActBegun>,
    /// How it ended, and when.
    pub end: Option<(Timestamp, ActEnd)>,
    /// What was seen on its way up, rung by rung, with the time.
    pub rungs: Vec<RungSeen>,
    /// What its logs hold.
    pub logs: Vec<LogEvidence>,
    /// Why its attempt failed.
    pub failed: Option<(Timestamp, String)>,
}

/// A rung that was climbed or lost.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct RungSeen {
    /// The rung, from 0.
    pub rung: u32,
    /// When.
    pub at: Timestamp,
    /// Whether it was climbed; else it was lost.
    pub climbed: bool,
    /// What was looked at and answered.
    pub says: String,
}

/// A step as it stands.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct StepNow {
    /// How it stands.
    #[serde(flatten)]
    pub state: StepState,
    /// How many attempts were begun.
    pub attempts: u32,
    /// When it began.
    pub began_at: Option<Timestamp>,
    /// When it ended.
    pub ended_at: Option<Timestamp>,
    /// Its acts.
    pub acts: Vec<ActNow>,
    /// Rungs seen without an act of ours before them.
    pub rungs: Vec<RungSeen>,
    /// What had to be down or up while its work went on, and was seen otherwise since its last act began.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stood_otherwise: Option<(Address, SeenState)>,
    /// The number of the event that it changed with last. Not part of the fold.
    #[serde(skip)]
    pub(in crate::run) changed: u64,
    /// Whether what waits on it was released: a step that is opened again releases nothing twice.
    #[serde(skip)]
    pub(in crate::run) released: bool,
    /// How many waits are still open.
    #[serde(skip)]
    pub(in crate::run) open_waits: u32,
    /// Attempts counted against the limit: a decision to try again starts anew.
    #[serde(skip)]
    pub(in crate::run) tries: u32,
    /// Whether nobody knows what became of its last act: only a ladder can tell (R21).
    #[serde(skip)]
    pub(in crate::run) outcome_unknown: bool,
    /// Whether a fresh look is under way. Not part of the fold: after a restart it is taken again.
    #[serde(skip)]
    pub(in crate::run) looking: bool,
    /// When to look again before acting.
    #[serde(skip)]
    pub(in crate::run) look_again_at: Option<Timestamp>,
    /// The look that was taken ahead, while the last that it waits for only had to stay steady. Not part of the fold.
    #[serde(skip)]
    pub(in crate::run) ahead: Option<LookAhead>,
    /// When to look ahead for whoever waits on it. Not part of the fold.
    #[serde(skip)]
    pub(in crate::run) look_ahead_at: Option<Timestamp>,
    /// Since when it is looked at again and again before its act. Not part of the fold.
    #[serde(skip)]
    pub(in crate::run) look_since: Option<Timestamp>,
    /// The last answer on the rung it stands before. Not part of the fold.
    #[serde(skip)]
    pub(in crate::run) last_answer: Option<(u32, Answer)>,
}

/// A look before an act, asked for before the act could be given.
#[derive(Debug, Clone, PartialEq)]
pub(in crate::run) struct LookAhead {
    /// When it was asked for.
    pub asked_at: Timestamp,
    /// What it saw, once that is known.
    pub seen: Option<BTreeMap<Address, SeenState>>,
}

impl StepNow {
    /// The last answer on the rung it stands before, where there was one since the server started.
    pub fn last_answer(&self) -> Option<&(u32, Answer)> {
        self.last_answer.as_ref()
    }
}
