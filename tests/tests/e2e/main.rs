//! End to end: the built program, its API, and its console in headless Chromium.

mod bad_input;
mod browser;
mod figures;
mod first_light;
mod guards;
mod kills;
mod quick;
mod screenshots;
