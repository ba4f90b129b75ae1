//! The loop: inputs in, machines decide, events stored, orders carried out.

use std::{
    collections::{BTreeMap, BTreeSet},
    path::{Path, PathBuf},
    sync::{Arc, PoisonError, RwLock, RwLockReadGuard},
    time::Duration,
};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use tokio::sync::{
    broadcast,
    mpsc::{UnboundedReceiver, UnboundedSender, unbounded_channel},
    oneshot,
};
use yantro_core::{
    estate::{Estate, Fault, Service, vet},
    graph::EstateGraph,
    name::{Address, GroupName},
    overrides::{self, Overrides},
    run::{
        ActKind, Begun, Decision, DecisionKind, Event, HoldCause, Input, Refusal, Rooms, Run, RunId, StepEnd,
        event::{EVENT_VERSION, KeepUp},
        input::{Order, Stamped},
    },
    selection::{self, SelectionError},
    sequence::{Plan, Request, StepKind, Usual, Wish, plan},
    state::{Facts, SeenState},
};
use yantro_reach::{Here, HereError};
use yantro_store::{AuditRow, Batch, Edition, Reader, RunRow, StartedAs, StoreError};

use crate::{
    board::{self, BoardView},
    clock::Clock,
    hands::{Hands, identity},
    locks::Locks,
    publish::{Published, Publisher, Topic},
    storage::Storage,
    view::{self, RunSummary, RunView},
};

/// How often everything is looked at again.
const ROUND: Duration = Duration::from_secs(2);
/// Ended runs kept at hand.
const KEPT_RUNS: usize = 20;
/// How long storing is left alone after it failed.
const STORE_AGAIN: Duration = Duration::from_millis(500);
/// How long a queued run waits for its locks (R7).
const QUEUE_PATIENCE: Duration = Duration::from_secs(30 * 60);
/// Given back to the file system when it is full, so that the hold itself can be stored (R27).
const RESERVE_BYTES: usize = 4 * 1024 * 1024;

/// What can go wrong with a request.
#[derive(Debug, thiserror::Error)]
pub enum EngineError {
    /// No estate is loaded.
    #[error("no estate is loaded yet")]
    NoEstate,
    /// The estate has faults.
    #[error("the estate has {} error{}", .0.len(), if .0.len() == 1 { "" } else { "s" })]
    Faults(Vec<Fault>),
    /// What was chosen cannot be resolved.
    #[error(transparent)]
    Selection(#[from] SelectionError),
    /// The plan has obstacles, or asks for something to be said in so many words.
    #[error("this cannot be begun as it is")]
    NotAsItIs(Box<Plan>),
    /// There is no such run.
    #[error("there is no run {0}")]
    NoRun(RunId),
    /// The decision does not fit.
    #[error(transparent)]
    Refused(#[from] Refusal),
    /// An override names what is not in the run.
    #[error("{0} is overridden, and is not acted on by this run")]
    StrayOverride(Address),
    /// The store failed.
    #[error("the store could not be read")]
    Store(#[from] StoreError),
    /// This machine cannot be worked on.
    #[error("this machine cannot be worked on")]
    Here(#[from] HereError),
    /// Another server has the data folder (R35).
    #[error("another server has the data folder {0}")]
    Taken(PathBuf),
    /// The data folder cannot be used.
    #[error("the data folder {folder} cannot be used")]
    Data {
        /// The folder.
        folder: PathBuf,
        /// What the system said.
        source: std::io::Error,
    },
    /// Everything is at a standstill.
    #[error("everything is at a standstill, by {0}")]
    Standstill(String),
}

impl EngineError {
    /// How to mend it.
    pub fn hint(&self) -> String {
        match self {
            EngineError::NoEstate => "load one: yantro load ESTATE.toml".to_owned(),
            EngineError::Faults(_) => "mend each fault and load it again".to_owned(),
            EngineError::Selection(e) => e.hint(),
            EngineError::NotAsItIs(_) => "see the obstacles, and say what is asked in so many words".to_owned(),
            EngineError::NoRun(_) => "see the list of runs".to_owned(),
            EngineError::Refused(r) => r.hint().to_owned(),
            EngineError::StrayOverride(_) => "choose it too, or leave the override out".to_owned(),
            EngineError::Store(_) => "see the server's log; is the disk full or the file damaged?".to_owned(),
            EngineError::Here(_) | EngineError::Data { .. } => "see that the data folder may be written".to_owned(),
            EngineError::Taken(_) => "stop the other server, or give this one a data folder of its own".to_owned(),
            EngineError::Standstill(_) => "lift the standstill first".to_owned(),
        }
    }
}

/// What a run is asked to do.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct BeginRequest {
    /// The wish.
    pub wish: Wish,
    /// Of what: addresses, names, globs, `group:`, `host:`, `reliant-on:`, `needed-by:`.
    pub selection: Vec<String>,
    /// What is left out of it.
    #[serde(default)]
    pub except: Vec<String>,
    /// Only these, without what relies on them or what they need.
    #[serde(default)]
    pub alone: bool,
    /// Services named one by one as standing on what is not proven (R3).
    #[serde(default)]
    pub left_standing: BTreeSet<Address>,
    /// Groups whose `keep_up` may be broken (R20).
    #[serde(default)]
    pub below_keep_up: BTreeSet<GroupName>,
    /// What this one run puts over the estate's settings.
    #[serde(default)]
    pub overrides: Overrides,
    /// Why.
    #[serde(default)]
    pub why: Option<String>,
}

/// A loaded estate with its graph.
#[derive(Debug)]
pub struct Loaded {
    /// Its number.
    pub edition: u64,
    /// The file as it was.
    pub text: String,
    /// The estate.
    pub estate: Estate,
    /// What relies on what.
    pub graph: EstateGraph,
}

/// What loading came to.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
pub struct LoadOutcome {
    /// The edition's number.
    pub edition: u64,
    /// Whether anything changed; else the newest edition stays.
    pub changed: bool,
    /// Services that are new.
    pub added: Vec<Address>,
    /// Services that are gone.
    pub removed: Vec<Address>,
    /// Services that are described differently.
    pub altered: Vec<Address>,
    /// Warnings.
    pub warnings: Vec<Fault>,
}

/// How the engine is to be run.
#[derive(Debug, Clone, Default)]
pub struct Options {
    /// Only look, never act: everything is at a standstill from the first.
    pub looking_only: bool,
}

pub(crate) enum Msg {
    Input { run: RunId, input: Input },
    LookAt(Address),
    Looked(Vec<(Address, SeenState, String)>),
    Begin { begun: Box<Begun>, reply: oneshot::Sender<RunId> },
    Decide { run: RunId, decision: Decision, reply: oneshot::Sender<Result<(), EngineError>> },
    Load { edition: Box<Edition>, loaded: Arc<Loaded>, reply: oneshot::Sender<()> },
    Standstill { on: bool, who: String, reply: oneshot::Sender<()> },
}

struct Shared {
    loaded: RwLock<Option<Arc<Loaded>>>,
    runs: RwLock<BTreeMap<RunId, Run>>,
    standstill: RwLock<Option<String>>,
    storage_trouble: RwLock<Option<String>>,
    publisher: Publisher,
    database: PathBuf,
    /// One more look for the board, asked by people.
    look_again: tokio::sync::Notify,
    loading: tokio::sync::Mutex<()>,
    _lock: std::fs::File,
}

fn read<T>(lock: &RwLock<T>) -> RwLockReadGuard<'_, T> {
    lock.read().unwrap_or_else(PoisonError::into_inner)
}

/// The engine. Cheap to clone; all clones are the same one.
#[derive(Clone)]
pub struct Engine {
    shared: Arc<Shared>,
    hands: Hands,
    inbox: UnboundedSender<Msg>,
    storage: Arc<Storage>,
}

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
        let loaded = reader.newest_edition()?.and_then(|edition| {
            let vetted = vet(&edition.text, &edition.folder);
            let estate = vetted.estate?;
            Some(Arc::new(Loaded { edition: edition.no, text: edition.text, graph: EstateGraph::new(&estate), estate }))
        });
        let mut runs = BTreeMap::new();
        let mut last_seen = None;
        for id in reader.open_runs()? {
            let events = reader.events_of(id)?;
            last_seen = last_seen.max(events.last().map(|e| e.at));
            if let Some(run) = Run::replay(id, events.into_iter().map(|e| (e.at, e.event))) {
                runs.insert(id, run);
            }
        }
        let alive_at = reader.setting("alive_at")?.and_then(|s| s.parse().ok()).map(yantro_core::time::Timestamp::from_ms);
        let standstill = if options.looking_only {
            Some("the server was started looking only".to_owned())
        } else {
            reader.setting("standstill")?.filter(|s| !s.is_empty())
        };
        let next_run = reader.last_run()? + 1;
        let (inbox, messages) = unbounded_channel();
        let hands = Hands::new(Here::new(data)?, clock, inbox.clone(), started);
        hands.follow_started();
        let shared = Arc::new(Shared {
            loaded: RwLock::new(loaded),
            runs: RwLock::new(runs),
            standstill: RwLock::new(standstill),
            storage_trouble: RwLock::new(None),
            publisher: Publisher::new(),
            database,
            look_again: tokio::sync::Notify::new(),
            loading: tokio::sync::Mutex::new(()),
            _lock: lock,
        });
        let engine = Self { shared, hands, inbox, storage };
        let mut work = Work {
            engine: engine.clone(),
            locks: Locks::default(),
            queue: Vec::new(),
            batch: Batch::default(),
            orders: Vec::new(),
            replies: Vec::new(),
            next_run,
            reserve: data.join("reserve"),
            stored_alive_at: 0,
        };
        work.make_reserve();
        work.recover(last_seen.max(alive_at));
        tokio::spawn(work.go(messages));
        tokio::spawn(engine.clone().rounds());
        Ok(engine)
    }

    // ---- asking ----

    /// The loaded estate.
    pub fn loaded(&self) -> Option<Arc<Loaded>> {
        read(&self.shared.loaded).clone()
    }

    /// A connection for reading what is stored. For threads that may block.
    pub fn reader(&self) -> Result<Reader, EngineError> {
        Ok(Reader::open(&self.shared.database)?)
    }

    /// Everything that is told from now on.
    pub fn listen(&self) -> broadcast::Receiver<Arc<Published>> {
        self.shared.publisher.listen()
    }

    /// The clock all instants are by.
    pub fn clock(&self) -> Clock {
        self.hands.clock
    }

    /// How everything stands.
    pub fn board(&self) -> BoardView {
        let now = self.hands.clock.now();
        let loaded = self.loaded();
        let runs = read(&self.shared.runs);
        let mut acting: BTreeMap<&Address, &Run> = BTreeMap::new();
        for run in runs.values().filter(|r| !r.has_ended() && r.is_locked()) {
            for step in &run.begun.sequence.steps {
                acting.insert(&step.address, run);
            }
        }
        let services = loaded.as_ref().map_or_else(Vec::new, |l| {
            let rows = l.estate.services.keys().map(|a| {
                let started = self.hands.started_as(a);
                board::row(&l.estate, a, self.hands.watched(a).as_ref(), acting.get(a).copied(), started.as_deref(), now)
            });
            rows.collect()
        });
        BoardView {
            estate: loaded.as_ref().map(|l| l.estate.name.clone()).unwrap_or_default(),
            stands_for: loaded.as_ref().map(|l| l.estate.stands_for),
            edition: loaded.as_ref().map_or(0, |l| l.edition),
            as_of: now,
            standstill: read(&self.shared.standstill).clone(),
            storage_trouble: read(&self.shared.storage_trouble).clone(),
            hosts: loaded.as_ref().map_or_else(Vec::new, |l| board::hosts(&l.estate)),
            services,
            open_runs: runs.values().filter(|r| !r.has_ended()).map(summary).collect(),
        }
    }

    /// Looks at everything at once.
    pub async fn look_again(&self) -> BoardView {
        if let Some(loaded) = self.loaded() {
            self.hands.look(loaded.estate.services.values().cloned().collect()).await;
            self.shared.look_again.notify_one();
        }
        self.board()
    }

    /// A run in full. Those that ended long ago are read back; for threads that may block.
    pub fn run(&self, id: RunId) -> Result<RunView, EngineError> {
        let now = self.hands.clock.now();
        if let Some(run) = read(&self.shared.runs).get(&id) {
            return Ok(view::view(run, now));
        }
        let events = self.reader()?.events_of(id)?;
        let run = Run::replay(id, events.into_iter().map(|e| (e.at, e.event))).ok_or(EngineError::NoRun(id))?;
        Ok(view::view(&run, now))
    }

    /// The newest runs below a number.
    pub fn runs(&self, before: Option<RunId>, limit: u32) -> Result<Vec<RunSummary>, EngineError> {
        let rows = self.reader()?.runs(before, limit)?;
        Ok(rows
            .into_iter()
            .map(|r| RunSummary {
                id: r.id,
                state: r.state,
                title: r.title,
                who: r.who,
                began_at: r.began_at,
                ended_at: r.ended_at,
                steps: r.steps,
                steps_ended: r.steps_ended,
            })
            .collect())
    }

    /// Every log of a service, as files.
    pub fn logs_of(&self, service: &Service) -> Vec<String> {
        self.hands.here.logs_of(service)
    }

    /// The text with every known secret replaced by its reference.
    pub fn mask(&self, text: &str) -> String {
        self.hands.here.mask(text)
    }

    fn usual(&self) -> Usual {
        match self.reader().and_then(|r| Ok(r.usual()?)) {
            Ok(known) => Usual(known.into_iter().map(|(a, k, d)| ((a, k), d)).collect()),
            Err(error) => {
                tracing::warn!(%error, "no history to forecast from");
                Usual::default()
            }
        }
    }

    /// Works out what a request comes to, from a fresh look.
    pub async fn plan(&self, request: &BeginRequest) -> Result<(Plan, Arc<Loaded>), EngineError> {
        let loaded = self.loaded().ok_or(EngineError::NoEstate)?;
        let chosen = selection::resolve(&loaded.estate, &loaded.graph, &request.selection, &request.except)?;
        let seen = self.hands.look(loaded.estate.services.values().cloned().collect()).await;
        let facts: Facts = seen.into_iter().collect();
        let asked = Request {
            wish: request.wish,
            chosen,
            alone: request.alone,
            left_standing: request.left_standing.clone(),
            below_keep_up: request.below_keep_up.clone(),
        };
        let plan = plan(&loaded.estate, &loaded.graph, &facts, &self.usual(), &asked);
        Ok((plan, loaded))
    }

    // ---- changing ----

    /// Begins a run.
    pub async fn begin(&self, request: &BeginRequest, who: &str) -> Result<RunId, EngineError> {
        if let Some(by) = read(&self.shared.standstill).clone() {
            return Err(EngineError::Standstill(by));
        }
        let (plan, loaded) = self.plan(request).await?;
        if !plan.can_begin() {
            return Err(EngineError::NotAsItIs(Box::new(plan)));
        }
        let acted_on = plan.sequence.acted_on();
        if let Some(stray) = request.overrides.keys().find(|a| !acted_on.contains(*a)) {
            return Err(EngineError::StrayOverride(stray.clone()));
        }
        let begun = begun(plan, &loaded, request, who);
        let (reply, answered) = oneshot::channel();
        self.send(Msg::Begin { begun: Box::new(begun), reply });
        Ok(answered.await.expect("the loop answers what it was asked"))
    }

    /// Takes an operator's decision.
    pub async fn decide(&self, run: RunId, decision: Decision) -> Result<(), EngineError> {
        let (reply, answered) = oneshot::channel();
        self.send(Msg::Decide { run, decision, reply });
        answered.await.expect("the loop answers what it was asked")
    }

    /// Loads an estate as a new edition.
    pub async fn load(&self, text: String, folder: String, who: &str, why: Option<String>) -> Result<LoadOutcome, EngineError> {
        // One at a time: numbers follow each other.
        let _turn = self.shared.loading.lock().await;
        let vetted = vet(&text, &folder);
        let Some(estate) = vetted.estate else { return Err(EngineError::Faults(vetted.faults)) };
        let before = self.loaded();
        let services = |l: &Arc<Loaded>| l.estate.services.clone();
        let old = before.as_ref().map(services).unwrap_or_default();
        let added = estate.services.keys().filter(|a| !old.contains_key(*a)).cloned().collect();
        let removed = old.keys().filter(|a| !estate.services.contains_key(*a)).cloned().collect();
        let altered = estate.services.iter().filter(|(a, s)| old.get(*a).is_some_and(|o| o != *s)).map(|(a, _)| a.clone()).collect();
        let changed = before.as_ref().is_none_or(|b| b.text != text || b.estate != estate);
        let newest = before.as_ref().map_or(0, |b| b.edition);
        let edition = if changed { newest + 1 } else { newest };
        if changed {
            let row = Edition { no: edition, at: self.hands.clock.now(), who: who.to_owned(), why, text: text.clone(), folder };
            let loaded = Arc::new(Loaded { edition, text, graph: EstateGraph::new(&estate), estate });
            let (reply, answered) = oneshot::channel();
            self.send(Msg::Load { edition: Box::new(row), loaded, reply });
            answered.await.expect("the loop answers what it was asked");
            self.look_again().await;
        }
        Ok(LoadOutcome { edition, changed, added, removed, altered, warnings: vetted.faults })
    }

    /// Holds every run and all reviving, or lets them go on (R36).
    pub async fn standstill(&self, on: bool, who: &str) {
        let (reply, answered) = oneshot::channel();
        self.send(Msg::Standstill { on, who: who.to_owned(), reply });
        answered.await.expect("the loop answers what it was asked");
    }

    /// Ends every process that this data folder's runs started, and awaits their ends: for a demo that
    /// cleans up after itself. No run does this; it goes past sequence and record.
    pub async fn end_all_started(&self) {
        self.standstill(true, "the demo ends").await;
        self.hands.end_all().await;
    }

    /// For trying what a full disk does: see [`yantro_store::Writer::limit_pages`].
    pub fn limit_storage(&self, more_pages: Option<u32>) {
        self.storage.limit_pages(more_pages);
    }

    fn send(&self, msg: Msg) {
        assert!(self.inbox.send(msg).is_ok(), "the loop lives as long as the engine");
    }

    // ---- looking ----

    /// Looks at everything, round after round.
    async fn rounds(self) {
        loop {
            if let Some(loaded) = self.loaded() {
                let before: BTreeMap<Address, Option<SeenState>> =
                    loaded.estate.services.keys().map(|a| (a.clone(), self.hands.watched(a).map(|w| w.seen.state))).collect();
                let seen = self.hands.look(loaded.estate.services.values().cloned().collect()).await;
                let changed = seen
                    .into_iter()
                    .filter(|(a, s)| before.get(a) != Some(&Some(*s)) || *s != SeenState::Proven)
                    .map(|(a, s)| {
                        let says = self.hands.watched(&a).map(|w| w.seen.says).unwrap_or_default();
                        (a, s, says)
                    })
                    .collect();
                self.send(Msg::Looked(changed));
            }
            tokio::select! {
                () = tokio::time::sleep(ROUND) => {}
                () = self.shared.look_again.notified() => {}
            }
        }
    }
}

/// How a run begins: fixed here, and never planned again (R9).
fn begun(plan: Plan, loaded: &Loaded, request: &BeginRequest, who: &str) -> Begun {
    let sequence = plan.sequence;
    let mut answerable: BTreeSet<Address> = sequence.steps.iter().map(|s| s.address.clone()).collect();
    for address in answerable.clone() {
        answerable.extend(loaded.estate.services[&address].relies_on_any().cloned());
    }
    let services: BTreeMap<Address, Service> = answerable
        .iter()
        .filter_map(|a| Some((a.clone(), overrides::applied(loaded.estate.services.get(a)?, request.overrides.get(a)))))
        .collect();
    let keep_up = loaded
        .estate
        .groups
        .iter()
        .filter_map(|(name, group)| {
            let keep_up = if sequence.below_keep_up.contains(name) { 0 } else { group.keep_up? };
            Some((name.clone(), KeepUp { members: group.members.clone(), keep_up, at_once: group.at_once }))
        })
        .collect();
    let as_found = sequence.steps.iter().map(|s| (s.address.clone(), s.found)).collect();
    Begun {
        version: EVENT_VERSION,
        who: who.to_owned(),
        why: request.why.clone(),
        edition: loaded.edition,
        sequence,
        services,
        keep_up,
        overrides: request.overrides.clone(),
        as_found,
    }
}

/// One server per data folder (R35).
fn take_folder(data: &Path) -> Result<std::fs::File, EngineError> {
    let path = data.join("lock");
    let error = |source| EngineError::Data { folder: data.to_path_buf(), source };
    let file = std::fs::OpenOptions::new().create(true).truncate(false).write(true).open(&path).map_err(error)?;
    match file.try_lock() {
        Ok(()) => Ok(file),
        Err(std::fs::TryLockError::WouldBlock) => Err(EngineError::Taken(data.to_path_buf())),
        Err(std::fs::TryLockError::Error(source)) => Err(error(source)),
    }
}

fn summary(run: &Run) -> RunSummary {
    let steps = run.begun.sequence.steps.len() as u32;
    RunSummary {
        id: run.id,
        state: run.state().word().to_owned(),
        title: view::title_of(run),
        who: run.begun.who.clone(),
        began_at: run.began_at,
        ended_at: run.end().map(|(at, ..)| *at),
        steps,
        steps_ended: steps - run.steps_not_ended(),
    }
}

fn run_row(run: &Run) -> RunRow {
    let s = summary(run);
    RunRow {
        id: s.id,
        state: s.state,
        title: s.title,
        who: s.who,
        began_at: s.began_at,
        ended_at: s.ended_at,
        steps: s.steps,
        steps_ended: s.steps_ended,
    }
}

type Reply = Box<dyn FnOnce() + Send>;

/// What the loop holds.
struct Work {
    engine: Engine,
    locks: Locks,
    /// Runs that wait for locks, the first that came first.
    queue: Vec<RunId>,
    batch: Batch,
    orders: Vec<(RunId, Order)>,
    replies: Vec<Reply>,
    next_run: u64,
    reserve: PathBuf,
    stored_alive_at: i64,
}

impl Work {
    async fn go(mut self, mut messages: UnboundedReceiver<Msg>) {
        self.settle().await;
        loop {
            let now = self.engine.hands.clock.now();
            let deadline = read(&self.engine.shared.runs).values().filter_map(Run::next_deadline).min();
            let wait = deadline.map_or(Duration::from_secs(1), |at| at.since(now)).min(Duration::from_secs(1));
            let first = tokio::select! {
                msg = messages.recv() => msg,
                () = tokio::time::sleep(wait.max(Duration::from_millis(1))) => None,
            };
            if let Some(msg) = first {
                self.take(msg);
                // What came in together is decided together, and shares a commit.
                while let Ok(msg) = messages.try_recv() {
                    self.take(msg);
                }
            }
            self.ticks();
            self.settle().await;
        }
    }

    // ---- taking in ----

    fn take(&mut self, msg: Msg) {
        match msg {
            Msg::Input { run, input } => {
                // Late news of a run that ended is no error.
                let _ = self.input(run, input);
            }
            Msg::LookAt(address) => self.look_at(address),
            Msg::Looked(seen) => self.looked(seen),
            Msg::Begin { begun, reply } => {
                let id = self.begin(*begun);
                // Whoever asked may have gone meanwhile: that changes nothing, here and below.
                self.replies.push(Box::new(move || _ = reply.send(id)));
            }
            Msg::Decide { run, decision, reply } => {
                let outcome = self.decide(run, decision);
                self.replies.push(Box::new(move || _ = reply.send(outcome)));
            }
            Msg::Load { edition, loaded, reply } => self.load(*edition, loaded, reply),
            Msg::Standstill { on, who, reply } => {
                self.standstill(on, &who);
                self.replies.push(Box::new(move || _ = reply.send(())));
            }
        }
    }

    /// Lets a machine decide. Its events wait for the next commit, its orders for that.
    fn input(&mut self, id: RunId, input: Input) -> Result<(), EngineError> {
        let now = self.engine.hands.clock.now();
        let shared = Arc::clone(&self.engine.shared);
        let mut runs = shared.runs.write().unwrap_or_else(PoisonError::into_inner);
        let mut rooms = self.rooms(&runs);
        let Some(run) = runs.get_mut(&id) else { return Err(EngineError::NoRun(id)) };
        let first_no = run.event_count();
        let taken = run.take(input, now, &mut rooms)?;
        for (i, event) in taken.events.into_iter().enumerate() {
            self.note(run, &event, now);
            self.batch.events.push((id, Stamped { no: first_no + 1 + i as u64, at: now, event }));
        }
        if run.event_count() != first_no {
            let row = run_row(run);
            self.batch.runs.retain(|r| r.id != id);
            self.batch.runs.push(row);
        }
        self.orders.extend(taken.orders.into_iter().map(|o| (id, o)));
        Ok(())
    }

    fn rooms(&self, runs: &BTreeMap<RunId, Run>) -> Rooms {
        let mut rooms = self.engine.loaded().map_or_else(Rooms::unlimited, |l| Rooms::new(&l.estate));
        for run in runs.values().filter(|r| !r.has_ended()) {
            run.in_flight().for_each(|a| rooms.take(a));
        }
        rooms
    }

    /// What follows from an event besides the run itself.
    fn note(&mut self, run: &Run, event: &Event, now: yantro_core::time::Timestamp) {
        match event {
            Event::ActBegun { step, act, .. } => {
                let planned = run.begun.sequence.step(*step);
                let kind = run.step_now(*step).acts.iter().find(|a| a.act == *act).map(|a| a.kind);
                if kind == Some(ActKind::Start) {
                    let started = StartedAs {
                        run: run.id,
                        act: identity(run.id, *act),
                        at: now,
                        edition: run.begun.edition,
                        service: run.service(*step).clone(),
                        intended_down: None,
                    };
                    self.engine.hands.remember_started(&planned.address, started.clone());
                    self.batch.started.push((planned.address.clone(), started));
                }
            }
            Event::StepEnded { step, end: StepEnd::Done } => {
                let planned = run.begun.sequence.step(*step);
                let state = if planned.kind == StepKind::Stop { SeenState::Down } else { SeenState::Proven };
                self.engine.hands.set_seen(&planned.address, state);
                if let Some(began_at) = run.step_now(*step).began_at {
                    self.batch.took.push((planned.address.clone(), planned.kind, now.since(began_at)));
                }
                if planned.kind == StepKind::Stop
                    && let Some(started) = self.engine.hands.started_as(&planned.address)
                {
                    let started = StartedAs { intended_down: Some((run.id, run.begun.who.clone())), ..(*started).clone() };
                    self.engine.hands.remember_started(&planned.address, started.clone());
                    self.batch.started.push((planned.address.clone(), started));
                }
            }
            Event::Decided { decision } => {
                let about = decision.kind.step().map_or_else(|| format!("run {}", run.id), |s| format!("run {}, step {s}", run.id));
                self.audit(&decision.who, decision.kind.word(), about, decision.why.clone());
            }
            _ => {}
        }
    }

    fn audit(&mut self, who: &str, what: &str, about: String, why: Option<String>) {
        let at = self.engine.hands.clock.now();
        self.batch.audit.push(AuditRow { at, who: who.to_owned(), what: what.to_owned(), about, why });
    }

    fn begin(&mut self, begun: Begun) -> RunId {
        let id = RunId(self.next_run);
        self.next_run += 1;
        let now = self.engine.hands.clock.now();
        let run = Run::begin(id, now, begun.clone());
        self.audit(&begun.who, "begin", format!("run {id}: {}", view::title_of(&run)), begun.why.clone());
        self.batch.runs.push(run_row(&run));
        self.batch.events.push((id, Stamped { no: 1, at: now, event: Event::Begun(Box::new(begun)) }));
        self.engine.shared.runs.write().unwrap_or_else(PoisonError::into_inner).insert(id, run);
        self.orders.push((id, Order::TakeLocks));
        id
    }

    fn decide(&mut self, run: RunId, decision: Decision) -> Result<(), EngineError> {
        if !read(&self.engine.shared.runs).contains_key(&run) {
            let ended = self.engine.run(run)?;
            return Err(EngineError::Refused(Refusal::Ended { run: run.0, word: ended.state.word() }));
        }
        self.input(run, Input::Decide(decision))
    }

    fn load(&mut self, edition: Edition, loaded: Arc<Loaded>, reply: oneshot::Sender<()>) {
        self.audit(&edition.who.clone(), "load", format!("edition {}", edition.no), edition.why.clone());
        self.batch.edition = Some(edition);
        let estate = &loaded.estate;
        self.engine.hands.keep_only(|a| estate.services.contains_key(a));
        // What runs keeps its edition, but restrictions tighten at once (R25).
        let mut restricted: Vec<(RunId, HoldCause)> = Vec::new();
        for run in read(&self.engine.shared.runs).values().filter(|r| !r.has_ended()) {
            for (step, _) in run.steps().filter(|(s, n)| s.kind != StepKind::Await && !n.state.has_ended()) {
                let why = match estate.services.get(&step.address) {
                    None => Some("it is no longer in the estate".to_owned()),
                    Some(s) => match (&s.hands_off, &run.begun.services[&step.address].hands_off) {
                        (Some(reason), None) => Some(format!("it is hands-off now: {reason}")),
                        _ => None,
                    },
                };
                if let Some(why) = why {
                    restricted.push((run.id, HoldCause::Restricted { address: step.address.clone(), why }));
                }
            }
        }
        for (run, cause) in restricted {
            // The run was there a moment ago, and ended runs take no harm.
            let _ = self.input(run, Input::Hold(cause));
        }
        let engine = self.engine.clone();
        self.replies.push(Box::new(move || {
            *engine.shared.loaded.write().unwrap_or_else(PoisonError::into_inner) = Some(loaded);
            engine.shared.publisher.tell(Published::new(Topic::Edition, None, &serde_json::json!({})));
            _ = reply.send(());
        }));
    }

    fn standstill(&mut self, on: bool, who: &str) {
        *self.engine.shared.standstill.write().unwrap_or_else(PoisonError::into_inner) = on.then(|| who.to_owned());
        self.batch.settings.push(("standstill".to_owned(), if on { who.to_owned() } else { String::new() }));
        self.audit(who, if on { "standstill" } else { "lift standstill" }, "everything".to_owned(), None);
        for run in self.open_runs() {
            let input =
                if on { Input::Hold(HoldCause::Standstill) } else { Input::Unhold { cause: HoldCause::Standstill, by: who.to_owned() } };
            let _ = self.input(run, input);
        }
        let engine = self.engine.clone();
        self.replies.push(Box::new(move || engine.shared.publisher.tell(Published::new(Topic::Server, None, &serde_json::json!({})))));
    }

    fn open_runs(&self) -> Vec<RunId> {
        read(&self.engine.shared.runs).values().filter(|r| !r.has_ended()).map(|r| r.id).collect()
    }

    /// Something ended: it is looked at now and not at the next round.
    fn look_at(&mut self, address: Address) {
        let engine = self.engine.clone();
        let Some(service) = engine.loaded().and_then(|l| l.estate.services.get(&address).cloned()) else { return };
        tokio::spawn(async move {
            let seen = engine.hands.look(vec![service]).await;
            let says = engine.hands.watched(&address).map(|w| w.seen.says).unwrap_or_default();
            engine.send(Msg::Looked(seen.into_iter().map(|(a, s)| (a, s, says.clone())).collect()));
        });
    }

    fn looked(&mut self, seen: Vec<(Address, SeenState, String)>) {
        for id in self.open_runs() {
            for (address, state, says) in &seen {
                let answerable = read(&self.engine.shared.runs).get(&id).is_some_and(|r| r.begun.services.contains_key(address));
                if answerable {
                    let _ = self.input(id, Input::Seen { address: address.clone(), state: *state, says: says.clone() });
                }
            }
        }
        self.engine.shared.publisher.tell(Published::new(Topic::Board, None, &serde_json::json!({ "changed": seen.len() })));
    }

    fn ticks(&mut self) {
        let now = self.engine.hands.clock.now();
        let due: Vec<RunId> = read(&self.engine.shared.runs)
            .values()
            .filter(|r| !r.has_ended() && (r.next_deadline().is_some_and(|at| at <= now)))
            .map(|r| r.id)
            .collect();
        for run in due {
            let _ = self.input(run, Input::Tick);
        }
        let expired: Vec<RunId> = read(&self.engine.shared.runs)
            .values()
            .filter(|r| !r.has_ended() && !r.is_locked() && now.since(r.began_at) > QUEUE_PATIENCE)
            .map(|r| r.id)
            .collect();
        for run in expired {
            let why = Some("its locks did not come free within 30 minutes".to_owned());
            let decision = Decision { kind: DecisionKind::GiveUp, hold: None, who: "yantro".to_owned(), why };
            let _ = self.input(run, Input::Decide(decision));
        }
        // So that a restarted server knows how long it was away.
        if now.as_ms() - self.stored_alive_at > 60_000 {
            self.stored_alive_at = now.as_ms();
            self.batch.settings.push(("alive_at".to_owned(), now.as_ms().to_string()));
        }
    }

    // ---- storing ----

    /// Stores what happened, and only then carries out what follows; until nothing more follows.
    async fn settle(&mut self) {
        while !self.batch.is_empty() || !self.orders.is_empty() || !self.replies.is_empty() {
            if !self.batch.is_empty() {
                let batch = std::mem::take(&mut self.batch);
                let (batch, outcome) = self.engine.storage.commit(batch).await;
                match outcome {
                    Ok(ids) => {
                        self.stored(&batch, &ids);
                    }
                    Err(error) => {
                        self.not_stored(batch, &error);
                        tokio::time::sleep(STORE_AGAIN).await;
                        return; // No act is given (R27); the loop comes back.
                    }
                }
            }
            for reply in std::mem::take(&mut self.replies) {
                reply();
            }
            for (run, order) in std::mem::take(&mut self.orders) {
                self.carry_out(run, order);
            }
        }
        self.forget_ended();
    }

    fn stored(&mut self, batch: &Batch, ids: &[i64]) {
        for ((run, stamped), id) in batch.events.iter().zip(ids) {
            let body = serde_json::json!({ "run": run, "no": stamped.no, "at": stamped.at, "event": brief(&stamped.event) });
            self.engine.shared.publisher.tell(Published::new(Topic::Run, Some(*id), &body));
        }
        let trouble = self.engine.shared.storage_trouble.write().unwrap_or_else(PoisonError::into_inner).take();
        if let Some(why) = trouble {
            tracing::info!("events can be stored again");
            self.make_reserve();
            for run in self.open_runs() {
                let cause = HoldCause::Storage { why: why.clone() };
                let _ = self.input(run, Input::Unhold { cause, by: "there is room again".to_owned() });
            }
            self.engine.shared.publisher.tell(Published::new(Topic::Server, None, &serde_json::json!({})));
        }
    }

    fn not_stored(&mut self, batch: Batch, error: &StoreError) {
        let why = error.to_string();
        // Whatever was decided meanwhile comes after what waits already.
        let newer = std::mem::replace(&mut self.batch, batch);
        self.batch.events.extend(newer.events);
        let first = {
            let mut trouble = self.engine.shared.storage_trouble.write().unwrap_or_else(PoisonError::into_inner);
            trouble.replace(why.clone()).is_none()
        };
        if first {
            tracing::error!(%error, "events cannot be stored: nothing is begun until they can");
            // Room for the hold itself.
            let _ = std::fs::remove_file(&self.reserve);
            for run in self.open_runs() {
                let _ = self.input(run, Input::Hold(HoldCause::Storage { why: why.clone() }));
            }
            self.engine.shared.publisher.tell(Published::new(Topic::Server, None, &serde_json::json!({})));
        }
    }

    fn make_reserve(&self) {
        if std::fs::metadata(&self.reserve).map_or(0, |m| m.len()) < RESERVE_BYTES as u64
            && let Err(error) = std::fs::write(&self.reserve, vec![0x59u8; RESERVE_BYTES])
        {
            tracing::warn!(%error, "no room to keep a reserve");
        }
    }

    fn forget_ended(&mut self) {
        let mut runs = self.engine.shared.runs.write().unwrap_or_else(PoisonError::into_inner);
        let ended: Vec<RunId> = runs.values().filter(|r| r.has_ended()).map(|r| r.id).collect();
        for id in ended.iter().take(ended.len().saturating_sub(KEPT_RUNS)) {
            runs.remove(id);
        }
    }

    // ---- carrying out ----

    fn carry_out(&mut self, id: RunId, order: Order) {
        let hands = self.engine.hands.clone();
        match order {
            Order::TakeLocks => {
                if !self.queue.contains(&id) {
                    self.queue.push(id);
                }
                self.serve_queue();
            }
            Order::Release => {
                self.locks.release(id);
                self.queue.retain(|q| *q != id);
                self.serve_queue();
                self.engine.shared.publisher.tell(Published::new(Topic::Board, None, &serde_json::json!({})));
            }
            Order::FirstLook => self.first_look(id),
            Order::FreshLook { step, addresses } => {
                let services = self.services_of(id, &addresses);
                tokio::spawn(async move {
                    let seen = hands.look(services).await;
                    hands.tell(id, Input::FreshLooked { step, seen });
                });
            }
            Order::FinalLook => {
                let all: Vec<Address> =
                    read(&self.engine.shared.runs).get(&id).map(|r| r.answerable().cloned().collect()).unwrap_or_default();
                let services = self.services_of(id, &all);
                tokio::spawn(async move {
                    let seen = hands.look(services).await;
                    hands.tell(id, Input::FinalLooked { seen });
                });
            }
            Order::Act { step, act, kind, address } => {
                if let Some(service) = self.services_of(id, &[address]).pop() {
                    hands.act(id, step, act, kind, service);
                }
            }
            Order::FindAct { step, act, kind, address } => {
                if let Some(service) = self.services_of(id, &[address]).pop() {
                    hands.find_act(id, step, act, kind, service);
                }
            }
            Order::Climb { step, attempt, address, kind, from, act } => {
                let runs = read(&self.engine.shared.runs);
                let Some(run) = runs.get(&id) else { return };
                let given = act.and_then(|a| run.step_now(step).acts.iter().find(|known| known.act == a));
                let since = given.map_or(run.began_at, |g| g.intended_at);
                let service = run.begun.services[&address].clone();
                hands.climb(id, step, attempt, kind, from, service, given.and_then(|g| g.begun.as_ref()), since);
            }
            Order::StopLooking { step } => hands.stop_looking(id, step),
        }
    }

    fn services_of(&self, id: RunId, addresses: &[Address]) -> Vec<Service> {
        let runs = read(&self.engine.shared.runs);
        let loaded = self.engine.loaded();
        let of_estate = |a: &Address| loaded.as_ref().and_then(|l| l.estate.services.get(a).cloned());
        addresses.iter().filter_map(|a| runs.get(&id).and_then(|r| r.begun.services.get(a).cloned()).or_else(|| of_estate(a))).collect()
    }

    /// Gives locks to whoever waits, the first that came first; nobody overtakes those he would block.
    fn serve_queue(&mut self) {
        let mut waiting: Vec<RunId> = Vec::new();
        for id in std::mem::take(&mut self.queue) {
            let outcome = {
                let runs = read(&self.engine.shared.runs);
                let Some(run) = runs.get(&id).filter(|r| !r.has_ended()) else { continue };
                let wanted: BTreeSet<&Address> = run.answerable().collect();
                let ahead: Vec<RunId> =
                    waiting.iter().copied().filter(|w| runs.get(w).is_some_and(|r| r.answerable().any(|a| wanted.contains(a)))).collect();
                if ahead.is_empty() { self.locks.take(run) } else { Err(ahead.into_iter().collect()) }
            };
            match outcome {
                Ok(()) => drop(self.input(id, Input::Locked)),
                Err(behind) => {
                    let behind = {
                        let runs = read(&self.engine.shared.runs);
                        behind
                            .iter()
                            .map(|r| {
                                runs.get(r).map_or_else(
                                    || format!("run {r}"),
                                    |run| format!("run {r} ({}, {})", view::title_of(run), run.begun.who),
                                )
                            })
                            .collect()
                    };
                    let _ = self.input(id, Input::Queued { behind });
                    waiting.push(id);
                }
            }
        }
        self.queue = waiting;
    }

    /// Looks at everything a run is answerable for, and whether the sequence still is the one confirmed.
    fn first_look(&self, id: RunId) {
        let engine = self.engine.clone();
        let runs = read(&self.engine.shared.runs);
        let Some(run) = runs.get(&id) else { return };
        let begun = run.begun.clone();
        let services: Vec<Service> = begun.services.values().cloned().collect();
        drop(runs);
        tokio::spawn(async move {
            let seen = engine.hands.look(services).await;
            let unconfirmed = unconfirmed(&engine, &begun, &seen);
            engine.hands.tell(id, Input::FirstLooked { seen, unconfirmed });
        });
    }

    /// Picks every run up where it was. Nothing is given again before it was looked for.
    fn recover(&mut self, alive_at: Option<yantro_core::time::Timestamp>) {
        let now = self.engine.hands.clock.now();
        let ids = self.open_runs();
        for id in &ids {
            let locked = read(&self.engine.shared.runs).get(id).is_some_and(Run::is_locked);
            if locked {
                let taken = read(&self.engine.shared.runs).get(id).map(|run| self.locks.take(run));
                if let Some(Err(behind)) = taken {
                    tracing::error!(run = %id, ?behind, "locks that it held are taken; it goes on without them");
                }
            }
        }
        for id in ids {
            let away = alive_at.map_or(Duration::ZERO, |at| now.since(at));
            let orders = read(&self.engine.shared.runs).get(&id).map(Run::recover).unwrap_or_default();
            let _ = self.input(id, Input::Away { for_ms: away.as_millis() as u64 });
            if read(&self.engine.shared.standstill).is_some() {
                let _ = self.input(id, Input::Hold(HoldCause::Standstill));
            }
            self.orders.extend(orders.into_iter().map(|o| (id, o)));
        }
    }
}

/// Acts that a plan from these facts would have and the confirmed one has not (R8).
fn unconfirmed(engine: &Engine, begun: &Begun, seen: &BTreeMap<Address, SeenState>) -> Vec<String> {
    let Some(loaded) = engine.loaded().filter(|l| l.edition == begun.edition) else { return Vec::new() };
    let mut facts: Facts = loaded.estate.services.keys().filter_map(|a| Some((a.clone(), engine.hands.watched(a)?.seen.state))).collect();
    facts.0.extend(seen.clone());
    let request = Request {
        wish: begun.sequence.wish,
        chosen: begun.sequence.chosen.clone(),
        alone: !begun.sequence.left_standing.is_empty(),
        left_standing: begun.sequence.left_standing.clone(),
        below_keep_up: begun.sequence.below_keep_up.clone(),
    };
    let again = plan(&loaded.estate, &loaded.graph, &facts, &Usual::default(), &request);
    let confirmed: BTreeSet<(&Address, StepKind)> = begun.sequence.steps.iter().map(|s| (&s.address, s.kind)).collect();
    again
        .sequence
        .steps
        .iter()
        .filter(|s| s.kind != StepKind::Await && !confirmed.contains(&(&s.address, s.kind)))
        .map(|s| format!("{} {}, found {}", s.kind.word(), s.address, s.found))
        .collect()
}

/// An event as told to those who look on: what they need to know that something happened.
fn brief(event: &Event) -> serde_json::Value {
    match event {
        // The sequence is asked for once, not pushed at everyone.
        Event::Begun(_) => serde_json::json!({ "event": "begun" }),
        other => serde_json::to_value(other).expect("our own types have text keys only"),
    }
}
