//! Every host of the estates there are, and how each is come to.

use std::{
    collections::{BTreeMap, BTreeSet},
    sync::{Arc, PoisonError, RwLock, RwLockReadGuard},
};

use tokio::sync::mpsc::UnboundedSender;
use yantro_core::{
    model::{Host, Power},
    words::name::HostName,
};

use crate::{
    here::Here,
    hosts::{known::Known, sim::Sim, together::Together},
    links::far::{Far, Link, OutOfReach},
    looks::{look::RawLook, procs::boot_id},
};

/// What a look came to: what was seen, or that its host does not answer.
pub type Seen = Result<RawLook, OutOfReach>;

/// A host, and those that the way to it goes through; an error says why that cannot be said.
pub(super) type GoesThrough = (HostName, Result<BTreeSet<HostName>, String>);

/// How to come to every host.
pub struct Hosts {
    pub(super) here: Arc<Here>,
    pub(super) server: String,
    pub(super) far: RwLock<BTreeMap<HostName, Arc<Far>>>,
    pub(super) changed: UnboundedSender<HostName>,
    pub(super) powers: RwLock<BTreeMap<HostName, Power>>,
    pub(super) known: Arc<Known>,
    pub(super) sim: Sim,
    pub(super) ways: Together<Vec<GoesThrough>>,
}

impl Hosts {
    /// With this machine only. `changed` hears of hosts whose link came or went.
    pub fn new(here: Here, server: &str, changed: UnboundedSender<HostName>) -> Self {
        Self {
            here: Arc::new(here),
            server: server.to_owned(),
            far: RwLock::default(),
            changed,
            powers: RwLock::default(),
            known: Arc::default(),
            sim: Sim::default(),
            ways: Together::default(),
        }
    }

    /// This machine.
    pub fn here(&self) -> &Here {
        &self.here
    }

    pub(crate) fn here_arc(&self) -> &Arc<Here> {
        &self.here
    }

    pub(crate) fn powers(&self) -> RwLockReadGuard<'_, BTreeMap<HostName, Power>> {
        self.powers.read().unwrap_or_else(PoisonError::into_inner)
    }

    /// Whether a host is this machine.
    pub fn is_here(&self, host: &HostName) -> bool {
        self.far(host).is_none() && !self.sim.plays(host)
    }

    /// Which boot a host is in, as far as is known.
    pub fn boot_of(&self, host: &HostName) -> String {
        match self.far(host) {
            Some(far) => far.link().hello.map(|h| h.boot).unwrap_or_default(),
            None => boot_id().to_owned(),
        }
    }

    /// Comes to know the hosts of an estate: connections to new ones begin, others end unless a run still `needs` them.
    pub fn know(&self, hosts: &BTreeMap<HostName, Host>, needs: impl Fn(&HostName) -> bool) {
        let mut far = self.far.write().unwrap_or_else(PoisonError::into_inner);
        far.retain(|name, one| {
            let stays = hosts.get(name).map_or_else(|| needs(name), |host| one.is(host));
            if !stays {
                one.leave();
            }
            stays
        });
        self.sim.know(hosts);
        *self.powers.write().unwrap_or_else(PoisonError::into_inner) =
            hosts.iter().filter_map(|(n, h)| Some((n.clone(), h.power.clone()?))).collect();
        for (name, host) in hosts {
            if !far.contains_key(name)
                && let Some(one) = Far::keep(name, host, &self.server, self.changed.clone())
            {
                far.insert(name.clone(), one);
            }
        }
    }

    /// The link to a host; `None` for this machine.
    pub fn link(&self, host: &HostName) -> Option<Link> {
        self.far(host).map(|f| f.link())
    }

    pub(crate) fn all_far(&self) -> Vec<(HostName, Arc<Far>)> {
        let far = self.far.read().unwrap_or_else(PoisonError::into_inner);
        far.iter().map(|(name, far)| (name.clone(), Arc::clone(far))).collect()
    }

    pub(crate) fn far(&self, host: &HostName) -> Option<Arc<Far>> {
        self.far.read().unwrap_or_else(PoisonError::into_inner).get(host).cloned()
    }
}
