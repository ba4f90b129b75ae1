//! The one clock: the wall time of the server's start plus monotonic time (R34), so that a step of
//! the system's clock moves no deadline.

use std::time::{Instant, SystemTime, UNIX_EPOCH};

use yantro_core::words::time::Timestamp;

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
    /// How far the system's clock is ahead of this one, in milliseconds: what it was set by since.
    pub fn set_by(&self) -> i64 {
        SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |d| d.as_millis() as i64) - self.now().as_ms()
    }
}

/// Tells a step of the system's clock from its being gently kept in time.
#[derive(Debug, Default)]
pub(crate) struct Steps {
    known: i64,
    before: i64,
}

/// A clock that is kept in time moves by less than this between two looks at it, a second apart.
const STEP_MS: i64 = 500;

impl Steps {
    /// Takes what the clock is set by at this moment, and says by how much it was stepped, where it was.
    pub fn take(&mut self, set_by: i64) -> Option<i64> {
        let moved = set_by - self.before;
        self.before = set_by;
        if moved.abs() < STEP_MS {
            // Gently kept in time: what it has drifted is no step.
            self.known += moved;
            return None;
        }
        let by = set_by - self.known;
        self.known = set_by;
        Some(by)
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::steady(&[0, 1, 0, 2], &[])]
    #[case::kept_in_time(&[0, 100, 200, 300, 400, 500, 600], &[])]
    #[case::set_forward(&[0, 3_600_000, 3_600_001], &[3_600_000])]
    #[case::set_back(&[0, 0, -90_000, -90_000], &[-90_000])]
    #[case::there_and_back(&[0, 60_000, 60_000, 0], &[60_000, -60_000])]
    #[case::set_after_a_drift(&[0, 200, 400, 60_400], &[60_000])]
    fn steps_are_told_from_drift(#[case] set_by: &[i64], #[case] told: &[i64]) {
        let mut steps = Steps::default();
        let seen: Vec<i64> = set_by.iter().filter_map(|s| steps.take(*s)).collect();
        assert_eq!(seen, told);
    }

    #[test]
    fn the_clock_goes_on_and_is_the_systems_where_nobody_sets_it() {
        let clock = Clock::start();
        let before = clock.now();
        assert!(clock.now() >= before && clock.set_by().abs() < 60_000);
    }
}
