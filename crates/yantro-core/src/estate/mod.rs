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
    CommandsSpec, Estate, FurtherAct, Group, Host, IfItFails, Impact, Limits, LogPatterns, ProcessSpec, Relation, ReloadBlock, Rung,
    RungKind, Service, ServiceRunner, SshSpec, StartBlock, StopBlock, SystemdSpec,
};
pub use structure::json_schema;
pub use vet::{MAX_BYTES, Vetted, vet, vet_with};
