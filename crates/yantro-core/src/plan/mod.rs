//! The sequence worked out for a wish or a procedure: a graph of steps, not a list of ranks.

mod asked;
mod build;
mod digest;
pub mod forecast;
mod layout;
mod planned;
pub mod procedure;
mod purpose;
mod sheet;
mod steps;

pub use asked::{AskedWith, Request};
pub(crate) use build::{Looks, hits};
pub use build::{plan, preflight};
pub use digest::Shown;
pub use layout::lay_out;
pub use planned::{Ask, Hit, LeftAlone, Obstacle, Plan, Preflight, Sequence};
pub use purpose::For;
pub use sheet::{StepCommand, command_of, manager_command, manager_kill, sheet};
pub(crate) use steps::meanwhile;
pub use steps::{OnService, Part, Release, Step, StepId, Subject, Wait, Why};
