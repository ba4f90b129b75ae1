//! The estate as text: the file as written ([`file`]), what is wrong with it ([`Fault`]), and what it comes to
//! ([`Estate`], a value of the model).

mod fault;
pub mod file;
pub(crate) mod fill;
mod launch;
mod published;
pub(crate) mod structure;
mod vet;

pub(crate) use fault::Faults;
pub use fault::{Fault, Severity, not_text};
pub use file::{Expected, Force, ImpactLevel, Reach, Signal, StandsFor, Sudo};
pub use launch::{Launch, Sourced, launch};
pub use published::json_schema;
pub use vet::{MAX_BYTES, Vetted, vet, vet_with};

pub use crate::model::*;
