//! Looks at a service: its process, and each rung of its ladder. A look never changes anything.

use std::{
    collections::{BTreeMap, BTreeSet},
    net::IpAddr,
    path::Path,
    sync::{Arc, Mutex, OnceLock},
    time::{Duration, Instant},
};

use serde::{Deserialize, Serialize};
use yantro_core::{
    estate::{ProcessSpec, Rung, RungKind, Service, ServiceRunner},
    manager::{UnitTerms, UnitWord},
    name::HostName,
    sequence::Task,
    state::{Answer, Verdict},
    survey::{FoundPort, Survey},
    time::Timestamp,
};

use crate::{
    acts::recorder::ActRecord,
    acts::secrets::Secrets,
    here::Here,
    looks::hung,
    looks::procs::{self, Commands, Ours, ProcTable, ProcessId, Told},
    looks::sockets::{self, SocketTable},
    looks::units::UnitSeen,
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
    pub(crate) fn commands(&self) -> &Commands {
        self.commands.get_or_init(|| Commands::read(&self.ours))
    }
    fn sockets(&self) -> Result<&SocketTable, &String> {
        self.sockets.get_or_init(|| shared_sockets(self.since)).as_ref().map(AsRef::as_ref)
    }
}

impl Here {
    /// A round of looks. Tables of a moment ago will do.
    pub fn round(&self) -> Round {
        Round { ours: self.ours.clone(), commands: OnceLock::new(), sockets: OnceLock::new(), since: None, secrets: self.shared_secrets() }
    }

    /// A round that believes no table older than this moment: something was told just now.
    pub fn round_from_now(&self) -> Round {
        Round { since: Some(Instant::now()), ..self.round() }
    }
}

/// What a look at a whole service found, before it is judged.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct RawLook {
    /// Whether something of it runs; `None` where that cannot be said.
    pub runs: Option<bool>,
    /// Its main process.
    pub main: Option<ProcessId>,
    /// What the host's service manager says of it, where that runs it.
    pub manager: Option<UnitWord>,
    /// The answers, rung by rung, up to the first that does not hold.
    pub rungs: Vec<Answer>,
    /// How many rungs there are.
    pub total: usize,
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
            if let Some(main) = &self.main
                && !all.contains(&main.pid)
            {
                all.push(main.pid);
            }
            all
        })
    }

    /// What stands for its process on a `process` rung.
    fn process_answer(&self) -> Answer {
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
    fn holder(&self, inode: u64) -> Option<u32> {
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
        if main.is_some() {
            let above = recorder.or(main.as_ref().map(|m| m.pid));
            return Tree { main, above, recorder, ..Tree::default() };
        }
        if let Some(recorder) = recorder {
            // Nothing below it: read anew before that is believed, for what was forked away a
            // moment ago may be younger than a shared table.
            let mut all = procs::below(recorder);
            if all.is_empty() {
                all = ProcTable::read().below(recorder);
            }
            if !all.is_empty() {
                return Tree { above: Some(recorder), recorder: Some(recorder), all: OnceLock::from(all), ..Tree::default() };
            }
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
    if spec.apart.is_needless() {
        return Ok(Told::default());
    }
    let of_it: BTreeMap<String, String> =
        spec.env.iter().filter(|(n, _)| spec.apart.env.contains(*n)).map(|(n, v)| (n.clone(), v.clone())).collect();
    let values = round.secrets.lock().unwrap_or_else(std::sync::PoisonError::into_inner).resolve(&of_it, &BTreeSet::new())?;
    let env = spec.apart.env.iter().map(|name| (name.as_str(), values.get(name).cloned())).collect();
    let uid = match (spec.apart.user, &spec.user) {
        (false, _) => None,
        (true, None) => Some(nix::unistd::geteuid().as_raw()),
        (true, Some(name)) => {
            Some(crate::acts::accounts::Account::named(name).ok_or_else(|| format!("there is no account \"{name}\""))?.uid)
        }
    };
    Ok(Told { env, dir: spec.apart.dir.then_some(spec.dir.as_str()), uid })
}

impl Here {
    /// Looks at a whole service.
    pub async fn look(&self, service: &Service, known: Option<&ActRecord>, round: &Round) -> RawLook {
        self.learn(&crate::here::references_of(service));
        let unit = self.unit_of(service).await;
        let tree = match &unit {
            Some(Ok(seen)) => Tree::of_unit(seen),
            Some(Err(why)) => Tree::unsaid(why.clone()),
            None => tree(service, known, round),
        };
        let total = service.ladder.len();
        if let Some(why) = &tree.unsaid {
            return RawLook { runs: None, main: None, manager: None, rungs: vec![Answer::could_not(why.clone())], total };
        }
        let mut runs = match &service.runner {
            ServiceRunner::Systemd(_) => match &unit {
                Some(Ok(seen)) => Some(seen.word.runs()),
                // Neither up nor down: nobody can say.
                _ => None,
            },
            ServiceRunner::Process(spec) if !spec.program.is_empty() => Some(!tree.is_empty()),
            ServiceRunner::Process(_) | ServiceRunner::Commands(_) => None,
            // Looked at by whoever reaches its host.
            ServiceRunner::Host(_) | ServiceRunner::Outlet(_) | ServiceRunner::Simulated(_) => None,
        };
        let mut rungs = Vec::new();
        for (i, rung) in service.ladder.iter().enumerate() {
            // What does not run has no pages; whether its port is free is still worth knowing. Where a manager says that
            // it does not run, its own answers are the other witness.
            let witness = unit.is_some() && matches!(rung.kind, RungKind::Connect { .. } | RungKind::Web { .. });
            if runs == Some(false) && !witness && !matches!(rung.kind, RungKind::Port { .. } | RungKind::Process | RungKind::Manager) {
                continue;
            }
            let answer = match (&rung.kind, &unit) {
                (RungKind::Manager, Some(Ok(seen))) => seen.word.answer(None, false),
                (RungKind::Manager, Some(Err(why))) => Answer::could_not(why.clone()),
                _ => self.rung(service, rung, &tree, None, round).await,
            };
            if runs == Some(false) && witness && answer.verdict == Verdict::Holds {
                // The graver of the two (R16): up for a stop, and not proven.
                let manager = unit.as_ref().and_then(|u| u.as_ref().ok()).map(|s| s.word.state()).unwrap_or_default();
                let says = format!("its manager says {manager}, and yet {}", answer.says);
                return RawLook {
                    runs: Some(true),
                    main: None,
                    manager: unit.and_then(Result::ok).map(|s| s.word),
                    rungs: vec![Answer::not_yet(says)],
                    total,
                };
            }
            if rung.kind == RungKind::State {
                runs = match answer.verdict {
                    Verdict::Holds => Some(true),
                    Verdict::NotYet | Verdict::Against => Some(false),
                    Verdict::CouldNotLook => None,
                };
            }
            let holds = answer.verdict == Verdict::Holds;
            rungs.push(answer);
            if !holds && runs != Some(false) {
                break;
            }
            if i + 1 == total && runs.is_none() && service.runner_is_watched_only() {
                runs = Some(true);
            }
        }
        if runs.is_none() && service.runner_is_watched_only() {
            // Watched only: what does not answer at all is down, as far as anyone here can see.
            runs = rungs.first().and_then(|a| match a.verdict {
                Verdict::Holds => Some(true),
                Verdict::NotYet | Verdict::Against => Some(false),
                Verdict::CouldNotLook => None,
            });
        }
        RawLook { runs, main: tree.main, manager: unit.and_then(Result::ok).map(|s| s.word), rungs, total }
    }

    /// What the host's manager says of a service that it runs; nothing of others.
    pub(crate) async fn unit_of(&self, service: &Service) -> Option<Result<UnitSeen, String>> {
        let ServiceRunner::Systemd(spec) = &service.runner else { return None };
        Some(self.units.look(&spec.unit).await)
    }

    /// On what terms the manager acts on units, each that it knows.
    pub async fn terms(&self, units: &[String]) -> BTreeMap<String, UnitTerms> {
        let mut all = BTreeMap::new();
        for unit in units {
            match self.units.terms(unit).await {
                Ok(terms) => drop(all.insert(unit.clone(), terms)),
                Err(why) => tracing::warn!(%unit, %why, "the manager's terms are not known"),
            }
        }
        all
    }

    /// Looks through this host: the manager's services with their ports, and the ports of nobody of them.
    pub async fn survey(&self) -> Result<Survey, String> {
        let mut services = self.units.services().await?;
        let table = SocketTable::read().map_err(|e| format!("the socket table cannot be read: {e}"))?;
        let mut others = Vec::new();
        for socket in table.all() {
            let holder = services.iter().find_map(|(_, pids)| sockets::holder(socket.inode, pids));
            let holder = holder.or_else(|| sockets::any_holder(socket.inode));
            let port = FoundPort { port: socket.port, on: socket.ip.to_string(), process: holder.map(procs::name) };
            match services.iter_mut().find(|(_, pids)| holder.is_some_and(|h| pids.contains(&h))) {
                Some((unit, _)) => unit.ports.push(port),
                None => others.push(port),
            }
        }
        for (unit, _) in &mut services {
            unit.ports.sort();
            unit.ports.dedup();
        }
        others.sort();
        Ok(Survey { units: services.into_iter().map(|(unit, _)| unit).collect(), others })
    }

    /// Why a running service's restart is owed by what lies on disk: its program, its configuration or a library
    /// is newer than its start (N56).
    pub fn owed_by_files(&self, service: &Service, started_at: Timestamp, pid: Option<u32>) -> Option<String> {
        let newer = |path: &str| {
            let of = path.to_owned();
            let found = hung::blocking(&format!("the file {path}"), hung::WITHIN, move || std::fs::metadata(of)).ok()?;
            let written = found.ok()?.modified().ok()?.duration_since(std::time::UNIX_EPOCH).ok()?;
            (Timestamp::from_ms(written.as_millis() as i64) > started_at).then(|| path.to_owned())
        };
        if let Some(path) = service.configuration.iter().find_map(|c| newer(c)) {
            return Some(format!("{path} was written after its start"));
        }
        if let ServiceRunner::Process(p) = &service.runner
            && let Some(path) = newer(&p.program)
        {
            return Some(format!("its program {path} is newer than its start"));
        }
        // What was replaced while it runs is still mapped, under a name that is gone.
        let maps = std::fs::read_to_string(format!("/proc/{}/maps", pid?)).ok()?;
        // Programs and libraries are mapped to be executed; shared memory and the like is not, and is no concern here.
        let gone = maps.lines().filter_map(|l| l.strip_suffix(" (deleted)")).filter_map(|l| {
            let mut fields = l.split_ascii_whitespace();
            fields.nth(1).filter(|may| may.contains('x'))?;
            fields.nth(3)
        });
        let replaced = gone.filter(|path| path.starts_with('/')).find(|path| Path::new(path).exists());
        replaced.map(|path| format!("{path} was replaced while it runs"))
    }

    /// Looks once at something that is no service's.
    pub async fn look_once(&self, host: &HostName, rung: &Rung, round: &Round) -> Answer {
        let task = Task::Look { host: host.clone(), rung: rung.clone() };
        let Some(service) = task.as_service("look", None, yantro_core::time::Span::default()) else {
            return Answer::could_not("there is nothing to look at");
        };
        let tree = tree(&service, None, round);
        let answer = self.rung(&service, rung, &tree, None, round).await;
        Answer { says: self.mask(&answer.says), ..answer }
    }

    /// Looks at one rung.
    pub(crate) async fn rung(&self, service: &Service, rung: &Rung, tree: &Tree, since: Option<Timestamp>, round: &Round) -> Answer {
        match &rung.kind {
            RungKind::Process if tree.unsaid.is_some() => Answer::could_not(tree.unsaid.clone().unwrap_or_default()),
            RungKind::Process => tree.process_answer(),
            RungKind::Port { port, on, held_by_any } => port_answer(*port, on.as_deref(), *held_by_any, service, tree, round),
            RungKind::Connect { port, to } => match connect(to, *port).await {
                answer if answer.verdict == Verdict::Holds => by_itself(answer, to, *port, service, tree, round),
                answer => answer,
            },
            RungKind::Ping { to } => ping(to).await,
            RungKind::Web { url, .. } => match (self.web(&rung.kind).await, target_of(url)) {
                (answer, Some((host, port))) if answer.verdict == Verdict::Holds => by_itself(answer, &host, port, service, tree, round),
                (answer, _) => answer,
            },
            RungKind::Command { command, holds, not_yet, within } => self.command_answer(service, command, holds, not_yet, within.0).await,
            RungKind::State => {
                let ServiceRunner::Commands(spec) = &service.runner else { return Answer::could_not("it has no state command") };
                if spec.state.is_empty() {
                    return Answer::could_not("it has no state command");
                }
                self.command_answer(service, &spec.state, &spec.state_up, &spec.state_down, spec.within.0).await
            }
            RungKind::Booted => match self.units.system_state().await {
                // Degraded: through with booting, and some unit failed; which of them matters is its service's own ladder's.
                Ok(state) if state == "running" => Answer::holds("its manager is through with booting"),
                Ok(state) if state == "degraded" => Answer::holds("its manager is through with booting, and some unit failed"),
                Ok(state) => Answer::not_yet(format!("its manager says {state}")),
                Err(why) => Answer::could_not(why),
            },
            RungKind::Power | RungKind::Reached => Answer::could_not("that is looked at from outside"),
            RungKind::Manager => match self.unit_of(service).await {
                Some(Ok(seen)) => seen.word.answer(None, false),
                Some(Err(why)) => Answer::could_not(why),
                None => Answer::could_not("its host's manager does not run it"),
            },
            RungKind::File { path, since_start, newer_than, at_least } => {
                let (of, since, newer_than, at_least) =
                    (path.clone(), since_start.then_some(since).flatten(), newer_than.map(|n| n.0), *at_least);
                hung::look(format!("the file {path}"), move || file(&of, since, newer_than, at_least)).await
            }
            RungKind::Mount { path } => mount(path),
            RungKind::Room { path, bytes } => {
                let (of, bytes) = (path.clone(), *bytes);
                hung::look(format!("the room on {path}"), move || room(&of, bytes)).await
            }
            RungKind::Account { account } => {
                let of = account.clone();
                hung::look(format!("the account {account}"), move || match crate::acts::accounts::Account::named(&of) {
                    Some(user) => Answer::holds(format!("{of} is there (uid {})", user.uid)),
                    None => Answer::not_yet(format!("there is no account {of}")),
                })
                .await
            }
            RungKind::Owner { path, account } => {
                let (of, by) = (path.clone(), account.clone());
                hung::look(format!("the owner of {path}"), move || owner(&of, &by)).await
            }
            RungKind::PortFree { port, on } => port_free(*port, on.as_deref(), round),
            RungKind::Program { program } => {
                let of = program.clone();
                hung::look(format!("the program {program}"), move || program_there(&of)).await
            }
            // Logs are watched from an act's positions on, not looked at.
            RungKind::Log => Answer::holds("log"),
        }
    }

    async fn command_answer(&self, service: &Service, command: &[String], holds: &[i32], not_yet: &[i32], within: Duration) -> Answer {
        let Some((program, args)) = command.split_first() else { return Answer::could_not("there is no command") };
        let (root, none, no_names) = ("/".to_owned(), BTreeMap::new(), BTreeSet::new());
        let (dir, env, to_the_letter) = match &service.runner {
            ServiceRunner::Process(p) => (&p.dir, &p.env, &no_names),
            ServiceRunner::Commands(c) => (&c.dir, &c.env, &c.to_the_letter),
            _ => (&root, &none, &no_names),
        };
        let env = match self.secrets().resolve(env, to_the_letter) {
            Ok(env) => env,
            Err(why) => return Answer::could_not(why),
        };
        let run = tokio::process::Command::new(program)
            .args(args)
            .current_dir(dir)
            .envs(env)
            .stdin(std::process::Stdio::null())
            .kill_on_drop(true)
            .output();
        match tokio::time::timeout(within, run).await {
            Err(_) => Answer::could_not(format!("{program} did not end within {within:?}")),
            Ok(Err(error)) => Answer::could_not(format!("{program} cannot be run: {error}")),
            Ok(Ok(out)) => {
                let text = String::from_utf8_lossy(&out.stdout);
                let last = self.secrets().mask(text.lines().rev().find(|l| !l.trim().is_empty()).unwrap_or_default().trim());
                let said = if last.is_empty() { String::new() } else { format!(": {last}") };
                match out.status.code() {
                    Some(code) if holds.contains(&code) => Answer::holds(format!("exit {code}{said}")),
                    Some(code) if not_yet.contains(&code) => Answer::not_yet(format!("exit {code}{said}")),
                    // An undeclared exit code says nothing (R14).
                    Some(code) => Answer::could_not(format!("exit code {code} is not declared{said}")),
                    None => Answer::could_not("it was ended by a signal"),
                }
            }
        }
    }

    async fn web(&self, kind: &RungKind) -> Answer {
        let RungKind::Web { url, status, contains, not_yet, pointer, equals, verify_tls, within } = kind else {
            return Answer::could_not("this is no page");
        };
        let asked = self.http(*verify_tls).get(url).timeout(within.0).send().await;
        let answer = match asked {
            Ok(answer) => answer,
            Err(error) if error.is_timeout() => return Answer::not_yet(format!("no answer within {within}")),
            Err(error) => return Answer::not_yet(format!("no answer: {}", root_cause(&error))),
        };
        let code = answer.status().as_u16();
        let fits = if status.is_empty() { (200..300).contains(&code) } else { status.contains(&code) };
        let mut answer = answer;
        let mut body: Vec<u8> = Vec::new();
        // A page is judged by its first megabyte.
        while body.len() < 1024 * 1024 {
            match answer.chunk().await {
                Ok(Some(chunk)) => body.extend_from_slice(&chunk),
                Ok(None) => break,
                Err(error) => return Answer::not_yet(format!("{code}, and the page broke off: {}", root_cause(&error))),
            }
        }
        let text = String::from_utf8_lossy(&body);
        let first = text.lines().find(|l| !l.trim().is_empty()).unwrap_or_default().trim().chars().take(80).collect::<String>();
        if let Some(starting) = not_yet
            && text.contains(starting.as_str())
        {
            return Answer::not_yet(format!("{code}: \"{first}\""));
        }
        if !fits {
            return Answer::not_yet(format!("{code}: \"{first}\""));
        }
        if let Some(wanted) = contains
            && !text.contains(wanted.as_str())
        {
            return Answer::not_yet(format!("{code}, without \"{wanted}\""));
        }
        if let Some(pointer) = pointer {
            let Ok(value) = serde_json::from_str::<serde_json::Value>(&text) else {
                return Answer::not_yet(format!("{code}, and the page is not JSON"));
            };
            let found = value.pointer(pointer).map(|v| v.as_str().map_or_else(|| v.to_string(), str::to_owned));
            return match (found, equals) {
                (None, _) => Answer::not_yet(format!("{code}, and nothing is at {pointer}")),
                (Some(is), Some(wanted)) if is != *wanted => Answer::not_yet(format!("{code}: {pointer} is \"{is}\"")),
                (Some(is), _) => Answer::holds(format!("{code}: {pointer} is \"{is}\"")),
            };
        }
        Answer::holds(format!("{code}"))
    }
}

pub(crate) fn root_cause(error: &(dyn std::error::Error + 'static)) -> String {
    let mut at = error;
    while let Some(source) = at.source() {
        at = source;
    }
    at.to_string()
}

fn port_answer(port: u16, on: Option<&str>, held_by_any: bool, service: &Service, tree: &Tree, round: &Round) -> Answer {
    let table = match round.sockets() {
        Ok(table) => table,
        Err(error) => return Answer::could_not(format!("the socket table cannot be read: {error}")),
    };
    let on: Option<IpAddr> = on.and_then(|a| a.parse().ok());
    let found = table.listening(port, on);
    let Some(first) = found.first() else { return Answer::not_yet(format!("nothing listens on port {port}")) };
    if let Some(pid) = found.iter().find_map(|l| tree.holder(l.inode)) {
        return Answer::holds(format!("process {pid} listens on {port}"));
    }
    // Who is not known to be it is not known to be another either.
    if let (Some(why), false) = (&tree.unsaid, held_by_any) {
        return Answer::could_not(format!("port {port} is held, and it cannot be said by whom: {why}"));
    }
    // Before a stranger is named, the table is read anew: this one may be a moment old.
    let now = SocketTable::read().map(|t| t.listening(port, on)).unwrap_or_default();
    let Some(first) = now.iter().find(|l| l.inode == first.inode) else {
        return Answer::not_yet(format!("nothing listens on port {port} yet"));
    };
    let holder = sockets::any_holder(first.inode);
    let named = holder.map_or("a process that cannot be seen".to_owned(), |pid| format!("{} (process {pid})", procs::name(pid)));
    let is_own = match &service.runner {
        ServiceRunner::Process(p) => !p.program.is_empty(),
        ServiceRunner::Systemd(_) => true,
        ServiceRunner::Commands(_) | ServiceRunner::Host(_) | ServiceRunner::Outlet(_) | ServiceRunner::Simulated(_) => false,
    };
    if holder.is_none() && is_own && !held_by_any && !nix::unistd::geteuid().is_root() {
        return Answer::could_not(format!(
            "port {port} is held, and this account may not see by whom: let the outpost run as root, or write `held_by_any = true`"
        ));
    }
    if held_by_any || !is_own {
        Answer::holds(format!("port {port} held by {named}"))
    } else {
        Answer::against(format!("port {port} is held by {named}, which is not {}", service.address))
    }
}

/// The host and port that a page is asked at.
fn target_of(url: &str) -> Option<(String, u16)> {
    let url = reqwest::Url::parse(url).ok()?;
    Some((url.host_str()?.trim_start_matches('[').trim_end_matches(']').to_owned(), url.port_or_known_default()?))
}

/// An answer that came from this machine is a proof only where the service's own process gave it: who holds the port is asked
/// for. What stands in front of a service on purpose is said by a `port` rung with `held_by_any`.
fn by_itself(answer: Answer, to: &str, port: u16, service: &Service, tree: &Tree, round: &Round) -> Answer {
    let is_own = match &service.runner {
        ServiceRunner::Process(p) => !p.program.is_empty(),
        ServiceRunner::Systemd(_) => true,
        ServiceRunner::Commands(_) | ServiceRunner::Host(_) | ServiceRunner::Outlet(_) | ServiceRunner::Simulated(_) => false,
    };
    let by_any = service.ladder.iter().any(|r| matches!(&r.kind, RungKind::Port { port: p, held_by_any: true, .. } if *p == port));
    let ip = if to.eq_ignore_ascii_case("localhost") { Some(IpAddr::from([127, 0, 0, 1])) } else { to.parse().ok() };
    let Some(ip) = ip.filter(|ip| is_own && !by_any && is_local(ip)) else { return answer };
    let held = port_answer(port, Some(&ip.to_string()), false, service, tree, round);
    match held.verdict {
        Verdict::Against => Answer::against(format!("{}, but {}", answer.says, held.says)),
        Verdict::CouldNotLook => held,
        // It was there a moment ago: whoever answered is gone, or is none of this machine's.
        Verdict::Holds | Verdict::NotYet => answer,
    }
}

/// Whether an address is one of this machine's own.
fn is_local(ip: &IpAddr) -> bool {
    if ip.is_loopback() {
        return true;
    }
    let own = nix::ifaddrs::getifaddrs().into_iter().flatten().filter_map(|i| i.address);
    own.into_iter().any(|a| match ip {
        IpAddr::V4(ip) => a.as_sockaddr_in().is_some_and(|s| s.ip() == *ip),
        IpAddr::V6(ip) => a.as_sockaddr_in6().is_some_and(|s| s.ip() == *ip),
    })
}

async fn connect(to: &str, port: u16) -> Answer {
    let connected = async {
        let found = crate::acts::accounts::addresses(to, port).await?;
        tokio::net::TcpStream::connect(found.as_slice()).await
    };
    match tokio::time::timeout(Duration::from_secs(3), connected).await {
        Ok(Ok(_)) => Answer::holds(format!("{to}:{port} accepts")),
        Ok(Err(error)) => Answer::not_yet(format!("{to}:{port}: {error}")),
        Err(_) => Answer::not_yet(format!("{to}:{port}: no answer within 3s")),
    }
}

/// An ICMP echo over the unprivileged socket where that is allowed, else over a raw one.
async fn ping(to: &str) -> Answer {
    let Ok(ip) = to.parse::<std::net::Ipv4Addr>() else { return Answer::could_not(format!("{to} is no IPv4 address")) };
    match tokio::task::spawn_blocking(move || crate::here::echo(ip, Duration::from_secs(1))).await {
        Ok(Ok(true)) => Answer::holds(format!("{to} answers")),
        Ok(Ok(false)) => Answer::not_yet(format!("{to} does not answer within 1s")),
        Ok(Err(error)) => Answer::could_not(format!("a ping cannot be sent: {error}")),
        Err(_) => Answer::could_not("the ping was broken off"),
    }
}

fn room(path: &str, wanted: u64) -> Answer {
    match nix::sys::statvfs::statvfs(path) {
        Ok(stat) => {
            let free = stat.blocks_available() * stat.fragment_size();
            let says = format!("{} MB free on {path}", free / 1_000_000);
            if free >= wanted {
                Answer::holds(says)
            } else {
                Answer::not_yet(format!("{says}, and {} MB are wanted", wanted.div_ceil(1_000_000)))
            }
        }
        Err(nix::errno::Errno::ENOENT) => Answer::not_yet(format!("no {path}")),
        Err(error) => Answer::could_not(format!("{path}: {error}")),
    }
}

fn owner(path: &str, account: &str) -> Answer {
    use std::os::unix::fs::MetadataExt;
    let meta = match std::fs::metadata(path) {
        Ok(meta) => meta,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Answer::not_yet(format!("no {path}")),
        Err(error) => return Answer::could_not(format!("{path}: {error}")),
    };
    let is = crate::acts::accounts::Account::of_uid(meta.uid()).map_or_else(|| format!("uid {}", meta.uid()), |u| u.name);
    if is == account { Answer::holds(format!("{path} belongs to {is}")) } else { Answer::not_yet(format!("{path} belongs to {is}")) }
}

fn port_free(port: u16, on: Option<&str>, round: &Round) -> Answer {
    let table = match round.sockets() {
        Ok(table) => table,
        Err(error) => return Answer::could_not(format!("the socket table cannot be read: {error}")),
    };
    match table.listening(port, on.and_then(|a| a.parse().ok())).first() {
        None => Answer::holds(format!("port {port} is free")),
        Some(held) => {
            let holder = sockets::any_holder(held.inode);
            let named = holder.map_or("a process that cannot be seen".to_owned(), |pid| format!("{} (process {pid})", procs::name(pid)));
            Answer::not_yet(format!("port {port} is held by {named}"))
        }
    }
}

fn program_there(program: &str) -> Answer {
    let path = std::env::var("PATH").unwrap_or_else(|_| "/usr/local/bin:/usr/bin:/bin".to_owned());
    let Some(found) = crate::here::in_path(program, &path) else { return Answer::not_yet(format!("there is no program {program}")) };
    match nix::unistd::access(found.as_str(), nix::unistd::AccessFlags::X_OK) {
        Ok(()) if Path::new(&found).is_file() => Answer::holds(format!("{found} may be run")),
        Ok(()) => Answer::not_yet(format!("{found} is no file")),
        Err(_) => Answer::not_yet(format!("{found} may not be run")),
    }
}

fn file(path: &str, since: Option<Timestamp>, newer_than: Option<Duration>, at_least: Option<u64>) -> Answer {
    if newer_than.is_some() || at_least.is_some() {
        return file_as(path, newer_than, at_least);
    }
    match std::fs::metadata(path) {
        Ok(meta) => {
            let written = meta
                .modified()
                .ok()
                .and_then(|m| m.duration_since(std::time::UNIX_EPOCH).ok())
                .map(|d| Timestamp::from_ms(d.as_millis() as i64));
            match (since, written) {
                (Some(since), Some(written)) if written < since => Answer::not_yet(format!("{path} is from before the start")),
                _ => Answer::holds(format!("{path} is there")),
            }
        }
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Answer::not_yet(format!("no {path}")),
        Err(error) => Answer::could_not(format!("{path}: {error}")),
    }
}

/// A file as it should be: young enough, large enough.
fn file_as(path: &str, newer_than: Option<Duration>, at_least: Option<u64>) -> Answer {
    let meta = match std::fs::metadata(path) {
        Ok(meta) => meta,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Answer::not_yet(format!("no {path}")),
        Err(error) => return Answer::could_not(format!("{path}: {error}")),
    };
    if let Some(wanted) = at_least.filter(|wanted| meta.len() < *wanted) {
        return Answer::not_yet(format!("{path} has {} bytes, and {wanted} are wanted", meta.len()));
    }
    // Written in the future, by a clock that was set: as young as can be.
    let age = meta.modified().ok().and_then(|m| m.elapsed().ok()).unwrap_or_default();
    let told = yantro_core::time::Span(Duration::from_secs(age.as_secs()));
    match newer_than {
        Some(limit) if age > limit => Answer::not_yet(format!("{path} was written {told} ago")),
        _ => Answer::holds(format!("{path} was written {told} ago")),
    }
}

fn mount(path: &str) -> Answer {
    let table = match std::fs::read_to_string("/proc/self/mountinfo") {
        Ok(table) => table,
        Err(error) => return Answer::could_not(format!("the mounts cannot be read: {error}")),
    };
    let wanted = Path::new(path);
    let there = table.lines().filter_map(|l| l.split_ascii_whitespace().nth(4)).any(|at| Path::new(&at.replace("\\040", " ")) == wanted);
    if there { Answer::holds(format!("{path} is mounted")) } else { Answer::not_yet(format!("nothing is mounted at {path}")) }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    /// Somebody holds the port, and which processes are the service's cannot be said: they may be its own, or another's.
    #[rstest]
    #[case::by_its_port("{ rung = \"port\", port = PORT }")]
    #[case::by_its_answer("{ rung = \"connect\", to = \"127.0.0.1\", port = PORT }")]
    #[tokio::test]
    async fn who_is_not_known_to_be_it_is_not_known_to_be_another(#[case] rung: &str) {
        let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
        let rung = rung.replace("PORT", &listener.local_addr().unwrap().port().to_string());
        let text = format!(
            "[estate]\nname = \"Reach\"\nstands_for = \"test\"\n[host.quay]\nreach = \"here\"\n[service.gate]\nhost = \"quay\"\n\
             run_by = \"process\"\nprocess = {{ program = \"/bin/true\" }}\nladder = [{rung}]\n"
        );
        let service = yantro_core::estate::vet(&text, "/").estate.unwrap().services.into_values().next().unwrap();
        let dir = tempfile::tempdir().unwrap();
        let here = Here::new(&dir.path().join("data"), &dir.path().join("hosts")).unwrap();
        let rung = service.ladder.last().unwrap();
        let by = async |tree: Tree| here.rung(&service, rung, &tree, None, &here.round_from_now()).await;
        let unsaid = by(Tree::unsaid("its environment cannot be read".into())).await;
        assert_eq!(unsaid.verdict, Verdict::CouldNotLook, "{}", unsaid.says);
        let another = by(Tree::default()).await;
        assert_eq!(another.verdict, Verdict::Against, "{}", another.says);
        let own = by(Tree::of_one(&ProcessId::of(std::process::id()).unwrap())).await;
        assert_eq!(own.verdict, Verdict::Holds, "{}", own.says);
    }
}
