//! Rungs, as they are written.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::words::time::Span;

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
