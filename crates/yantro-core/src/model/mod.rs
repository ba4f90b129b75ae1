//! The estate as a value: what is looked after, how, and the procedures written for it.

pub(crate) mod fails;
pub(crate) mod fill;
pub(crate) mod hosts;
mod launch;
pub(crate) mod power;
pub mod procedure;
pub(crate) mod rung;
pub mod secrecy;
pub(crate) mod service;
pub mod task;
pub(crate) mod whole;

pub use fails::IfItFails;
pub use hosts::{Host, HostSpec, Simulated, SshSpec};
pub use launch::{Launch, Sourced, launch};
pub use power::{Controller, POWER_PASSWORD, Power, PowerDeed};
pub use rung::{Rung, RungKind};
pub use service::{
    AT_BOOT_OFF, AT_BOOT_ON, Apart, CommandsSpec, FurtherAct, Group, Impact, LogPatterns, ProcessSpec, REREAD, Relation, ReloadBlock,
    Service, ServiceRunner, StartBlock, StopBlock, SystemdSpec,
};
pub use whole::{Estate, Limits};
