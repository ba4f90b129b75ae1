//! The engine as a server has it, over hosts that are played, but for `hostile`, where real commands are given.

mod anew;
mod deeds;
mod editions;
mod here;
mod hostile;
mod promises;
mod runs;
mod told;
mod turns;
mod world;
