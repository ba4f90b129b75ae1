//! What an estate file comes to: every copy of every service with all its settings, nothing left
//! to look up.

use std::collections::{BTreeMap, BTreeSet};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::{
    model::{
        fails::IfItFails,
        hosts::{HostSpec, Simulated},
        power::Controller,
        rung::{Rung, RungKind},
    },
    words::{
        Expected, Force, ImpactLevel, Signal,
        name::{Address, GroupName, HostName},
        time::Span,
    },
};

/// A further act of a service: drain, pause, rotate its logs.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct FurtherAct {
    /// What people call it.
    pub title: String,
    /// Program and arguments.
    pub command: Vec<String>,
    /// What shows that it is through.
    pub ladder: Vec<Rung>,
    /// How long the command and the climb may take.
    pub patience: Span,
    /// Exit codes that are fine.
    pub accept_exits: Vec<i32>,
    /// What users notice of it.
    pub impact: Impact,
    /// Whether it changes nothing, so that there is no way back to go.
    pub changes_nothing: bool,
    /// The act that takes it back.
    pub taken_back_by: Option<String>,
    /// Whether it may be given while the service is down, too: it is about what its manager knows of it.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub at_rest: bool,
}

impl FurtherAct {
    /// What users notice of it, if they do.
    pub fn noticed(&self) -> Option<&Impact> {
        Some(&self.impact).filter(|i| **i != Impact::default())
    }
}

/// Has the host's manager go by the definitions on disk.
pub const REREAD: &str = "re-read";
/// Has a unit come up by itself when its host boots.
pub const AT_BOOT_ON: &str = "at-boot-on";
/// Has a unit stay down when its host boots.
pub const AT_BOOT_OFF: &str = "at-boot-off";

/// A group of services.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Group {
    /// What people call it, if anything else than its name.
    pub title: Option<String>,
    /// How many members must stay proven while a run works on the others.
    pub keep_up: Option<u32>,
    /// How many members at once.
    pub at_once: Option<u32>,
    /// Its members, by address.
    pub members: BTreeSet<Address>,
}

/// What a service cannot work without: at least so many of these.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Relation {
    /// The copies that can satisfy it.
    pub any_of: BTreeSet<Address>,
    /// How many of them it takes.
    pub at_least: u32,
}

/// What users notice.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Impact {
    /// How much.
    pub level: ImpactLevel,
    /// A sentence, where the estate has one.
    pub says: Option<String>,
}

/// One copy of a service with all its settings.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Service {
    /// What it is called.
    pub address: Address,
    /// What people call it.
    pub title: String,
    /// The groups it is in.
    pub groups: BTreeSet<GroupName>,
    /// What it cannot work without.
    pub relies_on: Vec<Relation>,
    /// What goes first where both are in play.
    pub yields_to: BTreeSet<Address>,
    /// What must never be up with it; holds both ways.
    pub never_with: BTreeSet<Address>,
    /// Whether it should be up.
    pub expected: Expected,
    /// What users notice while it is down.
    pub impact: Impact,
    /// Watched, never acted on, for this reason.
    pub hands_off: Option<String>,
    /// What starts it again whenever it ends: a run may stop it, never starts it, and awaits a new process (R11).
    #[serde(default)]
    pub brought_back_by: Option<String>,
    /// Who owns it.
    pub owner: Option<String>,
    /// Its log files, as absolute paths.
    pub logs: Vec<String>,
    /// Where its configuration is.
    pub configuration: Vec<String>,
    /// What carries it.
    pub runner: ServiceRunner,
    /// How it is started.
    pub start: StartBlock,
    /// How it is stopped.
    pub stop: StopBlock,
    /// How it is reloaded, where it can be.
    pub reload: Option<ReloadBlock>,
    /// Its checks, in order.
    pub ladder: Vec<Rung>,
    /// How long it must stay on the last rung.
    pub steady: Span,
    /// How many contrary looks in a row make it ailing.
    pub ailing_after: u32,
    /// How often it is looked at at rest, where not in each round.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub look_every: Option<Span>,
    /// What happens when a step on it fails; `None` where neither it nor a group of it says.
    #[serde(default)]
    pub if_it_fails: Option<IfItFails>,
    /// Further acts of its own, by name.
    #[serde(default)]
    pub acts: BTreeMap<String, FurtherAct>,
}

/// What carries a service.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(tag = "run_by", rename_all = "kebab-case")]
pub enum ServiceRunner {
    /// Yantro itself, detached.
    Process(ProcessSpec),
    /// Its own commands.
    Commands(CommandsSpec),
    /// The host's own service manager.
    Systemd(SystemdSpec),
    /// It is the host itself: up is on, down is off.
    Host(HostSpec),
    /// It is the outlet that feeds a host.
    Outlet(Controller),
    /// Nothing: it is played.
    Simulated(Simulated),
}

impl ServiceRunner {
    /// Whether it is a host, or what feeds one, rather than a service on one.
    pub fn is_power(&self) -> bool {
        matches!(self, ServiceRunner::Host(_) | ServiceRunner::Outlet(_))
    }
}

/// A unit of the host's service manager.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct SystemdSpec {
    /// Its whole name, with what kind it is: `nginx.service`.
    pub unit: String,
    /// Whether it should come up by itself at boot, where the estate says.
    pub at_boot: Option<bool>,
}

impl SystemdSpec {
    /// The name under which its journal is a log.
    pub fn journal(&self) -> String {
        format!("journal:{}", self.unit)
    }

    /// Whether it is an SSH server, by the names that these are packaged under: sshd(8), dropbear(8), their sockets and
    /// instances. It is the way to its host: never acted on (R13), and down and up with that.
    pub fn is_ssh_server(&self) -> bool {
        let name = self.unit.split(['@', '.']).next().unwrap_or_default();
        ["ssh", "sshd", "dropbear"].contains(&name)
    }
}

/// Which rights nothing gives that is made by what Yantro starts, unless the estate says otherwise: the same wherever it is
/// started, and whoever started the server or let an outpost in.
pub const UMASK: u32 = 0o022;

impl ServiceRunner {
    /// Which rights what it makes never gives.
    pub fn umask(&self) -> u32 {
        let said = match self {
            ServiceRunner::Process(p) => p.umask,
            ServiceRunner::Commands(c) => c.umask,
            ServiceRunner::Systemd(_) | ServiceRunner::Host(_) | ServiceRunner::Outlet(_) | ServiceRunner::Simulated(_) => None,
        };
        said.unwrap_or(UMASK)
    }
}

/// A process that Yantro starts.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct ProcessSpec {
    /// The program: an absolute path, or a name looked up in PATH.
    pub program: String,
    /// Its arguments.
    pub args: Vec<String>,
    /// Its working folder.
    pub dir: String,
    /// Its environment; values may be references.
    pub env: BTreeMap<String, String>,
    /// The account it runs as, where not the server's.
    pub user: Option<String>,
    /// Which rights what it makes never gives, as umask(2) has them; [`UMASK`] where nothing is said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub umask: Option<u32>,
    /// What tells its process from those of other services, where its program and arguments do not.
    #[serde(default, skip_serializing_if = "Apart::is_needless")]
    pub apart: Apart,
}

/// What tells a process from another with the same program and arguments on the same machine. It is worked out of all services
/// together, and is no part of what describes one.
#[derive(Debug, Clone, Default, Serialize, Deserialize, JsonSchema)]
pub struct Apart {
    /// Names of the environment: each has its value, or is not there.
    pub env: BTreeSet<String>,
    /// Its working folder.
    pub dir: bool,
    /// Its account.
    pub user: bool,
}

impl Apart {
    /// Whether program and arguments are enough.
    pub fn is_needless(&self) -> bool {
        self.env.is_empty() && !self.dir && !self.user
    }
}

/// It follows from the others, and changes with them: the description of its own service is the same.
impl PartialEq for Apart {
    fn eq(&self, _: &Self) -> bool {
        true
    }
}

impl Eq for Apart {}

/// Commands that carry a service.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct CommandsSpec {
    /// Starts it.
    pub start: Vec<String>,
    /// Stops it.
    pub stop: Vec<String>,
    /// Stops it by force, where there is a way.
    pub force: Vec<String>,
    /// Reloads it, where there is a way.
    pub reload: Vec<String>,
    /// Says whether it is up.
    pub state: Vec<String>,
    /// Exit codes of `state` that mean up.
    pub state_up: Vec<i32>,
    /// Exit codes of `state` that mean down.
    pub state_down: Vec<i32>,
    /// The working folder.
    pub dir: String,
    /// The environment; values may be references.
    pub env: BTreeMap<String, String>,
    /// Names of the environment whose value is taken to the letter, though it looks like a reference: it came from outside the
    /// estate.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub to_the_letter: BTreeSet<String>,
    /// The account they run as.
    pub user: Option<String>,
    /// Which rights what it makes never gives, as umask(2) has them; [`UMASK`] where nothing is said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub umask: Option<u32>,
    /// How long any one may take.
    pub within: Span,
}

impl CommandsSpec {
    /// A command that is given by itself, and is no service's: in the root folder, as whoever gives it.
    pub fn once(start: Vec<String>, within: Span) -> Self {
        Self {
            start,
            stop: Vec::new(),
            force: Vec::new(),
            reload: Vec::new(),
            state: Vec::new(),
            state_up: Vec::new(),
            state_down: Vec::new(),
            dir: "/".to_owned(),
            env: BTreeMap::new(),
            to_the_letter: BTreeSet::new(),
            user: None,
            umask: None,
            within,
        }
    }
}

/// Log patterns of an act.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct LogPatterns {
    /// Each must appear.
    pub must_see: Vec<String>,
    /// None may appear.
    pub must_not_see: Vec<String>,
    /// Known noise.
    pub overlook: Vec<String>,
}

impl LogPatterns {
    /// Whether there is nothing to verify.
    pub fn is_empty(&self) -> bool {
        self.must_see.is_empty() && self.must_not_see.is_empty()
    }
}

/// How a service is started.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct StartBlock {
    /// Waited before the act.
    pub pause_before: Span,
    /// Waited once it is proven.
    pub pause_after: Span,
    /// How long climbing may take.
    pub patience: Span,
    /// How long it is declared to take usually.
    #[serde(default)]
    pub usually: Option<Span>,
    /// How often it is tried.
    pub attempts: u32,
    /// The gap between attempts.
    pub gap: Span,
    /// Exit codes of the start command that are fine.
    pub accept_exits: Vec<i32>,
    /// Log verification.
    pub patterns: LogPatterns,
}

/// How a service is stopped.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct StopBlock {
    /// Waited before the act.
    pub pause_before: Span,
    /// Waited once it is down.
    pub pause_after: Span,
    /// How long stopping may take.
    pub patience: Span,
    /// How long it is declared to take usually.
    #[serde(default)]
    pub usually: Option<Span>,
    /// How often it is tried.
    pub attempts: u32,
    /// The gap between attempts.
    pub gap: Span,
    /// Exit codes that are fine for a stop.
    pub accept_exits: Vec<i32>,
    /// The signal that asks a process to stop.
    pub signal: Signal,
    /// Whether force may be used.
    pub force: Force,
    /// Commands run before a force.
    pub evidence: Vec<Vec<String>>,
    /// Log verification.
    pub patterns: LogPatterns,
}

impl Default for StartBlock {
    fn default() -> Self {
        Self {
            pause_before: Span::default(),
            pause_after: Span::default(),
            patience: Span::secs(60),
            usually: None,
            attempts: 1,
            gap: Span::secs(5),
            accept_exits: vec![0],
            patterns: LogPatterns::default(),
        }
    }
}

impl Default for StopBlock {
    fn default() -> Self {
        Self {
            pause_before: Span::default(),
            pause_after: Span::default(),
            patience: Span::secs(30),
            usually: None,
            attempts: 1,
            gap: Span::secs(5),
            accept_exits: vec![0],
            signal: Signal::Term,
            force: Force::default(),
            evidence: Vec::new(),
            patterns: LogPatterns::default(),
        }
    }
}

/// How a service is reloaded.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct ReloadBlock {
    /// The signal that makes a process re-read its configuration.
    pub signal: Signal,
    /// Waited before the act.
    pub pause_before: Span,
    /// Waited once it is proven again.
    pub pause_after: Span,
    /// How long it may take.
    pub patience: Span,
    /// Exit codes of the reload command that are fine.
    pub accept_exits: Vec<i32>,
    /// Log verification.
    pub patterns: LogPatterns,
}

impl ServiceRunner {
    /// Whether a start by the one starts what a start by the other does: where it does not, what was started by the one owes a
    /// restart.
    pub fn starts_as(&self, other: &Self) -> bool {
        match (self, other) {
            (Self::Commands(one), Self::Commands(other)) => {
                let started = |c: &CommandsSpec| (c.start.clone(), c.dir.clone(), c.env.clone(), c.user.clone(), c.umask);
                started(one) == started(other)
            }
            (Self::Systemd(one), Self::Systemd(other)) => one.unit == other.unit,
            (one, other) => one == other,
        }
    }
}

impl Service {
    /// Whether the service belongs to a host.
    pub fn is_on(&self, host: &HostName) -> bool {
        &self.address.host == host
    }

    /// Whether it is only watched: nothing here says how it is started.
    pub fn runner_is_watched_only(&self) -> bool {
        match &self.runner {
            ServiceRunner::Process(p) => p.program.is_empty(),
            ServiceRunner::Commands(c) => c.state.is_empty(),
            ServiceRunner::Systemd(_) | ServiceRunner::Host(_) | ServiceRunner::Outlet(_) | ServiceRunner::Simulated(_) => false,
        }
    }

    /// Every address that some relation of it names.
    pub fn relies_on_any(&self) -> impl Iterator<Item = &Address> {
        self.relies_on.iter().flat_map(|r| r.any_of.iter())
    }

    /// The patterns that belong to an act.
    pub fn patterns(&self, act: crate::words::kinds::StepKind) -> &LogPatterns {
        use crate::words::kinds::StepKind;
        static NONE: std::sync::LazyLock<LogPatterns> = std::sync::LazyLock::new(LogPatterns::default);
        match act {
            StepKind::Start => &self.start.patterns,
            StepKind::Stop => &self.stop.patterns,
            StepKind::Reload => self.reload.as_ref().map_or(&NONE, |r| &r.patterns),
            _ => &NONE,
        }
    }

    /// The rungs an act is proven by, in order. For a stop, the rungs that must be gone.
    pub fn ladder_of(&self, act: crate::words::kinds::StepKind) -> Vec<Rung> {
        use crate::words::kinds::StepKind;
        let mut rungs: Vec<Rung> = match act {
            // What comes back by itself may be back before its port was seen free: that its old process is
            // gone is what a stop of it means.
            StepKind::Stop if self.brought_back_by.is_some() => {
                self.ladder.iter().filter(|r| r.kind == RungKind::Process).cloned().collect()
            }
            StepKind::Stop => self.ladder.iter().filter(|r| r.gone_after_stop).cloned().collect(),
            _ => self.ladder.clone(),
        };
        if !self.patterns(act).is_empty() {
            rungs.push(Rung { kind: RungKind::Log, gone_after_stop: false });
        }
        rungs
    }
}
