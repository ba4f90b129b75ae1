//! End to end: the built program, its API, and its console in headless Chromium.

mod api;
mod bad_input;
mod browser;
mod cli;
mod editing;
mod far;
mod figures;
mod first_light;
mod guards;
mod kills;
mod manager;
mod nights;
mod one_run;
mod quick;
mod screenshots;
mod units;
