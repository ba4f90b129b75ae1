//! Looks at a service: its process, and each rung of its ladder. A look never changes anything.

use std::{
    collections::{BTreeMap, BTreeSet},
    path::Path,
    time::Duration,
};

use serde::{Deserialize, Serialize};
use yantro_core::{
    model::{Rung, RungKind, Service, ServiceRunner, task::Task},
    proof::{Answer, UnitTerms, UnitWord, Verdict},
    text::survey::{FoundPort, Survey},
    words::{name::HostName, time::Timestamp},
};

use crate::{
    acts::{accounts, recorder::ActRecord},
    here::Here,
    looks::{
        commands, hung,
        procs::{self, ProcessId},
        rungs::*,
        sockets::{self, SocketTable},
        tree::{self, Round, Tree},
        units::UnitSeen,
    },
};

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

impl Here {
    /// Looks at a whole service.
    pub async fn look(&self, service: &Service, known: Option<&ActRecord>, round: &Round) -> RawLook {
        self.learn(&crate::here::references_of(service));
        let unit = self.unit_of(service).await;
        let tree = match &unit {
            Some(Ok(seen)) => Tree::of_unit(seen),
            Some(Err(why)) => Tree::unsaid(why.clone()),
            None => tree::tree(service, known, round),
        };
        let total = service.ladder.len();
        let is_empty = match tree.is_empty() {
            Ok(is_empty) => is_empty,
            Err(why) => return RawLook { runs: None, main: None, manager: None, rungs: vec![Answer::could_not(why)], total },
        };
        let mut runs = match &service.runner {
            ServiceRunner::Systemd(_) => match &unit {
                Some(Ok(seen)) => Some(seen.word.runs()),
                // Neither up nor down: nobody can say.
                _ => None,
            },
            ServiceRunner::Process(spec) if !spec.program.is_empty() => Some(!is_empty),
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
            let all: Vec<u32> = services.iter().flat_map(|(_, pids)| pids).copied().collect();
            let by =
                |found: std::io::Result<Option<u32>>| found.map_err(|e| format!("who listens on port {} cannot be read: {e}", socket.port));
            let holder = match by(sockets::holder(socket.inode, &all))? {
                None => by(sockets::any_holder(socket.inode))?,
                of_a_unit => of_a_unit,
            };
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
        let Some(service) = task.as_service("look", None, yantro_core::words::time::Span::default()) else {
            return Answer::could_not("there is nothing to look at");
        };
        let tree = tree::tree(&service, None, round);
        let answer = self.rung(&service, rung, &tree, None, round).await;
        Answer { says: self.mask(&answer.says), ..answer }
    }

    /// Looks at one rung.
    pub(crate) async fn rung(&self, service: &Service, rung: &Rung, tree: &Tree, since: Option<Timestamp>, round: &Round) -> Answer {
        match &rung.kind {
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
                hung::look(format!("the account {account}"), move || match accounts::Account::named(&of) {
                    Ok(Some(user)) => Answer::holds(format!("{of} is there (uid {})", user.uid)),
                    Ok(None) => Answer::not_yet(format!("there is no account {of}")),
                    Err(error) => Answer::could_not(format!("the account {of}: {error}")),
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
            RungKind::Rights { account, command, env } => self.rights(account, command, env).await,
            RungKind::Signals { account } => self.may_signal(account),
            RungKind::Unit { unit } => self.unit_can_start(unit).await,
            RungKind::Outlives => self.outlives(),
            RungKind::Records { bytes, .. } => self.room_for_records(*bytes).await,
            // Logs are watched from an act's positions on, not looked at.
            RungKind::Log => Answer::holds("log"),
        }
    }

    async fn command_answer(&self, service: &Service, command: &[String], holds: &[i32], not_yet: &[i32], within: Duration) -> Answer {
        let (root, none, no_names) = ("/".to_owned(), BTreeMap::new(), BTreeSet::new());
        let (dir, env, to_the_letter, user) = match &service.runner {
            ServiceRunner::Process(p) => (&p.dir, &p.env, &no_names, p.user.as_deref()),
            ServiceRunner::Commands(c) => (&c.dir, &c.env, &c.to_the_letter, c.user.as_deref()),
            _ => (&root, &none, &no_names, None),
        };
        let env = match self.secrets().resolve(env, to_the_letter) {
            Ok(env) => env,
            Err(why) => return Answer::could_not(why),
        };
        // Who is not root looks as itself: what sudo allows it is acts.
        let user = user.filter(|_| nix::unistd::geteuid().is_root()).map(str::to_owned);
        let account = match user {
            None => None,
            Some(name) => {
                let of = name.clone();
                let find = move || accounts::Account::with_groups(&of);
                match hung::asking(&format!("the account {name}"), hung::WITHIN, find).await {
                    Ok(Ok(Some((account, _)))) if account.uid == 0 => None,
                    Ok(Ok(Some(found))) => Some(found),
                    Ok(Ok(None)) => return Answer::could_not(format!("there is no account \"{name}\"")),
                    Ok(Err(error)) => return Answer::could_not(format!("the account {name}: {error}")),
                    Err(why) => return Answer::could_not(why),
                }
            }
        };
        let look = commands::LookingCommand { words: command, dir, env, account, within };
        match look.run().await {
            Err(why) => Answer::could_not(why),
            Ok(seen) => {
                let last = self.secrets().mask(seen.printed.lines().rev().find(|l| !l.trim().is_empty()).unwrap_or_default().trim());
                let said = if last.is_empty() { String::new() } else { format!(": {last}") };
                match seen.code {
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
        let client = match self.http(url, *verify_tls) {
            Ok(client) => client,
            Err(why) => return Answer::could_not(why),
        };
        let answer = match client.get(url).timeout(within.0).send().await {
            Ok(answer) => answer,
            Err(error) if error.is_timeout() => {
                // The time may have gone by before anybody was asked.
                let (name, port) = target_of(url).unwrap_or_default();
                return match known_within(Duration::from_secs(1), &name, port).await {
                    Ok(_) => Answer::not_yet(format!("no answer within {within}")),
                    Err(why) => Answer::could_not(why),
                };
            }
            Err(error) => return unanswered(format!("no answer: {}", root_cause(&error)), &error),
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
        let service = yantro_core::text::vet(&text, "/").estate.unwrap().services.into_values().next().unwrap();
        let dir = tempfile::tempdir().unwrap();
        let here = Here::new(&dir.path().join("data"), &dir.path().join("hosts")).unwrap();
        let rung = service.ladder.last().unwrap();
        let by = async |tree: Tree| here.rung(&service, rung, &tree, None, &here.round_from_now()).await;
        let unsaid = by(Tree::unsaid("its environment cannot be read".into())).await;
        assert_eq!(unsaid.verdict, Verdict::CouldNotLook, "{}", unsaid.says);
        let another = by(Tree::default()).await;
        assert_eq!(another.verdict, Verdict::Against, "{}", another.says);
        let own = by(Tree::of_one(&ProcessId::of(std::process::id()).unwrap().unwrap())).await;
        assert_eq!(own.verdict, Verdict::Holds, "{}", own.says);
    }
}
