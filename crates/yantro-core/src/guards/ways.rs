//! What a plan must not do to hosts: act on the ways by which Yantro itself comes to them (R13), and take down unsaid
//! what nobody described (R37).

use std::collections::{BTreeMap, BTreeSet};

use crate::{
    model::{Estate, RungKind, ServiceRunner},
    plan::{Obstacle, Plan},
    proof::UnitTerms,
    text::survey::{FoundPort, Survey},
    words::{
        kinds::StepKind,
        name::{Address, HostName},
    },
};

/// What Yantro and its ways to hosts hang on (R13).
#[derive(Debug, Clone, Default)]
pub struct Ways {
    /// Hosts that are never acted on, each with the reason.
    pub hosts: BTreeMap<HostName, String>,
    /// Units of their managers that are not either, each with the reason.
    pub units: BTreeMap<HostName, BTreeMap<String, String>>,
    /// What cannot be said of the ways, so that any host may be one of them.
    pub unsaid: Vec<String>,
}

impl Plan {
    /// The hosts that it shuts down, powers on or reboots.
    pub fn hosts_acted_on(&self) -> BTreeSet<HostName> {
        self.acting().filter(|a| a.is_power()).map(|a| a.host.clone()).collect()
    }

    fn acting(&self) -> impl Iterator<Item = &Address> {
        let steps = self.sequence.steps.iter().filter(|s| s.kind() != StepKind::Await);
        steps.filter_map(|s| s.service()).map(|on| &on.address)
    }

    /// Refuses what would cut Yantro off, or end it.
    pub(super) fn heed_ways(&mut self, ways: &Ways, terms: &BTreeMap<Address, UnitTerms>, estate: &Estate) {
        let mut obstacles: Vec<Obstacle> = Vec::new();
        let acting: BTreeSet<&Address> = self.acting().collect();
        for address in acting {
            let by_hand = |why: String| (why, "do it by hand, or leave it out".to_owned());
            let against = against(ways, estate, address).or_else(|| goes_along(terms.get(address)?, address));
            let Some((why, mend)) = against.map(by_hand).or_else(|| unsaid(ways, address)) else { continue };
            obstacles.push(Obstacle { address: Some(address.clone()), line: None, why, mend });
        }
        self.obstacles.extend(obstacles);
    }

    /// Says what else listens on hosts that go down, and what comes up there by itself at the next boot.
    pub(super) fn remark_on_strangers(&mut self, estate: &Estate, surveys: &BTreeMap<HostName, Survey>) {
        for (host, survey) in surveys {
            let mine = || estate.services.values().filter(|s| s.is_on(host));
            let ports: BTreeSet<u16> = mine()
                .flat_map(|s| &s.ladder)
                .filter_map(|r| if let RungKind::Port { port, .. } = &r.kind { Some(*port) } else { None })
                .collect();
            let units: BTreeSet<&str> =
                mine().filter_map(|s| if let ServiceRunner::Systemd(u) = &s.runner { Some(u.unit.as_str()) } else { None }).collect();
            // The system's own plumbing, its SSH server with it, is the host itself.
            let of_units = survey.units.iter().filter(|u| !u.plumbing && !units.contains(u.unit.as_str()));
            let named = of_units.flat_map(|u| u.ports.iter().map(|p| (u.unit.clone(), p)));
            let is_ssh = |p: &&FoundPort| p.process.as_deref().is_some_and(|p| p.starts_with("sshd"));
            let unnamed =
                survey.others.iter().filter(|p| !is_ssh(p)).map(|p| (p.process.clone().unwrap_or_else(|| "something".to_owned()), p));
            let strangers = named.chain(unnamed).filter(|(_, p)| !ports.contains(&p.port) && !is_loopback(&p.on));
            let strangers: BTreeSet<String> = strangers.map(|(by, p)| format!("{by} on {}", p.port)).collect();
            let strangers: Vec<String> = strangers.into_iter().collect();
            if !strangers.is_empty() {
                self.remarks.push(format!("{host} takes down with it what no service describes: {}", strangers.join(", ")));
            }
        }
        let raised: BTreeSet<&Address> =
            self.sequence.steps.iter().filter_map(|s| s.service()).filter(|on| on.kind == StepKind::Start).map(|on| &on.address).collect();
        let booting: BTreeSet<&HostName> = raised.iter().filter(|a| a.is_host()).map(|a| &a.host).collect();
        let mut by_itself = Vec::new();
        for service in estate.services.values().filter(|s| booting.contains(&s.address.host) && !raised.contains(&s.address)) {
            if matches!(&service.runner, ServiceRunner::Systemd(u) if u.at_boot == Some(true)) {
                by_itself.push(format!(
                    "{} is not among what is started, and comes up by itself when {} boots",
                    service.address, service.address.host
                ));
            }
        }
        self.remarks.extend(by_itself);
    }
}

/// Why something is never acted on.
fn against(ways: &Ways, estate: &Estate, address: &Address) -> Option<String> {
    let host = &address.host;
    if let Some(way) = ways.hosts.get(host).filter(|_| address.is_power()) {
        return Some(format!("{host} is never acted on by a run: {way}"));
    }
    let ServiceRunner::Systemd(unit) = &estate.services.get(address)?.runner else { return None };
    if let Some(way) = ways.units.get(host).and_then(|units| units.get(&unit.unit)) {
        return Some(format!("{address} is never acted on by a run: {way}"));
    }
    unit.is_ssh_server().then(|| format!("{address} is the SSH server by which Yantro comes to {host} (here → {host})"))
}

/// Why a unit is never acted on though it goes by another name than what Yantro hangs on, or is another: its manager would take that
/// along, and nobody can allow it.
fn goes_along(terms: &UnitTerms, address: &Address) -> Option<String> {
    let unit = terms.hung_on.as_ref()?;
    Some(format!("{address} is never acted on by a run: {unit}, which Yantro hangs on at {}, goes with it", address.host))
}

/// Why a host may be one that is never acted on, and how to have that said.
fn unsaid(ways: &Ways, address: &Address) -> Option<(String, String)> {
    let why = (address.is_power() && !ways.unsaid.is_empty()).then(|| ways.unsaid.join("; "))?;
    let mend = "see that `ssh -G` answers for each host, asked by the account of the server".to_owned();
    Some((format!("whether Yantro comes to others through {} cannot be said: {why}", address.host), mend))
}

fn is_loopback(on: &str) -> bool {
    on.parse::<std::net::IpAddr>().is_ok_and(|ip| ip.is_loopback())
}
