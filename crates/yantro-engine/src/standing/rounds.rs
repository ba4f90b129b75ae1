//! Looks at everything, round after round, and the board that comes of it.

use std::{
    collections::{BTreeMap, BTreeSet},
    sync::{Arc, PoisonError, atomic::Ordering},
    time::{Duration, Instant},
};

use tokio::task::JoinHandle;
use yantro_core::{
    estate::Service,
    name::{Address, HostName},
    proof::SeenState,
    time::Timestamp,
};

use crate::{
    engine::{Engine, read},
    error::EngineError,
    messages::Msg,
    standing::board,
    standing::board::BoardView,
    told::runs::summary,
};

/// How often everything is looked at again.
const ROUND: Duration = Duration::from_secs(2);

/// Between rounds there is at least so many times what one took, and at most this.
const PAUSE_TIMES: u32 = 4;

const LONGEST_PAUSE: Duration = Duration::from_secs(10);

/// How long a round waits for looks at this machine.
const HERE_WITHIN: Duration = Duration::from_secs(60);

/// How long a round waits for another machine's answers.
const WAITED_FOR: Duration = Duration::from_secs(1);

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
        let looked_at = Timestamp::from_ms(self.shared.looked_at_ms.load(Ordering::Relaxed));
        let (mut services, mut hosts) = (Vec::new(), Vec::new());
        if let Some(l) = &loaded {
            let runs = read(&self.shared.runs);
            let acted_on = board::acted_on(runs.values().filter(|r| !r.has_ended() && r.is_locked()));
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

    /// Looks at everything, round after round. What is asked of another machine is waited for a moment only: one that does not
    /// answer is asked for as long as that takes, and looks at all others keep their pace.
    pub(crate) async fn rounds(self) {
        let mut late: BTreeMap<Asked, JoinHandle<Instant>> = BTreeMap::new();
        let mut beside: Option<JoinHandle<()>> = None;
        loop {
            let (began, began_at) = (Instant::now(), self.hands.clock.now());
            let mut took = Duration::ZERO;
            if let Some(loaded) = self.loaded() {
                late.retain(|_, task| !task.is_finished());
                let mut asked: BTreeMap<Asked, Vec<Arc<Service>>> = BTreeMap::new();
                let is_some_spared = loaded.estate.services.values().any(|s| s.look_every.is_some());
                let at_work = if is_some_spared { self.at_work() } else { BTreeSet::new() };
                for service in loaded.estate.services.values().filter(|s| self.is_due(s, began_at, &at_work)) {
                    let of = self.asked_of(service);
                    if !late.contains_key(&of) {
                        asked.entry(of).or_default().push(Arc::clone(service));
                    }
                }
                let tasks = asked.into_iter().map(|(of, services)| (of, tokio::spawn(self.clone().look_in_turn(services))));
                for (of, mut task) in tasks.collect::<Vec<_>>() {
                    // Looks here are bounded themselves, and none of them waits for another machine.
                    let within = if of == Asked::Here { HERE_WITHIN } else { WAITED_FOR.saturating_sub(began.elapsed()) };
                    match tokio::time::timeout(within, &mut task).await {
                        Ok(ended) => took = took.max(ended.map_or(Duration::ZERO, |at| at.duration_since(began))),
                        Err(_) => drop(late.insert(of, task)),
                    }
                }
                self.shared.looked_at_ms.store(began_at.as_ms(), Ordering::Relaxed);
                if beside.as_ref().is_none_or(JoinHandle::is_finished) {
                    let (hands, loaded) = (self.hands.clone(), Arc::clone(&loaded));
                    beside = Some(tokio::spawn(async move {
                        hands.ask_keepers(&loaded.estate.hosts).await;
                        hands.look_at_files(loaded.estate.services.values()).await;
                    }));
                }
                if loaded.estate.services.len() > MANY_SERVICES {
                    // Only waited for; how it ends is no matter.
                    let _ = tokio::task::spawn_blocking(give_memory_back).await;
                }
            }
            // Looking has a budget: a round that takes long is followed by a longer pause, up to a limit.
            let pause = ROUND.max((took * PAUSE_TIMES).min(LONGEST_PAUSE));
            tokio::select! {
                () = tokio::time::sleep(pause) => {}
                () = self.shared.look_again.notified() => {}
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

    /// Looks at some services in their turn, and tells the loop what is news of them; when that was done.
    async fn look_in_turn(self, services: Vec<Arc<Service>>) -> Instant {
        let before: BTreeMap<Address, Option<SeenState>> =
            services.iter().map(|s| (s.address.clone(), self.hands.watched(&s.address).map(|w| w.seen.state))).collect();
        let seen = self.hands.look(services).await;
        let ended = Instant::now();
        let changed = seen
            .into_iter()
            // What is kept as down on purpose and is up is told until that is over, whatever kept it from being stored.
            .filter(|(a, s)| before.get(a) != Some(&Some(*s)) || *s != SeenState::Proven || self.hands.intended_down(a).is_some())
            .map(|(a, s)| self.told(a, s))
            .collect();
        self.send(Msg::Looked(changed));
        ended
    }
}

/// Who is asked how services stand.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
enum Asked {
    /// This machine, and what is only played on it.
    Here,
    /// A host that is reached over a connection.
    Host(HostName),
    /// What gives a host power.
    Power(HostName),
}
