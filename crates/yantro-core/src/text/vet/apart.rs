//! Services whose processes look alike: what tells them apart, and a fault where nothing does.

use std::collections::{BTreeMap, BTreeSet};

use super::{Draft, Vetting};
use crate::{
    model::*,
    words::{
        Reach,
        name::{Address, HostName},
    },
};

impl Vetting<'_, '_> {
    /// A process that Yantro did not start itself, or whose record is gone, is known by its program and arguments. Where several
    /// services of a machine share these, the rest of what they are started with has to tell: taken for each other, one would
    /// be proven by the other's process, and stopping one would end the other.
    pub(super) fn told_apart(&mut self, drafts: &[Draft], hosts: &BTreeMap<HostName, Host>, services: &mut BTreeMap<Address, Service>) {
        let mut alike: BTreeMap<(String, String, Vec<String>), Vec<Address>> = BTreeMap::new();
        for (address, service) in services.iter().filter(|(a, _)| !self.stand_ins.contains(*a)) {
            let (Some(spec), Some(machine)) = (process_of(service), hosts.get(&address.host).and_then(machine_of)) else { continue };
            alike.entry((machine, spec.program.clone(), spec.args.clone())).or_default().push(address.clone());
        }
        for several in alike.into_values().filter(|a| a.len() > 1) {
            let specs: Vec<&ProcessSpec> = several.iter().filter_map(|a| process_of(&services[a])).collect();
            let differs = |of: fn(&ProcessSpec) -> String| specs.iter().map(|s| of(s)).collect::<BTreeSet<_>>().len() > 1;
            let names: BTreeSet<String> = specs.iter().flat_map(|s| s.env.keys().cloned()).collect();
            let apart = Apart {
                env: names.into_iter().filter(|n| specs.iter().map(|s| s.env.get(n)).collect::<BTreeSet<_>>().len() > 1).collect(),
                dir: differs(|s| s.dir.clone()),
                user: differs(|s| s.user.clone().unwrap_or_default()),
            };
            let key = |s: &ProcessSpec| (s.env.clone(), s.dir.clone(), s.user.clone());
            for (i, (address, spec)) in several.iter().zip(&specs).enumerate() {
                let Some(twin) = several[..i].iter().zip(&specs).find(|(_, s)| key(s) == key(spec)).map(|(a, _)| a) else { continue };
                let Some(draft) = drafts.iter().find(|d| d.address == *address) else { continue };
                let place = self.places.key(&draft.path);
                self.faults.error(
                    "not-told-apart",
                    place,
                    format!("{address} is started like {twin} to the letter, on the same machine: their processes cannot be told apart"),
                    "give them different arguments, or another environment, folder or account",
                );
            }
            for address in &several {
                if let Some(Service { runner: ServiceRunner::Process(spec), .. }) = services.get_mut(address) {
                    spec.apart = apart.clone();
                }
            }
        }
    }
}

fn process_of(service: &Service) -> Option<&ProcessSpec> {
    match &service.runner {
        ServiceRunner::Process(spec) if !spec.program.is_empty() => Some(spec),
        _ => None,
    }
}

/// What stands for the machine that a host is; nothing where nothing is run.
fn machine_of(host: &Host) -> Option<String> {
    match host.reach {
        Reach::Here => Some("here".to_owned()),
        Reach::Ssh => Some(format!("{}:{}", host.address, host.ssh.as_ref().and_then(|s| s.port).unwrap_or(22))),
        Reach::Simulated => None,
    }
}
