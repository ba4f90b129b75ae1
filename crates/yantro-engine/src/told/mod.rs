//! What people and machines are told: events, runs, reports and comparisons, logs with the acts between their lines.

pub(crate) mod acts;
pub(crate) mod comparison;
pub(crate) mod forecast;
mod logs;
pub(crate) mod publish;
pub(crate) mod report;
mod report_texts;
pub(crate) mod runs;
pub(crate) mod view;
