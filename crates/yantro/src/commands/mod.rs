//! The commands, a file for each kind.

pub mod acts;
pub mod amend;
pub mod attend;
pub mod board;
pub mod completions;
pub mod consent;
pub mod decisions;
pub mod demo;
pub mod estate;
pub mod follow;
pub mod logs;
pub mod power;
pub mod procedures;
pub mod reach;
pub mod rehearse;
pub mod runs;
pub mod serve;
pub mod shown;
pub mod standing;
pub mod survey;

/// This machine's time.
pub(crate) fn now() -> yantro_core::words::time::Timestamp {
    let since = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH);
    yantro_core::words::time::Timestamp::from_ms(since.map_or(0, |d| d.as_millis() as i64))
}
