//! The run machine: a pure value that carries a sequence through.
//!
//! Inputs and the time go in; events and orders come out. Every event is stored before the orders
//! it came with are carried out, and the machine's state is the fold of its events: a killed server
//! reads them back and goes on. Replaying never decides anything again.
//!
//! [`Run::take`] is the one way in; [`event`] has what happens, [`input`] what comes in,
//! [`rooms`] the limits that hold over all runs, [`decision`] what an operator may do.

pub mod decision;
mod divert;
pub mod event;
pub mod input;
mod machine;
mod putback;
pub mod rooms;
mod state;

pub use decision::{Allowed, Decision, DecisionKind, Refusal};
pub use divert::plan_divert;
pub use event::{ActId, ActKind, Begun, Event, HoldCause, RunEnd, StepEnd};
pub use input::{ActBegun, ActEnd, Divert, Input, Order, Taken};
pub use rooms::{Room, RoomLimits, Rooms};
pub use state::{ActNow, Run, RunId, RunState, RungSeen, StepNow, StepState, state_words};
