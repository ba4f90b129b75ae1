//! Signals to processes that are still the ones meant.

use std::{
    fs, io,
    os::fd::{AsRawFd, FromRawFd, OwnedFd},
    path::Path,
};

use serde_json::{Value, json};

use crate::act::{Act, not_written, started_at};

/// Sends a signal to processes that are still the ones meant, and writes down what became of it for each.
pub fn send(act: &Act, order: &Value) {
    if let Err(error) = act.begun(json!({ "pid": Value::Null })) {
        return act.ended(json!({ "refused": not_written(&error) }));
    }
    let number = order["signal"].as_i64().unwrap_or(0) as i32;
    let mut signals = Vec::new();
    // What is ended with its whole group, what forks while it is ended with it; the rest is ended one by one.
    let members = order["group"].as_str().map(|group| ended_with(Path::new(group))).unwrap_or_default();
    for target in order["targets"].as_array().into_iter().flatten() {
        let (pid, started) = (target["pid"].as_i64().unwrap_or(0) as i32, target["started"].as_u64());
        match signal_one(pid, started, number) {
            // It was sent, with the group.
            Ok("gone") if members.contains(&pid) => signals.push((pid, "sent")),
            Ok(became) => signals.push((pid, became)),
            Err(error) => {
                act.ended(json!({ "refused": format!("process {pid} cannot be signalled: {error}"), "signals": signals }));
                std::process::exit(1);
            }
        }
    }
    // Where each is gone, there is nobody left to ask; where another has its number, whoever was meant was not asked.
    let stranger = signals.iter().find(|(_, became)| *became == "another process");
    match stranger.filter(|_| !signals.iter().any(|(_, became)| *became == "sent")) {
        Some((pid, _)) => {
            let why = format!("the signal was sent to nobody: process {pid} is another one than was meant");
            act.ended(json!({ "refused": why, "signals": signals }));
        }
        None => act.ended(json!({ "sent": true, "signals": signals })),
    }
}

/// Ends all members of a control group in one go, and says who they were. None where that cannot be done.
fn ended_with(group: &Path) -> Vec<i32> {
    let members = members(group);
    if fs::write(group.join("cgroup.kill"), "1").is_ok() { members } else { Vec::new() }
}

/// Who is in a control group, and in those below it.
fn members(group: &Path) -> Vec<i32> {
    let text = fs::read_to_string(group.join("cgroup.procs")).unwrap_or_default();
    let below = fs::read_dir(group).into_iter().flatten().flatten().filter(|e| e.file_type().is_ok_and(|t| t.is_dir()));
    text.lines().filter_map(|pid| pid.parse().ok()).chain(below.flat_map(|e| members(&e.path()))).collect()
}

/// Sends a signal to one process, if it still is the one meant: `sent`, `gone` or `another process`.
fn signal_one(pid: i32, started: Option<u64>, number: i32) -> io::Result<&'static str> {
    let gone = |error: io::Error| if error.raw_os_error() == Some(libc::ESRCH) { Ok("gone") } else { Err(error) };
    // The descriptor is opened first and the identity checked after: no other process can slip in between the check and the
    // signal.
    let fd = unsafe { libc::syscall(libc::SYS_pidfd_open, pid, 0) } as i32;
    if fd < 0 {
        return gone(io::Error::last_os_error());
    }
    let fd = unsafe { OwnedFd::from_raw_fd(fd) };
    match started_at(pid) {
        None => return Ok("gone"),
        is if is != started => return Ok("another process"),
        _ => {}
    }
    let sent = unsafe { libc::syscall(libc::SYS_pidfd_send_signal, fd.as_raw_fd(), number, std::ptr::null::<libc::siginfo_t>(), 0) };
    if sent == 0 { Ok("sent") } else { gone(io::Error::last_os_error()) }
}
