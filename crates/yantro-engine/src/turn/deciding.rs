//! What people decide of runs: beginning, resuming anew, decisions, remarks; and what a divert was planned to be.

use std::sync::PoisonError;

use yantro_core::{
    plan::Shown,
    run::{Begun, Decision, Divert, Event, Input, Order, Refusal, Run, RunId, Stamped},
};

use super::{Work, frozen_at};
use crate::{
    engine::read,
    error::EngineError,
    told::{runs::summary, view},
};

impl Work {
    /// Begins a run, unless something came between its plan and now that it would not have been planned under.
    pub(crate) fn begin(&mut self, begun: Begun, asked_as: Option<String>) -> Result<RunId, EngineError> {
        if let Some(run) = asked_as.as_ref().and_then(|identity| self.asked_as.get(identity)) {
            return Ok(*run);
        }
        if let Some(by) = read(&self.engine.shared.standstill).clone() {
            return Err(EngineError::Standstill(by));
        }
        let edition = self.engine.loaded().map_or(0, |l| l.edition);
        if edition != begun.edition {
            let difference = vec![format!("the estate is edition {edition} now, and was edition {}", begun.edition)];
            return Err(EngineError::Otherwise { difference, plan: None });
        }
        let id = RunId(self.next_run);
        self.next_run += 1;
        let now = self.engine.hands.clock.now();
        let run = Run::begin(id, now, begun.clone());
        self.audit(&begun.who, "begin", format!("run {id}: {}", view::title_of(&run)), begun.why.clone());
        self.batch.runs.push(summary(&run));
        self.batch.events.push((id, Stamped { no: 1, at: now, event: Event::Begun(Box::new(begun)) }));
        self.engine.shared.runs.write().unwrap_or_else(PoisonError::into_inner).insert(id, run);
        // One may have begun since it was planned.
        if let Some(loaded) = self.engine.loaded() {
            let _ = self.input(id, Input::Frozen(frozen_at(&loaded.estate, now)));
        }
        self.orders.push((id, Order::TakeLocks));
        if let Some(identity) = asked_as {
            self.batch.asked_as.push((identity.clone(), id));
            self.asked_as.insert(identity, id);
        }
        Ok(id)
    }

    /// A run that things changed for goes on by what was worked out anew, with the locks that this takes.
    pub(super) fn replan(&mut self, id: RunId, begun: Box<Begun>, decision: Decision) -> Result<(), EngineError> {
        let now = self.engine.hands.clock.now();
        if self.engine.loaded().is_none_or(|l| l.edition != begun.edition) {
            let difference = vec!["a new edition of the estate came meanwhile".to_owned()];
            return Err(EngineError::Otherwise { difference, plan: None });
        }
        let wanted = Run::begin(id, now, (*begun).clone());
        if let Err(behind) = self.locks.take(id, &wanted.wants()) {
            let behind: Vec<String> = behind.iter().map(|r| format!("run {r}")).collect();
            return Err(EngineError::Behind { run: id, behind: behind.join(" and ") });
        }
        self.input(id, Input::Replanned { begun, decision })
    }

    pub(crate) fn decide(&mut self, run: RunId, decision: Decision, shown: Option<&Shown>) -> Result<(), EngineError> {
        if !read(&self.engine.shared.runs).contains_key(&run) {
            let ended = self.engine.run(run)?;
            return Err(EngineError::Refused(Refusal::Ended { run: run.0, word: ended.state.word() }));
        }
        self.does_no_more(run, &decision, shown)?;
        self.input(run, Input::Decide(decision))
    }

    /// A note may come long after the end of a run: then it is brought back for it.
    pub(super) fn remark(&mut self, id: RunId, input: Input) -> Result<(), EngineError> {
        let known = read(&self.engine.shared.runs).contains_key(&id);
        if !known {
            let events = self.engine.reader()?.events_of(id)?;
            let run = Run::replay(id, events.into_iter().map(|e| (e.at, e.event))).ok_or(EngineError::NoRun(id))?;
            self.engine.shared.runs.write().unwrap_or_else(PoisonError::into_inner).insert(id, run);
        }
        self.input(id, input)
    }

    /// What takes over is worked out: the locks that it needs more are taken first (R32).
    pub(super) fn divert_planned(&mut self, id: RunId, planned: Result<Divert, String>) {
        let planned = planned.and_then(|divert| {
            let answerable = divert.services.keys().cloned().collect();
            let wants = match read(&self.engine.shared.runs).get(&id) {
                Some(run) => run.wants_for(&divert.steps, answerable, &divert.services),
                None => return Err("the run is gone".to_owned()),
            };
            match self.locks.take(id, &wants) {
                Ok(()) => Ok(divert),
                Err(behind) => {
                    let behind: Vec<String> = behind.iter().map(|r| format!("run {r}")).collect();
                    Err(format!("it needs services that {} has", behind.join(" and ")))
                }
            }
        });
        // The run was there when it asked.
        let _ = self.input(id, Input::DivertPlanned(planned));
    }
}
