//! Looks taken before the first act: those that go without saying.

use std::collections::{BTreeMap, BTreeSet};

use super::{Preflight, Step, StepKind, manager_command, manager_kill};
use crate::{
    estate::{Estate, Rung, RungKind, Service, ServiceRunner, file::Force},
    model::task::Task,
    name::{Address, HostName},
    proof::SeenState,
};

/// So much room at least must be where a host's acts are written down, and so much more for each act: what it prints is kept
/// up to this.
const RECORDS: u64 = 1_000_000;
const RECORD_OF_ACT: u64 = 64 * 1024;
/// So much must be where the server keeps its store, and so much more for each step: it writes what it takes in before it takes
/// it over.
const STORE: u64 = 2_000_000;
const STORE_OF_STEP: u64 = 4 * 1024;

/// The looks that go without saying before the steps of a wish.
pub fn preflight(estate: &Estate, steps: &[Step]) -> Vec<Preflight> {
    let mut looks = Vec::new();
    obvious_of_services(&mut looks, estate, steps);
    looks
}

/// A look that nobody asked for in so many words.
pub(crate) fn added(says: String, host: &HostName, kind: RungKind) -> Preflight {
    Preflight { says, host: host.clone(), rung: Rung { kind, gone_after_stop: false }, line: None }
}

fn add(looks: &mut Vec<Preflight>, host: &HostName, says: String, kind: RungKind) {
    let look = added(says, host, kind);
    if !looks.iter().any(|l| l.host == look.host && l.rung == look.rung) {
        looks.push(look);
    }
}

/// The looks that go without saying before a program is run: it is there and may be run, its folder exists,
/// its account exists.
pub(crate) fn obvious(looks: &mut Vec<Preflight>, of: &str, host: &HostName, program: &str, dir: &str, user: Option<&str>) {
    let mut add = |says: String, kind: RungKind| add(looks, host, says, kind);
    if !program.is_empty() {
        add(format!("the program of {of} is there and may be run"), RungKind::Program { program: program.to_owned() });
    }
    add(
        format!("the folder of {of} is there"),
        RungKind::File { path: dir.to_owned(), since_start: false, newer_than: None, at_least: None },
    );
    if let Some(account) = user {
        add(format!("the account of {of} is there"), RungKind::Account { account: account.to_owned() });
    }
}

/// The looks that go without saying for services that are started: program, folder, account, and that no
/// stranger holds their ports where they are down now.
pub(crate) fn obvious_of_services(looks: &mut Vec<Preflight>, estate: &Estate, steps: &[Step]) {
    let mut seen: BTreeSet<&Address> = BTreeSet::new();
    let off = steps.iter().filter(|s| s.found == SeenState::Down).filter_map(|s| s.service()).filter(|on| on.address.is_host());
    let off: BTreeSet<&HostName> = off.map(|on| &on.address.host).collect();
    for (i, step) in steps.iter().enumerate() {
        let Some(on) = step.service() else { continue };
        let first = seen.insert(&on.address);
        let says = |what: &str| format!("{what} of {} can be asked", on.address.host);
        if let (Some(service), StepKind::Stop) = (estate.services.get(&on.address), on.kind) {
            // What could not be raised again must not be taken down.
            let tells = match &service.runner {
                ServiceRunner::Host(h) => h.power.tells(),
                ServiceRunner::Outlet(_) => true,
                _ => false,
            };
            if tells {
                add(looks, &on.address.host, says("the power"), RungKind::Power);
            }
        }
        let Some(service) = estate.services.get(&on.address).filter(|_| on.kind == StepKind::Start) else { continue };
        // Nothing can be looked at on a host that this run powers on first.
        if off.contains(&on.address.host) {
            continue;
        }
        let host = &on.address.host;
        let of = on.address.to_string();
        if matches!(service.runner, ServiceRunner::Process(_) | ServiceRunner::Commands(_)) {
            add(looks, host, format!("what Yantro starts on {host} outlives it"), RungKind::Outlives);
        }
        match &service.runner {
            ServiceRunner::Process(p) => obvious(looks, &of, host, &p.program, &p.dir, p.user.as_deref()),
            ServiceRunner::Commands(c) => {
                obvious(looks, &of, host, c.start.first().map_or("", String::as_str), &c.dir, c.user.as_deref());
            }
            // The manager's own terms are held against the plan: see `Plan::heed_managers`. Work before it may be what installs it.
            ServiceRunner::Systemd(s) => {
                if !steps[..i].iter().any(|s| matches!(s.task(), Some(Task::Work(work)) if work.host == *host)) {
                    add(looks, host, format!("{of} can be started"), RungKind::Unit { unit: s.unit.clone() });
                }
            }
            ServiceRunner::Host(_) | ServiceRunner::Outlet(_) | ServiceRunner::Simulated(_) => {}
        }
        if first && step.found == SeenState::Down {
            for rung in &service.ladder {
                if let RungKind::Port { port, on, held_by_any: false } = &rung.kind {
                    let kind = RungKind::PortFree { port: *port, on: on.clone() };
                    let rung = Rung { kind, gone_after_stop: false };
                    looks.push(Preflight { says: format!("the port of {of} is free"), host: host.clone(), rung, line: None });
                }
            }
        }
    }
    rights_and_room(looks, estate, steps, &off);
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

/// That every act of the sequence may be given, and written down, before the first one is: what an account may not do is no
/// news to be had once everything is down.
fn rights_and_room(looks: &mut Vec<Preflight>, estate: &Estate, steps: &[Step], off: &BTreeSet<&HostName>) {
    let mut acts: BTreeMap<&HostName, u64> = BTreeMap::new();
    for step in steps.iter().filter(|s| s.kind() != StepKind::Await) {
        let Some(service) = step.address().and_then(|a| estate.services.get(a)) else { continue };
        let host = &service.address.host;
        // What gives a host power is asked from here; a host that is off is asked nothing.
        let is_asked = !service.runner.is_power() || step.kind() == StepKind::Stop;
        if matches!(service.runner, ServiceRunner::Simulated(_)) || off.contains(host) || !is_asked {
            continue;
        }
        let (acted, kind) = match step.task() {
            Some(Task::Act { act, .. }) => (Task::act_of(service, act), StepKind::Start),
            _ => (Some(service.as_ref().clone()), step.kind()),
        };
        for Privileged { deed, account, command, env } in acted.iter().flat_map(|s| privileged(s, kind)) {
            let deed = if step.task().is_some() { step.says() } else { format!("{deed} {}", service.address) };
            add(looks, host, format!("Yantro may {deed}"), RungKind::Rights { account, command, env });
        }
        *acts.entry(host).or_default() += 1;
    }
    for (host, n) in &acts {
        let bytes = RECORDS + RECORD_OF_ACT * n;
        add(looks, host, format!("there is room for what acts on {host} write down"), RungKind::Records { of_server: false, bytes });
    }
    if let Some(host) = acts.keys().next() {
        let bytes = STORE + STORE_OF_STEP * steps.len() as u64;
        add(looks, host, "there is room for what the server writes down".to_owned(), RungKind::Records { of_server: true, bytes });
    }
}
