//! Touches hosts: acts through the recorder, looks at processes, ports, pages, files and logs.
//!
//! [`Here`] works on the machine it runs on. The outpost does the same at the far end of an SSH connection, and
//! [`Hosts`] sends each look and act to where its host is.
//! Nothing here decides what a run does next: looks and acts come in as orders, answers go out.

mod acts;
mod here;
#[cfg(feature = "outpost")]
mod hosts;
mod links;
mod looks;

pub use acts::descriptors::take_enough as take_enough_descriptors;
pub use acts::recorder::{ActNews, ActRecord, Recorded};
pub use acts::secrets::Secrets;
pub use acts::whole::write_whole;
pub use here::{ActSpec, Here, HereError};
#[cfg(feature = "outpost")]
pub use hosts::power;
#[cfg(feature = "outpost")]
pub use hosts::{Claims, Hosts, Looked, ReadLog, Seen};
#[cfg(feature = "outpost")]
pub use links::far::{Link, OutOfReach};
pub use links::keeper::{Claim, Keeper, Kept};
pub use links::{outpost, wire::Hello};
pub use looks::climb::{Climb, Report};
pub use looks::logs::{LogFollow, LogLine, mark_logs};
pub use looks::procs::ProcessId;
pub use looks::{look::RawLook, tree::Round};
