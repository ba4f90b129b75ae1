//! How much may be done at once, over all runs: overall, per host, per group (R7).

use std::collections::BTreeMap;

use crate::{
    estate::Estate,
    name::{Address, GroupName, HostName},
};

/// Where a step takes up room.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Room {
    /// On a service, its host and its groups.
    Service(Address),
    /// On a host.
    Host(HostName),
}

impl Room {
    fn host(&self) -> &HostName {
        match self {
            Room::Service(address) => &address.host,
            Room::Host(host) => host,
        }
    }
    fn address(&self) -> Option<&Address> {
        match self {
            Room::Service(address) => Some(address),
            Room::Host(_) => None,
        }
    }
}

/// The limits and what is taken of them. Made anew from the estate and the runs in flight.
#[derive(Debug, Clone, Default)]
pub struct Rooms {
    overall: (u32, Option<u32>),
    hosts: BTreeMap<HostName, (u32, Option<u32>)>,
    groups: BTreeMap<GroupName, (u32, Option<u32>)>,
    groups_of: BTreeMap<Address, Vec<GroupName>>,
}

impl Rooms {
    /// The limits of an estate, nothing taken.
    pub fn new(estate: &Estate) -> Self {
        let hosts = estate.hosts.iter().map(|(name, h)| (name.clone(), (0, h.at_once.or(estate.limits.per_host)))).collect();
        let groups: BTreeMap<_, _> =
            estate.groups.iter().filter(|(_, g)| g.at_once.is_some()).map(|(n, g)| (n.clone(), (0, g.at_once))).collect();
        let mut groups_of: BTreeMap<Address, Vec<GroupName>> = BTreeMap::new();
        for (name, group) in estate.groups.iter().filter(|(n, _)| groups.contains_key(*n)) {
            for member in &group.members {
                groups_of.entry(member.clone()).or_default().push(name.clone());
            }
        }
        Self { overall: (0, estate.limits.at_once), hosts, groups, groups_of }
    }

    /// No limits at all.
    pub fn unlimited() -> Self {
        Self::default()
    }

    /// Whether a step there may begin now.
    pub fn has_room(&self, room: &Room) -> bool {
        let fits = |(taken, limit): &(u32, Option<u32>)| limit.is_none_or(|l| *taken < l);
        fits(&self.overall)
            && self.hosts.get(room.host()).is_none_or(fits)
            && room.address().and_then(|a| self.groups_of.get(a)).into_iter().flatten().all(|g| self.groups.get(g).is_none_or(fits))
    }

    /// Takes room for a step, whether or not there is any: recovery takes what was taken before.
    pub fn take(&mut self, room: &Room) {
        self.change(room, 1);
    }

    /// Gives it back.
    pub fn give_back(&mut self, room: &Room) {
        self.change(room, -1);
    }

    fn change(&mut self, room: &Room, by: i32) {
        let add = |(taken, _): &mut (u32, Option<u32>)| *taken = taken.saturating_add_signed(by);
        add(&mut self.overall);
        if let Some(host) = self.hosts.get_mut(room.host()) {
            add(host);
        }
        for group in room.address().and_then(|a| self.groups_of.get(a)).into_iter().flatten() {
            if let Some(group) = self.groups.get_mut(group) {
                add(group);
            }
        }
    }
}
