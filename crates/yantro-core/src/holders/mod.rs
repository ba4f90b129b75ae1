//! Who may act where, over all runs: locks, the queue for them, and how much may be done at once.

mod locks;
mod rooms;

pub use locks::{Locks, Wants};
pub use rooms::{Room, RoomLimits, Rooms};
