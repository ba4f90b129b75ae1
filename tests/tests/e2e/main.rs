//! End to end: the built program, its API, and its console in headless Chromium.

mod api;
mod bad_input;
mod browser;
mod cli;
mod cuts;
mod editing;
mod far;
mod figures;
mod figures_of_hosts;
mod figures_of_many;
mod first_light;
mod guards;
mod hosts_console;
mod house;
mod kills;
mod manager;
mod nights;
mod one_run;
mod plain_shell;
mod power;
mod promises;
mod quick;
mod screenshots;
mod simulated;
mod units;
