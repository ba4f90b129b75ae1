//! Which server this is, told apart from every other and from copies of its own store (R35).

use std::{
    collections::BTreeSet,
    path::{Path, PathBuf},
    sync::atomic::{AtomicI64, Ordering},
};

use yantro_core::time::Timestamp;
use yantro_reach::{Claim, Claims};
use yantro_store::{Batch, Reader, StoreError};

/// The server's identity, this session's, and how far its record has come.
pub(crate) struct Identity {
    server: String,
    session: String,
    /// This session's and all before it.
    sessions: BTreeSet<String>,
    counter: AtomicI64,
    data: PathBuf,
}

impl Identity {
    /// What the store knows, and a new session.
    pub fn of(reader: &Reader, data: &Path) -> Result<Self, StoreError> {
        let server = reader.setting("server_id")?.unwrap_or_else(fresh);
        let mut sessions = reader.sessions()?;
        let session = fresh();
        sessions.insert(session.clone());
        Ok(Self { server, session, sessions, counter: AtomicI64::new(reader.last_event()?), data: data.to_path_buf() })
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
