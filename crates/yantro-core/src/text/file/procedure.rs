//! Procedures, their questions and steps, as they are written.

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{kinds::*, rung::*, service::*};
use crate::words::{PersonKind, QuestionKind, Unanswered, time::Span};

/// `[procedure.NAME]`: a written sequence that mixes services with work.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct ProcedureFile {
    /// What people call it.
    pub title: Option<String>,
    /// What it is for, in a sentence or two.
    pub purpose: Option<String>,
    /// What it asks before it begins, by name. An answer is used as `{name}`.
    pub questions: BTreeMap<String, QuestionFile>,
    /// What happens when a step fails, where neither the step nor its service says.
    pub if_it_fails: Option<IfItFailsFile>,
    /// How long a run of it may be held before it is put back by itself (default: without end).
    pub held_at_most: Option<Span>,
    /// Its steps. One goes after another, unless a step is said to go alongside.
    pub steps: Vec<StepFile>,
}

/// A question that a procedure asks before it begins.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct QuestionFile {
    /// The question, for people.
    pub asks: Option<String>,
    /// What the answer is (default text).
    pub kind: Option<QuestionKind>,
    /// Taken where nothing is answered. Without it, it must be answered.
    pub default: Option<ValueFile>,
    /// A text must match this as a whole.
    pub allowed: Option<String>,
    /// The answers to choose from.
    pub choices: Vec<String>,
    /// The smallest number allowed.
    pub at_least: Option<i64>,
    /// The largest number allowed.
    pub at_most: Option<i64>,
}

/// Deeds that move services.
const MOVES: &[&str] = &["stop", "start", "restart", "reload", "shut_down", "power_on", "reboot", "power_cycle"];
const WORK: &[&str] = &["work", "script"];

/// Keys of a step that mean something only beside certain deeds, each list with those.
pub(crate) const MEAN_ONLY_BESIDE: [(&[&str], &[&[&str]]); 8] = [
    (&["except", "alone", "left_standing"], &[MOVES]),
    (&["below_keep_up"], &[MOVES, &["bring_back"]]),
    (&["of"], &[&["act"]]),
    (&["dir", "env", "user", "accept_exits", "keep", "changes_nothing", "while_down", "while_up", "counter"], &[WORK]),
    (&["on"], &[WORK, &["until", "look"]]),
    (&["preflight"], &[&["look"]]),
    (&["to"], &[&["announce"]]),
    (&["patience", "attempts", "gap"], &[MOVES, WORK, &["bring_back", "act", "until", "look", "announce"]]),
];

/// One step of a procedure. It says one thing to do: `stop`, `start`, `restart`, `reload`, `shut_down`, `power_on`,
/// `reboot`, `power_cycle`, `act`, `bring_back`, `work`, `script`, `pause`, `until`, `until_time`, `question`, `look` or `announce`.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct StepFile {
    /// What later steps call it.
    pub name: Option<String>,
    /// What people call it.
    pub title: Option<String>,
    /// It begins together with the step before it, not after it.
    pub alongside: bool,

    /// Stops these, with what relies on them.
    pub stop: Option<Vec<String>>,
    /// Starts these, with what they need.
    pub start: Option<Vec<String>>,
    /// Restarts these, with what relies on them.
    pub restart: Option<Vec<String>>,
    /// Has these re-read their configuration.
    pub reload: Option<Vec<String>>,
    /// Shuts these hosts down, with all on them and all that relies on them.
    pub shut_down: Option<Vec<String>>,
    /// Powers these hosts on.
    pub power_on: Option<Vec<String>>,
    /// Reboots these hosts; all on them that was up, and all that relies on it, is down meanwhile and comes back.
    pub reboot: Option<Vec<String>>,
    /// The same, by their power.
    pub power_cycle: Option<Vec<String>>,
    /// Leaves these out of it.
    pub except: Vec<String>,
    /// Only these, without what relies on them or what they need.
    pub alone: bool,
    /// Services, by address, that may stand on what is not proven.
    pub left_standing: Vec<String>,
    /// Groups that may fall below what they keep up.
    pub below_keep_up: Vec<String>,
    /// A further act of the services in `of`, by its name.
    pub act: Option<String>,
    /// The services that `act` is for.
    pub of: Vec<String>,
    /// Starts again what these earlier steps took down, as it was found; `["all"]` for all of them.
    pub bring_back: Option<Vec<String>>,

    /// Runs a program: its name and its arguments, one each. No shell reads them.
    pub work: Option<Vec<String>>,
    /// Runs these lines with /bin/sh. Values reach it as `$VALUE_NAME`, never as part of its text.
    pub script: Option<String>,
    /// The host that work, looks and waits are on.
    pub on: Option<String>,
    /// The working folder of work.
    pub dir: Option<String>,
    /// The environment of work. A value "env:NAME" or "file:PATH" is a reference, resolved only at the act.
    pub env: BTreeMap<String, String>,
    /// The account that work runs as.
    pub user: Option<String>,
    /// Exit codes of work that are fine (default 0).
    pub accept_exits: Option<Vec<i32>>,
    /// Pieces of the output of work to keep, by name: a pattern whose first group is the piece.
    #[schemars(with = "BTreeMap<String, Pattern>")]
    pub keep: BTreeMap<String, String>,
    /// Work that changes nothing needs no way back.
    pub changes_nothing: bool,
    /// Services that must be down while this work goes on: it does not begin beside one that is not, and is not done where one came
    /// up meanwhile.
    pub while_down: Vec<String>,
    /// Services that must be up, and proven, while this work goes on.
    pub while_up: Vec<String>,
    /// The way back, for when the run is put back.
    pub counter: Option<CounterFile>,

    /// Waits for so long.
    pub pause: Option<Span>,
    /// Waits until these rungs hold, in order.
    pub until: Vec<RungFile>,
    /// Waits until a time of day, such as "02:30", in the estate's time zone.
    pub until_time: Option<String>,
    /// Asks a person.
    pub question: Option<PersonFile>,
    /// Proves that something holds now.
    pub look: Option<RungFile>,
    /// The look is taken before the first act of the whole procedure, and refuses it.
    pub preflight: bool,
    /// Tells people something.
    pub announce: Option<String>,
    /// Where it is told besides the run's record: a page that takes CloudEvents.
    pub to: Option<String>,

    /// Waited before it begins.
    pub pause_before: Option<Span>,
    /// Waited once it is through.
    pub pause_after: Option<Span>,
    /// How long it may take; for service steps, in the place of the service's own.
    pub patience: Option<Span>,
    /// How long it usually takes, for forecasts while there is no history.
    pub usually: Option<Span>,
    /// How often it is tried.
    #[schemars(range(min = 1, max = 20))]
    pub attempts: Option<u32>,
    /// The gap between attempts.
    pub gap: Option<Span>,
    /// What happens when it fails.
    pub if_it_fails: Option<IfItFailsFile>,
}

/// The way back of work.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct CounterFile {
    /// What people call it.
    pub title: Option<String>,
    /// Runs a program: its name and its arguments, one each.
    pub work: Option<Vec<String>>,
    /// Runs these lines with /bin/sh.
    pub script: Option<String>,
    /// Exit codes that are fine (default 0).
    pub accept_exits: Option<Vec<i32>>,
    /// How long it may take (default: as long as the work).
    pub patience: Option<Span>,
}

/// A question to a person in the middle of a run.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct PersonFile {
    /// The question.
    pub asks: Option<String>,
    /// What to look at before answering.
    pub look_at: Option<String>,
    /// Who may answer; nobody named: anyone who may run things.
    pub who: Vec<String>,
    /// What the answer is: yes or no (the default), or a value kept under the step's name.
    pub kind: Option<PersonKind>,
    /// How long an answer is waited for (default: without end).
    pub limit: Option<Span>,
    /// What it means when the limit passes: the answer "yes" or "no", or that it failed (the default).
    pub unanswered: Option<Unanswered>,
}
