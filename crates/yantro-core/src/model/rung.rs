//! Rungs: what a service is proven by.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::words::time::Span;

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
    /// The account by which Yantro acts on the host may do something as another one. Added to preflights by itself.
    Rights {
        /// The account that it takes.
        account: String,
        /// Program and arguments.
        command: Vec<String>,
        /// The names of the environment that it is given besides.
        env: Vec<String>,
    },
    /// The account by which Yantro acts on the host may signal processes of another one. Added to preflights by itself.
    Signals {
        /// The account of the processes.
        account: String,
    },
    /// A unit of the host's manager can be started: its definition, its account and its programs are there. Added to preflights
    /// by itself.
    Unit {
        /// The unit, with its kind.
        unit: String,
    },
    /// What Yantro starts on the host goes on when Yantro, or the way to it, ends. Added to preflights by itself.
    Outlives,
    /// There is room where acts on the host are written down, or where the server keeps its own. Added to preflights by itself.
    Records {
        /// Whether it is the server's own data folder that is meant.
        of_server: bool,
        /// At least so many bytes must be free.
        bytes: u64,
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
            RungKind::Rights { account, command, .. } => format!("{} as {account}", command.join(" ")),
            RungKind::Signals { account } => format!("signals to {account}"),
            RungKind::Unit { unit } => format!("unit {unit}"),
            RungKind::Outlives => "what is started outlives Yantro".to_owned(),
            RungKind::Records { of_server: true, .. } => "room for the server's records".to_owned(),
            RungKind::Records { of_server: false, .. } => "room for records of acts".to_owned(),
            RungKind::State => "state command".to_owned(),
            RungKind::Manager => "manager".to_owned(),
            RungKind::Power => "power".to_owned(),
            RungKind::Reached => "reached".to_owned(),
            RungKind::Booted => "through with booting".to_owned(),
            RungKind::Log => "log".to_owned(),
        }
    }
}
