//! Tests of the core as its users see it: vetting, sequences, and runs played in a made-up world.

mod acts;
mod before;
mod by_hand;
mod calendar;
mod choosing;
mod coast;
mod ends;
mod estates;
mod forecasts;
mod guards;
mod holders;
mod hostile;
mod hosts;
mod mends;
mod order;
mod procedure_faults;
mod procedures;
mod promises;
mod proofs;
mod runs;
mod tasks;
mod vetting;
mod watching;
mod world;
mod written;
