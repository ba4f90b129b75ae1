//! Who may act where: *acting* excludes everything, *leaning* is shared (R7).

use std::collections::{BTreeMap, BTreeSet};

use yantro_core::{
    name::{Address, HostName},
    run::{Run, RunId},
};

/// The locks of all runs.
#[derive(Debug, Default)]
pub(crate) struct Locks {
    acting: BTreeMap<Address, RunId>,
    leaning: BTreeMap<Address, BTreeSet<RunId>>,
}

impl Locks {
    /// Takes all locks of a run at once, or none and says behind whom it waits.
    pub fn take(&mut self, run: &Run) -> Result<(), BTreeSet<RunId>> {
        let answerable: Vec<&Address> = run.answerable().collect();
        let mut acting = run.begun.sequence.acted_on();
        // A host that is acted on takes everything there with it (R37).
        let hosts: BTreeSet<HostName> = acting.iter().filter(|a| a.is_power()).map(|a| a.host.clone()).collect();
        acting.extend(answerable.iter().filter(|a| hosts.contains(&a.host)).map(|a| (*a).clone()));
        self.take_these(run.id, &acting, &answerable)
    }

    /// Takes locks that a run needs besides those it has, all or none.
    pub fn take_these(&mut self, run: RunId, acting: &BTreeSet<Address>, answerable: &[&Address]) -> Result<(), BTreeSet<RunId>> {
        let mut behind = BTreeSet::new();
        for address in answerable {
            behind.extend(self.acting.get(*address).filter(|r| **r != run));
            if acting.contains(*address) {
                behind.extend(self.leaning.get(*address).into_iter().flatten().filter(|r| **r != run));
            }
        }
        if !behind.is_empty() {
            return Err(behind);
        }
        for address in answerable {
            if acting.contains(*address) {
                self.acting.insert((*address).clone(), run);
            } else if self.acting.get(*address) != Some(&run) {
                self.leaning.entry((*address).clone()).or_default().insert(run);
            }
        }
        Ok(())
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

    /// Gives back all locks of a run.
    pub fn release(&mut self, run: RunId) {
        self.acting.retain(|_, r| *r != run);
        self.leaning.retain(|_, runs| {
            runs.remove(&run);
            !runs.is_empty()
        });
    }
}
