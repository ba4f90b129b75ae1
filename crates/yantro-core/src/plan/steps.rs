//! Steps: what each is about, why it is there, and what it waits for.

use std::{fmt, sync::Arc};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::{
    model::{
        Service, ServiceRunner,
        procedure::Settings,
        task::{Task, Work},
    },
    plan::forecast::Basis,
    proof::SeenState,
    words::{
        kinds::StepKind,
        name::{Address, HostName},
    },
};

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
