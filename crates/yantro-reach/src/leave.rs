//! How what is started leaves the server's control group, so that it outlives the server (R22): into
//! a scope of its own where the host has a service manager, else into a group beside the server's.

use std::{
    path::{Path, PathBuf},
    process::Stdio,
    time::{Duration, Instant},
};

/// How long the manager may take to move a process.
const MOVED_WITHIN: Duration = Duration::from_secs(5);

/// The ways out there are.
pub(crate) struct WayOut {
    /// The manager can be asked for a scope.
    manager: bool,
    groups: Result<Vec<String>, String>,
}

/// A recorder about to leave.
pub(crate) struct Leaving<'a> {
    pub way: &'a WayOut,
    /// The identity of its act.
    pub act: &'a str,
    /// What it is for, for people who list the manager's units.
    pub says: String,
}

impl WayOut {
    pub fn find() -> Self {
        // systemd's own test of whether it runs the host: sd_booted(3).
        let manager = Path::new("/run/systemd/system").is_dir() && nix::unistd::geteuid().is_root();
        Self { manager, groups: groups_beside() }
    }
}

impl Leaving<'_> {
    /// Moves a recorder that waits for its order, or says where it has to move itself.
    pub async fn leave(&self, recorder: u32) -> Result<Vec<String>, String> {
        if self.way.manager {
            match self.scope(recorder).await {
                Ok(()) => return Ok(Vec::new()),
                Err(why) => tracing::warn!(%why, "the host's service manager gives no scope; a control group beside ours is used"),
            }
        }
        self.way.groups.clone()
    }

    /// Asks the manager for a scope, by its public bus interface, and waits until the recorder is in it.
    async fn scope(&self, recorder: u32) -> Result<(), String> {
        let name = format!("yantro-{}.scope", self.act.replace('/', "-"));
        let pid = recorder.to_string();
        let says = format!("Started by Yantro: {}", self.says);
        let call = tokio::process::Command::new("busctl")
            .args(["--system", "--quiet", "call", "org.freedesktop.systemd1", "/org/freedesktop/systemd1"])
            .args(["org.freedesktop.systemd1.Manager", "StartTransientUnit", "ssa(sv)a(sa(sv))", &name, "fail", "3"])
            .args(["PIDs", "au", "1", &pid, "Description", "s", &says, "CollectMode", "s", "inactive-or-failed", "0"])
            .stdin(Stdio::null())
            .output();
        let out = tokio::time::timeout(MOVED_WITHIN, call).await.map_err(|_| "the manager does not answer".to_owned())?;
        let out = out.map_err(|e| format!("busctl cannot be run: {e}"))?;
        if !out.status.success() {
            return Err(String::from_utf8_lossy(&out.stderr).trim().to_owned());
        }
        let began = Instant::now();
        while began.elapsed() < MOVED_WITHIN {
            let group = std::fs::read_to_string(format!("/proc/{recorder}/cgroup")).unwrap_or_default();
            if group.lines().any(|l| l.ends_with(&name)) {
                return Ok(());
            }
            tokio::time::sleep(Duration::from_millis(2)).await;
        }
        Err(format!("process {recorder} was not moved to {name} in time"))
    }
}

/// The control groups beside the server's own that a recorder may move to. An empty list: there is
/// nothing to leave. An error: there is, and it cannot be left.
fn groups_beside() -> Result<Vec<String>, String> {
    let groups = std::fs::read_to_string("/proc/self/cgroup").unwrap_or_default();
    let mounts = std::fs::read_to_string("/proc/self/mountinfo").unwrap_or_default();
    let mut out = Vec::new();
    for line in groups.lines() {
        let mut parts = line.splitn(3, ':');
        let (Some(_), Some(controllers), Some(path)) = (parts.next(), parts.next(), parts.next()) else { continue };
        // Only what a service manager ends services by: the unified hierarchy or its own named one.
        let is_managers = controllers.is_empty() || controllers == "name=systemd";
        if !is_managers || path == "/" {
            continue;
        }
        let mounted = mounts.lines().find_map(|m| {
            let (before, after) = m.split_once(" - ")?;
            let mut kind = after.split_ascii_whitespace();
            let (fstype, options) = (kind.next()?, kind.nth(1).unwrap_or_default());
            let fits = if controllers.is_empty() { fstype == "cgroup2" } else { fstype == "cgroup" && options.contains("name=systemd") };
            let mut fields = before.split_ascii_whitespace();
            let (root, at) = (fields.nth(3)?, fields.next()?);
            fits.then(|| (root.to_owned(), at.to_owned()))
        });
        let Some((root, at)) = mounted else { continue };
        let within = path.strip_prefix(root.trim_end_matches('/')).unwrap_or(path);
        let parent = Path::new(within).parent().unwrap_or(Path::new("/"));
        let beside = PathBuf::from(format!("{at}{}", parent.display())).join("yantro-acts");
        let made = beside.exists() || std::fs::create_dir(&beside).is_ok();
        let procs = beside.join("cgroup.procs");
        let may = made && std::fs::OpenOptions::new().write(true).open(&procs).is_ok();
        if may {
            out.push(procs.display().to_string());
        } else {
            return Err(format!("what is started here would end with the server: its control group {path} cannot be left"));
        }
    }
    Ok(out)
}
