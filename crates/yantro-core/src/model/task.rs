//! What a step does that is no stop, start or reload of a service: the work, waits, questions, looks and
//! announcements of a procedure, and a service's further acts.

use std::collections::{BTreeMap, BTreeSet};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::Value;

use crate::{
    model::{
        fill,
        rung::Rung,
        service::{CommandsSpec, Impact, Service, ServiceRunner},
    },
    words::{
        Expected, PersonKind, Unanswered,
        kinds::StepKind,
        name::{Address, HostName, ServiceName},
        time::Span,
    },
};

/// A command or a script.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Work {
    /// The host it runs on.
    pub host: HostName,
    /// Program and arguments; for a script, the shell that reads it.
    pub command: Vec<String>,
    /// The script's text, where it is one. Values reach it in its environment only.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub script: Option<String>,
    /// The working folder.
    pub dir: String,
    /// The environment; values may be references.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub env: BTreeMap<String, String>,
    /// Values that are references to secrets: answers to questions that ask for one. No other value from outside ever is.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub secrets: BTreeSet<String>,
    /// Names of the environment whose value came from outside, and is taken to the letter. Known once it is filled.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub to_the_letter: BTreeSet<String>,
    /// The account it runs as, where not the server's.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub user: Option<String>,
    /// How long it may take.
    pub within: Span,
    /// Exit codes that are fine.
    pub accept_exits: Vec<i32>,
    /// Pieces of its output to keep, by name: patterns whose first group is the piece.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub keep: BTreeMap<String, String>,
    /// Whether it changes nothing, so that there is no way back to go.
    #[serde(default)]
    pub changes_nothing: bool,
    /// Services that must be down while it works.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub while_down: BTreeSet<Address>,
    /// Services that must be proven while it works.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub while_up: BTreeSet<Address>,
    /// Its way back.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub counter: Option<Box<Counter>>,
}

/// The way back of work.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Counter {
    /// What people call it.
    pub title: String,
    /// What it does.
    pub work: Work,
}

/// A question to a person in the middle of a run.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Question {
    /// The question.
    pub asks: String,
    /// What to look at before answering.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub look_at: Option<String>,
    /// Who may answer; empty: anyone who may run things.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub who: Vec<String>,
    /// What the answer is.
    pub answer: PersonKind,
    /// The name that a value is kept under.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub keep: Option<String>,
    /// How long an answer is waited for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub limit: Option<Span>,
    /// What it means when the limit passes.
    pub unanswered: Unanswered,
}

/// What a step does, where that is no stop, start or reload.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(tag = "kind", rename_all = "kebab-case")]
#[schemars(transform = both_parts)]
pub enum Task {
    /// A further act of a service.
    Act {
        /// The service.
        address: Address,
        /// The act's name.
        act: String,
    },
    /// A command or a script.
    Work(Work),
    /// Waits for so long.
    Pause {
        /// How long.
        length: Span,
    },
    /// Waits until rungs hold.
    Until {
        /// Where they are looked at.
        host: HostName,
        /// The rungs, in order.
        rungs: Vec<Rung>,
    },
    /// Waits until a time of day.
    UntilTime {
        /// The time, as `HH:MM`.
        time: String,
        /// The IANA zone it is meant in.
        zone: String,
    },
    /// Asks a person.
    Question(Question),
    /// Proves that something holds now.
    Look {
        /// Where it is looked at.
        host: HostName,
        /// What is looked at.
        rung: Rung,
    },
    /// Tells people something.
    Announce {
        /// What.
        says: String,
        /// The page it is told to, besides the run's record.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        to: Option<String>,
    },
    /// Something that only a person can put back.
    ByHand {
        /// What.
        says: String,
    },
}

/// A tagged variant that refers to a type of its own is both: readers of the schema that take a reference for
/// the whole would lose the tag.
fn both_parts(schema: &mut schemars::Schema) {
    for variant in schema.get_mut("oneOf").and_then(Value::as_array_mut).into_iter().flatten() {
        if let Some(reference) = take(variant, "$ref") {
            let tag = variant.take();
            *variant = serde_json::json!({ "allOf": [{ "$ref": reference }, tag] });
        }
    }
}

impl Task {
    /// What kind of step it is.
    pub fn kind(&self) -> StepKind {
        match self {
            Task::Act { .. } => StepKind::Act,
            Task::Work(_) => StepKind::Work,
            Task::Pause { .. } => StepKind::Pause,
            Task::Until { .. } => StepKind::Until,
            Task::UntilTime { .. } => StepKind::UntilTime,
            Task::Question(_) => StepKind::Question,
            Task::Look { .. } => StepKind::Look,
            Task::Announce { .. } => StepKind::Announce,
            Task::ByHand { .. } => StepKind::ByHand,
        }
    }

    /// The host it takes place on, where it does.
    pub fn host(&self) -> Option<&HostName> {
        match self {
            Task::Act { address, .. } => Some(&address.host),
            Task::Work(work) => Some(&work.host),
            Task::Until { host, .. } | Task::Look { host, .. } => Some(host),
            Task::Pause { .. } | Task::UntilTime { .. } | Task::Question(_) | Task::Announce { .. } | Task::ByHand { .. } => None,
        }
    }

    /// What it does, in a few words, where its step has no title.
    pub fn says(&self) -> String {
        let base = |p: &str| p.rsplit('/').next().unwrap_or(p).to_owned();
        match self {
            Task::Act { address, act } => format!("{act} {address}"),
            Task::Work(Work { script: Some(script), .. }) => {
                let first = script.lines().map(str::trim).find(|l| !l.is_empty() && !l.starts_with('#')).unwrap_or_default();
                format!("script: {}", shortened(first))
            }
            Task::Work(work) => work.command.first().map_or_else(|| "work".to_owned(), |p| base(p)),
            Task::Pause { length } => format!("pause {length}"),
            Task::Until { rungs, .. } => {
                let rungs: Vec<String> = rungs.iter().map(|r| r.kind.says()).collect();
                format!("wait until {}", rungs.join(", "))
            }
            Task::UntilTime { time, .. } => format!("wait until {time}"),
            Task::Question(question) => shortened(&question.asks),
            Task::Look { rung, .. } => format!("look: {}", rung.kind.says()),
            Task::Announce { says, .. } => format!("announce: {}", shortened(says)),
            Task::ByHand { says } => says.clone(),
        }
    }

    /// With `{name}` replaced by its value everywhere; an error names a value that is not known.
    ///
    /// A value is put in once and is never read for names itself; a script's text and the patterns that
    /// keep its output are left as they are.
    pub fn filled(&self, values: &BTreeMap<String, String>) -> Result<Task, String> {
        let mut node = serde_json::to_value(self).expect("our own types have text keys only");
        let aside = [take(&mut node, "script"), take(&mut node, "keep"), take(&mut node, "counter")];
        let mut unfilled = Vec::new();
        fill::fill(&mut node, values, "", &mut unfilled);
        if let Some(missing) = unfilled.first() {
            return Err(missing.name.clone());
        }
        let [script, keep, counter] = aside;
        for (key, value) in [("script", script), ("keep", keep), ("counter", counter)] {
            if let (Some(map), Some(value)) = (node.as_object_mut(), value) {
                map.insert(key.to_owned(), value);
            }
        }
        let mut task: Task = serde_json::from_value(node).map_err(|e| e.to_string())?;
        if let (Task::Work(work), Task::Work(written)) = (&mut task, self) {
            work.to_the_letter = written.env.iter().filter(|(_, v)| is_from_outside(v, &written.secrets)).map(|(n, _)| n.clone()).collect();
            if work.script.is_some() {
                for (name, value) in values.iter().filter(|(n, _)| !written.env.contains_key(&value_name(n))) {
                    work.env.insert(value_name(name), value.clone());
                    if !written.secrets.contains(name) {
                        work.to_the_letter.insert(value_name(name));
                    }
                }
            }
        }
        Ok(task)
    }

    /// Every name of a value that it uses.
    pub fn uses(&self) -> Vec<String> {
        let mut node = serde_json::to_value(self).expect("our own types have text keys only");
        take(&mut node, "script");
        take(&mut node, "keep");
        let mut unfilled = Vec::new();
        fill::fill(&mut node, &BTreeMap::new(), "", &mut unfilled);
        unfilled.into_iter().map(|u| u.name).collect()
    }

    /// The service that stands for it where it is acted or looked at: its command is the start command, its
    /// rungs are the ladder. `of` is the service that a further act belongs to.
    pub fn as_service(&self, name: &str, of: Option<&Service>, patience: Span) -> Option<Service> {
        match self {
            Task::Act { act, .. } => {
                let service = of?;
                let act = service.acts.get(act)?;
                let mut stands = service.clone();
                stands.ladder.clone_from(&act.ladder);
                Some(stands)
            }
            Task::Work(work) => {
                let mut command = work.command.clone();
                command.extend(work.script.clone());
                let spec = CommandsSpec {
                    start: command,
                    dir: work.dir.clone(),
                    env: work.env.clone(),
                    to_the_letter: work.to_the_letter.clone(),
                    user: work.user.clone(),
                    ..CommandsSpec::once(Vec::new(), work.within)
                };
                Some(stand_in(&work.host, name, ServiceRunner::Commands(spec), Vec::new()))
            }
            Task::Until { host, rungs } => {
                Some(stand_in(host, name, ServiceRunner::Commands(CommandsSpec::once(Vec::new(), patience)), rungs.clone()))
            }
            Task::Look { host, rung } => {
                Some(stand_in(host, name, ServiceRunner::Commands(CommandsSpec::once(Vec::new(), patience)), vec![rung.clone()]))
            }
            Task::Pause { .. } | Task::UntilTime { .. } | Task::Question(_) | Task::Announce { .. } | Task::ByHand { .. } => None,
        }
    }

    /// The service whose command a further act is: run where, as whom and with what the service is.
    pub fn act_of(service: &Service, act: &str) -> Option<Service> {
        let further = service.acts.get(act)?;
        let umask = Some(service.runner.umask());
        let (dir, env, user) = match &service.runner {
            ServiceRunner::Process(p) => (p.dir.clone(), p.env.clone(), p.user.clone()),
            ServiceRunner::Commands(c) => (c.dir.clone(), c.env.clone(), c.user.clone()),
            // What its manager is told of a unit takes the rights that starting it takes.
            ServiceRunner::Systemd(_) => ("/".to_owned(), BTreeMap::new(), further.at_rest.then(|| "root".to_owned())),
            ServiceRunner::Host(_) | ServiceRunner::Outlet(_) | ServiceRunner::Simulated(_) => ("/".to_owned(), BTreeMap::new(), None),
        };
        let mut stands = service.clone();
        stands.runner = ServiceRunner::Commands(CommandsSpec {
            start: further.command.clone(),
            dir,
            env,
            user,
            umask,
            ..CommandsSpec::once(Vec::new(), further.patience)
        });
        Some(stands)
    }
}

/// Whether what a text of the environment comes to is anybody's word from outside: it has a value in it that is neither the
/// estate's own nor a whole answer that names a secret.
fn is_from_outside(text: &str, secrets: &BTreeSet<String>) -> bool {
    let used = fill::names(text);
    let whole = |name: &String| *text == format!("{{{name}}}") && secrets.contains(name);
    used.iter().any(|n| n != "dir" && !whole(n))
}

/// The name under which a value reaches a script.
pub fn value_name(name: &str) -> String {
    format!("VALUE_{}", name.to_ascii_uppercase().replace('-', "_"))
}

fn shortened(text: &str) -> String {
    if text.chars().count() <= 60 { text.to_owned() } else { text.chars().take(59).collect::<String>() + "…" }
}

fn take(node: &mut Value, key: &str) -> Option<Value> {
    node.as_object_mut()?.remove(key)
}

/// A service of no estate, for looking and acting where something is no service's.
pub fn stand_in(host: &HostName, name: &str, runner: ServiceRunner, ladder: Vec<Rung>) -> Service {
    let service: ServiceName = name.parse().expect("names of steps are made of letters, digits and strokes");
    Service {
        address: Address { host: host.clone(), service, copy: None },
        title: name.to_owned(),
        groups: Default::default(),
        relies_on: Vec::new(),
        yields_to: Default::default(),
        never_with: Default::default(),
        expected: Expected::Either,
        impact: Impact::default(),
        hands_off: None,
        brought_back_by: None,
        owner: None,
        logs: Vec::new(),
        configuration: Vec::new(),
        runner,
        start: Default::default(),
        stop: Default::default(),
        reload: None,
        ladder,
        steady: Span::default(),
        ailing_after: 2,
        look_every: None,
        if_it_fails: None,
        acts: BTreeMap::new(),
    }
}
