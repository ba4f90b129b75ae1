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
    commands: OnceLock<Commands>,
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
    pub(crate) fn commands(&self) -> &Commands {
        self.commands.get_or_init(|| Commands::read(&self.ours))
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
    all: OnceLock<Vec<u32>>,
    /// Why it cannot be said whether a process is this service's.
    pub unsaid: Option<String>,
}

impl Tree {
    /// Of what nobody can say whether it is there.
    pub(crate) fn unsaid(why: String) -> Self {
        Self { unsaid: Some(why), ..Self::default() }
    }

    /// One process, where it still runs, and nothing else.
    pub(crate) fn of_one(process: &ProcessId) -> Self {
        let main = Some(process.clone()).filter(ProcessId::is_alive);
        let above = main.as_ref().map(|m| m.pid);
        Self { main, above, ..Self::default() }
    }

    /// What the host's manager counts as a unit's.
    pub(crate) fn of_unit(seen: &UnitSeen) -> Self {
        let main = seen.word.main_pid.and_then(ProcessId::of);
        Self { main, all: OnceLock::from(seen.pids.clone()), ..Self::default() }
    }

    /// Whether nothing of it is left.
    pub fn is_empty(&self) -> bool {
        self.main.is_none() && self.all().is_empty()
    }

    /// Every process of it.
    pub fn all(&self) -> &[u32] {
        self.all.get_or_init(|| {
            let mut all = self.above.map(procs::below).unwrap_or_default();
            all.extend(self.group.as_deref().map(procs::members).unwrap_or_default());
            all.sort_unstable();
            all.dedup();
            if let Some(main) = &self.main
                && !all.contains(&main.pid)
            {
                all.push(main.pid);
            }
            all
        })
    }

    /// What stands for its process on a `process` rung.
    pub(crate) fn process_answer(&self) -> Answer {
        let (pid, which) = match (&self.main, self.all().first()) {
            (Some(main), _) => (main.pid, ""),
            (None, Some(forked)) => (*forked, ", forked away"),
            (None, None) => return Answer::not_yet("no process"),
        };
        // Between being made and becoming its program it is a copy of the recorder: there, and proof of nothing.
        let runs_what = |pid: u32| std::fs::read_link(format!("/proc/{pid}/exe")).ok();
        if self.recorder.and_then(runs_what).is_some_and(|copied| runs_what(pid) == Some(copied)) {
            return Answer::not_yet(format!("process {pid}{which} is not its program yet"));
        }
        Answer::holds(format!("process {pid}{which}"))
    }

    /// Which of its processes holds a socket: most often the main one.
    pub(crate) fn holder(&self, inode: u64) -> Option<u32> {
        let main = self.main.as_ref().and_then(|m| sockets::holder(inode, &[m.pid]));
        main.or_else(|| sockets::holder(inode, self.all()))
    }
}

/// Finds the processes of a service that Yantro starts itself.
pub(crate) fn tree(service: &Service, known: Option<&ActRecord>, round: &Round) -> Tree {
    let ServiceRunner::Process(spec) = &service.runner else { return Tree::default() };
    if let Some(known) = known {
        let main = known.process.clone().filter(ProcessId::is_alive);
        // The recorder adopts what forks away: everything below it belongs to the service.
        let recorder = known.recorder.is_alive().then_some(known.recorder.pid);
        // Of an earlier boot, it may be another's by now.
        let group = known.group.clone().filter(|_| known.recorder.is_of_this_boot());
        if main.is_some() {
            let above = recorder.or(main.as_ref().map(|m| m.pid));
            return Tree { main, above, recorder, group, ..Tree::default() };
        }
        if let Some(recorder) = recorder {
            // Nothing below it: read anew before that is believed, for what was forked away a
            // moment ago may be younger than a shared table.
            let mut all = procs::below(recorder);
            if all.is_empty() {
                all = ProcTable::read().below(recorder);
            }
            if !all.is_empty() {
                return Tree { above: Some(recorder), recorder: Some(recorder), group, ..Tree::default() };
            }
        }
        // The recorder was ended, and what the service left behind with it handed on: its group still has it.
        if let Some(group) = group.filter(|group| !procs::members(group).is_empty()) {
            return Tree { group: Some(group), recorder, ..Tree::default() };
        }
    }
    // Started by an earlier server whose records are gone, or by hand: known by its command line.
    if spec.program.is_empty() {
        return Tree::default();
    }
    let found = told(spec, round).and_then(|told| round.commands().find(&service.address, &spec.program, &spec.args, &told));
    match found {
        Ok(main) => {
            let above = main.as_ref().map(|m| m.pid);
            Tree { main, above, ..Tree::default() }
        }
        Err(why) => Tree::unsaid(why),
    }
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
