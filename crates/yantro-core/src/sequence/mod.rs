//! The sequence worked out for a wish: a graph of steps, not a list of ranks.

mod forecast;
mod plan;

use std::{
    collections::{BTreeMap, BTreeSet},
    fmt,
};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::{
    estate::Impact,
    name::{Address, GroupName},
    state::SeenState,
};

pub use forecast::Usual;
pub use plan::plan;

/// What is wanted of a selection.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Wish {
    /// Up, with what it needs.
    Start,
    /// Down, with what relies on it.
    Stop,
    /// Down and up again, with what relies on it.
    Restart,
    /// Configuration re-read, without a restart.
    Reload,
}

impl Wish {
    /// The word people read.
    pub fn word(self) -> &'static str {
        match self {
            Wish::Start => "start",
            Wish::Stop => "stop",
            Wish::Restart => "restart",
            Wish::Reload => "reload",
        }
    }
}

impl fmt::Display for Wish {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.word())
    }
}

/// What a step does to its service.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum StepKind {
    /// Takes it down.
    Stop,
    /// Brings it up.
    Start,
    /// Has it re-read its configuration.
    Reload,
    /// Never acts: waits for it to be proven by others.
    Await,
}

impl StepKind {
    /// The word people read.
    pub fn word(self) -> &'static str {
        match self {
            StepKind::Stop => "stop",
            StepKind::Start => "start",
            StepKind::Reload => "reload",
            StepKind::Await => "wait for",
        }
    }
}

/// The number of a step in its sequence, from 1, in the order in which steps are drawn.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, JsonSchema)]
#[serde(transparent)]
pub struct StepId(pub u32);

impl fmt::Display for StepId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.fmt(f)
    }
}

/// How the step waited for must have ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Release {
    /// It must be as good as wished for.
    WhenGood,
    /// It may have ended in any way (`yields_to`, R4).
    WhenEnded,
}

/// One step waits for another.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Wait {
    /// The step waited for.
    pub step: StepId,
    /// How it must have ended.
    pub release: Release,
}

/// Why a step is in the sequence.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(tag = "kind", content = "of", rename_all = "kebab-case")]
pub enum Why {
    /// The operator chose its service.
    Chosen,
    /// It relies on this one, which goes down.
    ReliesOn(Address),
    /// This one needs it.
    NeededBy(Address),
}

/// One step.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Step {
    /// Its number.
    pub id: StepId,
    /// The service it is for.
    pub address: Address,
    /// What it does.
    pub kind: StepKind,
    /// Why it is there.
    pub why: Why,
    /// How its service was found.
    pub found: SeenState,
    /// What it waits for.
    pub waits: Vec<Wait>,
    /// The rank it is drawn in, from 0.
    pub rank: u32,
    /// How long it usually takes, in milliseconds.
    pub usual_ms: u64,
    /// How long it takes from its begin to the run's end, in milliseconds.
    pub tail_ms: u64,
    /// Whether the run's length hangs on it.
    pub critical: bool,
}

/// The steps worked out for a wish.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Sequence {
    /// The wish.
    pub wish: Wish,
    /// What was chosen.
    pub chosen: BTreeSet<Address>,
    /// The steps, by number.
    pub steps: Vec<Step>,
    /// Groups whose `keep_up` the operator set aside, in so many words (R20).
    pub below_keep_up: BTreeSet<GroupName>,
    /// Services that the operator named one by one as standing on what stops (R3).
    pub left_standing: BTreeSet<Address>,
    /// The length of the critical path, in milliseconds.
    pub usual_ms: u64,
}

impl Sequence {
    /// One step.
    pub fn step(&self, id: StepId) -> &Step {
        &self.steps[id.0 as usize - 1]
    }
    /// The services it acts on.
    pub fn acted_on(&self) -> BTreeSet<Address> {
        self.steps.iter().filter(|s| s.kind != StepKind::Await).map(|s| s.address.clone()).collect()
    }
}

/// What is asked for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Request {
    /// The wish.
    pub wish: Wish,
    /// Of what.
    pub chosen: BTreeSet<Address>,
    /// Only these, without what relies on them or what they need.
    pub alone: bool,
    /// Services named one by one as left standing, or started, on what is not proven (R3).
    pub left_standing: BTreeSet<Address>,
    /// Groups whose `keep_up` may be broken (R20).
    pub below_keep_up: BTreeSet<GroupName>,
}

impl Request {
    /// A wish of a selection, with all that belongs to it.
    pub fn new(wish: Wish, chosen: BTreeSet<Address>) -> Self {
        Self { wish, chosen, alone: false, left_standing: BTreeSet::new(), below_keep_up: BTreeSet::new() }
    }
}

/// Why a wish cannot be carried out as asked.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Obstacle {
    /// The service that stands in the way.
    pub address: Address,
    /// Why.
    pub why: String,
    /// What to do.
    pub mend: String,
}

/// Something that must be said in so many words before it is done.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum Ask {
    /// These would stand on what is not proven: each must be named (R3).
    LeftStanding {
        /// The services.
        addresses: BTreeSet<Address>,
        /// What it means, in a sentence.
        says: String,
    },
    /// A group would fall below its `keep_up`: the group must be named (R20).
    BelowKeepUp {
        /// The group.
        group: GroupName,
        /// What it means, in a sentence.
        says: String,
    },
    /// Something is up while what it relies on is not: it must be named (R10).
    UpWithout {
        /// The service that is up.
        address: Address,
        /// What it means, in a sentence.
        says: String,
    },
}

/// A service that belongs near the wish and is left alone, with the reason.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct LeftAlone {
    /// The service.
    pub address: Address,
    /// Why.
    pub why: String,
}

/// What users notice of one service going down.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Hit {
    /// The service.
    pub address: Address,
    /// What they notice.
    pub impact: Impact,
    /// For how long it is usually away, in milliseconds; `None` where it stays down.
    pub usual_ms: Option<u64>,
}

/// A sequence with all that should be known before it is begun.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Plan {
    /// The steps.
    pub sequence: Sequence,
    /// What refuses it.
    pub obstacles: Vec<Obstacle>,
    /// What must be said in so many words.
    pub asks: Vec<Ask>,
    /// What is left alone.
    pub left_alone: Vec<LeftAlone>,
    /// What users notice, the gravest first.
    pub hits: Vec<Hit>,
}

impl Plan {
    /// Whether it can be begun as it is: nothing in its way, and everything said that must be.
    pub fn can_begin(&self) -> bool {
        self.obstacles.is_empty() && self.asks.is_empty()
    }
    /// The steps by rank, each rank in the order of the steps.
    pub fn ranks(&self) -> Vec<Vec<&Step>> {
        let mut ranks: BTreeMap<u32, Vec<&Step>> = BTreeMap::new();
        for step in &self.sequence.steps {
            ranks.entry(step.rank).or_default().push(step);
        }
        ranks.into_values().collect()
    }
}
