//! The sequence worked out for a wish: a graph of steps, not a list of ranks.

mod digest;
mod forecast;
mod layout;
mod least_felt;
mod plan;
pub mod plays;
mod preflight;
mod sheet;

use std::{
    collections::{BTreeMap, BTreeSet},
    fmt,
    sync::Arc,
};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::{
    estate::{Impact, Rung, Service, ServiceRunner},
    name::{Address, GroupName, HostName, ProcedureName},
    proof::SeenState,
};

pub use crate::model::procedure::FoundBy;
pub use crate::model::{
    kinds::{StepKind, Wish},
    procedure::Settings,
    task::{self, Question, Task, Work},
};
pub use digest::Shown;
pub use forecast::{Basis, Estimate, Usual, kept_under};
pub use layout::lay_out;
pub use least_felt::{Felt, Prefer};
pub(crate) use plan::hits;
pub use plan::plan;
pub(crate) use preflight::Looks;
pub use preflight::preflight;
pub use sheet::{StepCommand, command_of, manager_command, manager_kill, sheet};

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
    /// The procedure says so, in the line of this number.
    Written(u32),
    /// It takes back what this step did.
    TakesBack(StepId),
}

/// What a step is about, as it is written: its kind, and the service or the task.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
struct WrittenSubject {
    /// What is done.
    kind: StepKind,
    /// The service that it is done to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    address: Option<Address>,
    /// What is done, where that is no stop, start, reload or waiting for a service.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    task: Option<Box<Task>>,
    /// Its start is something else's: it is awaited (R11).
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    comes_back: bool,
}

impl From<Subject> for WrittenSubject {
    fn from(subject: Subject) -> Self {
        match subject {
            Subject::Service(on) => Self { kind: on.kind, address: Some(on.address), task: None, comes_back: on.comes_back },
            Subject::Task(task) => {
                let address = if let Task::Act { address, .. } = task.as_ref() { Some(address.clone()) } else { None };
                Self { kind: task.kind(), address, task: Some(task), comes_back: false }
            }
        }
    }
}

impl TryFrom<WrittenSubject> for Subject {
    type Error = &'static str;
    fn try_from(written: WrittenSubject) -> Result<Self, Self::Error> {
        match written {
            WrittenSubject { task: Some(task), .. } => Ok(Subject::Task(task)),
            WrittenSubject { kind, address: Some(address), task: None, comes_back } => {
                Ok(Subject::Service(OnService { address, kind, comes_back }))
            }
            WrittenSubject { address: None, task: None, .. } => Err("a step has a service or a task"),
        }
    }
}

/// What a step is about.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(try_from = "WrittenSubject", into = "WrittenSubject")]
#[schemars(!try_from, !into, with = "WrittenSubject")]
pub enum Subject {
    /// Something else than stopping, starting or reloading a service.
    Task(Box<Task>),
    /// A service that it stops, starts, reloads or waits for.
    Service(OnService),
}

/// A service, and what a step does to it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct OnService {
    /// The service.
    pub address: Address,
    /// What is done.
    pub kind: StepKind,
    /// Its start is something else's: it is awaited (R11). Of a host's stop: it reboots, and its start is its own.
    pub comes_back: bool,
}

impl OnService {
    /// A step of this kind on a service.
    pub fn new(service: &Service, kind: StepKind) -> Self {
        Self { address: service.address.clone(), kind, comes_back: kind == StepKind::Start && service.brought_back_by.is_some() }
    }
    /// What is done, in a word.
    pub fn word(&self) -> &'static str {
        match self.kind {
            StepKind::Stop if self.comes_back => "reboot",
            StepKind::Stop if self.address.is_host() => "shut down",
            StepKind::Stop if self.address.is_outlet() => "switch off",
            _ if self.comes_back => "await the return of",
            StepKind::Start if self.address.is_host() => "power on",
            StepKind::Start if self.address.is_outlet() => "switch on",
            kind => kind.word(),
        }
    }
    /// Whether its start is awaited, rather than given.
    pub fn is_awaited(&self) -> bool {
        self.comes_back && self.kind == StepKind::Start
    }
    /// Its service as this step acts on it.
    pub fn acts_on(&self, service: &Arc<Service>) -> Arc<Service> {
        let mut service = Arc::clone(service);
        if service.runner.is_power()
            && let ServiceRunner::Host(host) = &mut Arc::make_mut(&mut service).runner
        {
            host.reboots = self.comes_back;
        }
        service
    }
}

/// Which part of a run a step belongs to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Part {
    /// What was wished for.
    #[default]
    Forward,
    /// The way back.
    PutBack,
    /// The procedure that took over.
    Divert,
}

/// One step.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Step {
    /// Its number.
    pub id: StepId,
    /// What it is about.
    #[serde(flatten)]
    pub subject: Subject,
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
    /// One in ten takes longer than this, in milliseconds.
    #[serde(default)]
    pub slow_ms: u64,
    /// What the two are made from.
    #[serde(default)]
    pub basis: Basis,
    /// How long it takes from its begin to the run's end, in milliseconds.
    pub tail_ms: u64,
    /// Whether the run's length hangs on it.
    pub critical: bool,
    /// The line of the procedure it comes from, from 1.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub line: Option<u32>,
    /// Which part of the run it belongs to.
    #[serde(default)]
    pub part: Part,
    /// What its line says over its service's settings.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub settings: Option<Box<Settings>>,
}

impl Step {
    /// The service it stops, starts, reloads, waits for or acts on.
    pub fn address(&self) -> Option<&Address> {
        match &self.subject {
            Subject::Service(on) => Some(&on.address),
            Subject::Task(task) => match task.as_ref() {
                Task::Act { address, .. } => Some(address),
                _ => None,
            },
        }
    }
    /// The service that it takes up or down, reloads or waits for.
    pub fn service(&self) -> Option<&OnService> {
        match &self.subject {
            Subject::Service(on) => Some(on),
            Subject::Task(_) => None,
        }
    }
    /// The task, where it is one.
    pub fn task(&self) -> Option<&Task> {
        match &self.subject {
            Subject::Service(_) => None,
            Subject::Task(task) => Some(task),
        }
    }
    /// What it does.
    pub fn kind(&self) -> StepKind {
        match &self.subject {
            Subject::Service(on) => on.kind,
            Subject::Task(task) => task.kind(),
        }
    }
    /// The host it takes place on, where it does.
    pub fn host(&self) -> Option<&HostName> {
        match &self.subject {
            Subject::Service(on) => Some(&on.address.host),
            Subject::Task(task) => task.host(),
        }
    }
    /// What it does, in a few words: `stop quay-1/fares-db`, or the title of its line.
    pub fn says(&self) -> String {
        match &self.subject {
            Subject::Service(on) => format!("{} {}", on.word(), on.address),
            Subject::Task(task) => self.settings.as_ref().and_then(|s| s.title.clone()).unwrap_or_else(|| task.says()),
        }
    }
    /// What is done, in a word: the kind of step, or the name of a further act.
    pub fn does(&self) -> &str {
        match self.task() {
            Some(Task::Act { act, .. }) => act,
            _ => self.service().map_or(self.kind().word(), |on| on.word()),
        }
    }
    /// What names it in a row: the service's address, or what is done.
    pub fn row(&self) -> String {
        match self.address() {
            Some(address) => address.to_string(),
            None => self.says(),
        }
    }
    /// Whether it acts on this service.
    pub fn is_on(&self, address: &Address) -> bool {
        self.address() == Some(address)
    }
    /// How services that it does not act on must stand while it works, each with the state it must be in.
    pub fn meanwhile(&self) -> impl Iterator<Item = (&Address, SeenState)> {
        let work = match self.task() {
            Some(Task::Work(work)) => Some(work),
            _ => None,
        };
        work.into_iter().flat_map(meanwhile)
    }
    /// What a setting of its line says.
    pub fn set<T>(&self, of: impl FnOnce(&Settings) -> Option<T>) -> Option<T> {
        self.settings.as_deref().and_then(of)
    }
}

/// How services must stand while work goes on, each with the state it must be in.
pub(crate) fn meanwhile(work: &Work) -> impl Iterator<Item = (&Address, SeenState)> {
    let down = work.while_down.iter().map(|a| (a, SeenState::Down));
    down.chain(work.while_up.iter().map(|a| (a, SeenState::Proven)))
}

/// What a sequence is worked out for, as it is written.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
struct WrittenFor {
    /// The wish, where it is one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    wish: Option<Wish>,
    /// What was chosen for it.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    chosen: BTreeSet<Address>,
    /// The procedure, where it is one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    procedure: Option<ProcedureName>,
    /// What people call the procedure.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    title: Option<String>,
    /// The further act, where one was asked for by itself.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    act: Option<String>,
    /// The selection that the act is of.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    of: Vec<String>,
}

impl From<For> for WrittenFor {
    fn from(of: For) -> Self {
        match of {
            For::Wish { wish, chosen } => Self { wish: Some(wish), chosen, ..Self::default() },
            For::Procedure { procedure, title } => Self { procedure: Some(procedure), title: Some(title), ..Self::default() },
            For::Act { act, of } => Self { act: Some(act), of, ..Self::default() },
        }
    }
}

impl TryFrom<WrittenFor> for For {
    type Error = &'static str;
    fn try_from(written: WrittenFor) -> Result<Self, Self::Error> {
        match written {
            WrittenFor { wish: Some(wish), chosen, .. } => Ok(For::Wish { wish, chosen }),
            WrittenFor { procedure: Some(procedure), title, .. } => {
                Ok(For::Procedure { title: title.unwrap_or_else(|| procedure.to_string()), procedure })
            }
            WrittenFor { act: Some(act), of, .. } => Ok(For::Act { act, of }),
            _ => Err("a sequence is for a wish, for a procedure or for a further act"),
        }
    }
}

/// What a sequence is worked out for.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(try_from = "WrittenFor", into = "WrittenFor")]
#[schemars(!try_from, !into, with = "WrittenFor")]
pub enum For {
    /// A wish of a selection.
    Wish {
        /// The wish.
        wish: Wish,
        /// What was chosen.
        chosen: BTreeSet<Address>,
    },
    /// A procedure.
    Procedure {
        /// Its name.
        procedure: ProcedureName,
        /// What people call it.
        title: String,
    },
    /// A further act, asked for by itself.
    Act {
        /// The act.
        act: String,
        /// The selection it is of, as it was typed.
        of: Vec<String>,
    },
}

impl For {
    /// What it is, in a few words.
    pub fn says(&self) -> String {
        match self {
            For::Procedure { title, .. } => title.clone(),
            For::Act { act, of } => format!("{act} {}", of.join(", ")),
            For::Wish { wish, chosen } => {
                // Of ten thousand only the first is said, and this is said often.
                let mut all = chosen.iter();
                match (all.next(), all.next(), all.len()) {
                    (Some(one), None, _) => format!("{wish} {one}"),
                    (Some(first), Some(second), 0) => format!("{wish} {first}, {second}"),
                    (Some(first), Some(_), others) => format!("{wish} {first} and {} more", others + 1),
                    (None, ..) => wish.to_string(),
                }
            }
        }
    }
    /// The word that is typed to begin it.
    pub fn word(&self) -> &str {
        match self {
            For::Procedure { procedure, .. } => procedure.as_str(),
            For::Act { act, .. } => act,
            For::Wish { wish, .. } => wish.word(),
        }
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

/// What was said beside what a plan is for, and stands nowhere in its sequence: worked out anew it is asked with the same.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(default)]
pub struct AskedWith {
    /// Nothing else is to be moved along (R3).
    pub alone: bool,
    /// Which of the allowed orders is taken.
    pub prefer: Prefer,
    /// Units that a host's manager moves along, named one by one as `host:unit` (R38).
    #[serde(skip_serializing_if = "BTreeSet::is_empty")]
    pub along: BTreeSet<String>,
    /// What earlier runs had found up, by the words that asked for it (R37).
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub found_by: FoundBy,
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
