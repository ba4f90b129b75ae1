//! What a run is answerable for meanwhile (R18), and its end.

use std::collections::BTreeMap;

use super::Turn;
use crate::{
    plan::{Part, Step, StepId},
    proof::SeenState,
    run::{
        acts::*,
        ends::*,
        event::*,
        holds::*,
        order::*,
        state::{StepNow, StepState},
    },
    words::{kinds::StepKind, name::Address},
};

impl Turn<'_> {
    pub(super) fn seen(&mut self, address: Address, state: SeenState, says: String) {
        if !self.run.begun.services.contains_key(&address) || self.run.is_released(&address) || !self.run.first_looked {
            return;
        }
        let before = self.run.seen.insert(address.clone(), state);
        self.seen_beside_work(&address, state);
        if state == SeenState::Proven {
            if self.run.lost.contains_key(&address) {
                self.happened(Event::ServiceRegained { address: address.clone() });
            }
            self.unhold(HoldCause::Lost { address }, "it is proven again".to_owned());
            return;
        }
        let must_be_proven = self.must_be_proven(&address);
        let leaves = matches!(state, SeenState::Down | SeenState::Ailing | SeenState::Sinking | SeenState::OutOfReach);
        // What is lost already is not known as proven.
        if must_be_proven && leaves && before == Some(SeenState::Proven) {
            let patience = self.run.begun.services[&address].start.patience.0;
            self.happened(Event::ServiceLost { address, state, says, patience_ends: self.now + patience });
        }
    }

    /// Notes what must be down or up while work goes on, and is seen otherwise: that it stands as it must again takes nothing back.
    fn seen_beside_work(&mut self, address: &Address, state: SeenState) {
        let works = |step: &StepId| {
            let now = self.run.step_now(*step);
            matches!(now.state, StepState::Acting { .. }) && now.stood_otherwise.is_none()
        };
        let differs = |step: &StepId| {
            let mut meanwhile = self.run.begun.sequence.step(*step).meanwhile();
            meanwhile.any(|(a, must)| a == address && state != must && state != SeenState::Unknown)
        };
        let beside = self.run.beside.get(address).into_iter().flatten();
        let disturbed: Vec<StepId> = beside.filter(|s| works(s) && differs(s)).copied().collect();
        for step in disturbed {
            self.happened(Event::StoodOtherwise { step, address: address.clone(), state });
        }
    }

    /// Whether a service should be proven now, as far as this run is concerned: it brought it up,
    /// or found it proven and does not touch it.
    pub(super) fn must_be_proven(&self, address: &Address) -> bool {
        match self.last_that_moved(address) {
            Some((step, now)) => step.kind() != StepKind::Stop && matches!(now.state, StepState::Ended(StepEnd::Done | StepEnd::Unneeded)),
            None => {
                let is_planned = self.run.steps_on(address).any(|(s, _)| s.service().is_some());
                !is_planned && self.run.begun.as_found.get(address) == Some(&SeenState::Proven)
            }
        }
    }

    /// The last step that had to do with a service tells how it is to stand: one after another may take it up and down.
    fn last_that_moved(&self, address: &Address) -> Option<(&Step, &StepNow)> {
        let had_to_do = |n: &StepNow| n.began_at.is_some() || matches!(n.state, StepState::Ended(StepEnd::Unneeded));
        self.run.steps_on(address).rfind(|(s, n)| s.service().is_some() && had_to_do(n))
    }

    pub(super) fn lost_for_good(&mut self, address: Address) {
        let state = self.run.seen.get(&address).copied().unwrap_or_default();
        if state == SeenState::Proven {
            return self.happened(Event::ServiceRegained { address });
        }
        // What is moved anew is lost no more: that step is the one that brought it up.
        match self.last_that_moved(&address).map(|(s, _)| s.id) {
            Some(step) => self.fail(step, format!("it was proven, and is {state} since"), false),
            None => self.hold(HoldCause::Lost { address }),
        }
    }

    // ---- the end ----

    pub(super) fn finish_if_through(&mut self) {
        if self.run.giving_up {
            // Acts that were given end by themselves, or by the recorder's limit.
            let through: Vec<StepId> = self
                .run
                .steps()
                .filter(|(_, n)| match &n.state {
                    StepState::Acting { patience_ends, .. } => {
                        let act = n.acts.last();
                        act.is_some_and(|a| a.end.is_some() || (a.kind == ActKind::Start && a.begun.is_some()))
                            || *patience_ends <= self.now
                    }
                    _ => false,
                })
                .map(|(s, _)| s.id)
                .collect();
            through.into_iter().for_each(|step| self.left_behind(step));
        }
        if self.run.giving_up && !self.run.first_looked {
            // It never had its locks, or never looked: nothing was touched.
            self.happened(Event::Ended { end: RunEnd::GivenUp, differences: Vec::new(), otherwise: Vec::new() });
            return self.order(Order::Release);
        }
        let free_to_end = self.run.giving_up || (!self.is_held() && self.run.lost.is_empty());
        if !self.run.first_looked || self.run.steps_not_ended() > 0 || !free_to_end || self.run.final_looking || self.run.has_ended() {
            return;
        }
        if self.run.part == Part::Divert && !self.run.part_planned && !self.run.giving_up {
            if let Some((procedure, failed, reason)) = self.run.divert.clone().filter(|_| !self.run.divert_asked) {
                self.run.divert_asked = true;
                self.order(Order::PlanDivert { procedure, failed, reason });
            }
            return;
        }
        self.run.final_looking = true;
        self.order(Order::FinalLook);
    }

    pub(super) fn final_looked(&mut self, seen: BTreeMap<Address, SeenState>) {
        if !std::mem::take(&mut self.run.final_looking) || self.run.steps_not_ended() > 0 {
            return;
        }
        if self.run.part == Part::PutBack && !self.run.part_planned && !self.run.giving_up {
            // All that was in flight has ended: now it is known what there is to put back.
            self.run.seen.extend(seen.clone());
            let steps = self.run.way_back(&seen);
            self.happened(Event::PutBackPlanned { steps });
            if self.run.steps_not_ended() > 0 {
                return;
            }
        }
        if !self.run.giving_up && self.run.part != Part::PutBack {
            for (address, state) in &seen {
                self.seen(address.clone(), *state, format!("the last look found it {state}"));
            }
            if self.is_held() || !self.run.lost.is_empty() {
                return; // Not the final word yet: it has its patience to come back.
            }
        }
        let differences: Vec<Difference> = seen
            .iter()
            .filter_map(|(address, now)| {
                let found = self.run.begun.as_found.get(address).copied().unwrap_or_default();
                // Found ailing, it stands no worse where more of its rungs hold.
                let as_good = self.run.part == Part::PutBack && found == SeenState::Ailing && *now == SeenState::Proven;
                (found != *now && !as_good).then(|| Difference { address: address.clone(), found, now: *now })
            })
            .collect();
        let otherwise = self.otherwise(&seen);
        let end = if self.run.giving_up {
            RunEnd::GivenUp
        } else if self.run.part == Part::PutBack {
            let good = |n: &StepNow| matches!(n.state, StepState::Ended(StepEnd::Done | StepEnd::Unneeded));
            let all_done = self.run.steps().filter(|(s, _)| s.part == Part::PutBack).all(|(_, n)| good(n));
            if differences.is_empty() && all_done { RunEnd::PutBack } else { RunEnd::PutBackInPart }
        } else if self.run.exceptions || !otherwise.is_empty() {
            RunEnd::FinishedWithExceptions
        } else {
            RunEnd::Finished
        };
        self.happened(Event::Ended { end, differences, otherwise });
        self.order(Order::Release);
    }

    /// What stands otherwise than the run set out to leave it, those first that were found proven and are not any more.
    pub(super) fn otherwise(&self, seen: &BTreeMap<Address, SeenState>) -> Vec<Otherwise> {
        let mut all: Vec<Otherwise> = Vec::new();
        for (address, now) in seen.iter().filter(|(a, _)| !self.run.is_released(a)) {
            let found = self.run.begun.as_found.get(address).copied().unwrap_or_default();
            let meant = match self.run.meant(address) {
                Some(meant) => meant,
                // Not acted on: what was proven is to stay so.
                None if found == SeenState::Proven => SeenState::Proven,
                None => continue,
            };
            if *now != meant {
                all.push(Otherwise { address: address.clone(), found, meant, now: *now });
            }
        }
        all.sort_by_key(|o| o.found != SeenState::Proven);
        all
    }
}
