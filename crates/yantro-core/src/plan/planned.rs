//! What was worked out: the steps, and all that should be known before they are begun.

use std::collections::{BTreeMap, BTreeSet};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::{
    model::{Impact, Rung},
    plan::{AskedWith, For, Step, StepId, forecast::Felt},
    words::{
        kinds::StepKind,
        name::{Address, GroupName, HostName},
    },
};

/// The steps worked out for a wish or a procedure.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Sequence {
    /// What it is for.
    #[serde(flatten)]
    pub of: For,
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
        self.steps.iter().filter(|s| s.kind() != StepKind::Await).filter_map(|s| s.address().cloned()).collect()
    }
    /// The services its steps are about.
    pub fn named(&self) -> BTreeSet<Address> {
        self.steps.iter().filter_map(|s| s.address().cloned()).collect()
    }
}

/// A look taken before the first act.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Preflight {
    /// What must hold, for people.
    pub says: String,
    /// Where it is looked at.
    pub host: HostName,
    /// What is looked at.
    pub rung: Rung,
    /// The line of the procedure that asks for it; without one it is added by itself.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub line: Option<u32>,
}

/// Why a wish cannot be carried out as asked.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Obstacle {
    /// The service that stands in the way, where it is one.
    pub address: Option<Address>,
    /// The line of the procedure that it stands in the way of.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub line: Option<u32>,
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
    /// A change freeze is on: it must be named, with a reason.
    InFreeze {
        /// The freeze.
        freeze: String,
        /// What it means, in a sentence.
        says: String,
    },
    /// A look contradicts what the lines before the first one are vouched to have done: the service must be named (N54).
    AgainstVouch {
        /// The service.
        address: Address,
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
    /// The looks that are taken before the first act.
    #[serde(default)]
    pub preflight: Vec<Preflight>,
    /// The values that its texts are filled with: answers to its questions, secrets as references.
    #[serde(default)]
    pub values: BTreeMap<String, String>,
    /// What is worth knowing and keeps nobody from beginning: where a host's own manager has other limits, say.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub remarks: Vec<String>,
    /// What its preflight would refuse it for, as things stood when it was shown: it is looked at again before the first act.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub refused_now: Vec<String>,
    /// Steps of lines before the one it begins at: they are taken as done, on the word of whoever begins it (N54).
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub vouched: BTreeSet<StepId>,
    /// Where the order that users feel least was asked for: what it comes to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub felt: Option<Felt>,
    /// What it was asked with.
    #[serde(skip)]
    pub asked_with: AskedWith,
}

impl Plan {
    /// What refuses it, and what must be said in so many words before it begins.
    pub fn refusals(&self) -> Vec<String> {
        let asks = self.asks.iter().map(|a| match a {
            Ask::LeftStanding { says, .. }
            | Ask::BelowKeepUp { says, .. }
            | Ask::InFreeze { says, .. }
            | Ask::UpWithout { says, .. }
            | Ask::AgainstVouch { says, .. } => says.clone(),
        });
        self.obstacles.iter().map(|o| o.why.clone()).chain(asks).collect()
    }
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
