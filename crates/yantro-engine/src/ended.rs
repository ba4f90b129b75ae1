//! Ending at once, with the reason: a server that cannot go on as it should does not go on as if it could. Started again it
//! recovers from what is stored.

use std::{
    io::Write,
    sync::atomic::{AtomicBool, Ordering},
};

/// The exit code of a process that ended itself so.
pub const ENDED: i32 = 70;

/// Ends this process, saying why.
pub fn end_process(why: &str) -> ! {
    tracing::error!(%why, "this server ends itself; started again it picks everything up");
    // Whoever reads standard error may be gone: that changes nothing.
    let _ = writeln!(std::io::stderr(), "yantro: this server ends itself, and picks everything up when it is started again: {why}");
    std::process::exit(ENDED)
}

static ENDING: AtomicBool = AtomicBool::new(false);

/// This process was told to end and is about to: what panics from now on ends nothing that goes on.
pub fn is_ending() {
    ENDING.store(true, Ordering::Relaxed);
}

/// From now on any panic, on whichever thread, ends this process with its reason. A task that is gone would leave a server that
/// answers, and never acts again.
pub fn end_on_panic() {
    let before = std::panic::take_hook();
    std::panic::set_hook(Box::new(move |info| {
        before(info);
        if ENDING.load(Ordering::Relaxed) {
            return; // What its runtime was about to do has no runtime any more.
        }
        end_process(&format!("it panicked: {info}"));
    }));
}
