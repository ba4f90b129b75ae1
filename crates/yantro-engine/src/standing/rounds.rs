//! Looks at everything, round after round, and the board that comes of it.

use std::{
    collections::BTreeMap,
    sync::{Arc, PoisonError, atomic::Ordering},
    time::{Duration, Instant},
};

use yantro_core::{
    estate::Service,
    name::{Address, HostName},
    proof::SeenState,
    time::Timestamp,
};

use crate::{
    engine::{Engine, read},
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
            self.look_and_tell(loaded.estate.services.values().cloned().collect()).await;
            self.shared.look_again.notify_one();
        }
        self.board()
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

    /// Looks at everything, round after round.
    pub(crate) async fn rounds(self) {
        loop {
            let (began, began_at) = (Instant::now(), self.hands.clock.now());
            if let Some(loaded) = self.loaded() {
                let before: BTreeMap<Address, Option<SeenState>> =
                    loaded.estate.services.keys().map(|a| (a.clone(), self.hands.watched(a).map(|w| w.seen.state))).collect();
                let seen = self.hands.look(loaded.estate.services.values().cloned().collect()).await;
                let changed = seen
                    .into_iter()
                    // What is kept as down on purpose and is up is told until that is over, whatever kept it from being stored.
                    .filter(|(a, s)| before.get(a) != Some(&Some(*s)) || *s != SeenState::Proven || self.hands.intended_down(a).is_some())
                    .map(|(a, s)| self.told(a, s))
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
