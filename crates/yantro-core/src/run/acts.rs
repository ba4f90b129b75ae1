//! Acts: their numbers and kinds, how they begin and end, and what their logs showed.

use std::collections::{BTreeMap, BTreeSet};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::proof::logs::{LogCount, LogHit};

/// The identity of an act: the same act keeps it however often it is asked about.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, JsonSchema)]
#[serde(transparent)]
pub struct ActId(pub u32);

/// What an act does.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum ActKind {
    /// Starts the service.
    Start,
    /// Asks it to stop.
    Stop,
    /// Stops what an earlier attempt of the same start left behind.
    Clear,
    /// Gathers evidence before a force, by the command of this number.
    Evidence(u32),
    /// Ends it by force.
    Force,
    /// Has it re-read its configuration.
    Reload,
    /// A further act of a service.
    Further,
    /// A command or script of a procedure.
    Work,
    /// Tells people something.
    Announce,
}

impl ActKind {
    /// The word people read.
    pub fn word(self) -> &'static str {
        match self {
            ActKind::Start => "start",
            ActKind::Stop => "stop",
            ActKind::Clear => "clear away",
            ActKind::Evidence(_) => "gather evidence",
            ActKind::Force => "force",
            ActKind::Reload => "reload",
            ActKind::Further => "act",
            ActKind::Work => "work",
            ActKind::Announce => "announce",
        }
    }
}

/// What was found in one log source.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct LogEvidence {
    /// The file, or "its own output".
    pub source: String,
    /// How often each pattern was seen.
    pub count: LogCount,
    /// The lines.
    pub hits: Vec<LogHit>,
    /// Whether everything written since the position could be read.
    pub complete: bool,
}

/// Which process a service was found as: its number, and when it started tell it from any other of this boot.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct FoundProcess {
    /// Its number.
    pub pid: u32,
    /// Its start, in clock ticks since boot.
    pub started: u64,
}

/// How an act began.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct ActBegun {
    /// The exact command, with references in the place of secrets.
    pub command: Vec<String>,
    /// The working folder.
    pub dir: String,
    /// As whom.
    pub user: String,
    /// The process, where one was started.
    pub pid: Option<u32>,
    /// When that started, in clock ticks since boot: with its number, which process it is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub started: Option<u64>,
    /// Log positions taken just before, by source.
    pub marks: BTreeMap<String, LogMark>,
    /// What it was given of an environment besides the usual, with references in the place of secrets.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub env: BTreeMap<String, String>,
    /// Names of it that are values from outside: no references, whatever they look like.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub to_the_letter: BTreeSet<String>,
    /// For the stop of a host: the boot that it was in. A reboot is proven by another.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub boot: Option<String>,
}

impl ActBegun {
    /// What does the same when it is pasted into a POSIX shell there: in its folder, as its account, with its environment.
    /// A secret is read where its reference says, by that account, and is no argument of anything.
    pub fn typed(&self) -> String {
        let words = |all: &[String]| all.iter().map(|w| shell_words::quote(w).into_owned()).collect::<Vec<_>>().join(" ");
        if let Some(name) = self.command.first().and_then(|w| w.strip_prefix("signal ")) {
            return format!("kill -s {name} {}", words(&self.command[1..]));
        }
        let value = |name: &String, value: &str| match (value.strip_prefix("file:"), value.strip_prefix("env:")) {
            (Some(path), _) if !self.to_the_letter.contains(name) => format!("\"$(cat {})\"", shell_words::quote(path)),
            (_, Some(of)) if !self.to_the_letter.contains(name) => format!("\"${of}\""),
            _ => shell_words::quote(value).into_owned(),
        };
        let given: String = self.env.iter().map(|(name, v)| format!("{name}={} ", value(name, v))).collect();
        let command = format!("{given}{}", words(&self.command));
        // Where sudo was asked for it stands there already.
        let is_another = !matches!(self.user.as_str(), "" | "root") && self.command.first().is_none_or(|w| w != "sudo");
        let command = match (is_another, given.is_empty()) {
            (false, _) => command,
            (true, true) => format!("sudo -u {} -- {command}", shell_words::quote(&self.user)),
            (true, false) => format!("sudo -u {} -- sh -c {}", shell_words::quote(&self.user), shell_words::quote(&command)),
        };
        if matches!(self.dir.as_str(), "" | "/") { command } else { format!("cd {} && {command}", shell_words::quote(&self.dir)) }
    }
}

/// A position in a log file: which file it was, and how far it had been written.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct LogMark {
    /// Device and inode; `None` where there was no file yet.
    pub file: Option<(u64, u64)>,
    /// Bytes from its start.
    pub position: u64,
    /// In a journal: its cursor.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cursor: Option<String>,
    /// In a journal: which run of the unit it was. Its lines are none of the next one's.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub invocation: Option<String>,
}

/// How an act ended.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(tag = "how", rename_all = "kebab-case")]
pub enum ActEnd {
    /// The command ended by itself.
    Exited {
        /// Its exit code.
        code: i32,
        /// The end of its output.
        output: String,
    },
    /// A signal ended the command.
    Signalled {
        /// Which.
        signal: i32,
        /// The end of its output.
        output: String,
    },
    /// The command took longer than it may, and was ended.
    TimedOut {
        /// The end of its output.
        output: String,
    },
    /// What had to be sent was sent.
    Sent,
    /// The act could not be given.
    Refused {
        /// Why.
        why: String,
        /// How to mend it.
        mend: String,
    },
}
