//! What is kept, as rows, and what can go wrong with keeping it.

use std::time::Duration;

use serde::{Deserialize, Serialize};
use yantro_core::{
    proof::LogAgainst,
    run::{RunId, RunSummary, Stamped},
    words::{kinds::StepKind, name::Address, time::Timestamp},
};

/// What can go wrong with the store.
#[derive(Debug, thiserror::Error)]
pub enum StoreError {
    /// There is no room: nothing was stored.
    #[error("there is no room left to store events")]
    Full,
    /// The database cannot be brought to this version.
    #[error("the database cannot be brought up to date")]
    Migration(#[from] rusqlite_migration::Error),
    /// Something else.
    #[error("the database answered with an error")]
    Database(#[source] rusqlite::Error),
    /// What was stored cannot be read back.
    #[error("{what} cannot be read back")]
    Unreadable {
        /// Which record.
        what: String,
        /// Why.
        source: serde_json::Error,
    },
}

impl StoreError {
    /// Whether it may go well later, with room or with whoever has the file gone: all else is this program's own fault or a
    /// damaged file, and no trying again mends it.
    pub fn is_passing(&self) -> bool {
        use rusqlite::ErrorCode::*;
        match self {
            StoreError::Full => true,
            StoreError::Database(error) => {
                matches!(
                    error.sqlite_error_code(),
                    Some(DatabaseBusy | DatabaseLocked | SystemIoFailure | OutOfMemory | CannotOpen | ReadOnly)
                )
            }
            StoreError::Migration(_) | StoreError::Unreadable { .. } => false,
        }
    }
}

impl From<rusqlite::Error> for StoreError {
    fn from(error: rusqlite::Error) -> Self {
        match error.sqlite_error_code() {
            Some(rusqlite::ErrorCode::DiskFull) => StoreError::Full,
            // Without room, a write fails under many names.
            Some(rusqlite::ErrorCode::SystemIoFailure) if error.to_string().contains("full") => StoreError::Full,
            _ => StoreError::Database(error),
        }
    }
}

/// A loaded estate.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Edition {
    /// Its number, from 1.
    pub no: u64,
    /// When it was loaded.
    pub at: Timestamp,
    /// By whom.
    pub who: String,
    /// Why.
    pub why: Option<String>,
    /// The file as it was.
    pub text: String,
    /// The folder its relative paths start from.
    pub folder: String,
    /// The procedure that was edited here; nothing where the whole was loaded from a file.
    pub edited: Option<String>,
}

/// What a service was last started as (R24).
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct StartedAs {
    /// By which run.
    pub run: RunId,
    /// The identity of the act.
    pub act: String,
    /// When.
    pub at: Timestamp,
    /// The edition.
    pub edition: u64,
    /// The service with all its settings, overrides in it, secrets as references.
    pub service: std::sync::Arc<yantro_core::model::Service>,
}

/// That a service was taken down on purpose, whoever had started it (R33). It counts until it is up again, by whom ever.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct IntendedDown {
    /// By which run.
    pub run: RunId,
    /// Who began that.
    pub who: String,
    /// Why, where that was said.
    pub why: Option<String>,
}

/// One line of the audit trail.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct AuditRow {
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

/// An event with its place in the stream of all events.
#[derive(Debug, Clone, PartialEq)]
pub struct StreamEvent {
    /// Its place, growing.
    pub id: i64,
    /// The run.
    pub run: RunId,
    /// The event.
    pub stamped: Stamped,
}

/// What lands together.
#[derive(Debug, Clone, Default)]
pub struct Batch {
    /// Events, in order.
    pub events: Vec<(RunId, Stamped)>,
    /// Runs as they stand after them.
    pub runs: Vec<RunSummary>,
    /// What services were started as.
    pub started: Vec<(Address, StartedAs)>,
    /// How long good steps took: what it is kept under, the step's kind, and the time.
    pub took: Vec<(String, StepKind, Duration)>,
    /// The audit trail.
    pub audit: Vec<AuditRow>,
    /// A new edition.
    pub edition: Option<Edition>,
    /// Settings by name.
    pub settings: Vec<(String, String)>,
    /// Forbidden lines in services' logs, and which of them no longer count.
    pub log_against: Vec<(Address, Option<LogAgainst>)>,
    /// Services that were taken down on purpose, and those of which that does not count any longer.
    pub intended_down: Vec<(Address, Option<IntendedDown>)>,
    /// A session of this store that begins: its identity, and when.
    pub session: Option<(String, Timestamp)>,
    /// Identities that runs were asked for under.
    pub asked_as: Vec<(String, RunId)>,
}

impl Batch {
    /// Whether there is nothing to store.
    pub fn is_empty(&self) -> bool {
        self.events.is_empty()
            && self.runs.is_empty()
            && self.started.is_empty()
            && self.took.is_empty()
            && self.audit.is_empty()
            && self.edition.is_none()
            && self.settings.is_empty()
            && self.log_against.is_empty()
            && self.intended_down.is_empty()
            && self.session.is_none()
            && self.asked_as.is_empty()
    }
}
