//! How many files and connections may be open at once: this program holds some for each host and each log that it follows, and what
//! it starts gets what this program was given.

use std::{io, sync::OnceLock};

use nix::sys::resource::{Resource, getrlimit, rlim_t, setrlimit};

/// As many as this suffice for thousands of hosts. Not as many as there may be: programs are about that go through all of them.
const ENOUGH: rlim_t = 65_536;

/// As many as this program was given, once it has taken more.
static GIVEN: OnceLock<rlim_t> = OnceLock::new();

/// Takes as many as the system lets this program have, and are enough.
///
/// # Errors
/// The system does not say, or does not let it.
pub fn take_enough() -> io::Result<()> {
    let (soft, hard) = getrlimit(Resource::RLIMIT_NOFILE)?;
    let wanted = hard.min(ENOUGH);
    if wanted > soft {
        setrlimit(Resource::RLIMIT_NOFILE, wanted, hard)?;
        GIVEN.get_or_init(|| soft);
    }
    Ok(())
}

/// As many as what this program starts is to have, where this program has taken more.
pub(crate) fn given() -> Option<rlim_t> {
    GIVEN.get().copied()
}

/// Gives a process that was started just now as many as this program was given. It may have come and gone.
pub(crate) fn give_back(pid: u32) {
    let Some(soft) = given() else { return };
    let mut has = libc::rlimit { rlim_cur: 0, rlim_max: 0 };
    // Sound: the kernel writes into memory that outlives the call.
    if unsafe { libc::prlimit(pid as i32, libc::RLIMIT_NOFILE, std::ptr::null(), &raw mut has) } == 0 {
        let wanted = libc::rlimit { rlim_cur: soft.min(has.rlim_max), ..has };
        // Sound: the kernel only reads it.
        unsafe { libc::prlimit(pid as i32, libc::RLIMIT_NOFILE, &raw const wanted, std::ptr::null_mut()) };
    }
}
