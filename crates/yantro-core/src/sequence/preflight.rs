//! Looks taken before the first act: those that go without saying.

use std::collections::BTreeSet;

use super::{Preflight, Step, StepKind};
use crate::{
    estate::{Estate, Rung, RungKind, ServiceRunner},
    name::{Address, HostName},
    proof::SeenState,
};

/// The looks that go without saying before the steps of a wish.
pub fn preflight(estate: &Estate, steps: &[Step]) -> Vec<Preflight> {
    let mut looks = Vec::new();
    obvious_of_services(&mut looks, estate, steps);
    looks
}

/// The looks that go without saying before a program is run: it is there and may be run, its folder exists,
/// its account exists.
pub(crate) fn obvious(looks: &mut Vec<Preflight>, of: &str, host: &HostName, program: &str, dir: &str, user: Option<&str>) {
    let mut add = |says: String, kind: RungKind| {
        let rung = Rung { kind, gone_after_stop: false };
        if !looks.iter().any(|l| l.host == *host && l.rung == rung) {
            looks.push(Preflight { says, host: host.clone(), rung, line: None });
        }
    };
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
    for step in steps {
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
                let rung = Rung { kind: RungKind::Power, gone_after_stop: false };
                if !looks.iter().any(|l| l.host == on.address.host && l.rung == rung) {
                    looks.push(Preflight { says: says("the power"), host: on.address.host.clone(), rung, line: None });
                }
            }
        }
        let Some(service) = estate.services.get(&on.address).filter(|_| on.kind == StepKind::Start) else { continue };
        // Nothing can be looked at on a host that this run powers on first.
        if off.contains(&on.address.host) {
            continue;
        }
        let host = &on.address.host;
        let of = on.address.to_string();
        match &service.runner {
            ServiceRunner::Process(p) => obvious(looks, &of, host, &p.program, &p.dir, p.user.as_deref()),
            ServiceRunner::Commands(c) => {
                obvious(looks, &of, host, c.start.first().map_or("", String::as_str), &c.dir, c.user.as_deref());
            }
            // The manager's own terms are held against the plan: see `Plan::heed_managers`.
            ServiceRunner::Systemd(_) => {}
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
}
