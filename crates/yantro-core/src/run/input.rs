//! What comes into a run, and the orders that go out.

use std::{collections::BTreeMap, sync::Arc};

use crate::{
    model::Service,
    plan::{Preflight, Step, StepId},
    proof::{Answer, SeenState},
    run::{
        Decision,
        acts::{ActBegun, ActEnd, ActId, FoundProcess, LogEvidence},
        begun::Begun,
        holds::{Frozen, HoldCause, Restriction},
    },
    words::name::Address,
};

/// The steps of a procedure that takes over (R32).
#[derive(Debug, Clone, PartialEq)]
pub struct Divert {
    /// What people call it.
    pub title: String,
    /// Its steps.
    pub steps: Vec<Step>,
    /// Every service it is answerable for.
    pub services: BTreeMap<Address, Arc<Service>>,
    /// Services that rely on what it starts and are none of its own.
    pub beside: BTreeMap<Address, Arc<Service>>,
    /// The values that its texts are filled with.
    pub values: BTreeMap<String, String>,
    /// How everything it is answerable for stood when it was worked out.
    pub found: BTreeMap<Address, SeenState>,
    /// The looks to take before its first act.
    pub preflight: Vec<Preflight>,
}

/// What comes into a run.
#[derive(Debug, Clone, PartialEq)]
pub enum Input {
    /// Locks are held by others.
    Queued {
        /// Behind whom.
        behind: Vec<String>,
    },
    /// All locks are taken.
    Locked,
    /// The first look is done; `unconfirmed` are acts that the confirmed sequence did not have.
    FirstLooked {
        /// How things stand.
        seen: BTreeMap<Address, SeenState>,
        /// How many rungs stand, of what is ailing.
        rungs: BTreeMap<Address, u32>,
        /// The main process of what runs, where it is known.
        processes: BTreeMap<Address, FoundProcess>,
        /// New acts, in sentences.
        unconfirmed: Vec<String>,
    },
    /// The looks before the first act are taken.
    Preflighted {
        /// Their answers.
        answers: Vec<(Preflight, Answer)>,
    },
    /// The procedure that takes over is worked out, or why it cannot be.
    DivertPlanned(Result<Divert, String>),
    /// It was worked out anew from how things stand now, and somebody confirmed it so.
    Replanned {
        /// How it begins by that.
        begun: Box<Begun>,
        /// The decision that confirmed it.
        decision: Decision,
    },
    /// What the newest edition restricts of this run's services.
    Restricted(BTreeMap<Address, Restriction>),
    /// Change freezes that are on now.
    Frozen(BTreeMap<String, Frozen>),
    /// Somebody writes something down.
    Note {
        /// Who.
        who: String,
        /// What.
        text: String,
    },
    /// Somebody has it from now on.
    TakeOn {
        /// Who.
        who: String,
    },
    /// The look just before a step's act is done.
    FreshLooked {
        /// The step.
        step: StepId,
        /// How things stand.
        seen: BTreeMap<Address, SeenState>,
    },
    /// The look before the final word is done.
    FinalLooked {
        /// How things stand.
        seen: BTreeMap<Address, SeenState>,
    },
    /// The recorder began an act.
    ActBegun {
        /// The step.
        step: StepId,
        /// The act.
        act: ActId,
        /// How.
        begun: ActBegun,
    },
    /// An act ended.
    ActEnded {
        /// The step.
        step: StepId,
        /// The act.
        act: ActId,
        /// How.
        end: ActEnd,
    },
    /// What became of an act cannot be known.
    ActUnknown {
        /// The step.
        step: StepId,
        /// The act.
        act: ActId,
    },
    /// An act was never begun, and cannot be any more.
    ActNeverBegun {
        /// The step.
        step: StepId,
        /// The act.
        act: ActId,
    },
    /// A rung of a step's ladder was looked at.
    RungLooked {
        /// The step.
        step: StepId,
        /// The attempt the look belongs to.
        attempt: u32,
        /// The rung, from 0.
        rung: u32,
        /// The answer.
        answer: Answer,
        /// What the logs hold so far, where the answer is about them.
        logs: Vec<LogEvidence>,
    },
    /// The board saw something the run is answerable for.
    Seen {
        /// The service.
        address: Address,
        /// What it is.
        state: SeenState,
        /// What shows it.
        says: String,
    },
    /// Time passed: deadlines are judged now, and by nothing else. It comes once nothing else waits to be taken in.
    Tick,
    /// An operator decided.
    Decide(Decision),
    /// Hold for a cause that is not a step's.
    Hold(HoldCause),
    /// A cause is gone.
    Unhold {
        /// Which.
        cause: HoldCause,
        /// By whom or what.
        by: String,
    },
    /// The system's clock was set while the server ran.
    ClockStepped {
        /// Forward by so many milliseconds; back where negative.
        by_ms: i64,
    },
    /// The server was away for so long.
    Away {
        /// In milliseconds.
        for_ms: u64,
    },
}
