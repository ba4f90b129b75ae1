//! What Yantro keeps, in SQLite: editions, runs and their events, what services were started as,
//! how long steps took, and the audit trail. All SQL is here.
//!
//! One [`Writer`] and any number of [`Reader`]s, each on a connection of its own. A [`Batch`] lands
//! whole or not at all, durable when [`Writer::commit`] returns.

mod schema;

use std::{
    collections::{BTreeMap, BTreeSet},
    io::Write,
    path::Path,
    time::Duration,
};

use rusqlite::{Connection, OpenFlags, OptionalExtension, Transaction, TransactionBehavior, params};
use serde::{Deserialize, Serialize, de::DeserializeOwned};
use yantro_core::{
    proof::LogAgainst,
    run::{Event, RunId, RunSummary, Stamped},
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

/// Keeps what a table says of each service, or that it says nothing any longer.
fn keep_by_address<T: Serialize>(t: &Transaction<'_>, table: &str, rows: &[(Address, Option<T>)]) -> Result<(), StoreError> {
    for (address, row) in rows {
        match row {
            Some(row) => t
                .prepare_cached(&format!(
                    "INSERT INTO {table} (address, body) VALUES (?1,?2) ON CONFLICT (address) DO UPDATE SET body = ?2"
                ))?
                .execute(params![address.to_string(), json(row)])?,
            None => t.prepare_cached(&format!("DELETE FROM {table} WHERE address = ?1"))?.execute(params![address.to_string()])?,
        };
    }
    Ok(())
}

fn open(path: &Path, flags: OpenFlags) -> Result<Connection, StoreError> {
    let connection = Connection::open_with_flags(path, flags)?;
    connection.busy_timeout(Duration::from_secs(10))?;
    connection.pragma_update(None, "foreign_keys", true)?;
    connection.set_prepared_statement_cache_capacity(64);
    Ok(connection)
}

/// The one that writes.
pub struct Writer {
    connection: Connection,
}

impl Writer {
    /// Opens the database, makes it where there is none, and brings it up to date.
    pub fn open(path: &Path) -> Result<Self, StoreError> {
        let mut connection = open(path, OpenFlags::default())?;
        connection.pragma_update(None, "journal_mode", "WAL")?;
        // An event is durable before the orders it caused are carried out.
        connection.pragma_update(None, "synchronous", "FULL")?;
        schema::migrations().to_latest(&mut connection)?;
        // Slower without, and not wrong: a disk may be full.
        let _ = fill_log(path);
        keep_from_others(path);
        Ok(Self { connection })
    }

    /// Bounds the database to so many pages more than it has: for trying what a full disk does.
    pub fn limit_pages(&self, more: Option<u32>) -> Result<(), StoreError> {
        let pages: u32 = self.connection.pragma_query_value(None, "page_count", |r| r.get(0))?;
        let limit = more.map_or(1_073_741_823, |more| pages + more);
        self.connection.pragma_update_and_check(None, "max_page_count", limit, |_| Ok(()))?;
        Ok(())
    }

    /// Stores a batch, and says at which places of the stream its events are.
    pub fn commit(&mut self, batch: &Batch) -> Result<Vec<i64>, StoreError> {
        let transaction = self.connection.transaction_with_behavior(TransactionBehavior::Immediate)?;
        let ids = write(&transaction, batch)?;
        transaction.commit()?;
        Ok(ids)
    }
}

/// What is kept is for the server's account only. Where that cannot be set the folder has to keep it.
fn keep_from_others(path: &Path) {
    use std::os::unix::fs::PermissionsExt;
    for end in ["", "-wal", "-shm"] {
        let mut file = path.as_os_str().to_owned();
        file.push(end);
        let _ = std::fs::set_permissions(file, std::fs::Permissions::from_mode(0o600));
    }
}

/// Makes the write-ahead log as long as it becomes before its first frames are written over: a commit that has to make a
/// file longer takes several times as long. What follows its last valid frame counts for nothing (SQLite's file format,
/// 4.4: a frame is valid by its salts and its checksum), and a log is never cut while it is open.
fn fill_log(path: &Path) -> std::io::Result<()> {
    // SQLite begins anew after 1,000 pages (wal_autocheckpoint), each with a head of 24 bytes, after a head of 32.
    const LENGTH: u64 = 32 + 1_100 * (4_096 + 24);
    let mut log = path.as_os_str().to_owned();
    log.push("-wal");
    let mut file = std::fs::File::options().append(true).open(log)?;
    let disk = nix::sys::statvfs::fstatvfs(&file)?;
    // The last of a disk that is almost full is not for this.
    if disk.blocks_available().saturating_mul(disk.fragment_size()) < 4 * LENGTH {
        return Ok(());
    }
    let missing = LENGTH.saturating_sub(file.metadata()?.len());
    file.write_all(&vec![0; missing as usize])?;
    file.sync_all()
}

fn json(value: &impl Serialize) -> String {
    serde_json::to_string(value).expect("our own types have text keys only")
}

fn write(t: &Transaction<'_>, batch: &Batch) -> Result<Vec<i64>, StoreError> {
    for row in &batch.runs {
        t.prepare_cached(
            "INSERT INTO run (id, state, title, who, began_at, ended_at, steps, steps_ended) VALUES (?1,?2,?3,?4,?5,?6,?7,?8)
             ON CONFLICT (id) DO UPDATE SET state = ?2, title = ?3, ended_at = ?6, steps = ?7, steps_ended = ?8",
        )?
        .execute(params![
            row.id.0,
            row.state,
            row.title,
            row.who,
            row.began_at.as_ms(),
            row.ended_at.map(Timestamp::as_ms),
            row.steps,
            row.steps_ended
        ])?;
    }
    let mut ids = Vec::with_capacity(batch.events.len());
    for (run, stamped) in &batch.events {
        t.prepare_cached("INSERT INTO event (run, no, at, body) VALUES (?1,?2,?3,?4)")?.execute(params![
            run.0,
            stamped.no,
            stamped.at.as_ms(),
            json(&stamped.event)
        ])?;
        ids.push(t.last_insert_rowid());
    }
    for (address, started) in &batch.started {
        t.prepare_cached("INSERT INTO started (address, body) VALUES (?1,?2) ON CONFLICT (address) DO UPDATE SET body = ?2")?
            .execute(params![address.to_string(), json(started)])?;
    }
    for (address, kind, took) in &batch.took {
        t.prepare_cached("INSERT INTO took (address, kind, ms) VALUES (?1,?2,?3)")?.execute(params![
            address,
            kind.word(),
            took.as_millis() as i64
        ])?;
    }
    for row in &batch.audit {
        t.prepare_cached("INSERT INTO audit (at, who, what, about, why) VALUES (?1,?2,?3,?4,?5)")?.execute(params![
            row.at.as_ms(),
            row.who,
            row.what,
            row.about,
            row.why
        ])?;
    }
    if let Some(e) = &batch.edition {
        t.execute(
            "INSERT INTO edition (no, at, who, why, text, folder, edited) VALUES (?1,?2,?3,?4,?5,?6,?7)",
            params![e.no, e.at.as_ms(), e.who, e.why, e.text, e.folder, e.edited],
        )?;
    }
    for (name, value) in &batch.settings {
        t.execute("INSERT INTO setting (name, value) VALUES (?1,?2) ON CONFLICT (name) DO UPDATE SET value = ?2", params![name, value])?;
    }
    keep_by_address(t, "log_against", &batch.log_against)?;
    keep_by_address(t, "intended_down", &batch.intended_down)?;
    for (identity, run) in &batch.asked_as {
        t.execute("INSERT INTO asked_as (identity, run) VALUES (?1,?2)", params![identity, run.0])?;
    }
    if let Some((id, at)) = &batch.session {
        t.execute(
            "INSERT INTO session (id, at, after) VALUES (?1, ?2, (SELECT COALESCE(MAX(id), 0) FROM event))",
            params![id, at.as_ms()],
        )?;
    }
    Ok(ids)
}

/// One that reads.
pub struct Reader {
    connection: Connection,
}

impl Reader {
    /// Opens a database that a [`Writer`] has made.
    pub fn open(path: &Path) -> Result<Self, StoreError> {
        Ok(Self { connection: open(path, OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_NO_MUTEX)? })
    }

    /// The newest edition.
    pub fn newest_edition(&self) -> Result<Option<Edition>, StoreError> {
        Ok(self.editions("ORDER BY no DESC LIMIT 1", params![])?.pop())
    }

    /// One edition.
    pub fn edition(&self, no: u64) -> Result<Option<Edition>, StoreError> {
        Ok(self.editions("WHERE no = ?1", params![no])?.pop())
    }

    /// The newest editions, the newest first.
    pub fn newest_editions(&self, limit: u32) -> Result<Vec<Edition>, StoreError> {
        self.editions("ORDER BY no DESC LIMIT ?1", params![limit])
    }

    /// The procedures edited here since the whole was last loaded from a file.
    pub fn edited_since_load(&self) -> Result<Vec<String>, StoreError> {
        let mut statement = self.connection.prepare(
            "SELECT DISTINCT edited FROM edition
             WHERE edited IS NOT NULL AND no > (SELECT coalesce(max(no), 0) FROM edition WHERE edited IS NULL)",
        )?;
        let rows = statement.query_map([], |r| r.get(0))?;
        Ok(rows.collect::<Result<_, _>>()?)
    }

    fn editions(&self, rest: &str, with: impl rusqlite::Params) -> Result<Vec<Edition>, StoreError> {
        let mut statement = self.connection.prepare(&format!("SELECT no, at, who, why, text, folder, edited FROM edition {rest}"))?;
        let rows = statement.query_map(with, |r| {
            Ok(Edition {
                no: r.get(0)?,
                at: Timestamp::from_ms(r.get(1)?),
                who: r.get(2)?,
                why: r.get(3)?,
                text: r.get(4)?,
                folder: r.get(5)?,
                edited: r.get(6)?,
            })
        })?;
        Ok(rows.collect::<Result<_, _>>()?)
    }

    /// The newest runs below a number, the newest first.
    pub fn runs(&self, before: Option<RunId>, limit: u32) -> Result<Vec<RunSummary>, StoreError> {
        let mut statement = self.connection.prepare_cached(
            "SELECT id, state, title, who, began_at, ended_at, steps, steps_ended FROM run WHERE id < ?1 ORDER BY id DESC LIMIT ?2",
        )?;
        let rows = statement.query_map(params![before.map_or(i64::MAX, |b| b.0 as i64), limit], summary)?;
        Ok(rows.collect::<Result<_, _>>()?)
    }

    /// Runs that have not ended, the oldest first.
    pub fn open_runs(&self) -> Result<Vec<RunId>, StoreError> {
        let mut statement = self.connection.prepare_cached("SELECT id FROM run WHERE ended_at IS NULL ORDER BY id")?;
        let rows = statement.query_map([], |r| Ok(RunId(r.get::<_, i64>(0)? as u64)))?;
        Ok(rows.collect::<Result<_, _>>()?)
    }

    /// The run that was begun under an identity.
    pub fn asked_as(&self, identity: &str) -> Result<Option<RunId>, StoreError> {
        let found = self.connection.query_row("SELECT run FROM asked_as WHERE identity = ?1", params![identity], |r| r.get::<_, i64>(0));
        Ok(found.optional()?.map(|run| RunId(run as u64)))
    }

    /// The number of the newest edition, whether or not it can be read; 0 where there is none.
    pub fn last_edition(&self) -> Result<u64, StoreError> {
        Ok(self.connection.query_row("SELECT COALESCE(MAX(no), 0) FROM edition", [], |r| r.get::<_, i64>(0))? as u64)
    }

    /// The highest number a run has.
    pub fn last_run(&self) -> Result<u64, StoreError> {
        Ok(self.connection.query_row("SELECT COALESCE(MAX(id), 0) FROM run", [], |r| r.get::<_, i64>(0))? as u64)
    }

    /// The events of a run, in order.
    pub fn events_of(&self, run: RunId) -> Result<Vec<Stamped>, StoreError> {
        let mut statement = self.connection.prepare_cached("SELECT id, run, no, at, body FROM event WHERE run = ?1 ORDER BY no")?;
        let rows = statement.query_map(params![run.0], raw_event)?;
        rows.map(|row| Ok(parsed(row?)?.stamped)).collect()
    }

    /// Events after a place in the stream, in order.
    pub fn events_after(&self, id: i64, limit: u32) -> Result<Vec<StreamEvent>, StoreError> {
        let mut statement = self.connection.prepare_cached("SELECT id, run, no, at, body FROM event WHERE id > ?1 ORDER BY id LIMIT ?2")?;
        let rows = statement.query_map(params![id, limit], raw_event)?;
        rows.map(|row| parsed(row?)).collect()
    }

    /// The place of the newest event.
    pub fn last_event(&self) -> Result<i64, StoreError> {
        Ok(self.connection.query_row("SELECT COALESCE(MAX(id), 0) FROM event", [], |r| r.get(0))?)
    }

    /// What services were last started as.
    pub fn started(&self) -> Result<Vec<(Address, StartedAs)>, StoreError> {
        self.by_address("started", "what it was started as")
    }

    /// Forbidden lines in services' logs that still count.
    pub fn log_against(&self) -> Result<Vec<(Address, LogAgainst)>, StoreError> {
        self.by_address("log_against", "the line against it")
    }

    /// Services that were taken down on purpose, and are not known to have been up since.
    pub fn intended_down(&self) -> Result<Vec<(Address, IntendedDown)>, StoreError> {
        self.by_address("intended_down", "that it was taken down on purpose")
    }

    /// A table with one body for each service.
    fn by_address<T: DeserializeOwned>(&self, table: &str, what: &str) -> Result<Vec<(Address, T)>, StoreError> {
        let mut statement = self.connection.prepare(&format!("SELECT address, body FROM {table} ORDER BY address"))?;
        let rows = statement.query_map([], |r| Ok((r.get::<_, String>(0)?, r.get::<_, String>(1)?)))?;
        let mut all = Vec::new();
        for row in rows {
            let (address, body) = row?;
            let value =
                serde_json::from_str(&body).map_err(|source| StoreError::Unreadable { what: format!("{address}: {what}"), source })?;
            if let Ok(address) = address.parse() {
                all.push((address, value));
            }
        }
        Ok(all)
    }

    /// The newest session of which is known where it began.
    pub fn newest_session(&self) -> Result<Option<String>, StoreError> {
        let newest = "SELECT id FROM session WHERE after IS NOT NULL ORDER BY after DESC, at DESC LIMIT 1";
        Ok(self.connection.query_row(newest, [], |r| r.get(0)).optional()?)
    }

    /// Up to which place of the stream each session came that has ended, and of which that is known.
    pub fn session_ends(&self) -> Result<BTreeMap<String, i64>, StoreError> {
        let mut statement =
            self.connection.prepare("SELECT id, LEAD(after) OVER (ORDER BY after, at) FROM session WHERE after IS NOT NULL")?;
        let rows = statement.query_map([], |r| Ok((r.get::<_, String>(0)?, r.get::<_, Option<i64>>(1)?)))?;
        Ok(rows.collect::<Result<Vec<_>, _>>()?.into_iter().filter_map(|(id, end)| Some((id, end?))).collect())
    }

    /// Every session that this store was served in.
    pub fn sessions(&self) -> Result<BTreeSet<String>, StoreError> {
        let mut statement = self.connection.prepare("SELECT id FROM session")?;
        let rows = statement.query_map([], |r| r.get(0))?;
        Ok(rows.collect::<Result<_, _>>()?)
    }

    /// The last good times of every step, at most 25 of each: what they are kept under, the step's kind as a
    /// word, and the times.
    pub fn times(&self) -> Result<Vec<(String, String, Vec<Duration>)>, StoreError> {
        let mut statement = self.connection.prepare_cached(
            "SELECT address, kind, ms FROM
             (SELECT address, kind, ms, ROW_NUMBER() OVER (PARTITION BY address, kind ORDER BY id DESC) AS age FROM took)
             WHERE age <= 25 ORDER BY address, kind",
        )?;
        let rows = statement.query_map([], |r| Ok((r.get::<_, String>(0)?, r.get::<_, String>(1)?, r.get::<_, i64>(2)?)))?;
        let mut all: Vec<(String, String, Vec<Duration>)> = Vec::new();
        for row in rows {
            let (under, kind, ms) = row?;
            let took = Duration::from_millis(ms.max(0) as u64);
            match all.last_mut() {
                Some((u, k, times)) if *u == under && *k == kind => times.push(took),
                _ => all.push((under, kind, vec![took])),
            }
        }
        Ok(all)
    }

    /// The newest lines of the audit trail, the newest first.
    pub fn audit(&self, limit: u32) -> Result<Vec<AuditRow>, StoreError> {
        let mut statement = self.connection.prepare_cached("SELECT at, who, what, about, why FROM audit ORDER BY id DESC LIMIT ?1")?;
        let rows = statement.query_map(params![limit], |r| {
            Ok(AuditRow { at: Timestamp::from_ms(r.get(0)?), who: r.get(1)?, what: r.get(2)?, about: r.get(3)?, why: r.get(4)? })
        })?;
        Ok(rows.collect::<Result<_, _>>()?)
    }

    /// A setting.
    pub fn setting(&self, name: &str) -> Result<Option<String>, StoreError> {
        Ok(self.connection.query_row("SELECT value FROM setting WHERE name = ?1", params![name], |r| r.get(0)).optional()?)
    }
}

fn summary(r: &rusqlite::Row<'_>) -> rusqlite::Result<RunSummary> {
    Ok(RunSummary {
        id: RunId(r.get::<_, i64>(0)? as u64),
        state: r.get(1)?,
        title: r.get(2)?,
        who: r.get(3)?,
        began_at: Timestamp::from_ms(r.get(4)?),
        ended_at: r.get::<_, Option<i64>>(5)?.map(Timestamp::from_ms),
        steps: r.get(6)?,
        steps_ended: r.get(7)?,
    })
}

type RawEvent = (i64, u64, u64, i64, String);

fn raw_event(r: &rusqlite::Row<'_>) -> rusqlite::Result<RawEvent> {
    Ok((r.get(0)?, r.get(1)?, r.get(2)?, r.get(3)?, r.get(4)?))
}

fn parsed((id, run, no, at, body): RawEvent) -> Result<StreamEvent, StoreError> {
    let event: Event =
        serde_json::from_str(&body).map_err(|source| StoreError::Unreadable { what: format!("event {no} of run {run}"), source })?;
    Ok(StreamEvent { id, run: RunId(run), stamped: Stamped { no, at: Timestamp::from_ms(at), event } })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn event(no: u64) -> (RunId, Stamped) {
        (RunId(1), Stamped { no, at: Timestamp::from_ms(1000 + no as i64), event: Event::Locked })
    }

    fn row(steps_ended: u32) -> RunSummary {
        RunSummary {
            id: RunId(1),
            state: "running".into(),
            title: "restart quay-1/fares-db".into(),
            who: "maren".into(),
            began_at: Timestamp::from_ms(1000),
            ended_at: None,
            steps: 2,
            steps_ended,
        }
    }

    #[test]
    fn migrations_apply_to_an_empty_file() {
        schema::migrations().validate().unwrap();
    }

    #[test]
    fn a_batch_lands_and_is_read_back() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("yantro.db");
        let mut writer = Writer::open(&path).unwrap();
        let ids = writer.commit(&Batch { events: vec![event(1), event(2)], runs: vec![row(0)], ..Batch::default() }).unwrap();
        let reader = Reader::open(&path).unwrap();
        assert_eq!(reader.events_of(RunId(1)).unwrap().len(), 2);
        assert_eq!(reader.events_after(ids[0], 10).unwrap()[0].id, ids[1]);
        assert_eq!(reader.open_runs().unwrap(), [RunId(1)]);
    }

    /// The log is as long from the first as it becomes, so that no commit has to make it longer; and a server that dies
    /// leaves one in which only what was stored counts.
    #[test]
    fn a_log_that_is_longer_than_what_was_stored_is_read_back_to_there() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("yantro.db");
        let mut writer = Writer::open(&path).unwrap();
        let length = |log: &str| std::fs::metadata(dir.path().join(log)).unwrap().len();
        let before = length("yantro.db-wal");
        for no in 1..=1_500 {
            writer.commit(&Batch { events: vec![event(no)], runs: vec![row(0)], ..Batch::default() }).unwrap();
        }
        assert_eq!(length("yantro.db-wal"), before);
        // As a server leaves them that is ended in the middle.
        for file in ["yantro.db", "yantro.db-wal"] {
            std::fs::copy(dir.path().join(file), dir.path().join(file.replace("yantro", "left"))).unwrap();
        }
        let left = dir.path().join("left.db");
        let mut writer = Writer::open(&left).unwrap();
        assert_eq!(Reader::open(&left).unwrap().events_of(RunId(1)).unwrap().len(), 1_500);
        writer.commit(&Batch { events: vec![event(1_501)], ..Batch::default() }).unwrap();
        assert_eq!(Reader::open(&left).unwrap().events_of(RunId(1)).unwrap().len(), 1_501);
    }

    #[test]
    fn editions_tell_what_was_edited_since_the_last_load() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("yantro.db");
        let mut writer = Writer::open(&path).unwrap();
        let mut edition = |no: u64, edited: Option<&str>| {
            let edition = Edition {
                no,
                at: Timestamp::from_ms(no as i64),
                who: "maren".into(),
                why: None,
                text: format!("edition {no}"),
                folder: "/e".into(),
                edited: edited.map(str::to_owned),
            };
            writer.commit(&Batch { edition: Some(edition), ..Batch::default() }).unwrap();
        };
        edition(1, None);
        edition(2, Some("night"));
        edition(3, Some("dusk"));
        edition(4, Some("night"));
        let reader = Reader::open(&path).unwrap();
        let mut edited = reader.edited_since_load().unwrap();
        edited.sort();
        assert_eq!(edited, ["dusk", "night"]);
        assert_eq!(reader.newest_editions(2).unwrap().iter().map(|e| e.no).collect::<Vec<_>>(), [4, 3]);
        assert_eq!(reader.edition(2).unwrap().unwrap().edited.as_deref(), Some("night"));
        edition(5, None);
        assert!(reader.edited_since_load().unwrap().is_empty());
        assert_eq!(reader.newest_edition().unwrap().unwrap().text, "edition 5");
    }

    #[test]
    fn what_an_older_store_says_is_down_on_purpose_is_kept() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("yantro.db");
        let mut older = Connection::open(&path).unwrap();
        schema::migrations().to_version(&mut older, 4).unwrap();
        for (address, body) in [
            ("h/db", r#"{"run":1,"intended_down":[3,"maren"]}"#),
            ("h/app", r#"{"run":1,"intended_down":null}"#),
            ("h/gate", r#"{"run":1}"#),
        ] {
            older.execute("INSERT INTO started (address, body) VALUES (?1, ?2)", params![address, body]).unwrap();
        }
        drop(older);
        drop(Writer::open(&path).unwrap());
        let kept = Reader::open(&path).unwrap().intended_down().unwrap();
        let intended = IntendedDown { run: RunId(3), who: "maren".into(), why: None };
        assert_eq!(kept, [("h/db".parse().unwrap(), intended)]);
    }

    #[test]
    fn an_identity_stands_for_one_run_only() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("yantro.db");
        let mut writer = Writer::open(&path).unwrap();
        let batch = Batch { runs: vec![row(0)], asked_as: vec![("a1".into(), RunId(1))], ..Batch::default() };
        writer.commit(&batch).unwrap();
        let reader = Reader::open(&path).unwrap();
        assert_eq!((reader.asked_as("a1").unwrap(), reader.asked_as("a2").unwrap()), (Some(RunId(1)), None));
        let twice = writer.commit(&Batch { asked_as: vec![("a1".into(), RunId(1))], ..Batch::default() }).unwrap_err();
        assert!(!twice.is_passing(), "no trying again makes it good: {twice}");
    }

    #[test]
    fn an_event_number_cannot_be_stored_twice() {
        let dir = tempfile::tempdir().unwrap();
        let mut writer = Writer::open(&dir.path().join("yantro.db")).unwrap();
        let batch = Batch { events: vec![event(1)], runs: vec![row(0)], ..Batch::default() };
        writer.commit(&batch).unwrap();
        assert!(writer.commit(&batch).is_err());
    }

    #[test]
    fn without_room_nothing_lands_and_with_room_again_it_does() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("yantro.db");
        let mut writer = Writer::open(&path).unwrap();
        writer.commit(&Batch { runs: vec![row(0)], ..Batch::default() }).unwrap();
        writer.limit_pages(Some(0)).unwrap();
        let many = Batch { events: (1..400).map(event).collect(), ..Batch::default() };
        let full = writer.commit(&many).unwrap_err();
        assert!(matches!(full, StoreError::Full) && full.is_passing());
        assert_eq!(Reader::open(&path).unwrap().events_of(RunId(1)).unwrap().len(), 0);
        writer.limit_pages(None).unwrap();
        writer.commit(&many).unwrap();
        assert_eq!(Reader::open(&path).unwrap().events_of(RunId(1)).unwrap().len(), 399);
    }

    #[test]
    fn a_line_against_a_service_is_kept_until_it_no_longer_counts() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("yantro.db");
        let mut writer = Writer::open(&path).unwrap();
        let address: Address = "quay-1/fares-db".parse().unwrap();
        let against = |line: &str| {
            Some(LogAgainst { line: line.into(), source: "fares.log".into(), missing: false, run: 3, at: Timestamp::from_ms(5) })
        };
        for line in ["FATAL one", "FATAL two"] {
            writer.commit(&Batch { log_against: vec![(address.clone(), against(line))], ..Batch::default() }).unwrap();
        }
        let kept = Reader::open(&path).unwrap().log_against().unwrap();
        assert_eq!(kept, [(address.clone(), against("FATAL two").unwrap())], "the newest counts");
        writer.commit(&Batch { log_against: vec![(address, None)], ..Batch::default() }).unwrap();
        assert!(Reader::open(&path).unwrap().log_against().unwrap().is_empty());
    }

    #[test]
    fn every_session_is_remembered() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("yantro.db");
        let mut writer = Writer::open(&path).unwrap();
        for id in ["b", "a"] {
            writer.commit(&Batch { session: Some((id.into(), Timestamp::from_ms(1))), ..Batch::default() }).unwrap();
        }
        let reader = Reader::open(&path).unwrap();
        assert_eq!(reader.sessions().unwrap(), ["a".to_owned(), "b".to_owned()].into());
        let began = |id: &str, at| Batch { session: Some((id.into(), Timestamp::from_ms(at))), ..Batch::default() };
        writer.commit(&Batch { runs: vec![row(0)], events: vec![event(1), event(2)], ..Batch::default() }).unwrap();
        writer.commit(&began("c", 2)).unwrap();
        writer.commit(&Batch { events: vec![event(3)], ..Batch::default() }).unwrap();
        writer.commit(&began("d", 3)).unwrap();
        let ends = reader.session_ends().unwrap();
        assert_eq!((ends.get("c"), ends.get("d")), (Some(&3), None), "{ends:?}");
    }

    #[test]
    fn what_was_written_down_cannot_be_altered_or_taken_out() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("yantro.db");
        let mut writer = Writer::open(&path).unwrap();
        let audit = AuditRow { at: Timestamp::from_ms(1), who: "maren".into(), what: "begin".into(), about: "run 1".into(), why: None };
        writer.commit(&Batch { events: vec![event(1)], runs: vec![row(0)], audit: vec![audit], ..Batch::default() }).unwrap();
        for statement in ["UPDATE event SET body = ''", "DELETE FROM event", "UPDATE audit SET who = 'tove'", "DELETE FROM audit"] {
            let refused = writer.connection.execute_batch(statement).unwrap_err().to_string();
            assert!(refused.contains("never"), "{statement}: {refused}");
        }
    }

    #[test]
    fn the_last_times_of_a_step_are_kept_together() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("yantro.db");
        let mut writer = Writer::open(&path).unwrap();
        let ms = Duration::from_millis;
        let took = (0..30).map(|i| ("quay-1/fares-db".to_owned(), StepKind::Start, ms(i))).collect();
        writer.commit(&Batch { took, ..Batch::default() }).unwrap();
        let took = vec![("patch-night: patch".to_owned(), StepKind::Work, ms(7))];
        writer.commit(&Batch { took, ..Batch::default() }).unwrap();
        let times = Reader::open(&path).unwrap().times().unwrap();
        assert_eq!(
            times.iter().map(|(u, k, t)| (u.as_str(), k.as_str(), t.len())).collect::<Vec<_>>(),
            [("patch-night: patch", "work", 1), ("quay-1/fares-db", "start", 25)]
        );
        assert!(times[1].2.contains(&ms(29)) && !times[1].2.contains(&ms(4)), "the newest count");
    }
}
