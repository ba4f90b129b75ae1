//! Vetting: from the text of an estate file to an [`Estate`], or to all that is wrong with it.

mod apart;
mod code;
mod drafts;
mod hosts;
mod hours;
mod procedures;
mod questions;
mod relations;
mod rungs;
mod service;
pub(super) mod slips;
mod used;
mod whole;
mod work;

use std::{
    collections::{BTreeMap, BTreeSet},
    sync::Arc,
    time::Duration,
};

use serde_json::{Map, Value};

use super::{
    fault::{Fault, Faults},
    file::*,
    structure::{self, Places},
};
use crate::{
    calendar::Hours,
    model::*,
    words::{
        Reach, StandsFor,
        name::{Address, HostName, ServiceName, did_you_mean},
        time::Timestamp,
    },
};

/// What vetting comes to: the estate where it has no error, and all faults either way.
#[derive(Debug, Clone)]
pub struct Vetted {
    /// The estate, if it can be loaded.
    pub estate: Option<Estate>,
    /// Errors and warnings, in the order of the text.
    pub faults: Vec<Fault>,
}

/// An occurrence that is further away than this is never: a leap day may take eight years to come again.
const NEVER: Duration = Duration::from_secs(9 * 366 * 24 * 3600);

impl Vetted {
    /// Tells besides which change freezes and windows of the text are over by now, and do not come again.
    pub fn by(mut self, text: &str, now: Timestamp) -> Self {
        let Some(estate) = &self.estate else { return self };
        let is_over = |hours: &Hours| hours.covering(now).is_none() && hours.next(now, NEVER).is_none();
        let freezes = estate.freezes.iter().filter(|(_, f)| is_over(&f.hours)).map(|(name, _)| ("freeze", name));
        let windows = estate.windows.iter().filter(|(_, w)| is_over(&w.hours)).map(|(name, _)| ("window", name));
        let over: Vec<(&str, &String)> = freezes.chain(windows).collect();
        if over.is_empty() {
            return self;
        }
        let (_, places) = structure::read(text, &mut Faults::new(text));
        let mut faults = Faults::new(text);
        for (table, name) in over {
            let says = format!("{table} {name} is over, and does not come again");
            let mend = "take it away, or say when it comes: `from = \"…\"`, with a `rule` where it does so again and again";
            faults.warn("over", places.key(&format!("{table}.{name}")), says, mend);
        }
        self.faults.extend(faults.into_sorted());
        self.faults.sort_by_key(|f| f.span.start);
        self
    }
}

/// Vets an estate file. `folder` is where relative paths start from, unless the file says so itself.
///
/// The size is judged before anything else: see [`MAX_BYTES`].
pub fn vet(text: &str, folder: &str) -> Vetted {
    vet_with(text, folder, &BTreeMap::new())
}

/// Vets an estate file as one run sees it: with settings put over those of single services, by address.
pub fn vet_with(text: &str, folder: &str, over: &BTreeMap<Address, Map<String, Value>>) -> Vetted {
    let mut faults = Faults::new(text);
    if text.len() > MAX_BYTES {
        faults.error(
            "too-large",
            0..0,
            format!("the file has {} bytes, and an estate may have {MAX_BYTES}", text.len()),
            "is this the right file? write common settings once, with `like`",
        );
        return Vetted { estate: None, faults: faults.into_sorted() };
    }
    let (sound, places) = structure::read(text, &mut faults);
    let estate = match serde_json::from_value::<EstateFile>(sound.clone()) {
        Ok(file) => {
            Some(Vetting { file, sound, places, folder, over, faults: &mut faults, elsewhere: false, stand_ins: BTreeSet::new() }.estate())
        }
        Err(error) => {
            // Whatever keeps it from being read was told with its place.
            if !faults.any_error() {
                faults.error("unreadable", 0..0, format!("the file cannot be read: {error}"), "see docs/estate.md for the format");
            }
            None
        }
    };
    let estate = estate.filter(|_| !faults.any_error());
    Vetted { estate, faults: faults.into_sorted() }
}

/// The largest estate file that is read: ten thousand services fit several times over.
pub const MAX_BYTES: usize = 16 * 1024 * 1024;

struct Vetting<'v, 't> {
    file: EstateFile,
    sound: Value,
    places: Places,
    folder: &'v str,
    /// What a run puts over single services.
    over: &'v BTreeMap<Address, Map<String, Value>>,
    faults: &'v mut Faults<'t>,
    /// What is being vetted is on another host, where this one's folders mean nothing.
    elsewhere: bool,
    /// Services that are looked at as if they were on a host, and are on none that is there: no other is held against them.
    stand_ins: BTreeSet<Address>,
}

/// A piece of the text, in bytes.
type Place = std::ops::Range<usize>;

/// One copy of a service before its relations are resolved.
struct Draft {
    address: Address,
    path: String,
    settings: ServiceFile,
}

impl Vetting<'_, '_> {
    fn estate(mut self) -> Estate {
        let name = self.file.estate.name.clone();
        if name.as_deref().is_none_or(|n| n.trim().is_empty()) {
            // A blank one is none.
            if name.is_some() || !self.places.is_meant("estate.name") {
                let at = self.places.key("estate");
                self.faults.error("missing-key", at, "the estate has no name", "add [estate] with `name = \"…\"`");
            }
        }
        if self.file.estate.stands_for.is_none() {
            let at = self.places.key("estate");
            self.lacks(
                &["estate.stands_for".to_owned()],
                at,
                "the estate does not say what it stands for",
                "add `stands_for = \"production\"` (or rehearsal, test, development, demonstration) to [estate]",
            );
        }
        self.slips();
        self.optional_and_off();
        let hosts = self.hosts();
        let drafts = self.drafts(&hosts);
        let by_service: BTreeMap<ServiceName, Vec<Address>> = drafts.iter().fold(BTreeMap::new(), |mut all, d| {
            all.entry(d.address.service.clone()).or_insert_with(Vec::new).push(d.address.clone());
            all
        });
        let known: BTreeSet<Address> = drafts.iter().map(|d| d.address.clone()).collect();
        let mut services = BTreeMap::new();
        for draft in &drafts {
            let mut service = self.service(draft, &hosts, &by_service, &known);
            // Whatever runs on a host cannot do so without it. By its SSH server it is asked to go down: that one goes with it.
            let host = Address::of_host(&draft.address.host);
            let is_way = matches!(&service.runner, ServiceRunner::Systemd(u) if u.is_ssh_server());
            if known.contains(&host) && !draft.address.is_power() && !is_way {
                service.relies_on.push(Relation { any_of: BTreeSet::from([host]), at_least: 1 });
            }
            services.insert(draft.address.clone(), service);
        }
        // What must never be up together is so both ways, whoever says it.
        let pairs: Vec<(Address, Address)> =
            services.values().flat_map(|s| s.never_with.iter().map(|o| (o.clone(), s.address.clone()))).collect();
        for (one, other) in pairs {
            if let Some(service) = services.get_mut(&one) {
                service.never_with.insert(other);
            }
        }
        self.told_apart(&drafts, &hosts, &mut services);
        let groups = self.groups(&drafts);
        let estate = Estate {
            name: name.unwrap_or_default(),
            stands_for: self.file.estate.stands_for.unwrap_or(StandsFor::Production),
            time_zone: self.file.estate.time_zone.clone().unwrap_or_else(|| "UTC".to_owned()),
            limits: Limits { at_once: self.file.limits.at_once, per_host: self.file.limits.per_host },
            hosts,
            groups,
            services: services.into_iter().map(|(a, s)| (a, Arc::new(s))).collect(),
            freezes: self.freezes(),
            windows: self.windows(),
            procedures: BTreeMap::new(),
        };
        self.whole(&estate);
        self.between(&estate);
        let procedures = self.procedures(&estate);
        self.diverts(&procedures);
        Estate { procedures, ..estate }
    }

    fn hosts(&mut self) -> BTreeMap<HostName, Host> {
        let mut hosts = BTreeMap::new();
        for (text, host) in self.file.host.clone() {
            let path = format!("host.{text}");
            let Some(name) = self.name::<HostName>(&text, &path) else { continue };
            if host.reach.is_none() {
                self.lacks(
                    &[format!("{path}.reach")],
                    self.places.key(&path),
                    format!("host {name} does not say how it is reached"),
                    "add `reach = \"here\"` for the machine that Yantro runs on",
                );
            }
            let ssh = self.ssh(&name, &path, &host);
            let power = self.power(&name, &path, &host);
            let simulated = self.simulated_host(&name, &path, &host);
            let to = host.ssh.as_ref().and_then(|s| s.to.clone());
            let address = host.address.clone().or(to).unwrap_or_else(|| "127.0.0.1".to_owned());
            match address.parse::<std::net::IpAddr>() {
                _ if ssh.is_some() || host.reach == Some(Reach::Simulated) => {}
                Ok(ip) if ip.is_loopback() => {}
                Ok(_) => self.faults.error(
                    "not-loopback",
                    self.places.value(&format!("{path}.address")),
                    format!("host {name} is reached \"here\", and {address} is no loopback address"),
                    "give it an address such as \"127.0.2.1\"",
                ),
                Err(_) => self.faults.error(
                    "bad-address",
                    self.places.value(&format!("{path}.address")),
                    format!("\"{address}\" is no network address"),
                    "write an address such as \"127.0.2.1\"",
                ),
            }
            for optional in &host.turns_on {
                let is_one = self.file.service.iter().any(|(n, s)| n.eq_ignore_ascii_case(optional) && self.is_optional(s));
                if !is_one {
                    let names: Vec<String> =
                        self.file.service.iter().filter(|(_, s)| self.is_optional(s)).map(|(n, _)| n.clone()).collect();
                    self.faults.error(
                        "unknown-name",
                        self.places.value(&format!("{path}.turns_on")),
                        format!("host {name} turns on \"{optional}\", which is no optional service"),
                        did_you_mean(optional, names.iter().map(String::as_str)),
                    );
                }
            }
            let host =
                Host { title: host.title, reach: host.reach.unwrap_or(Reach::Here), address, at_once: host.at_once, ssh, power, simulated };
            if hosts.insert(name.clone(), host).is_some() {
                self.faults.error(
                    "duplicate",
                    self.places.key(&path),
                    format!("host {name} is there twice"),
                    "names match without regard to case; rename one",
                );
            }
        }
        hosts
    }

    /// How OpenSSH reaches a host that is reached so.
    fn ssh(&mut self, name: &HostName, path: &str, host: &HostFile) -> Option<SshSpec> {
        if host.reach != Some(Reach::Ssh) {
            if host.ssh.is_some() {
                self.faults.error(
                    "contradiction",
                    self.places.key(&format!("{path}.ssh")),
                    format!("host {name} says how SSH reaches it, and is not reached so"),
                    "write `reach = \"ssh\"`, or take the ssh block away",
                );
            }
            return None;
        }
        let ssh = host.ssh.clone().unwrap_or_default();
        if host.address.is_none() && ssh.to.is_none() && !self.places.is_meant(&format!("{path}.ssh.to")) {
            self.lacks(
                &[format!("{path}.address")],
                self.places.key(path),
                format!("host {name} is reached over SSH, and it is not said where it is"),
                "add `address = \"…\"`, or `to` in its ssh block where OpenSSH's configuration knows it by another name",
            );
        }
        // What begins with a dash would be an option to the client.
        let texts = [("address", &host.address), ("ssh.to", &ssh.to), ("ssh.account", &ssh.account)];
        for (key, text) in texts.into_iter().filter_map(|(k, t)| Some((k, t.as_deref()?))) {
            if text.trim().is_empty() || text.starts_with('-') || text.contains(char::is_whitespace) {
                self.faults.error(
                    "bad-address",
                    self.places.value(&format!("{path}.{key}")),
                    format!("\"{text}\" is no name or address"),
                    "write it without blanks, and not beginning with a dash",
                );
            }
        }
        let file = |f: Option<String>| f.map(|f| if f.starts_with("~/") { f } else { self.path(&f) });
        Some(SshSpec {
            to: ssh.to,
            account: ssh.account,
            port: ssh.port,
            key: file(ssh.key),
            known_hosts: file(ssh.known_hosts),
            config: file(ssh.config),
            sudo: ssh.sudo,
            outpost: ssh.outpost,
        })
    }

    fn is_optional(&self, service: &ServiceFile) -> bool {
        service.optional.or_else(|| self.file.like.get(service.like.as_deref()?)?.optional).unwrap_or(false)
    }

    fn name<N: std::str::FromStr<Err = crate::words::name::NameError>>(&mut self, text: &str, path: &str) -> Option<N> {
        match text.parse() {
            Ok(name) => Some(name),
            Err(error) => {
                self.faults.error("bad-name", self.places.key(path), error.to_string(), "use letters, digits, \"-\" and \"_\"");
                None
            }
        }
    }

    /// Where a key that a service takes from a common block is written.
    fn place_of_like(&self, path: &str, at: &str) -> Place {
        let service = path.trim_start_matches("service.");
        let mut like = self.file.service.get(service).and_then(|s| s.like.clone());
        for _ in 0..self.file.like.len() + 1 {
            let Some(name) = like else { break };
            let here = format!("like.{name}.{at}");
            if self.places.has(&here) {
                return self.places.value(&here);
            }
            like = self.file.like.get(&name).and_then(|s| s.like.clone());
        }
        self.places.value(&format!("{path}.{at}"))
    }

    /// Tells that something is missing at these paths, unless the file was meant to say it there: that is blamed already.
    fn lacks(&mut self, missing: &[String], place: Place, says: impl Into<String>, mend: impl Into<String>) {
        if missing.iter().any(|path| !self.places.is_meant(path)) {
            self.faults.error("missing-key", place, says, mend);
        }
    }

    /// Whether a service was meant to say a key, by itself or by what it is like.
    fn is_meant(&self, draft: &Draft, key: &str) -> bool {
        let mut like = self.file.service.get(draft.path.trim_start_matches("service.")).and_then(|s| s.like.clone());
        let mut said = self.places.is_meant(&format!("{}.{key}", draft.path));
        for _ in 0..self.file.like.len() + 1 {
            let Some(name) = like.filter(|_| !said) else { break };
            said = self.places.is_meant(&format!("like.{name}.{key}"));
            like = self.file.like.get(&name).and_then(|s| s.like.clone());
        }
        said
    }

    fn at(&self, draft: &Draft, key: &str) -> Place {
        let own = format!("{}.{key}", draft.path);
        if self.places.has(&own) { self.places.value(&own) } else { self.place_of_like(&draft.path, key) }
    }

    fn base(&self) -> String {
        if self.elsewhere {
            return "/".to_owned();
        }
        match &self.file.estate.dir {
            Some(dir) if dir.starts_with('/') => dir.trim_end_matches('/').to_owned(),
            Some(dir) => format!("{}/{dir}", self.folder.trim_end_matches('/')),
            None => self.folder.trim_end_matches('/').to_owned(),
        }
    }

    /// Where commands run that name no folder: the root is one, too.
    fn base_folder(&self) -> String {
        Some(self.base()).filter(|base| !base.is_empty()).unwrap_or_else(|| "/".to_owned())
    }

    fn path(&self, text: &str) -> String {
        if self.elsewhere {
            // What is not absolute is a fault of its own: see `paths_elsewhere`.
            return text.to_owned();
        }
        if let Some(below) = text.strip_prefix("{dir}") {
            return if below.is_empty() { self.base_folder() } else { format!("{}{below}", self.base()) };
        }
        if text.starts_with('/') { text.to_owned() } else { format!("{}/{}", self.base(), text.trim_start_matches("./")) }
    }

    /// A program: a bare name is looked up in PATH at the act, anything with a stroke is a path.
    fn program(&self, text: &str) -> String {
        if text.contains('/') { self.path(text) } else { text.to_owned() }
    }

    fn command(&self, words: &[String]) -> Vec<String> {
        let mut words = words.to_vec();
        if let Some(first) = words.first_mut() {
            *first = self.program(first);
        }
        words
    }

    /// A service's name as the file writes it.
    fn written(&self, address: &Address) -> String {
        self.file.service.keys().find(|k| k.eq_ignore_ascii_case(address.service.as_str())).cloned().unwrap_or_default()
    }
}
