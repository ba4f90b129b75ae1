//! Carries orders out: looks, acts, climbs. What comes of them goes back to the engine's loop.

use std::{
    collections::{BTreeMap, HashMap},
    sync::{Arc, Mutex, PoisonError, RwLock},
    time::Duration,
};

use futures::{StreamExt, stream};
use tokio::{sync::mpsc::UnboundedSender, task::AbortHandle};
use yantro_core::{
    board::{Look, Watched},
    estate::Service,
    name::Address,
    run::{ActBegun, ActEnd, ActId, ActKind, Input, Run, RunId, input::LogMark},
    sequence::{Preflight, StepId, StepKind},
    state::{Answer, LogAgainst, SeenState},
    time::Timestamp,
};
use yantro_reach::{ActNews, ActRecord, ActSpec, Climb, Here, Kept, ProcessId, Recorded};
use yantro_store::StartedAs;

use crate::{board::Watching, clock::Clock, engine::Msg, identity::Identity};

/// Looks taken side by side.
const SIDE_BY_SIDE: usize = 32;

/// The hands of the engine.
#[derive(Clone)]
pub(crate) struct Hands {
    pub here: Arc<Here>,
    pub clock: Clock,
    inbox: UnboundedSender<Msg>,
    /// The start that each service runs by now.
    known: Arc<Mutex<BTreeMap<Address, ActRecord>>>,
    started: Arc<RwLock<BTreeMap<Address, Arc<StartedAs>>>>,
    watching: Arc<RwLock<Watching>>,
    climbs: Arc<Mutex<HashMap<(RunId, StepId), AbortHandle>>>,
    /// Why a restart is owed by what lies on disk, as of the last round.
    owed: Arc<RwLock<BTreeMap<Address, String>>>,
    pub identity: Arc<Identity>,
}

/// The identity of an act on its machine. When its run began is part of it: a store restored from a
/// copy counts its runs from where the copy was, and must not take an older run's acts for its own.
pub(crate) fn identity(run: &Run, act: ActId) -> String {
    format!("run-{}-{:x}/act-{}", run.id, run.began_at.as_ms(), act.0)
}

/// An act as ordered.
#[derive(Debug, Clone)]
pub(crate) struct Given {
    pub run: RunId,
    pub step: StepId,
    pub act: ActId,
    pub kind: ActKind,
    /// See [`identity`].
    pub identity: String,
}

/// Something that is told to people.
#[derive(Debug, Clone)]
pub(crate) struct Announced {
    pub says: String,
    pub to: Option<String>,
    /// See [`identity`].
    pub identity: String,
    pub run: RunId,
    pub title: String,
    pub who: String,
    pub at: Timestamp,
}

impl Hands {
    pub fn new(here: Here, clock: Clock, inbox: UnboundedSender<Msg>, started: Vec<(Address, StartedAs)>, identity: Identity) -> Self {
        let mut known = BTreeMap::new();
        for (address, s) in &started {
            if let Recorded::Begun(record) | Recorded::Ended(Some(record), _) = here.recorded(&s.act) {
                known.insert(address.clone(), record);
            }
        }
        Self {
            here: Arc::new(here),
            clock,
            inbox,
            known: Arc::new(Mutex::new(known)),
            started: Arc::new(RwLock::new(started.into_iter().map(|(a, s)| (a, Arc::new(s))).collect())),
            watching: Arc::default(),
            climbs: Arc::default(),
            owed: Arc::default(),
            identity: Arc::new(identity),
        }
    }

    /// Tells the loop what came of an order.
    pub fn tell(&self, run: RunId, input: Input) {
        // The loop is gone only when the server ends.
        let _ = self.inbox.send(Msg::Input { run, input });
    }

    pub fn started_as(&self, address: &Address) -> Option<Arc<StartedAs>> {
        self.started.read().unwrap_or_else(PoisonError::into_inner).get(address).cloned()
    }

    pub fn remember_started(&self, address: &Address, started: StartedAs) {
        self.started.write().unwrap_or_else(PoisonError::into_inner).insert(address.clone(), Arc::new(started));
    }

    fn known(&self, address: &Address) -> Option<ActRecord> {
        self.known.lock().unwrap_or_else(PoisonError::into_inner).get(address).cloned()
    }

    /// The service as it was started, where Yantro started it: looked for where it was opened (R24).
    pub fn as_started(&self, service: &Service) -> Service {
        let mut service = service.clone();
        if let Some(started) = self.started_as(&service.address) {
            service.runner = started.service.runner.clone();
            service.ladder.clone_from(&started.service.ladder);
        }
        service
    }

    pub fn watched(&self, address: &Address) -> Option<Watched> {
        self.watching.read().unwrap_or_else(PoisonError::into_inner).get(address).cloned()
    }

    /// Puts a service into a state that was shown otherwise.
    pub fn set_seen(&self, address: &Address, state: SeenState) {
        let now = self.clock.now();
        let mut watching = self.watching.write().unwrap_or_else(PoisonError::into_inner);
        watching.entry(address.clone()).or_insert_with(|| Watched::unknown(0, now)).set(state, now);
    }

    /// Notes a forbidden line in a service's log, or that none counts any longer (R17).
    pub fn set_log_against(&self, address: &Address, against: Option<LogAgainst>) {
        let now = self.clock.now();
        let mut watching = self.watching.write().unwrap_or_else(PoisonError::into_inner);
        watching.entry(address.clone()).or_insert_with(|| Watched::unknown(0, now)).log_against(against);
    }

    /// Whether a host of this network address is this server's to act on (R35).
    pub fn may_act_on(&self, host: &str) -> Result<(), Kept> {
        self.identity.with_claim(|claim| self.here.may_act_on(host, claim))
    }

    /// Takes a host over from the server that acted on it before.
    pub fn take_over(&self, host: &str) -> Result<(), Kept> {
        self.identity.with_claim(|claim| self.here.take_over(host, claim))
    }

    /// Forgets what is no longer in the estate.
    pub fn keep_only(&self, keep: impl Fn(&Address) -> bool) {
        self.watching.write().unwrap_or_else(PoisonError::into_inner).retain(|a, _| keep(a));
    }

    /// Looks at services, and says what each is now.
    pub async fn look(&self, services: Vec<Service>) -> BTreeMap<Address, SeenState> {
        let round = self.here.round();
        let looked: Vec<(Address, SeenState)> = stream::iter(services)
            .map(|service| {
                let round = &round;
                async move {
                    let as_started = self.as_started(&service);
                    let known = self.known(&service.address);
                    let raw = self.here.look(&as_started, known.as_ref(), round).await;
                    let now = self.clock.now();
                    let look = Look {
                        runs: raw.runs,
                        rungs: raw.rungs,
                        total: raw.total,
                        pid: raw.main.map(|m| m.pid),
                        started_at: self.started_as(&service.address).map(|s| s.at),
                    };
                    let mut watching = self.watching.write().unwrap_or_else(PoisonError::into_inner);
                    let watched = watching.entry(service.address.clone()).or_insert_with(|| Watched::unknown(look.total, now));
                    watched.take(&look, now, service.start.patience.0, service.ailing_after);
                    (service.address.clone(), watched.seen.state)
                }
            })
            .buffer_unordered(SIDE_BY_SIDE)
            .collect()
            .await;
        looked.into_iter().collect()
    }

    /// Gives an act under its identity.
    ///
    /// `host` is the network address of the service's host, which must be this server's to act on.
    pub fn act(&self, given: Given, service: Service, host: String) {
        let hands = self.clone();
        tokio::spawn(async move {
            let Given { run, step, act, kind, .. } = given;
            if let Err(kept) = hands.identity.with_claim(|claim| hands.here.claim(&host, claim)) {
                let (why, mend) = (kept.to_string(), format!("yantro take-over {} --why …", service.address.host));
                return hands.tell(run, Input::ActEnded { step, act, end: ActEnd::Refused { why, mend } });
            }
            let address = service.address.clone();
            // A stop, a reload and a force work on what was started; a start and work on what the run says.
            let (service, known) = match kind {
                ActKind::Start | ActKind::Work | ActKind::Further => (service, None),
                _ => (hands.as_started(&service), hands.known(&address)),
            };
            let spec = ActSpec { identity: &given.identity, kind, service: &service, known: known.as_ref() };
            let teller = hands.teller(given.clone(), address);
            if let Err(end) = hands.here.act(spec, teller).await {
                hands.tell(run, Input::ActEnded { step, act, end });
            }
        });
    }

    fn teller(&self, given: Given, address: Address) -> impl Fn(ActNews) + Send + use<> {
        let hands = self.clone();
        let Given { run, step, act, kind, .. } = given;
        move |news| match news {
            ActNews::Begun(begun, record) => {
                if kind == ActKind::Start {
                    hands.known.lock().unwrap_or_else(PoisonError::into_inner).insert(address.clone(), *record);
                }
                hands.tell(run, Input::ActBegun { step, act, begun: *begun });
            }
            ActNews::Ended(end) => {
                hands.tell(run, Input::ActEnded { step, act, end: hands.masked(end) });
                // An end is news to the board, run or no run.
                let _ = hands.inbox.send(Msg::LookAt(address.clone()));
            }
            ActNews::Gone => {
                let _ = hands.inbox.send(Msg::LookAt(address.clone()));
            }
            ActNews::BegunBefore => {
                let (hands, given, address) = (hands.clone(), given.clone(), address.clone());
                tokio::spawn(async move { hands.find(given, address).await });
            }
            ActNews::Lost(why) => {
                tracing::warn!(%run, %step, %why, "an act's outcome is unknown");
                hands.tell(run, Input::ActUnknown { step, act });
            }
        }
    }

    fn masked(&self, end: ActEnd) -> ActEnd {
        match end {
            ActEnd::Exited { code, output } => ActEnd::Exited { code, output: self.here.mask(&output) },
            ActEnd::Signalled { signal, output } => ActEnd::Signalled { signal, output: self.here.mask(&output) },
            ActEnd::TimedOut { output } => ActEnd::TimedOut { output: self.here.mask(&output) },
            end @ (ActEnd::Sent | ActEnd::Refused { .. }) => end,
        }
    }

    /// Why a service's restart is owed by what lies on disk.
    pub fn owed_by_files(&self, address: &Address) -> Option<String> {
        self.owed.read().unwrap_or_else(PoisonError::into_inner).get(address).cloned()
    }

    /// Looks at the files of everything that was started here and is up.
    pub async fn look_at_files(&self, services: Vec<Service>) {
        let hands = self.clone();
        let looked = tokio::task::spawn_blocking(move || {
            let owed = services.iter().filter_map(|service| {
                let started = hands.started_as(&service.address)?;
                let seen = hands.watched(&service.address)?.seen;
                let why = hands.here.owed_by_files(service, started.at, seen.pid).filter(|_| seen.state.is_up())?;
                Some((service.address.clone(), why))
            });
            let owed: BTreeMap<Address, String> = owed.collect();
            *hands.owed.write().unwrap_or_else(PoisonError::into_inner) = owed;
        });
        // The blocking pool only fails to answer when the runtime goes down.
        let _ = looked.await;
    }

    /// Takes looks once, side by side.
    pub async fn preflight(&self, looks: Vec<Preflight>) -> Vec<(Preflight, Answer)> {
        let round = self.here.round();
        let answers = stream::iter(looks).map(|look| {
            let round = &round;
            async move {
                let answer = self.here.look_once(&look.host, &look.rung, round).await;
                (look, answer)
            }
        });
        answers.buffered(SIDE_BY_SIDE).collect().await
    }

    /// Tells people something by a CloudEvent in JSON (CloudEvents 1.0.2, structured mode). Its id is the act's
    /// identity: whoever is told twice, over a restart of this server, can know it.
    pub async fn announce(&self, step: StepId, act: ActId, told: Announced) {
        let Announced { says, to, identity, run, title, who, at } = told;
        let host = to.clone().unwrap_or_else(|| "the run's record".to_owned());
        let begun = ActBegun {
            command: vec!["announce".to_owned(), says.clone(), host],
            dir: "/".to_owned(),
            user: who.clone(),
            pid: None,
            started: None,
            marks: BTreeMap::new(),
        };
        self.tell(run, Input::ActBegun { step, act, begun });
        let Some(to) = to else { return self.tell(run, Input::ActEnded { step, act, end: ActEnd::Sent }) };
        let event = serde_json::json!({
            "specversion": "1.0",
            "id": format!("{}/{identity}", self.identity.server()),
            "source": format!("/yantro/{}", self.identity.server()),
            "type": "yantro.announcement",
            "time": at,
            "datacontenttype": "application/json",
            "data": { "run": run, "title": title, "who": who, "says": says },
        });
        let end = match self.here.post(&to, "application/cloudevents+json", event.to_string()).await {
            Ok(status) if (200..300).contains(&status) => ActEnd::Exited { code: 0, output: format!("{to} answered {status}") },
            Ok(status) => ActEnd::Exited { code: i32::from(status), output: format!("{to} answered {status}") },
            Err(why) => ActEnd::Refused {
                why: format!("{to} could not be told: {why}"),
                mend: "see that it answers, or pass the step over".to_owned(),
            },
        };
        self.tell(run, Input::ActEnded { step, act, end });
    }

    /// Finds out what became of an act that was intended before the server ended (R21).
    pub fn find_act(&self, given: Given, service: Service, host: String) {
        let hands = self.clone();
        tokio::spawn(async move {
            match hands.here.recorded(&given.identity) {
                // Never begun: given now, under the same identity. Were a recorder on its way
                // still, one of the two is refused by the other's folder.
                Recorded::Nothing => hands.act(given, service, host),
                _ => hands.find(given, service.address).await,
            }
        });
    }

    async fn find(&self, given: Given, address: Address) {
        let Given { run, step, act, kind, .. } = given;
        let identity = &given.identity;
        // A folder without a record: its recorder may be about to write it.
        let mut recorded = self.here.recorded(identity);
        for _ in 0..100 {
            if recorded != Recorded::OnlyFolder {
                break;
            }
            tokio::time::sleep(Duration::from_millis(10)).await;
            recorded = self.here.recorded(identity);
        }
        let remember = |record: &ActRecord| {
            if kind == ActKind::Start {
                self.known.lock().unwrap_or_else(PoisonError::into_inner).insert(address.clone(), record.clone());
            }
            if let Some(begun) = &record.begun {
                self.tell(run, Input::ActBegun { step, act, begun: begun.clone() });
            }
        };
        match recorded {
            Recorded::Nothing | Recorded::OnlyFolder => self.tell(run, Input::ActUnknown { step, act }),
            Recorded::Begun(record) => {
                remember(&record);
                self.here.follow(identity, record, self.teller(given.clone(), address.clone())).await;
            }
            Recorded::Ended(record, end) => {
                if let Some(record) = &record {
                    remember(record);
                }
                self.tell(run, Input::ActEnded { step, act, end: self.masked(end) });
            }
        }
    }

    /// Follows the ends of what earlier servers started, so that the board hears of them at once.
    pub fn follow_started(&self) {
        let known: Vec<(Address, ActRecord)> =
            self.known.lock().unwrap_or_else(PoisonError::into_inner).iter().map(|(a, r)| (a.clone(), r.clone())).collect();
        for (address, record) in known {
            let (hands, Some(started)) = (self.clone(), self.started_as(&address)) else { continue };
            let inbox = hands.inbox.clone();
            tokio::spawn(async move {
                let tell = move |_: ActNews| {
                    let _ = inbox.send(Msg::LookAt(address.clone()));
                };
                hands.here.follow(&started.act, record, tell).await;
            });
        }
    }

    /// Ends everything that was started, by its recorded identity: asked first, then by force.
    pub async fn end_all(&self) {
        let known: Vec<ActRecord> = self.known.lock().unwrap_or_else(PoisonError::into_inner).values().cloned().collect();
        self.here.end_trees(&known).await;
    }

    /// Climbs a step's ladder until told to stop.
    #[allow(clippy::too_many_arguments, reason = "an order's fields, passed on once")]
    pub fn climb(
        &self,
        run: RunId,
        step: StepId,
        attempt: u32,
        kind: StepKind,
        from: u32,
        service: Service,
        begun: Option<&ActBegun>,
        since: Timestamp,
    ) {
        let marks: BTreeMap<String, LogMark> = begun.map(|b| b.marks.clone()).unwrap_or_default();
        let hands = self.clone();
        let service = if kind == StepKind::Stop { self.as_started(&service) } else { service };
        // The process that was asked to stop, by its start too: its number may be another's by now.
        let asked = begun.filter(|_| kind == StepKind::Stop && service.brought_back_by.is_some());
        let old = asked.and_then(|b| Some(ProcessId::of_this_boot(b.pid?, b.started?)));
        let task = tokio::spawn(async move {
            let climb =
                Climb { known: hands.known(&service.address), old, service: Arc::new(service), kind, from: from as usize, marks, since };
            let teller = hands.clone();
            hands
                .here
                .climb(climb, move |report| {
                    teller.tell(run, Input::RungLooked { step, attempt, rung: report.rung, answer: report.answer, logs: report.logs });
                })
                .await;
        });
        let mut climbs = self.climbs.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(before) = climbs.insert((run, step), task.abort_handle()) {
            before.abort();
        }
    }

    /// Goes on looking for forbidden lines after a step was proven.
    pub fn watch_log(&self, run: RunId, step: StepId, attempt: u32, kind: StepKind, service: Service, marks: BTreeMap<String, LogMark>) {
        let hands = self.clone();
        let task = tokio::spawn(async move {
            if let Some(report) = hands.here.watch_log(&service, kind, &marks).await {
                hands.tell(run, Input::RungLooked { step, attempt, rung: report.rung, answer: report.answer, logs: report.logs });
            }
        });
        if let Some(before) = self.climbs.lock().unwrap_or_else(PoisonError::into_inner).insert((run, step), task.abort_handle()) {
            before.abort();
        }
    }

    /// Ends an act that is under way: its outcome comes in as that of any other.
    pub fn recall(&self, identity: String) {
        let hands = self.clone();
        tokio::spawn(async move {
            if let Recorded::Begun(record) = hands.here.recorded(&identity) {
                hands.here.end_trees(&[record]).await;
            }
        });
    }

    /// Stops all looking for a run that ended.
    pub fn stop_looking_for(&self, run: RunId) {
        self.climbs.lock().unwrap_or_else(PoisonError::into_inner).retain(|(of, _), task| {
            if *of == run {
                task.abort();
            }
            *of != run
        });
    }

    /// Stops looking for a step.
    pub fn stop_looking(&self, run: RunId, step: StepId) {
        if let Some(task) = self.climbs.lock().unwrap_or_else(PoisonError::into_inner).remove(&(run, step)) {
            task.abort();
        }
    }
}
