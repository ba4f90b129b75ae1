//! The run machine: a pure value that carries a sequence through.
//!
//! Inputs and the time go in; events and orders come out. Every event is stored before the orders
//! it came with are carried out, and the machine's state is the fold of its events: a killed server
//! reads them back and goes on. Replaying never decides anything again.
//!
//! [`Run::take`] is the one way in. Data first: acts, holds and ends, how a run began, what happened (events), what comes in
//! (inputs), what goes out (orders), decisions. Above them the state, what is allowed, the machine, the way back and the divert.

mod acts;
mod allowed;
mod begun;
mod decision;
mod divert;
mod ends;
mod event;
mod holds;
pub(crate) mod id;
mod input;
mod machine;
mod order;
mod putback;
mod state;
mod summary;

pub use acts::{ActBegun, ActEnd, ActId, ActKind, FoundProcess, LogEvidence, LogMark};
pub use allowed::Allowed;
pub use begun::{AtLastMoment, Begun, EVENT_VERSION, KeepUp, WindowTerms, answerable, beside};
pub use decision::{Decision, DecisionKind, Refusal};
pub use divert::plan_divert;
pub use ends::{Difference, Otherwise, RunEnd, StepEnd};
pub use event::Event;
pub use holds::{Frozen, HoldCause, Restriction};
pub use id::RunId;
pub use input::{Divert, Input};
pub use order::{Order, Stamped, Taken};
pub use state::{ActNow, Run, RunState, RungSeen, StepNow, StepState, state_words};
pub use summary::RunSummary;
