//! What goes over the wire besides the engine's own types.

use std::collections::BTreeSet;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use yantro_core::{
    model::procedure::Procedure,
    plan::{Plan, StepId, forecast::plays::Forecast},
    run::{DecisionKind, RunId, RunSummary},
    text::Fault,
    words::{
        name::{Address, HostName, ProcedureName},
        time::Timestamp,
    },
};

/// Units of a host to be described as services of the estate.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Adoption {
    /// The host.
    pub host: HostName,
    /// The units, by their whole names.
    pub units: Vec<String>,
    /// Why.
    #[serde(default)]
    pub why: Option<String>,
}

/// An estate to vet or to load.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct EstateText {
    /// The file's text.
    pub text: String,
    /// The folder that relative paths start from.
    pub folder: String,
    /// Why it is loaded.
    #[serde(default)]
    pub why: Option<String>,
    /// Loaded even where it lacks what was edited here since the last load.
    #[serde(default)]
    pub over_edits: bool,
}

/// What vetting found.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
pub struct VetOutcome {
    /// Whether it could be loaded.
    pub good: bool,
    /// Errors and warnings.
    pub faults: Vec<Fault>,
}

/// The loaded estate.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
pub struct EstateView {
    /// Its edition.
    pub edition: u64,
    /// The file's text.
    pub text: String,
}

/// A plan, with what it takes to begin it.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
pub struct PlanView {
    /// The plan.
    #[serde(flatten)]
    pub plan: Plan,
    /// The digest of what is agreed to by beginning it: sent with the begin as `shown`, what is begun is this.
    pub digest: String,
    /// Whether it can be begun as it is.
    pub can_begin: bool,
    /// One sentence: what will be hit, who notices, for how long, what is left alone.
    pub says: String,
    /// How long it takes.
    pub forecast: Forecast,
}

/// A procedure in a list.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
pub struct ProcedureSummary {
    /// Its name.
    pub name: ProcedureName,
    /// What people call it.
    pub title: String,
    /// What it is for.
    pub purpose: Option<String>,
    /// How many lines it has.
    pub lines: u32,
    /// What it asks before it begins, by name.
    pub asks: Vec<String>,
}

/// A procedure in full.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
pub struct ProcedureView {
    /// The edition of the estate.
    pub edition: u64,
    /// The procedure.
    #[serde(flatten)]
    pub procedure: Procedure,
    /// Its lines in words.
    pub says: Vec<String>,
}

/// A note on a run.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct NoteRequest {
    /// What is to be remembered.
    pub text: String,
}

/// A run that was begun.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
pub struct RunBegun {
    /// Its number.
    pub id: RunId,
}

/// A page of runs.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
pub struct RunPage {
    /// The runs, the newest first.
    pub runs: Vec<RunSummary>,
    /// Where the next page begins: give it as `before`.
    pub next: Option<RunId>,
}

/// A decision on a run.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
pub struct DecisionRequest {
    /// What.
    #[serde(flatten)]
    pub kind: DecisionKind,
    /// The hold it answers.
    #[serde(default)]
    pub hold: Option<u32>,
    /// The digest of what it was shown to do: where it would do more by now, it is refused, with the difference. To go on with a
    /// run that things changed for it is needed, and is that of what it would do now.
    #[serde(default)]
    pub shown: Option<String>,
    /// Why.
    #[serde(default)]
    pub why: Option<String>,
}

/// That a forbidden line in a service's log is known, and no longer counts against it.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Acknowledgement {
    /// The service.
    pub address: Address,
    /// Why it no longer counts.
    pub why: String,
}

/// That this server acts on a host from now on, and no other.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct TakeOver {
    /// The host.
    pub host: HostName,
    /// Why.
    pub why: String,
    /// The digest of what it was shown to do: where it would do more by now, it is refused, with the difference.
    #[serde(default)]
    pub shown: Option<String>,
}

/// Hosts that are out of reach, to be tried at once.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ReachRequest {
    /// The hosts.
    pub hosts: Vec<HostName>,
}

/// The one switch.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct StandstillRequest {
    /// Whether everything is to be held.
    pub on: bool,
    /// The digest of what lifting it was shown to do: where more would go on by now, it is refused, with the difference.
    #[serde(default)]
    pub shown: Option<String>,
}

/// What a service relies on, and what relies on it.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
pub struct Relations {
    /// The service.
    pub address: Address,
    /// What it relies on, one relation away.
    pub relies_on: BTreeSet<Address>,
    /// What it needs in all.
    pub needs: BTreeSet<Address>,
    /// What relies on it, one relation away.
    pub reliant: BTreeSet<Address>,
    /// What goes down with it in all.
    pub takes_with_it: BTreeSet<Address>,
}

/// A link for signing in to the console, good once.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
pub struct SignInLink {
    /// The path, from the server's root.
    pub path: String,
}

/// One line of the audit trail.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
pub struct AuditLine {
    /// When.
    pub at: Timestamp,
    /// Who.
    pub who: String,
    /// What was done.
    pub what: String,
    /// To what.
    pub about: String,
    /// Why.
    pub why: Option<String>,
}

/// One line of a followed log.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
pub struct FollowedLine {
    /// The service.
    pub address: Address,
    /// The file.
    pub source: String,
    /// The line; where the log may not be read, why.
    pub text: String,
    /// When it was written, by its host's clock, where its log tells that by itself: a journal does. A file's lines have
    /// their time in their text, or none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub when: Option<Timestamp>,
    /// Whether the line says that the log cannot be read.
    pub unreadable: bool,
    /// No line of the log, but an act that was given here: what follows was written after it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub act: Option<FollowedAct>,
}

impl FollowedLine {
    /// What its log is called, in short: the file's own name, or that it is the manager's journal.
    pub fn log(&self) -> &str {
        if self.source.starts_with("journal:") { "journal" } else { self.source.rsplit('/').next().unwrap_or(&self.source) }
    }
}

/// An act between the lines of a followed log.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct FollowedAct {
    /// The run.
    pub run: RunId,
    /// The step.
    pub step: StepId,
    /// When it was given.
    pub at: Timestamp,
}

/// One sentence on a plan: what will be hit, who notices, for how long, and what is left alone.
pub fn plan_says(plan: &Plan) -> String {
    use yantro_core::words::{ImpactLevel, kinds::StepKind};
    let count = |kind: StepKind| plan.sequence.steps.iter().filter(|s| s.kind() == kind).count();
    let mut parts: Vec<String> = Vec::new();
    let plural = |n: usize| if n == 1 { "service" } else { "services" };
    let (stops, starts, reloads) = (count(StepKind::Stop), count(StepKind::Start), count(StepKind::Reload));
    match (stops, starts, reloads) {
        (0, 0, 0) => parts.push("nothing is acted on".to_owned()),
        (0, starts, 0) => parts.push(format!("starts {starts} {}", plural(starts))),
        (stops, 0, 0) => parts.push(format!("stops {stops} {}", plural(stops))),
        (0, 0, reloads) => parts.push(format!("reloads {reloads} {}", plural(reloads))),
        (stops, starts, _) => parts.push(format!("stops {stops} and starts {starts} {}", plural(starts))),
    }
    let tasks = plan.sequence.steps.iter().filter(|s| s.task().is_some()).count();
    if tasks > 0 {
        parts.push(format!("{tasks} step{} of work, waits and looks between", if tasks == 1 { "" } else { "s" }));
    }
    let gravest = plan.hits.first().map(|h| h.impact.level);
    let longest = plan.hits.iter().filter(|h| Some(h.impact.level) == gravest).filter_map(|h| h.usual_ms).max();
    let length = longest.map_or(String::new(), |ms| format!(" for about {}", roughly(ms)));
    match gravest {
        Some(ImpactLevel::Outage) => parts.push(format!("users lose something{length}")),
        Some(ImpactLevel::Brief) => parts.push(format!("users notice a short interruption{length}")),
        Some(ImpactLevel::None) | None => parts.push("users notice nothing".to_owned()),
    }
    if !plan.left_alone.is_empty() {
        parts.push(format!("{} nearby {} left alone", plan.left_alone.len(), if plan.left_alone.len() == 1 { "is" } else { "are" }));
    }
    let mut says = parts.join("; ");
    if let Some(first) = says.get(..1).map(str::to_uppercase) {
        says.replace_range(..1, &first);
    }
    says + "."
}

/// A length of time as people say it.
pub fn roughly(ms: u64) -> String {
    match ms {
        0..1_000 => "a moment".to_owned(),
        1_000..100_000 => format!("{} s", ms.div_ceil(1000)),
        100_000..6_000_000 => format!("{} min", ms.div_ceil(60_000)),
        _ => format!("{:.1} h", ms as f64 / 3_600_000.0),
    }
}
