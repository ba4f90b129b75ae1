//! How runs are forecast, as it is told.

use std::{
    sync::Arc,
    time::{Duration, Instant},
};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use yantro_core::{
    plan::{StepId, forecast::plays::Forecast},
    words::time::Timestamp,
};

/// Whether a sequence fits its window.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
pub struct WindowView {
    /// What people call it.
    pub title: String,
    /// When it ends.
    pub ends_at: Timestamp,
    /// The chance, in percent, that it has ended by then.
    pub chance: u32,
}

/// How a run is forecast to go on.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
pub struct RunForecast {
    /// When this was worked out.
    pub as_of: Timestamp,
    /// From here on; for one that ended, nothing is left.
    pub now: Forecast,
    /// What it was begun by.
    pub begun_by: Option<Forecast>,
    /// The window that it must fit, and how likely it does.
    pub window: Option<WindowView>,
    /// The last moment at which putting back would still fit the window, in nine of ten cases.
    pub last_moment: Option<Timestamp>,
    /// How long putting back would take now, in nine of ten cases, in milliseconds.
    pub way_back_ms: u64,
    /// Steps that take longer than nine in ten of theirs did, while they do.
    pub slow: Vec<SlowStep>,
}

impl RunForecast {
    /// The same without what it says of each step and service.
    pub fn in_all(&self) -> Self {
        let brief = |f: &Forecast| Forecast { steps: Vec::new(), away: Vec::new(), ends_ms: f.ends_ms.clone(), ..*f };
        Self {
            now: brief(&self.now),
            begun_by: self.begun_by.as_ref().map(brief),
            window: self.window.clone(),
            slow: self.slow.clone(),
            ..*self
        }
    }
}

/// A step that is much slower than usual.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct SlowStep {
    /// The step.
    pub step: StepId,
    /// How long it has taken so far, in milliseconds.
    pub so_far_ms: u64,
    /// How long it usually takes.
    pub usual_ms: u64,
    /// In a sentence.
    pub says: String,
}

/// A forecast that was worked out for somebody.
pub(crate) struct KeptForecast {
    pub made: Instant,
    pub took: Duration,
    pub forecast: Arc<RunForecast>,
}
