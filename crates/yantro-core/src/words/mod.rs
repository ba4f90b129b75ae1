//! Words that everything else is said in: names and addresses, instants and spans, and the small closed lists.

pub mod kinds;
mod lists;
pub mod name;
pub mod time;

pub use lists::*;
