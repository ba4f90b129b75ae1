//! The loop: inputs in, machines decide, events stored, orders carried out.

use std::{
    collections::{BTreeMap, BTreeSet, VecDeque},
    num::NonZeroU32,
    path::{Path, PathBuf},
    sync::{
        Arc, Mutex, PoisonError, RwLock, RwLockReadGuard,
        atomic::{AtomicI64, Ordering},
    },
    time::{Duration, Instant},
};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use tokio::sync::{broadcast, oneshot};
use yantro_core::{
    estate::{Estate, Fault, Service, ServiceRunner, vet, vet_with},
    graph::EstateGraph,
    name::{Address, GroupName, HostName, ProcedureName, did_you_mean},
    overrides::Overrides,
    procedure::{self, Asked, Does, Line, Procedure},
    proof::{Facts, SeenState},
    run::{AtLastMoment, Begun, Decision, DecisionKind, Divert, Event, HoldCause, Input, LogMark, Refusal, Run, RunId, WindowTerms},
    selection,
    sequence::{Plan, Prefer, Request, Settings, Shown, StepKind, Usual, Wish, plan, plays::play_all, preflight},
    survey::Survey,
    time::{Span, Timestamp},
};
use yantro_reach::{Here, Hosts, LogLine, ReadLog};
use yantro_store::{Edition, Reader, RunRow, StoreError};

use crate::{
    EngineError,
    board::{self, BoardView},
    clock::Clock,
    deeds::no_more,
    editions::LoadRequest,
    hands::Hands,
    identity::Identity,
    inbox::Inbox,
    locks::Locks,
    publish::{Published, Publisher},
    rehearse::KeptForecast,
    remembered::Remembered,
    storage::Storage,
    view::{self, RunSummary, RunView},
    work::Work,
};

/// How long a data folder that is taken is waited for.
const LOCK_PATIENCE: Duration = Duration::from_secs(3);
/// How often everything is looked at again.
const ROUND: Duration = Duration::from_secs(2);
/// Between rounds there is at least so many times what one took, and at most this.
const PAUSE_TIMES: u32 = 4;
const LONGEST_PAUSE: Duration = Duration::from_secs(10);

/// So many plans that were shown are remembered.
const SHOWN_KEPT: usize = 200;
/// The longest identity that something is asked for under.
const LONGEST_IDENTITY: usize = 100;

/// From so many services on it is worth while to give memory back after each round.
const MANY_SERVICES: usize = 1_000;

/// Gives the system back what is free of the heap. Plans, looks and runs of thousands of services leave much of it free
/// in pieces, which the allocator keeps for each thread apart: a quarter of the whole, while ten thousand restart.
fn give_memory_back() {
    #[cfg(all(target_os = "linux", target_env = "gnu"))]
    // Safety: malloc_trim(3) may be called at any time, from any thread.
    unsafe {
        libc::malloc_trim(0);
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
    /// Units that a host's manager moves along with a service, named one by one as `host:unit` (R38).
    #[serde(default)]
    pub along: BTreeSet<String>,
    /// What this one run puts over the estate's settings.
    #[serde(default)]
    pub overrides: Overrides,
    /// How many services to work on at once, where that is to be fewer than the estate allows.
    #[serde(default)]
    pub at_once: Option<NonZeroU32>,
    /// Which of the allowed orders is taken.
    #[serde(default)]
    pub prefer: Prefer,
    /// Why.
    #[serde(default)]
    pub why: Option<String>,
    /// The number of the change it belongs to, as people keep it elsewhere.
    #[serde(default)]
    pub change: Option<String>,
    /// Change freezes that it is begun in all the same, by name; with a reason.
    #[serde(default)]
    pub in_freeze: BTreeSet<String>,
    /// How long it may be held before it is put back by itself; without, as the procedure says, or without end.
    #[serde(default)]
    pub held_at_most: Option<Span>,
    /// The window that it must fit, by name.
    #[serde(default)]
    pub window: Option<String>,
    /// What it does when putting back would no longer fit the window.
    #[serde(default)]
    pub at_last_moment: AtLastMoment,
    /// The digest of the plan that was shown: what would come out otherwise is refused, with the difference.
    #[serde(default)]
    pub shown: Option<String>,
    /// An identity of the asker's own: asked for twice under it, it is begun once.
    #[serde(default)]
    pub asked_as: Option<String>,
}

/// What a run of a procedure is asked to do.
#[derive(Debug, Clone, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ProcedureRequest {
    /// The answers to its questions, by name.
    #[serde(default)]
    pub answers: BTreeMap<String, String>,
    /// The line to begin at, from 1; those before it are vouched for, with the reason given (N54).
    #[serde(default)]
    pub from_line: Option<u32>,
    /// Services that are taken as the lines before left them, though a look says otherwise: named one by one (N54).
    #[serde(default)]
    pub vouched_for: BTreeSet<Address>,
    /// Services named one by one as standing on what is not proven (R3).
    #[serde(default)]
    pub left_standing: BTreeSet<Address>,
    /// Groups whose `keep_up` may be broken (R20).
    #[serde(default)]
    pub below_keep_up: BTreeSet<GroupName>,
    /// Units that a host's manager moves along with a service, named one by one as `host:unit` (R38).
    #[serde(default)]
    pub along: BTreeSet<String>,
    /// What this one run puts over the estate's settings.
    #[serde(default)]
    pub overrides: Overrides,
    /// How many services to work on at once, where that is to be fewer than the estate allows.
    #[serde(default)]
    pub at_once: Option<NonZeroU32>,
    /// Which of the allowed orders is taken.
    #[serde(default)]
    pub prefer: Prefer,
    /// Why.
    #[serde(default)]
    pub why: Option<String>,
    /// The number of the change it belongs to.
    #[serde(default)]
    pub change: Option<String>,
    /// Change freezes that it is begun in all the same, by name; with a reason.
    #[serde(default)]
    pub in_freeze: BTreeSet<String>,
    /// How long it may be held before it is put back by itself; without, as the procedure says, or without end.
    #[serde(default)]
    pub held_at_most: Option<Span>,
    /// The window that it must fit, by name.
    #[serde(default)]
    pub window: Option<String>,
    /// What it does when putting back would no longer fit the window.
    #[serde(default)]
    pub at_last_moment: AtLastMoment,
    /// The digest of the plan that was shown: what would come out otherwise is refused, with the difference.
    #[serde(default)]
    pub shown: Option<String>,
    /// An identity of the asker's own: asked for twice under it, it is begun once.
    #[serde(default)]
    pub asked_as: Option<String>,
}

/// A further act of services that is asked for by itself.
#[derive(Debug, Clone, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ActRequest {
    /// The act's name, as their descriptions have it; units have `re-read`, `at-boot-on` and `at-boot-off` besides.
    pub act: String,
    /// Of what: addresses, names, globs, `group:`, `host:` …
    pub of: Vec<String>,
    /// Why.
    #[serde(default)]
    pub why: Option<String>,
    /// The digest of the plan that was shown: what would come out otherwise is refused, with the difference.
    #[serde(default)]
    pub shown: Option<String>,
    /// An identity of the asker's own: asked for twice under it, it is begun once.
    #[serde(default)]
    pub asked_as: Option<String>,
}

/// What both kinds of request say about how a run is to go.
struct Terms<'r> {
    shown: Option<&'r str>,
    overrides: &'r Overrides,
    at_once: Option<u32>,
    why: Option<&'r str>,
    in_freeze: &'r BTreeSet<String>,
    held_at_most: Option<Span>,
    window: Option<&'r str>,
    at_last_moment: AtLastMoment,
}

impl BeginRequest {
    fn terms(&self) -> Terms<'_> {
        Terms {
            shown: self.shown.as_deref(),
            overrides: &self.overrides,
            at_once: self.at_once.map(NonZeroU32::get),
            why: self.why.as_deref(),
            in_freeze: &self.in_freeze,
            held_at_most: self.held_at_most,
            window: self.window.as_deref(),
            at_last_moment: self.at_last_moment,
        }
    }
}

impl ProcedureRequest {
    fn terms(&self) -> Terms<'_> {
        Terms {
            shown: self.shown.as_deref(),
            overrides: &self.overrides,
            at_once: self.at_once.map(NonZeroU32::get),
            why: self.why.as_deref(),
            in_freeze: &self.in_freeze,
            held_at_most: self.held_at_most,
            window: self.window.as_deref(),
            at_last_moment: self.at_last_moment,
        }
    }
}

/// A loaded estate with its graph.
#[derive(Debug)]
pub struct Loaded {
    /// Its number.
    pub edition: u64,
    /// The file as it was.
    pub text: String,
    /// The folder its relative paths start from.
    pub folder: String,
    /// The estate.
    pub estate: Estate,
    /// What relies on what.
    pub graph: EstateGraph,
}

impl Loaded {
    pub(crate) fn new(edition: u64, text: String, folder: String, estate: Estate) -> Self {
        Self { edition, text, folder, graph: EstateGraph::new(&estate), estate }
    }
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
    /// Procedures that are new, gone, or written differently.
    pub procedures: Vec<ProcedureName>,
    /// Warnings.
    pub warnings: Vec<Fault>,
}

/// What was found on a host.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
pub struct HostSurvey {
    /// The host.
    pub host: HostName,
    /// What runs there.
    pub survey: Survey,
    /// The chosen units, as a piece of an estate file.
    pub toml: String,
}

/// How the engine is to be run.
#[derive(Debug, Clone, Default)]
pub struct Options {
    /// Only look, never act: everything is at a standstill from the first.
    pub looking_only: bool,
    /// Where hosts that are reached from here keep which server acts on them (R35): one folder for all
    /// servers of a machine.
    pub host_records: PathBuf,
}

pub(crate) enum Msg {
    Input { run: RunId, input: Input },
    LookAt(Address),
    Looked(Vec<(Address, SeenState, String)>),
    Begin { begun: Box<Begun>, asked_as: Option<String>, reply: oneshot::Sender<Result<RunId, EngineError>> },
    Replan { run: RunId, begun: Box<Begun>, decision: Decision, reply: oneshot::Sender<Result<(), EngineError>> },
    Decide { run: RunId, decision: Decision, shown: Option<Shown>, reply: oneshot::Sender<Result<(), EngineError>> },
    Remark { run: RunId, input: Input, reply: oneshot::Sender<Result<(), EngineError>> },
    PlanDivert { run: RunId, planned: Result<Divert, String> },
    Load { edition: Box<Edition>, loaded: Arc<Loaded>, reply: oneshot::Sender<Result<(), EngineError>> },
    Acknowledge { address: Address, who: String, why: String, reply: oneshot::Sender<Result<(), EngineError>> },
    Audit { who: String, what: &'static str, about: String, why: String, reply: oneshot::Sender<Result<(), EngineError>> },
    Standstill { on: bool, who: String, shown: Option<Shown>, reply: oneshot::Sender<Result<(), EngineError>> },
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
        let alive_at = reader.setting("alive_at")?.and_then(|s| s.parse().ok()).map(yantro_core::time::Timestamp::from_ms);
        let standstill = if options.looking_only {
            Some("the server was started looking only".to_owned())
        } else {
            reader.setting("standstill")?.filter(|s| !s.is_empty()).or(unreadable)
        };
        let next_run = reader.last_run()? + 1;
        let (inbox, messages) = crate::inbox::inbox();
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
            looked_at_ms: AtomicI64::new(0),
            loading: tokio::sync::Mutex::new(()),
            _lock: lock,
        });
        let engine = Self { shared, hands, inbox, storage };
        let mut work = Work {
            engine: engine.clone(),
            locks: Locks::default(),
            queue: Vec::new(),
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

    /// The digest of a plan by an edition, which goes with its begin; what was shown is remembered, to say how it differs by
    /// then.
    pub fn shows(&self, shown: Shown) -> String {
        let digest = shown.digest();
        let mut all = self.shared.shown.lock().unwrap_or_else(PoisonError::into_inner);
        if !all.iter().any(|(known, _)| *known == digest) {
            all.push_back((digest.clone(), shown));
            if all.len() > SHOWN_KEPT {
                all.pop_front();
            }
        }
        digest
    }

    /// Whether a plan is the one that was shown; else how it differs.
    fn is_as_shown(&self, plan: &Plan, edition: u64, digest: Option<&str>) -> Result<(), EngineError> {
        let now = Shown::of(plan, edition);
        let Some(digest) = digest.filter(|d| *d != now.digest()) else { return Ok(()) };
        let all = self.shared.shown.lock().unwrap_or_else(PoisonError::into_inner);
        let known = all.iter().find(|(known, _)| known == digest);
        let difference = known.map_or_else(|| vec!["what was shown is not known here any more".to_owned()], |(_, s)| s.difference(&now));
        Err(EngineError::Otherwise { difference, plan: Some(Box::new(plan.clone())) })
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
        self.remember_board(true);
        self.told_board(None)
    }

    /// What is new on the board since a version of it. A large board is as old as a few times what it takes to put together.
    pub fn board_since(&self, since: Option<u64>) -> BoardView {
        self.remember_board(false);
        self.told_board(since)
    }

    fn remember_board(&self, at_any_rate: bool) {
        let loaded = self.loaded();
        let edition = loaded.as_ref().map_or(0, |l| l.edition);
        let mut remembered = self.shared.remembered.lock().unwrap_or_else(PoisonError::into_inner);
        if !at_any_rate && remembered.will_do(edition) {
            return;
        }
        let (began, now) = (Instant::now(), self.hands.clock.now());
        let (mut services, mut hosts) = (Vec::new(), Vec::new());
        if let Some(l) = &loaded {
            let runs = read(&self.shared.runs);
            let acted_on = board::acted_on(runs.values().filter(|r| !r.has_ended() && r.is_locked()));
            let rows = l.estate.services.keys().map(|a| {
                let started = self.hands.started_as(a);
                board::row(
                    &l.estate,
                    a,
                    self.hands.watched(a).as_ref(),
                    acted_on.get(a),
                    started.as_deref(),
                    self.hands.owed_by_files(a),
                    now,
                )
            });
            services = rows.collect();
            hosts = board::hosts(&l.estate, &self.hands);
        }
        remembered.take(edition, services, hosts, began.elapsed());
    }

    fn told_board(&self, since: Option<u64>) -> BoardView {
        let loaded = self.loaded();
        let told = self.shared.remembered.lock().unwrap_or_else(PoisonError::into_inner).tell(since);
        BoardView {
            estate: loaded.as_ref().map(|l| l.estate.name.clone()).unwrap_or_default(),
            stands_for: loaded.as_ref().map(|l| l.estate.stands_for),
            edition: loaded.as_ref().map_or(0, |l| l.edition),
            as_of: self.hands.clock.now(),
            looked_at: Timestamp::from_ms(self.shared.looked_at_ms.load(Ordering::Relaxed)),
            version: told.version,
            whole: told.whole,
            standstill: read(&self.shared.standstill).clone(),
            storage_trouble: read(&self.shared.storage_trouble).clone(),
            hosts: told.hosts,
            services: told.services,
            open_runs: read(&self.shared.runs).values().filter(|r| !r.has_ended()).map(summary).collect(),
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
        self.run_since(id, None)
    }

    /// The same, with only those of its steps that changed after an event.
    pub fn run_since(&self, id: RunId, since: Option<u64>) -> Result<RunView, EngineError> {
        let now = self.hands.clock.now();
        if let Some(run) = read(&self.shared.runs).get(&id) {
            return Ok(view::view(run, now, since));
        }
        let events = self.reader()?.events_of(id)?;
        let run = Run::replay(id, events.into_iter().map(|e| (e.at, e.event))).ok_or(EngineError::NoRun(id))?;
        Ok(view::view(&run, now, since))
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
        let own = match &service.runner {
            ServiceRunner::Process(_) => self.output_of(service),
            ServiceRunner::Systemd(s) => Some(s.journal()),
            ServiceRunner::Commands(_) | ServiceRunner::Host(_) | ServiceRunner::Outlet(_) | ServiceRunner::Simulated(_) => None,
        };
        service.logs.iter().cloned().chain(own).collect()
    }

    /// Where a service's own output goes, as far as its host is known.
    pub fn output_of(&self, service: &Service) -> Option<String> {
        self.hands.hosts.output_of(service)
    }

    /// What a file of a host has from a position on; see [`Hosts::read_from`].
    pub async fn read_from(&self, host: &HostName, path: &str, from: Option<u64>) -> Result<(u64, String), String> {
        self.hands.hosts.read_from(host, path, from).await
    }

    /// Looks through a host for what could be described, and says how the chosen would be.
    pub async fn survey(&self, host: &HostName, chosen: &[String]) -> Result<HostSurvey, EngineError> {
        let loaded = self.loaded().ok_or(EngineError::NoEstate)?;
        if !loaded.estate.hosts.contains_key(host) {
            return Err(EngineError::NoHost(host.clone()));
        }
        let found = self.hands.hosts.survey(host).await.map_err(|why| EngineError::NoSurvey { host: host.clone(), why })?;
        let survey = found.known_in(&loaded.estate, host);
        if let Some(stray) = chosen.iter().find(|c| !survey.units.iter().any(|u| &u.unit == *c)) {
            let units: Vec<&str> = survey.units.iter().map(|u| u.unit.as_str()).collect();
            return Err(EngineError::NoUnit { unit: stray.clone(), hint: did_you_mean(stray, units) });
        }
        let toml = survey.describe(&loaded.estate, host, chosen);
        Ok(HostSurvey { host: host.clone(), survey, toml })
    }

    /// Describes units of a host as services of the estate, in a new edition.
    pub async fn adopt(&self, host: &HostName, units: &[String], why: Option<String>, who: &str) -> Result<LoadOutcome, EngineError> {
        let found = self.survey(host, units).await?;
        let loaded = self.loaded().ok_or(EngineError::NoEstate)?;
        let text = format!("{}\n\n{}", loaded.text.trim_end(), found.toml.trim_start());
        self.load_adopted(LoadRequest { text, folder: loaded.folder.clone(), why, over_edits: true }, who).await
    }

    /// Opens a log on a host for a reader: so many lines before an act's position, or before its end.
    pub async fn open_log(
        &self,
        host: &HostName,
        path: &str,
        since: Option<LogMark>,
        lines: usize,
    ) -> Result<(ReadLog, Vec<LogLine>), String> {
        self.hands.hosts.open_log(host, path, since, lines).await
    }

    /// The text with every known secret replaced by its reference.
    pub fn mask(&self, text: &str) -> String {
        self.hands.hosts.here().mask(text)
    }

    /// How long steps usually take. Reads the store, away from the threads that serve.
    pub(crate) async fn usual(&self, estate: &Estate) -> Usual {
        let engine = self.clone();
        let known = tokio::task::spawn_blocking(move || engine.times()).await;
        // The blocking pool only fails to answer when the runtime goes down.
        Usual::new(known.unwrap_or_default(), estate)
    }

    /// How long steps took. For threads that may block.
    pub(crate) fn times(&self) -> Vec<(String, String, Vec<Duration>)> {
        match self.reader().and_then(|r| Ok(r.times()?)) {
            Ok(known) => known,
            Err(error) => {
                tracing::warn!(%error, "no history to forecast from");
                Vec::new()
            }
        }
    }

    /// Works out what a request comes to, from a fresh look.
    pub async fn plan(&self, request: &BeginRequest) -> Result<(Plan, Arc<Loaded>), EngineError> {
        let loaded = as_one_run_sees_it(self.estate_loaded()?, &request.overrides)?;
        let selection = self.as_found(&request.selection).await?;
        let chosen = selection::resolve(&loaded.estate, &loaded.graph, &selection, &request.except)?;
        let seen = self.hands.look(loaded.estate.services.values().cloned().collect()).await;
        let facts: Facts = seen.into_iter().collect();
        let asked = Request {
            wish: request.wish,
            chosen,
            alone: request.alone,
            left_standing: request.left_standing.clone(),
            below_keep_up: request.below_keep_up.clone(),
        };
        let mut plan = plan(&loaded.estate, &loaded.graph, &facts, &self.usual(&loaded.estate).await, &asked);
        plan.prefer(request.prefer, &loaded.estate);
        plan.preflight = preflight(&loaded.estate, &plan.sequence.steps);
        plan.heed_freezes(&loaded.estate, self.hands.clock.now(), &request.in_freeze);
        self.heed_hosts(&mut plan, &loaded.estate, &request.along).await;
        Ok((plan, loaded))
    }

    /// Works out what a procedure comes to, from a fresh look.
    pub async fn plan_procedure(&self, name: &ProcedureName, request: &ProcedureRequest) -> Result<(Plan, Arc<Loaded>), EngineError> {
        let loaded = as_one_run_sees_it(self.estate_loaded()?, &request.overrides)?;
        let procedure = loaded.estate.procedures.get(name).ok_or_else(|| EngineError::NoProcedure {
            name: name.to_string(),
            near: did_you_mean(name.as_str(), loaded.estate.procedures.keys().map(ProcedureName::as_str)),
        })?;
        let procedure = self.with_as_found(procedure).await?;
        self.plan_lines(&procedure, request, loaded).await
    }

    /// Works out what a further act of services comes to: a procedure of one line that nobody wrote.
    pub async fn plan_act(&self, request: &ActRequest) -> Result<(Plan, Arc<Loaded>), EngineError> {
        let loaded = self.estate_loaded()?;
        let act = request.act.to_ascii_lowercase();
        let name = act.parse().map_err(|_| EngineError::NoAct(request.act.clone()))?;
        // That each name means something is told as of any selection.
        selection::resolve(&loaded.estate, &loaded.graph, &request.of, &[])?;
        let line = Line {
            name: None,
            does: Does::Act { act: act.clone(), of: request.of.clone() },
            alongside: false,
            preflight: false,
            settings: Settings::default(),
        };
        let procedure = Procedure {
            name,
            title: format!("{act} {}", request.of.join(", ")),
            purpose: None,
            questions: BTreeMap::new(),
            if_it_fails: None,
            held_at_most: None,
            lines: vec![line],
            dir: loaded.folder.clone(),
        };
        self.plan_lines(&procedure, &ProcedureRequest::default(), loaded).await
    }

    async fn plan_lines(
        &self,
        procedure: &Procedure,
        request: &ProcedureRequest,
        loaded: Arc<Loaded>,
    ) -> Result<(Plan, Arc<Loaded>), EngineError> {
        let values = procedure::settle(&loaded.estate, &loaded.graph, procedure, &request.answers).map_err(EngineError::Answers)?;
        if let Some(from) = request.from_line
            && (from == 0 || from as usize > procedure.lines.len())
        {
            return Err(EngineError::NoLine { line: from, lines: procedure.lines.len() });
        }
        let seen = self.hands.look(loaded.estate.services.values().cloned().collect()).await;
        let facts: Facts = seen.into_iter().collect();
        let asked = Asked {
            values,
            left_standing: request.left_standing.clone(),
            below_keep_up: request.below_keep_up.clone(),
            from_line: request.from_line.filter(|l| *l > 1),
            vouched_for: request.vouched_for.clone(),
            ..Asked::default()
        };
        let mut plan = procedure::plan(&loaded.estate, &loaded.graph, &facts, &self.usual(&loaded.estate).await, procedure, &asked);
        plan.prefer(request.prefer, &loaded.estate);
        plan.heed_freezes(&loaded.estate, self.hands.clock.now(), &request.in_freeze);
        self.heed_hosts(&mut plan, &loaded.estate, &request.along).await;
        Ok((plan, loaded))
    }

    // ---- changing ----

    /// Begins a run of a wish.
    pub async fn begin(&self, request: &BeginRequest, who: &str) -> Result<RunId, EngineError> {
        if let Some(run) = self.begun_already(request.asked_as.as_deref()).await? {
            return Ok(run);
        }
        let (plan, loaded) = self.plan(request).await?;
        let begun = Begun {
            why: request.why.clone(),
            change: request.change.clone(),
            ..self.may_begin(plan, &loaded, &request.terms(), who).await?
        };
        self.begin_so(begun, request.asked_as.clone()).await
    }

    /// The run that was begun under an identity, where one was: whoever asks twice is told twice.
    async fn begun_already(&self, asked_as: Option<&str>) -> Result<Option<RunId>, EngineError> {
        let Some(identity) = asked_as.map(str::to_owned) else { return Ok(None) };
        if identity.is_empty() || identity.len() > LONGEST_IDENTITY {
            return Err(EngineError::BadIdentity);
        }
        let engine = self.clone();
        let found = tokio::task::spawn_blocking(move || Ok::<_, EngineError>(engine.reader()?.asked_as(&identity)?)).await;
        found.unwrap_or(Err(EngineError::Busy))
    }

    /// Begins a run of a procedure.
    pub async fn begin_procedure(&self, name: &ProcedureName, request: &ProcedureRequest, who: &str) -> Result<RunId, EngineError> {
        let from_line = request.from_line.filter(|l| *l > 1);
        if from_line.is_some() && request.why.as_deref().is_none_or(|w| w.trim().is_empty()) {
            return Err(EngineError::NoReason("to vouch for the lines before"));
        }
        if let Some(run) = self.begun_already(request.asked_as.as_deref()).await? {
            return Ok(run);
        }
        let (plan, loaded) = self.plan_procedure(name, request).await?;
        let begun = Begun {
            why: request.why.clone(),
            change: request.change.clone(),
            from_line,
            vouched_for: request.vouched_for.clone(),
            ..self.may_begin(plan, &loaded, &request.terms(), who).await?
        };
        self.begin_so(begun, request.asked_as.clone()).await
    }

    /// Begins a run of a further act of services.
    pub async fn begin_act(&self, request: &ActRequest, who: &str) -> Result<RunId, EngineError> {
        if let Some(run) = self.begun_already(request.asked_as.as_deref()).await? {
            return Ok(run);
        }
        let (plan, loaded) = self.plan_act(request).await?;
        let terms = ProcedureRequest { why: request.why.clone(), shown: request.shown.clone(), ..ProcedureRequest::default() };
        let begun = Begun { why: request.why.clone(), ..self.may_begin(plan, &loaded, &terms.terms(), who).await? };
        self.begin_so(begun, request.asked_as.clone()).await
    }

    /// How a run begins by a plan, where nothing stands in its way.
    async fn may_begin(&self, plan: Plan, loaded: &Loaded, terms: &Terms<'_>, who: &str) -> Result<Begun, EngineError> {
        if let Some(by) = read(&self.shared.standstill).clone() {
            return Err(EngineError::Standstill(by));
        }
        if !plan.can_begin() {
            return Err(EngineError::NotAsItIs(Box::new(plan)));
        }
        self.is_as_shown(&plan, loaded.edition, terms.shown)?;
        let acted_on = plan.sequence.acted_on();
        if !terms.in_freeze.is_empty() && terms.why.is_none_or(|w| w.trim().is_empty()) {
            return Err(EngineError::NoReason("to begin inside a change freeze"));
        }
        let window = terms.window.map(|name| self.window(loaded, name, terms.at_last_moment)).transpose()?;
        if let Some(stray) = terms.overrides.keys().find(|a| !acted_on.contains(*a)) {
            return Err(EngineError::StrayOverride(stray.clone()));
        }
        let is_unit = |a: &Address| loaded.estate.services.get(a).is_some_and(|s| matches!(s.runner, ServiceRunner::Systemd(_)));
        let of_unit = terms.overrides.iter().find(|(a, o)| is_unit(a) && (!o.env.is_empty() || o.args.is_some()));
        if let Some((address, _)) = of_unit {
            return Err(EngineError::UnitOverride(address.clone()));
        }
        let hosts: BTreeSet<&HostName> =
            plan.sequence.steps.iter().filter(|s| s.kind() != StepKind::Await).filter_map(|s| s.host()).collect();
        // Asked now: another server may have come to act there since the last round.
        let described = hosts.iter().filter_map(|h| Some(((*h).clone(), loaded.estate.hosts.get(*h)?.clone())));
        self.hands.ask_keepers(&described.collect()).await;
        for host in hosts {
            if let Some(why) = self.hands.kept(host) {
                return Err(EngineError::HostKept { host: host.clone(), why });
            }
        }
        let forecast = play_all(&plan.sequence.steps, &loaded.estate, terms.at_once);
        let begun = Begun::of(plan, &loaded.estate, loaded.edition, who, terms.overrides);
        Ok(Begun {
            forecast: Some(forecast),
            at_once: terms.at_once,
            window,
            in_freeze: terms.in_freeze.clone(),
            held_at_most: terms.held_at_most.or(begun.held_at_most),
            ..begun
        })
    }

    /// The window of a name as it stands open now.
    pub(crate) fn window(&self, loaded: &Loaded, name: &str, at_last_moment: AtLastMoment) -> Result<WindowTerms, EngineError> {
        let names: Vec<&str> = loaded.estate.windows.keys().map(String::as_str).collect();
        let known = loaded.estate.windows.iter().find(|(n, _)| n.eq_ignore_ascii_case(name));
        let (_, window) =
            known.ok_or_else(|| EngineError::NoWindow { name: name.to_owned(), near: did_you_mean(name, names.iter().copied()) })?;
        let now = self.hands.clock.now();
        match window.hours.covering(now) {
            Some((_, ends_at)) => Ok(WindowTerms { title: window.title.clone(), ends_at, at_last_moment }),
            None => {
                let next = window.hours.next(now, Duration::from_secs(400 * 24 * 3600));
                let opens = next.map_or_else(|| "never again".to_owned(), |(from, _)| from.in_zone(&window.hours.zone));
                Err(EngineError::WindowShut { title: window.title.clone(), opens })
            }
        }
    }

    async fn begin_so(&self, begun: Begun, asked_as: Option<String>) -> Result<RunId, EngineError> {
        self.ask(|reply| Msg::Begin { begun: Box::new(begun), asked_as, reply }).await
    }

    /// Asks the loop for something, and waits for its answer.
    pub(crate) async fn ask<T>(&self, msg: impl FnOnce(oneshot::Sender<Result<T, EngineError>>) -> Msg) -> Result<T, EngineError> {
        let (reply, answered) = oneshot::channel();
        self.inbox.ask(msg(reply))?;
        answered.await.expect("the loop answers what it was asked")
    }

    /// What a run that holds since things changed would do now (R8): its plan worked out anew, from a fresh look and by the
    /// newest edition.
    pub async fn anew(&self, run: RunId) -> Result<(Plan, Arc<Loaded>), EngineError> {
        let begun = read(&self.shared.runs).get(&run).map(|r| r.begun.clone()).ok_or(EngineError::NoRun(run))?;
        let loaded = as_one_run_sees_it(self.estate_loaded()?, &begun.overrides)?;
        let seen = self.hands.look(loaded.estate.services.values().cloned().collect()).await;
        let facts: Facts = seen.into_iter().collect();
        let usual = self.usual(&loaded.estate).await;
        let mut plan = crate::orders::again(&loaded, &begun, &facts, &usual).ok_or_else(|| EngineError::NoProcedure {
            name: begun.sequence.of.word().to_owned(),
            near: "it is no longer in the estate: give this run up".to_owned(),
        })?;
        plan.heed_freezes(&loaded.estate, self.hands.clock.now(), &begun.in_freeze);
        self.heed_hosts(&mut plan, &loaded.estate, &BTreeSet::new()).await;
        Ok((plan, loaded))
    }

    /// Goes on with a run that holds since things changed, by what was shown of it anew.
    async fn go_on_anew(&self, run: RunId, decision: Decision, shown: Option<&str>) -> Result<(), EngineError> {
        let Some(shown) = shown else { return Err(EngineError::Refused(Refusal::Changed { run: run.0 })) };
        let before = read(&self.shared.runs).get(&run).map(|r| r.begun.clone()).ok_or(EngineError::NoRun(run))?;
        let (plan, loaded) = self.anew(run).await?;
        if !plan.can_begin() {
            return Err(EngineError::NotAsItIs(Box::new(plan)));
        }
        self.is_as_shown(&plan, loaded.edition, Some(shown))?;
        let forecast = play_all(&plan.sequence.steps, &loaded.estate, before.at_once);
        let begun = Begun {
            why: before.why,
            change: before.change,
            at_once: before.at_once,
            window: before.window,
            in_freeze: before.in_freeze,
            held_at_most: before.held_at_most,
            from_line: before.from_line,
            vouched_for: before.vouched_for,
            forecast: Some(forecast),
            ..Begun::of(plan, &loaded.estate, loaded.edition, &before.who, &before.overrides)
        };
        self.ask(|reply| Msg::Replan { run, begun: Box::new(begun), decision, reply }).await
    }

    /// Writes a note on a run, ended or not (N58).
    pub async fn note(&self, run: RunId, who: &str, text: &str) -> Result<(), EngineError> {
        if text.trim().is_empty() {
            return Err(EngineError::NoReason("a note"));
        }
        self.remark(run, Input::Note { who: who.to_owned(), text: text.trim().to_owned() }).await
    }

    /// Says who has a run from now on (N58).
    pub async fn take_on(&self, run: RunId, who: &str) -> Result<(), EngineError> {
        self.remark(run, Input::TakeOn { who: who.to_owned() }).await
    }

    async fn remark(&self, run: RunId, input: Input) -> Result<(), EngineError> {
        self.ask(|reply| Msg::Remark { run, input, reply }).await
    }

    /// Takes an operator's decision. `shown` is the digest of what it was shown to do: no more is done. To go on with a run that
    /// things changed for, it is needed, and is that of what was worked out anew.
    pub async fn decide(&self, run: RunId, decision: Decision, shown: Option<&str>) -> Result<(), EngineError> {
        let changed = |r: &Run| r.awaiting().next().is_none() && r.hold_causes().any(|c| matches!(c, HoldCause::Changed { .. }));
        if decision.kind == DecisionKind::Resume && read(&self.shared.runs).get(&run).is_some_and(changed) {
            return self.go_on_anew(run, decision, shown).await;
        }
        if matches!(&decision.kind, DecisionKind::TryAgain { change: Some(change), .. } if change.written.is_some()) {
            return Err(EngineError::NoWrittenChange);
        }
        let shown = shown.map(|digest| self.was_shown(digest)).transpose()?;
        if let (Some(shown), DecisionKind::Divert { .. }) = (&shown, &decision.kind) {
            // What takes over is worked out from a look, which the loop does not wait for.
            no_more(shown, &self.would(run, &decision).await?)?;
        }
        self.ask(|reply| Msg::Decide { run, decision, shown, reply }).await
    }

    /// Acknowledges the forbidden line that is held against a service, with a reason (R17).
    pub async fn acknowledge(&self, address: Address, who: &str, why: &str) -> Result<(), EngineError> {
        if why.trim().is_empty() {
            return Err(EngineError::NoReason("to acknowledge"));
        }
        let about = address.clone();
        self.ask(|reply| Msg::Acknowledge { address: about, who: who.to_owned(), why: why.to_owned(), reply }).await?;
        let service = self.loaded().and_then(|l| l.estate.services.get(&address).cloned());
        self.hands.look(service.into_iter().collect()).await;
        Ok(())
    }

    /// Takes a host over from the server that acted on it before (R35).
    pub async fn take_over(&self, host: &HostName, who: &str, why: &str, shown: Option<&str>) -> Result<(), EngineError> {
        if why.trim().is_empty() {
            return Err(EngineError::NoReason("to take a host over"));
        }
        let loaded = self.loaded().ok_or(EngineError::NoEstate)?;
        let described = loaded.estate.hosts.get(host).ok_or_else(|| EngineError::NoHost(host.clone()))?;
        if let Some(digest) = shown {
            no_more(&self.was_shown(digest)?, &self.would_take_over(host)?)?;
        }
        let about = format!("host {host}");
        self.ask(|reply| Msg::Audit { who: who.to_owned(), what: "take over", about, why: why.to_owned(), reply }).await?;
        self.hands.take_over(host, described).await.map_err(|why| EngineError::HostKept { host: host.clone(), why })
    }

    /// Holds every run and all reviving, or lets them go on (R36). `shown` is the digest of what lifting it was shown to do.
    pub async fn standstill(&self, on: bool, who: &str, shown: Option<&str>) -> Result<(), EngineError> {
        let shown = shown.map(|digest| self.was_shown(digest)).transpose()?;
        self.ask(|reply| Msg::Standstill { on, who: who.to_owned(), shown, reply }).await
    }

    /// Ends every process that this data folder's runs started, and awaits their ends: for a demo that
    /// cleans up after itself. No run does this; it goes past sequence and record.
    pub async fn end_all_started(&self) {
        // Where that cannot be stored there is nothing under way that it would hold.
        let _ = self.standstill(true, "the demo ends", None).await;
        self.hands.end_all().await;
    }

    /// When the loop next wants waking by itself; `None` while it waits for answers or for people only.
    pub fn next_wake(&self) -> Option<Timestamp> {
        read(&self.shared.runs).values().filter_map(Run::next_deadline).min()
    }

    /// For trying what a full disk does: see [`yantro_store::Writer::limit_pages`].
    pub fn limit_storage(&self, more_pages: Option<u32>) {
        self.storage.limit_pages(more_pages);
    }

    pub(crate) fn send(&self, msg: Msg) {
        self.inbox.tell(msg);
    }

    // ---- looking ----

    /// The link to a host came or went.
    async fn link_changed(&self, host: &HostName) {
        if self.hands.hosts.link(host).is_some_and(|l| l.up) {
            self.hands.learn_started_on(host).await;
        }
        if let Some(loaded) = self.loaded() {
            let there: Vec<Arc<Service>> = loaded.estate.services.values().filter(|s| s.is_on(host)).cloned().collect();
            let looked = self.hands.look(there).await;
            let told = looked.into_iter().map(|(a, s)| {
                let says = self.hands.watched(&a).map(|w| w.seen.says).unwrap_or_default();
                (a, s, says)
            });
            self.send(Msg::Looked(told.collect()));
        }
    }

    /// Looks at everything, round after round.
    async fn rounds(self) {
        loop {
            let (began, began_at) = (Instant::now(), self.hands.clock.now());
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
                self.shared.looked_at_ms.store(began_at.as_ms(), Ordering::Relaxed);
                self.hands.ask_keepers(&loaded.estate.hosts).await;
                self.hands.look_at_files(loaded.estate.services.values()).await;
                self.send(Msg::Looked(changed));
                if loaded.estate.services.len() > MANY_SERVICES {
                    // Only waited for; how it ends is no matter.
                    let _ = tokio::task::spawn_blocking(give_memory_back).await;
                }
            }
            // Looking has a budget: a round that takes long is followed by a longer pause, up to a limit.
            let pause = ROUND.max((began.elapsed() * PAUSE_TIMES).min(LONGEST_PAUSE));
            tokio::select! {
                () = tokio::time::sleep(pause) => {}
                () = self.shared.look_again.notified() => {}
            }
        }
    }
}

/// The estate with the settings in it that are written for one run.
fn as_one_run_sees_it(loaded: Arc<Loaded>, overrides: &Overrides) -> Result<Arc<Loaded>, EngineError> {
    let mut over = BTreeMap::new();
    for (address, one) in overrides.iter().filter(|(_, o)| o.written.is_some()) {
        if !loaded.estate.services.contains_key(address) {
            return Err(EngineError::StrayOverride(address.clone()));
        }
        over.insert(address.clone(), one.settings().map_err(|faults| EngineError::BadOverride { address: address.clone(), faults })?);
    }
    let Some(first) = over.keys().next().cloned() else { return Ok(loaded) };
    let vetted = vet_with(&loaded.text, &loaded.folder, &over);
    match vetted.estate {
        Some(estate) => Ok(Arc::new(Loaded::new(loaded.edition, loaded.text.clone(), loaded.folder.clone(), estate))),
        None => Err(EngineError::BadOverride { address: first, faults: vetted.faults }),
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

pub(crate) fn run_row(run: &Run) -> RunRow {
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

/// An event as told to those who look on: what they need to know that something happened.
pub(crate) fn brief(event: &Event) -> serde_json::Value {
    match event {
        // The sequence is asked for once, not pushed at everyone.
        Event::Begun(_) => serde_json::json!({ "event": "begun" }),
        other => serde_json::to_value(other).expect("our own types have text keys only"),
    }
}
