//! Working out the steps of a procedure: [`answers`] settles what it asks, [`plan`] works out the steps from the facts. What is written
//! stays in lines; a line that names services becomes several steps.

pub mod answers;
mod lines;

pub use answers::{AnswerFault, settle};
pub use lines::{Asked, plan};
pub(crate) use lines::{contradicted, plan_by_line};
