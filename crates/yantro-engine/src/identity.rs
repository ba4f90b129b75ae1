//! Which server this is, told apart from every other and from copies of its own store (R35).

use std::{
    collections::{BTreeMap, BTreeSet},
    fmt,
    path::{Path, PathBuf},
    sync::atomic::{AtomicI64, Ordering},
};

use yantro_core::words::time::Timestamp;
use yantro_reach::{Claim, Claims};
use yantro_store::{Batch, Reader, StoreError};

/// The server's identity, this session's, and how far its record has come.
pub(crate) struct Identity {
    server: String,
    session: String,
    /// This session's and all before it.
    sessions: BTreeSet<String>,
    /// How far the stream of events came in each session before.
    ends: BTreeMap<String, i64>,
    counter: AtomicI64,
    data: PathBuf,
}

/// A place in the stream of events, as it goes over the wire. It is bound to the session that it was told in: the same number
/// means something else to a store that was restored from a copy.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Place {
    /// The session; none for the very begin.
    session: String,
    /// The event.
    pub event: i64,
}

impl fmt::Display for Place {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}-{}", self.session, self.event)
    }
}

impl Place {
    /// Reads one; `0` is before the first event of any store.
    pub fn read(text: &str) -> Option<Self> {
        let (session, event) = if text.trim() == "0" { ("", "0") } else { text.trim().split_once('-')? };
        Some(Self { session: session.to_owned(), event: event.parse().ok().filter(|n| *n >= 0)? })
    }
}

impl Identity {
    /// What the store knows, and a new session.
    pub fn of(reader: &Reader, data: &Path) -> Result<Self, StoreError> {
        let server = reader.setting("server_id")?.unwrap_or_else(fresh);
        let mut sessions = reader.sessions()?;
        let session = fresh();
        sessions.insert(session.clone());
        let mut ends = reader.session_ends()?;
        // The one before this ended where this begins.
        let last = reader.last_event()?;
        ends.extend(reader.newest_session()?.map(|before| (before, last)));
        Ok(Self { server, session, sessions, ends, counter: AtomicI64::new(last), data: data.to_path_buf() })
    }

    /// The server's own name, the same for its whole life.
    pub fn server(&self) -> &str {
        &self.server
    }

    /// What is to be stored before anything else.
    pub fn first_batch(&self, now: Timestamp) -> Batch {
        Batch {
            settings: vec![("server_id".to_owned(), self.server.clone())],
            session: Some((self.session.clone(), now)),
            ..Batch::default()
        }
    }

    /// A place in the stream, as it is told.
    pub fn place(&self, event: i64) -> Place {
        Place { session: self.session.clone(), event }
    }

    /// How far the stream has come.
    pub fn here(&self) -> Place {
        self.place(self.counter.load(Ordering::SeqCst))
    }

    /// Whether a place is one of this store's stream, so that what came after it can be told.
    pub fn knows(&self, place: &Place) -> bool {
        if place.session.is_empty() {
            return place.event == 0;
        }
        let end =
            if place.session == self.session { Some(self.counter.load(Ordering::SeqCst)) } else { self.ends.get(&place.session).copied() };
        end.is_some_and(|end| place.event <= end)
    }

    /// Events were stored up to here.
    pub fn came_to(&self, event: i64) {
        self.counter.fetch_max(event, Ordering::SeqCst);
    }
}

impl Claims for Identity {
    fn with(&self, f: &mut dyn FnMut(&Claim<'_>)) {
        let is_own_session = |s: &str| self.sessions.contains(s);
        f(&Claim {
            server: &self.server,
            session: &self.session,
            is_own_session: &is_own_session,
            counter: &|| self.counter.load(Ordering::SeqCst),
            data: &self.data,
        });
    }

    fn sessions(&self) -> Vec<String> {
        self.sessions.iter().cloned().collect()
    }
}

fn fresh() -> String {
    format!("{:032x}", rand::random::<u128>())
}
