//! Processes of this machine: who is who, and who belongs to whom.

use std::{
    collections::BTreeMap,
    fs,
    sync::{Arc, Mutex},
    time::{Duration, Instant},
};

use serde::{Deserialize, Serialize};

/// A process that cannot be mistaken for another: boot, id and start time.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ProcessId {
    /// The boot it belongs to.
    pub boot: String,
    /// Its id.
    pub pid: u32,
    /// Its start, in clock ticks since boot.
    pub started: u64,
}

impl ProcessId {
    /// Whether it runs still. A zombie has ended.
    pub fn is_alive(&self) -> bool {
        self.boot == boot_id() && stat(self.pid).is_some_and(|s| s.started == self.started && s.state != 'Z')
    }

    /// The identity of a running process.
    pub fn of(pid: u32) -> Option<Self> {
        Some(Self { boot: boot_id(), pid, started: stat(pid)?.started })
    }
}

/// How old a shared table may be.
const SHARED_FOR: Duration = Duration::from_millis(8);

/// The identity of this boot.
pub fn boot_id() -> String {
    fs::read_to_string("/proc/sys/kernel/random/boot_id").unwrap_or_default().trim().to_owned()
}

/// What the system says of a process.
#[derive(Debug, Clone, Copy)]
pub struct Stat {
    /// Its state letter.
    pub state: char,
    /// Its parent.
    pub parent: u32,
    /// Its start, in clock ticks since boot.
    pub started: u64,
}

/// Reads what the system says of a process; `None` where there is none.
pub fn stat(pid: u32) -> Option<Stat> {
    let text = fs::read_to_string(format!("/proc/{pid}/stat")).ok()?;
    // The name may hold anything, brackets too: fields are counted from its last bracket.
    let mut fields = text.rsplit_once(')')?.1.split_whitespace();
    let state = fields.next()?.chars().next()?;
    let parent = fields.next()?.parse().ok()?;
    let started = fields.nth(17)?.parse().ok()?;
    Some(Stat { state, parent, started })
}

/// The short name of a process.
pub fn name(pid: u32) -> String {
    fs::read_to_string(format!("/proc/{pid}/comm")).map_or_else(|_| "?".to_owned(), |n| n.trim().to_owned())
}

/// Everything below a process that has not ended, itself left out: by the kernel's own lists of
/// children, so that following one service does not take reading every process there is.
pub fn below(pid: u32) -> Vec<u32> {
    let mut all = Vec::new();
    let mut queue = vec![pid];
    while let Some(at) = queue.pop() {
        for task in fs::read_dir(format!("/proc/{at}/task")).into_iter().flatten().flatten() {
            // A kernel built without these lists is served by the slow way.
            let Ok(children) = fs::read_to_string(task.path().join("children")) else {
                if at == pid && stat(pid).is_some() {
                    return ProcTable::shared().below(pid);
                }
                continue;
            };
            for child in children.split_whitespace().filter_map(|c| c.parse::<u32>().ok()) {
                if stat(child).is_some_and(|s| s.state != 'Z') {
                    all.push(child);
                }
                queue.push(child);
            }
        }
    }
    all.sort_unstable();
    all
}

/// All processes at one moment.
#[derive(Debug, Default)]
pub struct ProcTable {
    by_pid: BTreeMap<u32, Stat>,
    children: BTreeMap<u32, Vec<u32>>,
}

impl ProcTable {
    /// Reads them all.
    pub fn read() -> Self {
        let mut table = Self::default();
        for entry in fs::read_dir("/proc").into_iter().flatten().flatten() {
            let Some(pid) = entry.file_name().to_str().and_then(|n| n.parse::<u32>().ok()) else { continue };
            if let Some(stat) = stat(pid) {
                table.children.entry(stat.parent).or_default().push(pid);
                table.by_pid.insert(pid, stat);
            }
        }
        table
    }

    /// A table at most a few milliseconds old, read once for all who ask at the same time.
    pub fn shared() -> Arc<Self> {
        static LAST: Mutex<Option<(Instant, Arc<ProcTable>)>> = Mutex::new(None);
        let mut last = LAST.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        match &*last {
            Some((at, table)) if at.elapsed() < SHARED_FOR => Arc::clone(table),
            _ => {
                let table = Arc::new(Self::read());
                *last = Some((Instant::now(), Arc::clone(&table)));
                table
            }
        }
    }

    /// Everything below a process that has not ended, itself left out.
    pub fn below(&self, pid: u32) -> Vec<u32> {
        let mut all = Vec::new();
        let mut queue = vec![pid];
        while let Some(at) = queue.pop() {
            for child in self.children.get(&at).into_iter().flatten() {
                if self.by_pid.get(child).is_some_and(|s| s.state != 'Z') {
                    all.push(*child);
                }
                queue.push(*child);
            }
        }
        all.sort_unstable();
        all
    }

    /// A process with exactly this command line, the oldest first.
    pub fn with_command(&self, program: &str, args: &[String]) -> Option<u32> {
        let mut wanted = program.as_bytes().to_vec();
        wanted.push(0);
        for arg in args {
            wanted.extend_from_slice(arg.as_bytes());
            wanted.push(0);
        }
        let mut found: Vec<(u64, u32)> = self
            .by_pid
            .iter()
            .filter(|(_, s)| s.state != 'Z')
            .filter(|(pid, _)| fs::read(format!("/proc/{pid}/cmdline")).is_ok_and(|c| c == wanted))
            .map(|(pid, s)| (s.started, *pid))
            .collect();
        found.sort_unstable();
        found.first().map(|(_, pid)| *pid)
    }
}

#[cfg(test)]
mod tests {
    use std::process::{Command, Stdio};

    use super::*;

    #[test]
    fn what_is_below_a_process_is_found_both_ways() {
        let mut child = Command::new("sh").args(["-c", "sleep 30 & echo up; wait"]).stdout(Stdio::piped()).spawn().unwrap();
        let mut line = String::new();
        std::io::BufRead::read_line(&mut std::io::BufReader::new(child.stdout.take().unwrap()), &mut line).unwrap();
        std::thread::sleep(SHARED_FOR);
        let found = below(child.id());
        assert_eq!(found.len(), 1, "the sleep is below the shell");
        assert_eq!(found, ProcTable::read().below(child.id()));
        for pid in found.iter().copied().chain([child.id()]) {
            unsafe { libc::kill(pid as i32, libc::SIGKILL) };
        }
        child.wait().unwrap();
    }
}
