//! How long steps usually take.
//!
//! For now the middle of what earlier runs took, else what the estate declares, else a stated
//! default; spreads and sampling come with the rehearsal.

use std::{collections::BTreeMap, time::Duration};

use super::StepKind;
use crate::{estate::Service, name::Address};

/// How long steps took before: the middle of the last few good ones.
#[derive(Debug, Clone, Default)]
pub struct Usual(pub BTreeMap<(Address, StepKind), Duration>);

/// Taken for a start that was never seen, on top of what the estate declares.
const START: Duration = Duration::from_secs(3);
/// Taken for a stop or reload that was never seen.
const STOP: Duration = Duration::from_secs(1);

impl Usual {
    /// How long a step of a service usually takes.
    pub fn of(&self, service: &Service, kind: StepKind) -> Duration {
        if !self.0.is_empty()
            && let Some(known) = self.0.get(&(service.address.clone(), kind))
        {
            return *known;
        }
        match kind {
            StepKind::Start | StepKind::Await => START + service.start.pause_before.0 + service.start.pause_after.0 + service.steady.0,
            StepKind::Stop => STOP + service.stop.pause_before.0 + service.stop.pause_after.0,
            StepKind::Reload => {
                STOP + service.steady.0 + service.reload.as_ref().map_or(Duration::ZERO, |r| r.pause_before.0 + r.pause_after.0)
            }
        }
    }
}
