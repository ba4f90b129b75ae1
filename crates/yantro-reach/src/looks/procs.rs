//! Processes of this machine: who is who, and who belongs to whom.

use std::{
    collections::{BTreeMap, HashMap},
    fs, io,
    os::fd::{FromRawFd, OwnedFd},
    path::Path,
    sync::{Arc, Mutex, OnceLock, PoisonError},
    time::{Duration, Instant},
};

use serde::{Deserialize, Serialize};
use tokio::io::unix::AsyncFd;
use yantro_core::words::name::Address;

use crate::{acts::accounts::Account, looks::gone::unless_gone};

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
    ///
    /// # Errors
    /// That cannot be read, so that nobody can say.
    pub fn runs(&self) -> io::Result<bool> {
        Ok(self.boot == boot_id() && stat(self.pid)?.is_some_and(|s| s.started == self.started && s.state != 'Z'))
    }

    /// Whether it runs still, for all that is known: what cannot be read has not ended.
    pub fn is_alive(&self) -> bool {
        self.runs().unwrap_or(true)
    }

    /// Awaits its end, by the system's own word.
    pub async fn ended(&self) {
        // Sound: no memory of ours is touched.
        let fd = unsafe { libc::syscall(libc::SYS_pidfd_open, self.pid, libc::PIDFD_NONBLOCK) } as i32;
        if fd < 0 {
            // Over already, or nothing to wait on: looked at now and then.
            while self.is_alive() {
                tokio::time::sleep(Duration::from_millis(50)).await;
            }
            return;
        }
        // Sound: the descriptor was just made and belongs to nobody else.
        let fd = unsafe { OwnedFd::from_raw_fd(fd) };
        // Looked at once the descriptor holds on to whoever has the number: it may be another by now.
        if !self.is_alive() {
            return;
        }
        // Sound: the descriptor lives inside the AsyncFd and is not closed before it.
        if let Ok(fd) = unsafe { AsyncFd::register(fd) } {
            // An error means that waiting is over too.
            let _ = fd.readable().await;
        }
    }

    /// A process of this boot, running or not.
    pub fn of_this_boot(pid: u32, started: u64) -> Self {
        Self { boot: boot_id().to_owned(), pid, started }
    }

    /// Whether it is, or was, a process of this boot.
    pub(crate) fn is_of_this_boot(&self) -> bool {
        self.boot == boot_id()
    }

    /// The identity of a running process; none where there is no such one.
    ///
    /// # Errors
    /// That cannot be read, so that nobody can say.
    pub fn of(pid: u32) -> io::Result<Option<Self>> {
        Ok(stat(pid)?.map(|s| Self { boot: boot_id().to_owned(), pid, started: s.started }))
    }
}

/// How old a shared table may be.
const SHARED_FOR: Duration = Duration::from_millis(8);

/// The identity of this boot.
pub fn boot_id() -> &'static str {
    static BOOT: OnceLock<String> = OnceLock::new();
    BOOT.get_or_init(|| fs::read_to_string("/proc/sys/kernel/random/boot_id").unwrap_or_default().trim().to_owned())
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
///
/// # Errors
/// That cannot be read.
pub fn stat(pid: u32) -> io::Result<Option<Stat>> {
    let of = |text: String| {
        // The name may hold anything, brackets too: fields are counted from its last bracket.
        let mut fields = text.rsplit_once(')')?.1.split_whitespace();
        let state = fields.next()?.chars().next()?;
        let parent = fields.next()?.parse().ok()?;
        let started = fields.nth(17)?.parse().ok()?;
        Some(Stat { state, parent, started })
    };
    let text = unless_gone(fs::read_to_string(format!("/proc/{pid}/stat")))?;
    text.map(|text| of(text).ok_or_else(|| io::Error::other("what the system says of it is not understood"))).transpose()
}

/// The folders and files in one; none where it is gone.
fn entries(folder: impl AsRef<Path>) -> io::Result<Vec<fs::DirEntry>> {
    let all = unless_gone(fs::read_dir(folder).and_then(Iterator::collect::<io::Result<Vec<_>>>))?;
    Ok(all.unwrap_or_default())
}

/// Every process's number.
pub(crate) fn all_pids() -> io::Result<Vec<u32>> {
    Ok(entries("/proc")?.iter().filter_map(|e| e.file_name().to_str()?.parse().ok()).collect())
}

/// The short name of a process.
pub fn name(pid: u32) -> String {
    fs::read_to_string(format!("/proc/{pid}/comm")).map_or_else(|_| "?".to_owned(), |n| n.trim().to_owned())
}

/// The file of a program: a path as it is, where something is there, or a name looked up in a search path.
pub(crate) fn in_path(program: &str, path: &str) -> Option<String> {
    if program.contains('/') {
        return Path::new(program).exists().then(|| program.to_owned());
    }
    path.split(':').map(|dir| format!("{dir}/{program}")).find(|p| Path::new(p).is_file())
}

/// Everything below a process that has not ended, itself left out: by the kernel's own lists of
/// children, so that following one service does not take reading every process there is.
///
/// # Errors
/// Some of that cannot be read: who else there is nobody can say.
pub fn below(pid: u32) -> io::Result<Vec<u32>> {
    let mut all = Vec::new();
    let mut queue = vec![pid];
    while let Some(at) = queue.pop() {
        for task in entries(format!("/proc/{at}/task"))? {
            // A kernel built without these lists is served by the slow way.
            let Some(children) = unless_gone(fs::read_to_string(task.path().join("children")))? else {
                if at == pid && stat(pid)?.is_some() {
                    return Ok(ProcTable::shared()?.below(pid));
                }
                continue;
            };
            for child in children.split_whitespace().filter_map(|c| c.parse::<u32>().ok()) {
                if has_not_ended(child)? {
                    all.push(child);
                }
                queue.push(child);
            }
        }
    }
    all.sort_unstable();
    Ok(all)
}

/// Whether there is such a process, and it is no zombie.
fn has_not_ended(pid: u32) -> io::Result<bool> {
    Ok(stat(pid)?.is_some_and(|s| s.state != 'Z'))
}

/// Who is in a control group and in those below it and has not ended: nobody where there is no such group any longer.
///
/// # Errors
/// Some of that cannot be read: who else there is nobody can say.
pub(crate) fn members(group: &Path) -> io::Result<Vec<u32>> {
    // A group that is taken away while it is read has nobody in it.
    let of_it = |read: io::Result<String>| match read {
        Err(error) if error.raw_os_error() == Some(libc::ENODEV) => Ok(None),
        read => unless_gone(read),
    };
    let text = of_it(fs::read_to_string(group.join("cgroup.procs")))?.unwrap_or_default();
    let mut all = Vec::new();
    for pid in text.lines().filter_map(|pid| pid.parse::<u32>().ok()) {
        if has_not_ended(pid)? {
            all.push(pid);
        }
    }
    for entry in entries(group)? {
        if entry.file_type()?.is_dir() {
            all.extend(members(&entry.path())?);
        }
    }
    Ok(all)
}

/// A process and all that it is below, itself first, as far as that can be read.
fn above(pid: u32) -> impl Iterator<Item = u32> {
    std::iter::successors(Some(pid), |pid| stat(*pid).ok().flatten().map(|s| s.parent).filter(|p| *p > 0)).take(64)
}

/// Whether a process is below a recorder: Yantro started it, or what it comes from. It is told by the file that the recorder is
/// put in place as, which no other program has.
pub(crate) fn is_below_a_recorder(pid: u32) -> bool {
    let is_recorder = |pid: u32| {
        let exe = fs::read_link(format!("/proc/{pid}/exe")).ok();
        exe.as_ref().and_then(|e| e.file_name()?.to_str()).is_some_and(|name| name.starts_with("recorder-"))
    };
    above(pid).skip(1).any(is_recorder)
}

/// All processes at one moment.
#[derive(Debug, Default)]
pub struct ProcTable {
    by_pid: BTreeMap<u32, Stat>,
    children: BTreeMap<u32, Vec<u32>>,
}

impl ProcTable {
    /// Reads all that this account may see: a system may keep other accounts' processes to themselves (`hidepid`, proc(5)).
    ///
    /// # Errors
    /// Some of them cannot be read.
    pub fn read() -> io::Result<Self> {
        let mut table = Self::default();
        for pid in all_pids()? {
            let seen = match stat(pid) {
                Err(error) if error.kind() == io::ErrorKind::PermissionDenied => None,
                read => read?,
            };
            if let Some(stat) = seen {
                table.children.entry(stat.parent).or_default().push(pid);
                table.by_pid.insert(pid, stat);
            }
        }
        Ok(table)
    }

    /// A table at most a few milliseconds old, read once for all who ask at the same time.
    ///
    /// # Errors
    /// It cannot be read.
    pub fn shared() -> io::Result<Arc<Self>> {
        static LAST: Mutex<Option<(Instant, Arc<ProcTable>)>> = Mutex::new(None);
        let mut last = LAST.lock().unwrap_or_else(PoisonError::into_inner);
        match &*last {
            Some((at, table)) if at.elapsed() < SHARED_FOR => Ok(Arc::clone(table)),
            _ => {
                let table = Arc::new(Self::read()?);
                *last = Some((Instant::now(), Arc::clone(&table)));
                Ok(table)
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
}

/// Processes that are known to belong to a service, since we started them and nobody has reaped them
/// yet: looking for some other service among them would be in vain.
#[derive(Debug, Clone, Default)]
pub(crate) struct Ours(Arc<Mutex<HashMap<u32, Address>>>);

impl Ours {
    pub fn add(&self, pid: u32, address: &Address) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).insert(pid, address.clone());
    }

    pub fn remove(&self, pid: u32) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).remove(&pid);
    }

    /// The service that a process, or one that it is below, was started as.
    pub fn of(&self, pid: u32) -> Option<Address> {
        let all = self.now();
        above(pid).find_map(|pid| all.get(&pid).cloned())
    }

    /// A copy, to be asked without holding anyone up.
    fn now(&self) -> HashMap<u32, Address> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }
}

/// Every command line at one moment. Reading these alone is half the work of reading all about
/// everyone, and this is read before each start.
#[derive(Debug, Default)]
pub(crate) struct Commands {
    by_line: HashMap<Vec<u8>, Vec<u32>>,
    ours: HashMap<u32, Address>,
}

impl Commands {
    /// Reads all but those that are known.
    ///
    /// # Errors
    /// Some of them cannot be read.
    pub fn read(ours: &Ours) -> io::Result<Self> {
        let ours = ours.now();
        let mut by_line: HashMap<Vec<u8>, Vec<u32>> = HashMap::new();
        for pid in all_pids()?.into_iter().filter(|pid| !ours.contains_key(pid)) {
            if let Some(line) = command_line(pid)?.filter(|line| !line.is_empty()) {
                by_line.entry(line).or_default().push(pid);
            }
        }
        Ok(Self { by_line, ours })
    }

    /// The process of a service with exactly this command line, the oldest where there are several. Where others have the same,
    /// `told` says what else it must be; an error is that this cannot be read of one that it may be.
    pub fn find(&self, service: &Address, program: &str, args: &[String], told: &Told<'_>) -> Result<Option<ProcessId>, String> {
        let mut wanted = program.as_bytes().to_vec();
        wanted.push(0);
        for arg in args {
            wanted.extend_from_slice(arg.as_bytes());
            wanted.push(0);
        }
        let unread_of = |pid: u32, why: io::Error| format!("process {pid} may be this one or another's: {why}");
        let mut pids: Vec<u32> = self.by_line.get(&wanted).into_iter().flatten().copied().collect();
        for pid in self.ours.iter().filter(|(_, a)| *a == service).map(|(pid, _)| *pid) {
            if command_line(pid).map_err(|e| unread_of(pid, e))?.is_some_and(|line| line == wanted) {
                pids.push(pid);
            }
        }
        let mut all = Vec::new();
        for pid in pids {
            all.extend(ProcessId::of(pid).map_err(|e| unread_of(pid, e))?.filter(ProcessId::is_alive));
        }
        all.sort_by_key(|p| (p.started, p.pid));
        let mut unread = None;
        for process in all {
            match told.is_it(process.pid).and_then(|is| if is { runs(process.pid, program) } else { Ok(false) }) {
                Ok(true) => return Ok(Some(process)),
                Ok(false) => {}
                // One that ended meanwhile is nobody's.
                Err(_) if !process.is_alive() => {}
                Err(why) => unread = Some(format!("process {} may be this one or another's: {why}", process.pid)),
            }
        }
        unread.map_or(Ok(None), Err)
    }
}

/// What a process was started with; none where it is gone, or keeps that to itself: then it is another account's.
fn command_line(pid: u32) -> io::Result<Option<Vec<u8>>> {
    match fs::read(format!("/proc/{pid}/cmdline")) {
        Err(error) if error.kind() == io::ErrorKind::PermissionDenied => Ok(None),
        read => unless_gone(read),
    }
}

/// Whether a process that has a program's command line really runs it, in our own world of processes: a command line is what
/// whoever starts a process says it is. An error where it may be the one that is meant, and may be another's.
fn runs(pid: u32, program: &str) -> Result<bool, String> {
    // A container's is a service of that container's, and its number means another there.
    let world = |of: &str| fs::read_link(format!("/proc/{of}/ns/pid"));
    if let (Ok(of_it), Ok(ours)) = (world(&pid.to_string()), world("self"))
        && of_it != ours
    {
        return Ok(false);
    }
    let exe = format!("/proc/{pid}/exe");
    // Of its own account's processes some keep that to themselves: their account was compared.
    let Ok(is) = fs::read_link(&exe) else { return Ok(true) };
    let path = std::env::var("PATH").unwrap_or_default();
    let wanted = in_path(program, &path).unwrap_or_else(|| program.to_owned());
    let same_file = || {
        use std::os::unix::fs::MetadataExt;
        let id = |path: &str| fs::metadata(path).map(|m| (m.dev(), m.ino())).ok();
        id(&exe).is_some_and(|of_it| id(&wanted) == Some(of_it))
    };
    // What was replaced on the disk since it began is named with this behind it.
    let is = is.to_string_lossy().trim_end_matches(" (deleted)").to_owned();
    let canonical = fs::canonicalize(&wanted).map_or_else(|_| wanted.clone(), |p| p.to_string_lossy().into_owned());
    if is == canonical || is == wanted || same_file() {
        return Ok(true);
    }
    Err(format!("it runs {is}, and not {wanted}"))
}

/// What tells a process from others with the same command line: some of its environment, its folder, its account.
#[derive(Debug, Clone, Default)]
pub(crate) struct Told<'s> {
    /// Names, each with its value or without being there.
    pub env: Vec<(&'s str, Option<String>)>,
    /// Its working folder.
    pub dir: Option<&'s str>,
    /// Its account, where the estate says which.
    pub account: Option<&'s str>,
    /// The account that it would be started as, where the estate says none. What is started by root may take another on by itself.
    pub by_default: Option<u32>,
    /// Whether its account is what tells it from other services: of another account it is another one.
    pub is_apart: bool,
}

/// The account that a process acts as.
fn account_of(pid: u32) -> std::io::Result<u32> {
    let text = fs::read_to_string(format!("/proc/{pid}/status"))?;
    // proc_pid_status(5): real, effective, saved, file system. The folder's owner is root's where a process keeps to itself.
    let effective = text.lines().find_map(|l| l.strip_prefix("Uid:")?.split_ascii_whitespace().nth(1)?.parse().ok());
    effective.ok_or_else(|| std::io::Error::other("it has none"))
}

impl Told<'_> {
    /// Whether a process is the one that is meant; an error where that cannot be read.
    fn is_it(&self, pid: u32) -> Result<bool, String> {
        if let Some(account) = self.account {
            let wanted = Account::named(account).map_err(|e| format!("the account {account}: {e}"))?;
            let wanted = wanted.ok_or_else(|| format!("there is no account \"{account}\""))?.uid;
            if account_of(pid).map_err(|e| format!("its account: {e}"))? != wanted {
                return Ok(false);
            }
        } else if let Some(wanted) = self.by_default {
            let of = account_of(pid).map_err(|e| format!("its account: {e}"))?;
            if of != wanted && self.is_apart {
                return Ok(false);
            }
            if of != wanted {
                return Err(format!(
                    "it is {}'s, and would be started as {}; say `user` in the estate",
                    Account::called(of),
                    Account::called(wanted)
                ));
            }
        }
        if let Some(dir) = self.dir {
            let is = fs::read_link(format!("/proc/{pid}/cwd")).map_err(|e| format!("its folder: {e}"))?;
            let wanted = fs::canonicalize(dir).unwrap_or_else(|_| dir.into());
            if is != wanted {
                return Ok(false);
            }
        }
        if self.env.is_empty() {
            return Ok(true);
        }
        let text = fs::read(format!("/proc/{pid}/environ")).map_err(|e| format!("its environment: {e}"))?;
        let has: HashMap<&[u8], &[u8]> = text
            .split(|b| *b == 0)
            .filter_map(|entry| entry.iter().position(|b| *b == b'=').map(|at| (&entry[..at], &entry[at + 1..])))
            .collect();
        Ok(self.env.iter().all(|(name, value)| has.get(name.as_bytes()).copied() == value.as_ref().map(|v| v.as_bytes())))
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
        let found = below(child.id()).unwrap();
        assert_eq!(found.len(), 1, "the sleep is below the shell");
        assert_eq!(found, ProcTable::read().unwrap().below(child.id()));
        for pid in found.iter().copied().chain([child.id()]) {
            unsafe { libc::kill(pid as i32, libc::SIGKILL) };
        }
        child.wait().unwrap();
    }

    #[test]
    fn of_two_with_the_same_command_line_each_is_found_by_the_rest_of_what_it_was_started_with() {
        let start = |lane: Option<&str>, dir: &str| {
            let mut command = Command::new("/bin/sleep");
            command.args(["30.0375"]).current_dir(dir).env_remove("LANE");
            lane.map(|l| command.env("LANE", l));
            command.spawn().unwrap()
        };
        let mut all = [start(Some("A"), "/"), start(Some("B"), "/"), start(None, "/"), start(Some("A"), "/usr")];
        let address: Address = "quay/gate".parse().unwrap();
        let find = |lane: Option<&str>, dir: &str| {
            let told = Told { env: vec![("LANE", lane.map(str::to_owned))], dir: Some(dir), ..Told::default() };
            Commands::read(&Ours::default()).unwrap().find(&address, "/bin/sleep", &["30.0375".to_owned()], &told).unwrap().map(|p| p.pid)
        };
        // Between fork and exec they have our own command line.
        while find(Some("A"), "/usr").is_none() || find(None, "/").is_none() {
            std::thread::yield_now();
        }
        let found = [find(Some("A"), "/"), find(Some("B"), "/"), find(None, "/"), find(Some("A"), "/usr")];
        let pids: Vec<Option<u32>> = all.iter().map(|c| Some(c.id())).collect();
        for child in &mut all {
            child.kill().unwrap();
            child.wait().unwrap();
        }
        assert_eq!(found.as_slice(), pids);
        assert_eq!(find(Some("A"), "/"), None);
    }

    /// A command line is what whoever starts a process says it is.
    #[test]
    fn what_only_says_that_it_is_the_program_is_neither_taken_for_it_nor_for_another() {
        use std::os::unix::process::CommandExt;
        let mut child = Command::new("/bin/sleep").arg0("/bin/cat").arg("30.0713").spawn().unwrap();
        let find = |program: &str, args: &[&str], told: &Told<'_>| {
            let args: Vec<String> = args.iter().map(|a| (*a).to_owned()).collect();
            Commands::read(&Ours::default()).unwrap().find(&"quay/gate".parse().unwrap(), program, &args, told)
        };
        let found = loop {
            match find("/bin/cat", &["30.0713"], &Told::default()) {
                Ok(None) => std::thread::yield_now(),
                other => break other,
            }
        };
        child.kill().unwrap();
        child.wait().unwrap();
        let why = found.unwrap_err();
        assert!(why.contains("sleep, and not /bin/cat"), "{why}");
        if !nix::unistd::geteuid().is_root() {
            return;
        }
        // Another account's, and one in a world of its own.
        let mut of_another = Command::new("/bin/sleep").arg("30.0817").uid(65534).gid(65534).spawn().unwrap();
        let told = |account: Option<&'static str>, by_default: Option<u32>| Told { account, by_default, ..Told::default() };
        let find_it = |told: &Told<'_>| find("/bin/sleep", &["30.0817"], told).map(|p| p.map(|p| p.pid));
        while find_it(&told(Some("nobody"), None)) != Ok(Some(of_another.id())) {
            std::thread::yield_now();
        }
        assert_eq!(find_it(&told(Some("root"), None)), Ok(None));
        assert!(find_it(&told(None, Some(0))).unwrap_err().contains("it is nobody's, and would be started as root"));
        of_another.kill().unwrap();
        of_another.wait().unwrap();
        let mut apart = Command::new("unshare").args(["--pid", "--fork", "--kill-child", "/bin/sleep", "30.0919"]).spawn().unwrap();
        let line = b"/bin/sleep\x0030.0919\0";
        while !below(apart.id()).unwrap().iter().any(|pid| fs::read(format!("/proc/{pid}/cmdline")).is_ok_and(|l| l == line)) {
            std::thread::yield_now();
        }
        let found = find("/bin/sleep", &["30.0919"], &Told::default());
        apart.kill().unwrap();
        apart.wait().unwrap();
        assert_eq!(found, Ok(None));
    }

    #[test]
    fn a_process_is_found_by_its_command_line_but_not_among_what_is_known_to_be_anothers() {
        let mut child = Command::new("/bin/sleep").args(["30.0625"]).spawn().unwrap();
        let (fares, gate): (Address, Address) = ("quay/fares".parse().unwrap(), "quay/gate".parse().unwrap());
        let ours = Ours::default();
        let find = |address: &Address| {
            Commands::read(&ours).unwrap().find(address, "/bin/sleep", &["30.0625".to_owned()], &Told::default()).unwrap().map(|p| p.pid)
        };
        // Between fork and exec it has our own command line.
        while find(&fares).is_none() {
            std::thread::yield_now();
        }
        assert_eq!(find(&gate), Some(child.id()));
        ours.add(child.id(), &fares);
        assert_eq!((find(&fares), find(&gate)), (Some(child.id()), None));
        ours.remove(child.id());
        assert_eq!(find(&gate), Some(child.id()));
        child.kill().unwrap();
        child.wait().unwrap();
        assert_eq!(find(&fares), None);
    }
}
