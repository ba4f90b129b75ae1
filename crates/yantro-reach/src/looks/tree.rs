//! Which processes are a service's, and what one round of looks shares.

use std::{
    collections::{BTreeMap, BTreeSet},
    path::PathBuf,
    sync::{Arc, Mutex, OnceLock},
    time::{Duration, Instant},
};

use yantro_core::{
    model::{ProcessSpec, Service, ServiceRunner},
    proof::Answer,
    words::name::Address,
};

use crate::{
    acts::{recorder::ActRecord, secrets::Secrets},
    looks::{
        procs::{self, Commands, Ours, ProcTable, ProcessId, Told},
        sockets::{self, SocketTable},
        units::UnitSeen,
    },
};

/// What one round of looks shares: the process and socket tables are read once, and only if wanted.
pub struct Round {
    ours: Ours,
    commands: OnceLock<Result<Commands, String>>,
    sockets: OnceLock<Result<Arc<SocketTable>, String>>,
    /// What was read before this is too old.
    since: Option<Instant>,
    /// What references stand for: some of it tells processes apart.
    secrets: Arc<Mutex<Secrets>>,
}

/// How old a socket table may be: many climbs at once read one. An older table only delays a
/// verdict; what speaks against a service is always read anew.
const SHARED_FOR: Duration = Duration::from_millis(8);

fn shared_sockets(since: Option<Instant>) -> Result<Arc<SocketTable>, String> {
    static LAST: Mutex<Option<(Instant, Arc<SocketTable>)>> = Mutex::new(None);
    let mut last = LAST.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
    if let Some((at, table)) = &*last
        && since.map_or_else(|| at.elapsed() < SHARED_FOR, |since| *at >= since)
    {
        return Ok(Arc::clone(table));
    }
    let at = Instant::now();
    let table = Arc::new(SocketTable::read().map_err(|e| e.to_string())?);
    *last = Some((at, Arc::clone(&table)));
    Ok(table)
}

impl Round {
    /// A round that believes no table older than this moment, where one is named.
    pub(crate) fn new(ours: Ours, secrets: Arc<Mutex<Secrets>>, since: Option<Instant>) -> Self {
        Self { ours, commands: OnceLock::new(), sockets: OnceLock::new(), since, secrets }
    }
    pub(crate) fn commands(&self) -> Result<&Commands, String> {
        let read = || Commands::read(&self.ours).map_err(|e| format!("the table of processes cannot be read: {e}"));
        self.commands.get_or_init(read).as_ref().map_err(Clone::clone)
    }
    /// The service that a process, or one that it is below, was started as by us.
    pub(crate) fn ours(&self, pid: u32) -> Option<Address> {
        self.ours.of(pid)
    }
    pub(crate) fn sockets(&self) -> Result<&SocketTable, &String> {
        self.sockets.get_or_init(|| shared_sockets(self.since)).as_ref().map(AsRef::as_ref)
    }
}

/// The processes of a service: its main one where it still runs, and all that belongs to it, which
/// is worked out only when asked for.
#[derive(Debug, Clone, Default)]
pub(crate) struct Tree {
    pub main: Option<ProcessId>,
    /// The process that all others are below.
    above: Option<u32>,
    /// The recorder beside it, where it still runs.
    recorder: Option<u32>,
    /// The control group of its start, where that has one for itself.
    pub group: Option<PathBuf>,
    all: OnceLock<Result<Vec<u32>, String>>,
    /// Why it cannot be said whether a process is this service's.
    unsaid: Option<String>,
}

/// Why nothing is known of a process.
fn unread(pid: u32, why: &std::io::Error) -> String {
    format!("process {pid} cannot be read: {why}")
}

impl Tree {
    /// Of what nobody can say whether it is there.
    pub(crate) fn unsaid(why: String) -> Self {
        Self { unsaid: Some(why), ..Self::default() }
    }

    /// One process, where it still runs, and nothing else.
    pub(crate) fn of_one(process: &ProcessId) -> Self {
        let main = match process.runs() {
            Ok(runs) => runs.then(|| process.clone()),
            Err(why) => return Self::unsaid(unread(process.pid, &why)),
        };
        let above = main.as_ref().map(|m| m.pid);
        Self { main, above, ..Self::default() }
    }

    /// What the host's manager counts as a unit's.
    pub(crate) fn of_unit(seen: &UnitSeen) -> Self {
        let main = seen.word.main_pid.map_or(Ok(None), |pid| match ProcessId::of(pid) {
            // Another account's, and this system keeps it to that one: the manager has said that it is there.
            Err(why) if why.kind() == std::io::ErrorKind::PermissionDenied => Ok(None),
            found => found.map_err(|why| unread(pid, &why)),
        });
        match main {
            Ok(main) => Self { main, all: OnceLock::from(Ok(seen.pids.clone())), ..Self::default() },
            Err(why) => Self::unsaid(why),
        }
    }

    /// Whether nothing of it is left.
    ///
    /// # Errors
    /// In words: nobody can say.
    pub fn is_empty(&self) -> Result<bool, String> {
        Ok(self.main.is_none() && self.all()?.is_empty())
    }

    /// Every process of it.
    ///
    /// # Errors
    /// In words: nobody can say which those are.
    pub fn all(&self) -> Result<&[u32], String> {
        if let Some(why) = &self.unsaid {
            return Err(why.clone());
        }
        self.all.get_or_init(|| self.read().map_err(|e| format!("its processes cannot be read: {e}"))).as_deref().map_err(Clone::clone)
    }

    fn read(&self) -> std::io::Result<Vec<u32>> {
        let mut all = self.above.map_or_else(|| Ok(Vec::new()), procs::below)?;
        if let Some(group) = &self.group {
            all.extend(procs::members(group)?);
        }
        all.sort_unstable();
        all.dedup();
        if let Some(main) = &self.main
            && !all.contains(&main.pid)
        {
            all.push(main.pid);
        }
        Ok(all)
    }

    /// What stands for its process on a `process` rung.
    pub(crate) fn process_answer(&self) -> Answer {
        if let Some(why) = &self.unsaid {
            return Answer::could_not(why.clone());
        }
        let (pid, which) = match (&self.main, self.main.is_none().then(|| self.all())) {
            (Some(main), _) => (main.pid, ""),
            (None, Some(Ok([forked, ..]))) => (*forked, ", forked away"),
            (None, Some(Err(why))) => return Answer::could_not(why),
            (None, _) => return Answer::not_yet("no process"),
        };
        // Between being made and becoming its program it is a copy of the recorder: there, and proof of nothing.
        let runs_what = |pid: u32| std::fs::read_link(format!("/proc/{pid}/exe")).ok();
        if self.recorder.and_then(runs_what).is_some_and(|copied| runs_what(pid) == Some(copied)) {
            return Answer::not_yet(format!("process {pid}{which} is not its program yet"));
        }
        Answer::holds(format!("process {pid}{which}"))
    }

    /// Which of its processes holds a socket: most often the main one.
    ///
    /// # Errors
    /// In words: nobody can say whether one of them does.
    pub(crate) fn holder(&self, inode: u64) -> Result<Option<u32>, String> {
        let among = |pids: &[u32]| sockets::holder(inode, pids).map_err(|e| format!("what its processes hold cannot be read: {e}"));
        match self.main.as_ref().map_or(Ok(None), |main| among(&[main.pid]))? {
            None => among(self.all()?),
            main => Ok(main),
        }
    }
}

/// Finds the processes of a service that Yantro starts itself.
pub(crate) fn tree(service: &Service, known: Option<&ActRecord>, round: &Round) -> Tree {
    let ServiceRunner::Process(spec) = &service.runner else { return Tree::default() };
    tree_of(service, spec, known, round).unwrap_or_else(Tree::unsaid)
}

fn tree_of(service: &Service, spec: &ProcessSpec, known: Option<&ActRecord>, round: &Round) -> Result<Tree, String> {
    if let Some(known) = known {
        let runs = |process: &ProcessId| process.runs().map_err(|why| unread(process.pid, &why));
        let main = known.process.as_ref().map_or(Ok(false), runs)?.then(|| known.process.clone()).flatten();
        // The recorder adopts what forks away: everything below it belongs to the service.
        let recorder = runs(&known.recorder)?.then_some(known.recorder.pid);
        // Of an earlier boot, it may be another's by now.
        let group = known.group.clone().filter(|_| known.recorder.is_of_this_boot());
        if main.is_some() {
            let above = recorder.or(main.as_ref().map(|m| m.pid));
            return Ok(Tree { main, above, recorder, group, ..Tree::default() });
        }
        if let Some(recorder) = recorder {
            // Nothing below it: read anew before that is believed, for what was forked away a
            // moment ago may be younger than a shared table.
            let mut all = procs::below(recorder).map_err(|why| unread(recorder, &why))?;
            if all.is_empty() {
                all = ProcTable::read().map_err(|why| unread(recorder, &why))?.below(recorder);
            }
            if !all.is_empty() {
                return Ok(Tree { above: Some(recorder), recorder: Some(recorder), group, ..Tree::default() });
            }
        }
        // The recorder was ended, and what the service left behind with it handed on: its group still has it.
        if let Some(group) = group {
            let members = procs::members(&group).map_err(|why| format!("its control group cannot be read: {why}"))?;
            if !members.is_empty() {
                return Ok(Tree { group: Some(group), recorder, ..Tree::default() });
            }
        }
    }
    // Started by an earlier server whose records are gone, or by hand: known by its command line.
    if spec.program.is_empty() {
        return Ok(Tree::default());
    }
    let main = round.commands()?.find(&service.address, &spec.program, &spec.args, &told(spec, round)?)?;
    let above = main.as_ref().map(|m| m.pid);
    Ok(Tree { main, above, ..Tree::default() })
}

/// What a process of a service must be besides its command line, where other services have the same.
fn told<'s>(spec: &'s ProcessSpec, round: &Round) -> Result<Told<'s>, String> {
    let of_it: BTreeMap<String, String> =
        spec.env.iter().filter(|(n, _)| spec.apart.env.contains(*n)).map(|(n, v)| (n.clone(), v.clone())).collect();
    let values = round.secrets.lock().unwrap_or_else(std::sync::PoisonError::into_inner).resolve(&of_it, &BTreeSet::new())?;
    let env = spec.apart.env.iter().map(|name| (name.as_str(), values.get(name).cloned())).collect();
    let own = nix::unistd::geteuid();
    // Where accounts tell services apart, nobody's is everybody else's; else what root started may have taken one on by itself.
    let by_default = (spec.user.is_none() && (spec.apart.user || !own.is_root())).then_some(own.as_raw());
    let dir = spec.apart.dir.then_some(spec.dir.as_str());
    Ok(Told { env, dir, account: spec.user.as_deref(), by_default, is_apart: spec.apart.user })
}
