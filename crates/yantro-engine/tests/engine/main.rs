//! The engine as a server has it, over hosts that are played: nothing real is started.

mod anew;
mod deeds;
mod editions;
mod promises;
mod runs;
mod told;
mod world;
