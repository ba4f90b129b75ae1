//! Looks at everything, round after round, and the board that comes of it.

use std::{
    collections::{BTreeMap, BTreeSet},
    sync::{Arc, PoisonError, atomic::Ordering},
    time::Instant,
};

use tokio::task::{JoinHandle, JoinSet};
use yantro_core::{
    model::Service,
    proof::SeenState,
    words::{
        name::{Address, HostName},
        time::Timestamp,
    },
};

use crate::{
    engine::{Engine, read},
    error::EngineError,
    loaded::Loaded,
    messages::Msg,
    standing::board,
    standing::board::BoardView,
    standing::turns::{Asked, ROUND, Turns},
    told::runs::summary,
};

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

impl Engine {
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
        // Before the rows: what is looked at meanwhile is no older than this.
        let looked_at = Some(self.shared.looked_at_ms.load(Ordering::Relaxed)).filter(|ms| *ms > 0).map(Timestamp::from_ms);
        let (mut services, mut hosts) = (Vec::new(), Vec::new());
        if let Some(l) = &loaded {
            let runs = read(&self.shared.runs);
            let acted_on = board::acted_on(runs.values().filter(|r| r.has_locks()));
            let rows = l.estate.services.keys().map(|a| {
                let (started, intended_down) = (self.hands.started_as(a), self.hands.intended_down(a));
                let owed_by_files = self.hands.owed_by_files(a);
                let kept = board::KeptOf { started: started.as_deref(), intended_down: intended_down.as_ref(), owed_by_files };
                board::row(&l.estate, a, self.hands.watched(a).as_ref(), acted_on.get(a), kept, now)
            });
            services = rows.collect();
            hosts = board::hosts(&l.estate, &self.hands);
        }
        remembered.take(edition, services, hosts, began.elapsed(), looked_at);
    }

    fn told_board(&self, since: Option<u64>) -> BoardView {
        let loaded = self.loaded();
        let told = self.shared.remembered.lock().unwrap_or_else(PoisonError::into_inner).tell(since);
        BoardView {
            estate: loaded.as_ref().map(|l| l.estate.name.clone()).unwrap_or_default(),
            stands_for: loaded.as_ref().map(|l| l.estate.stands_for),
            edition: loaded.as_ref().map_or(0, |l| l.edition),
            as_of: self.hands.clock.now(),
            looked_at: told.looked_at,
            behind: told.behind,
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
            self.look_and_tell(loaded.estate.services.values().cloned().collect()).await;
            self.shared.look_again.notify_one();
        }
        self.board()
    }

    /// Tries hosts that are out of reach at once, and looks at what is on them.
    ///
    /// # Errors
    /// One of them is not in the estate.
    pub async fn reach(&self, hosts: &[HostName]) -> Result<BoardView, EngineError> {
        let loaded = self.estate_loaded()?;
        if let Some(stray) = hosts.iter().find(|h| !loaded.estate.hosts.contains_key(*h)) {
            return Err(EngineError::NoHost(stray.clone()));
        }
        futures::future::join_all(hosts.iter().map(|host| async move {
            self.hands.hosts.try_now(host).await;
            self.link_changed(host).await;
        }))
        .await;
        Ok(self.board())
    }

    // ---- looking ----

    /// The link to a host came or went.
    pub(crate) async fn link_changed(&self, host: &HostName) {
        if self.hands.hosts.link(host).is_some_and(|l| l.up) {
            self.hands.learn_started_on(host).await;
        }
        if let Some(loaded) = self.loaded() {
            let there: Vec<Arc<Service>> = loaded.estate.services.values().filter(|s| s.is_on(host)).cloned().collect();
            self.look_and_tell(there).await;
        }
    }

    /// Looks out of turn, and tells the loop all that was seen: the next round would find nothing new in it.
    async fn look_and_tell(&self, services: Vec<Arc<Service>>) {
        let looked = self.hands.look(services).await;
        self.send(Msg::Looked(looked.into_iter().map(|(a, s)| self.told(a, s)).collect()));
    }

    /// What was seen of a service, with what shows it.
    fn told(&self, address: Address, state: SeenState) -> (Address, SeenState, String) {
        let says = self.hands.watched(&address).map(|w| w.seen.says).unwrap_or_default();
        (address, state, says)
    }

    /// Looks at everything, again and again: each that is asked in its own turns.
    pub(crate) async fn rounds(self) {
        let mut turns = Turns::default();
        let mut grouped = Grouped::default();
        let mut looks: JoinSet<Asked> = JoinSet::new();
        let mut beside = Beside::default();
        loop {
            let now = Instant::now();
            if let Some(loaded) = self.loaded() {
                if grouped.take(&loaded, now, |service| self.asked_of(service)) {
                    turns.keep(&grouped.by.iter().map(|(of, services)| (of.clone(), services.len())).collect());
                }
                let at_work = if grouped.is_some_spared { self.at_work() } else { BTreeSet::new() };
                for of in turns.due(now) {
                    let at = self.hands.clock.now();
                    let due: Vec<_> = grouped.by.get(&of).into_iter().flatten().filter(|s| self.is_due(s, at, &at_work)).cloned().collect();
                    if due.is_empty() {
                        turns.spared(&of, now);
                    } else {
                        turns.begun(&of, now, at);
                        looks.spawn(self.clone().look_in_turn(of, due));
                    }
                }
                beside.ask(&self, &loaded, now);
            }
            let next = turns.next(now).map_or(ROUND, |next| next.saturating_duration_since(now).min(ROUND));
            tokio::select! {
                Some(ended) = looks.join_next(), if !looks.is_empty() => {
                    // A panic of a look has ended the process.
                    if let Ok(of) = ended {
                        turns.ended(&of, Instant::now());
                    }
                }
                () = tokio::time::sleep(next) => {}
                () = self.shared.look_again.notified() => turns.all_at_once(),
            }
            if let Some(at) = turns.looked_at(Instant::now()) {
                self.shared.looked_at_ms.store(at.as_ms(), Ordering::Relaxed);
            }
        }
    }

    /// What open runs have to do with.
    fn at_work(&self) -> BTreeSet<Address> {
        let runs = read(&self.shared.runs);
        runs.values().filter(|r| !r.has_ended()).flat_map(|r| r.answerable().cloned()).collect()
    }

    /// Whether a service is looked at in this round.
    fn is_due(&self, service: &Service, now: Timestamp, at_work: &BTreeSet<Address>) -> bool {
        let Some(every) = service.look_every else { return true };
        at_work.contains(&service.address) || self.hands.watched(&service.address).is_none_or(|w| w.is_due(now, every.0))
    }

    fn asked_of(&self, service: &Service) -> Asked {
        if service.runner.is_power() {
            Asked::Power(service.address.host.clone())
        } else if self.hands.hosts.is_far(service) {
            Asked::Host(service.address.host.clone())
        } else {
            Asked::Here
        }
    }

    /// Looks at the services of one in their turn, and tells the loop what is news of them.
    async fn look_in_turn(self, of: Asked, services: Vec<Arc<Service>>) -> Asked {
        let before: BTreeMap<Address, Option<SeenState>> =
            services.iter().map(|s| (s.address.clone(), self.hands.watched(&s.address).map(|w| w.seen.state))).collect();
        let is_many = services.len() > MANY_SERVICES;
        let seen = self.hands.look(services).await;
        let changed = seen
            .into_iter()
            // What is kept as down on purpose and is up is told until that is over, whatever kept it from being stored.
            .filter(|(a, s)| before.get(a) != Some(&Some(*s)) || *s != SeenState::Proven || self.hands.intended_down(a).is_some())
            .map(|(a, s)| self.told(a, s))
            .collect();
        self.send(Msg::Looked(changed));
        if is_many {
            // Only waited for; how it ends is no matter.
            let _ = tokio::task::spawn_blocking(give_memory_back).await;
        }
        of
    }
}

/// The services of an edition, by whom they are asked of.
#[derive(Default)]
struct Grouped {
    of: Option<(Arc<Loaded>, Instant)>,
    by: BTreeMap<Asked, Vec<Arc<Service>>>,
    /// Whether some of them are looked at less often.
    is_some_spared: bool,
}

impl Grouped {
    /// Takes in what is loaded, each round and with each edition: how hosts are come to may follow an edition a moment later. Whether
    /// it was taken in.
    fn take(&mut self, loaded: &Arc<Loaded>, now: Instant, asked_of: impl Fn(&Service) -> Asked) -> bool {
        if self.of.as_ref().is_some_and(|(of, at)| Arc::ptr_eq(of, loaded) && now.duration_since(*at) < ROUND) {
            return false;
        }
        self.by.clear();
        for service in loaded.estate.services.values() {
            self.by.entry(asked_of(service)).or_default().push(Arc::clone(service));
        }
        self.is_some_spared = loaded.estate.services.values().any(|s| s.look_every.is_some());
        self.of = Some((Arc::clone(loaded), now));
        true
    }
}

/// What is asked beside the looks, each round: what gives hosts power, and the files that services were started with.
#[derive(Default)]
struct Beside {
    under_way: Option<JoinHandle<()>>,
    asked: Option<Instant>,
}

impl Beside {
    fn ask(&mut self, engine: &Engine, loaded: &Arc<Loaded>, now: Instant) {
        let is_idle = self.under_way.as_ref().is_none_or(JoinHandle::is_finished);
        if is_idle && self.asked.is_none_or(|asked| now.duration_since(asked) >= ROUND) {
            let (hands, loaded) = (engine.hands.clone(), Arc::clone(loaded));
            self.asked = Some(now);
            self.under_way = Some(tokio::spawn(async move {
                hands.ask_keepers(&loaded.estate.hosts).await;
                hands.look_at_files(loaded.estate.services.values()).await;
            }));
        }
    }
}
