//! The estate as text: the file as written ([`file`]), what is wrong with it ([`Fault`]), what it comes to ([`vet()`]), and how
//! it is changed ([`written`]) or first made of what is found ([`survey`]).

mod fault;
pub mod file;
mod published;
pub(crate) mod structure;
pub mod survey;
mod vet;
pub mod written;

pub(crate) use fault::Faults;
pub use fault::{Fault, Severity, not_text};
pub use published::json_schema;
pub use vet::{MAX_BYTES, Vetted, vet, vet_with};
