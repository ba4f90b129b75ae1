//! The one clock: the wall time of the server's start plus monotonic time (R34), so that a step of
//! the system's clock moves no deadline.

use std::time::{Instant, SystemTime, UNIX_EPOCH};

use yantro_core::time::Timestamp;

/// Tells what the core calls now.
#[derive(Debug, Clone, Copy)]
pub struct Clock {
    wall: Timestamp,
    since: Instant,
}

impl Clock {
    /// Begins now.
    pub fn start() -> Self {
        let wall = SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |d| d.as_millis() as i64);
        Self { wall: Timestamp::from_ms(wall), since: Instant::now() }
    }
    /// Now.
    pub fn now(&self) -> Timestamp {
        self.wall + self.since.elapsed()
    }
}
