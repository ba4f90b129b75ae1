//! The heart of Yantro, without I/O, clock or interface: the estate and its vetting, the
//! sequence worked out for a wish, the run machine, the ladder, and log matching.
//!
//! Time and facts come in as values, orders go out as values; this crate knows none of the others.
//!
//! Where things are, from below: [`words`] are what everything is said in, [`model`] is the estate as a value, [`proof`] judges what
//! was seen, [`graph`] knows what relies on what, [`selection`] turns what a person typed into addresses, [`plan`] works out the steps
//! of a wish or a procedure, [`guards`] and [`holders`] say what may be done, [`run`] is the machine that carries a sequence through,
//! [`text`] reads, vets and changes an estate's description.

pub mod calendar;
pub mod graph;
pub mod guards;
pub mod holders;
pub mod model;
pub mod overrides;
pub mod plan;
pub mod proof;
pub mod rehearsal;
pub mod run;
pub mod selection;
pub mod stage;
pub mod text;
pub mod words;
