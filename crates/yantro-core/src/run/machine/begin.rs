//! Beginning steps: which may begin, and the look just before each act.

use std::{collections::BTreeMap, time::Duration};

use super::Turn;
use crate::{
    name::Address,
    run::{event::*, input::*, state::StepState},
    sequence::{StepId, StepKind},
    state::SeenState,
};

/// How soon to look again before an act that cannot be given yet.
const LOOK_AGAIN: Duration = Duration::from_millis(250);

impl Turn<'_> {
    /// Begins every step that may begin, the longest tail first.
    pub(super) fn begin_ready(&mut self) {
        if !self.run.first_looked || self.is_held() || self.run.giving_up || self.run.has_ended() {
            return;
        }
        let ready: Vec<StepId> = self.run.ready.iter().map(|(_, s)| *s).collect();
        for step in ready {
            if self.is_held() {
                return;
            }
            let now = self.run.step_now(step);
            if now.looking || now.look_again_at.is_some_and(|at| at > self.now) {
                continue;
            }
            let address = self.address(step);
            let is_full = self.run.begun.at_once.is_some_and(|limit| self.run.in_flight.len() + self.run.looking() >= limit as usize);
            if is_full || !self.rooms.has_room(&address) || self.group_is_full(step) {
                continue;
            }
            let pause = self.pause_before(step);
            if pause > Duration::ZERO && now.began_at.is_none() {
                self.rooms.take(&address);
                self.happened(Event::StepPausing { step, until: self.now + pause, after_act: false });
                continue;
            }
            self.look_fresh(step);
        }
    }

    pub(super) fn pause_before(&self, step: StepId) -> Duration {
        let service = self.run.service(step);
        match self.kind(step) {
            StepKind::Start => service.start.pause_before.0,
            StepKind::Stop => service.stop.pause_before.0,
            StepKind::Reload => service.reload.as_ref().map_or(Duration::ZERO, |r| r.pause_before.0),
            StepKind::Await => Duration::ZERO,
        }
    }

    pub(super) fn pause_after(&self, step: StepId) -> Duration {
        let service = self.run.service(step);
        match self.kind(step) {
            StepKind::Start => service.start.pause_after.0,
            StepKind::Stop => service.stop.pause_after.0,
            StepKind::Reload => service.reload.as_ref().map_or(Duration::ZERO, |r| r.pause_after.0),
            StepKind::Await => Duration::ZERO,
        }
    }

    pub(super) fn patience(&self, step: StepId) -> Duration {
        let service = self.run.service(step);
        match self.kind(step) {
            StepKind::Start | StepKind::Await => service.start.patience.0,
            StepKind::Stop => service.stop.patience.0,
            StepKind::Reload => service.reload.as_ref().map_or(service.start.patience.0, |r| r.patience.0),
        }
    }

    /// Each service is looked at once more just before its act, with all that the act hangs on (R8).
    pub(super) fn look_fresh(&mut self, step: StepId) {
        if self.kind(step) == StepKind::Await {
            self.prove(step);
            return;
        }
        let mut addresses = vec![self.address(step)];
        let begun = &self.run.begun;
        let service = self.run.service(step);
        match self.kind(step) {
            StepKind::Start => addresses.extend(service.relies_on_any().chain(&service.never_with).cloned()),
            StepKind::Stop => {
                let mine = &addresses[0];
                let reliant = begun.services.values().filter(|s| s.relies_on_any().any(|a| a == mine));
                let reliant: Vec<Address> = reliant.map(|s| s.address.clone()).collect();
                let groups = begun.keep_up.values().filter(|g| g.keep_up > 0 && g.members.contains(mine));
                let members: Vec<Address> = groups.flat_map(|g| g.members.iter().cloned()).collect();
                addresses.extend(reliant);
                addresses.extend(members);
            }
            StepKind::Reload | StepKind::Await => {}
        }
        addresses.sort();
        addresses.dedup();
        let now = self.run.step_mut(step);
        now.looking = true;
        now.look_again_at = None;
        self.order(Order::FreshLook { step, addresses });
    }

    pub(super) fn fresh_looked(&mut self, step: StepId, seen: BTreeMap<Address, SeenState>) {
        let now = self.run.step_mut(step);
        if !std::mem::take(&mut now.looking) || now.state.has_ended() || now.state.awaits_decision() {
            return;
        }
        self.run.seen.extend(seen.clone());
        if self.is_held() || self.run.giving_up {
            return; // It is looked at again once the run goes on.
        }
        let address = self.address(step);
        let state = seen.get(&address).copied().unwrap_or_default();
        let of = |a: &Address| seen.get(a).copied().unwrap_or_default();
        match self.kind(step) {
            StepKind::Start => self.before_start(step, &address, state, &of),
            StepKind::Stop => self.before_stop(step, &address, state, &of),
            StepKind::Reload => match state {
                SeenState::Proven | SeenState::Ailing => self.intend(step, ActKind::Reload),
                other => self.fail(step, format!("{address} is {other}, and only what runs can be reloaded"), false),
            },
            StepKind::Await => self.prove(step),
        }
    }

    pub(super) fn before_start(&mut self, step: StepId, address: &Address, state: SeenState, of: &dyn Fn(&Address) -> SeenState) {
        let had_attempt = self.run.step_now(step).attempts > 0;
        // What it must never be up with (R6).
        let service = self.run.service(step).clone();
        for other in &service.never_with {
            if of(other).is_up() || matches!(of(other), SeenState::OutOfReach) {
                return self.fail(step, format!("{address} must never be up with {other}, which is {}", of(other)), false);
            }
        }
        if state == SeenState::Proven && !had_attempt {
            return self.end(step, StepEnd::Unneeded);
        }
        // Design 4.1: all it relies on is proven, unless an operator vouched for it or named it.
        let vouched = self.run.vouched();
        let standing = self.run.begun.sequence.left_standing.contains(address);
        for relation in &service.relies_on {
            let good = relation.any_of.iter().filter(|a| of(a) == SeenState::Proven || vouched.contains(*a)).count();
            if good < relation.at_least as usize && !standing {
                let missing: Vec<String> =
                    relation.any_of.iter().filter(|a| of(a) != SeenState::Proven).map(|a| format!("{a}, which is {}", of(a))).collect();
                // It may be coming back by itself, and has its patience for that (R18).
                if relation.any_of.iter().any(|a| of(a) == SeenState::Rising || self.run.lost.contains_key(a)) {
                    return self.look_again(step);
                }
                return self.fail(step, format!("{address} relies on {}", missing.join(" and ")), false);
            }
        }
        match state {
            SeenState::Down | SeenState::Unknown => self.intend(step, ActKind::Start),
            // The same process has climbed its ladder after all.
            SeenState::Proven => self.end(step, StepEnd::Done),
            SeenState::Rising | SeenState::Ailing if had_attempt => self.intend(step, ActKind::Clear),
            SeenState::Rising => self.prove(step),
            SeenState::Ailing => self.fail(step, format!("{address} is ailing: it runs already, and is never started over"), false),
            SeenState::Sinking => self.look_again(step),
            SeenState::OutOfReach => self.fail(step, format!("{address} is out of reach"), false),
        }
    }

    pub(super) fn before_stop(&mut self, step: StepId, address: &Address, state: SeenState, of: &dyn Fn(&Address) -> SeenState) {
        let had_attempt = self.run.step_now(step).attempts > 0;
        match state {
            SeenState::Down => return self.end(step, if had_attempt { StepEnd::Done } else { StepEnd::Unneeded }),
            SeenState::Unknown | SeenState::OutOfReach => {
                return self.fail(step, format!("{address} is {state}: whether it runs cannot be said"), false);
            }
            SeenState::Proven | SeenState::Ailing | SeenState::Rising | SeenState::Sinking => {}
        }
        // Nothing is stopped while something that would lose what it relies on is still up.
        let vouched = self.run.vouched();
        let sequence = &self.run.begun.sequence;
        for dependent in self.run.begun.services.values() {
            if !of(&dependent.address).is_up()
                || vouched.contains(&dependent.address)
                || sequence.left_standing.contains(&dependent.address)
            {
                continue;
            }
            for relation in dependent.relies_on.iter().filter(|r| r.any_of.contains(address)) {
                let stays = relation.any_of.iter().filter(|a| *a != address && self.run.seen.get(*a) == Some(&SeenState::Proven)).count();
                let was_unmet = stays + usize::from(state == SeenState::Proven) < relation.at_least as usize;
                if stays < relation.at_least as usize && !was_unmet {
                    let why = format!("{} is {} and relies on {address}", dependent.address, of(&dependent.address));
                    return self.fail(step, why, false);
                }
            }
        }
        // Enough of its group must stay proven (R20), counted from this look.
        let groups: Vec<(String, KeepUp)> = self
            .run
            .begun
            .keep_up
            .iter()
            .filter(|(_, g)| g.keep_up > 0 && g.members.contains(address))
            .map(|(n, g)| (n.to_string(), g.clone()))
            .collect();
        for (name, group) in groups {
            let leaving = self.members_in_work(&group, step);
            let stays = group.members.iter().filter(|m| *m != address && of(m) == SeenState::Proven && !leaving.contains(*m)).count();
            if state == SeenState::Proven && stays < group.keep_up as usize {
                if !leaving.is_empty() {
                    return self.look_again(step); // Another member is still on its way back.
                }
                return self.fail(
                    step,
                    format!("group {name} keeps {} up, and only {stays} besides {address} are proven", group.keep_up),
                    false,
                );
            }
        }
        self.intend(step, ActKind::Stop);
    }

    /// Members of a group that this run has taken down or is taking down, and not brought back.
    pub(super) fn members_in_work(&self, group: &KeepUp, except: StepId) -> Vec<Address> {
        let mut in_work: Vec<Address> = Vec::new();
        for (step, now) in self.run.steps() {
            if step.id == except || !group.members.contains(&step.address) {
                continue;
            }
            let begun = now.began_at.is_some() && !now.state.has_ended();
            let stopped = step.kind == StepKind::Stop && matches!(now.state, StepState::Ended(StepEnd::Done));
            let back = || self.run.steps().any(|(s, n)| s.address == step.address && s.kind == StepKind::Start && n.state.has_ended());
            if begun || (stopped && !back()) {
                in_work.push(step.address.clone());
            }
        }
        in_work.sort();
        in_work.dedup();
        in_work
    }

    /// A rolling group: a member counts from its stop until it is back.
    pub(super) fn group_is_full(&self, step: StepId) -> bool {
        if self.kind(step) != StepKind::Stop {
            return false;
        }
        let address = self.address(step);
        self.run.begun.keep_up.values().any(|g| {
            g.keep_up > 0
                && g.members.contains(&address)
                && g.at_once.is_some_and(|limit| self.members_in_work(g, step).iter().filter(|m| **m != address).count() >= limit as usize)
        })
    }

    pub(super) fn look_again(&mut self, step: StepId) {
        self.run.step_mut(step).look_again_at = Some(self.now + LOOK_AGAIN);
    }
}
