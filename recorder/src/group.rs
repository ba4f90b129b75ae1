//! A control group for one act alone: whatever is started in it stays a member, however it forks away, so that its members
//! are exactly what the act left running, and can be ended in one go. See cgroups(7) and the kernel's cgroup-v2 document.

use std::{
    fs,
    os::fd::{AsRawFd, OwnedFd},
    path::{Path, PathBuf},
};

/// `CLONE_INTO_CGROUP` of linux/sched.h, of 64 bits.
const INTO_CGROUP: u64 = 1 << 33;

/// The group of an act. It goes with its last member, taken away by whoever made it.
pub struct Group {
    pub path: PathBuf,
    fd: OwnedFd,
}

impl Group {
    /// Makes one below the group that this process is in. None where there is no unified hierarchy, or this account may make none.
    pub fn make(name: &str) -> Option<Self> {
        let path = own()?.join(name);
        fs::create_dir(&path).ok()?;
        match fs::File::open(&path) {
            Ok(folder) => Some(Self { path, fd: folder.into() }),
            Err(_) => {
                let _ = fs::remove_dir(&path);
                None
            }
        }
    }

    /// Forks into it. To be born there takes no move, for which the kernel makes every other process wait.
    ///
    /// Negative where that cannot be done: an older kernel, a group that takes no processes.
    pub fn fork(&self) -> i32 {
        // clone3(2): the calling process has one thread, so that its child is as whole as after fork(2).
        let mut args: libc::clone_args = unsafe { std::mem::zeroed() };
        args.flags = INTO_CGROUP;
        args.exit_signal = libc::SIGCHLD as u64;
        args.cgroup = self.fd.as_raw_fd() as u64;
        unsafe { libc::syscall(libc::SYS_clone3, &raw mut args, size_of::<libc::clone_args>()) as i32 }
    }

    /// Takes it away, which only works once nobody is in it.
    pub fn remove(self) {
        // A program may have made groups of its own below it; the one that is not empty stays.
        remove_empty(&self.path);
    }
}

fn remove_empty(path: &Path) {
    for below in fs::read_dir(path).into_iter().flatten().flatten().filter(|e| e.file_type().is_ok_and(|t| t.is_dir())) {
        remove_empty(&below.path());
    }
    let _ = fs::remove_dir(path);
}

/// The folder of the group that this process is in, of the unified hierarchy.
fn own() -> Option<PathBuf> {
    let groups = fs::read_to_string("/proc/self/cgroup").ok()?;
    let path = groups.lines().find_map(|line| line.strip_prefix("0::"))?.to_owned();
    let mounts = fs::read_to_string("/proc/self/mountinfo").ok()?;
    let at = mounts.lines().find_map(|mount| {
        let (before, after) = mount.split_once(" - ")?;
        let mut fields = before.split_ascii_whitespace();
        let (root, at) = (fields.nth(3)?, fields.next()?);
        let within = path.strip_prefix(root.trim_end_matches('/')).unwrap_or(&path);
        (after.split_ascii_whitespace().next()? == "cgroup2").then(|| PathBuf::from(format!("{at}{within}")))
    })?;
    // What is mounted here may be another part of the hierarchy than ours: then we are no member of what the path names.
    let members = fs::read_to_string(at.join("cgroup.procs")).ok()?;
    let own = std::process::id().to_string();
    members.lines().any(|pid| pid == own).then_some(at)
}
