//! Vetting: from the text of an estate file to an [`Estate`], or to all that is wrong with it.

use std::collections::{BTreeMap, BTreeSet};

use serde_json::Value;

use super::{
    fault::{Fault, Faults},
    file::*,
    fill::{Unfilled, fill},
    model::*,
    structure::{self, Places},
};
use crate::{
    graph::{self, EstateGraph},
    name::{Address, CopyName, GroupName, HostName, ServiceName, did_you_mean},
    time::Span,
};

/// What vetting comes to: the estate where it has no error, and all faults either way.
#[derive(Debug, Clone)]
pub struct Vetted {
    /// The estate, if it can be loaded.
    pub estate: Option<Estate>,
    /// Errors and warnings, in the order of the text.
    pub faults: Vec<Fault>,
}

/// Vets an estate file. `folder` is where relative paths start from, unless the file says so itself.
///
/// The size is judged before anything else: see [`MAX_BYTES`].
pub fn vet(text: &str, folder: &str) -> Vetted {
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
        Ok(file) => Some(Vetting { file, sound, places, folder, faults: &mut faults }.estate()),
        Err(error) => {
            faults.error("unreadable", 0..0, format!("the file cannot be read: {error}"), "mend the other faults first");
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
    faults: &'v mut Faults<'t>,
}

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
            let at = self.places.key("estate");
            self.faults.error("missing-key", at, "the estate has no name", "add [estate] with `name = \"…\"`");
        }
        if self.file.estate.stands_for.is_none() && !self.places.has("estate.stands_for") {
            let at = self.places.key("estate");
            self.faults.error(
                "missing-key",
                at,
                "the estate does not say what it stands for",
                "add `stands_for = \"production\"` (or rehearsal, test, development, demonstration) to [estate]",
            );
        }
        let hosts = self.hosts();
        let drafts = self.drafts(&hosts);
        let by_service: BTreeMap<ServiceName, Vec<Address>> = drafts.iter().fold(BTreeMap::new(), |mut all, d| {
            all.entry(d.address.service.clone()).or_insert_with(Vec::new).push(d.address.clone());
            all
        });
        let known: BTreeSet<Address> = drafts.iter().map(|d| d.address.clone()).collect();
        let mut services = BTreeMap::new();
        for draft in &drafts {
            let service = self.service(draft, &hosts, &by_service, &known);
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
        let groups = self.groups(&drafts);
        let estate = Estate {
            name: name.unwrap_or_default(),
            stands_for: self.file.estate.stands_for.unwrap_or(StandsFor::Production),
            time_zone: self.file.estate.time_zone.clone().unwrap_or_else(|| "UTC".to_owned()),
            limits: Limits { at_once: self.file.limits.at_once, per_host: self.file.limits.per_host },
            hosts,
            groups,
            services,
        };
        self.whole(&estate);
        estate
    }

    fn hosts(&mut self) -> BTreeMap<HostName, Host> {
        let mut hosts = BTreeMap::new();
        for (text, host) in self.file.host.clone() {
            let path = format!("host.{text}");
            let Some(name) = self.name::<HostName>(&text, &path) else { continue };
            if host.reach.is_none() && !self.places.has(&format!("{path}.reach")) {
                self.faults.error(
                    "missing-key",
                    self.places.key(&path),
                    format!("host {name} does not say how it is reached"),
                    "add `reach = \"here\"` for the machine that Yantro runs on",
                );
            }
            let address = host.address.clone().unwrap_or_else(|| "127.0.0.1".to_owned());
            match address.parse::<std::net::IpAddr>() {
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
            let host = Host { title: host.title, reach: host.reach.unwrap_or(Reach::Here), address, at_once: host.at_once };
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

    fn is_optional(&self, service: &ServiceFile) -> bool {
        service.optional.or_else(|| self.file.like.get(service.like.as_deref()?)?.optional).unwrap_or(false)
    }

    fn name<N: std::str::FromStr<Err = crate::name::NameError>>(&mut self, text: &str, path: &str) -> Option<N> {
        match text.parse() {
            Ok(name) => Some(name),
            Err(error) => {
                self.faults.error("bad-name", self.places.key(path), error.to_string(), "use letters, digits, \"-\" and \"_\"");
                None
            }
        }
    }

    /// A service's settings with those of its common blocks under them.
    fn merged(&mut self, name: &str, path: &str) -> Value {
        let mut own = self.sound["service"][name].clone();
        let mut seen: Vec<String> = Vec::new();
        let mut wanted = own.get("like").and_then(Value::as_str).map(str::to_owned);
        let mut said_at = format!("{path}.like");
        while let Some(like) = wanted {
            let found = self.file.like.keys().find(|k| k.eq_ignore_ascii_case(&like)).cloned();
            let Some(found) = found else {
                let names: Vec<String> = self.file.like.keys().cloned().collect();
                self.faults.error(
                    "unknown-name",
                    self.places.value(&said_at),
                    format!("there is no common block [like.{like}]"),
                    did_you_mean(&like, names.iter().map(String::as_str)),
                );
                break;
            };
            if seen.contains(&found) {
                seen.push(found);
                self.faults.error(
                    "like-cycle",
                    self.places.value(&said_at),
                    format!("these common blocks take from each other in a circle: {}", seen.join(" → ")),
                    "take one of these `like` away",
                );
                break;
            }
            let below = self.sound["like"][&found].clone();
            wanted = below.get("like").and_then(Value::as_str).map(str::to_owned);
            said_at = format!("like.{found}.like");
            lay_over(&mut own, below);
            seen.push(found);
        }
        own
    }

    fn drafts(&mut self, hosts: &BTreeMap<HostName, Host>) -> Vec<Draft> {
        let mut drafts: Vec<Draft> = Vec::new();
        let mut taken: BTreeMap<Address, String> = BTreeMap::new();
        for text in self.file.service.keys().cloned().collect::<Vec<_>>() {
            let path = format!("service.{text}");
            let Some(name) = self.name::<ServiceName>(&text, &path) else { continue };
            let merged = self.merged(&text, &path);
            let settings: ServiceFile = serde_json::from_value(merged.clone()).unwrap_or_default();
            let mut on_hosts: Vec<String> = settings.hosts.clone().unwrap_or_default();
            on_hosts.extend(settings.host.clone());
            if on_hosts.is_empty() {
                self.faults.error("missing-key", self.places.key(&path), format!("service {name} is on no host"), "add `host = \"…\"`");
            }
            for host_text in on_hosts {
                let known = host_text.parse::<HostName>().ok().filter(|h| hosts.contains_key(h));
                let Some(host) = known else {
                    let key = if settings.host.as_ref() == Some(&host_text) { "host" } else { "hosts" };
                    let names: Vec<String> = hosts.keys().map(ToString::to_string).collect();
                    self.faults.error(
                        "unknown-name",
                        self.places.value(&format!("{path}.{key}")),
                        format!("there is no host \"{host_text}\""),
                        did_you_mean(&host_text, names.iter().map(String::as_str)),
                    );
                    continue;
                };
                if settings.optional == Some(true) {
                    let on = self.file.host.iter().any(|(n, h)| {
                        n.eq_ignore_ascii_case(host.as_str()) && h.turns_on.iter().any(|s| s.eq_ignore_ascii_case(name.as_str()))
                    });
                    if !on {
                        continue;
                    }
                }
                let copies: Vec<Option<String>> = match &settings.copies {
                    Some(named) if !named.is_empty() => named.keys().cloned().map(Some).collect(),
                    _ => vec![None],
                };
                for copy_text in copies {
                    let copy = match &copy_text {
                        Some(c) => match self.name::<CopyName>(c, &format!("{path}.copies.{c}")) {
                            Some(copy) => Some(copy),
                            None => continue,
                        },
                        None => None,
                    };
                    let address = Address { host: host.clone(), service: name.clone(), copy };
                    if let Some(other) = taken.insert(address.clone(), path.clone()) {
                        self.faults.error_also(
                            "duplicate",
                            self.places.key(&path),
                            format!("{address} is there twice"),
                            "names match without regard to case; rename one, or name it on another host",
                            vec![(self.places.key(&other), "the other".to_owned())],
                        );
                        continue;
                    }
                    drafts.push(self.draft(address, &path, &merged, copy_text.as_deref(), &hosts[&host]));
                }
            }
        }
        drafts
    }

    fn draft(&mut self, address: Address, path: &str, merged: &Value, copy: Option<&str>, host: &Host) -> Draft {
        let mut all = merged.clone();
        let host_key = all["on"].as_object().and_then(|on| on.keys().find(|k| k.eq_ignore_ascii_case(address.host.as_str())).cloned());
        let mut layers: Vec<Value> = Vec::new();
        layers.extend(host_key.map(|k| all["on"][&k].clone()));
        layers.extend(copy.map(|c| all["copies"][c].clone()));
        for mut layer in layers {
            // A copy writes its environment directly; it belongs to whatever carries the service.
            if let Some(env) = layer.as_object_mut().and_then(|l| l.remove("env")) {
                for carrier in ["process", "commands"] {
                    if all.get(carrier).is_some_and(Value::is_object) {
                        let mut over = serde_json::json!({ "env": env });
                        lay_over(&mut over, all[carrier].take());
                        all[carrier] = over;
                    }
                }
            }
            lay_over(&mut layer, all);
            all = layer;
        }
        let mut values: BTreeMap<String, String> = BTreeMap::from([
            ("host".to_owned(), address.host.to_string()),
            ("address".to_owned(), host.address.clone()),
            ("service".to_owned(), address.service.to_string()),
            ("copy".to_owned(), address.copy.as_ref().map(ToString::to_string).unwrap_or_default()),
            ("dir".to_owned(), self.base()),
        ]);
        // Values may be made of the built-in ones, so these go in first.
        let mut unfilled: Vec<Unfilled> = Vec::new();
        if let Some(own) = all.get_mut("values") {
            fill(own, &values, "values", &mut unfilled);
            for (key, value) in own.as_object().into_iter().flatten() {
                values.insert(key.clone(), value.as_str().map_or_else(|| value.to_string(), str::to_owned));
            }
        }
        for key in ["values", "copies", "on"] {
            all.as_object_mut().map(|a| a.remove(key));
        }
        fill(&mut all, &values, "", &mut unfilled);
        for Unfilled { path: at, name } in unfilled {
            let names: Vec<String> = values.keys().cloned().collect();
            let place = if self.places.has(&format!("{path}.{at}")) {
                self.places.value(&format!("{path}.{at}"))
            } else {
                self.place_of_like(path, &at)
            };
            self.faults.error(
                "unknown-value",
                place,
                format!("{address} has no value \"{name}\""),
                format!("{}; or write {{{{{name}}}}} if the braces are meant", did_you_mean(&name, names.iter().map(String::as_str))),
            );
        }
        let settings = serde_json::from_value(all).unwrap_or_default();
        Draft { address, path: path.to_owned(), settings }
    }

    /// Where a key that a service takes from a common block is written.
    fn place_of_like(&self, path: &str, at: &str) -> std::ops::Range<usize> {
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

    fn at(&self, draft: &Draft, key: &str) -> std::ops::Range<usize> {
        let own = format!("{}.{key}", draft.path);
        if self.places.has(&own) { self.places.value(&own) } else { self.place_of_like(&draft.path, key) }
    }

    fn base(&self) -> String {
        match &self.file.estate.dir {
            Some(dir) if dir.starts_with('/') => dir.trim_end_matches('/').to_owned(),
            Some(dir) => format!("{}/{dir}", self.folder.trim_end_matches('/')),
            None => self.folder.trim_end_matches('/').to_owned(),
        }
    }

    fn path(&self, text: &str) -> String {
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

    fn service(
        &mut self,
        draft: &Draft,
        hosts: &BTreeMap<HostName, Host>,
        by_service: &BTreeMap<ServiceName, Vec<Address>>,
        known: &BTreeSet<Address>,
    ) -> Service {
        let (s, address) = (&draft.settings, &draft.address);
        let runner = self.runner(draft);
        let mut relies_on: Vec<Relation> = Vec::new();
        for (i, relation) in s.relies_on.iter().enumerate() {
            if let Some(relation) = self.relation(draft, i, relation, by_service, known)
                && !relies_on.contains(&relation)
            {
                relies_on.push(relation);
            }
        }
        let yields_to = self.named(draft, "yields_to", &s.yields_to, by_service, known);
        let never_with = self.named(draft, "never_with", &s.never_with, by_service, known);
        for other in relies_on.iter().filter(|r| r.any_of.len() == r.at_least as usize).flat_map(|r| &r.any_of) {
            if never_with.contains(other) {
                self.faults.error(
                    "contradiction",
                    self.at(draft, "never_with"),
                    format!("{address} relies on {other} and must never be up with it"),
                    "take one of the two away",
                );
            }
        }
        let mut ladder = self.ladder(draft, &hosts[&address.host], &runner);
        let start = s.start.clone().unwrap_or_default();
        let stop = s.stop.clone().unwrap_or_default();
        let start_patterns = LogPatterns { must_see: start.must_see, must_not_see: start.must_not_see, overlook: start.overlook };
        let stop_patterns = LogPatterns { must_see: stop.must_see, must_not_see: stop.must_not_see, overlook: stop.overlook };
        let proves = !ladder.is_empty() || !start_patterns.must_see.is_empty();
        if !proves {
            self.faults.error(
                "no-proof",
                self.places.key(&draft.path),
                format!("nothing proves that {address} is up"),
                "add a ladder, such as `ladder = [{ rung = \"port\", port = 5432 }]`, or `must_see` to its start",
            );
        } else if matches!(ladder.as_slice(), [Rung { kind: RungKind::Process, .. }]) && start_patterns.must_see.is_empty() {
            self.faults.warn(
                "weak-proof",
                self.at(draft, "ladder"),
                format!("that its process is there is all that proves {address}"),
                "add a rung that shows it really answers: port, web, or a `must_see` of its start",
            );
        }
        // Its process is the first thing that must be there, and that must be gone.
        if matches!(runner, ServiceRunner::Process(_)) && s.hands_off.is_none() && !ladder.iter().any(|r| r.kind == RungKind::Process) {
            ladder.insert(0, Rung { kind: RungKind::Process, gone_after_stop: true });
        }
        let force = stop.force.unwrap_or_default();
        if force == Force::Never && stop.patience.is_none() {
            self.faults.error(
                "no-stop-patience",
                self.at(draft, "stop.force"),
                format!("{address} may never be forced, and does not say how long its stop may take"),
                "add `patience = \"2m\"` to its stop block: after it the stop has failed",
            );
        }
        for path in ["start", "stop", "reload"] {
            let logs = match path {
                "start" => !start_patterns.is_empty(),
                "stop" => !stop_patterns.is_empty(),
                _ => s.reload.as_ref().is_some_and(|r| !r.must_see.is_empty() || !r.must_not_see.is_empty()),
            };
            if logs && s.logs.is_empty() && matches!(runner, ServiceRunner::Commands(_)) {
                self.faults.error(
                    "no-log",
                    self.at(draft, path),
                    format!("{address} has log patterns for its {path}, and no log to look in"),
                    "add `logs = [\"…\"]`",
                );
            }
        }
        let if_it_fails = self.if_it_fails(draft);
        if s.hands_off.as_deref().is_some_and(|r| r.trim().is_empty()) {
            self.faults.error(
                "missing-reason",
                self.at(draft, "hands_off"),
                format!("{address} is hands_off without a reason"),
                "say who looks after it, and why nobody should act on it here",
            );
        }
        let reload = self.reload(draft, &runner, start.patience.unwrap_or(Span::secs(60)));
        Service {
            address: address.clone(),
            title: s.title.clone().unwrap_or_else(|| address.service.to_string()),
            groups: s.groups.iter().filter_map(|g| g.parse().ok()).collect(),
            relies_on,
            yields_to,
            never_with,
            expected: s.expected.unwrap_or_default(),
            impact: match &s.impact {
                Some(ImpactFile::Level(level)) => Impact { level: *level, says: None },
                Some(ImpactFile::Told(told)) => Impact { level: told.level, says: Some(told.says.clone()) },
                None => Impact::default(),
            },
            hands_off: s.hands_off.clone(),
            owner: s.owner.clone(),
            logs: s.logs.iter().map(|l| self.path(l)).collect(),
            configuration: s.configuration.iter().map(|l| self.path(l)).collect(),
            runner,
            start: StartBlock {
                pause_before: start.pause_before.unwrap_or_default(),
                pause_after: start.pause_after.unwrap_or_default(),
                patience: start.patience.unwrap_or(Span::secs(60)),
                attempts: start.attempts.unwrap_or(1),
                gap: start.gap.unwrap_or(Span::secs(5)),
                accept_exits: start.accept_exits.unwrap_or_else(|| vec![0]),
                patterns: start_patterns,
            },
            stop: StopBlock {
                pause_before: stop.pause_before.unwrap_or_default(),
                pause_after: stop.pause_after.unwrap_or_default(),
                patience: stop.patience.unwrap_or(Span::secs(30)),
                attempts: stop.attempts.unwrap_or(1),
                gap: stop.gap.unwrap_or(Span::secs(5)),
                accept_exits: stop.accept_exits.unwrap_or_else(|| vec![0]),
                signal: stop.signal.unwrap_or(Signal::Term),
                force,
                evidence: stop.evidence.iter().map(|c| self.command(c)).collect(),
                patterns: stop_patterns,
            },
            reload,
            ladder,
            steady: s.steady.unwrap_or_default(),
            ailing_after: s.ailing_after.unwrap_or(2),
            if_it_fails,
        }
    }

    fn reload(&self, draft: &Draft, runner: &ServiceRunner, patience: Span) -> Option<ReloadBlock> {
        let can = match runner {
            ServiceRunner::Process(_) => draft.settings.reload.is_some(),
            ServiceRunner::Commands(c) => !c.reload.is_empty(),
        };
        let r = draft.settings.reload.clone().unwrap_or_default();
        can.then(|| ReloadBlock {
            signal: r.signal.unwrap_or(Signal::Hup),
            pause_before: r.pause_before.unwrap_or_default(),
            pause_after: r.pause_after.unwrap_or_default(),
            patience: r.patience.unwrap_or(patience),
            accept_exits: r.accept_exits.unwrap_or_else(|| vec![0]),
            patterns: LogPatterns { must_see: r.must_see, must_not_see: r.must_not_see, overlook: r.overlook },
        })
    }

    fn runner(&mut self, draft: &Draft) -> ServiceRunner {
        let (s, address) = (&draft.settings, &draft.address);
        let missing = |what: &str| format!("{address} {what}");
        match s.run_by {
            Some(RunBy::Commands) => {
                let c = s.commands.clone().unwrap_or_default();
                for (word, given) in [("start", &c.start), ("stop", &c.stop), ("state", &c.state)] {
                    if given.is_empty() && s.hands_off.is_none() {
                        self.faults.error(
                            "missing-key",
                            self.at(draft, "commands"),
                            missing(&format!("is run by commands and has no {word} command")),
                            format!("add `{word} = [\"program\", \"argument\"]` to its commands block"),
                        );
                    }
                }
                ServiceRunner::Commands(CommandsSpec {
                    start: self.command(&c.start),
                    stop: self.command(&c.stop),
                    force: self.command(&c.force),
                    reload: self.command(&c.reload),
                    state: self.command(&c.state),
                    state_up: c.state_up.unwrap_or_else(|| vec![0]),
                    state_down: c.state_down.unwrap_or_else(|| vec![1, 3]),
                    dir: c.dir.map_or_else(|| self.base(), |d| self.path(&d)),
                    env: c.env,
                    user: c.user,
                    within: c.within.unwrap_or(Span::secs(60)),
                })
            }
            Some(RunBy::Process) | None => {
                if s.run_by.is_none() && s.hands_off.is_none() {
                    self.faults.error(
                        "missing-key",
                        self.places.key(&draft.path),
                        missing("does not say what carries it"),
                        "add `run_by = \"process\"` (Yantro starts it) or `run_by = \"commands\"` (its own commands do)",
                    );
                }
                let p = s.process.clone().unwrap_or_default();
                if p.program.is_none() && s.run_by == Some(RunBy::Process) && s.hands_off.is_none() {
                    self.faults.error(
                        "missing-key",
                        self.at(draft, "process"),
                        missing("is run as a process and names no program"),
                        "add a process block with `program = \"…\"`",
                    );
                }
                ServiceRunner::Process(ProcessSpec {
                    program: p.program.as_deref().map(|t| self.program(t)).unwrap_or_default(),
                    args: p.args,
                    dir: p.dir.map_or_else(|| self.base(), |d| self.path(&d)),
                    env: p.env,
                    user: p.user,
                })
            }
        }
    }

    fn ladder(&mut self, draft: &Draft, host: &Host, runner: &ServiceRunner) -> Vec<Rung> {
        let mut rungs = Vec::new();
        if matches!(runner, ServiceRunner::Commands(c) if !c.state.is_empty()) {
            rungs.push(Rung { kind: RungKind::State, gone_after_stop: true });
        }
        for (i, rung) in draft.settings.ladder.iter().enumerate() {
            let place = self.at(draft, &format!("ladder.{i}"));
            let mut port_of = |port: &PortFile| {
                match port {
                    PortFile::Number(n) if *n > 0 => Some(*n),
                    PortFile::Number(_) => None,
                    PortFile::Text(text) => text.parse::<u16>().ok().filter(|n| *n > 0),
                }
                .or_else(|| {
                    let said = match port {
                        PortFile::Number(n) => n.to_string(),
                        PortFile::Text(text) => text.clone(),
                    };
                    self.faults.error("bad-port", place.clone(), format!("{said} is no port"), "a port is a number from 1 to 65535");
                    None
                })
            };
            let (kind, gone_after_stop) = match rung {
                RungFile::Process {} => (RungKind::Process, true),
                RungFile::Port { port, on, held_by_any } => {
                    let Some(port) = port_of(port) else { continue };
                    (RungKind::Port { port, on: on.clone().or_else(|| Some(host.address.clone())), held_by_any: *held_by_any }, true)
                }
                RungFile::Connect { port, to } => {
                    let Some(port) = port_of(port) else { continue };
                    // Stop proof never connects (R15).
                    (RungKind::Connect { port, to: to.clone().unwrap_or_else(|| host.address.clone()) }, false)
                }
                RungFile::Ping { to } => (RungKind::Ping { to: to.clone().unwrap_or_else(|| host.address.clone()) }, false),
                RungFile::Web { url, status, contains, not_yet, pointer, equals, verify_tls, within, gone_after_stop } => {
                    if !(url.starts_with("http://") || url.starts_with("https://")) {
                        self.faults.error(
                            "bad-url",
                            place.clone(),
                            format!("\"{url}\" is no page"),
                            "write it whole: \"http://127.0.2.1:8080/health\"",
                        );
                    }
                    let kind = RungKind::Web {
                        url: url.clone(),
                        status: status.clone(),
                        contains: contains.clone(),
                        not_yet: not_yet.clone(),
                        pointer: pointer.clone(),
                        equals: equals.clone(),
                        verify_tls: *verify_tls,
                        within: within.unwrap_or(Span::secs(5)),
                    };
                    (kind, *gone_after_stop)
                }
                RungFile::Command { command, holds, not_yet, within, gone_after_stop } => {
                    let kind = RungKind::Command {
                        command: self.command(command),
                        holds: holds.clone().unwrap_or_else(|| vec![0]),
                        not_yet: not_yet.clone().unwrap_or_else(|| vec![1]),
                        within: within.unwrap_or(Span::secs(10)),
                    };
                    (kind, *gone_after_stop)
                }
                RungFile::File { path, since_start, gone_after_stop } => {
                    (RungKind::File { path: self.path(path), since_start: *since_start }, *gone_after_stop)
                }
                RungFile::Mount { path, gone_after_stop } => (RungKind::Mount { path: self.path(path) }, *gone_after_stop),
            };
            rungs.push(Rung { kind, gone_after_stop });
        }
        rungs
    }

    /// The nearest rule wins: the service's own, else that of its groups, which must agree (R28).
    fn if_it_fails(&mut self, draft: &Draft) -> IfItFails {
        let s = &draft.settings;
        let of_groups: BTreeMap<&str, IfItFails> = s
            .groups
            .iter()
            .filter_map(|g| self.file.group.iter().find(|(n, _)| n.eq_ignore_ascii_case(g)))
            .filter_map(|(n, g)| Some((n.as_str(), g.if_it_fails?)))
            .collect();
        let mut said = s.if_it_fails;
        let mut place = self.at(draft, "if_it_fails");
        if said.is_none() {
            let mut rules: Vec<IfItFails> = of_groups.values().copied().collect();
            rules.dedup();
            if rules.len() > 1 {
                let names: Vec<&str> = of_groups.keys().copied().collect();
                self.faults.error(
                    "groups-disagree",
                    self.at(draft, "groups"),
                    format!("the groups of {} disagree about what happens if it fails: {}", draft.address, names.join(", ")),
                    "say it on the service: `if_it_fails = \"hold\"`",
                );
            }
            said = rules.first().copied();
            if let Some(name) = of_groups.keys().next() {
                place = self.places.value(&format!("group.{name}.if_it_fails"));
            }
        }
        let rule = said.unwrap_or_default();
        if let IfItFails::PutBack | IfItFails::Divert = rule {
            let word = if rule == IfItFails::PutBack { "put-back" } else { "divert" };
            self.faults.error(
                "not-yet",
                place,
                format!("if_it_fails = \"{word}\" comes with procedures, and is not there yet"),
                "write \"hold\" (wait for the operator) or \"carry-on\" (pass over what waits on it)",
            );
        }
        rule
    }

    fn relation(
        &mut self,
        draft: &Draft,
        i: usize,
        relation: &RelationFile,
        by_service: &BTreeMap<ServiceName, Vec<Address>>,
        known: &BTreeSet<Address>,
    ) -> Option<Relation> {
        let place = self.at(draft, &format!("relies_on.{i}"));
        let address = &draft.address;
        let (any_of, at_least): (BTreeSet<Address>, u32) = match relation {
            RelationFile::One(text) => {
                let one = self.address(draft, text, &place, by_service, known)?;
                (BTreeSet::from([one]), 1)
            }
            RelationFile::Some(some) => {
                let name = some.service.parse::<ServiceName>().ok().filter(|n| by_service.contains_key(n));
                let Some(name) = name else {
                    self.unknown_service(draft, &some.service, &place, by_service);
                    return None;
                };
                let copies = &by_service[&name];
                match some.copies {
                    CopiesNeeded::Which(WhichCopies::All) => (copies.iter().cloned().collect(), copies.len() as u32),
                    CopiesNeeded::Which(WhichCopies::SameHost) => {
                        let here: BTreeSet<Address> = copies.iter().filter(|c| c.host == address.host).cloned().collect();
                        if here.is_empty() {
                            self.faults.error(
                                "no-such-copy",
                                place.clone(),
                                format!("{address} relies on {name} on its own host, and {} has none", address.host),
                                format!("put {name} on {} too, or rely on another copy", address.host),
                            );
                        }
                        let n = here.len() as u32;
                        (here, n)
                    }
                    CopiesNeeded::AtLeast(n) if n >= 1 && n as usize <= copies.len() => (copies.iter().cloned().collect(), n),
                    CopiesNeeded::AtLeast(n) => {
                        self.faults.error(
                            "too-few-copies",
                            place.clone(),
                            format!("{address} relies on {n} copies of {name}, and there are {}", copies.len()),
                            format!("write a number from 1 to {}", copies.len()),
                        );
                        return None;
                    }
                }
            }
        };
        if any_of.contains(address) {
            self.faults.error("relies-on-itself", place, format!("{address} relies on itself"), "take it out, or leave its own copy out");
            return None;
        }
        Some(Relation { any_of, at_least })
    }

    fn named(
        &mut self,
        draft: &Draft,
        key: &str,
        texts: &[String],
        by_service: &BTreeMap<ServiceName, Vec<Address>>,
        known: &BTreeSet<Address>,
    ) -> BTreeSet<Address> {
        let mut named = BTreeSet::new();
        for (i, text) in texts.iter().enumerate() {
            let place = self.at(draft, &format!("{key}.{i}"));
            if let Some(address) = self.address(draft, text, &place, by_service, known) {
                if address == draft.address {
                    self.faults.error("names-itself", place, format!("{address} names itself in {key}"), "take it out");
                } else {
                    named.insert(address);
                }
            }
        }
        named
    }

    fn address(
        &mut self,
        draft: &Draft,
        text: &str,
        place: &std::ops::Range<usize>,
        by_service: &BTreeMap<ServiceName, Vec<Address>>,
        known: &BTreeSet<Address>,
    ) -> Option<Address> {
        if text.contains('/') {
            let parsed = text.parse::<Address>().ok().filter(|a| known.contains(a));
            if parsed.is_none() {
                let names: Vec<String> = known.iter().map(ToString::to_string).collect();
                self.faults.error(
                    "unknown-name",
                    place.clone(),
                    format!("{} names \"{text}\", and nothing has that address", draft.address),
                    self.optional_hint(text).unwrap_or_else(|| did_you_mean(text, names.iter().map(String::as_str))),
                );
            }
            return parsed;
        }
        let name = text.parse::<ServiceName>().ok();
        match name.as_ref().and_then(|n| by_service.get(n)).map(Vec::as_slice) {
            Some([one]) => Some(one.clone()),
            Some(several) => {
                let list: Vec<String> = several.iter().map(ToString::to_string).collect();
                self.faults.error(
                    "several-copies",
                    place.clone(),
                    format!("\"{text}\" has several copies: {}", list.join(", ")),
                    format!(
                        "name one of them, or say how many it takes: {{ service = \"{text}\", copies = 1 }} (or \"all\", \"same-host\")"
                    ),
                );
                None
            }
            None => {
                self.unknown_service(draft, text, place, by_service);
                None
            }
        }
    }

    fn unknown_service(
        &mut self,
        draft: &Draft,
        text: &str,
        place: &std::ops::Range<usize>,
        by_service: &BTreeMap<ServiceName, Vec<Address>>,
    ) {
        let names: Vec<String> = by_service.keys().map(ToString::to_string).collect();
        self.faults.error(
            "unknown-name",
            place.clone(),
            format!("{} names \"{text}\", and there is no such service", draft.address),
            self.optional_hint(text).unwrap_or_else(|| did_you_mean(text, names.iter().map(String::as_str))),
        );
    }

    /// Something that must have an optional service that no host turns on (R12).
    fn optional_hint(&self, text: &str) -> Option<String> {
        let bare = text.rsplit('/').next()?.split('.').next()?;
        let (name, _) = self.file.service.iter().find(|(n, s)| n.eq_ignore_ascii_case(bare) && self.is_optional(s))?;
        Some(format!("{name} is optional and off there: add `turns_on = [\"{name}\"]` to its host"))
    }

    fn groups(&mut self, drafts: &[Draft]) -> BTreeMap<GroupName, Group> {
        let mut groups: BTreeMap<GroupName, Group> = BTreeMap::new();
        for (text, group) in self.file.group.clone() {
            let Some(name) = self.name::<GroupName>(&text, &format!("group.{text}")) else { continue };
            groups.insert(name, Group { title: group.title, keep_up: group.keep_up, at_once: group.at_once, members: BTreeSet::new() });
        }
        let names: Vec<String> = groups.keys().map(ToString::to_string).collect();
        for draft in drafts {
            for (i, text) in draft.settings.groups.iter().enumerate() {
                let known = text.parse::<GroupName>().ok().and_then(|n| groups.get_mut(&n));
                match known {
                    Some(group) => {
                        group.members.insert(draft.address.clone());
                    }
                    None => self.faults.error(
                        "unknown-name",
                        self.at(draft, &format!("groups.{i}")),
                        format!("{} is in the group \"{text}\", which is not described", draft.address),
                        format!("{}; or add [group.{text}]", did_you_mean(text, names.iter().map(String::as_str))),
                    ),
                }
            }
        }
        for (name, group) in &groups {
            let path = format!("group.{name}");
            let n = group.members.len();
            if n == 0 {
                self.faults.warn(
                    "empty-group",
                    self.places.key(&path),
                    format!("group {name} has no members"),
                    "put services in it, or take it out",
                );
            } else if let Some(keep_up) = group.keep_up
                && keep_up as usize >= n
            {
                self.faults.error(
                    "keep-up",
                    self.places.value(&format!("{path}.keep_up")),
                    format!(
                        "group {name} cannot keep {keep_up} up while one is worked on: it has {n} member{}",
                        if n == 1 { "" } else { "s" }
                    ),
                    format!("keep_up must be below {n}"),
                );
            }
        }
        groups
    }

    /// What can only be judged over the whole estate.
    fn whole(&mut self, estate: &Estate) {
        let place = |a: &Address| self.places.key(&format!("service.{}", self.written(a)));
        let mut ports: BTreeMap<(String, u16), &Address> = BTreeMap::new();
        let mut found: Vec<(std::ops::Range<usize>, &str, String, String, Vec<(std::ops::Range<usize>, String)>)> = Vec::new();
        for service in estate.services.values() {
            for rung in &service.ladder {
                let RungKind::Port { port, on, held_by_any: false } = &rung.kind else { continue };
                let key = (on.clone().unwrap_or_default(), *port);
                match ports.get(&key) {
                    // Services that are never up together may share a port.
                    Some(other) if *other != &service.address && !service.never_with.contains(*other) => found.push((
                        place(&service.address),
                        "port-twice",
                        format!("{} and {other} both listen on port {port} of {}", service.address, key.0),
                        "give one of them another port, or say never_with if only one is ever up".to_owned(),
                        vec![(place(other), "the other".to_owned())],
                    )),
                    Some(_) => {}
                    None => {
                        ports.insert(key, &service.address);
                    }
                }
            }
        }
        // Copies that share a log file must have patterns that tell whose line it is (R17).
        let mut shared: BTreeMap<(&str, &str), &Address> = BTreeMap::new();
        for service in estate.services.values() {
            let patterns = [&service.start.patterns, &service.stop.patterns];
            for (log, pattern) in service
                .logs
                .iter()
                .flat_map(|l| patterns.iter().flat_map(|p| p.must_see.iter().chain(&p.must_not_see)).map(move |p| (l.as_str(), p.as_str())))
            {
                match shared.get(&(log, pattern)) {
                    Some(other) if *other != &service.address => found.push((
                        place(&service.address),
                        "shared-log",
                        format!(
                            "{} and {other} share the log {log}, and the pattern \"{pattern}\" does not tell whose line it is",
                            service.address
                        ),
                        "put what differs into the pattern, such as {copy} or {host}, or give each a log of its own".to_owned(),
                        Vec::new(),
                    )),
                    Some(_) => {}
                    None => {
                        shared.insert((log, pattern), &service.address);
                    }
                }
            }
        }
        let graph = EstateGraph::new(estate);
        for cycle in graph.cycles() {
            let drawn = graph::loop_of(&cycle);
            found.push((
                place(&cycle[0]),
                "cycle",
                format!("these services rely on or yield to each other in a circle: {drawn}"),
                "take one of these `relies_on` or `yields_to` away".to_owned(),
                cycle.iter().skip(1).map(|a| (place(a), "in the circle".to_owned())).collect(),
            ));
        }
        for (span, kind, message, mend, also) in found {
            self.faults.error_also(kind, span, message, mend, also);
        }
    }

    /// A service's name as the file writes it.
    fn written(&self, address: &Address) -> String {
        self.file.service.keys().find(|k| k.eq_ignore_ascii_case(address.service.as_str())).cloned().unwrap_or_default()
    }
}

/// Puts `below` under what `over` says itself: tables join key by key, everything else is whole.
fn lay_over(over: &mut Value, below: Value) {
    match (over, below) {
        (Value::Object(over), Value::Object(below)) => {
            for (key, value) in below {
                match over.get_mut(&key) {
                    Some(mine) => lay_over(mine, value),
                    None => {
                        over.insert(key, value);
                    }
                }
            }
        }
        (over @ Value::Null, below) => *over = below,
        _ => {}
    }
}
