//! Runs as they are told: in full, and in lists.

use yantro_core::run::{Event, Run, RunId, RunSummary};

use crate::{
    engine::{Engine, read},
    error::EngineError,
    told::view,
    told::view::RunView,
};

impl Engine {
    /// A run in full. Those that ended long ago are read back; for threads that may block.
    pub fn run(&self, id: RunId) -> Result<RunView, EngineError> {
        self.run_since(id, None)
    }

    /// The same, with only those of its steps that changed after an event.
    pub fn run_since(&self, id: RunId, since: Option<u64>) -> Result<RunView, EngineError> {
        let now = self.hands.clock.now();
        if let Some(run) = read(&self.shared.runs).get(&id) {
            return Ok(view::view(run, now, since));
        }
        let events = self.reader()?.events_of(id)?;
        let run = Run::replay(id, events.into_iter().map(|e| (e.at, e.event))).ok_or(EngineError::NoRun(id))?;
        Ok(view::view(&run, now, since))
    }

    /// The newest runs below a number.
    pub fn runs(&self, before: Option<RunId>, limit: u32) -> Result<Vec<RunSummary>, EngineError> {
        Ok(self.reader()?.runs(before, limit)?)
    }
}

pub(crate) fn summary(run: &Run) -> RunSummary {
    let steps = run.begun.sequence.steps.len() as u32;
    RunSummary {
        id: run.id,
        state: run.state().word().to_owned(),
        title: view::title_of(run),
        who: run.begun.who.clone(),
        began_at: run.began_at,
        ended_at: run.end().map(|(at, ..)| *at),
        steps,
        steps_ended: steps - run.steps_not_ended(),
    }
}

/// An event as told to those who look on: what they need to know that something happened.
pub(crate) fn brief(event: &Event) -> serde_json::Value {
    match event {
        // The sequence is asked for once, not pushed at everyone.
        Event::Begun(_) => serde_json::json!({ "event": "begun" }),
        other => serde_json::to_value(other).expect("our own types have text keys only"),
    }
}
