//! What the machine orders, once what it decided is stored.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::{
    plan::{Preflight, StepId},
    run::{
        Event,
        acts::{ActId, ActKind},
    },
    words::{
        kinds::StepKind,
        name::{Address, ProcedureName},
        time::Timestamp,
    },
};

/// What is to be done outside.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Order {
    /// Take the run's locks.
    TakeLocks,
    /// Look at everything the run is answerable for, and answer with `FirstLooked`.
    FirstLook,
    /// Take these looks once, and answer with `Preflighted`.
    Preflight {
        /// The looks.
        looks: Vec<Preflight>,
    },
    /// Work out the procedure that takes over, take what locks it needs more, and answer with `DivertPlanned`.
    PlanDivert {
        /// Which.
        procedure: ProcedureName,
        /// What failed.
        failed: String,
        /// Why.
        reason: String,
    },
    /// Look at these once more, and answer with `FreshLooked`.
    FreshLook {
        /// The step whose act comes next.
        step: StepId,
        /// What to look at.
        addresses: Vec<Address>,
    },
    /// Give an act, through the recorder, under its identity.
    Act {
        /// The step.
        step: StepId,
        /// The identity.
        act: ActId,
        /// What it does.
        kind: ActKind,
    },
    /// After a restart of the server: find out what became of an act that was intended (R21).
    FindAct {
        /// The step.
        step: StepId,
        /// The identity.
        act: ActId,
        /// What it does.
        kind: ActKind,
    },
    /// Look at a step's rungs, in order, until told to stop.
    Climb {
        /// The step.
        step: StepId,
        /// The attempt.
        attempt: u32,
        /// Whose ladder: a start's, or a stop's, which must be gone.
        kind: StepKind,
        /// The rung to go on from.
        from: u32,
        /// The act whose log positions count, where there was one.
        act: Option<ActId>,
    },
    /// It is proven; go on looking for forbidden lines until the run ends (R17).
    WatchLog {
        /// The step.
        step: StepId,
        /// The attempt.
        attempt: u32,
        /// Its service.
        address: Address,
        /// Whose patterns.
        kind: StepKind,
        /// The act whose log positions count.
        act: ActId,
    },
    /// End an act that is under way and changes nothing: its outcome is no longer waited for.
    Recall {
        /// The act's step.
        step: StepId,
        /// The identity.
        act: ActId,
    },
    /// Stop looking for this step.
    StopLooking {
        /// The step.
        step: StepId,
    },
    /// Give the locks on one service back (R7).
    Unlock {
        /// The service.
        address: Address,
    },
    /// Look at everything once more, and answer with `FinalLooked`.
    FinalLook,
    /// Give the locks back.
    Release,
}

/// What came of an input.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Taken {
    /// What happened, to be stored first.
    pub events: Vec<Event>,
    /// What to do then.
    pub orders: Vec<Order>,
}

/// An event with its place in the run and its time.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Stamped {
    /// Its number within the run, from 1.
    pub no: u64,
    /// When.
    pub at: Timestamp,
    /// What.
    #[serde(flatten)]
    pub event: Event,
}
