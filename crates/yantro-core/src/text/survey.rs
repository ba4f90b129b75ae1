//! What is found on a host, and how it would be described in an estate.

use std::{
    collections::{BTreeMap, BTreeSet},
    sync::Arc,
};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use toml_edit::{Array, DocumentMut, InlineTable, Item, Table, value};

use crate::{
    model::{Estate, ServiceRunner},
    words::name::{Address, HostName},
};

/// What runs on a host.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Survey {
    /// The services of its manager.
    pub units: Vec<FoundUnit>,
    /// Listening ports whose process belongs to none of them.
    pub others: Vec<FoundPort>,
}

/// A service of the host's manager.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct FoundUnit {
    /// Its name.
    pub unit: String,
    /// What it says it is.
    pub title: String,
    /// Its state: `active (running)`.
    pub state: String,
    /// Whether it comes up at boot: `enabled`, `disabled`, `static`, …
    pub at_boot: String,
    /// Where it listens.
    pub ports: Vec<FoundPort>,
    /// Units that it needs.
    pub needs: BTreeSet<String>,
    /// Units that it begins after.
    pub after: BTreeSet<String>,
    /// Whether it is the system's own plumbing.
    pub plumbing: bool,
    /// What the estate calls it, where it is described already.
    #[serde(default)]
    pub described_as: Option<Address>,
}

/// A listening port.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
pub struct FoundPort {
    /// The port.
    pub port: u16,
    /// The local address.
    pub on: String,
    /// The process that holds it, where it can be seen.
    pub process: Option<String>,
}

/// Units that belong to the system itself, by the beginnings of their names.
const PLUMBING: &[&str] = &[
    "systemd-",
    "dbus",
    "getty@",
    "getty-static",
    "serial-getty@",
    "console-getty",
    "container-getty@",
    "user@",
    "user-runtime-dir@",
    "init",
    "kmod",
    "modprobe@",
    "emergency",
    "rescue",
    "e2scrub",
    "apt-",
    "dpkg-",
    "man-db",
    "fstrim",
    "logrotate",
    "networking",
    "ifup@",
    "ifupdown",
    "keyboard-setup",
    "console-setup",
    "polkit",
    "udisks2",
    "cron",
    "rsyslog",
    "ssh.",
    "sshd",
    "ssh@",
    "rc-local",
    "plymouth",
    "udev",
    "initrd-",
    "debug-shell",
    "auditd",
    "lvm2-",
    "dm-event",
    "blk-availability",
    "quotarpc",
    "alsa-",
    "bluetooth",
    "wpa_supplicant",
    "avahi-",
    "nftables",
    "apparmor",
    "yantro",
    "ldconfig",
    "motd-",
    "sudo.",
    "x11-common",
    "hwclock",
    "procps",
    "kbd",
    "acpid",
];

/// Whether a unit is the system's own plumbing.
pub fn is_plumbing(unit: &str) -> bool {
    PLUMBING.iter().any(|p| unit.starts_with(p))
}

impl Survey {
    /// Says of each unit what the estate calls it.
    pub fn known_in(mut self, estate: &Estate, host: &HostName) -> Self {
        for found in &mut self.units {
            let is_it = |s: &&Arc<crate::model::Service>| {
                s.is_on(host) && matches!(&s.runner, ServiceRunner::Systemd(spec) if spec.unit == found.unit)
            };
            found.described_as = estate.services.values().find(is_it).map(|s| s.address.clone());
        }
        self
    }

    /// What chosen units need that no service describes, and nobody chose: each unit with the one that it needs.
    pub fn left_out(&self, chosen: &[String]) -> Vec<(String, String)> {
        let missing = |unit: &&String| {
            let found = self.units.iter().find(|u| &u.unit == *unit);
            found.is_some_and(|u| !u.plumbing && u.described_as.is_none()) && !chosen.contains(unit)
        };
        let of = self.units.iter().filter(|u| chosen.contains(&u.unit));
        of.flat_map(|u| u.needs.iter().filter(missing).map(|need| (u.unit.clone(), need.clone()))).collect()
    }

    /// Services that were described before something that their units need was: each with that. `before` is the estate
    /// without it.
    pub fn now_related(&self, before: &Estate) -> Vec<(Address, Address)> {
        let called = |unit: &String| self.units.iter().find(|u| &u.unit == unit).and_then(|u| u.described_as.clone());
        let known = self.units.iter().filter_map(|u| Some((u, before.services.get(u.described_as.as_ref()?)?)));
        let pairs = known.flat_map(|(u, service)| {
            let needed = u.needs.iter().filter_map(called).filter(|n| !before.services.contains_key(n));
            needed.filter(|n| !service.relies_on_any().any(|r| r == n)).map(|n| (service.address.clone(), n)).collect::<Vec<_>>()
        });
        pairs.collect()
    }

    /// The chosen units as a piece of an estate file: each a service, its ports as rungs, what it needs among these and
    /// what is described already as relations. Names that the estate has elsewhere are told apart by the host's.
    pub fn describe(&self, estate: &Estate, host: &HostName, chosen: &[String]) -> String {
        let units: Vec<&FoundUnit> = self.units.iter().filter(|u| chosen.contains(&u.unit) && u.described_as.is_none()).collect();
        let mut names: BTreeMap<&str, String> = BTreeMap::new();
        let mut taken: BTreeSet<String> = estate.services.keys().map(|a| a.service.to_string()).collect();
        for found in &units {
            let name = free_name(&found.unit, host, &taken);
            taken.insert(name.clone());
            names.insert(&found.unit, name);
        }
        let mut services = Table::new();
        services.set_implicit(true);
        for found in units {
            let mut service = Table::new();
            service["title"] = value(&found.title);
            service["host"] = value(host.as_str());
            service["run_by"] = value("systemd");
            service["unit"] = value(found.unit.trim_end_matches(".service"));
            match found.at_boot.as_str() {
                "enabled" | "enabled-runtime" => service["at_boot"] = value(true),
                "disabled" => service["at_boot"] = value(false),
                _ => {}
            }
            if !found.state.starts_with("active") {
                service["expected"] = value("either");
            }
            let called = |unit: &String| {
                let known = self.units.iter().find(|u| &u.unit == unit)?;
                names.get(unit.as_str()).cloned().or_else(|| known.described_as.as_ref().map(ToString::to_string))
            };
            let relies: Array = found.needs.iter().filter_map(called).collect();
            if !relies.is_empty() {
                service["relies_on"] = value(relies);
            }
            let left_out: Vec<String> = self.left_out(chosen).into_iter().filter(|(u, _)| *u == found.unit).map(|(_, need)| need).collect();
            if !left_out.is_empty()
                && let Some(mut first) = service.key_mut("title")
            {
                first.leaf_decor_mut().set_prefix(format!("# it needs {}, which no service describes yet\n", left_out.join(" and ")));
            }
            let yields: Array = found.after.iter().filter(|u| !found.needs.contains(*u)).filter_map(called).collect();
            if !yields.is_empty() {
                service["yields_to"] = value(yields);
            }
            let mut ladder = Array::new();
            let mut seen = BTreeSet::new();
            for port in found.ports.iter().filter(|p| seen.insert(p.port)) {
                let mut rung = InlineTable::new();
                rung.insert("rung", "port".into());
                rung.insert("port", i64::from(port.port).into());
                // Where it listens for this host alone, the host's own address would never be found.
                if port.on.starts_with("127.") || port.on == "::1" {
                    rung.insert("on", port.on.as_str().into());
                }
                ladder.push(rung);
            }
            if !ladder.is_empty() {
                service["ladder"] = value(ladder);
            }
            services.insert(&names[found.unit.as_str()], Item::Table(service));
        }
        let mut piece = DocumentMut::new();
        piece.insert("service", Item::Table(services));
        piece.to_string()
    }
}

fn free_name(unit: &str, host: &HostName, taken: &BTreeSet<String>) -> String {
    let plain: String = unit
        .trim_end_matches(".service")
        .chars()
        .map(|c| if c.is_ascii_alphanumeric() || c == '-' || c == '_' { c.to_ascii_lowercase() } else { '-' })
        .collect();
    let plain = plain.trim_matches('-').to_owned();
    let besides = format!("{plain}-{host}");
    let counted = (2..).map(|n| format!("{besides}-{n}"));
    std::iter::once(plain).chain([besides.clone()]).chain(counted).find(|n| !taken.contains(n)).expect("numbers do not end")
}
