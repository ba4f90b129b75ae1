//! Touches hosts: acts through the recorder, looks at processes, ports, pages, files and logs.
//!
//! Everything here works on the machine it runs on; the outpost will run the same code elsewhere.
//! Nothing here decides what a run does next: looks and acts come in as orders, answers go out.

mod climb;
mod files;
mod here;
mod keeper;
mod leave;
mod logs;
mod look;
mod procs;
mod recorder;
mod secrets;
mod sockets;

pub use climb::{Climb, Report};
pub use here::{ActSpec, Here, HereError};
pub use keeper::{Claim, Keeper, Kept};
pub use logs::{LogFollow, LogLine, mark_logs};
pub use look::{RawLook, Round};
pub use procs::ProcessId;
pub use recorder::{ActNews, ActRecord, Recorded};
pub use secrets::Secrets;
