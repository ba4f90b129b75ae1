//! The estate file as it is written: every key, its type and what it means.
//!
//! These types are the one source for reading the file, for vetting its structure, and for the
//! published JSON Schema. All keys are optional here, so that a file with faults can still be
//! read as far as it goes; what must be there is asked for by the vetting.

mod host;
mod hours;
mod kinds;
mod procedure;
mod rung;
mod service;
mod simulated;

use crate::words::StandsFor;
use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

pub use host::*;
pub use hours::*;
pub use kinds::*;
pub use procedure::*;
pub use rung::*;
pub use service::*;
pub use simulated::*;

/// A whole estate: everything Yantro looks after.
#[derive(Debug, Clone, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
#[schemars(title = "Yantro estate")]
pub struct EstateFile {
    /// What the estate is called and what it stands for.
    pub estate: HeadFile,
    /// How much may be acted on at once, over all runs.
    pub limits: LimitsFile,
    /// How what is simulated goes.
    pub simulation: SimulationFile,
    /// The hosts, by name.
    pub host: BTreeMap<String, HostFile>,
    /// Groups of services, by name.
    pub group: BTreeMap<String, GroupFile>,
    /// Common blocks that services take their settings from with `like`.
    pub like: BTreeMap<String, ServiceFile>,
    /// The services, by name.
    pub service: BTreeMap<String, ServiceFile>,
    /// Hours in which disruptive runs are refused, by name.
    pub freeze: BTreeMap<String, FreezeFile>,
    /// Hours for which a run must fit, by name.
    pub window: BTreeMap<String, WindowFile>,
    /// Written, named sequences that mix services with work, by name.
    pub procedure: BTreeMap<String, ProcedureFile>,
}

/// `[estate]`: the whole.
#[derive(Debug, Clone, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct HeadFile {
    /// What the estate is called.
    pub name: Option<String>,
    /// What it stands for: shown in every question and at the top of every page.
    pub stands_for: Option<StandsFor>,
    /// The folder that relative paths start from; without it, the folder the file was loaded from.
    pub dir: Option<String>,
    /// IANA time zone in which hours are shown to people, such as "Europe/London".
    pub time_zone: Option<String>,
}

/// `[limits]`: over everything and all runs.
#[derive(Debug, Clone, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct LimitsFile {
    /// How many steps may act or prove at once, over all (default: no limit).
    #[schemars(range(min = 1))]
    pub at_once: Option<u32>,
    /// How many on any one host (default: no limit).
    #[schemars(range(min = 1))]
    pub per_host: Option<u32>,
}
