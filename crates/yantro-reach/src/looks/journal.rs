//! The host's journal, read by its own program: entries from a cursor on, told apart by boot and by run of a unit.

use std::{
    collections::VecDeque,
    io,
    process::{Command, Stdio},
    sync::{Arc, Mutex, PoisonError},
};

use serde::Deserialize;
use serde_json::Value;
use tokio::{
    io::{AsyncBufReadExt, AsyncReadExt, BufReader},
    sync::Notify,
    task::JoinHandle,
};
use yantro_core::run::LogMark;

/// What a log's name begins with that is a unit's part of the journal.
const PREFIX: &str = "journal:";

/// Whether a log is a unit's part of the journal.
pub(crate) fn is_journal(name: &str) -> bool {
    name.starts_with(PREFIX)
}

fn unit_of(name: &str) -> &str {
    name.strip_prefix(PREFIX).unwrap_or(name)
}

/// One entry: journal JSON as systemd.journal-fields(7) has it.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
pub(crate) struct Entry {
    #[serde(rename = "__CURSOR")]
    pub cursor: String,
    #[serde(rename = "__REALTIME_TIMESTAMP", default)]
    micros: String,
    #[serde(rename = "_BOOT_ID", default)]
    pub boot: String,
    #[serde(rename = "_SYSTEMD_INVOCATION_ID", default)]
    own_invocation: Option<String>,
    /// What the manager says about a unit carries it so.
    #[serde(rename = "INVOCATION_ID", default)]
    told_invocation: Option<String>,
    #[serde(rename = "MESSAGE", default)]
    message: Value,
}

impl Entry {
    fn read(line: &str) -> Option<Self> {
        serde_json::from_str(line).ok()
    }

    /// The message; bytes where it is no text.
    pub fn text(&self) -> String {
        match &self.message {
            Value::String(text) => text.clone(),
            Value::Array(bytes) => {
                let bytes: Vec<u8> = bytes.iter().filter_map(Value::as_u64).map(|b| b as u8).collect();
                String::from_utf8_lossy(&bytes).into_owned()
            }
            _ => String::new(),
        }
    }

    /// The run of the unit that it is of, where it says.
    pub fn invocation(&self) -> Option<&str> {
        // What the manager writes about a unit has its own invocation in the first, if any.
        self.told_invocation.as_deref().or(self.own_invocation.as_deref())
    }

    /// When, in microseconds since 1970 by the host's clock.
    pub fn micros(&self) -> i64 {
        self.micros.parse().unwrap_or_default()
    }
}

fn journalctl(more: &[&str]) -> Command {
    let mut command = Command::new("journalctl");
    command.args(["--quiet", "--no-pager", "--all", "--output=json"]).args(more).stdin(Stdio::null());
    command
}

fn said(stderr: &[u8]) -> Option<String> {
    let text = String::from_utf8_lossy(stderr);
    text.lines().map(str::trim).find(|l| !l.is_empty()).map(str::to_owned)
}

/// Where the journal ends now.
pub(crate) fn mark() -> LogMark {
    let out = Command::new("journalctl").args(["--quiet", "--no-pager", "--lines=0", "--show-cursor"]).stdin(Stdio::null()).output();
    let text = out.map(|o| String::from_utf8_lossy(&o.stdout).into_owned()).unwrap_or_default();
    let cursor = text.lines().find_map(|l| l.strip_prefix("-- cursor: ")).map(str::to_owned);
    // By its time, so that it has its place among the lines that are read later.
    let micros = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).map_or(0, |d| d.as_micros() as u64);
    LogMark { cursor, position: micros, ..LogMark::default() }
}

/// Reads entries at once: so many last ones, or those after a cursor.
pub(crate) fn read(name: &str, after: Option<&str>, last: Option<usize>) -> io::Result<Vec<Entry>> {
    let unit = format!("--unit={}", unit_of(name));
    let from = match (after, last) {
        (Some(cursor), _) => format!("--after-cursor={cursor}"),
        (None, lines) => format!("--lines={}", lines.unwrap_or(5_000)),
    };
    let out = journalctl(&[&unit, &from]).output()?;
    if !out.status.success() {
        return Err(io::Error::other(said(&out.stderr).unwrap_or_else(|| "the journal cannot be read".to_owned())));
    }
    Ok(String::from_utf8_lossy(&out.stdout).lines().filter_map(Entry::read).collect())
}

#[derive(Default)]
struct Shared {
    entries: VecDeque<Entry>,
    trouble: Option<String>,
}

/// A unit's part of the journal, followed from a mark on, until dropped.
pub(crate) struct Follow {
    shared: Arc<Mutex<Shared>>,
    told: Arc<Mutex<Option<Arc<Notify>>>>,
    task: JoinHandle<()>,
}

impl Follow {
    /// Must be called within a tokio runtime.
    pub fn new(name: &str, mark: &LogMark) -> Self {
        let shared: Arc<Mutex<Shared>> = Arc::default();
        let told: Arc<Mutex<Option<Arc<Notify>>>> = Arc::default();
        let unit = format!("--unit={}", unit_of(name));
        let from = mark.cursor.as_ref().map_or_else(|| "--boot".to_owned(), |c| format!("--after-cursor={c}"));
        let mut command: tokio::process::Command = journalctl(&[&unit, &from, "--follow", "--no-tail"]).into();
        let spawned = command.stdout(Stdio::piped()).stderr(Stdio::piped()).kill_on_drop(true).spawn();
        let (into, wake) = (Arc::clone(&shared), Arc::clone(&told));
        let task = tokio::spawn(async move {
            let lock = || into.lock().unwrap_or_else(PoisonError::into_inner);
            let wake = || {
                if let Some(notify) = &*wake.lock().unwrap_or_else(PoisonError::into_inner) {
                    notify.notify_one();
                }
            };
            let mut child = match spawned {
                Ok(child) => child,
                Err(error) => {
                    lock().trouble = Some(format!("journalctl cannot be run: {error}"));
                    return wake();
                }
            };
            let (Some(out), Some(mut err)) = (child.stdout.take(), child.stderr.take()) else { return };
            let mut lines = BufReader::new(out).lines();
            while let Ok(Some(line)) = lines.next_line().await {
                if let Some(entry) = Entry::read(&line) {
                    lock().entries.push_back(entry);
                    wake();
                }
            }
            let mut text = Vec::new();
            let _ = err.read_to_end(&mut text).await;
            lock().trouble = Some(said(&text).unwrap_or_else(|| "reading the journal was broken off".to_owned()));
            wake();
        });
        Self { shared, told, task }
    }

    /// Who is to be told when there is more.
    pub fn wake(&self, notify: &Arc<Notify>) {
        *self.told.lock().unwrap_or_else(PoisonError::into_inner) = Some(Arc::clone(notify));
        if !self.shared.lock().unwrap_or_else(PoisonError::into_inner).entries.is_empty() {
            notify.notify_one();
        }
    }

    /// What came since; and why no more comes, where that is so.
    pub fn take(&self) -> (Vec<Entry>, Option<String>) {
        let mut shared = self.shared.lock().unwrap_or_else(PoisonError::into_inner);
        (shared.entries.drain(..).collect(), shared.trouble.clone())
    }
}

impl Drop for Follow {
    fn drop(&mut self) {
        self.task.abort();
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::plain(
        r#"{"__CURSOR":"s=1","__REALTIME_TIMESTAMP":"1700000000000001","_BOOT_ID":"b","MESSAGE":"gate up","_SYSTEMD_INVOCATION_ID":"i"}"#,
        "gate up",
        Some("i")
    )]
    #[case::bytes(r#"{"__CURSOR":"s=1","MESSAGE":[103,97,255]}"#, "ga\u{fffd}", None)]
    #[case::by_the_manager(r#"{"__CURSOR":"s=1","MESSAGE":"Started","INVOCATION_ID":"j"}"#, "Started", Some("j"))]
    #[case::none(r#"{"__CURSOR":"s=1","MESSAGE":null}"#, "", None)]
    fn entries_are_read(#[case] line: &str, #[case] text: &str, #[case] invocation: Option<&str>) {
        let entry = Entry::read(line).unwrap();
        assert_eq!((entry.text().as_str(), entry.invocation()), (text, invocation));
    }
}
