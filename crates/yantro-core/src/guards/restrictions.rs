//! What the newest edition keeps open runs from (R25).

use std::{collections::BTreeMap, sync::Arc};

use crate::{
    model::{Estate, Service},
    run::{Begun, Restriction},
    words::{Force, name::Address},
};

/// What an edition restricts of a run's services, over what the run's own edition says.
pub fn restrictions(begun: &Begun, estate: &Estate) -> BTreeMap<Address, Restriction> {
    let of = |(address, mine): (&Address, &Arc<Service>)| {
        let restriction = match estate.services.get(address) {
            None => Restriction::Acts { why: "is no longer in the estate".to_owned() },
            Some(s) => match (&s.hands_off, &mine.hands_off) {
                (Some(reason), None) => Restriction::Acts { why: format!("is hands-off now: {reason}") },
                _ if s.stop.force == Force::Never && mine.stop.force != Force::Never => Restriction::Force,
                _ => return None,
            },
        };
        Some((address.clone(), restriction))
    };
    begun.services.iter().filter_map(of).collect()
}
