//! What an estate file comes to: every copy of every service with all its settings, nothing left
//! to look up.

use std::{
    collections::{BTreeMap, BTreeSet},
    sync::Arc,
};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::file::{Expected, Force, ImpactLevel, Reach, Signal, StandsFor, Sudo};
use crate::{
    calendar::{Freeze, Window},
    name::{Address, GroupName, HostName, ProcedureName, ServiceName},
    procedure::Procedure,
    time::Span,
};

/// An estate without faults.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Estate {
    /// What it is called.
    pub name: String,
    /// What it stands for.
    pub stands_for: StandsFor,
    /// IANA time zone in which hours are shown.
    pub time_zone: String,
    /// Limits over everything.
    pub limits: Limits,
    /// Its hosts.
    pub hosts: BTreeMap<HostName, Host>,
    /// Its groups.
    pub groups: BTreeMap<GroupName, Group>,
    /// Every copy of every service.
    pub services: BTreeMap<Address, Arc<Service>>,
    /// Hours in which disruptive runs are refused, by name.
    #[serde(default)]
    pub freezes: BTreeMap<String, Freeze>,
    /// Hours for which a run must fit, by name.
    #[serde(default)]
    pub windows: BTreeMap<String, Window>,
    /// Its written procedures.
    #[serde(default)]
    pub procedures: BTreeMap<ProcedureName, Procedure>,
}

/// What happens when a step fails (R28).
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum IfItFails {
    /// Begin nothing new and wait for the operator.
    #[default]
    Hold,
    /// Pass over every step that waits on the failed one, and go on with the rest.
    CarryOn,
    /// Put everything back as found.
    PutBack,
    /// Run a named procedure instead.
    Divert(ProcedureName),
}

impl IfItFails {
    /// As it is written and read.
    pub fn says(&self) -> String {
        match self {
            IfItFails::Hold => "hold".to_owned(),
            IfItFails::CarryOn => "carry on".to_owned(),
            IfItFails::PutBack => "put back".to_owned(),
            IfItFails::Divert(name) => format!("divert to {name}"),
        }
    }
}

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

/// Has the host's manager go by the definitions on disk.
pub const REREAD: &str = "re-read";
/// Has a unit come up by itself when its host boots.
pub const AT_BOOT_ON: &str = "at-boot-on";
/// Has a unit stay down when its host boots.
pub const AT_BOOT_OFF: &str = "at-boot-off";

/// How much may be acted on at once. `None` is no limit.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Limits {
    /// Over everything.
    pub at_once: Option<u32>,
    /// On any one host.
    pub per_host: Option<u32>,
}

/// A host.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Host {
    /// What people call it, if anything else than its name.
    pub title: Option<String>,
    /// How it is reached.
    pub reach: Reach,
    /// Its network address.
    pub address: String,
    /// How many steps at once, here.
    pub at_once: Option<u32>,
    /// How the SSH client reaches it, where it does.
    #[serde(default)]
    pub ssh: Option<SshSpec>,
    /// What gives it power, where it can be acted on itself.
    #[serde(default)]
    pub power: Option<Power>,
    /// How it behaves itself, where it is simulated.
    #[serde(default)]
    pub simulated: Option<Simulated>,
}

/// How something behaves that is played. Times are those of the clock, the simulation's speed taken in.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Simulated {
    /// How long it takes to come up, half the time.
    pub starts: Span,
    /// How long it takes to go down, half the time.
    pub stops: Span,
    /// The spread of the logarithm of these times, in thousandths.
    pub spread: u32,
    /// How many starts in a thousand come to nothing.
    pub fails: u32,
    /// How many stops in a thousand are not heeded.
    pub clings: u32,
    /// Whether it is down to begin with.
    pub begins_down: bool,
    /// What chance is drawn from.
    pub seed: u64,
}

/// What gives a host power and takes it away.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(tag = "by", rename_all = "kebab-case")]
pub enum Power {
    /// A controller that speaks Redfish.
    Redfish(Controller),
    /// A Wake-on-LAN packet.
    Wake {
        /// The hardware address.
        mac: String,
        /// Where it is sent.
        broadcast: String,
        /// To which port.
        port: u16,
    },
    /// Commands, run where Yantro runs.
    Commands {
        /// Gives it power.
        on: Vec<String>,
        /// Takes it away.
        off: Vec<String>,
        /// Says whether it has power.
        state: Vec<String>,
        /// Their environment; values may be references.
        env: BTreeMap<String, String>,
    },
    /// Nothing that could be reached.
    Nobody,
}

/// A part of a power controller that speaks Redfish (DMTF DSP0266).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Controller {
    /// Where it answers.
    pub controller: String,
    /// The computer system or the outlet there, as a path.
    pub part: String,
    /// The account.
    pub account: Option<String>,
    /// Its password, as a reference.
    pub password: Option<String>,
    /// The file of certificates it is believed by.
    pub believes: Option<String>,
}

/// What is asked of a host's power.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum PowerDeed {
    /// Give it power.
    On,
    /// Take it away, whatever the host does.
    Off,
    /// Ask the host to shut down.
    ShutDown,
}

impl PowerDeed {
    /// The word of the command line.
    pub fn word(self) -> &'static str {
        match self {
            PowerDeed::On => "on",
            PowerDeed::Off => "off",
            PowerDeed::ShutDown => "shut-down",
        }
    }
}

/// The environment variable in which a controller's password reaches the command that asks it.
pub const POWER_PASSWORD: &str = "YANTRO_POWER_PASSWORD";

impl Controller {
    /// The command by which something is asked of it; the first word is this program.
    pub fn command(&self, deed: PowerDeed) -> Vec<String> {
        let mut words: Vec<String> =
            ["yantro", "power", deed.word(), "--controller", &self.controller, "--part", &self.part].map(str::to_owned).to_vec();
        for (option, value) in [("--account", &self.account), ("--believes", &self.believes)] {
            words.extend(value.iter().flat_map(|v| [option.to_owned(), v.clone()]));
        }
        words
    }
    /// What that command needs in its environment, as references.
    pub fn env(&self) -> BTreeMap<String, String> {
        self.password.iter().map(|p| (POWER_PASSWORD.to_owned(), p.clone())).collect()
    }
}

impl Power {
    /// The command by which something is asked of it, with its environment; none where it cannot do that. It is run where Yantro
    /// runs.
    pub fn command(&self, deed: PowerDeed) -> Option<(Vec<String>, BTreeMap<String, String>)> {
        match (self, deed) {
            (Power::Redfish(c), _) => Some((c.command(deed), c.env())),
            (Power::Wake { mac, broadcast, port }, PowerDeed::On) => {
                let words = ["yantro", "power", "wake", mac, "--to", broadcast, "--port", &port.to_string()].map(str::to_owned);
                Some((words.to_vec(), BTreeMap::new()))
            }
            (Power::Commands { on, env, .. }, PowerDeed::On) => Some((on.clone(), env.clone())),
            (Power::Commands { off, env, .. }, PowerDeed::Off) => Some((off.clone(), env.clone())),
            (Power::Commands { .. }, PowerDeed::ShutDown) => None,
            (Power::Wake { .. } | Power::Nobody, _) => None,
        }
        .filter(|(words, _)| !words.is_empty())
    }
    /// Whether it can be asked how things stand.
    pub fn tells(&self) -> bool {
        match self {
            Power::Redfish(_) => true,
            Power::Commands { state, .. } => !state.is_empty(),
            Power::Wake { .. } | Power::Nobody => false,
        }
    }
}

/// A host as a thing that is shut down, powered on and rebooted.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct HostSpec {
    /// What gives it power.
    pub power: Power,
    /// What shuts it down, run on it; empty where its controller asks it to.
    pub shut_down: Vec<String>,
    /// What reboots it, run on it.
    pub reboot: Vec<String>,
    /// What a stop is just now: a reboot, from which it comes back by itself.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub reboots: bool,
}

/// How OpenSSH reaches a host; what is `None` is as its own configuration has it.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct SshSpec {
    /// What it is told to connect to, where that is not the host's address.
    pub to: Option<String>,
    /// The account there.
    pub account: Option<String>,
    /// The port.
    pub port: Option<u16>,
    /// The file of the private key.
    pub key: Option<String>,
    /// The file of known host keys.
    pub known_hosts: Option<String>,
    /// The client's configuration file.
    pub config: Option<String>,
    /// What is done as another account there.
    pub sudo: Option<Sudo>,
    /// Where an outpost is installed there.
    pub outpost: Option<String>,
}

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

/// One rung of a ladder.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Rung {
    /// What is looked at.
    #[serde(flatten)]
    pub kind: RungKind,
    /// Whether the same look must find nothing after a stop (R15).
    pub gone_after_stop: bool,
}

/// What a rung looks at.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(tag = "rung", rename_all = "kebab-case")]
pub enum RungKind {
    /// Its process is there.
    Process,
    /// It listens on a port, by the system's socket table.
    Port {
        /// The port.
        port: u16,
        /// The local address, where one is meant.
        on: Option<String>,
        /// Whether another program may hold it.
        held_by_any: bool,
    },
    /// A connection is accepted.
    Connect {
        /// The port.
        port: u16,
        /// The address connected to.
        to: String,
    },
    /// What gives a host power says that it has some; for a stop, that it has none.
    Power,
    /// Its host is reached, in the way the estate says.
    Reached,
    /// The manager of its host is through with booting.
    Booted,
    /// An address answers a ping.
    Ping {
        /// The address.
        to: String,
    },
    /// A page answers.
    Web {
        /// The page.
        url: String,
        /// Statuses that are right; empty: any success.
        status: Vec<u16>,
        /// Text that must be there.
        contains: Option<String>,
        /// Text that says "not yet".
        not_yet: Option<String>,
        /// JSON pointer into the answer.
        pointer: Option<String>,
        /// What must stand at the pointer.
        equals: Option<String>,
        /// Whether the certificate must be good.
        verify_tls: bool,
        /// How long one look may take.
        within: Span,
    },
    /// A command says so.
    Command {
        /// Program and arguments.
        command: Vec<String>,
        /// Exit codes that mean it holds.
        holds: Vec<i32>,
        /// Exit codes that mean not yet.
        not_yet: Vec<i32>,
        /// How long it may take.
        within: Span,
    },
    /// A file is there.
    File {
        /// The file.
        path: String,
        /// It must have been written since the start.
        since_start: bool,
        /// It must have been written within this time.
        #[serde(default)]
        newer_than: Option<Span>,
        /// It must have at least so many bytes.
        #[serde(default)]
        at_least: Option<u64>,
    },
    /// Something is mounted there.
    Mount {
        /// The mount point.
        path: String,
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
        port: u16,
        /// The local address, where one is meant.
        on: Option<String>,
    },
    /// A program file is there and may be run.
    Program {
        /// A path, or a name looked up in PATH.
        program: String,
    },
    /// The service's own state command says it is up.
    State,
    /// The host's service manager says it is up.
    Manager,
    /// The log lines of an act: each wanted one seen, no forbidden one (R17).
    Log,
}

impl RungKind {
    /// What the rung is, in a few words, for rows and sentences.
    pub fn says(&self) -> String {
        match self {
            RungKind::Process => "process".to_owned(),
            RungKind::Port { port, .. } => format!("port {port}"),
            RungKind::Connect { port, to } => format!("connects to {to}:{port}"),
            RungKind::Ping { to } => format!("{to} answers ping"),
            RungKind::Web { url, .. } => format!("page {}", url.splitn(4, '/').nth(3).map_or("/".to_owned(), |p| format!("/{p}"))),
            RungKind::Command { command, .. } => format!("command {}", command.first().map_or("", |c| c.rsplit('/').next().unwrap_or(c))),
            RungKind::File { path, .. } => format!("file {}", path.rsplit('/').next().unwrap_or(path)),
            RungKind::Mount { path } => format!("mount {path}"),
            RungKind::Room { path, .. } => format!("room on {path}"),
            RungKind::Account { account } => format!("account {account}"),
            RungKind::Owner { path, account } => format!("{} belongs to {account}", path.rsplit('/').next().unwrap_or(path)),
            RungKind::PortFree { port, .. } => format!("port {port} free"),
            RungKind::Program { program } => format!("program {}", program.rsplit('/').next().unwrap_or(program)),
            RungKind::State => "state command".to_owned(),
            RungKind::Manager => "manager".to_owned(),
            RungKind::Power => "power".to_owned(),
            RungKind::Reached => "reached".to_owned(),
            RungKind::Booted => "through with booting".to_owned(),
            RungKind::Log => "log".to_owned(),
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
    pub fn patterns(&self, act: crate::sequence::StepKind) -> &LogPatterns {
        use crate::sequence::StepKind;
        static NONE: std::sync::LazyLock<LogPatterns> = std::sync::LazyLock::new(LogPatterns::default);
        match act {
            StepKind::Start => &self.start.patterns,
            StepKind::Stop => &self.stop.patterns,
            StepKind::Reload => self.reload.as_ref().map_or(&NONE, |r| &r.patterns),
            _ => &NONE,
        }
    }

    /// The rungs an act is proven by, in order. For a stop, the rungs that must be gone.
    pub fn ladder_of(&self, act: crate::sequence::StepKind) -> Vec<Rung> {
        use crate::sequence::StepKind;
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

impl Estate {
    /// All copies of a service, by address.
    pub fn copies_of<'e>(&'e self, name: &'e ServiceName) -> impl Iterator<Item = &'e Address> + 'e {
        self.services.keys().filter(move |a| &a.service == name)
    }
}
