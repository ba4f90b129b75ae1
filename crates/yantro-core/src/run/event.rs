//! What happened in a run, in the past tense: the only source for log, stream, CLI and console.

use std::{collections::BTreeMap, sync::Arc};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::{
    model::Service,
    plan::{Preflight, Step, StepId},
    proof::{Answer, SeenState},
    run::{
        Decision,
        acts::{ActBegun, ActEnd, ActId, ActKind, FoundProcess, LogEvidence},
        begun::Begun,
        ends::{Difference, Otherwise, RunEnd, StepEnd},
        holds::{Frozen, HoldCause, Restriction},
    },
    words::{
        PersonKind,
        name::{Address, ProcedureName},
        time::Timestamp,
    },
};

/// What happened.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(tag = "event", rename_all = "kebab-case")]
pub enum Event {
    /// The run was asked for, and its sequence is fixed.
    Begun(Box<Begun>),
    /// It waits for locks that others hold.
    Queued {
        /// Behind whom.
        behind: Vec<String>,
    },
    /// It has its locks.
    Locked,
    /// It looked at everything it is answerable for.
    FirstLooked {
        /// How things stand.
        seen: BTreeMap<Address, SeenState>,
        /// How many rungs stand, of what is ailing.
        #[serde(default)]
        rungs: BTreeMap<Address, u32>,
        /// The main process of what runs, where it is known (R31).
        #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
        processes: BTreeMap<Address, FoundProcess>,
    },
    /// The looks before the first act were taken.
    Preflighted {
        /// Their answers, in the order of the looks.
        answers: Vec<(Preflight, Answer)>,
    },
    /// What must be down or up while a step's work goes on was seen otherwise meanwhile.
    StoodOtherwise {
        /// The step.
        step: StepId,
        /// The service.
        address: Address,
        /// What it was seen as.
        state: SeenState,
    },
    /// A step waits out its pause.
    StepPausing {
        /// The step.
        step: StepId,
        /// Until when.
        until: Timestamp,
        /// Whether the act is already behind it.
        after_act: bool,
    },
    /// An act is about to be given. Stored before it is.
    ActIntended {
        /// The step.
        step: StepId,
        /// The act's identity.
        act: ActId,
        /// What it does.
        kind: ActKind,
        /// Which attempt of the step.
        attempt: u32,
        /// When its patience ends.
        patience_ends: Timestamp,
    },
    /// The recorder has begun it.
    ActBegun {
        /// The step.
        step: StepId,
        /// The act.
        act: ActId,
        /// How it began.
        begun: ActBegun,
    },
    /// It ended, or could not be given.
    ActEnded {
        /// The step.
        step: StepId,
        /// The act.
        act: ActId,
        /// How it ended.
        end: ActEnd,
    },
    /// What became of an act cannot be known (R21).
    ActUnknown {
        /// The step.
        step: StepId,
        /// The act.
        act: ActId,
    },
    /// The recorder never began an act, and never will: the step begins anew, guards and all (R21).
    ActWithdrawn {
        /// The step.
        step: StepId,
        /// The act.
        act: ActId,
    },
    /// The newest edition restricts services of this run over what its own edition says, from now on (R25).
    Restricted {
        /// Which, and how.
        restrictions: BTreeMap<Address, Restriction>,
    },
    /// Before anything was touched it was worked out anew from how things stand, and confirmed so: this is what it does.
    Replanned(Box<Begun>),
    /// A step climbs its ladder.
    StepProving {
        /// The step.
        step: StepId,
        /// When its patience ends.
        patience_ends: Timestamp,
    },
    /// A rung was climbed.
    RungClimbed {
        /// The step.
        step: StepId,
        /// The rung, from 0.
        rung: u32,
        /// What was looked at and answered.
        says: String,
    },
    /// A rung was lost again while the step had to stay steady.
    RungLost {
        /// The step.
        step: StepId,
        /// The rung, from 0.
        rung: u32,
        /// What was looked at and answered.
        says: String,
    },
    /// The last rung was climbed; now it must stay so.
    SteadyBegan {
        /// The step.
        step: StepId,
        /// Until when.
        until: Timestamp,
    },
    /// Log lines kept as evidence.
    LogKept {
        /// The step.
        step: StepId,
        /// The sources and what was found in each.
        logs: Vec<LogEvidence>,
    },
    /// An attempt failed and another follows.
    AttemptFailed {
        /// The step.
        step: StepId,
        /// Which attempt, from 1.
        attempt: u32,
        /// Why.
        reason: String,
        /// When the next begins.
        next_at: Timestamp,
    },
    /// The service may only be forced if an operator says so.
    ForceAsked {
        /// The step.
        step: StepId,
        /// Why it is asked.
        reason: String,
    },
    /// A person is asked.
    QuestionAsked {
        /// The step.
        step: StepId,
        /// The question.
        asks: String,
        /// What the answer is.
        answer: PersonKind,
        /// How long an answer is waited for.
        until: Option<Timestamp>,
    },
    /// A piece of a step's output, or an answer, is known from now on.
    ValueKept {
        /// The step.
        step: StepId,
        /// Its name.
        name: String,
        /// The value.
        value: String,
    },
    /// The way forward ends here: everything is put back as found.
    PutBackBegan {
        /// By whom, or by which rule.
        by: String,
        /// Why.
        why: String,
    },
    /// The way back, worked out from what was truly done.
    PutBackPlanned {
        /// Its steps.
        steps: Vec<Step>,
    },
    /// The way forward ends here: another procedure takes over.
    DivertBegan {
        /// Which.
        procedure: ProcedureName,
        /// What failed.
        failed: String,
        /// Why.
        reason: String,
        /// By whom, or by which rule.
        by: String,
    },
    /// The steps of the procedure that took over.
    DivertPlanned {
        /// What people call it.
        title: String,
        /// Its steps.
        steps: Vec<Step>,
        /// Services it is answerable for besides.
        services: BTreeMap<Address, Arc<Service>>,
        /// Services that rely on what it starts and are none of its own.
        #[serde(default)]
        beside: BTreeMap<Address, Arc<Service>>,
        /// The values that its texts are filled with.
        values: BTreeMap<String, String>,
        /// How services stood that it was not answerable for until now: put back, they stand so again (R31).
        #[serde(default)]
        found: BTreeMap<Address, SeenState>,
    },
    /// From here on putting back would no longer fit the window.
    LastMoment,
    /// Change freezes that are on from now, as names with what they are; empty when none is.
    Frozen {
        /// The freezes.
        freezes: BTreeMap<String, Frozen>,
    },
    /// Somebody wrote something down.
    Noted {
        /// Who.
        who: String,
        /// What.
        text: String,
    },
    /// Somebody has it from now on (N58).
    Taken {
        /// Who.
        who: String,
    },
    /// A step failed and awaits a decision.
    StepFailed {
        /// The step.
        step: StepId,
        /// Why.
        reason: String,
        /// Whether what became of its act is unknown.
        outcome_unknown: bool,
    },
    /// A step ended.
    StepEnded {
        /// The step.
        step: StepId,
        /// How.
        end: StepEnd,
    },
    /// Something it is answerable for left `proven`.
    ServiceLost {
        /// The service.
        address: Address,
        /// What it is now.
        state: SeenState,
        /// What shows it.
        says: String,
        /// When its patience ends.
        patience_ends: Timestamp,
    },
    /// It is proven again.
    ServiceRegained {
        /// The service.
        address: Address,
    },
    /// The run is held for one more cause.
    Held {
        /// The hold's number, which a decision must name.
        hold: u32,
        /// The cause.
        cause: HoldCause,
    },
    /// A cause of the hold is gone.
    Unheld {
        /// The cause.
        cause: HoldCause,
        /// By whom or what.
        by: String,
    },
    /// An operator decided.
    Decided {
        /// What.
        decision: Decision,
    },
    /// An operator ended it; what is in flight is awaited.
    GivingUp {
        /// Who.
        who: String,
        /// Why.
        why: String,
    },
    /// The server was away; every open deadline moved by this.
    Away {
        /// For how long, in milliseconds.
        for_ms: u64,
    },
    /// The system's clock was set; no deadline moves by it (R34).
    ClockStepped {
        /// Forward by so many milliseconds; back where negative.
        by_ms: i64,
    },
    /// The run ended.
    Ended {
        /// How.
        end: RunEnd,
        /// What stands differently from how it was found.
        differences: Vec<Difference>,
        /// What stands otherwise than it was to be left.
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        otherwise: Vec<Otherwise>,
    },
}
