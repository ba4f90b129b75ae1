//! The heart of Yantro, without I/O, clock or interface: the estate and its vetting, the
//! sequence worked out for a wish, the run machine, the ladder, and log matching.
//!
//! Time and facts come in as values, orders go out as values; this crate knows none of the others.
//!
//! Where things are: [`estate`] reads and vets a description, [`graph`] knows what relies on what,
//! [`selection`] turns what a person typed into addresses, [`sequence`] works out the steps, [`procedure`] those of a written one,
//! [`run`] is the machine that carries a sequence through, [`logs`] matches log lines, [`written`]
//! changes the text of an estate.

pub mod calendar;
pub mod estate;
pub mod graph;
pub mod guards;
pub mod holders;
mod model;
pub mod name;
pub mod overrides;
pub mod procedure;
pub mod proof;
pub mod rehearsal;
pub mod run;
pub mod selection;
pub mod sequence;
pub mod stage;
pub mod survey;
pub mod time;
pub mod written;
