//! How everything stands: rounds of looks, and the board as it is told.

pub(crate) mod board;
pub(crate) mod remembered;
mod rounds;
mod turns;
