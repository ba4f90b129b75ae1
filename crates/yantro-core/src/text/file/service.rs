//! Services, as they are written.

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{kinds::*, rung::*, simulated::*};
use crate::words::{Expected, Force, Signal, time::Span};

/// `[service.NAME]` or `[like.NAME]`
#[derive(Debug, Clone, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct ServiceFile {
    /// What people call it.
    pub title: Option<String>,
    /// The common block it takes its settings from; what it says itself wins.
    pub like: Option<String>,
    /// The host it runs on.
    pub host: Option<String>,
    /// The hosts it runs on, a copy on each.
    pub hosts: Option<Vec<String>>,
    /// Named copies on each of its hosts; what a copy says itself wins.
    pub copies: Option<BTreeMap<String, CopyFile>>,
    /// Settings of the copies on one host, by host name; what a copy says itself wins over these.
    pub on: Option<BTreeMap<String, CopyFile>>,
    /// The groups it belongs to.
    pub groups: Vec<String>,
    /// What it cannot work without.
    pub relies_on: Vec<RelationFile>,
    /// Order only, where both are in play: started after these, stopped before them.
    pub yields_to: Vec<String>,
    /// What must not be up at the same time.
    pub never_with: Vec<String>,
    /// Whether it should be up.
    pub expected: Option<Expected>,
    /// Known and shipped, but off unless a host turns it on.
    pub optional: Option<bool>,
    /// What users notice while it is down.
    pub impact: Option<ImpactFile>,
    /// Watched, never acted on, for this reason.
    pub hands_off: Option<String>,
    /// Something else starts it again whenever it ends: who or what. It may be stopped, is never started by a run,
    /// and must come back as a new process within its start's patience.
    pub brought_back_by: Option<String>,
    /// Who owns it.
    pub owner: Option<String>,
    /// Its log files.
    pub logs: Vec<String>,
    /// Where its configuration is.
    pub configuration: Vec<String>,
    /// What carries it.
    pub run_by: Option<RunBy>,
    /// Its unit, for `run_by = "systemd"` (default: its name).
    pub unit: Option<String>,
    /// Whether the host's manager should bring it up by itself when the host boots, for `run_by = "systemd"`.
    pub at_boot: Option<bool>,
    /// Values of its own, put in wherever `{name}` stands.
    pub values: BTreeMap<String, ValueFile>,
    /// How it is run, for `run_by = "process"`.
    pub process: Option<ProcessFile>,
    /// Its commands, for `run_by = "commands"`.
    pub commands: Option<CommandsFile>,
    /// How it behaves, for `run_by = "simulated"`.
    pub simulated: Option<SimulatedFile>,
    /// How it is started.
    pub start: Option<StartFile>,
    /// How it is stopped.
    pub stop: Option<StopFile>,
    /// How it re-reads its configuration without a restart.
    pub reload: Option<ReloadFile>,
    /// Its checks, in order: proven when the last is climbed and it stayed for `steady`.
    pub ladder: Vec<RungFile>,
    /// How long it must stay on the last rung (default "0s").
    pub steady: Option<Span>,
    /// How many contrary looks in a row make it ailing (default 2).
    #[schemars(range(min = 1, max = 100))]
    pub ailing_after: Option<u32>,
    /// How often it is looked at while it stands as it should and no run has to do with it (default: each round, about every 2 s).
    pub look_every: Option<Span>,
    /// What happens when a step on it fails.
    pub if_it_fails: Option<IfItFailsFile>,
    /// Further acts of its own, by name: drain, pause, rotate its logs.
    pub acts: BTreeMap<String, ActFile>,
}

/// `[service.NAME.acts.ACT]`: a further act of a service, for procedures.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct ActFile {
    /// What people call it.
    pub title: Option<String>,
    /// The program and its arguments; run where, as whom and with what the service is.
    pub command: Vec<String>,
    /// What shows that it is through, in order.
    pub ladder: Vec<RungFile>,
    /// How long the command and climbing the ladder may take (default "60s").
    pub patience: Option<Span>,
    /// Exit codes that are fine (default 0).
    pub accept_exits: Option<Vec<i32>>,
    /// What users notice of it.
    pub impact: Option<ImpactFile>,
    /// It changes nothing, so that there is no way back to go.
    pub changes_nothing: bool,
    /// The further act that takes it back, by name.
    pub taken_back_by: Option<String>,
}

/// What a copy says for itself.
#[derive(Debug, Clone, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct CopyFile {
    /// What people call this copy.
    pub title: Option<String>,
    /// Values of its own, put in wherever `{name}` stands.
    pub values: BTreeMap<String, ValueFile>,
    /// Environment of its own.
    pub env: BTreeMap<String, String>,
    /// Whether this copy should be up.
    pub expected: Option<Expected>,
    /// Watched, never acted on, for this reason.
    pub hands_off: Option<String>,
    /// What this copy cannot work without, in the place of what the service says.
    pub relies_on: Option<Vec<RelationFile>>,
    /// What it comes after, where both are in play, in the place of what the service says.
    pub yields_to: Option<Vec<String>>,
    /// What must not be up at the same time as this copy, in the place of what the service says.
    pub never_with: Option<Vec<String>>,
}

/// A value: text or a whole number.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(untagged)]
pub enum ValueFile {
    /// Text.
    Text(String),
    /// A whole number.
    Number(i64),
}

/// How a process is run.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct ProcessFile {
    /// The program: an absolute path, a path from the estate's folder, or a name looked up in PATH.
    pub program: Option<String>,
    /// Its arguments, one each; no shell reads them.
    pub args: Vec<String>,
    /// Its working folder.
    pub dir: Option<String>,
    /// Its environment. A value "env:NAME" or "file:PATH" is a reference, resolved only at the act.
    pub env: BTreeMap<String, String>,
    /// The account it runs as.
    pub user: Option<String>,
    /// Which rights what it makes never gives, as umask(2) has them (default "022", here and over SSH alike).
    pub umask: Option<String>,
}

/// The commands of a service that is run by its own. Each is a program and its arguments.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct CommandsFile {
    /// Starts it.
    pub start: Vec<String>,
    /// Stops it.
    pub stop: Vec<String>,
    /// Stops it by force.
    pub force: Vec<String>,
    /// Has it re-read its configuration.
    pub reload: Vec<String>,
    /// Says whether it is up, by its exit code.
    pub state: Vec<String>,
    /// Exit codes of `state` that mean up (default 0).
    pub state_up: Option<Vec<i32>>,
    /// Exit codes of `state` that mean down (default 1 and 3).
    pub state_down: Option<Vec<i32>>,
    /// The working folder.
    pub dir: Option<String>,
    /// The environment. A value "env:NAME" or "file:PATH" is a reference, resolved only at the act.
    pub env: BTreeMap<String, String>,
    /// The account they run as.
    pub user: Option<String>,
    /// Which rights what they make never give, as umask(2) has them (default "022", here and over SSH alike).
    pub umask: Option<String>,
    /// How long any one of them may take (default "60s").
    pub within: Option<Span>,
}

/// `[service.NAME.start]`
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct StartFile {
    /// Waited before the act.
    pub pause_before: Option<Span>,
    /// Waited once it is proven, before what waits on it begins.
    pub pause_after: Option<Span>,
    /// How long climbing the ladder may take (default "60s").
    pub patience: Option<Span>,
    /// How long a start usually takes, for forecasts while there is no history.
    pub usually: Option<Span>,
    /// How often it is tried (default 1).
    #[schemars(range(min = 1, max = 20))]
    pub attempts: Option<u32>,
    /// The gap between attempts (default "5s").
    pub gap: Option<Span>,
    /// Exit codes of the start command that are fine (default 0), where it is run by commands.
    pub accept_exits: Option<Vec<i32>>,
    /// Log patterns of which each must appear, from this start on.
    #[schemars(with = "Vec<Pattern>")]
    pub must_see: Vec<String>,
    /// Log patterns of which none may appear, from this start on.
    #[schemars(with = "Vec<Pattern>")]
    pub must_not_see: Vec<String>,
    /// Known noise: a line matching one of these is no forbidden line.
    #[schemars(with = "Vec<Pattern>")]
    pub overlook: Vec<String>,
}

/// `[service.NAME.stop]`
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct StopFile {
    /// Waited before the act.
    pub pause_before: Option<Span>,
    /// Waited once it is down, before what waits on it begins.
    pub pause_after: Option<Span>,
    /// How long stopping may take before it has failed, or force is used (default "30s").
    pub patience: Option<Span>,
    /// How long a stop usually takes, for forecasts while there is no history.
    pub usually: Option<Span>,
    /// How often it is tried (default 1).
    #[schemars(range(min = 1, max = 20))]
    pub attempts: Option<u32>,
    /// The gap between attempts (default "5s").
    pub gap: Option<Span>,
    /// Exit codes of the stop command that are fine (default 0), where it is run by commands. How a unit or a process may end
    /// when it is asked to is not judged: it is down or not.
    pub accept_exits: Option<Vec<i32>>,
    /// The signal that asks a process to stop (default "TERM").
    pub signal: Option<Signal>,
    /// Whether force may be used once patience has passed (default "ask").
    pub force: Option<Force>,
    /// Commands run before a force, to gather what is lost by it.
    pub evidence: Vec<Vec<String>>,
    /// Log patterns of which each must appear, from this stop on.
    #[schemars(with = "Vec<Pattern>")]
    pub must_see: Vec<String>,
    /// Log patterns of which none may appear, from this stop on.
    #[schemars(with = "Vec<Pattern>")]
    pub must_not_see: Vec<String>,
    /// Known noise: a line matching one of these is no forbidden line.
    #[schemars(with = "Vec<Pattern>")]
    pub overlook: Vec<String>,
}

/// `[service.NAME.reload]`
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct ReloadFile {
    /// The signal that makes a process re-read its configuration (default "HUP").
    pub signal: Option<Signal>,
    /// Waited before the act.
    pub pause_before: Option<Span>,
    /// Waited once it is proven again.
    pub pause_after: Option<Span>,
    /// How long it may take to be proven again (default: the start's patience).
    pub patience: Option<Span>,
    /// Exit codes of the reload command that are fine (default 0).
    pub accept_exits: Option<Vec<i32>>,
    /// Log patterns of which each must appear, from this reload on.
    #[schemars(with = "Vec<Pattern>")]
    pub must_see: Vec<String>,
    /// Log patterns of which none may appear, from this reload on.
    #[schemars(with = "Vec<Pattern>")]
    pub must_not_see: Vec<String>,
    /// Known noise: a line matching one of these is no forbidden line.
    #[schemars(with = "Vec<Pattern>")]
    pub overlook: Vec<String>,
}
