//! Why a run holds, and what the newest edition or a freeze keeps it from.

use std::{fmt, time::Duration};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::{
    plan::StepId,
    words::{ImpactLevel, name::Address},
};

/// What the newest edition restricts of a service, over what the run's own edition says (R25).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(tag = "restricts", rename_all = "kebab-case")]
pub enum Restriction {
    /// It is not acted on at all.
    Acts {
        /// Why, in a few words.
        why: String,
    },
    /// It is not forced.
    Force,
}

impl Restriction {
    /// In a few words, to stand after its address.
    pub fn says(&self) -> String {
        match self {
            Restriction::Acts { why } => why.clone(),
            Restriction::Force => "may never be forced now".to_owned(),
        }
    }
}

/// A change freeze that is on.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Frozen {
    /// In a sentence.
    pub says: String,
    /// From which impact on it stops stops.
    pub impact: ImpactLevel,
}

/// Why a run is held. It goes on once no cause is left.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(tag = "cause", rename_all = "kebab-case")]
pub enum HoldCause {
    /// A step failed and awaits a decision.
    Step {
        /// The step.
        step: StepId,
    },
    /// An operator held it.
    Operator {
        /// Who.
        who: String,
    },
    /// The one switch that holds everything is on (R36).
    Standstill,
    /// The server was away longer than five minutes (R34).
    Away,
    /// The first look found acts that nobody confirmed (R8). It goes on only by what is worked out anew and confirmed so.
    Changed {
        /// What is new, in sentences.
        acts: Vec<String>,
    },
    /// Something it is answerable for left `proven`, and has no step to fail (R18).
    Lost {
        /// The service.
        address: Address,
    },
    /// The newest edition restricts what it was about to do (R25).
    Restricted {
        /// The service.
        address: Address,
        /// How.
        why: String,
    },
    /// Preflight looks, taken again, do not hold any longer (R8).
    Preflight {
        /// Which, in sentences.
        says: Vec<String>,
    },
    /// Putting back would no longer fit the window.
    Window {
        /// What people call the window.
        title: String,
    },
    /// The procedure that should take over cannot (R32).
    CannotDivert {
        /// Why.
        why: String,
    },
    /// Events could not be stored (R27).
    Storage {
        /// What the system said.
        why: String,
    },
}

impl fmt::Display for HoldCause {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            HoldCause::Step { step } => write!(f, "step {step} failed"),
            HoldCause::Operator { who } => write!(f, "held by {who}"),
            HoldCause::Standstill => f.write_str("everything is at a standstill"),
            HoldCause::Away => f.write_str("the server was away for more than five minutes"),
            HoldCause::Changed { acts } => write!(f, "things changed since it was confirmed: {}", acts.join("; ")),
            HoldCause::Lost { address } => write!(f, "{address} is no longer proven"),
            HoldCause::Restricted { address, why } => write!(f, "{address}: {why}"),
            HoldCause::Preflight { says } => write!(f, "what held before the first act holds no longer: {}", says.join("; ")),
            HoldCause::Window { title } => write!(f, "this is the last moment to put back within the window {title}"),
            HoldCause::CannotDivert { why } => write!(f, "what should take over cannot: {why}"),
            HoldCause::Storage { why } => write!(f, "events could not be stored: {why}"),
        }
    }
}

/// The five minutes of R34.
pub(super) const LONG_AWAY: Duration = Duration::from_secs(300);
