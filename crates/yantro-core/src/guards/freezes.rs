//! Change freezes: what they put in the way of a disruptive plan.

use std::collections::BTreeSet;

use crate::{
    model::whole::Estate,
    plan::{Ask, Obstacle, Plan},
    words::{FreezeBegin, time::Timestamp},
};

impl Plan {
    /// Puts the change freezes that are on in the way of a disruptive plan; `named` are those that were named.
    ///
    /// Only what takes something from its users is disruptive: stops, restarts, and further acts with an impact.
    pub(super) fn heed_freezes(&mut self, estate: &Estate, now: Timestamp, named: &BTreeSet<String>) {
        let Some(gravest) = self.hits.iter().map(|h| h.impact.level).max() else { return };
        for (name, freeze) in estate.freezes.iter().filter(|(_, f)| gravest >= f.impact) {
            let Some((_, until)) = freeze.hours.covering(now) else { continue };
            let says = format!("{} is a change freeze until {}", freeze.title, until.in_zone(&freeze.hours.zone));
            let mut refuse = |mend: &str| {
                let mend = mend.to_owned();
                self.obstacles.push(Obstacle { address: None, line: None, why: says.clone(), mend });
            };
            match freeze.begin {
                FreezeBegin::Refused => refuse("begin it afterwards"),
                FreezeBegin::SecondPerson => {
                    refuse("it takes a second person's word, which is not possible until people sign in; begin it afterwards");
                }
                FreezeBegin::WithReason if named.contains(name) => {}
                FreezeBegin::WithReason => self.asks.push(Ask::InFreeze { freeze: name.clone(), says }),
            }
        }
    }
}
