//! What may refuse a plan, or must be said of it in so many words, and what holds an open run back.

mod confirmed;
mod freezes;
mod restrictions;
mod terms;
mod ways;

pub use confirmed::{Newest, again, unconfirmed};
pub use restrictions::restrictions;
pub use ways::Ways;
