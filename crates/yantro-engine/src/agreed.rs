//! What was shown to people, and that what is done is no more than what they agreed to.

use std::sync::PoisonError;

use yantro_core::{
    plan::{Plan, Shown},
    run::{Decision, RunId},
};

use crate::{
    engine::{Engine, read},
    error::EngineError,
};

/// So many plans that were shown are remembered.
const SHOWN_KEPT: usize = 200;
/// And so many bytes of them.
const SHOWN_BYTES: usize = 64 * 1024 * 1024;

impl Engine {
    /// The digest of a plan by an edition, which goes with its begin; what was shown is remembered, to say how it differs by
    /// then.
    pub fn shows(&self, shown: Shown) -> String {
        let digest = shown.digest();
        let mut all = self.shared.shown.lock().unwrap_or_else(PoisonError::into_inner);
        if !all.iter().any(|(known, _)| *known == digest) {
            all.push_back((digest.clone(), shown));
            // A plan of ten thousand services is large: of those fewer are kept.
            while all.len() > SHOWN_KEPT || (all.len() > 1 && all.iter().map(|(_, s)| s.size()).sum::<usize>() > SHOWN_BYTES) {
                all.pop_front();
            }
        }
        digest
    }

    /// Whether a plan is the one that was shown; else how it differs.
    pub(crate) fn is_as_shown(&self, plan: &Plan, edition: u64, digest: Option<&str>) -> Result<(), EngineError> {
        let now = Shown::of(plan, edition);
        let Some(digest) = digest.filter(|d| *d != now.digest()) else { return Ok(()) };
        let all = self.shared.shown.lock().unwrap_or_else(PoisonError::into_inner);
        let known = all.iter().find(|(known, _)| known == digest);
        let difference = known.map_or_else(|| vec!["what was shown is not known here any more".to_owned()], |(_, s)| s.difference(&now));
        Err(EngineError::Otherwise { difference, plan: Some(Box::new(plan.clone())) })
    }

    /// What a decision would do to the run itself.
    pub(crate) fn would_at_once(&self, id: RunId, decision: &Decision) -> Result<Shown, EngineError> {
        let edition = self.loaded().map_or(0, |l| l.edition);
        let now = self.hands.clock.now();
        Ok(read(&self.shared.runs).get(&id).ok_or(EngineError::NoRun(id))?.would(decision, edition, now)?)
    }

    pub(crate) fn would_lift(&self) -> Shown {
        let now = self.hands.clock.now();
        let edition = self.loaded().map_or(0, |l| l.edition);
        let runs = read(&self.shared.runs);
        let does = runs.values().filter(|r| !r.has_ended()).flat_map(|r| r.would_go_on(now)).collect();
        let by = read(&self.shared.standstill).clone();
        Shown::deed(format!("lift the standstill of {by:?}"), edition, does)
    }

    /// What was shown under a digest.
    pub(crate) fn was_shown(&self, digest: &str) -> Result<Shown, EngineError> {
        let all = self.shared.shown.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        let known = all.iter().find(|(known, _)| known == digest).map(|(_, shown)| shown.clone());
        let difference = || vec!["what was shown is not known here any more".to_owned()];
        known.ok_or_else(|| EngineError::DoneOtherwise { difference: difference() })
    }
}

/// Whether what would be done now is no more than what was shown; else how it differs.
pub(crate) fn no_more(shown: &Shown, now: &Shown) -> Result<(), EngineError> {
    if shown.covers(now) {
        return Ok(());
    }
    let mut difference = shown.difference(now);
    difference.retain(|d| !d.starts_with("no longer: "));
    if difference.is_empty() {
        difference.push("it is about something else than what was shown".to_owned());
    }
    Err(EngineError::DoneOtherwise { difference })
}
