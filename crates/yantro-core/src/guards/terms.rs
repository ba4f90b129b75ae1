//! The terms on which a host's manager acts, held against a plan (R38).

use std::collections::{BTreeMap, BTreeSet};

use crate::{
    model::{service::ServiceRunner, whole::Estate},
    plan::{Obstacle, Plan},
    proof::{SeenState, UnitTerms},
    words::{
        Force,
        kinds::StepKind,
        name::{Address, HostName},
    },
};

impl Plan {
    /// Holds a plan against the managers' own terms (R38), but for the units that were named as moving along.
    pub(super) fn heed_managers(&mut self, estate: &Estate, terms: &BTreeMap<Address, UnitTerms>) {
        let along = self.asked_with.along.clone();
        let unit_of = |a: &Address| match &estate.services.get(a)?.runner {
            ServiceRunner::Systemd(s) => Some((a.host.clone(), s.unit.clone())),
            _ => None,
        };
        let acted: BTreeSet<_> = self.sequence.acted_on().iter().filter_map(unit_of).collect();
        let mut obstacles = Vec::new();
        for step in &self.sequence.steps {
            let Some(on) = step.service() else { continue };
            let (Some(terms), Some(service)) = (terms.get(&on.address), estate.services.get(&on.address)) else { continue };
            let obstacle = |why: String, mend: String| Obstacle { address: Some(on.address.clone()), line: None, why, mend };
            let (too, deed) = match on.kind {
                StepKind::Stop => (&terms.stops_too, "stop"),
                StepKind::Start => (&terms.starts_too, "start"),
                _ => continue,
            };
            for unit in too {
                let named = format!("{}:{unit}", on.address.host);
                if acted.contains(&(on.address.host.clone(), unit.clone())) || along.contains(&named) {
                    continue;
                }
                let known = estate.services.keys().find(|a| unit_of(a).is_some_and(|(h, u)| h == on.address.host && &u == unit));
                let who = known.map_or_else(|| unit.clone(), |a| format!("{a} ({unit})"));
                obstacles.push(obstacle(
                    format!("the manager of {} would {deed} {who} along with it", on.address.host),
                    match known {
                        Some(a) => format!("choose {a} too, or name it as moving along: --along {named}"),
                        None => format!("describe it in the estate and choose it too, or name it as moving along: --along {named}"),
                    },
                ));
            }
            if on.kind == StepKind::Stop
                && service.stop.force == Force::Never
                && terms.kills
                && terms.stop_within.is_some_and(|w| w.0 < service.stop.patience.0)
            {
                let within = terms.stop_within.unwrap_or_default();
                obstacles.push(obstacle(
                    format!(
                        "it may never be forced, and the manager of {} kills it after {within}, sooner than its patience of {}",
                        on.address.host, service.stop.patience
                    ),
                    "give its unit a longer TimeoutStopSec= (or SendSIGKILL=no), or its stop a shorter patience".to_owned(),
                ));
            }
        }
        self.remark_on_managers(estate, terms);
        for obstacle in obstacles {
            if !self.obstacles.contains(&obstacle) {
                self.obstacles.push(obstacle);
            }
        }
    }

    /// Managers whose terms nobody knows: a host without the outpost is not asked, and one may not answer. That nothing goes along is
    /// not said by that.
    fn unasked_managers(&self, estate: &Estate, terms: &BTreeMap<Address, UnitTerms>) -> BTreeSet<String> {
        let mut by_host: BTreeMap<&HostName, BTreeSet<&Address>> = BTreeMap::new();
        let reached = self.sequence.steps.iter().filter(|s| s.found != SeenState::OutOfReach);
        for on in reached.filter_map(|s| s.service()).filter(|on| matches!(on.kind, StepKind::Stop | StepKind::Start)) {
            let is_unit = estate.services.get(&on.address).is_some_and(|s| matches!(s.runner, ServiceRunner::Systemd(_)));
            if is_unit && !terms.contains_key(&on.address) {
                by_host.entry(&on.address.host).or_default().insert(&on.address);
            }
        }
        let says = |(host, units): (&HostName, BTreeSet<&Address>)| {
            let units: Vec<String> = units.into_iter().map(ToString::to_string).collect();
            format!(
                "what else the manager of {host} would stop or start along with {} is not known: it could not be asked",
                units.join(", ")
            )
        };
        by_host.into_iter().map(says).collect()
    }

    /// Adds what is worth knowing of the managers' terms and keeps nobody from beginning.
    fn remark_on_managers(&mut self, estate: &Estate, terms: &BTreeMap<Address, UnitTerms>) {
        let mut remarks = self.unasked_managers(estate, terms);
        for on in self.sequence.steps.iter().filter_map(|s| s.service()) {
            let (Some(terms), Some(service)) = (terms.get(&on.address), estate.services.get(&on.address)) else { continue };
            let (patience, limit, word) = match on.kind {
                StepKind::Stop => (service.stop.patience, terms.stop_within, "stop"),
                StepKind::Start => (service.start.patience, terms.start_within, "start"),
                _ => continue,
            };
            if let Some(limit) = limit.filter(|l| l.0 < patience.0) {
                let then = if word == "stop" && terms.kills { "and then kills it" } else { "and then gives up" };
                remarks.insert(format!("{}: the manager lets a {word} take {limit}, {then}; our patience is {patience}", on.address));
            }
            if on.kind == StepKind::Stop && !terms.woken_by.is_empty() {
                let by: Vec<&str> = terms.woken_by.iter().map(String::as_str).collect();
                remarks.insert(format!("{}: it is started again when somebody calls, by {}", on.address, by.join(", ")));
            }
        }
        self.remarks.extend(remarks);
    }
}
