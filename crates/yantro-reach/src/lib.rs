//! Touches hosts: acts through the recorder, looks at processes, ports, pages, files and logs.
//!
//! [`Here`] works on the machine it runs on. The outpost does the same at the far end of an SSH connection, and
//! [`Hosts`] sends each look and act to where its host is.
//! Nothing here decides what a run does next: looks and acts come in as orders, answers go out.

mod accounts;
mod climb;
#[cfg(feature = "outpost")]
mod far;
mod files;
mod here;
#[cfg(feature = "outpost")]
mod hosts;
mod hung;
mod journal;
mod keeper;
mod leave;
mod logs;
mod look;
#[cfg(feature = "outpost")]
mod machines;
#[cfg(feature = "outpost")]
mod outbox;
pub mod outpost;
#[cfg(feature = "outpost")]
pub mod power;
mod procs;
mod recorder;
mod secrets;
#[cfg(feature = "outpost")]
mod shell;
#[cfg(feature = "outpost")]
mod sim;
mod sockets;
mod units;
mod wire;

pub use climb::{Climb, Report};
#[cfg(feature = "outpost")]
pub use far::{Link, OutOfReach, Trouble};
pub use here::{ActSpec, Here, HereError};
#[cfg(feature = "outpost")]
pub use hosts::{Claims, Hosts, Looked, ReadLog, Seen};
pub use keeper::{Claim, Keeper, Kept};
pub use logs::{LogFollow, LogLine, mark_logs};
pub use look::{RawLook, Round};
pub use procs::ProcessId;
pub use recorder::{ActNews, ActRecord, Recorded};
pub use secrets::Secrets;
pub use wire::Hello;
