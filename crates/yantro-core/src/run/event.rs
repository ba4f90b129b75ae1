//! What happened in a run, in the past tense: the only source for log, stream, CLI and console.

use std::{
    collections::{BTreeMap, BTreeSet},
    fmt,
    sync::Arc,
    time::Duration,
};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{decision::Decision, input::FoundProcess};
use crate::{
    estate::{Estate, IfItFails, ImpactLevel, Service, file::PersonKind},
    logs::{LogCount, LogHit},
    name::{Address, HostName, ProcedureName},
    overrides::{self, Overrides},
    sequence::{For, Plan, Preflight, Sequence, Step, StepId, StepKind, plays::Forecast},
    state::{Answer, SeenState},
    time::{Span, Timestamp},
};

/// The version of the events written now. Readers know every version up to it.
pub const EVENT_VERSION: u32 = 1;

/// The identity of an act: the same act keeps it however often it is asked about.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, JsonSchema)]
#[serde(transparent)]
pub struct ActId(pub u32);

/// What an act does.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum ActKind {
    /// Starts the service.
    Start,
    /// Asks it to stop.
    Stop,
    /// Stops what an earlier attempt of the same start left behind.
    Clear,
    /// Gathers evidence before a force, by the command of this number.
    Evidence(u32),
    /// Ends it by force.
    Force,
    /// Has it re-read its configuration.
    Reload,
    /// A further act of a service.
    Further,
    /// A command or script of a procedure.
    Work,
    /// Tells people something.
    Announce,
}

impl ActKind {
    /// The word people read.
    pub fn word(self) -> &'static str {
        match self {
            ActKind::Start => "start",
            ActKind::Stop => "stop",
            ActKind::Clear => "clear away",
            ActKind::Evidence(_) => "gather evidence",
            ActKind::Force => "force",
            ActKind::Reload => "reload",
            ActKind::Further => "act",
            ActKind::Work => "work",
            ActKind::Announce => "announce",
        }
    }
}

/// How a run began: everything it needs, so that nothing is planned again (R9).
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Begun {
    /// Version of this and all later events.
    pub version: u32,
    /// Who began it.
    pub who: String,
    /// Why, in their words.
    pub why: Option<String>,
    /// The edition of the estate.
    pub edition: u64,
    /// The steps.
    pub sequence: Sequence,
    /// Every service it acts on or is answerable for, as this run sees it.
    pub services: BTreeMap<Address, Arc<Service>>,
    /// Services that rely on what it starts and are none of its own: looked at before that is stopped on the way
    /// back.
    #[serde(default)]
    pub beside: BTreeMap<Address, Arc<Service>>,
    /// Who is in a group that keeps some up, and how many.
    pub keep_up: BTreeMap<crate::name::GroupName, KeepUp>,
    /// What it puts over the estate's settings.
    pub overrides: Overrides,
    /// How many services it works on at once, where it was asked to go slower than the estate allows.
    #[serde(default)]
    pub at_once: Option<u32>,
    /// How everything it is answerable for stood.
    pub as_found: BTreeMap<Address, SeenState>,
    /// How many rungs stood, of what was found ailing: put back, it stands no worse (R31).
    #[serde(default)]
    pub found_rungs: BTreeMap<Address, u32>,
    /// Which process each was, of what ran.
    #[serde(default)]
    pub found_processes: BTreeMap<Address, FoundProcess>,
    /// What happens when a step fails, where neither it nor its service says.
    #[serde(default)]
    pub if_it_fails: Option<IfItFails>,
    /// The values that its texts are filled with.
    #[serde(default)]
    pub values: BTreeMap<String, String>,
    /// The looks taken before the first act.
    #[serde(default)]
    pub preflight: Vec<Preflight>,
    /// How long it may be held before it is put back by itself; nothing: without end.
    #[serde(default)]
    pub held_at_most: Option<Span>,
    /// The window it must fit, and what happens when it no longer would.
    #[serde(default)]
    pub window: Option<WindowTerms>,
    /// Change freezes that were named at its begin: they stop nothing in it.
    #[serde(default)]
    pub in_freeze: BTreeSet<String>,
    /// The forecast that it was begun by.
    #[serde(default)]
    pub forecast: Option<Forecast>,
    /// The number of the change it belongs to, as people keep it elsewhere.
    #[serde(default)]
    pub change: Option<String>,
    /// The line of the procedure it begins at; those before it are vouched for (N54).
    #[serde(default)]
    pub from_line: Option<u32>,
    /// Services that are taken as the lines before left them, though a look says otherwise: each was named.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub vouched_for: BTreeSet<Address>,
}

impl Begun {
    /// How a run begins by a plan: fixed here, and never planned again (R9).
    ///
    /// It is answerable for every service that its steps are about and all those rely on.
    pub fn of(plan: Plan, estate: &Estate, edition: u64, who: &str, overrides: &Overrides) -> Self {
        let Plan { sequence, preflight, values, .. } = plan;
        let answerable = answerable(estate, &sequence.steps);
        let beside = beside(estate, &sequence.steps, &answerable);
        let services = answerable
            .into_iter()
            .filter_map(|a| Some((a.clone(), overrides::applied(estate.services.get(&a)?, overrides.get(&a)))))
            .collect();
        let keep_up = estate
            .groups
            .iter()
            .filter_map(|(name, group)| {
                let keep_up = if sequence.below_keep_up.contains(name) { 0 } else { group.keep_up? };
                Some((name.clone(), KeepUp { members: group.members.clone(), keep_up, at_once: group.at_once }))
            })
            .collect();
        let mut as_found = BTreeMap::new();
        for step in &sequence.steps {
            if let Some(address) = step.address() {
                as_found.entry(address.clone()).or_insert(step.found);
            }
        }
        let written = match &sequence.of {
            For::Procedure { procedure, .. } => estate.procedures.get(procedure),
            For::Wish { .. } => None,
        };
        let (if_it_fails, held_at_most) = (written.and_then(|p| p.if_it_fails.clone()), written.and_then(|p| p.held_at_most));
        Self {
            version: EVENT_VERSION,
            who: who.to_owned(),
            why: None,
            edition,
            sequence,
            services,
            beside,
            keep_up,
            overrides: overrides.clone(),
            at_once: None,
            as_found,
            found_rungs: BTreeMap::new(),
            found_processes: BTreeMap::new(),
            if_it_fails,
            values,
            preflight,
            held_at_most,
            window: None,
            in_freeze: BTreeSet::new(),
            forecast: None,
            change: None,
            from_line: None,
            vouched_for: BTreeSet::new(),
        }
    }
}

/// What a run of these steps is answerable for (R18): what they are about, and all that relies on.
pub fn answerable(estate: &Estate, steps: &[Step]) -> BTreeSet<Address> {
    let mut all: BTreeSet<Address> = steps.iter().filter_map(|s| s.address().cloned()).collect();
    for address in all.clone() {
        all.extend(estate.services.get(&address).into_iter().flat_map(|s| s.relies_on_any().cloned()));
    }
    // A host that is acted on takes everything there with it (R37).
    let acted = steps.iter().filter(|s| matches!(s.kind(), StepKind::Stop | StepKind::Start)).filter_map(|s| s.address());
    let hosts: BTreeSet<&HostName> = acted.filter(|a| a.is_power()).map(|a| &a.host).collect();
    if !hosts.is_empty() {
        all.extend(estate.services.keys().filter(|a| hosts.contains(&a.host)).cloned());
    }
    all
}

/// Services that rely on what these steps start and are none of those the run is answerable for.
pub fn beside(estate: &Estate, steps: &[Step], answerable: &BTreeSet<Address>) -> BTreeMap<Address, Arc<Service>> {
    let started: BTreeSet<&Address> =
        steps.iter().filter_map(|s| s.service()).filter(|on| on.kind == StepKind::Start).map(|on| &on.address).collect();
    let others = estate.services.values().filter(|s| !answerable.contains(&s.address));
    others.filter(|s| s.relies_on_any().any(|a| started.contains(a))).map(|s| (s.address.clone(), s.clone())).collect()
}

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

/// The window that a run must fit.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct WindowTerms {
    /// What people call it.
    pub title: String,
    /// When it ends.
    pub ends_at: Timestamp,
    /// What happens at the last moment to put back.
    pub at_last_moment: AtLastMoment,
}

/// What a run does when putting back would no longer fit its window.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum AtLastMoment {
    /// Begins nothing new and waits for the operator.
    #[default]
    Hold,
    /// Puts everything back.
    PutBack,
    /// Goes on.
    GoOn,
}

/// A group whose members must not all go at once.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct KeepUp {
    /// Its members.
    pub members: std::collections::BTreeSet<Address>,
    /// How many must stay proven; 0 where the operator set it aside.
    pub keep_up: u32,
    /// How many may be worked on at once.
    pub at_once: Option<u32>,
}

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
        begun: super::input::ActBegun,
    },
    /// It ended, or could not be given.
    ActEnded {
        /// The step.
        step: StepId,
        /// The act.
        act: ActId,
        /// How it ended.
        end: super::input::ActEnd,
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

/// What was found in one log source.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct LogEvidence {
    /// The file, or "its own output".
    pub source: String,
    /// How often each pattern was seen.
    pub count: LogCount,
    /// The lines.
    pub hits: Vec<LogHit>,
    /// Whether everything written since the position could be read.
    pub complete: bool,
}

/// The five minutes of R34.
pub(super) const LONG_AWAY: Duration = Duration::from_secs(300);
