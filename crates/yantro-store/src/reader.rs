//! Reading what is kept.

use std::{
    collections::{BTreeMap, BTreeSet},
    path::Path,
    time::Duration,
};

use rusqlite::{Connection, OpenFlags, OptionalExtension, params};
use serde::de::DeserializeOwned;
use yantro_core::{
    proof::LogAgainst,
    run::{Event, RunId, RunSummary, Stamped},
    words::{name::Address, time::Timestamp},
};

use crate::{
    rows::{AuditRow, Edition, IntendedDown, StartedAs, StoreError, StreamEvent},
    schema::open,
};

/// One that reads.
pub struct Reader {
    connection: Connection,
}

impl Reader {
    /// Opens a database that a [`crate::Writer`] has made.
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
