//! Starting: a data folder is taken, every run is picked up where it was, and the loop goes on.

use std::{
    collections::BTreeMap,
    path::Path,
    sync::{Arc, Mutex, RwLock, atomic::AtomicI64},
    time::Duration,
};

use yantro_core::{holders::Locks, model::Estate, run::Run, text::vet};
use yantro_reach::{Here, Hosts};
use yantro_store::{Reader, StoreError};

use crate::{
    clock::Clock,
    engine::{Engine, Options, Shared},
    error::EngineError,
    hands::Hands,
    identity::Identity,
    inbox::inbox,
    loaded::Loaded,
    standing::remembered::Remembered,
    told::publish::Publisher,
    turn::{Work, storage::Storage},
};

/// How long a data folder that is taken is waited for.
const LOCK_PATIENCE: Duration = Duration::from_secs(3);

impl Engine {
    /// Opens a data folder, picks up every run where it was, and goes on.
    ///
    /// Must be called within a tokio runtime of several threads.
    pub async fn start(data: &Path, options: Options) -> Result<Self, EngineError> {
        let folder = data.to_path_buf();
        std::fs::create_dir_all(data).map_err(|source| EngineError::Data { folder: folder.clone(), source })?;
        let lock = take_folder(data)?;
        let clock = Clock::start();
        let database = data.join("yantro.db");
        let storage = Arc::new(Storage::open(&database)?);
        let reader = Reader::open(&database)?;
        let started = reader.started()?;
        let (loaded, unusable) = match reader.newest_edition()? {
            None => (None, None),
            Some(edition) => {
                let vetted = vet(&edition.text, &edition.folder);
                match vetted.estate {
                    Some(estate) => (Some(Arc::new(Loaded::new(edition.no, edition.text, edition.folder, estate))), None),
                    None => {
                        // What an older version took is not forgotten: it is said, and the next load has the next number.
                        let why = vetted.faults.first().map(|f| format!("line {}: {}", f.line, f.message)).unwrap_or_default();
                        tracing::error!(edition = edition.no, %why, "the newest edition does not vet any more: load a mended one");
                        (None, Some((edition.no, why)))
                    }
                }
            }
        };
        let mut runs = BTreeMap::new();
        let mut last_seen = None;
        let mut unreadable = None;
        for id in reader.open_runs()? {
            // One run that cannot be read back keeps nobody from seeing all else; but nothing is begun until somebody knows.
            let events = match reader.events_of(id) {
                Ok(events) => events,
                Err(error @ StoreError::Unreadable { .. }) => {
                    let why = std::error::Error::source(&error).map(ToString::to_string).unwrap_or_default();
                    tracing::error!(run = %id, %error, %why, "a run is left out: what it had under way is nobody's now");
                    unreadable = Some(format!("run {id} cannot be read back, and what it had under way is nobody's now: {error}"));
                    continue;
                }
                Err(error) => return Err(error.into()),
            };
            last_seen = last_seen.max(events.last().map(|e| e.at));
            if let Some(run) = Run::replay(id, events.into_iter().map(|e| (e.at, e.event))) {
                runs.insert(id, run);
            }
        }
        let alive_at = reader.setting("alive_at")?.and_then(|s| s.parse().ok()).map(yantro_core::words::time::Timestamp::from_ms);
        let standstill = if options.looking_only {
            Some("the server was started looking only".to_owned())
        } else {
            reader.setting("standstill")?.filter(|s| !s.is_empty()).or(unreadable)
        };
        let next_run = reader.last_run()? + 1;
        let (inbox, messages) = inbox();
        let identity = Identity::of(&reader, data)?;
        let batch = identity.first_batch(clock.now());
        let (changed, mut links) = tokio::sync::mpsc::unbounded_channel();
        let hosts = Hosts::new(Here::new(data, &options.host_records)?, identity.server(), changed);
        if let Some(loaded) = &loaded {
            hosts.know(&loaded.estate.hosts, |_| true);
        }
        let hands = Hands::new(hosts, clock, inbox.clone(), started, identity);
        for (address, against) in reader.log_against()? {
            hands.set_log_against(&address, Some(against));
        }
        for (address, intended) in reader.intended_down()? {
            hands.set_intended_down(&address, Some(intended));
        }
        hands.follow_started();
        let standstill = match (&loaded, standstill) {
            (Some(loaded), None) => doubts_the_store(&hands, &loaded.estate).await,
            (_, standstill) => standstill,
        };
        let shared = Arc::new(Shared {
            loaded: RwLock::new(loaded),
            unusable: RwLock::new(unusable),
            shown: Mutex::default(),
            runs: RwLock::new(runs),
            standstill: RwLock::new(standstill),
            storage_trouble: RwLock::new(None),
            publisher: Publisher::new(),
            database,
            look_again: tokio::sync::Notify::new(),
            remembered: Mutex::new(Remembered::new(clock.now())),
            forecasts: Mutex::default(),
            foretold: Mutex::default(),
            looked_at_ms: AtomicI64::new(0),
            loading: tokio::sync::Mutex::new(()),
            _lock: lock,
        });
        let engine = Self { shared, hands, inbox, storage };
        let mut work = Work {
            engine: engine.clone(),
            locks: Locks::default(),
            batch,
            orders: Vec::new(),
            replies: Vec::new(),
            undo: Vec::new(),
            trouble_since: None,
            asked_as: BTreeMap::new(),
            next_run,
            reserve: data.join("reserve"),
            stored_alive_at: 0,
            clock_steps: Default::default(),
            freezes_at: 0,
            limits: Default::default(),
            rooms_at_hand: None,
        };
        work.make_reserve();
        work.recover(last_seen.max(alive_at));
        tokio::spawn(work.go(messages));
        tokio::spawn(engine.clone().rounds());
        let links_of = engine.clone();
        tokio::spawn(async move {
            while let Some(host) = links.recv().await {
                links_of.link_changed(&host).await;
            }
        });
        Ok(engine)
    }
}

/// Whether a host knows that this store is not the newest: then only looking is safe (R35).
async fn doubts_the_store(hands: &Hands, estate: &Estate) -> Option<String> {
    hands.ask_keepers(&estate.hosts).await.map(|(name, kept)| format!("what host {name} keeps: {kept}"))
}

/// One server per data folder (R35).
fn take_folder(data: &Path) -> Result<std::fs::File, EngineError> {
    let path = data.join("lock");
    let error = |source| EngineError::Data { folder: data.to_path_buf(), source };
    let file = std::fs::OpenOptions::new().create(true).truncate(false).write(true).open(&path).map_err(error)?;
    // One that was killed a moment ago may have it still: whatever it was about to spawn lets go of
    // it only when that becomes another program.
    let began = std::time::Instant::now();
    loop {
        match file.try_lock() {
            Ok(()) => return Ok(file),
            Err(std::fs::TryLockError::WouldBlock) if began.elapsed() < LOCK_PATIENCE => std::thread::sleep(Duration::from_millis(20)),
            Err(std::fs::TryLockError::WouldBlock) => return Err(EngineError::Taken(data.to_path_buf())),
            Err(std::fs::TryLockError::Error(source)) => return Err(error(source)),
        }
    }
}
