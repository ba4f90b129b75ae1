//! Carries orders out: looks, acts, climbs. What comes of them goes back to the engine's loop.

mod found;

use std::{
    collections::{BTreeMap, HashMap},
    sync::{Arc, Mutex, OnceLock, PoisonError, RwLock},
    time::Duration,
};

use futures::FutureExt;
use tokio::task::AbortHandle;
use yantro_core::{
    model::{Estate, Host, Rung, Service, ServiceRunner},
    plan::{Plan, Preflight, StepId},
    proof::{
        Answer, LogAgainst, SeenState, UnitTerms,
        standing::{Look, Watched},
    },
    run::{ActBegun, ActEnd, ActId, ActKind, FoundProcess, Input, LogMark, Run, RunId},
    words::{
        kinds::StepKind,
        name::{Address, HostName},
        time::Timestamp,
    },
};
use yantro_reach::{ActNews, ActRecord, ActSpec, Climb, Hosts, Looked, ProcessId, Recorded};
use yantro_store::{IntendedDown, StartedAs};

use crate::{clock::Clock, identity::Identity, inbox::Inbox, messages::Msg};

/// How everything is watched, by address.
pub(crate) type Watching = BTreeMap<Address, Watched>;

/// The hands of the engine.
#[derive(Clone)]
pub(crate) struct Hands {
    pub hosts: Arc<Hosts>,
    pub clock: Clock,
    inbox: Inbox<Msg>,
    /// The start that each service runs by now.
    known: Arc<Mutex<BTreeMap<Address, ActRecord>>>,
    started: Arc<RwLock<BTreeMap<Address, Arc<StartedAs>>>>,
    /// What was taken down on purpose, and was not up since.
    intended_down: Arc<RwLock<BTreeMap<Address, IntendedDown>>>,
    watching: Arc<RwLock<Watching>>,
    climbs: Arc<Mutex<HashMap<(RunId, StepId), AbortHandle>>>,
    /// Why a restart is owed by what lies on disk, as of the last round.
    owed: Arc<RwLock<BTreeMap<Address, String>>>,
    pub identity: Arc<Identity>,
    /// Why hosts must not be acted on, as of the last round, and whether that doubts the store.
    kept: Arc<RwLock<BTreeMap<HostName, (String, bool)>>>,
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
    /// What must stand so or so while it goes on: looked at once more as it ends.
    pub meanwhile: Vec<Arc<Service>>,
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
    pub fn new(hosts: Hosts, clock: Clock, inbox: Inbox<Msg>, started: Vec<(Address, StartedAs)>, identity: Identity) -> Self {
        let mut known = BTreeMap::new();
        for (address, s) in started.iter().filter(|(a, _)| hosts.is_here(&a.host)) {
            if let Recorded::Begun(record) | Recorded::Ended(Some(record), _) = hosts.here().recorded(&s.act) {
                known.insert(address.clone(), record);
            }
        }
        Self {
            hosts: Arc::new(hosts),
            clock,
            inbox,
            known: Arc::new(Mutex::new(known)),
            started: Arc::new(RwLock::new(started.into_iter().map(|(a, s)| (a, Arc::new(s))).collect())),
            intended_down: Arc::default(),
            watching: Arc::default(),
            climbs: Arc::default(),
            owed: Arc::default(),
            identity: Arc::new(identity),
            kept: Arc::default(),
        }
    }

    /// Tells the loop what came of an order.
    pub fn tell(&self, run: RunId, input: Input) {
        self.inbox.tell(Msg::Input { run, input });
    }

    pub fn started_as(&self, address: &Address) -> Option<Arc<StartedAs>> {
        self.started.read().unwrap_or_else(PoisonError::into_inner).get(address).cloned()
    }

    pub fn remember_started(&self, address: &Address, started: StartedAs) {
        self.started.write().unwrap_or_else(PoisonError::into_inner).insert(address.clone(), Arc::new(started));
    }

    pub fn intended_down(&self, address: &Address) -> Option<IntendedDown> {
        self.intended_down.read().unwrap_or_else(PoisonError::into_inner).get(address).cloned()
    }

    pub fn set_intended_down(&self, address: &Address, intended: Option<IntendedDown>) {
        let mut all = self.intended_down.write().unwrap_or_else(PoisonError::into_inner);
        match intended {
            Some(intended) => _ = all.insert(address.clone(), intended),
            None => _ = all.remove(address),
        }
    }

    fn known(&self, address: &Address) -> Option<ActRecord> {
        self.known.lock().unwrap_or_else(PoisonError::into_inner).get(address).cloned()
    }

    /// The service as it was started, where Yantro started it: looked for where it was opened (R24).
    pub fn as_started(&self, service: &Arc<Service>) -> Arc<Service> {
        let mut service = Arc::clone(service);
        // How a host is powered on says nothing of how it is looked at.
        let started = self.started_as(&service.address).filter(|_| !service.runner.is_power());
        // Most run as the estate has them: those are no copies.
        if let Some(s) = started.filter(|s| s.service.runner != service.runner || s.service.ladder != service.ladder) {
            let of = Arc::make_mut(&mut service);
            let apart = match &of.runner {
                ServiceRunner::Process(spec) => spec.apart.clone(),
                _ => Default::default(),
            };
            of.runner = s.service.runner.clone();
            // Who else looks like it is a matter of today's estate, and not of the one it was started by.
            if let ServiceRunner::Process(spec) = &mut of.runner {
                spec.apart = apart;
            }
            of.ladder.clone_from(&s.service.ladder);
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
        let watched = watching.entry(address.clone()).or_insert_with(|| Watched::unknown(0, now));
        watched.is_news(now);
        watched.set(state, now);
    }

    /// Notes a forbidden line in a service's log, or that none counts any longer (R17).
    pub fn set_log_against(&self, address: &Address, against: Option<LogAgainst>) {
        let now = self.clock.now();
        let mut watching = self.watching.write().unwrap_or_else(PoisonError::into_inner);
        watching.entry(address.clone()).or_insert_with(|| Watched::unknown(0, now)).log_against(against);
    }

    /// Why a host must not be acted on by this server, as of the last round (R35).
    pub fn kept(&self, host: &HostName) -> Option<String> {
        self.kept.read().unwrap_or_else(PoisonError::into_inner).get(host).map(|(says, _)| says.clone())
    }

    /// Asks hosts whether they may be acted on. Says which of them doubts that this store is the newest.
    pub async fn ask_keepers(&self, hosts: &BTreeMap<HostName, Host>) -> Option<(HostName, String)> {
        let asked = hosts
            .iter()
            .map(|(name, host)| async move { Some((name.clone(), self.hosts.kept(name, &host.address, &*self.identity).await?)) });
        let kept: BTreeMap<HostName, (String, bool)> = futures::future::join_all(asked).await.into_iter().flatten().collect();
        let doubts = kept.iter().find(|(_, (_, doubts))| *doubts).map(|(name, (says, _))| (name.clone(), says.clone()));
        let mut known = self.kept.write().unwrap_or_else(PoisonError::into_inner);
        known.retain(|name, _| !hosts.contains_key(name));
        known.extend(kept);
        doubts
    }

    /// Takes a host over from the server that acted on it before.
    pub async fn take_over(&self, name: &HostName, host: &Host) -> Result<(), String> {
        self.hosts.take_over(name, &host.address, &*self.identity).await?;
        self.kept.write().unwrap_or_else(PoisonError::into_inner).remove(name);
        Ok(())
    }

    /// Forgets what is no longer in the estate.
    pub fn keep_only(&self, keep: impl Fn(&Address) -> bool) {
        self.watching.write().unwrap_or_else(PoisonError::into_inner).retain(|a, _| keep(a));
    }

    /// Looks at services, and says what each is now: what could not be looked at is unknown, whatever it was before.
    pub async fn look(&self, services: Vec<Arc<Service>>) -> BTreeMap<Address, SeenState> {
        let settings: BTreeMap<Address, (Duration, u32)> =
            services.iter().map(|s| (s.address.clone(), (s.start.patience.0, s.ailing_after))).collect();
        let asked = services.into_iter().map(|service| Looked {
            started: self.started_as(&service.address).map(|s| s.act.clone()),
            known: self.known(&service.address),
            service: self.as_started(&service),
        });
        let looked: Mutex<BTreeMap<Address, SeenState>> = Mutex::default();
        let asked_at = self.clock.now();
        let each = |address: Address, seen: yantro_reach::Seen| {
            let now = self.clock.now();
            let mut watching = self.watching.write().unwrap_or_else(PoisonError::into_inner);
            let watched = watching.entry(address.clone()).or_insert_with(|| Watched::unknown(0, now));
            // A look may take long: what was seen since, by another look or a climb, is newer.
            if !watched.is_news(asked_at) {
                looked.lock().unwrap_or_else(PoisonError::into_inner).insert(address, watched.as_looked_at());
                return;
            }
            match seen {
                Ok(raw) => {
                    let look = Look {
                        runs: raw.runs,
                        rungs: raw.rungs,
                        total: raw.total,
                        manager: raw.manager,
                        process: raw.main.map(|m| FoundProcess { pid: m.pid, started: m.started }),
                        started_at: self.started_as(&address).map(|s| s.at),
                    };
                    let (patience, ailing_after) = settings[&address];
                    watched.take(&look, now, patience, ailing_after);
                }
                Err(out) => watched.out_of_reach(&out.to_string(), now),
            }
            looked.lock().unwrap_or_else(PoisonError::into_inner).insert(address, watched.as_looked_at());
        };
        self.hosts.look(asked.collect(), &each).await;
        looked.into_inner().unwrap_or_else(PoisonError::into_inner)
    }

    /// The same; but what was looked at since then is told as it was seen, and not looked at again.
    pub async fn look_unless_since(&self, services: Vec<Arc<Service>>, then: Timestamp) -> BTreeMap<Address, SeenState> {
        let (mut seen, mut others) = (BTreeMap::new(), Vec::new());
        {
            let watching = self.watching.read().unwrap_or_else(PoisonError::into_inner);
            for service in services {
                match watching.get(&service.address).filter(|w| w.was_seen_since(then)) {
                    Some(watched) => _ = seen.insert(service.address.clone(), watched.as_looked_at()),
                    None => others.push(service),
                }
            }
        }
        seen.extend(self.look(others).await);
        seen
    }

    /// On what terms the hosts' managers act on what a plan acts on (R38).
    pub async fn terms_of(&self, plan: &Plan, estate: &Estate) -> BTreeMap<Address, UnitTerms> {
        let mut units: BTreeMap<HostName, BTreeMap<String, Address>> = BTreeMap::new();
        for address in plan.sequence.acted_on() {
            if let Some(ServiceRunner::Systemd(s)) = estate.services.get(&address).map(|s| &s.runner) {
                units.entry(address.host.clone()).or_default().insert(s.unit.clone(), address);
            }
        }
        let asked = units.into_iter().map(|(host, units)| async move {
            let terms = self.hosts.terms(&host, units.keys().cloned().collect()).await;
            terms.into_iter().filter_map(|(unit, terms)| Some((units.get(&unit)?.clone(), terms))).collect::<Vec<_>>()
        });
        futures::future::join_all(asked).await.into_iter().flatten().collect()
    }

    /// Gives an act under its identity.
    ///
    /// `host` is the network address of the service's host, which must be this server's to act on.
    pub fn act(&self, given: Given, service: Arc<Service>, host: String) {
        let hands = self.clone();
        let is_far = self.hosts.is_far(&service);
        let act = async move {
            let Given { run, step, act, kind, .. } = given;
            let address = service.address.clone();
            // A stop, a reload and a force work on what was started; a start and work on what the run says.
            let (service, known) = match kind {
                ActKind::Start | ActKind::Work | ActKind::Further => (service, None),
                _ => (hands.as_started(&service), hands.known(&address)),
            };
            let spec = ActSpec { identity: &given.identity, kind, service: &service, known: known.as_ref() };
            let started = hands.started_as(&address).map(|s| s.act.clone());
            let teller = hands.teller(given.clone(), address);
            if let Err(end) = hands.hosts.act(spec, started, &host, &*hands.identity, teller).await {
                hands.tell(run, Input::ActEnded { step, act, end });
            }
        };
        let mut act = Box::pin(act);
        // To another host it is under way at once: no other thread has to wake up for it first.
        if !is_far || (&mut act).now_or_never().is_none() {
            tokio::spawn(act);
        }
    }

    fn teller(&self, given: Given, address: Address) -> impl Fn(ActNews) + Send + Sync + use<> {
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
                hands.ended(&given, end);
                // An end is news to the board, run or no run.
                hands.inbox.tell(Msg::LookAt(address.clone()));
            }
            ActNews::Gone => {
                hands.inbox.tell(Msg::LookAt(address.clone()));
            }
            ActNews::BegunBefore => {
                let (hands, given, address) = (hands.clone(), given.clone(), address.clone());
                tokio::spawn(async move { hands.find(&given, &address, &OnceLock::new()).await });
            }
            ActNews::Lost(why) => {
                tracing::warn!(%run, %step, %why, "an act's outcome is unknown");
                hands.tell(run, Input::ActUnknown { step, act });
            }
        }
    }

    fn masked(&self, end: ActEnd) -> ActEnd {
        match end {
            ActEnd::Exited { code, output } => ActEnd::Exited { code, output: self.hosts.here().mask(&output) },
            ActEnd::Signalled { signal, output } => ActEnd::Signalled { signal, output: self.hosts.here().mask(&output) },
            ActEnd::TimedOut { output } => ActEnd::TimedOut { output: self.hosts.here().mask(&output) },
            end @ (ActEnd::Sent | ActEnd::Refused { .. }) => end,
        }
    }

    /// Why a service's restart is owed by what lies on disk.
    pub fn owed_by_files(&self, address: &Address) -> Option<String> {
        self.owed.read().unwrap_or_else(PoisonError::into_inner).get(address).cloned()
    }

    /// Looks at the files of everything that was started here and is up.
    pub async fn look_at_files(&self, services: impl Iterator<Item = &Arc<Service>>) {
        let asked = services.filter_map(|service| {
            let started = self.started_as(&service.address)?;
            let seen = self.watched(&service.address)?.seen;
            seen.state.is_up().then(|| (service.clone(), started.at, seen.pid))
        });
        let owed = self.hosts.owed_by_files(asked.collect()).await;
        *self.owed.write().unwrap_or_else(PoisonError::into_inner) = owed.into_iter().map(|(s, why)| (s.address.clone(), why)).collect();
    }

    /// Takes looks once, side by side.
    pub async fn preflight(&self, looks: Vec<Preflight>) -> Vec<(Preflight, Answer)> {
        let asked: Vec<(HostName, Rung)> = looks.iter().map(|l| (l.host.clone(), l.rung.clone())).collect();
        let answers = self.hosts.look_once(asked).await;
        looks.into_iter().zip(answers).collect()
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
            ..ActBegun::default()
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
        let end = match self.hosts.here().post(&to, "application/cloudevents+json", event.to_string()).await {
            Ok(status) if (200..300).contains(&status) => ActEnd::Exited { code: 0, output: format!("{to} answered {status}") },
            Ok(status) => ActEnd::Exited { code: i32::from(status), output: format!("{to} answered {status}") },
            Err(why) => ActEnd::Refused {
                why: format!("{to} could not be told: {why}"),
                mend: "see that it answers, or pass the step over".to_owned(),
            },
        };
        self.tell(run, Input::ActEnded { step, act, end });
    }

    /// Tells a run that an act ended: after a look at what had to stand so or so meanwhile, where there was such.
    fn ended(&self, given: &Given, end: ActEnd) {
        let Given { run, step, act, .. } = *given;
        let ended = Input::ActEnded { step, act, end: self.masked(end) };
        if given.meanwhile.is_empty() {
            return self.tell(run, ended);
        }
        let (hands, services) = (self.clone(), given.meanwhile.clone());
        tokio::spawn(async move {
            for (address, state) in hands.look(services).await {
                hands.tell(run, Input::Seen { address, state, says: format!("the look after the work found it {state}") });
            }
            hands.tell(run, ended);
        });
    }

    /// Ends everything that was started, by its recorded identity: asked first, then by force.
    pub async fn end_all(&self) {
        let known: Vec<ActRecord> = self.known.lock().unwrap_or_else(PoisonError::into_inner).values().cloned().collect();
        self.hosts.here().end_trees(&known).await;
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
        service: Arc<Service>,
        begun: Option<&ActBegun>,
        since: Timestamp,
    ) {
        let marks: BTreeMap<String, LogMark> = begun.map(|b| b.marks.clone()).unwrap_or_default();
        let hands = self.clone();
        let service = if kind == StepKind::Stop { self.as_started(&service) } else { service };
        // The process that was asked to stop, by its start too: its number may be another's by now.
        let asked = begun.filter(|_| kind == StepKind::Stop && service.brought_back_by.is_some());
        let boot = self.hosts.boot_of(&service.address.host);
        let old = asked.and_then(|b| Some(ProcessId { boot, pid: b.pid?, started: b.started? }));
        // Of a host it is the boot that it was in, whether that has to be gone or another has to come.
        let was_in = begun.and_then(|b| b.boot.clone());
        let old = old.or(was_in.map(|boot| ProcessId { boot, pid: 1, started: 0 }));
        let task = tokio::spawn(async move {
            let climb = Climb { known: hands.known(&service.address), old, service, kind, from: from as usize, marks, since };
            let teller = hands.clone();
            hands
                .hosts
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
    pub fn watch_log(
        &self,
        run: RunId,
        step: StepId,
        attempt: u32,
        kind: StepKind,
        service: Arc<Service>,
        marks: BTreeMap<String, LogMark>,
    ) {
        let hands = self.clone();
        let task = tokio::spawn(async move {
            if let Some(report) = hands.hosts.watch_log(&service, kind, &marks).await {
                hands.tell(run, Input::RungLooked { step, attempt, rung: report.rung, answer: report.answer, logs: report.logs });
            }
        });
        if let Some(before) = self.climbs.lock().unwrap_or_else(PoisonError::into_inner).insert((run, step), task.abort_handle()) {
            before.abort();
        }
    }

    /// Ends an act that is under way: its outcome comes in as that of any other.
    pub fn recall(&self, host: HostName, identity: String) {
        let hands = self.clone();
        tokio::spawn(async move { hands.hosts.end(&host, &identity).await });
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
