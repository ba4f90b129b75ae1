//! What is known of hosts' power.

use std::{
    collections::{HashMap, HashSet},
    sync::{Mutex, PoisonError},
    time::{Duration, Instant},
};

use yantro_core::words::name::{Address, HostName};

use crate::hosts::power::PowerState;

pub(crate) type Told = Option<Result<PowerState, String>>;

/// What is known of hosts' power.
#[derive(Default)]
pub(crate) struct Known {
    /// What was told last, and when.
    told: Mutex<HashMap<Address, (Instant, Told)>>,
    /// Hosts whose shutdown was seen to its end, where nothing tells their power.
    seen_off: Mutex<HashSet<HostName>>,
}

impl Known {
    pub fn fresh(&self, address: &Address, holds: Duration) -> Option<Told> {
        let told = self.told.lock().unwrap_or_else(PoisonError::into_inner);
        told.get(address).filter(|(at, _)| at.elapsed() < holds).map(|(_, t)| t.clone())
    }
    pub fn last(&self, address: &Address) -> Told {
        self.told.lock().unwrap_or_else(PoisonError::into_inner).get(address).and_then(|(_, t)| t.clone())
    }
    pub fn remember(&self, address: &Address, told: Told) {
        self.told.lock().unwrap_or_else(PoisonError::into_inner).insert(address.clone(), (Instant::now(), told));
    }
    pub fn off(&self, host: &HostName, off: bool) {
        let mut seen = self.seen_off.lock().unwrap_or_else(PoisonError::into_inner);
        if off {
            seen.insert(host.clone());
        } else {
            seen.remove(host);
        }
    }
    pub fn is_off(&self, host: &HostName) -> bool {
        self.seen_off.lock().unwrap_or_else(PoisonError::into_inner).contains(host)
    }
}
