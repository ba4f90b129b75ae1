//! Slips that read as if they were meant: what no name, account, value or text of an estate may be, wherever it stands.

use std::collections::{BTreeMap, BTreeSet};

use serde_json::{Map, Value};

use super::{Place, Vetting};
use crate::{
    model::{
        secrecy::{has_password, is_in_the_open},
        *,
    },
    words::{
        Expected,
        name::{Address, HostName, did_you_mean},
        time::Span,
    },
};

/// Values that each service has by itself.
pub(in crate::text) const GIVEN: [&str; 5] = ["host", "address", "service", "copy", "dir"];

/// Keys whose values are lengths of time.
const LENGTHS: [&str; 12] = [
    "patience",
    "within",
    "gap",
    "steady",
    "pause_before",
    "pause_after",
    "usually",
    "length",
    "held_at_most",
    "limit",
    "pause",
    "newer_than",
];

/// A slip: its path in the text, a word for it, what is wrong and how to mend it; whether it may be loaded all the same.
struct Slip {
    path: String,
    kind: &'static str,
    says: String,
    mend: String,
    is_warning: bool,
}

impl Vetting<'_, '_> {
    /// What is judged of every table alike.
    pub(super) fn slips(&mut self) {
        let mut found = Vec::new();
        look_through(&self.sound, "", &mut found);
        for slip in found {
            let place = self.nearest(&slip.path);
            if slip.is_warning {
                self.faults.warn(slip.kind, place, slip.says, slip.mend);
            } else {
                self.faults.error(slip.kind, place, slip.says, slip.mend);
            }
        }
        let zone = self.file.estate.time_zone.clone();
        if let Some(zone) = zone.filter(|z| z.parse::<chrono_tz::Tz>().is_err()) {
            let near = did_you_mean(&zone, chrono_tz::TZ_VARIANTS.iter().map(|z| z.name()));
            self.faults.error("bad-zone", self.places.value("estate.time_zone"), format!("there is no time zone \"{zone}\""), near);
        }
        self.circles_of_like();
        self.common_blocks_say_for_hosts();
    }

    /// The place of a path, or of the nearest table above it that has one.
    pub(super) fn nearest(&self, path: &str) -> Place {
        let mut path = path;
        while !self.places.has(path) {
            match path.rsplit_once('.') {
                Some((above, _)) => path = above,
                None => return self.places.key(path),
            }
        }
        self.places.value(path)
    }

    /// Common blocks that take from each other in a circle, whether or not a service takes from them.
    fn circles_of_like(&mut self) {
        let next = |name: &str| {
            let (_, block) = self.file.like.iter().find(|(k, _)| k.eq_ignore_ascii_case(name))?;
            block.like.as_ref().map(|l| l.to_ascii_lowercase())
        };
        let mut told: BTreeSet<String> = BTreeSet::new();
        let mut circles = Vec::new();
        for name in self.file.like.keys().map(|k| k.to_ascii_lowercase()) {
            let mut way = vec![name.clone()];
            while let Some(one) = way.last().and_then(|last| next(last)) {
                if one == name && !way.iter().any(|w| told.contains(w)) {
                    circles.push((name.clone(), format!("{} → {one}", way.join(" → "))));
                    told.extend(way.iter().cloned());
                }
                if way.contains(&one) {
                    break;
                }
                way.push(one);
            }
        }
        for (name, drawn) in circles {
            let place = self.nearest(&format!("like.{name}.like"));
            let says = format!("these common blocks take from each other in a circle: {drawn}");
            self.faults.error("like-cycle", place, says, "take one of these `like` away");
        }
    }

    /// Hosts that a service says something for and is not on. A common block may speak of hosts that only some of those are on
    /// which take from it, but of none that is not there.
    pub(super) fn says_for_hosts(&mut self, name: &str, on_hosts: &[String]) {
        let said: Vec<String> = self.sound["service"][name]["on"].as_object().into_iter().flat_map(|on| on.keys().cloned()).collect();
        for host in said.iter().filter(|h| !on_hosts.iter().any(|o| o.eq_ignore_ascii_case(h))) {
            let says = format!("it says something for host \"{host}\", and is not on it");
            let place = self.nearest(&format!("service.{name}.on.{host}"));
            self.faults.error("unknown-name", place, says, did_you_mean(host, on_hosts.iter().map(String::as_str)));
        }
    }

    fn common_blocks_say_for_hosts(&mut self) {
        let hosts: Vec<String> = self.file.host.keys().cloned().collect();
        let of = |(name, block): (&String, &Value)| {
            let said = block["on"].as_object().into_iter().flat_map(|on| on.keys().cloned());
            said.map(|host| (name.clone(), host)).collect::<Vec<_>>()
        };
        let said: Vec<(String, String)> = self.sound["like"].as_object().into_iter().flatten().flat_map(of).collect();
        for (name, host) in said.iter().filter(|(_, h)| !hosts.iter().any(|o| o.eq_ignore_ascii_case(h))) {
            let place = self.nearest(&format!("like.{name}.on.{host}"));
            let near = did_you_mean(host, hosts.iter().map(String::as_str));
            self.faults.error("unknown-name", place, format!("there is no host \"{host}\""), near);
        }
    }

    /// Blocks of a carrier that does not carry it.
    pub(super) fn one_carrier(&mut self, path: &str, merged: &Value) {
        let said = merged["run_by"].as_str();
        let blocks = [("process", "process"), ("commands", "commands"), ("unit", "systemd")];
        for (block, by) in blocks.iter().filter(|(b, by)| !merged[*b].is_null() && said.is_some_and(|s| s != *by)) {
            let (place, said) = (self.nearest(&format!("{path}.{block}")), said.unwrap_or_default());
            let says = format!("it is run by \"{said}\", and says `{block}`, which is for `run_by = \"{by}\"`");
            self.faults.error("contradiction", place, says, format!("take `{block}` away, or write `run_by = \"{by}\"`"));
        }
    }

    /// Services that are off wherever they are.
    pub(super) fn optional_and_off(&mut self) {
        let off = |name: &str| !self.file.host.values().any(|h| h.turns_on.iter().any(|s| s.eq_ignore_ascii_case(name)));
        let names: Vec<String> = self.file.service.iter().filter(|(n, s)| self.is_optional(s) && off(n)).map(|(n, _)| n.clone()).collect();
        for name in names {
            let place = self.nearest(&format!("service.{name}.optional"));
            let says = format!("{name} is optional, and no host turns it on: it is nowhere");
            self.faults.warn("nowhere", place, says, format!("add `turns_on = [\"{name}\"]` to a host that it is on"));
        }
    }

    /// What can only be judged between services.
    pub(super) fn between(&mut self, estate: &Estate) {
        let mut units: BTreeMap<(&HostName, &str), &Address> = BTreeMap::new();
        let mut twice = Vec::new();
        let mut both_up = Vec::new();
        for service in estate.services.values().filter(|s| !self.stand_ins.contains(&s.address)) {
            let address = &service.address;
            if let ServiceRunner::Systemd(spec) = &service.runner
                && let Some(other) = units.insert((&address.host, &spec.unit), address)
            {
                twice
                    .push((address.clone(), format!("{address} and {other} are one and the same: unit {} of {}", spec.unit, address.host)));
            }
            let up = |a: &Address| estate.services.get(a).is_some_and(|s| s.expected == Expected::Up && s.hands_off.is_none());
            if let Some(other) = service.never_with.iter().find(|o| *o < address && up(o) && up(address)) {
                both_up.push((address.clone(), format!("{address} and {other} are never up together, and both are expected to be up")));
            }
        }
        for (address, says) in never_up(estate) {
            let place = self.nearest(&format!("service.{}", self.written(&address)));
            self.faults.error("never-up", place, says, "take one of the two out of what it needs, or the `never_with` away");
        }
        for (address, says) in twice {
            let place = self.nearest(&format!("service.{}", self.written(&address)));
            self.faults.error("unit-twice", place, says, "describe it once, and rely on it by that name");
        }
        for (address, says) in both_up {
            let place = self.nearest(&format!("service.{}.never_with", self.written(&address)));
            self.faults.warn("never-with", place, says, "say of the one that stands by: `expected = \"down\"`, or \"either\"");
        }
    }
}

/// Services that can never be up: they need two, directly or through others, that are never up together.
fn never_up(estate: &Estate) -> Vec<(Address, String)> {
    let pairs: BTreeSet<(&Address, &Address)> =
        estate.services.values().flat_map(|s| s.never_with.iter().map(|o| (o.min(&s.address), o.max(&s.address)))).collect();
    if pairs.is_empty() {
        return Vec::new();
    }
    // Who cannot do without whom: where one of several is enough, none of them is needed.
    let mut needed_by: BTreeMap<&Address, Vec<&Address>> = BTreeMap::new();
    for service in estate.services.values() {
        for of in service.relies_on.iter().filter(|r| r.at_least as usize >= r.any_of.len()).flat_map(|r| &r.any_of) {
            needed_by.entry(of).or_default().push(&service.address);
        }
    }
    let all_above = |of: &Address| {
        let (mut all, mut open) = (BTreeSet::new(), vec![of.clone()]);
        while let Some(at) = open.pop() {
            if all.insert(at.clone()) {
                open.extend(needed_by.get(&at).into_iter().flatten().map(|a| (*a).clone()));
            }
        }
        all
    };
    let mut found: BTreeMap<Address, String> = BTreeMap::new();
    for (one, other) in pairs {
        let (above_one, above_other) = (all_above(one), all_above(other));
        // Of whom it is never up with it is told where it is written that it relies on it.
        let is_said = |a: &Address| {
            let rest = if a == one { other } else { one };
            (a == one || a == other) && estate.services[a].relies_on_any().any(|r| r == rest)
        };
        for address in above_one.intersection(&above_other).filter(|a| !is_said(a)) {
            let says = || format!("{address} can never be up: it needs {one} and {other}, which are never up together");
            found.entry(address.clone()).or_insert_with(says);
        }
    }
    found.into_iter().collect()
}

/// Goes through all tables below a path.
fn look_through(value: &Value, path: &str, found: &mut Vec<Slip>) {
    match value {
        Value::Object(table) => {
            table_slips(table, path, found);
            for (key, below) in table {
                let path = if path.is_empty() { key.clone() } else { format!("{path}.{key}") };
                if let Some(c) = key.chars().find(|c| is_odd(*c)) {
                    found.push(odd(&path, c));
                }
                look_through(below, &path, found);
            }
        }
        Value::Array(list) => list.iter().for_each(|below| look_through(below, path, found)),
        Value::String(text) => {
            if let Some(c) = text.replace("\r\n", "\n").chars().find(|c| is_odd(*c)) {
                found.push(odd(path, c));
            }
            if has_password(text) {
                let says = "an address in it carries a password, which everybody who reads the estate can read".to_owned();
                let mend = "take it out, and hand it over by the environment: `env = { PGPASSWORD = \"file:/etc/…\" }`".to_owned();
                found.push(Slip { path: path.to_owned(), kind: "secret-in-the-open", says, mend, is_warning: true });
            }
        }
        Value::Null | Value::Bool(_) | Value::Number(_) => {}
    }
}

fn table_slips(table: &Map<String, Value>, path: &str, found: &mut Vec<Slip>) {
    let mut warnings = Vec::new();
    let mut error = |key: &str, kind: &'static str, says: String, mend: &str| {
        found.push(Slip { path: format!("{path}.{key}"), kind, says, mend: mend.to_owned(), is_warning: false });
    };
    let key = path.rsplit('.').next().unwrap_or_default();
    if let Some(user) = table.get("user").and_then(Value::as_str).filter(|u| !u.contains('{') && !is_account(u)) {
        error("user", "bad-account", format!("\"{user}\" is no name of an account"), "write it as /etc/passwd does, such as \"fares\"");
    }
    for exit in table.get("accept_exits").and_then(Value::as_array).into_iter().flatten().filter_map(Value::as_i64) {
        if !(0..=255).contains(&exit) {
            error("accept_exits", "bad-exit", format!("no program ends with the exit code {exit}"), "exit codes are 0 to 255");
        }
    }
    for (key, text) in LENGTHS.iter().filter_map(|k| Some((k, table.get(*k)?.as_str()?))) {
        let loose = |u: &str| matches!(u, "M" | "y") || u.starts_with("month") || u.starts_with("year");
        if let Some(unit) = text.split(|c: char| !c.is_ascii_alphabetic()).find(|u| loose(u)) {
            let says = format!("\"{text}\" is no length of time: \"{unit}\" stands for months or years, which have none");
            error(key, "bad-length", says, "write minutes as \"m\", and what is longer in days, \"d\"");
        }
    }
    for key in ["patience", "within"] {
        let span = table.get(key).and_then(Value::as_str).and_then(|t| t.parse::<Span>().ok());
        if span.is_some_and(|s| s.0.is_zero()) {
            error(key, "no-patience", format!("a {key} of nothing is over before anything can be seen"), "give it time, such as \"30s\"");
        }
    }
    let list =
        |key: &str| table.get(key).and_then(Value::as_array).into_iter().flatten().filter_map(Value::as_str).collect::<BTreeSet<_>>();
    if let Some(both) = list("must_see").intersection(&list("must_not_see")).next() {
        error("must_not_see", "contradiction", format!("\"{both}\" must be seen and must not be seen"), "take it out of one of the two");
    }
    for given in GIVEN.iter().filter(|g| key == "values" && table.contains_key(**g)) {
        let mend = "rename it: this value each service has by itself, and yours would never be used";
        error(given, "taken-name", format!("a value cannot be called \"{given}\""), mend);
    }
    if key == "env" {
        for (name, value) in table {
            if name.is_empty() || name.contains(['=', '\0']) || name.contains(char::is_whitespace) {
                error(
                    "",
                    "bad-variable",
                    format!("\"{name}\" is no name of a variable"),
                    "write it without blanks and \"=\", such as \"PORT\"",
                );
            }
            if value.as_str().is_some_and(|v| is_in_the_open(name, v)) {
                warnings.push(Slip {
                    path: format!("{path}.{name}"),
                    kind: "secret-in-the-open",
                    says: format!("{name} looks like a secret, and everybody who reads the estate can read it"),
                    mend: format!("keep it in a file: `{name} = \"file:/etc/yantro/…\"`, or in the server's environment: \"env:{name}\""),
                    is_warning: true,
                });
            }
        }
    }
    found.extend(warnings);
}

fn odd(path: &str, c: char) -> Slip {
    let says = format!("it has the character U+{:04X}, which acts on what shows it instead of being seen", c as u32);
    Slip { path: path.to_owned(), kind: "odd-character", says, mend: "take it out".to_owned(), is_warning: false }
}

/// Control characters, and those that turn the direction of reading: none has a place in an estate.
fn is_odd(c: char) -> bool {
    match c {
        '\n' | '\t' => false,
        '\u{200e}' | '\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}' => true,
        c => c.is_control(),
    }
}

/// What useradd(8) lets an account be called, its number, or how a directory of accounts calls it: with the name of its domain.
fn is_account(text: &str) -> bool {
    let body = text.strip_suffix('$').unwrap_or(text);
    let fits = |c: char| c.is_ascii_alphanumeric() || "_.-@\\".contains(c);
    !body.is_empty() && text.len() <= 256 && !body.starts_with(['-', '.']) && body.chars().all(fits)
}
