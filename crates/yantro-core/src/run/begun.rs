//! How a run begins: its sequence and everything that it is decided by, fixed (R9).

use std::{
    collections::{BTreeMap, BTreeSet},
    sync::Arc,
};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::{
    model::{Estate, IfItFails, Service},
    overrides::{self, Overrides},
    plan::{AskedWith, For, OnService, Plan, Preflight, Sequence, Step, forecast::plays::Forecast},
    proof::SeenState,
    run::acts::FoundProcess,
    words::{
        kinds::StepKind,
        name::{Address, HostName},
        time::{Span, Timestamp},
    },
};

/// The version of the events written now. Readers know every version up to it.
pub const EVENT_VERSION: u32 = 1;

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
    pub keep_up: BTreeMap<crate::words::name::GroupName, KeepUp>,
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
    /// What else was said of it, and is said again whenever it is worked out anew.
    #[serde(default)]
    pub asked_with: AskedWith,
}

impl Begun {
    /// How a run begins by a plan: fixed here, and never planned again (R9).
    ///
    /// It is answerable for every service that its steps are about and all those rely on.
    pub fn of(plan: Plan, estate: &Estate, edition: u64, who: &str, overrides: &Overrides) -> Self {
        let Plan { sequence, preflight, values, asked_with, .. } = plan;
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
            For::Wish { .. } | For::Act { .. } => None,
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
            asked_with,
        }
    }
}

/// What a run of these steps is answerable for (R18): what they are about, and all that relies on.
pub fn answerable(estate: &Estate, steps: &[Step]) -> BTreeSet<Address> {
    let mut all: BTreeSet<Address> = steps.iter().filter_map(|s| s.address().cloned()).collect();
    all.extend(steps.iter().flat_map(|s| s.meanwhile().map(|(a, _)| a.clone())));
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

/// Services that rely on what these steps stop or start and are none of those the run is answerable for: one that is down now may
/// be up by the time of a stop, started by its host's manager or by somebody else.
pub fn beside(estate: &Estate, steps: &[Step], answerable: &BTreeSet<Address>) -> BTreeMap<Address, Arc<Service>> {
    let moves = |on: &&OnService| matches!(on.kind, StepKind::Stop | StepKind::Start);
    let moved: BTreeSet<&Address> = steps.iter().filter_map(|s| s.service()).filter(moves).map(|on| &on.address).collect();
    let others = estate.services.values().filter(|s| !answerable.contains(&s.address));
    others.filter(|s| s.relies_on_any().any(|a| moved.contains(a))).map(|s| (s.address.clone(), s.clone())).collect()
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
