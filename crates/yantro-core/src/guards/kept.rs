//! Hosts that another server acts on.

use std::collections::{BTreeMap, BTreeSet};

use crate::{
    plan::{Obstacle, Plan, Step},
    words::{kinds::StepKind, name::HostName},
};

impl Plan {
    /// The hosts that anything is done on by it.
    pub fn hosts_worked_on(&self) -> BTreeSet<HostName> {
        self.sequence.steps.iter().filter(|s| s.kind() != StepKind::Await).filter_map(Step::host).cloned().collect()
    }

    /// Refuses what would be done on hosts that are not this server's to act on.
    pub(super) fn heed_keepers(&mut self, kept: &BTreeMap<HostName, String>) {
        let mine = self.hosts_worked_on();
        for (host, why) in kept.iter().filter(|(host, _)| mine.contains(*host)) {
            let mend = format!("end the other server, or if it is gone for good: yantro take-over {host} --why …");
            self.obstacles.push(Obstacle { address: None, line: None, why: why.clone(), mend });
        }
    }
}
