//! Looks: at processes, ports, pages, files, units and logs, and the climbing of ladders. A look changes nothing.

pub(crate) mod climb;
pub(crate) mod commands;
pub(crate) mod echo;
pub(crate) mod files;
pub(crate) mod gone;
pub(crate) mod hung;
pub(crate) mod journal;
pub(crate) mod logs;
pub(crate) mod look;
pub(crate) mod own;
pub(crate) mod procs;
pub(crate) mod rights;
pub(crate) mod rungs;
pub(crate) mod sockets;
pub(crate) mod tree;
pub(crate) mod units;
