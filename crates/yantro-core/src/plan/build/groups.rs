//! How many members of a group stay up.

use super::Work;
use crate::{plan::Ask, proof::SeenState};

impl Work<'_> {
    /// Groups that this run would take below their `keep_up` (R20).
    ///
    /// Members that must be down at the same time (because they stop for good, or rely on
    /// something else that stops here) cannot roll.
    pub(super) fn keep_up(&mut self) {
        for (name, group) in &self.estate.groups {
            let Some(keep_up) = group.keep_up else { continue };
            if self.request.below_keep_up.contains(name) {
                continue;
            }
            let members: Vec<u32> = group.members.iter().filter_map(|m| self.graph.number(m)).collect();
            let together: Vec<u32> = members
                .iter()
                .copied()
                .filter(|&m| self.stop[m as usize].is_some())
                .filter(|&m| {
                    let stays_down = self.raise[m as usize].is_none();
                    let for_another =
                        self.graph.relies_on[m as usize].iter().any(|r| r.any_of.iter().any(|&j| self.stop[j as usize].is_some()));
                    stays_down || for_another
                })
                .collect();
            if together.is_empty() {
                continue;
            }
            let proven = members.iter().filter(|&&m| self.seen[m as usize] == SeenState::Proven).count();
            let leaving = together.iter().filter(|&&m| self.seen[m as usize] == SeenState::Proven).count();
            if proven - leaving < keep_up as usize {
                let list: Vec<String> = together.iter().map(|&m| self.address(m).to_string()).collect();
                self.asks.push(Ask::BelowKeepUp {
                    group: name.clone(),
                    says: format!(
                        "group {name} keeps {keep_up} up, and {} would be down at the same time, leaving {}",
                        list.join(", "),
                        proven - leaving
                    ),
                });
            }
        }
    }
}
