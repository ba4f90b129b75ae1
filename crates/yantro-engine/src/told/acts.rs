//! Acts as places in logs: where a log stood when an act was given.

use std::collections::{BTreeMap, BTreeSet};

use yantro_core::{
    plan::{Step, StepId},
    run::{ActKind, LogMark, Run, RunId},
    words::{name::Address, time::Timestamp},
};

use crate::{
    engine::{Engine, read},
    error::EngineError,
};

/// An act, by its place in a log.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ActMark {
    /// Its run.
    pub run: RunId,
    /// Its step.
    pub step: StepId,
    /// Which of the run's acts it is.
    pub act: u32,
    /// The service.
    pub address: Address,
    /// The log.
    pub source: String,
    /// What was done, in words.
    pub says: String,
    /// When it was given.
    pub at: Timestamp,
    /// Where the log stood then.
    pub mark: LogMark,
}

impl Engine {
    /// Acts on these services of the runs at hand that changed since they were last asked for: `known` keeps how
    /// far each was.
    pub fn new_act_marks(&self, of: &BTreeSet<Address>, known: &mut BTreeMap<RunId, u64>) -> Vec<ActMark> {
        let runs = read(&self.shared.runs);
        let changed = runs.values().filter(|r| known.insert(r.id, r.event_count()) != Some(r.event_count()));
        changed.flat_map(|r| marks(r, of)).collect()
    }

    /// Acts on these services: of the runs that are at hand, or of one run only. For threads that may block.
    pub fn act_marks(&self, of: &BTreeSet<Address>, run: Option<RunId>) -> Result<Vec<ActMark>, EngineError> {
        let runs = read(&self.shared.runs);
        let Some(id) = run else { return Ok(runs.values().flat_map(|r| marks(r, of)).collect()) };
        if let Some(known) = runs.get(&id) {
            return Ok(marks(known, of));
        }
        drop(runs);
        let events = self.reader()?.events_of(id)?;
        let run = Run::replay(id, events.into_iter().map(|e| (e.at, e.event))).ok_or(EngineError::NoRun(id))?;
        Ok(marks(&run, of))
    }
}

/// What was done: a further act by its own name.
fn word(kind: ActKind, step: &Step) -> &str {
    if kind == ActKind::Further { step.does() } else { kind.word() }
}

fn marks(run: &Run, of: &BTreeSet<Address>) -> Vec<ActMark> {
    let mut all = Vec::new();
    for (step, now) in run.steps() {
        let Some(address) = step.address().filter(|a| of.contains(*a)) else { continue };
        for act in &now.acts {
            let places = act.begun.iter().flat_map(|b| &b.marks);
            all.extend(places.map(|(source, mark)| ActMark {
                run: run.id,
                step: step.id,
                act: act.act.0,
                address: address.clone(),
                source: source.clone(),
                says: format!("{} · run {}, step {}, by {}", word(act.kind, step), run.id, step.id, run.begun.who),
                at: act.intended_at,
                mark: mark.clone(),
            }));
        }
    }
    all
}
