//! What shows how a service stands: answers and states, the manager's words, logs, and what is remembered of it.

mod answer;
pub mod logs;
pub mod standing;
mod state;
mod unit;

pub use answer::{Answer, Verdict};
pub use state::{Facts, LastKnown, LogAgainst, Seen, SeenState};
pub use unit::{UnitTerms, UnitWord};
