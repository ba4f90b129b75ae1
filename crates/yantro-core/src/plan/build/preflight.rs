//! Looks taken before the first act: those that go without saying.

use std::collections::{BTreeMap, BTreeSet};

use crate::{
    model::{
        Estate, Rung, RungKind, Service, ServiceRunner,
        task::{Task, Work},
    },
    plan::{Preflight, Step, manager_command, manager_kill},
    proof::SeenState,
    words::{
        Force,
        kinds::StepKind,
        name::{Address, HostName},
    },
};

/// So much room at least must be where a host's acts are written down; so much more for each act, and for each that runs a
/// command, whose output is kept up to this.
const RECORDS: u64 = 1_000_000;
const RECORD_OF_ACT: u64 = 4 * 1024;
const RECORD_OF_COMMAND: u64 = 64 * 1024;
/// So much must be where the server keeps its store, and so much more for each step: it writes what it takes in before it takes
/// it over.
const STORE: u64 = 2_000_000;
const STORE_OF_STEP: u64 = 4 * 1024;

/// The looks that go without saying before the steps of a wish.
pub fn preflight(estate: &Estate, steps: &[Step]) -> Vec<Preflight> {
    let mut looks = Looks::default();
    looks.of_services(estate, steps);
    looks.all
}

/// Looks to take before the first act, each once.
#[derive(Default)]
pub(crate) struct Looks {
    pub(crate) all: Vec<Preflight>,
    /// Where and at what: of thousands of services there are tens of thousands.
    known: BTreeSet<(HostName, String)>,
}

impl Looks {
    /// One that was asked for in so many words: it is taken whatever else is.
    pub(crate) fn asked_for(&mut self, look: Preflight) {
        self.all.push(look);
    }

    fn add(&mut self, host: &HostName, says: String, kind: RungKind) {
        if self.known.insert((host.clone(), format!("{kind:?}"))) {
            self.all.push(Preflight { says, host: host.clone(), rung: Rung { kind, gone_after_stop: false }, line: None });
        }
    }

    /// Those that go without saying before a program is run: it is there and may be run, its folder exists, its account exists.
    fn of_program(&mut self, of: &str, host: &HostName, program: &str, dir: &str, user: Option<&str>) {
        if !program.is_empty() {
            self.add(host, format!("the program of {of} is there and may be run"), RungKind::Program { program: program.to_owned() });
        }
        let folder = RungKind::File { path: dir.to_owned(), since_start: false, newer_than: None, at_least: None };
        self.add(host, format!("the folder of {of} is there"), folder);
        if let Some(account) = user {
            self.add(host, format!("the account of {of} is there"), RungKind::Account { account: account.to_owned() });
        }
    }

    /// Those before work is done: of its program, and that it may be done as its account.
    pub(crate) fn of_work(&mut self, says: &str, work: &Work) {
        let program = work.command.first().map_or("", String::as_str);
        self.of_program(says, &work.host, program, &work.dir, work.user.as_deref());
        if let Some(account) = work.user.clone() {
            let command = work.command.iter().chain(&work.script).cloned().collect();
            let kind = RungKind::Rights { account, command, env: work.env.keys().cloned().collect() };
            self.add(&work.host, format!("Yantro may do {says}"), kind);
        }
    }

    /// Those for services: before a start its program, folder and account, that no stranger holds its ports where it is down
    /// now, and that what is started stays; before each act that it may be given and written down.
    pub(crate) fn of_services(&mut self, estate: &Estate, steps: &[Step]) {
        let mut seen: BTreeSet<&Address> = BTreeSet::new();
        let off = steps.iter().filter(|s| s.found == SeenState::Down).filter_map(|s| s.service()).filter(|on| on.address.is_host());
        let off: BTreeSet<&HostName> = off.map(|on| &on.address.host).collect();
        for (i, step) in steps.iter().enumerate() {
            let Some(on) = step.service() else { continue };
            let is_first = seen.insert(&on.address);
            let Some(service) = estate.services.get(&on.address) else { continue };
            let host = &on.address.host;
            match on.kind {
                // What could not be raised again must not be taken down.
                StepKind::Stop if tells_of_power(service) => {
                    self.add(host, format!("the power of {host} can be asked"), RungKind::Power);
                }
                // Nothing can be looked at on a host that this run powers on first.
                StepKind::Start if !off.contains(host) => {
                    self.of_start(service, &steps[..i]);
                    if is_first && step.found == SeenState::Down {
                        self.of_ports(service);
                    }
                }
                _ => {}
            }
        }
        self.rights_and_room(estate, steps, &off);
    }

    /// Those before a service is started, after these steps.
    fn of_start(&mut self, service: &Service, before: &[Step]) {
        let (host, of) = (&service.address.host, service.address.to_string());
        match &service.runner {
            ServiceRunner::Process(p) => {
                self.add(host, format!("what Yantro starts on {host} outlives it"), RungKind::Outlives);
                self.of_program(&of, host, &p.program, &p.dir, p.user.as_deref());
                if let Some(account) = p.user.clone() {
                    self.add(host, format!("Yantro may stop what it starts as {account}"), RungKind::Signals { account });
                }
            }
            ServiceRunner::Commands(c) => {
                self.add(host, format!("what Yantro starts on {host} outlives it"), RungKind::Outlives);
                self.of_program(&of, host, c.start.first().map_or("", String::as_str), &c.dir, c.user.as_deref());
            }
            // The manager's own terms are held against the plan: see `Plan::heed_managers`. Work before it may be what installs it.
            ServiceRunner::Systemd(s) => {
                if !before.iter().any(|s| matches!(s.task(), Some(Task::Work(work)) if work.host == *host)) {
                    self.add(host, format!("{of} can be started"), RungKind::Unit { unit: s.unit.clone() });
                }
            }
            ServiceRunner::Host(_) | ServiceRunner::Outlet(_) | ServiceRunner::Simulated(_) => {}
        }
    }

    fn of_ports(&mut self, service: &Service) {
        for rung in &service.ladder {
            if let RungKind::Port { port, on, held_by_any: false } = &rung.kind {
                let kind = RungKind::PortFree { port: *port, on: on.clone() };
                self.add(&service.address.host, format!("the port of {} is free", service.address), kind);
            }
        }
    }

    /// That every act of the sequence may be given, and written down, before the first one is: what an account may not do is no
    /// news to be had once everything is down.
    fn rights_and_room(&mut self, estate: &Estate, steps: &[Step], off: &BTreeSet<&HostName>) {
        let mut room: BTreeMap<&HostName, u64> = BTreeMap::new();
        for step in steps.iter().filter(|s| s.kind() != StepKind::Await) {
            let Some(service) = step.address().and_then(|a| estate.services.get(a)) else { continue };
            let host = &service.address.host;
            // What gives a host power is asked from here; a host that is off is asked nothing.
            let is_asked = !service.runner.is_power() || step.kind() == StepKind::Stop;
            if matches!(service.runner, ServiceRunner::Simulated(_)) || off.contains(host) || !is_asked {
                continue;
            }
            let taken = match step.task() {
                Some(Task::Act { act, .. }) => Task::act_of(service, act).map(|s| privileged(&s, StepKind::Start)).unwrap_or_default(),
                _ => privileged(service, step.kind()),
            };
            for Privileged { deed, account, command, env } in taken {
                let deed = if step.task().is_some() { step.says() } else { format!("{deed} {}", service.address) };
                self.add(host, format!("Yantro may {deed}"), RungKind::Rights { account, command, env });
            }
            let is_command = step.task().is_some() || matches!(service.runner, ServiceRunner::Commands(_));
            *room.entry(host).or_insert(RECORDS) += if is_command { RECORD_OF_COMMAND } else { RECORD_OF_ACT };
        }
        let Some(first) = room.keys().next().copied() else { return };
        for (host, bytes) in room {
            self.add(host, format!("there is room for what acts on {host} write down"), RungKind::Records { of_server: false, bytes });
        }
        let bytes = STORE + STORE_OF_STEP * steps.len() as u64;
        self.add(first, "there is room for what the server writes down".to_owned(), RungKind::Records { of_server: true, bytes });
    }
}

/// Whether what gives it power can be asked how that stands.
fn tells_of_power(service: &Service) -> bool {
    match &service.runner {
        ServiceRunner::Host(h) => h.power.tells(),
        ServiceRunner::Outlet(_) => true,
        _ => false,
    }
}

/// What a step does that takes another account.
struct Privileged {
    deed: &'static str,
    account: String,
    command: Vec<String>,
    env: Vec<String>,
}

fn privileged(service: &Service, kind: StepKind) -> Vec<Privileged> {
    let by = |deed, account: &str, command: Vec<String>, env: Option<&BTreeMap<String, String>>| {
        let env = env.into_iter().flat_map(BTreeMap::keys).cloned().collect();
        Privileged { deed, account: account.to_owned(), command, env }
    };
    let root = |command| by(kind.word(), "root", command, None);
    match (&service.runner, kind) {
        (ServiceRunner::Systemd(s), StepKind::Start) => vec![root(manager_command("start", &s.unit))],
        (ServiceRunner::Systemd(s), StepKind::Reload) => vec![root(manager_command("reload", &s.unit))],
        (ServiceRunner::Systemd(s), StepKind::Stop) => {
            let mut all = vec![root(manager_command("stop", &s.unit))];
            // What comes by itself must be possible; where an operator is asked first, they are told then.
            if service.stop.force == Force::Allow {
                all.push(by("kill", "root", manager_kill(&s.unit), None));
            }
            all
        }
        (ServiceRunner::Host(h), StepKind::Stop) => {
            let command = if h.reboots { h.reboot.clone() } else { h.shut_down.clone() };
            Some(command).filter(|c| !c.is_empty()).map(root).into_iter().collect()
        }
        (ServiceRunner::Commands(c), kind) => {
            let command = match kind {
                StepKind::Start => &c.start,
                StepKind::Stop => &c.stop,
                StepKind::Reload => &c.reload,
                _ => return Vec::new(),
            };
            let user = c.user.as_deref().filter(|_| !command.is_empty());
            user.map(|user| by(kind.word(), user, command.clone(), Some(&c.env))).into_iter().collect()
        }
        (ServiceRunner::Process(p), StepKind::Start) => {
            let command = || std::iter::once(p.program.clone()).chain(p.args.iter().cloned()).collect();
            p.user.as_deref().map(|user| by(kind.word(), user, command(), Some(&p.env))).into_iter().collect()
        }
        _ => Vec::new(),
    }
}
