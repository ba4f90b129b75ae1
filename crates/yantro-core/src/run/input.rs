//! What comes into a run, and the orders that go out.

use std::{collections::BTreeMap, sync::Arc};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{
    decision::Decision,
    event::{ActId, ActKind, Begun, Event, Frozen, HoldCause, LogEvidence, Restriction},
};
use crate::{
    estate::Service,
    name::{Address, ProcedureName},
    sequence::{Preflight, Step, StepId, StepKind},
    state::{Answer, SeenState},
    time::Timestamp,
};

/// Which process a service was found as: its number, and when it started tell it from any other of this boot.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct FoundProcess {
    /// Its number.
    pub pid: u32,
    /// Its start, in clock ticks since boot.
    pub started: u64,
}

/// How an act began.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct ActBegun {
    /// The exact command, with references in the place of secrets.
    pub command: Vec<String>,
    /// The working folder.
    pub dir: String,
    /// As whom.
    pub user: String,
    /// The process, where one was started.
    pub pid: Option<u32>,
    /// When that started, in clock ticks since boot: with its number, which process it is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub started: Option<u64>,
    /// Log positions taken just before, by source.
    pub marks: BTreeMap<String, LogMark>,
    /// For the stop of a host: the boot that it was in. A reboot is proven by another.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub boot: Option<String>,
}

/// A position in a log file: which file it was, and how far it had been written.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct LogMark {
    /// Device and inode; `None` where there was no file yet.
    pub file: Option<(u64, u64)>,
    /// Bytes from its start.
    pub position: u64,
    /// In a journal: its cursor.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cursor: Option<String>,
    /// In a journal: which run of the unit it was. Its lines are none of the next one's.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub invocation: Option<String>,
}

/// How an act ended.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(tag = "how", rename_all = "kebab-case")]
pub enum ActEnd {
    /// The command ended by itself.
    Exited {
        /// Its exit code.
        code: i32,
        /// The end of its output.
        output: String,
    },
    /// A signal ended the command.
    Signalled {
        /// Which.
        signal: i32,
        /// The end of its output.
        output: String,
    },
    /// The command took longer than it may, and was ended.
    TimedOut {
        /// The end of its output.
        output: String,
    },
    /// What had to be sent was sent.
    Sent,
    /// The act could not be given.
    Refused {
        /// Why.
        why: String,
        /// How to mend it.
        mend: String,
    },
}

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
