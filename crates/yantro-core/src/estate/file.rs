//! The estate file as it is written: every key, its type and what it means.
//!
//! These types are the one source for reading the file, for vetting its structure, and for the
//! published JSON Schema. All keys are optional here, so that a file with faults can still be
//! read as far as it goes; what must be there is asked for by the vetting.

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::time::Span;

/// A whole estate: everything Yantro looks after.
#[derive(Debug, Clone, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
#[schemars(title = "Yantro estate")]
pub struct EstateFile {
    /// What the estate is called and what it stands for.
    pub estate: HeadFile,
    /// How much may be acted on at once, over all runs.
    pub limits: LimitsFile,
    /// How what is simulated goes.
    pub simulation: SimulationFile,
    /// The hosts, by name.
    pub host: BTreeMap<String, HostFile>,
    /// Groups of services, by name.
    pub group: BTreeMap<String, GroupFile>,
    /// Common blocks that services take their settings from with `like`.
    pub like: BTreeMap<String, ServiceFile>,
    /// The services, by name.
    pub service: BTreeMap<String, ServiceFile>,
    /// Hours in which disruptive runs are refused, by name.
    pub freeze: BTreeMap<String, FreezeFile>,
    /// Hours for which a run must fit, by name.
    pub window: BTreeMap<String, WindowFile>,
    /// Written, named sequences that mix services with work, by name.
    pub procedure: BTreeMap<String, ProcedureFile>,
}

/// `[estate]`: the whole.
#[derive(Debug, Clone, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct HeadFile {
    /// What the estate is called.
    pub name: Option<String>,
    /// What it stands for: shown in every question and at the top of every page.
    pub stands_for: Option<StandsFor>,
    /// The folder that relative paths start from; without it, the folder the file was loaded from.
    pub dir: Option<String>,
    /// IANA time zone in which hours are shown to people, such as "Europe/London".
    pub time_zone: Option<String>,
}

/// What an estate stands for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum StandsFor {
    /// People depend on it now.
    Production,
    /// As good as production, for trying things before they go there.
    Rehearsal,
    /// For testing.
    Test,
    /// For building.
    Development,
    /// For teaching and showing.
    Demonstration,
}

/// `[limits]`: over everything and all runs.
#[derive(Debug, Clone, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct LimitsFile {
    /// How many steps may act or prove at once, over all (default: no limit).
    #[schemars(range(min = 1))]
    pub at_once: Option<u32>,
    /// How many on any one host (default: no limit).
    #[schemars(range(min = 1))]
    pub per_host: Option<u32>,
}

/// `[simulation]`: how time and chance go for what is simulated.
#[derive(Debug, Clone, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct SimulationFile {
    /// How much faster than the clock it goes (default 1): with 60, what takes a minute takes a second.
    #[schemars(range(min = 0.01, max = 1000))]
    pub speed: Option<f64>,
    /// What chance is drawn from (default 1): the same number, the same luck.
    pub seed: Option<u64>,
}

/// `simulated = { … }` of a service or host that is simulated: how it behaves.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct SimulatedFile {
    /// How long it takes to come up, half the time (default: what its start usually takes, else 2 s; a host 40 s).
    pub starts: Option<Span>,
    /// How long it takes to go down, half the time (default: what its stop usually takes, else 1 s; a host 10 s).
    pub stops: Option<Span>,
    /// How far times spread: of the logarithm, so that with 0.3 two in three are within a third (default 0.2).
    #[schemars(range(min = 0.0, max = 3.0))]
    pub spread: Option<f64>,
    /// How often a start comes to nothing, from 0 to 1 (default 0).
    #[schemars(range(min = 0.0, max = 1.0))]
    pub fails: Option<f64>,
    /// How often a stop is not heeded, from 0 to 1 (default 0).
    #[schemars(range(min = 0.0, max = 1.0))]
    pub clings: Option<f64>,
    /// Whether it is down to begin with (default: it is up, unless it is expected to be down).
    pub begins_down: Option<bool>,
}

/// `[host.NAME]`
#[derive(Debug, Clone, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct HostFile {
    /// What people call it.
    pub title: Option<String>,
    /// How it is reached.
    pub reach: Option<Reach>,
    /// Its network address. For `reach = "here"`, a loopback address.
    pub address: Option<String>,
    /// What the SSH client needs besides the address, for `reach = "ssh"`. What is left out is as people's own
    /// configuration of OpenSSH has it.
    pub ssh: Option<SshFile>,
    /// How many steps may act or prove at once on this host.
    #[schemars(range(min = 1))]
    pub at_once: Option<u32>,
    /// Optional services that are on here.
    pub turns_on: Vec<String>,
    /// Its power, where the host itself is to be shut down, powered on and rebooted. What follows is about the host
    /// as such a thing, and takes this.
    pub power: Option<PowerFile>,
    /// Hosts that it cannot work without: powered on before it, shut down after it.
    pub relies_on: Vec<String>,
    /// Order only, where both are in play: powered on after these hosts, shut down before them.
    pub yields_to: Vec<String>,
    /// Whether the host should be on (default "either").
    pub expected: Option<Expected>,
    /// What users notice while it is off.
    pub impact: Option<ImpactFile>,
    /// The host itself is watched, never acted on, for this reason.
    pub hands_off: Option<String>,
    /// Who owns it.
    pub owner: Option<String>,
    /// How it is powered on; its patience is that of the way up to the last rung.
    pub start: Option<StartFile>,
    /// How it is shut down. Its `force` says whether its power may be cut when it does not go down by itself.
    pub stop: Option<StopFile>,
    /// Its checks, in order (default: ping, reached, booted).
    pub ladder: Vec<RungFile>,
    /// How long it must stay on the last rung (default "0s").
    pub steady: Option<Span>,
    /// How many contrary looks in a row make it ailing (default 2).
    #[schemars(range(min = 1, max = 100))]
    pub ailing_after: Option<u32>,
    /// What happens when a step on it fails.
    pub if_it_fails: Option<IfItFailsFile>,
    /// How the host itself behaves, for `reach = "simulated"`.
    pub simulated: Option<SimulatedFile>,
}

/// `[host.NAME.power]`: what gives a host power and takes it away.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct PowerFile {
    /// What it is done by.
    pub by: Option<PowerBy>,
    /// Where the power controller answers, for `by = "redfish"`: "https://10.0.9.2".
    pub controller: Option<String>,
    /// The host's computer system there, for `by = "redfish"`: "/redfish/v1/Systems/1".
    pub system: Option<String>,
    /// The outlet that feeds it, where the controller switches that too: "/redfish/v1/PowerEquipment/RackPDUs/1/Outlets/A1".
    /// It becomes a thing of its own, switched off only once the host is seen to be off.
    pub outlet: Option<String>,
    /// The account at the controller.
    pub account: Option<String>,
    /// Its password: a reference "env:NAME" or "file:PATH", never the password itself.
    pub password: Option<String>,
    /// A file of certificates, PEM, by which the controller is believed (default: the system's).
    pub believes: Option<String>,
    /// The hardware address that is woken, for `by = "wake"`: "02:00:5e:10:00:01".
    pub mac: Option<String>,
    /// Where the packet is sent, for `by = "wake"`: the network's broadcast address.
    pub broadcast: Option<String>,
    /// The port it is sent to, for `by = "wake"` (default 9).
    #[schemars(range(min = 1))]
    pub port: Option<u16>,
    /// The command that gives it power, for `by = "commands"`; run where Yantro runs.
    pub on: Vec<String>,
    /// The command that takes it away.
    pub off: Vec<String>,
    /// The command that says whether it has power: exit code 0 is on, 1 is off, all else is no answer.
    pub state: Vec<String>,
    /// The environment of these commands; a value "env:NAME" or "file:PATH" is a reference.
    pub env: BTreeMap<String, String>,
    /// What shuts the host down, run on it (default: its manager's own command).
    pub shut_down: Vec<String>,
    /// What reboots the host, run on it (default: its manager's own command).
    pub reboot: Vec<String>,
    /// The controller asks it to shut down, instead of a command run on it.
    pub asked_by_controller: bool,
}

/// What gives a host power.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum PowerBy {
    /// A power controller that speaks Redfish.
    Redfish,
    /// A Wake-on-LAN packet; it can only be woken so.
    Wake,
    /// Commands of your own.
    Commands,
    /// Nothing that Yantro could reach: it can be rebooted and shut down, and somebody has to press its button.
    Nobody,
}

/// How a host is reached.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Reach {
    /// The machine that Yantro itself runs on.
    Here,
    /// Over SSH, by the system's own client.
    Ssh,
    /// Not at all: it is played, with stated times and chances, for rehearsing and teaching.
    Simulated,
}

/// `[host.NAME.ssh]`: how OpenSSH reaches a host.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct SshFile {
    /// What the client is told to connect to: a name that its configuration knows, say (default: the host's address).
    pub to: Option<String>,
    /// The account there.
    pub account: Option<String>,
    /// The port of its SSH server.
    #[schemars(range(min = 1))]
    pub port: Option<u16>,
    /// The file of the private key. The key itself is never in the estate.
    pub key: Option<String>,
    /// The file of known host keys. Host keys are always checked.
    pub known_hosts: Option<String>,
    /// The client's configuration file.
    pub config: Option<String>,
    /// What is done as another account there, by `sudo -n` (default: nothing).
    pub sudo: Option<Sudo>,
    /// Where an outpost is installed there (default: /usr/local/lib/yantro/outpost). Where there is none, this
    /// server's own is carried into the account's cache folder.
    pub outpost: Option<String>,
}

/// What is done as another account on a host.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Sudo {
    /// Everything: the outpost itself runs as root.
    Outpost,
    /// Only acts that take it: those of the host's service manager, and commands of a service with a `user`.
    Acts,
}

/// `[group.NAME]`
#[derive(Debug, Clone, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct GroupFile {
    /// What people call it.
    pub title: Option<String>,
    /// How many members must stay proven while a run works on the others.
    #[schemars(range(min = 1))]
    pub keep_up: Option<u32>,
    /// How many members may be acted on at once.
    #[schemars(range(min = 1))]
    pub at_once: Option<u32>,
    /// What happens when a step on a member fails, where the member does not say.
    pub if_it_fails: Option<IfItFailsFile>,
}

/// What happens when a step fails: a rule, or `{ divert = "procedure" }`.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(untagged)]
pub enum IfItFailsFile {
    /// One of the rules that need nothing more.
    Rule(FailureRule),
    /// Run a named procedure instead.
    Divert(DivertFile),
}

/// What happens when a step fails, where no procedure takes over.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum FailureRule {
    /// Begin nothing new and wait for the operator.
    Hold,
    /// Pass over every step that waits on the failed one, and go on with the rest.
    CarryOn,
    /// Put everything back as found.
    PutBack,
}

/// The procedure that takes over when a step fails.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct DivertFile {
    /// Its name. It may use `{failed}`, the address or the title of what failed, and `{reason}`.
    pub divert: String,
}

/// What carries a service.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum RunBy {
    /// Yantro starts it itself, detached, and knows it again.
    Process,
    /// Its own start, stop and state commands.
    Commands,
    /// The host's own service manager.
    Systemd,
    /// Nothing: it is played, with stated times and chances.
    Simulated,
}

/// Whether a service should be up.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Expected {
    /// It should be up.
    #[default]
    Up,
    /// It should be down.
    Down,
    /// Either is right.
    Either,
}

/// What users notice of an action.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum ImpactLevel {
    /// Nothing.
    #[default]
    None,
    /// A short interruption.
    Brief,
    /// They cannot work while it is down.
    Outage,
}

/// What users notice: `impact = "brief"`, or with a sentence.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(untagged)]
pub enum ImpactFile {
    /// Only how much.
    Level(ImpactLevel),
    /// How much, and what it is that they notice.
    Told(ImpactTold),
}

/// How much users notice, and what.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ImpactTold {
    /// How much.
    pub level: ImpactLevel,
    /// A sentence for people: "No tickets can be sold."
    pub says: String,
}

/// Something a service relies on: an address or a bare name, or with how many copies it takes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(untagged)]
pub enum RelationFile {
    /// One address, or the bare name of a service that has one copy.
    One(String),
    /// Several copies could satisfy it.
    Some(RelationSome),
}

/// A relation that several copies of a service could satisfy.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct RelationSome {
    /// The service relied on.
    pub service: String,
    /// Which copies, or how many of them, it takes.
    pub copies: CopiesNeeded,
}

/// Which copies of a service satisfy a relation.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(untagged)]
pub enum CopiesNeeded {
    /// Named: all of them, or those on the same host.
    Which(WhichCopies),
    /// At least so many.
    AtLeast(u32),
}

/// Which copies, by name.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum WhichCopies {
    /// Every copy.
    All,
    /// The copies on the host of the service that relies on them.
    SameHost,
}

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

/// Whether force may be used.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Force {
    /// Never: killing it may corrupt it.
    Never,
    /// Only when an operator says so in the moment.
    #[default]
    Ask,
    /// By itself, once the stop's patience has passed.
    Allow,
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

/// Signals by which a process is asked to do something.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "UPPERCASE")]
pub enum Signal {
    /// Terminate.
    Term,
    /// Interrupt.
    Int,
    /// Quit.
    Quit,
    /// Hang up.
    Hup,
    /// The program's first own signal.
    Usr1,
    /// The program's second own signal.
    Usr2,
    /// Window change: some programs stop gracefully on it.
    Winch,
}

impl Signal {
    /// The name as the system writes it.
    pub fn name(self) -> &'static str {
        match self {
            Signal::Term => "TERM",
            Signal::Int => "INT",
            Signal::Quit => "QUIT",
            Signal::Hup => "HUP",
            Signal::Usr1 => "USR1",
            Signal::Usr2 => "USR2",
            Signal::Winch => "WINCH",
        }
    }
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

/// A port: a number, or text that becomes one once `{name}` is put in.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(untagged)]
pub enum PortFile {
    /// A number from 1 to 65535.
    Number(u16),
    /// Text with a placeholder.
    Text(String),
}

/// One rung of a ladder.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(tag = "rung", rename_all = "kebab-case", deny_unknown_fields)]
pub enum RungFile {
    /// Its process is there.
    Process {},
    /// It listens on a port, by the system's socket table, and holds it itself.
    Port {
        /// The port.
        port: PortFile,
        /// The local address it listens on (default: the host's, or any).
        #[serde(default)]
        on: Option<String>,
        /// Another program may hold the port (default false: the holder must be the service).
        #[serde(default)]
        held_by_any: bool,
    },
    /// A connection to a port is accepted.
    Connect {
        /// The port.
        port: PortFile,
        /// The address to connect to (default: the host's).
        #[serde(default)]
        to: Option<String>,
    },
    /// Its host is reached, in the way the estate says; for a host's own ladder.
    Reached {},
    /// The manager of its host is through with booting; for a host's own ladder.
    Booted {},
    /// An address answers a ping.
    Ping {
        /// The address (default: the host's).
        #[serde(default)]
        to: Option<String>,
    },
    /// A page answers as it should.
    Web {
        /// The page, http or https.
        url: String,
        /// Statuses that are right (default 200 to 299).
        #[serde(default)]
        status: Vec<u16>,
        /// Text that must be on the page.
        #[serde(default)]
        contains: Option<String>,
        /// Text on the page that says it is still starting: then it is "not yet" whatever the status.
        #[serde(default)]
        not_yet: Option<String>,
        /// A JSON pointer (RFC 6901) into the answer.
        #[serde(default)]
        pointer: Option<String>,
        /// What must stand at the pointer, as text.
        #[serde(default)]
        equals: Option<String>,
        /// Whether the certificate must be good (default true).
        #[serde(default = "yes")]
        verify_tls: bool,
        /// How long one look may take (default "5s").
        #[serde(default)]
        within: Option<Span>,
        /// Whether the page must be gone after a stop (default true).
        #[serde(default = "yes")]
        gone_after_stop: bool,
    },
    /// A command says so by its exit code.
    Command {
        /// The program and its arguments.
        command: Vec<String>,
        /// Exit codes that mean it holds (default 0).
        #[serde(default)]
        holds: Option<Vec<i32>>,
        /// Exit codes that mean not yet (default 1).
        #[serde(default)]
        not_yet: Option<Vec<i32>>,
        /// How long it may take (default "10s").
        #[serde(default)]
        within: Option<Span>,
        /// Whether it must no longer hold after a stop (default false).
        #[serde(default)]
        gone_after_stop: bool,
    },
    /// A file is there.
    File {
        /// The file.
        path: String,
        /// It must have been written since the start (default false).
        #[serde(default)]
        since_start: bool,
        /// It must have been written within this time, such as "24h" for a backup.
        #[serde(default)]
        newer_than: Option<Span>,
        /// It must have at least so many bytes.
        #[serde(default)]
        at_least: Option<u64>,
        /// Whether it must be gone after a stop (default false).
        #[serde(default)]
        gone_after_stop: bool,
    },
    /// Something is mounted there.
    Mount {
        /// The mount point.
        path: String,
        /// Whether it must be gone after a stop (default false).
        #[serde(default)]
        gone_after_stop: bool,
    },
    /// A file system has room left.
    Room {
        /// A path on it.
        path: String,
        /// At least so many bytes must be free.
        bytes: u64,
    },
    /// An account exists.
    Account {
        /// Its name.
        account: String,
    },
    /// A file or folder belongs to an account.
    Owner {
        /// The file or folder.
        path: String,
        /// The account.
        account: String,
    },
    /// Nothing listens on a port.
    PortFree {
        /// The port.
        port: PortFile,
        /// The local address (default: the host's).
        #[serde(default)]
        on: Option<String>,
    },
    /// A program file is there and may be run.
    Program {
        /// The program: a path, or a name looked up in PATH.
        program: String,
    },
}

fn yes() -> bool {
    true
}

/// Marks texts that are log patterns in the schema; they are kept as plain text.
pub struct Pattern;

impl JsonSchema for Pattern {
    fn schema_name() -> std::borrow::Cow<'static, str> {
        "Pattern".into()
    }
    fn json_schema(_: &mut schemars::SchemaGenerator) -> schemars::Schema {
        schemars::json_schema!({
            "type": "string", "format": "yantro-pattern",
            "description": "A regular expression, matched within one line."
        })
    }
}

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

/// What the answer to a question is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum QuestionKind {
    /// Text on one line.
    #[default]
    Text,
    /// A whole number.
    Number,
    /// One of `choices`.
    Choice,
    /// The address of one service.
    Address,
    /// One or several services, as a selection.
    Selection,
    /// A reference to a secret: `env:NAME` or `file:PATH`. Only the environment of work may use it.
    Secret,
}

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

/// What a person answers.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum PersonKind {
    /// Yes goes on, no fails the step.
    #[default]
    YesNo,
    /// A text on one line, kept under the step's name.
    Value,
}

/// What an unanswered question means.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Unanswered {
    /// As if yes had been answered.
    Yes,
    /// As if no had been answered.
    No,
    /// The step failed.
    #[default]
    Failed,
}

/// `[freeze.NAME]`: hours in which disruptive runs are refused.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct FreezeFile {
    /// What people call it.
    pub title: Option<String>,
    /// When the first begins, by the zone's wall clock: "2026-06-06T06:00".
    pub from: Option<String>,
    /// An RFC 5545 recurrence rule, such as "FREQ=WEEKLY;BYDAY=SA"; without one it comes once.
    pub rule: Option<String>,
    /// The IANA zone (default: the estate's).
    pub zone: Option<String>,
    /// How long it is.
    pub length: Option<Span>,
    /// From which impact on a run is refused (default "brief").
    pub impact: Option<ImpactLevel>,
    /// Whether a run may be begun all the same (default "refused").
    pub begin: Option<FreezeBegin>,
}

/// Whether a disruptive run may be begun inside a change freeze.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum FreezeBegin {
    /// Never.
    #[default]
    Refused,
    /// Where the freeze is named and a reason is given.
    WithReason,
    /// Where a second person agrees.
    SecondPerson,
}

/// `[window.NAME]`: hours for which a run must fit.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct WindowFile {
    /// What people call it.
    pub title: Option<String>,
    /// When the first begins, by the zone's wall clock: "2026-06-06T01:00".
    pub from: Option<String>,
    /// An RFC 5545 recurrence rule, such as "FREQ=DAILY"; without one it comes once.
    pub rule: Option<String>,
    /// The IANA zone (default: the estate's).
    pub zone: Option<String>,
    /// How long it is.
    pub length: Option<Span>,
}
