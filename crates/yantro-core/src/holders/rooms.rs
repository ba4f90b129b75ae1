//! How much may be done at once, over all runs: overall, per host, per group (R7).

use std::{collections::BTreeMap, sync::Arc};

use crate::{
    model::Estate,
    words::name::{Address, GroupName, HostName},
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

/// The limits of an estate.
#[derive(Debug, Clone, Default)]
pub struct RoomLimits {
    overall: Option<u32>,
    hosts: BTreeMap<HostName, u32>,
    groups: BTreeMap<GroupName, u32>,
    groups_of: BTreeMap<Address, Vec<GroupName>>,
}

impl RoomLimits {
    /// Those that an estate has.
    pub fn new(estate: &Estate) -> Self {
        let hosts = estate.hosts.iter().filter_map(|(name, h)| Some((name.clone(), h.at_once.or(estate.limits.per_host)?))).collect();
        let groups: BTreeMap<_, _> = estate.groups.iter().filter_map(|(n, g)| Some((n.clone(), g.at_once?))).collect();
        let mut groups_of: BTreeMap<Address, Vec<GroupName>> = BTreeMap::new();
        for (name, group) in estate.groups.iter().filter(|(n, _)| groups.contains_key(*n)) {
            for member in &group.members {
                groups_of.entry(member.clone()).or_default().push(name.clone());
            }
        }
        Self { overall: estate.limits.at_once, hosts, groups, groups_of }
    }

    fn groups_at<'l>(&'l self, room: &Room) -> impl Iterator<Item = &'l GroupName> + use<'l> {
        room.address().and_then(|a| self.groups_of.get(a)).into_iter().flatten()
    }
}

/// What is taken of the limits. Cheap to make anew from the limits and the runs in flight, whatever the estate's size.
#[derive(Debug, Clone, Default)]
pub struct Rooms {
    limits: Arc<RoomLimits>,
    overall: u32,
    hosts: BTreeMap<HostName, u32>,
    groups: BTreeMap<GroupName, u32>,
}

impl Rooms {
    /// The limits of an estate, nothing taken.
    pub fn new(estate: &Estate) -> Self {
        Self::within(Arc::new(RoomLimits::new(estate)))
    }

    /// These limits, nothing taken.
    pub fn within(limits: Arc<RoomLimits>) -> Self {
        Self { limits, ..Self::default() }
    }

    /// No limits at all.
    pub fn unlimited() -> Self {
        Self::default()
    }

    /// Whether there is no room left anywhere.
    pub fn is_full(&self) -> bool {
        self.limits.overall.is_some_and(|l| self.overall >= l)
    }

    /// Whether a step there may begin now.
    pub fn has_room(&self, room: &Room) -> bool {
        let limits = &*self.limits;
        let host = room.host();
        limits.overall.is_none_or(|l| self.overall < l)
            && limits.hosts.get(host).is_none_or(|l| self.hosts.get(host).copied().unwrap_or(0) < *l)
            && limits.groups_at(room).all(|g| self.groups.get(g).copied().unwrap_or(0) < limits.groups[g])
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
        let limits = Arc::clone(&self.limits);
        self.overall = self.overall.saturating_add_signed(by);
        if limits.hosts.contains_key(room.host()) {
            let taken = self.hosts.entry(room.host().clone()).or_default();
            *taken = taken.saturating_add_signed(by);
        }
        for group in limits.groups_at(room) {
            let taken = self.groups.entry(group.clone()).or_default();
            *taken = taken.saturating_add_signed(by);
        }
    }
}
