//! The tables, and connections to them. A migration that has landed is never edited; a new one is added at the end.

use std::{path::Path, time::Duration};

use rusqlite::{Connection, OpenFlags};
use rusqlite_migration::{M, Migrations};

use crate::rows::StoreError;

const STEPS: &[M<'static>] = &[FIRST, SECOND, THIRD, FOURTH, FIFTH, SIXTH];

/// How far the stream of events had come when a session began: an id of the stream that goes beyond its session is of another
/// store, of which this one is a copy. Of earlier sessions that is not known.
const SIXTH: M<'static> = M::up("ALTER TABLE session ADD COLUMN after INTEGER;");

/// What is down on purpose is known of services that others had started, too: apart from what was started, and with the reason.
const FIFTH: M<'static> = M::up(
    "CREATE TABLE intended_down (address TEXT PRIMARY KEY, body TEXT NOT NULL) STRICT, WITHOUT ROWID;
     INSERT INTO intended_down
        SELECT address, json_object('run', body ->> '$.intended_down[0]', 'who', body ->> '$.intended_down[1]', 'why', NULL)
        FROM started WHERE json_type(body, '$.intended_down') = 'array';",
);

/// What a run was asked for as: asked twice under one identity it is begun once.
const FOURTH: M<'static> =
    M::up("CREATE TABLE asked_as (identity TEXT PRIMARY KEY, run INTEGER NOT NULL REFERENCES run (id)) STRICT, WITHOUT ROWID;");

const THIRD: M<'static> = M::up("ALTER TABLE edition ADD COLUMN edited TEXT;");

const SECOND: M<'static> = M::up(
    "CREATE TABLE log_against (address TEXT PRIMARY KEY, body TEXT NOT NULL) STRICT, WITHOUT ROWID;
     -- Every time this store was served from: a host's record of any other is that of a copy.
     CREATE TABLE session (id TEXT PRIMARY KEY, at INTEGER NOT NULL) STRICT, WITHOUT ROWID;",
);

const FIRST: M<'static> = M::up(
    "CREATE TABLE edition (
        no INTEGER PRIMARY KEY, at INTEGER NOT NULL, who TEXT NOT NULL, why TEXT, text TEXT NOT NULL, folder TEXT NOT NULL
     ) STRICT;
     CREATE TABLE run (
        id INTEGER PRIMARY KEY, state TEXT NOT NULL, title TEXT NOT NULL, who TEXT NOT NULL,
        began_at INTEGER NOT NULL, ended_at INTEGER, steps INTEGER NOT NULL, steps_ended INTEGER NOT NULL
     ) STRICT;
     CREATE INDEX run_open ON run (id) WHERE ended_at IS NULL;
     CREATE TABLE event (
        id INTEGER PRIMARY KEY, run INTEGER NOT NULL REFERENCES run (id), no INTEGER NOT NULL,
        at INTEGER NOT NULL, body TEXT NOT NULL, UNIQUE (run, no)
     ) STRICT;
     CREATE TABLE started (address TEXT PRIMARY KEY, body TEXT NOT NULL) STRICT, WITHOUT ROWID;
     CREATE TABLE took (id INTEGER PRIMARY KEY, address TEXT NOT NULL, kind TEXT NOT NULL, ms INTEGER NOT NULL) STRICT;
     CREATE INDEX took_by ON took (address, kind, id);
     CREATE TABLE audit (
        id INTEGER PRIMARY KEY, at INTEGER NOT NULL, who TEXT NOT NULL, what TEXT NOT NULL, about TEXT NOT NULL, why TEXT
     ) STRICT;
     CREATE TABLE setting (name TEXT PRIMARY KEY, value TEXT NOT NULL) STRICT, WITHOUT ROWID;
     -- What was written down is not altered, and not by accident either.
     CREATE TRIGGER event_stays BEFORE UPDATE ON event BEGIN SELECT RAISE(ABORT, 'events are never altered'); END;
     CREATE TRIGGER event_is_kept BEFORE DELETE ON event BEGIN SELECT RAISE(ABORT, 'events are never taken out'); END;
     CREATE TRIGGER audit_is_kept BEFORE DELETE ON audit BEGIN SELECT RAISE(ABORT, 'the audit trail is never shortened'); END;
     CREATE TRIGGER audit_stays BEFORE UPDATE ON audit BEGIN SELECT RAISE(ABORT, 'the audit trail is never altered'); END;",
);

pub(crate) fn migrations() -> Migrations<'static> {
    Migrations::from_slice(STEPS)
}

/// A connection to the database at a path.
pub(crate) fn open(path: &Path, flags: OpenFlags) -> Result<Connection, StoreError> {
    let connection = Connection::open_with_flags(path, flags)?;
    connection.busy_timeout(Duration::from_secs(10))?;
    connection.pragma_update(None, "foreign_keys", true)?;
    connection.set_prepared_statement_cache_capacity(64);
    Ok(connection)
}
