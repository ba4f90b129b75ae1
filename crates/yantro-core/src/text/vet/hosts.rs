//! Hosts as things of their own: what gives them power, and how they are shut down and come up.

use std::collections::BTreeMap;

use super::{Draft, Vetting, drafts::lay_over};
use crate::{
    model::*,
    text::file::*,
    words::{
        Expected, Force, Reach,
        name::{Address, HostName, did_you_mean},
        time::Span,
    },
};

/// How a host's own manager shuts it down and reboots it: its public command.
const MANAGER: &str = "systemctl";
/// How long a host may take to come up, and to go down, where its estate does not say.
const UP_WITHIN: Span = Span::secs(300);
const DOWN_WITHIN: Span = Span::secs(120);

impl Vetting<'_, '_> {
    /// What gives a host power, where the estate says so.
    pub(super) fn power(&mut self, name: &HostName, path: &str, host: &HostFile) -> Option<Power> {
        let Some(file) = &host.power else {
            let stray = [
                ("relies_on", !host.relies_on.is_empty()),
                ("yields_to", !host.yields_to.is_empty()),
                ("expected", host.expected.is_some()),
                ("impact", host.impact.is_some()),
                ("hands_off", host.hands_off.is_some()),
                ("owner", host.owner.is_some()),
                ("start", host.start.is_some()),
                ("stop", host.stop.is_some()),
                ("ladder", !host.ladder.is_empty()),
                ("steady", host.steady.is_some()),
                ("ailing_after", host.ailing_after.is_some()),
                ("if_it_fails", host.if_it_fails.is_some()),
            ];
            for (key, _) in stray.into_iter().filter(|(_, said)| *said) {
                self.faults.error(
                    "stray-key",
                    self.places.key(&format!("{path}.{key}")),
                    format!("host {name} says `{key}`, and is nothing that could be acted on itself"),
                    "say what gives it power: `power = { by = \"redfish\", … }`, or `by = \"nobody\"`",
                );
            }
            return None;
        };
        let at = |key: &str| format!("{path}.power.{key}");
        let mut need = |what: Option<String>, key: &str, example: &str| {
            what.filter(|w| !w.trim().is_empty()).unwrap_or_else(|| {
                self.lacks(
                    &[at(key)],
                    self.places.key(&format!("{path}.power")),
                    format!("the power of host {name} does not say `{key}`"),
                    format!("add `{key} = \"{example}\"`"),
                );
                String::new()
            })
        };
        let power = match file.by {
            None => {
                // Whatever it is, what is said of a controller is looked at.
                self.controller(path, file, file.controller.clone().unwrap_or_default(), file.system.clone().unwrap_or_default());
                self.lacks(
                    &[at("by")],
                    self.places.key(&format!("{path}.power")),
                    format!("it is not said what gives host {name} power"),
                    "add `by = \"…\"`: redfish, wake, commands or nobody",
                );
                return None;
            }
            Some(PowerBy::Redfish) => {
                let controller = need(file.controller.clone(), "controller", "https://10.0.9.2");
                let part = need(file.system.clone(), "system", "/redfish/v1/Systems/1");
                Power::Redfish(self.controller(path, file, controller, part))
            }
            Some(PowerBy::Wake) => {
                let mac = need(file.mac.clone(), "mac", "02:00:5e:10:00:01");
                let broadcast = need(file.broadcast.clone(), "broadcast", "10.0.9.255");
                let groups: Vec<&str> = mac.split([':', '-']).collect();
                let is_one = groups.len() == 6 && groups.iter().all(|g| g.len() == 2 && u8::from_str_radix(g, 16).is_ok());
                if !mac.is_empty() && !is_one {
                    self.faults.error(
                        "bad-address",
                        self.places.value(&at("mac")),
                        format!("\"{mac}\" is no hardware address"),
                        "write six pairs of digits: \"02:00:5e:10:00:01\"",
                    );
                }
                Power::Wake { mac, broadcast, port: file.port.unwrap_or(9) }
            }
            Some(PowerBy::Commands) => {
                if file.on.is_empty() {
                    self.lacks(
                        &[at("on")],
                        self.places.key(&format!("{path}.power")),
                        format!("no command gives host {name} power"),
                        "add `on = [\"program\", \"argument\"]`, and `off` and `state` where there are such",
                    );
                }
                let command = |words: &Vec<String>| self.command(words);
                Power::Commands { on: command(&file.on), off: command(&file.off), state: command(&file.state), env: file.env.clone() }
            }
            Some(PowerBy::Nobody) => Power::Nobody,
        };
        if file.outlet.is_some() && !matches!(power, Power::Redfish(_)) {
            self.faults.error(
                "contradiction",
                self.places.key(&at("outlet")),
                format!("the outlet of host {name} is switched by a controller, and none is named"),
                "write `by = \"redfish\"` with its controller, or take the outlet away",
            );
        }
        Some(power)
    }

    fn controller(&mut self, path: &str, file: &PowerFile, controller: String, part: String) -> Controller {
        if !controller.is_empty() && !controller.starts_with("https://") {
            self.faults.error(
                "bad-url",
                self.places.value(&format!("{path}.power.controller")),
                format!("\"{controller}\" is no controller's address"),
                "Redfish is spoken over HTTPS: \"https://10.0.9.2\"",
            );
        }
        if !part.is_empty() && !part.starts_with('/') {
            self.faults.error(
                "bad-url",
                self.places.value(&format!("{path}.power.system")),
                format!("\"{part}\" is no path at the controller"),
                "write it from the root: \"/redfish/v1/Systems/1\"",
            );
        }
        if file.password.as_ref().is_some_and(|p| !(p.starts_with("env:") || p.starts_with("file:"))) {
            self.faults.error(
                "open-secret",
                self.places.value(&format!("{path}.power.password")),
                "a password stands in the estate",
                "write where it is found: \"env:NAME\" or \"file:PATH\"",
            );
        }
        Controller {
            controller: controller.trim_end_matches('/').to_owned(),
            part,
            account: file.account.clone(),
            password: file.password.as_ref().map(|p| match p.strip_prefix("file:") {
                Some(file) => format!("file:{}", self.path(file)),
                None => p.clone(),
            }),
            believes: file.believes.as_ref().map(|f| self.path(f)),
        }
    }

    /// What a host, or the outlet that feeds it, is acted on by.
    pub(super) fn power_runner(&mut self, address: &Address, host: &Host) -> ServiceRunner {
        let file = self.power_file(&address.host);
        let power = host.power.clone().unwrap_or(Power::Nobody);
        match (&power, file.outlet) {
            (Power::Redfish(c), Some(outlet)) if address.is_outlet() => ServiceRunner::Outlet(Controller { part: outlet, ..c.clone() }),
            _ => {
                let words = |own: Vec<String>, deed: &str| {
                    if own.is_empty() { vec![MANAGER.to_owned(), "--no-ask-password".to_owned(), deed.to_owned()] } else { own }
                };
                let shut_down = if file.asked_by_controller { Vec::new() } else { words(file.shut_down, "poweroff") };
                ServiceRunner::Host(HostSpec { power, shut_down, reboot: words(file.reboot, "reboot"), reboots: false })
            }
        }
    }

    fn power_file(&self, host: &HostName) -> PowerFile {
        let written = self.file.host.iter().find(|(n, _)| n.eq_ignore_ascii_case(host.as_str()));
        written.and_then(|(_, h)| h.power.clone()).unwrap_or_default()
    }

    /// Hosts that can be acted on, and what feeds them, as things with relations and ladders like services.
    pub(super) fn host_drafts(&mut self, hosts: &BTreeMap<HostName, Host>) -> Vec<Draft> {
        let mut drafts = Vec::new();
        for (text, file) in self.file.host.clone() {
            let Some((name, host)) = text.parse::<HostName>().ok().and_then(|n| hosts.get_key_value(&n)) else { continue };
            let (Some(_), Some(power)) = (&host.power, &file.power) else { continue };
            let path = format!("host.{text}");
            let title = host.title.clone().unwrap_or_else(|| name.to_string());
            let mut relies_on: Vec<RelationFile> = Vec::new();
            for (i, other) in file.relies_on.iter().enumerate() {
                relies_on.extend(self.other_host(name, other, &format!("{path}.relies_on.{i}"), hosts).map(RelationFile::One));
            }
            let mut yields_to = Vec::new();
            for (i, other) in file.yields_to.iter().enumerate() {
                yields_to.extend(self.other_host(name, other, &format!("{path}.yields_to.{i}"), hosts));
            }
            let outlet = Address::of_outlet(name);
            if power.outlet.is_some() {
                relies_on.push(RelationFile::One(outlet.to_string()));
                let settings = ServiceFile {
                    title: Some(format!("What feeds {title}")),
                    expected: Some(Expected::Either),
                    owner: file.owner.clone(),
                    start: Some(StartFile { patience: Some(Span::secs(60)), ..StartFile::default() }),
                    stop: Some(StopFile { patience: Some(Span::secs(60)), force: Some(Force::Never), ..StopFile::default() }),
                    ..ServiceFile::default()
                };
                drafts.push(Draft { address: outlet, path: path.clone(), settings });
            }
            let (mut start, mut stop) = (file.start.unwrap_or_default(), file.stop.unwrap_or_default());
            start.patience = start.patience.or(Some(UP_WITHIN));
            stop.patience = stop.patience.or(Some(DOWN_WITHIN));
            let usual = || vec![RungFile::Ping { to: None }, RungFile::Reached {}, RungFile::Booted {}];
            let mut settings = ServiceFile {
                title: Some(title),
                relies_on,
                yields_to,
                expected: Some(file.expected.unwrap_or(Expected::Either)),
                impact: file.impact,
                hands_off: file.hands_off,
                owner: file.owner,
                start: Some(start),
                stop: Some(stop),
                ladder: if file.ladder.is_empty() { usual() } else { file.ladder },
                steady: file.steady,
                ailing_after: file.ailing_after,
                if_it_fails: file.if_it_fails,
                ..ServiceFile::default()
            };
            let address = Address::of_host(name);
            if let Some(over) = self.over.get(&address)
                && let Ok(under) = serde_json::to_value(&settings)
            {
                let mut over = serde_json::Value::Object(over.clone());
                lay_over(&mut over, under);
                // What does not fit was told when the override was read.
                settings = serde_json::from_value(over).unwrap_or(settings);
            }
            drafts.push(Draft { address, path, settings });
        }
        drafts
    }

    /// How a service behaves that is played.
    pub(super) fn simulated(&mut self, draft: &Draft, said: Option<&SimulatedFile>) -> Simulated {
        let s = &draft.settings;
        let usual = |of: Option<Span>, default| of.unwrap_or(default);
        let starts = usual(s.start.as_ref().and_then(|b| b.usually), Span::secs(2));
        let stops = usual(s.stop.as_ref().and_then(|b| b.usually), Span::secs(1));
        self.played(said, starts, stops, s.expected == Some(Expected::Down))
    }

    /// How a host behaves that is played.
    pub(super) fn simulated_host(&mut self, name: &HostName, path: &str, host: &HostFile) -> Option<Simulated> {
        if host.reach != Some(Reach::Simulated) {
            if host.simulated.is_some() {
                self.faults.error(
                    "contradiction",
                    self.places.key(&format!("{path}.simulated")),
                    format!("host {name} says how it is simulated, and is real"),
                    "write `reach = \"simulated\"`, or take it away",
                );
            }
            return None;
        }
        let (starts, stops) = (host.start.as_ref().and_then(|b| b.usually), host.stop.as_ref().and_then(|b| b.usually));
        let down = host.expected == Some(Expected::Down);
        Some(self.played(host.simulated.as_ref(), starts.unwrap_or(Span::secs(40)), stops.unwrap_or(Span::secs(10)), down))
    }

    fn played(&mut self, said: Option<&SimulatedFile>, starts: Span, stops: Span, down: bool) -> Simulated {
        let said = said.cloned().unwrap_or_default();
        let speed = self.file.simulation.speed.unwrap_or(1.0).clamp(0.01, 1000.0);
        let faster = |span: Span| Span(span.0.div_f64(speed));
        let thousandths = |of: Option<f64>, default: f64| (of.unwrap_or(default) * 1000.0).round() as u32;
        Simulated {
            starts: faster(said.starts.unwrap_or(starts)),
            stops: faster(said.stops.unwrap_or(stops)),
            spread: thousandths(said.spread, 0.2),
            fails: thousandths(said.fails, 0.0),
            clings: thousandths(said.clings, 0.0),
            begins_down: said.begins_down.unwrap_or(down),
            seed: self.file.simulation.seed.unwrap_or(1),
        }
    }

    /// The address of another host that one relies on; a whole address stands for itself.
    fn other_host(&mut self, name: &HostName, other: &str, key: &str, hosts: &BTreeMap<HostName, Host>) -> Option<String> {
        if other.contains('/') {
            return Some(other.to_owned());
        }
        match other.parse::<HostName>().ok().and_then(|h| hosts.get_key_value(&h)) {
            Some((other, host)) if host.power.is_some() => Some(Address::of_host(other).to_string()),
            Some((other, _)) => {
                self.faults.error(
                    "no-power",
                    self.places.value(key),
                    format!("host {name} relies on {other}, which is nothing that could be acted on itself"),
                    format!("say what gives {other} power; `power = {{ by = \"nobody\" }}` is enough for an order"),
                );
                None
            }
            None => {
                let names: Vec<String> = hosts.keys().map(ToString::to_string).collect();
                self.faults.error(
                    "unknown-name",
                    self.places.value(key),
                    format!("there is no host \"{other}\""),
                    did_you_mean(other, names.iter().map(String::as_str)),
                );
                None
            }
        }
    }
}
