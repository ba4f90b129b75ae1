//! The recorder: stands beside one act and writes down what became of it, whoever is there to see.
//!
//! It reads one order from its standard input (a line of JSON, so that secrets never are an
//! argument or a file), creates the act's folder exclusively, and carries the order out:
//!
//! - `begun.json` is written before the program is let go: boot id, process id and start time.
//! - `output` holds what a command printed, bounded; a service has its own output file.
//! - `ended.json` is written when the program ended, or could not be started.
//! - `gone.json` is written when nothing of a service's process tree is left.
//!
//! The same is told on standard output, a line each, while somebody listens. A second order for the
//! same folder is refused with exit code 17. The recorder leaves its session and, where it is told
//! to, its control group, and adopts orphans, so that a program that forks away is still followed.

mod child;
mod output;

use std::{
    ffi::CString,
    fs,
    io::{self, Read, Write},
    os::unix::fs::{DirBuilderExt, OpenOptionsExt},
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

    /// Sends a signal to processes that are still the ones meant.
    fn signal(&self, order: &Value) {
        self.begun(json!({ "pid": Value::Null }));
        let number = order["signal"].as_i64().unwrap_or(0) as i32;
        for target in order["targets"].as_array().into_iter().flatten() {
            let (pid, started) = (target["pid"].as_i64().unwrap_or(0) as i32, target["started"].as_u64());
            // The descriptor is opened first and the identity checked after: no other process can
            // slip in between the check and the signal.
            let fd = unsafe { libc::syscall(libc::SYS_pidfd_open, pid, 0) } as i32;
            if fd < 0 {
                continue;
            }
            if started_at(pid) == started {
                let sent = unsafe { libc::syscall(libc::SYS_pidfd_send_signal, fd, number, std::ptr::null::<libc::siginfo_t>(), 0) };
                if sent != 0 && io::Error::last_os_error().raw_os_error() != Some(libc::ESRCH) {
                    let error = io::Error::last_os_error();
                    self.ended(json!({ "refused": format!("process {pid} cannot be signalled: {error}") }));
                    std::process::exit(1);
                }
            }
            unsafe { libc::close(fd) };
        }
        self.ended(json!({ "sent": true }));
    }

    /// Writes down that the act has begun.
    pub fn begun(&self, mut what: Value) {
        what["boot"] = json!(boot_id());
        what["recorder"] = json!({ "pid": std::process::id(), "started": started_at(std::process::id() as i32) });
        what["at_ms"] = json!(now_ms());
        what["note"] = self.note.clone();
        self.write("begun.json", &what);
        tell(&json!({ "begun": what }));
    }

    /// Writes down how it ended.
    pub fn ended(&self, mut what: Value) {
        what["at_ms"] = json!(now_ms());
        self.write("ended.json", &what);
        tell(&json!({ "ended": what }));
    }

    /// Writes down that nothing of its process tree is left.
    pub fn gone(&self) {
        let what = json!({ "at_ms": now_ms() });
        self.write("gone.json", &what);
        tell(&json!({ "gone": what }));
    }

    /// The file that holds a command's output.
    pub fn output_path(&self) -> String {
        format!("{}/output", self.folder)
    }

    /// Whole or not at all: a reader never sees half a record.
    fn write(&self, name: &str, what: &Value) {
        let (path, half) = (format!("{}/{name}", self.folder), format!("{}/.{name}", self.folder));
        // A full disk must not end the recorder: the outcome is still told while somebody listens.
        let file = fs::File::options().write(true).create(true).truncate(true).mode(0o600).open(&half);
        if file.and_then(|mut f| f.write_all(what.to_string().as_bytes())).is_ok() {
            let _ = fs::rename(&half, &path);
        }
    }
}

fn tell(what: &Value) {
    // Nobody may be listening: see main.
    let mut out = io::stdout().lock();
    let _ = writeln!(out, "{what}").and_then(|()| out.flush());
}

fn now_ms() -> u64 {
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
