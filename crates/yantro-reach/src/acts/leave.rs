//! How what is started leaves the server's control group, so that it outlives the server (R22): into
//! a scope of its own where the host has a service manager, else into a group beside the server's.

use std::{
    path::{Path, PathBuf},
    sync::{Arc, Mutex, MutexGuard, PoisonError},
    time::{Duration, Instant},
};

use tokio::process::Child;

use crate::{
    acts::{
        accounts::Account,
        recorder::{self, Program},
    },
    looks::units::Units,
};

/// How long the manager may take to move a process.
const MOVED_WITHIN: Duration = Duration::from_secs(5);
/// So many recorders are at hand after a start.
const AT_HAND: usize = 2;
/// For so long.
const KEPT_FOR: Duration = Duration::from_secs(60);

/// The ways out there are.
pub(crate) struct WayOut {
    /// The manager that can be asked for a scope.
    manager: Option<Arc<Units>>,
    groups: Result<Vec<String>, String>,
}

impl WayOut {
    pub fn find(units: &Arc<Units>) -> Self {
        // systemd's own test of whether it runs the host: sd_booted(3).
        let is_managed = Path::new("/run/systemd/system").is_dir();
        let groups = groups_beside();
        if is_managed && nix::unistd::geteuid().is_root() {
            return Self { manager: Some(Arc::clone(units)), groups };
        }
        match groups {
            Err(why) if is_managed => match own_manager() {
                Some(bus) => Self { manager: Some(Arc::new(Units::of_account(&bus))), groups: Err(why) },
                None => Self { manager: None, groups: Err(format!("{why}, and nobody keeps a manager for this account")) },
            },
            groups => Self { manager: None, groups },
        }
    }
}

/// The bus of this account's own manager, where that is kept beyond its sessions: loginctl(1), enable-linger. One that is not
/// ends with the last session, and all that it runs with it.
fn own_manager() -> Option<String> {
    let uid = nix::unistd::geteuid().as_raw();
    let name = Account::of_uid(uid).ok()??.name;
    let bus = format!("/run/user/{uid}/bus");
    let is_kept = Path::new("/var/lib/systemd/linger").join(name).exists() && Path::new(&bus).exists();
    is_kept.then(|| format!("unix:path={bus}"))
}

/// A recorder that waits for its order, out of the server's control group already or told where to move to.
pub(crate) struct Waiting {
    pub child: Child,
    /// The control groups that it moves to by itself.
    pub leave_to: Vec<String>,
    scope: Option<String>,
    since: Instant,
}

/// Recorders at hand for the starts to come: to leave takes the manager tens of milliseconds, which no start has to wait
/// for that follows another. Each ends by itself when nobody needs it, or when the server does.
pub(crate) struct Spares {
    program: Program,
    units: Arc<Units>,
    way: Mutex<Arc<WayOut>>,
    ready: Mutex<Vec<Waiting>>,
    /// Held by whoever puts more at hand: many starts at once do not each do so.
    filling: tokio::sync::Mutex<()>,
}

impl Spares {
    pub fn new(program: Program, units: Arc<Units>) -> Self {
        Self {
            program,
            way: Mutex::new(Arc::new(WayOut::find(&units))),
            units,
            ready: Mutex::default(),
            filling: tokio::sync::Mutex::default(),
        }
    }

    /// The way out; where there was none, one may have been made meanwhile.
    fn way(&self) -> Arc<WayOut> {
        let mut way = self.way.lock().unwrap_or_else(PoisonError::into_inner);
        if way.manager.is_none() && way.groups.is_err() {
            *way = Arc::new(WayOut::find(&self.units));
        }
        Arc::clone(&way)
    }

    /// How what is started leaves our control group, or why it cannot.
    pub fn can_leave(&self) -> Result<String, String> {
        let way = self.way();
        match (&way.manager, &way.groups) {
            (Some(_), _) => Ok("the host's manager gives it a scope of its own".to_owned()),
            (None, Ok(groups)) if groups.is_empty() => Ok("there is no control group to leave".to_owned()),
            (None, Ok(_)) => Ok("it moves to a control group beside ours".to_owned()),
            (None, Err(why)) => Err(why.clone()),
        }
    }

    fn ready(&self) -> MutexGuard<'_, Vec<Waiting>> {
        self.ready.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// A recorder that has left, and more of them soon. `says` is what it is for, for people who list the manager's units.
    pub async fn take(self: &Arc<Self>, says: String) -> Result<Waiting, String> {
        let spare = loop {
            // One that was ended by somebody is none.
            let Some(mut spare) = self.ready().pop() else { break None };
            if matches!(spare.child.try_wait(), Ok(None)) {
                break Some(spare);
            }
        };
        let taken = match spare {
            Some(spare) => spare,
            None => self.prepare().await?,
        };
        let (spares, scope) = (Arc::clone(self), taken.scope.clone());
        tokio::spawn(async move {
            if let (Some(scope), Some(manager)) = (scope, &spares.way().manager)
                && let Err(why) = manager.describe(&scope, &format!("Started by Yantro: {says}")).await
            {
                tracing::debug!(%why, "a scope keeps its first description");
            }
            spares.fill().await;
        });
        Ok(taken)
    }

    /// Puts recorders at hand, and takes them away again once nobody needed them for a while.
    async fn fill(&self) {
        // Elsewhere there is nothing to be waited for.
        if self.way().manager.is_none() {
            return;
        }
        let Ok(turn) = self.filling.try_lock() else { return };
        while self.ready().len() < AT_HAND {
            match self.prepare().await {
                Ok(spare) => self.ready().push(spare),
                Err(why) => return tracing::debug!(%why, "no recorder is at hand for the next start"),
            }
        }
        drop(turn);
        tokio::time::sleep(KEPT_FOR).await;
        self.ready().retain(|spare| spare.since.elapsed() < KEPT_FOR);
    }

    async fn prepare(&self) -> Result<Waiting, String> {
        let child = recorder::spawn(&self.program).map_err(|e| format!("the recorder cannot be run: {e}"))?;
        let mut waiting = Waiting { child, leave_to: Vec::new(), scope: None, since: Instant::now() };
        let way = self.way();
        if let Some(manager) = &way.manager {
            match Self::scope(manager, waiting.child.id().unwrap_or_default()).await {
                Ok(name) => {
                    waiting.scope = Some(name);
                    return Ok(waiting);
                }
                Err(why) => tracing::warn!(%why, "the host's service manager gives no scope; a control group beside ours is used"),
            }
        }
        waiting.leave_to = way.groups.clone()?;
        Ok(waiting)
    }

    /// Asks the manager for a scope, by its public bus interface, and waits until the recorder is in it.
    async fn scope(manager: &Units, recorder: u32) -> Result<String, String> {
        // A number may be another process's by the time that the scope of an earlier one is still there.
        let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).map_or(0, |d| d.as_millis());
        let name = format!("yantro-act-{recorder}-{now:x}.scope");
        tokio::time::timeout(MOVED_WITHIN, manager.give_scope(&name, recorder, "Yantro: about to start something"))
            .await
            .map_err(|_| "the manager does not answer".to_owned())??;
        let began = Instant::now();
        while began.elapsed() < MOVED_WITHIN {
            let group = std::fs::read_to_string(format!("/proc/{recorder}/cgroup")).unwrap_or_default();
            if group.lines().any(|l| l.ends_with(&name)) {
                return Ok(name);
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
