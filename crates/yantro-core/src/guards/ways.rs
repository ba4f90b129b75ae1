//! What a plan must not do to hosts: act on the ways by which Yantro itself comes to them (R13), and take down unsaid
//! what nobody described (R37).

use std::collections::{BTreeMap, BTreeSet};

use crate::{
    estate::{Estate, RungKind, ServiceRunner},
    name::{Address, HostName},
    sequence::{Obstacle, Plan, StepKind},
    survey::{FoundPort, Survey},
};

/// Units that are the SSH server of a host.
const SSH_UNITS: [&str; 4] = ["ssh.service", "sshd.service", "ssh.socket", "sshd.socket"];

impl Plan {
    /// The hosts that it shuts down, powers on or reboots.
    pub fn hosts_acted_on(&self) -> BTreeSet<HostName> {
        self.acting().filter(|a| a.is_power()).map(|a| a.host.clone()).collect()
    }

    /// Whether it acts on the SSH server of a host.
    pub fn acts_on_ssh(&self, estate: &Estate) -> bool {
        self.acting().any(|a| is_ssh(estate, a))
    }

    fn acting(&self) -> impl Iterator<Item = &Address> {
        let steps = self.sequence.steps.iter().filter(|s| s.kind() != StepKind::Await);
        steps.filter_map(|s| s.service()).map(|on| &on.address)
    }

    /// Refuses what would cut Yantro off: `ways` are the hosts that must not be acted on, each with the reason.
    pub fn heed_ways(&mut self, ways: &BTreeMap<HostName, String>, estate: &Estate) {
        let mut obstacles: Vec<Obstacle> = Vec::new();
        let acting: BTreeSet<&Address> = self.acting().collect();
        for address in acting {
            let why = match ways.get(&address.host).filter(|_| address.is_power()) {
                Some(way) => format!("{} is never acted on by a run: {way}", address.host),
                None if is_ssh(estate, address) => {
                    format!("{address} is the SSH server by which Yantro comes to {} (here → {})", address.host, address.host)
                }
                None => continue,
            };
            let mend = "do it by hand, or leave it out".to_owned();
            obstacles.push(Obstacle { address: Some(address.clone()), line: None, why, mend });
        }
        self.obstacles.extend(obstacles);
    }

    /// Says what else listens on hosts that go down, and what comes up there by itself at the next boot.
    pub fn remark_on_strangers(&mut self, estate: &Estate, surveys: &BTreeMap<HostName, Survey>) {
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

fn is_ssh(estate: &Estate, address: &Address) -> bool {
    let runner = estate.services.get(address).map(|s| &s.runner);
    matches!(runner, Some(ServiceRunner::Systemd(u)) if SSH_UNITS.contains(&u.unit.as_str()))
}

fn is_loopback(on: &str) -> bool {
    on.parse::<std::net::IpAddr>().is_ok_and(|ip| ip.is_loopback())
}
