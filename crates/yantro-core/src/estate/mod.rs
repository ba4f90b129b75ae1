//! The estate: what is looked after. The file as written ([`file`]), what is wrong with it
//! ([`Fault`]), and what it comes to ([`Estate`]).

mod fault;
pub mod file;
pub(crate) mod fill;
mod launch;
mod model;
pub(crate) mod structure;
mod vet;

pub(crate) use fault::Faults;
pub use fault::{Fault, Severity};
pub use file::{Expected, Force, ImpactLevel, Reach, Signal, StandsFor, Sudo};
pub use launch::{Launch, Sourced, launch};
pub use model::{
    AT_BOOT_OFF, AT_BOOT_ON, CommandsSpec, Controller, Estate, FurtherAct, Group, Host, HostSpec, IfItFails, Impact, Limits, LogPatterns,
    POWER_PASSWORD, Power, PowerDeed, ProcessSpec, REREAD, Relation, ReloadBlock, Rung, RungKind, Service, ServiceRunner, Simulated,
    SshSpec, StartBlock, StopBlock, SystemdSpec,
};
pub use structure::json_schema;
pub use vet::{MAX_BYTES, Vetted, vet, vet_with};
