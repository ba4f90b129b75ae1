//! Change freezes and windows, as they are written.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::words::{FreezeBegin, ImpactLevel, time::Span};

/// `[freeze.NAME]`: hours in which disruptive runs are refused.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct FreezeFile {
    /// What people call it.
    pub title: Option<String>,
    /// When the first begins, by the zone's wall clock: "2026-06-06T06:00".
    pub from: Option<String>,
    /// An RFC 5545 recurrence rule, such as "FREQ=WEEKLY;BYDAY=SA"; without one it comes once.
    pub rule: Option<String>,
    /// The IANA zone (default: the estate's).
    pub zone: Option<String>,
    /// How long it is.
    pub length: Option<Span>,
    /// From which impact on a run is refused (default "brief").
    pub impact: Option<ImpactLevel>,
    /// Whether a run may be begun all the same (default "refused").
    pub begin: Option<FreezeBegin>,
}

/// `[window.NAME]`: hours for which a run must fit.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct WindowFile {
    /// What people call it.
    pub title: Option<String>,
    /// When the first begins, by the zone's wall clock: "2026-06-06T01:00".
    pub from: Option<String>,
    /// An RFC 5545 recurrence rule, such as "FREQ=DAILY"; without one it comes once.
    pub rule: Option<String>,
    /// The IANA zone (default: the estate's).
    pub zone: Option<String>,
    /// How long it is.
    pub length: Option<Span>,
}
