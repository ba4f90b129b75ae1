//! An act prepared: the order that the recorder is given, and what is noted of its begin.

use std::{
    collections::{BTreeMap, BTreeSet},
    path::Path,
    time::Duration,
};

use serde_json::{Value, json};
use yantro_core::{
    model::{Service, ServiceRunner, secrecy},
    plan::{manager_command, manager_kill},
    run::{ActBegun, ActEnd, ActKind, LogMark},
};

use super::{ActSpec, Here, NO_NAMES, own_account, refused};
use crate::{
    acts::accounts::Account,
    acts::recorder::{self, ActRecord, OUTPUT_LIMIT},
    looks::commands::{clean_env, env_of},
    looks::logs::mark_logs,
    looks::procs::{ProcessId, in_path},
    looks::tree::{self, Tree},
};

/// What is given to the recorder, and noted.
pub(super) struct Prepared {
    pub(super) order: Value,
    pub(super) begun: ActBegun,
    /// Whether it leaves something running that must outlive the server.
    pub(super) stays: bool,
}

/// An environment as it is described: references, and what only looks like one.
#[derive(Clone, Copy)]
struct Env<'e> {
    values: &'e BTreeMap<String, String>,
    to_the_letter: &'e BTreeSet<String>,
}

static NO_VALUES: BTreeMap<String, String> = BTreeMap::new();

impl<'e> Env<'e> {
    const NONE: Env<'static> = Env { values: &NO_VALUES, to_the_letter: &NO_NAMES };
    /// The estate's own.
    fn of(values: &'e BTreeMap<String, String>) -> Self {
        Self { values, to_the_letter: &NO_NAMES }
    }
}

fn account(name: &str) -> Result<(String, Value), ActEnd> {
    let of = name.to_owned();
    let find = move || Account::with_groups(&of);
    let unsaid = |why: String| refused(why, "see what answers for accounts on its host, and try again");
    let (user, groups) = crate::looks::hung::blocking(&format!("the account {name}"), crate::looks::hung::WITHIN, find)
        .map_err(unsaid)?
        .map_err(|error| unsaid(format!("the account {name}: {error}")))?
        .ok_or_else(|| refused(format!("there is no account \"{name}\""), "make it, or change `user` in the estate"))?;
    if user.uid == nix::unistd::geteuid().as_raw() {
        return Ok((user.name, Value::Null));
    }
    let order = json!({ "uid": user.uid, "gid": user.gid, "groups": groups });
    Ok((user.name, order))
}

fn unsaid(service: &Service, why: &str) -> ActEnd {
    refused(
        format!("it cannot be said which process is {}'s: {why}", service.address),
        "see that this account may look at its processes, and has descriptors and memory left",
    )
}

/// Every process of a service: none is left out since it could not be read.
fn all_of(service: &Service, tree: &Tree) -> Result<Vec<ProcessId>, ActEnd> {
    let all = tree.all().map_err(|why| unsaid(service, &why))?;
    let found = all.iter().map(|pid| ProcessId::of(*pid)).collect::<std::io::Result<Vec<_>>>();
    Ok(found.map_err(|why| unsaid(service, &why.to_string()))?.into_iter().flatten().collect())
}

impl Here {
    pub(super) async fn prepare(&self, spec: &ActSpec<'_>) -> Result<Prepared, ActEnd> {
        let service = spec.service;
        let logs = self.logs_of(service);
        let marks =
            crate::looks::hung::asking(&format!("the logs of {}", service.address), crate::looks::hung::WITHIN, move || mark_logs(&logs))
                .await;
        let mut marks = marks.map_err(|why| refused(why, "see what its logs lie on, and try again"))?;
        if let ServiceRunner::Systemd(s) = &service.runner
            && let Ok(seen) = self.units.look(&s.unit).await
            && let Some(mark) = marks.get_mut(&s.journal())
        {
            mark.invocation = Some(seen.word.invocation).filter(|i| !i.is_empty());
        }
        match (&service.runner, spec.kind) {
            (ServiceRunner::Systemd(s), kind) => {
                let goes_down = matches!(kind, ActKind::Stop | ActKind::Clear | ActKind::Force);
                if !matches!(kind, ActKind::Evidence(_)) {
                    match self.units.against(&s.unit, goes_down).await {
                        Ok(None) => {}
                        Ok(Some(why)) => return Err(refused(why, "do it by hand")),
                        // What could not be asked counts as nothing: neither as ours nor as another's.
                        Err(why) => {
                            let why = format!("what would go down with {} cannot be said: {why}", s.unit);
                            return Err(refused(why, "see what keeps the host's manager from answering, and try again"));
                        }
                    }
                }
                let (words, limit) = match kind {
                    ActKind::Start => (manager_command("start", &s.unit), service.start.patience.0),
                    ActKind::Stop | ActKind::Clear => (manager_command("stop", &s.unit), service.stop.patience.0),
                    ActKind::Reload => {
                        (manager_command("reload", &s.unit), service.reload.as_ref().map_or(service.start.patience.0, |r| r.patience.0))
                    }
                    ActKind::Force => (manager_kill(&s.unit), service.stop.patience.0),
                    ActKind::Evidence(n) => (service.stop.evidence.get(n as usize).cloned().unwrap_or_default(), service.stop.patience.0),
                    ActKind::Further | ActKind::Work | ActKind::Announce => {
                        return Err(refused("a unit has no such act".to_owned(), "give the act a command of its own in the estate"));
                    }
                };
                // The manager's own command is an act of another account's where ours may not give it.
                let user = (self.sudo && !matches!(kind, ActKind::Evidence(_))).then_some("root");
                self.command(&words, "/", Env::NONE, user, limit, marks)
            }
            // A host goes down by its own means, given on it; what gives it power is asked by the server.
            (ServiceRunner::Host(h), ActKind::Stop | ActKind::Clear) => {
                let words = if h.reboots { &h.reboot } else { &h.shut_down };
                self.command(words, "/", Env::NONE, self.sudo.then_some("root"), service.stop.patience.0, marks)
            }
            (ServiceRunner::Host(_) | ServiceRunner::Outlet(_) | ServiceRunner::Simulated(_), _) => {
                Err(refused("that is no act of this host's".to_owned(), "check how its host is reached"))
            }
            (ServiceRunner::Process(p), ActKind::Start) => {
                let words: Vec<String> = std::iter::once(p.program.clone()).chain(p.args.iter().cloned()).collect();
                let output = self.output_of(service);
                let mut prepared = self.program(&words, &p.dir, Env::of(&p.env), p.user.as_deref(), marks)?;
                prepared.order["do"] = json!("start");
                prepared.order["output"] = json!(output);
                prepared.stays = true;
                Ok(prepared)
            }
            (ServiceRunner::Process(_), ActKind::Stop | ActKind::Clear | ActKind::Reload) => {
                let signal = if spec.kind == ActKind::Reload {
                    service.reload.as_ref().map_or(yantro_core::words::Signal::Hup, |r| r.signal)
                } else {
                    service.stop.signal
                };
                let tree = self.said_tree(service, spec.known)?;
                // The main process is asked; where it forked away, all that is left of it.
                let targets: Vec<ProcessId> = match &tree.main {
                    Some(main) => vec![main.clone()],
                    None => all_of(service, &tree)?,
                };
                Ok(self.signal(signal.name(), &targets, None, marks))
            }
            (ServiceRunner::Process(_), ActKind::Force) => {
                let tree = self.said_tree(service, spec.known)?;
                let targets = all_of(service, &tree)?;
                Ok(self.signal("KILL", &targets, tree.group.as_deref(), marks))
            }
            (ServiceRunner::Process(_), ActKind::Further | ActKind::Work | ActKind::Announce) => {
                Err(refused("a process has no such act".to_owned(), "give the act a command of its own in the estate"))
            }
            (ServiceRunner::Process(p), ActKind::Evidence(n)) => {
                let words = service.stop.evidence.get(n as usize).cloned().unwrap_or_default();
                self.command(&words, &p.dir, Env::of(&p.env), p.user.as_deref(), service.stop.patience.0, marks)
            }
            (ServiceRunner::Commands(c), kind) => {
                let words = match kind {
                    ActKind::Start | ActKind::Further | ActKind::Work => c.start.clone(),
                    ActKind::Announce => Vec::new(),
                    ActKind::Stop | ActKind::Clear => c.stop.clone(),
                    ActKind::Force => c.force.clone(),
                    ActKind::Reload => c.reload.clone(),
                    ActKind::Evidence(n) => service.stop.evidence.get(n as usize).cloned().unwrap_or_default(),
                };
                let mut prepared = self.command(
                    &words,
                    &c.dir,
                    Env { values: &c.env, to_the_letter: &c.to_the_letter },
                    c.user.as_deref(),
                    c.within.0,
                    marks,
                )?;
                // What its start command leaves running must outlive us too (R22).
                prepared.stays = kind == ActKind::Start;
                Ok(prepared)
            }
        }
    }

    fn command(
        &self,
        words: &[String],
        dir: &str,
        env: Env<'_>,
        user: Option<&str>,
        limit: Duration,
        marks: BTreeMap<String, LogMark>,
    ) -> Result<Prepared, ActEnd> {
        let mut prepared = self.program(words, dir, env, user, marks)?;
        prepared.order["do"] = json!("command");
        prepared.order["limit_ms"] = json!(limit.as_millis() as u64);
        prepared.order["output_limit"] = json!(OUTPUT_LIMIT);
        // Over the recorder's standard input, like the environment: what is written down has none of them in it.
        prepared.order["mask"] = json!(self.secrets().pairs());
        Ok(prepared)
    }

    fn program(
        &self,
        words: &[String],
        dir: &str,
        env: Env<'_>,
        user: Option<&str>,
        marks: BTreeMap<String, LogMark>,
    ) -> Result<Prepared, ActEnd> {
        let Some((program, args)) = words.split_first() else {
            return Err(refused("the estate has no command for this".to_owned(), "add it to the service's commands block"));
        };
        let mut full = clean_env();
        // Where sudo takes another account on, it sees to this itself.
        let another = user.filter(|name| !self.sudo && *name != own_account());
        if let Some(name) = another {
            let found =
                Account::named(name).map_err(|e| refused(format!("the account {name}: {e}"), "see what answers for accounts there"))?;
            full.extend(found.iter().flat_map(env_of));
        }
        let resolved = self
            .secrets()
            .resolve(env.values, env.to_the_letter)
            .map_err(|why| refused(why, "set it, or change the reference in the estate"))?;
        full.extend(resolved);
        let path = full.get("PATH").cloned().unwrap_or_else(|| "/usr/local/bin:/usr/bin:/bin".to_owned());
        let Some(found) = in_path(program, &path) else {
            return Err(refused(format!("there is no program {program}"), "check its path in the estate, and that it is installed"));
        };
        // What came from outside is a value, whatever it looks like; it stands in the record as it is.
        let given = env.values.iter().map(|(name, value)| (name.clone(), secrecy::shown(name, value))).collect();
        let env_letter = env.to_the_letter.clone();
        let by_sudo = user.filter(|name| self.sudo && *name != own_account());
        let (account, user_order) = match user {
            Some(name) if by_sudo.is_some() => (name.to_owned(), Value::Null),
            Some(name) => account(name)?,
            None => (own_account(), Value::Null),
        };
        let (found, args, words) = match by_sudo {
            None => (found, args.to_vec(), words.to_vec()),
            Some(name) => {
                let Some(sudo) = in_path("sudo", &path) else {
                    return Err(refused("sudo is not there".to_owned(), "install it, or let the outpost run as root"));
                };
                // Else sudo keeps the service's own from it; secrets are not among the arguments, only their names are.
                let names: Vec<&str> = env.values.keys().map(String::as_str).collect();
                let kept = (!names.is_empty()).then(|| format!("--preserve-env={}", names.join(",")));
                let before = ["-n", "-u", name].map(str::to_owned).into_iter().chain(kept).chain(["--".to_owned(), found.clone()]);
                let args: Vec<String> = before.chain(args.iter().cloned()).collect();
                let words = std::iter::once("sudo".to_owned()).chain(args.iter().cloned()).collect();
                (sudo, args, words)
            }
        };
        let env: Vec<String> = full.iter().map(|(k, v)| format!("{k}={v}")).collect();
        Ok(Prepared {
            order: json!({ "program": found, "args": args, "env": env, "dir": dir, "user": user_order }),
            begun: ActBegun {
                env: given,
                to_the_letter: env_letter,
                command: words,
                dir: dir.to_owned(),
                user: account,
                pid: None,
                started: None,
                marks,
                boot: None,
            },
            stays: false,
        })
    }

    /// The processes of a service that is signalled: where it cannot be said which are its own, none is, and none ever that
    /// is one of Yantro's own (R13).
    fn said_tree(&self, service: &Service, known: Option<&ActRecord>) -> Result<Tree, ActEnd> {
        let tree = tree::tree(service, known, &self.round());
        let all = tree.all().map_err(|why| unsaid(service, &why))?;
        let own = crate::looks::own::line().map_err(|why| refused(why, "see that this account may look at processes, and try again"))?;
        let main = tree.main.as_ref().map(|m| m.pid);
        match main.iter().chain(all).find(|pid| own.contains(pid)) {
            Some(pid) => Err(refused(
                format!("process {pid}, which {} is known by, is Yantro's own, or one that it hangs on", service.address),
                "do it by hand, or tell the service from it: another program, or arguments of its own",
            )),
            None => Ok(tree),
        }
    }

    fn signal(&self, name: &str, targets: &[ProcessId], group: Option<&Path>, marks: BTreeMap<String, LogMark>) -> Prepared {
        let number = format!("SIG{name}").parse::<nix::sys::signal::Signal>().map_or(libc::SIGTERM, |s| s as i32);
        let pids: Vec<String> = targets.iter().map(|t| t.pid.to_string()).collect();
        let command = std::iter::once(format!("signal {name}")).chain(pids).collect();
        Prepared {
            order: recorder::signal_order(Path::new(""), number, targets, group),
            begun: ActBegun {
                command,
                dir: "/".to_owned(),
                user: own_account(),
                pid: targets.first().map(|t| t.pid),
                started: targets.first().map(|t| t.started),
                marks,
                ..ActBegun::default()
            },
            stays: false,
        }
    }
}
