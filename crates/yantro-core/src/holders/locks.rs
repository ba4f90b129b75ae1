//! Who may act where: *acting* excludes everything, *leaning* is shared (R7). Whoever waits is served in the order of coming.

use std::collections::{BTreeMap, BTreeSet};

use crate::{
    run::id::RunId,
    words::name::{Address, HostName},
};

/// What a run wants to have.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Wants {
    /// What it acts on.
    acting: BTreeSet<Address>,
    /// All that it is answerable for, what it acts on included.
    answerable: BTreeSet<Address>,
}

impl Wants {
    /// Of what a run acts on and is answerable for. A host that is acted on takes everything there with it (R37).
    pub fn new(mut acting: BTreeSet<Address>, mut answerable: BTreeSet<Address>) -> Self {
        answerable.extend(acting.iter().cloned());
        let hosts: BTreeSet<HostName> = acting.iter().filter(|a| a.is_power()).map(|a| a.host.clone()).collect();
        acting.extend(answerable.iter().filter(|a| hosts.contains(&a.host)).cloned());
        Self { acting, answerable }
    }

    /// Whether two cannot have what they want at once: one acts on what the other is answerable for.
    pub fn excludes(&self, other: &Self) -> bool {
        self.acting.iter().any(|a| other.answerable.contains(a)) || other.acting.iter().any(|a| self.answerable.contains(a))
    }
}

/// The locks of all runs, and who waits for some.
#[derive(Debug, Default)]
pub struct Locks {
    acting: BTreeMap<Address, RunId>,
    leaning: BTreeMap<Address, BTreeSet<RunId>>,
    /// The first that came first.
    queue: Vec<RunId>,
}

impl Locks {
    /// Takes what a run wants, besides what it has: all of it, or nothing, and says behind whom it waits.
    ///
    /// # Errors
    /// The runs that have some of it.
    pub fn take(&mut self, run: RunId, wants: &Wants) -> Result<(), BTreeSet<RunId>> {
        let mut behind = BTreeSet::new();
        for address in &wants.answerable {
            behind.extend(self.acting.get(address).filter(|r| **r != run));
            if wants.acting.contains(address) {
                behind.extend(self.leaning.get(address).into_iter().flatten().filter(|r| **r != run));
            }
        }
        if !behind.is_empty() {
            return Err(behind);
        }
        for address in &wants.answerable {
            if wants.acting.contains(address) {
                self.acting.insert(address.clone(), run);
            } else if self.acting.get(address) != Some(&run) {
                self.leaning.entry(address.clone()).or_default().insert(run);
            }
        }
        Ok(())
    }

    /// Gives these runs what they want in place of what they have, whatever others had of it that is no longer theirs. Says which of
    /// them go on without, and behind whom they would have to wait.
    pub fn give_anew(&mut self, runs: Vec<(RunId, Wants)>) -> Vec<(RunId, BTreeSet<RunId>)> {
        runs.iter().for_each(|(run, _)| self.release(*run));
        runs.into_iter().filter_map(|(run, wants)| Some((run, self.take(run, &wants).err()?))).collect()
    }

    /// Has a run wait for its turn, unless it does already.
    pub fn wait(&mut self, run: RunId) {
        if !self.queue.contains(&run) {
            self.queue.push(run);
        }
    }

    /// Gives locks to whoever waits, the first that came first; nobody overtakes those he would block. `wants` says what a run
    /// wants, and nothing of one that is gone. What became of each, in the order of the queue; who got his no longer waits.
    pub fn serve(&mut self, wants: impl Fn(RunId) -> Option<Wants>) -> Vec<(RunId, Result<(), BTreeSet<RunId>>)> {
        let mut waiting: Vec<(RunId, Wants)> = Vec::new();
        let mut served = Vec::new();
        for run in std::mem::take(&mut self.queue) {
            let Some(wanted) = wants(run) else { continue };
            let ahead: BTreeSet<RunId> = waiting.iter().filter(|(_, w)| w.excludes(&wanted)).map(|(r, _)| *r).collect();
            let outcome = if ahead.is_empty() { self.take(run, &wanted) } else { Err(ahead) };
            if outcome.is_err() {
                waiting.push((run, wanted));
            }
            served.push((run, outcome));
        }
        self.queue = waiting.into_iter().map(|(run, _)| run).collect();
        served
    }

    /// Gives back what a run holds of one service.
    pub fn release_one(&mut self, run: RunId, address: &Address) {
        if self.acting.get(address) == Some(&run) {
            self.acting.remove(address);
        }
        if let Some(runs) = self.leaning.get_mut(address) {
            runs.remove(&run);
        }
        self.leaning.retain(|_, runs| !runs.is_empty());
    }

    /// Gives back all that a run holds, and its place in the queue.
    pub fn release(&mut self, run: RunId) {
        self.queue.retain(|r| *r != run);
        self.acting.retain(|_, r| *r != run);
        self.leaning.retain(|_, runs| {
            runs.remove(&run);
            !runs.is_empty()
        });
    }
}
