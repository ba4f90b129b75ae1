//! What services rely on, yield to, exclude, and the groups they are in: names become addresses.

use std::collections::{BTreeMap, BTreeSet};

use super::{Draft, Place, Vetting};
use crate::{
    model::*,
    text::file::*,
    words::name::{Address, GroupName, ServiceName, did_you_mean},
};

impl Vetting<'_, '_> {
    pub(super) fn relation(
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

    pub(super) fn named(
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

    pub(super) fn address(
        &mut self,
        draft: &Draft,
        text: &str,
        place: &Place,
        by_service: &BTreeMap<ServiceName, Vec<Address>>,
        known: &BTreeSet<Address>,
    ) -> Option<Address> {
        if text.contains('/') {
            let parsed = text.parse::<Address>().ok().filter(|a| known.contains(a));
            if parsed.is_none() {
                let names = || known.iter().map(ToString::to_string).collect();
                let mend = self.optional_hint(text).unwrap_or_else(|| self.faults.near(text, names));
                let says = format!("{} names \"{text}\", and nothing has that address", draft.address);
                self.faults.error("unknown-name", place.clone(), says, mend);
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

    pub(super) fn unknown_service(&mut self, draft: &Draft, text: &str, place: &Place, by_service: &BTreeMap<ServiceName, Vec<Address>>) {
        let names = || by_service.keys().map(ToString::to_string).collect();
        let mend = self.optional_hint(text).unwrap_or_else(|| self.faults.near(text, names));
        let says = format!("{} names \"{text}\", and there is no such service", draft.address);
        self.faults.error("unknown-name", place.clone(), says, mend);
    }

    /// Something that must have an optional service that no host turns on (R12).
    pub(super) fn optional_hint(&self, text: &str) -> Option<String> {
        let bare = text.rsplit('/').next()?.split('.').next()?;
        let (name, _) = self.file.service.iter().find(|(n, s)| n.eq_ignore_ascii_case(bare) && self.is_optional(s))?;
        Some(format!("{name} is optional and off there: add `turns_on = [\"{name}\"]` to its host"))
    }

    pub(super) fn groups(&mut self, drafts: &[Draft]) -> BTreeMap<GroupName, Group> {
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
}
