//! The one switch (R36): at a standstill nothing begins.

use crate::{
    plan::{Obstacle, Plan},
    words::kinds::StepKind,
};

impl Plan {
    /// Refuses whatever would be done while everything stands still.
    pub(super) fn heed_standstill(&mut self, by: Option<&str>) {
        let Some(by) = by.filter(|_| self.sequence.steps.iter().any(|s| s.kind() != StepKind::Await)) else { return };
        let mend = "lift the standstill first: yantro standstill off".to_owned();
        self.obstacles.push(Obstacle { address: None, line: None, why: format!("everything is at a standstill, by {by}"), mend });
    }
}
