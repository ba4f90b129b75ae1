//! Writing what is kept: a batch whole or not at all.

use std::{io::Write, path::Path};

use rusqlite::{Connection, OpenFlags, Transaction, TransactionBehavior, params};
use serde::Serialize;
use yantro_core::words::{name::Address, time::Timestamp};

use crate::{
    rows::{Batch, StoreError},
    schema::{self, open},
};

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

/// The one that writes.
pub struct Writer {
    pub(crate) connection: Connection,
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
