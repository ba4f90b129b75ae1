//! The engine as a handle: what is shared, and how the loop is asked.

use std::{
    collections::{BTreeMap, VecDeque},
    path::PathBuf,
    sync::{Arc, Mutex, PoisonError, RwLock, RwLockReadGuard, atomic::AtomicI64},
};

use tokio::sync::{broadcast, oneshot};
use yantro_core::{
    plan::Shown,
    run::{Run, RunId},
    words::time::Timestamp,
};
use yantro_store::Reader;

use crate::{
    clock::Clock,
    error::EngineError,
    hands::Hands,
    identity::Place,
    inbox::Inbox,
    loaded::Loaded,
    messages::Msg,
    standing::remembered::Remembered,
    told::{
        forecast::KeptForecast,
        publish::{Published, Publisher},
    },
    turn::storage::Storage,
};

/// How the engine is to be run.
#[derive(Debug, Clone, Default)]
pub struct Options {
    /// Only look, never act: everything is at a standstill from the first.
    pub looking_only: bool,
    /// Where hosts that are reached from here keep which server acts on them (R35): one folder for all
    /// servers of a machine.
    pub host_records: PathBuf,
}

pub(crate) struct Shared {
    pub loaded: RwLock<Option<Arc<Loaded>>>,
    /// The newest edition, where it does not vet any more, and why.
    pub unusable: RwLock<Option<(u64, String)>>,
    /// What was shown last to whoever may begin it, by digest: to say how it differs by then.
    pub shown: Mutex<VecDeque<(String, Shown)>>,
    pub runs: RwLock<BTreeMap<RunId, Run>>,
    pub standstill: RwLock<Option<String>>,
    pub storage_trouble: RwLock<Option<String>>,
    pub publisher: Publisher,
    pub database: PathBuf,
    /// One more look for the board, asked by people.
    pub look_again: tokio::sync::Notify,
    /// The board as it was told last.
    pub remembered: Mutex<Remembered>,
    /// How runs were forecast last. Whoever asks meanwhile waits for the one that is being worked out.
    pub forecasts: Mutex<BTreeMap<RunId, KeptForecast>>,
    /// Forecasts of plans that were shown lately, by what they hang on.
    pub foretold: Mutex<std::collections::VecDeque<(u64, Arc<yantro_core::plan::forecast::plays::Forecast>)>>,
    /// Since when everything was looked at once more.
    pub looked_at_ms: AtomicI64,
    pub loading: tokio::sync::Mutex<()>,
    pub _lock: std::fs::File,
}

pub(crate) fn read<T>(lock: &RwLock<T>) -> RwLockReadGuard<'_, T> {
    lock.read().unwrap_or_else(PoisonError::into_inner)
}

/// The engine. Cheap to clone; all clones are the same one.
#[derive(Clone)]
pub struct Engine {
    pub(crate) shared: Arc<Shared>,
    pub(crate) hands: Hands,
    pub(crate) inbox: Inbox<Msg>,
    pub(crate) storage: Arc<Storage>,
}

impl Engine {
    // ---- asking ----

    /// The loaded estate.
    pub fn loaded(&self) -> Option<Arc<Loaded>> {
        read(&self.shared.loaded).clone()
    }

    /// The loaded estate, or why there is none.
    pub fn estate_loaded(&self) -> Result<Arc<Loaded>, EngineError> {
        self.loaded().ok_or_else(|| match read(&self.shared.unusable).clone() {
            Some((edition, why)) => EngineError::EstateUnusable { edition, why },
            None => EngineError::NoEstate,
        })
    }

    /// A connection for reading what is stored. For threads that may block.
    pub fn reader(&self) -> Result<Reader, EngineError> {
        Ok(Reader::open(&self.shared.database)?)
    }

    /// A place in the stream of events, as it is told.
    pub fn place(&self, event: i64) -> Place {
        self.hands.identity.place(event)
    }

    /// How far the stream has come.
    pub fn here(&self) -> Place {
        self.hands.identity.here()
    }

    /// Whether a place is one of this stream: of a store that was restored since, it may be ahead.
    pub fn knows(&self, place: &Place) -> bool {
        self.hands.identity.knows(place)
    }

    /// Everything that is told from now on.
    pub fn listen(&self) -> broadcast::Receiver<Arc<Published>> {
        self.shared.publisher.listen()
    }

    /// The clock all instants are by.
    pub fn clock(&self) -> Clock {
        self.hands.clock
    }

    /// The text with every known secret replaced by its reference.
    pub fn mask(&self, text: &str) -> String {
        self.hands.hosts.here().mask(text)
    }

    /// Asks the loop for something, and waits for its answer.
    pub(crate) async fn ask<T>(&self, msg: impl FnOnce(oneshot::Sender<Result<T, EngineError>>) -> Msg) -> Result<T, EngineError> {
        let (reply, answered) = oneshot::channel();
        self.inbox.ask(msg(reply))?;
        answered.await.expect("the loop answers what it was asked")
    }

    pub(crate) fn send(&self, msg: Msg) {
        self.inbox.tell(msg);
    }

    /// When the loop next wants waking by itself; `None` while it waits for answers or for people only.
    pub fn next_wake(&self) -> Option<Timestamp> {
        read(&self.shared.runs).values().filter_map(Run::next_deadline).min()
    }

    /// For trying what a full disk does: see [`yantro_store::Writer::limit_pages`].
    pub fn limit_storage(&self, more_pages: Option<u32>) {
        self.storage.limit_pages(more_pages);
    }
}
