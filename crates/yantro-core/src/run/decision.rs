//! What an operator may do with a run, and what each thing leads to (R30).

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::{
    overrides::Override,
    plan::StepId,
    words::name::{Address, ProcedureName},
};

/// What is decided.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum DecisionKind {
    /// Hold the run: begin nothing new.
    Hold,
    /// Let a held run go on, where no failed step stands in the way.
    Resume,
    /// Try a failed step again, with a changed override if wished.
    TryAgain {
        /// The step.
        step: StepId,
        /// What to put over the estate's settings from now on.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        change: Option<Override>,
    },
    /// Leave a failed step out, and every step that waits on it.
    PassOver {
        /// The step.
        step: StepId,
    },
    /// Take a failed step as good and go on.
    Vouch {
        /// The step.
        step: StepId,
    },
    /// Let go of a service of a held run, so that others may act on it: its steps are passed over.
    Release {
        /// The service.
        address: Address,
    },
    /// End a service by force, where that was asked.
    Force {
        /// The step.
        step: StepId,
    },
    /// Answer what a step asks.
    Answer {
        /// The step.
        step: StepId,
        /// `yes`, `no`, or the value asked for.
        value: String,
    },
    /// Put everything back as found.
    PutBack,
    /// Have another procedure take over.
    Divert {
        /// Which.
        procedure: ProcedureName,
    },
    /// End the run: await what is in flight, look, and list what differs.
    GiveUp,
}

impl DecisionKind {
    /// The word people read.
    pub fn word(&self) -> &'static str {
        match self {
            DecisionKind::Hold => "hold",
            DecisionKind::Resume => "resume",
            DecisionKind::TryAgain { .. } => "try again",
            DecisionKind::PassOver { .. } => "pass over",
            DecisionKind::Vouch { .. } => "vouch",
            DecisionKind::Release { .. } => "release",
            DecisionKind::Force { .. } => "force",
            DecisionKind::Answer { .. } => "answer",
            DecisionKind::PutBack => "put back",
            DecisionKind::Divert { .. } => "divert",
            DecisionKind::GiveUp => "give up",
        }
    }
    /// The step it is about.
    pub fn step(&self) -> Option<StepId> {
        match self {
            DecisionKind::TryAgain { step, .. }
            | DecisionKind::PassOver { step }
            | DecisionKind::Vouch { step }
            | DecisionKind::Answer { step, .. }
            | DecisionKind::Force { step } => Some(*step),
            DecisionKind::Hold
            | DecisionKind::Resume
            | DecisionKind::Release { .. }
            | DecisionKind::PutBack
            | DecisionKind::Divert { .. }
            | DecisionKind::GiveUp => None,
        }
    }
    /// Whether it must come with a reason.
    pub fn needs_reason(&self) -> bool {
        match self {
            DecisionKind::PassOver { .. } | DecisionKind::Vouch { .. } | DecisionKind::Release { .. } | DecisionKind::GiveUp => true,
            DecisionKind::Hold
            | DecisionKind::Resume
            | DecisionKind::TryAgain { .. }
            | DecisionKind::Answer { .. }
            | DecisionKind::PutBack
            | DecisionKind::Divert { .. }
            | DecisionKind::Force { .. } => false,
        }
    }
}

/// A decision, by whom, and which hold it answers.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Decision {
    /// What.
    #[serde(flatten)]
    pub kind: DecisionKind,
    /// The hold it answers; needed for everything but `hold` and `give-up`.
    #[serde(default)]
    pub hold: Option<u32>,
    /// By whom.
    pub who: String,
    /// Why.
    #[serde(default)]
    pub why: Option<String>,
}

/// Why an input does not fit the state a run is in.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum Refusal {
    /// The run ended.
    #[error("run {run} has ended: {word}")]
    Ended {
        /// The run.
        run: u64,
        /// How.
        word: &'static str,
    },
    /// The decision answers a hold that is over.
    #[error("that hold is over: {by}")]
    Stale {
        /// Who decided what.
        by: String,
    },
    /// The step does not await this decision.
    #[error("step {step} is {state}, and {decision} is for a step that awaits it")]
    NotAwaited {
        /// The step.
        step: StepId,
        /// How it stands.
        state: &'static str,
        /// What was decided.
        decision: &'static str,
    },
    /// Failed steps must be decided first.
    #[error("step {step} failed and must be decided first")]
    StepsFirst {
        /// One that awaits a decision.
        step: StepId,
    },
    /// The run is not held.
    #[error("run {run} is not held")]
    NotHeld {
        /// The run.
        run: u64,
    },
    /// A reason is needed.
    #[error("{decision} needs a reason")]
    NoReason {
        /// What was decided.
        decision: &'static str,
    },
    /// The run has nothing of this service to let go of.
    #[error("run {run} does not hold {address}")]
    NotHolding {
        /// The run.
        run: u64,
        /// The service.
        address: Address,
    },
    /// An act on the service is under way.
    #[error("step {step} is {state}: what is in flight is awaited before {address} can be released")]
    InFlight {
        /// The step.
        step: StepId,
        /// How it stands.
        state: &'static str,
        /// The service.
        address: Address,
    },
    /// Only certain people may answer.
    #[error("step {step} asks {}, and {who} is not among them", .of.join(" or "))]
    NotYours {
        /// The step.
        step: StepId,
        /// Who may answer.
        of: Vec<String>,
        /// Who tried.
        who: String,
    },
    /// The answer is none.
    #[error("\"{value}\" is no answer to step {step}")]
    NoAnswer {
        /// The step.
        step: StepId,
        /// What was answered.
        value: String,
    },
    /// It is on its way back, or diverted, already.
    #[error("run {run} is {word} already")]
    OffTheWay {
        /// The run.
        run: u64,
        /// What it does.
        word: &'static str,
    },
    /// Nothing was touched yet.
    #[error("run {run} has not begun to act")]
    Untouched {
        /// The run.
        run: u64,
    },
    /// Things changed before it began to act: what it would do now has to be confirmed.
    #[error("things changed since run {run} was confirmed: it is worked out anew, and has to be confirmed so")]
    Changed {
        /// The run.
        run: u64,
    },
    /// Nothing is begun at a standstill.
    #[error("everything is at a standstill, and {decision} would begin something")]
    Standstill {
        /// What was decided.
        decision: &'static str,
    },
    /// There is no such step.
    #[error("run {run} has no step {step}")]
    NoStep {
        /// The run.
        run: u64,
        /// The step.
        step: StepId,
    },
}

impl Refusal {
    /// What to do.
    pub fn hint(&self) -> &'static str {
        match self {
            Refusal::Ended { .. } => "plan a new run",
            Refusal::Stale { .. } | Refusal::NotAwaited { .. } => "look at the run as it stands now",
            Refusal::StepsFirst { .. } => "try it again, pass it over, vouch for it, or give up the run",
            Refusal::NotHeld { .. } => "hold it first, or let it go on",
            Refusal::NoReason { .. } => "say why, for those who read the record",
            Refusal::NotHolding { .. } | Refusal::NoStep { .. } => "see the run's steps",
            Refusal::NotYours { .. } => "have one of them answer",
            Refusal::NoAnswer { .. } => "answer yes or no; or the value asked for, on one line",
            Refusal::OffTheWay { .. } => "see how it stands; a step that fails there is decided by itself",
            Refusal::Untouched { .. } => "give it up instead: there is nothing to put back",
            Refusal::Changed { .. } => "see what it would do now and confirm that: yantro resume RUN; or give it up",
            Refusal::Standstill { .. } => "lift the standstill first: yantro standstill off",
            Refusal::InFlight { .. } => "wait until the step has ended or failed",
        }
    }
}
