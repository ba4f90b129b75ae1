//! Links to other hosts: the channel over SSH and what is said on it, the outpost at its far end, the plain shell where none can
//! run, and whose turn it is on a host.

#[cfg(feature = "outpost")]
pub(crate) mod far;
#[cfg(feature = "outpost")]
mod hops;
pub(crate) mod keeper;
#[cfg(feature = "outpost")]
mod opening;
#[cfg(feature = "outpost")]
pub(crate) mod outbox;
pub mod outpost;
#[cfg(feature = "outpost")]
pub(crate) mod quoting;
#[cfg(feature = "outpost")]
pub(crate) mod shell;
#[cfg(feature = "outpost")]
pub(crate) mod trouble;
pub(crate) mod wire;
