//! What may refuse a plan, or must be said of it in so many words, and what holds an open run back.
//!
//! A plan is asked one list, whoever works it out and whatever for: to be shown, rehearsed, begun, resumed anew or diverted to. What
//! a single act is asked stands in the run's own list, `run/machine/guard.rs`.

mod confirmed;
mod freezes;
mod kept;
mod restrictions;
mod standstill;
mod terms;
mod ways;

use std::collections::{BTreeMap, BTreeSet};

pub use confirmed::{Newest, again, unconfirmed};
pub use restrictions::restrictions;
pub use ways::Ways;

use crate::{
    model::Estate,
    plan::Plan,
    proof::UnitTerms,
    text::survey::Survey,
    words::{
        name::{Address, HostName},
        time::Timestamp,
    },
};

/// What a plan is held against, as it stands now.
#[derive(Debug)]
pub struct Around<'a> {
    /// The estate that it was worked out from.
    pub estate: &'a Estate,
    /// Now.
    pub now: Timestamp,
    /// By whom and why everything stands still, where it does.
    pub standstill: Option<String>,
    /// Change freezes that were named.
    pub in_freeze: &'a BTreeSet<String>,
    /// The terms on which managers act on the units in it.
    pub terms: BTreeMap<Address, UnitTerms>,
    /// What Yantro and its ways to hosts hang on.
    pub ways: Ways,
    /// Hosts in it that this server must not act on, each with the reason.
    pub kept: BTreeMap<HostName, String>,
    /// What else there is on hosts that go down.
    pub surveys: BTreeMap<HostName, Survey>,
}

impl<'a> Around<'a> {
    /// Where hosts and their managers have nothing against anything.
    pub fn of(estate: &'a Estate, now: Timestamp, in_freeze: &'a BTreeSet<String>) -> Self {
        let (standstill, terms, ways, kept, surveys) = Default::default();
        Self { estate, now, standstill, in_freeze, terms, ways, kept, surveys }
    }
}

type Guard = fn(&mut Plan, &Around<'_>);

/// The list.
const EVERY_PLAN: [Guard; 6] = [
    |plan, around| plan.heed_standstill(around.standstill.as_deref()),
    |plan, around| plan.heed_freezes(around.estate, around.now, around.in_freeze),
    |plan, around| plan.heed_managers(around.estate, &around.terms),
    |plan, around| plan.heed_ways(&around.ways, &around.terms, around.estate),
    |plan, around| plan.heed_keepers(&around.kept),
    |plan, around| plan.remark_on_strangers(around.estate, &around.surveys),
];

impl Plan {
    /// Holds it against everything that may refuse it, or must be said of it.
    pub fn guard(&mut self, around: &Around<'_>) {
        EVERY_PLAN.iter().for_each(|guard| guard(self, around));
    }
}
