//! The act being recorded: its folder, what is written there, and what is told of it.

use std::{
    ffi::CString,
    fs,
    io::{self, Write},
    os::unix::fs::OpenOptionsExt,
    path::Path,
    time::{SystemTime, UNIX_EPOCH},
};

use serde_json::{Value, json};

/// The act being recorded.
pub struct Act {
    pub folder: String,
    /// What the one who gave the order wants kept with the record: its command and log positions.
    pub note: Value,
}

impl Act {
    /// Leaves the session and the control groups of whoever gave the order, and adopts orphans.
    pub fn leave(&self, order: &Value) {
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

pub fn tell(what: &Value) {
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
