//! Procedures: written, named sequences that mix services with work.
//!
//! [`Procedure`] is what the estate file comes to, [`answers`] settles what it asks, [`plan`] works out the
//! steps from the facts. What is written stays in lines; a line that names services becomes several steps.

pub mod answers;
mod plan;

pub use answers::{AnswerFault, settle};
pub use plan::{Asked, plan};
pub(crate) use plan::{contradicted, plan_by_line};

pub use crate::model::procedure::{Asks, Does, FoundBy, Line, Procedure, filled_with_found};
