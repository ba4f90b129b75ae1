//! What this machine is touched by, tried on real processes, sockets, files and pages.

mod acts;
mod climbs;
mod looks;
mod ours;
mod world;
