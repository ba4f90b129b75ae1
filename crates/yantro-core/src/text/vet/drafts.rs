//! Every copy of a service with its settings, those of its common blocks and of its copies laid together.

use std::collections::BTreeMap;

use serde_json::Value;

use super::{Draft, Vetting};
use crate::{
    model::{
        fill::{Unfilled, fill},
        *,
    },
    text::file::*,
    words::{
        Reach,
        name::{Address, CopyName, HOST, HostName, OUTLET, ServiceName, did_you_mean, near_misses},
    },
};

impl Vetting<'_, '_> {
    /// A service's settings with those of its common blocks under them.
    pub(super) fn merged(&mut self, name: &str, path: &str) -> Value {
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

    pub(super) fn drafts(&mut self, hosts: &BTreeMap<HostName, Host>) -> Vec<Draft> {
        let mut drafts: Vec<Draft> = Vec::new();
        let mut taken: BTreeMap<Address, String> = BTreeMap::new();
        for text in self.file.service.keys().cloned().collect::<Vec<_>>() {
            let path = format!("service.{text}");
            let Some(name) = self.name::<ServiceName>(&text, &path) else { continue };
            if [HOST, OUTLET].contains(&name.as_str()) {
                self.faults.error(
                    "taken-name",
                    self.places.key(&path),
                    format!("a service cannot be called \"{name}\": that stands for the host itself, and what feeds it"),
                    "rename it",
                );
                continue;
            }
            let merged = self.merged(&text, &path);
            let settings: ServiceFile = serde_json::from_value(merged.clone()).unwrap_or_default();
            let mut on_hosts: Vec<String> = settings.hosts.clone().unwrap_or_default();
            on_hosts.extend(settings.host.clone());
            self.says_for_hosts(&text, &on_hosts);
            self.one_carrier(&path, &merged);
            if on_hosts.is_empty() && !self.places.is_meant(&format!("{path}.hosts")) {
                let missing = [format!("{path}.host")];
                self.lacks(&missing, self.places.key(&path), format!("service {name} is on no host"), "add `host = \"…\"`");
            }
            // The rest of it is looked at all the same, as if it were on the likeliest.
            let stand_in = likeliest(&on_hosts, hosts);
            let mut on: Vec<HostName> = stand_in.iter().cloned().collect();
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
                on.push(host);
            }
            for host in on {
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
                    if stand_in.is_some() {
                        self.stand_ins.insert(address.clone());
                    }
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
        drafts.extend(self.host_drafts(hosts));
        drafts
    }

    pub(super) fn draft(&mut self, address: Address, path: &str, merged: &Value, copy: Option<&str>, host: &Host) -> Draft {
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
        if let Some(over) = self.over.get(&address) {
            let mut over = Value::Object(over.clone());
            lay_over(&mut over, all);
            all = over;
        }
        let mut values: BTreeMap<String, String> = BTreeMap::from([
            ("host".to_owned(), address.host.to_string()),
            ("address".to_owned(), host.address.clone()),
            ("service".to_owned(), address.service.to_string()),
            ("copy".to_owned(), address.copy.as_ref().map(ToString::to_string).unwrap_or_default()),
        ]);
        // On another host the estate's folder means nothing.
        if host.reach == Reach::Here {
            values.insert("dir".to_owned(), self.base());
        }
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
}

/// Puts `below` under what `over` says itself: tables join key by key, everything else is whole.
pub(super) fn lay_over(over: &mut Value, below: Value) {
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

/// Where none of the hosts that a service names is there: the one that is likeliest meant.
fn likeliest(named: &[String], hosts: &BTreeMap<HostName, Host>) -> Option<HostName> {
    if named.iter().any(|text| text.parse::<HostName>().is_ok_and(|h| hosts.contains_key(&h))) {
        return None;
    }
    let near = |text: &String| near_misses(text, hosts.keys().map(HostName::as_str)).first().and_then(|n| n.parse().ok());
    named.iter().find_map(near).or_else(|| hosts.keys().next().cloned())
}
