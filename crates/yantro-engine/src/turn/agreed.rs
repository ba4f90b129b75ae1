//! That the loop does no more than what was agreed to, whatever came in between.

use yantro_core::{
    plan::Shown,
    run::{Decision, RunId},
};

use crate::{agreed::no_more, error::EngineError, turn::Work};

impl Work {
    /// Whether a decision does no more, by now, than what was shown of it. What takes over was asked about before.
    pub(crate) fn does_no_more(&self, id: RunId, decision: &Decision, shown: Option<&Shown>) -> Result<(), EngineError> {
        match shown {
            Some(shown) => no_more(shown, &self.engine.would_at_once(id, decision)?),
            None => Ok(()),
        }
    }

    /// The same of lifting the standstill.
    pub(crate) fn lifts_no_more(&self, shown: Option<&Shown>) -> Result<(), EngineError> {
        shown.map_or(Ok(()), |shown| no_more(shown, &self.engine.would_lift()))
    }
}
