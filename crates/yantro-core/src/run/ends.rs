//! How steps and runs end, and what stands otherwise by then.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::{proof::SeenState, words::name::Address};

/// How a step ended.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(tag = "end", rename_all = "kebab-case")]
pub enum StepEnd {
    /// Carried out and proven.
    Done,
    /// It was so already.
    Unneeded,
    /// Left out by decision or rule, or because what it waited for was.
    PassedOver {
        /// By whom, or by which rule.
        by: String,
        /// Why.
        why: String,
    },
    /// Taken as good on an operator's word.
    Vouched {
        /// By whom.
        by: String,
        /// Why.
        why: String,
    },
    /// The run ended before it.
    NotBegun,
}

impl StepEnd {
    /// Whether what waits on the step may begin.
    pub fn is_good(&self) -> bool {
        match self {
            StepEnd::Done | StepEnd::Unneeded | StepEnd::Vouched { .. } => true,
            StepEnd::PassedOver { .. } | StepEnd::NotBegun => false,
        }
    }
    /// The word people read.
    pub fn word(&self) -> &'static str {
        match self {
            StepEnd::Done => "done",
            StepEnd::Unneeded => "unneeded",
            StepEnd::PassedOver { .. } => "passed over",
            StepEnd::Vouched { .. } => "vouched",
            StepEnd::NotBegun => "not begun",
        }
    }
}

/// How a run ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum RunEnd {
    /// Every step as wished for.
    Finished,
    /// Something was passed over or vouched for.
    FinishedWithExceptions,
    /// Everything stands as found again.
    PutBack,
    /// Not everything stands as found again; what does not is listed.
    PutBackInPart,
    /// An operator ended it.
    GivenUp,
    /// It never began.
    Refused,
}

impl RunEnd {
    /// The word people read.
    pub fn word(self) -> &'static str {
        match self {
            RunEnd::Finished => "finished",
            RunEnd::FinishedWithExceptions => "finished with exceptions",
            RunEnd::PutBack => "put back",
            RunEnd::PutBackInPart => "put back in part",
            RunEnd::GivenUp => "given up",
            RunEnd::Refused => "refused",
        }
    }
}

/// Where a service stands differently from how it was found.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Difference {
    /// The service.
    pub address: Address,
    /// As found.
    pub found: SeenState,
    /// As it stands.
    pub now: SeenState,
}

/// Where a service stands otherwise than the run set out to leave it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Otherwise {
    /// The service.
    pub address: Address,
    /// How it was found.
    pub found: SeenState,
    /// How it was to be left.
    pub meant: SeenState,
    /// As it stands.
    pub now: SeenState,
}

impl Otherwise {
    /// In a sentence: the gravest first, that something was up and is not.
    pub fn says(&self) -> String {
        let Self { address, found, meant, now } = self;
        if *found == SeenState::Proven && !now.is_up() {
            return format!("{address} was found proven and is left {now}; it was to be {meant}");
        }
        format!("{address} is {now}, and was to be {meant}")
    }
}
