//! How what is simulated goes, as it is written.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::words::time::Span;

/// `[simulation]`: how time and chance go for what is simulated.
#[derive(Debug, Clone, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct SimulationFile {
    /// How much faster than the clock it goes (default 1): with 60, what takes a minute takes a second.
    #[schemars(range(min = 0.01, max = 1000))]
    pub speed: Option<f64>,
    /// What chance is drawn from (default 1): the same number, the same luck.
    pub seed: Option<u64>,
}

/// `simulated = { … }` of a service or host that is simulated: how it behaves.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct SimulatedFile {
    /// How long it takes to come up, half the time (default: what its start usually takes, else 2 s; a host 40 s).
    pub starts: Option<Span>,
    /// How long it takes to go down, half the time (default: what its stop usually takes, else 1 s; a host 10 s).
    pub stops: Option<Span>,
    /// How far times spread: of the logarithm, so that with 0.3 two in three are within a third (default 0.2).
    #[schemars(range(min = 0.0, max = 3.0))]
    pub spread: Option<f64>,
    /// How often a start comes to nothing, from 0 to 1 (default 0).
    #[schemars(range(min = 0.0, max = 1.0))]
    pub fails: Option<f64>,
    /// How often a stop is not heeded, from 0 to 1 (default 0).
    #[schemars(range(min = 0.0, max = 1.0))]
    pub clings: Option<f64>,
    /// Whether it is down to begin with (default: it is up, unless it is expected to be down).
    pub begins_down: Option<bool>,
}
