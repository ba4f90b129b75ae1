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

mod child;
mod group;
mod output;

use std::{
    ffi::CString,
    fs,
    io::{self, Read, Write},
    os::{
        fd::{AsRawFd, FromRawFd, OwnedFd},
        unix::fs::{DirBuilderExt, OpenOptionsExt},
    },
    path::Path,
    time::{SystemTime, UNIX_EPOCH},
};

use serde_json::{Value, json};

/// The act was begun before: its folder exists.
const EXIT_BEGUN_BEFORE: i32 = 17;
/// The order could not be understood.
const EXIT_BAD_ORDER: i32 = 18;

fn main() {
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
        Some("signal") => act.signal(&order),
        Some("start") => child::run(&act, &order, true),
        Some("command") => child::run(&act, &order, false),
        _ => act.ended(json!({ "refused": "the recorder does not know this order" })),
    }
}

/// The act being recorded.
pub struct Act {
    folder: String,
    /// What the one who gave the order wants kept with the record: its command and log positions.
    note: Value,
}

impl Act {
    /// Leaves the session and the control groups of whoever gave the order, and adopts orphans.
    fn leave(&self, order: &Value) {
        unsafe {
            libc::setsid();
            libc::prctl(libc::PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0);
        }
        let pid = std::process::id().to_string();
        for path in order["leave_to"].as_array().into_iter().flatten().filter_map(Value::as_str) {
            if let Err(error) = fs::write(path, &pid) {
                self.ended(json!({ "refused": format!("the control group cannot be left for {path}: {error}") }));
                std::process::exit(1);
            }
        }
    }

    /// Sends a signal to processes that are still the ones meant, and writes down what became of it for each.
    fn signal(&self, order: &Value) {
        if let Err(error) = self.begun(json!({ "pid": Value::Null })) {
            return self.ended(json!({ "refused": not_written(&error) }));
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
                    self.ended(json!({ "refused": format!("process {pid} cannot be signalled: {error}"), "signals": signals }));
                    std::process::exit(1);
                }
            }
        }
        // Where each is gone, there is nobody left to ask; where another has its number, whoever was meant was not asked.
        let stranger = signals.iter().find(|(_, became)| *became == "another process");
        match stranger.filter(|_| !signals.iter().any(|(_, became)| *became == "sent")) {
            Some((pid, _)) => {
                let why = format!("the signal was sent to nobody: process {pid} is another one than was meant");
                self.ended(json!({ "refused": why, "signals": signals }));
            }
            None => self.ended(json!({ "sent": true, "signals": signals })),
        }
    }

    /// Writes down that the act has begun, so that it is known whatever happens from here on.
    pub fn begun(&self, mut what: Value) -> io::Result<()> {
        what["boot"] = json!(boot_id());
        what["recorder"] = json!({ "pid": std::process::id(), "started": started_at(std::process::id() as i32) });
        what["at_ms"] = json!(now_ms());
        what["note"] = self.note.clone();
        self.write("begun.json", &what)?;
        // The folder, its place in that of the run, and that one's: it may be the run's first act.
        for path in Path::new(&self.folder).ancestors().take(3) {
            fs::File::open(path)?.sync_all()?;
        }
        tell(&json!({ "begun": what }));
        Ok(())
    }

    /// Writes down how it ended.
    pub fn ended(&self, mut what: Value) {
        what["at_ms"] = json!(now_ms());
        // A full disk must not end the recorder: the outcome is still told while somebody listens.
        let _ = self.write("ended.json", &what);
        tell(&json!({ "ended": what }));
    }

    /// Writes down that nothing of its process tree is left.
    pub fn gone(&self) {
        let what = json!({ "at_ms": now_ms() });
        let _ = self.write("gone.json", &what);
        tell(&json!({ "gone": what }));
    }

    /// The file that holds a command's output.
    pub fn output_path(&self) -> String {
        format!("{}/output", self.folder)
    }

    /// Whole or not at all: a reader never sees half a record.
    fn write(&self, name: &str, what: &Value) -> io::Result<()> {
        let (path, half) = (format!("{}/{name}", self.folder), format!("{}/.{name}", self.folder));
        let mut file = fs::File::options().write(true).create(true).truncate(true).mode(0o600).open(&half)?;
        file.write_all(what.to_string().as_bytes())?;
        file.sync_all()?;
        fs::rename(&half, &path)
    }
}

/// Why nothing was begun.
pub fn not_written(error: &io::Error) -> String {
    format!("that it begins cannot be written down, and nothing was begun: {error}")
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

fn tell(what: &Value) {
    // Nobody may be listening: see main.
    let mut out = io::stdout().lock();
    let _ = writeln!(out, "{what}").and_then(|()| out.flush());
}

pub fn now_ms() -> u64 {
    SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |d| d.as_millis() as u64)
}

fn boot_id() -> String {
    fs::read_to_string("/proc/sys/kernel/random/boot_id").unwrap_or_default().trim().to_owned()
}

/// The start time of a process in clock ticks since boot: with its id and the boot, its identity.
pub fn started_at(pid: i32) -> Option<u64> {
    let stat = fs::read_to_string(format!("/proc/{pid}/stat")).ok()?;
    // The name may hold anything, brackets too: fields are counted from its last bracket.
    stat.rsplit_once(')')?.1.split_whitespace().nth(19)?.parse().ok()
}

/// Text for a system call; what holds a zero byte is cut there.
pub fn c_text(text: &str) -> CString {
    CString::new(text.split('\0').next().unwrap_or_default()).expect("cut at the first zero byte")
}
