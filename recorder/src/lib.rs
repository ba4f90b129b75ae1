//! The recorder: stands beside one act and writes down what became of it, whoever is there to see.
//!
//! It reads one order from its standard input (a line of JSON, so that secrets never are an
//! argument or a file), creates the act's folder exclusively, and carries the order out:
//!
//! - `begun.json` is written before the program is let go, and has reached the disk by then: boot id, process id and start time.
//!   Where it cannot be written, nothing begins: what was begun must be known to have been, over a power cut too.
//! - `output` holds what a command printed, bounded; a service has its own output file.
//! - `ended.json` is written when the program ended, or could not be started.
//! - `gone.json` is written when nothing of a service's process tree is left.
//!
//! The same is told on standard output, a line each, while somebody listens. A second order for the
//! same folder is refused with exit code 17. The recorder leaves its session and, where it is told
//! to, its control group, and adopts orphans, so that a program that forks away is still followed.

mod act;
mod child;
mod group;
mod output;
mod signal;

use std::{
    fs,
    io::{self, Read},
    os::unix::fs::DirBuilderExt,
};

use serde_json::{Value, json};

use act::{Act, tell};

/// The act was begun before: its folder exists.
const EXIT_BEGUN_BEFORE: i32 = 17;
/// The order could not be understood.
const EXIT_BAD_ORDER: i32 = 18;

/// Carries out the order that comes on standard input, and ends with it.
pub fn record() {
    // Nobody may be listening any more; that is no reason to end.
    unsafe { libc::signal(libc::SIGPIPE, libc::SIG_IGN) };
    let mut text = String::new();
    if io::stdin().read_to_string(&mut text).is_err() {
        std::process::exit(EXIT_BAD_ORDER);
    }
    let Ok(order) = serde_json::from_str::<Value>(&text) else { std::process::exit(EXIT_BAD_ORDER) };
    drop(text);
    let Some(folder) = order["folder"].as_str().map(str::to_owned) else { std::process::exit(EXIT_BAD_ORDER) };
    if let Err(error) = fs::DirBuilder::new().mode(0o700).create(&folder) {
        if error.kind() == io::ErrorKind::AlreadyExists {
            std::process::exit(EXIT_BEGUN_BEFORE);
        }
        tell(&json!({ "ended": { "refused": format!("the act's folder {folder} cannot be made: {error}") } }));
        std::process::exit(1);
    }
    let act = Act { folder, note: order["note"].clone() };
    act.leave(&order);
    match order["do"].as_str() {
        Some("signal") => signal::send(&act, &order),
        Some("start") => child::run(&act, &order, true),
        Some("command") => child::run(&act, &order, false),
        _ => act.ended(json!({ "refused": "the recorder does not know this order" })),
    }
}
