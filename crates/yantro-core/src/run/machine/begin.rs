//! Beginning steps: which may begin, and the look just before each act.

use std::{
    collections::{BTreeMap, HashSet},
    time::Duration,
};

use super::Turn;
use crate::{
    model::{Relation, task::Task},
    plan::{Part, Step, StepId},
    proof::SeenState,
    run::{
        acts::*,
        begun::*,
        ends::*,
        event::*,
        order::*,
        state::{LookAhead, StepNow, StepState},
    },
    words::{kinds::StepKind, name::Address, time::Timestamp},
};

/// How soon to look again before an act that cannot be given yet.
const LOOK_AGAIN: Duration = Duration::from_millis(250);

/// What has proven and only has to stay so for no longer than this is as good as proven to whoever may look ahead.
pub(super) const LOOK_AHEAD: Duration = Duration::from_millis(100);
/// A look that was asked for longer ago is not one just before an act.
const JUST_BEFORE: Duration = Duration::from_millis(250);

impl Turn<'_> {
    /// Begins every step that may begin, the longest tail first.
    pub(super) fn begin_ready(&mut self) {
        if !self.run.first_looked || self.is_held() || self.run.giving_up || self.run.has_ended() {
            return;
        }
        if !self.preflight_holds() {
            return;
        }
        let mut became_ready = self.run.became_ready;
        let mut asked: Vec<StepId> = self.run.unasked.iter().map(|(_, s)| *s).collect();
        self.begin_these(&asked);
        // One that needs nothing may end here, and what waited for it is ready then: it is not left for an input that may never come.
        while self.run.became_ready != became_ready && !self.is_held() {
            became_ready = self.run.became_ready;
            let known: HashSet<StepId> = asked.iter().copied().collect();
            let new: Vec<StepId> = self.run.unasked.iter().map(|(_, s)| *s).filter(|s| !known.contains(s)).collect();
            self.begin_these(&new);
            asked.extend(new);
        }
    }

    fn begin_these(&mut self, ready: &[StepId]) {
        for step in ready.iter().copied() {
            if self.is_held() {
                return;
            }
            let now = self.run.step_now(step);
            if now.looking || now.look_again_at.is_some_and(|at| at > self.now) {
                continue;
            }
            if self.run.takes_room(step) {
                let is_full = self.run.begun.at_once.is_some_and(|limit| self.run.rooms_in_use() >= limit as usize);
                let has_room = || self.run.room_of(step).is_none_or(|room| self.rooms.has_room(&room));
                if is_full || self.rooms.is_full() || !has_room() || self.group_is_full(step) {
                    // There may be room a little later: it asks then, and not all the time.
                    if now.look_again_at.is_some() {
                        self.run.step_mut(step).look_again_at = Some(self.now + LOOK_AGAIN);
                    }
                    continue;
                }
            }
            let pause = self.pause_before(step);
            if pause > Duration::ZERO && now.began_at.is_none() {
                self.take_room(step);
                self.happened(Event::StepPausing { step, until: self.now + pause, after_act: false });
                continue;
            }
            self.look_fresh(step);
        }
    }

    pub(super) fn pause_before(&self, step: StepId) -> Duration {
        if let Some(said) = self.run.begun.sequence.step(step).set(|s| s.pause_before) {
            return said.0;
        }
        match self.kind(step) {
            StepKind::Start => self.run.service(step).start.pause_before.0,
            StepKind::Stop => self.run.service(step).stop.pause_before.0,
            StepKind::Reload => self.run.service(step).reload.as_ref().map_or(Duration::ZERO, |r| r.pause_before.0),
            _ => Duration::ZERO,
        }
    }

    pub(super) fn pause_after(&self, step: StepId) -> Duration {
        if let Some(said) = self.run.begun.sequence.step(step).set(|s| s.pause_after) {
            return said.0;
        }
        match self.kind(step) {
            StepKind::Start => self.run.service(step).start.pause_after.0,
            StepKind::Stop => self.run.service(step).stop.pause_after.0,
            StepKind::Reload => self.run.service(step).reload.as_ref().map_or(Duration::ZERO, |r| r.pause_after.0),
            _ => Duration::ZERO,
        }
    }

    pub(super) fn patience(&self, step: StepId) -> Duration {
        self.run.patience_of(step)
    }

    /// Each service is looked at once more just before its act, with all that the act hangs on (R8).
    pub(super) fn look_fresh(&mut self, step: StepId) {
        match self.kind(step) {
            StepKind::Await => return self.prove(step),
            _ if self.run.begun.sequence.step(step).address().is_none() && self.run.hangs_on(step).is_empty() => {
                return self.begin_task(step);
            }
            _ => {}
        }
        if self.takes_look_ahead(step) {
            return;
        }
        self.looks(step);
        self.run.step_mut(step).look_again_at = None;
        self.ask_fresh(step);
    }

    /// From now on it is looked at for its act, and has its room.
    fn looks(&mut self, step: StepId) {
        if !self.run.in_flight.contains(&step) && !self.run.step_now(step).looking {
            self.take_room(step);
        }
        self.run.is_looked_at(step, true);
    }

    /// The look for its act is over, and so is the room it had for that.
    fn looked(&mut self, step: StepId) -> bool {
        let was_looking = self.run.is_looked_at(step, false);
        if was_looking
            && !self.run.in_flight.contains(&step)
            && let Some(room) = self.run.room_of(step)
        {
            self.rooms.give_back(&room);
        }
        was_looking
    }

    fn ask_fresh(&mut self, step: StepId) {
        let addresses = self.run.hangs_on(step);
        self.order(Order::FreshLook { step, addresses });
    }

    /// Looks for those that only wait for this one, which only has to stay steady: their acts then follow its proof at
    /// once, and are stored with it.
    pub(super) fn look_ahead(&mut self, step: StepId) {
        self.run.step_mut(step).look_ahead_at = None;
        if !matches!(self.run.step_now(step).state, StepState::Proving { steady_until: Some(_), clearing: false, .. }) || self.is_held() {
            return;
        }
        for next in self.run.waiting_on_it_alone(step) {
            let acts = matches!(self.kind(next), StepKind::Start | StepKind::Stop | StepKind::Reload | StepKind::Act);
            let is_asked = self.run.step_now(next).ahead.as_ref().is_some_and(|a| a.seen.is_none());
            // Where it would still pause, the look would be an old one.
            if acts && !is_asked && self.pause_after(step).is_zero() && self.pause_before(next).is_zero() {
                self.run.step_mut(next).ahead = Some(LookAhead { asked_at: self.now, seen: None });
                self.ask_fresh(next);
            }
        }
    }

    /// Takes the look that was taken ahead for the one just before the act, where it still is: none is then asked for.
    fn takes_look_ahead(&mut self, step: StepId) -> bool {
        let now = self.run.step_mut(step);
        let Some(ahead) = now.ahead.take() else { return false };
        now.look_again_at = None;
        let Some(seen) = ahead.seen else {
            // Its answer is on the way.
            now.ahead = Some(ahead);
            self.looks(step);
            return true;
        };
        let seen = self.with_proofs_since(seen, ahead.asked_at);
        // Where something else is known by now, whichever of the two is newer, it has to be looked at.
        let differs = seen.iter().any(|(a, state)| self.run.seen.get(a).is_some_and(|known| known != state));
        if self.now.since(ahead.asked_at) > JUST_BEFORE || differs {
            return false;
        }
        self.looks(step);
        self.fresh_looked(step, seen);
        true
    }

    /// A look beside what was proven since it was asked for: what was climbing then has come up.
    fn with_proofs_since(&self, mut seen: BTreeMap<Address, SeenState>, asked_at: Timestamp) -> BTreeMap<Address, SeenState> {
        for (address, state) in seen.iter_mut().filter(|(_, s)| **s == SeenState::Rising) {
            let proven = |s: &Step, n: &StepNow| {
                s.kind() != StepKind::Stop && n.state == StepState::Ended(StepEnd::Done) && n.ended_at.is_some_and(|at| at >= asked_at)
            };
            if self.run.steps_on(address).any(|(s, n)| proven(s, n)) {
                *state = SeenState::Proven;
            }
        }
        seen
    }

    pub(super) fn fresh_looked(&mut self, step: StepId, seen: BTreeMap<Address, SeenState>) {
        self.judge_fresh_look(step, seen);
        // The room that it had for the look is another's now, unless it goes on.
        self.gave_room |= !self.run.in_flight.contains(&step);
    }

    fn judge_fresh_look(&mut self, step: StepId, mut seen: BTreeMap<Address, SeenState>) {
        let now = self.run.step_mut(step);
        if let Some(ahead) = now.ahead.take() {
            if !now.looking {
                // What it waits for is not proven yet.
                now.ahead = Some(LookAhead { seen: Some(seen), ..ahead });
                return;
            }
            seen = self.with_proofs_since(seen, ahead.asked_at);
        }
        // Whatever begins, fails or ends is not looked at for its act any more.
        if !self.looked(step) {
            return;
        }
        // What this look finds of others is news as any other look's: a loss is not swallowed for having been seen here first
        // (R18). What could not be looked at says nothing.
        let own = self.run.begun.sequence.step(step).address().cloned();
        self.run.unseen = seen.iter().filter(|(_, s)| **s == SeenState::Unknown).map(|(a, _)| a.clone()).collect();
        for (address, state) in seen.iter().filter(|(_, s)| **s != SeenState::Unknown) {
            if Some(address) == own.as_ref() {
                self.run.seen.insert(address.clone(), *state);
            } else {
                self.seen(address.clone(), *state, format!("the look before another act found it {state}"));
            }
        }
        // What was lost and stands again has come back, whoever looked.
        let back: Vec<Address> = self.run.lost.keys().filter(|a| seen.get(*a) == Some(&SeenState::Proven)).cloned().collect();
        for address in back {
            self.happened(Event::ServiceRegained { address });
        }
        if self.is_held() || self.run.giving_up {
            return; // It is looked at again once the run goes on.
        }
        let of = |a: &Address| seen.get(a).copied().unwrap_or_default();
        let Some(address) = own else { return self.before_work(step, &of) };
        let state = of(&address);
        match self.kind(step) {
            StepKind::Start => self.before_start(step, &address, state, &of),
            StepKind::Stop => self.before_stop(step, &address, state, &of),
            // Neither up nor down: it is looked at again, as long as its patience lasts (R14).
            StepKind::Reload | StepKind::Act if state == SeenState::Unknown => self.look_again(step),
            StepKind::Reload => match state {
                SeenState::Proven | SeenState::Ailing => self.intend(step, ActKind::Reload),
                other => self.fail(step, format!("{address} is {other}, and only what runs can be reloaded"), false),
            },
            StepKind::Act => match state {
                SeenState::Proven | SeenState::Ailing => self.intend(step, ActKind::Further),
                SeenState::Down if self.may_be_given_at_rest(step) => self.intend(step, ActKind::Further),
                other => self.fail(step, format!("{address} is {other}, and only what runs can be acted on so"), false),
            },
            _ => self.prove(step),
        }
    }

    /// What must be down or up while it works is so just before (R8), at every attempt.
    fn before_work(&mut self, step: StepId, of: &dyn Fn(&Address) -> SeenState) {
        let otherwise = self.run.begun.sequence.step(step).meanwhile().find(|(a, must)| of(a) != *must);
        let Some((address, must)) = otherwise.map(|(a, must)| (a.clone(), must)) else { return self.begin_task(step) };
        match of(&address) {
            // It cannot be said yet, or is on its way.
            SeenState::Unknown | SeenState::Rising | SeenState::Sinking => self.look_again(step),
            state => self.fail(step, format!("{address} is {state}, and must be {must} while this works"), false),
        }
    }

    fn may_be_given_at_rest(&self, step: StepId) -> bool {
        let Some(Task::Act { act, .. }) = self.run.begun.sequence.step(step).task() else { return false };
        self.run.service(step).acts.get(act).is_some_and(|a| a.at_rest)
    }

    pub(super) fn before_start(&mut self, step: StepId, address: &Address, state: SeenState, of: &dyn Fn(&Address) -> SeenState) {
        let had_attempt = self.run.step_now(step).attempts > 0;
        let service = self.run.service(step).clone();
        if self.run.begun.sequence.step(step).service().is_some_and(|on| on.is_awaited()) {
            // Never started by us (R11). What this run stopped must be seen to have come back.
            let stopped = self.run.steps_on(address).any(|(s, n)| s.kind() == StepKind::Stop && !n.acts.is_empty());
            return if state == SeenState::Proven && !stopped { self.end(step, StepEnd::Unneeded) } else { self.prove(step) };
        }
        // What it must never be up with (R6).
        for other in &service.never_with {
            if of(other) == SeenState::Unknown {
                return self.look_again(step);
            }
            if of(other) != SeenState::Down {
                return self.fail(step, format!("{address} must never be up with {other}, which is {}", of(other)), false);
            }
        }
        if state == SeenState::Proven && !had_attempt {
            // What this run took down, and its host's boot brought up since, is proven like a start of ours.
            let done = |s: &Step, n: &StepNow| s.id < step && matches!(n.state, StepState::Ended(StepEnd::Done));
            let down = self.run.steps_on(address).any(|(s, n)| s.kind() == StepKind::Stop && done(s, n));
            let came_back = down || self.run.steps_on(&Address::of_host(&address.host)).any(|(s, n)| done(s, n));
            return if came_back { self.prove(step) } else { self.end(step, StepEnd::Unneeded) };
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
                let may_come = |a: &Address| matches!(of(a), SeenState::Rising | SeenState::Unknown) || self.run.lost.contains_key(a);
                if relation.any_of.iter().any(may_come) {
                    return self.look_again(step);
                }
                return self.fail(step, format!("{address} relies on {}", missing.join(" and ")), false);
            }
        }
        // On the way back, what was asked to stop and has not may climb again by itself.
        let back = self.run.begun.sequence.step(step).part == Part::PutBack;
        match state {
            SeenState::Down => self.intend(step, ActKind::Start),
            // Neither up nor down: it is looked at again, as long as its patience lasts (R14, R19).
            SeenState::Unknown => self.look_again(step),
            SeenState::Rising | SeenState::Ailing if back && !had_attempt => self.prove(step),
            // Its rungs hold, and the lines that must appear since its start have not (R17): nothing that looks at it now can
            // make that good, and it is started anew.
            SeenState::Proven if self.run.lacks_lines(step) => self.intend(step, ActKind::Clear),
            // The same process may have climbed its ladder after all: it is proven by climbing it, and not by a look.
            SeenState::Proven => self.prove(step),
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
            SeenState::Unknown => return self.look_again(step),
            SeenState::Down => return self.end(step, if had_attempt { StepEnd::Done } else { StepEnd::Unneeded }),
            SeenState::OutOfReach => {
                return self.fail(step, format!("{address} is {state}: whether it runs cannot be said"), false);
            }
            SeenState::Proven | SeenState::Ailing | SeenState::Rising | SeenState::Sinking => {}
        }
        // Nothing is stopped while something that would lose what it relies on is still up.
        let vouched = self.run.vouched();
        let sequence = &self.run.begun.sequence;
        let standing_on_it = self.run.reliant_on(address).find_map(|dependent| {
            let named = vouched.contains(&dependent.address) || sequence.left_standing.contains(&dependent.address);
            // Neither up nor down: it may well be up (R19).
            if named || of(&dependent.address) == SeenState::Down {
                return None;
            }
            let loses = |relation: &Relation| {
                // What could not be looked at counts for nothing.
                let stays = relation.any_of.iter().filter(|a| *a != address && of(a) == SeenState::Proven).count();
                let was_unmet = stays + usize::from(state == SeenState::Proven) < relation.at_least as usize;
                stays < relation.at_least as usize && !was_unmet
            };
            let any = dependent.relies_on.iter().any(|r| r.any_of.contains(address) && loses(r));
            any.then(|| dependent.address.clone())
        });
        if let Some(dependent) = standing_on_it {
            let seen = of(&dependent);
            // What could not be looked at may be seen yet, within this step's patience.
            if seen == SeenState::Unknown {
                return self.look_again(step);
            }
            return self.fail(step, format!("{dependent} is {seen} and relies on {address}"), false);
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
            if self.run.begun.sequence.step(step).set(|s| s.below_keep_up.iter().find(|g| g.as_str() == name).cloned()).is_some() {
                continue;
            }
            let leaving = self.members_in_work(&group, step);
            let stays = group.members.iter().filter(|m| *m != address && of(m) == SeenState::Proven && !leaving.contains(*m)).count();
            if state == SeenState::Proven && stays < group.keep_up as usize {
                if !leaving.is_empty() {
                    // Another member is still on its way back, and has its own patience for that: this one's is for its own stop.
                    return self.wait_for_room(step);
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
        for (step, now) in group.members.iter().flat_map(|m| self.run.steps_on(m)) {
            let Some(on) = step.service().filter(|_| step.id != except) else { continue };
            let begun = (now.began_at.is_some() || now.looking) && !now.state.has_ended();
            let stopped = on.kind == StepKind::Stop && matches!(now.state, StepState::Ended(StepEnd::Done));
            // One that this line does not bring back is not in work: it is down.
            let back = || {
                let comes_back = |s: &Step| s.line == step.line && s.kind() == StepKind::Start;
                let mut later = self.run.steps_on(&on.address).filter(|(s, _)| s.id > step.id && comes_back(s));
                later.next().is_none_or(|(_, n)| n.state.has_ended())
            };
            if begun || (stopped && !back()) {
                in_work.push(on.address.clone());
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

    /// Waits for what ends by itself, within a patience of its own.
    fn wait_for_room(&mut self, step: StepId) {
        let now = self.run.step_mut(step);
        (now.look_since, now.look_again_at) = (None, Some(self.now + LOOK_AGAIN));
    }

    /// Waits for what is on its way, as long as the step's patience lasts.
    pub(super) fn look_again(&mut self, step: StepId) {
        let (patience, now) = (self.run.patience_of(step), self.now);
        let began = *self.run.step_mut(step).look_since.get_or_insert(now);
        if now.since(began) > patience {
            self.run.step_mut(step).look_since = None;
            let row = self.run.begun.sequence.step(step).row();
            let blind: Vec<String> =
                self.run.hangs_on(step).iter().filter(|a| self.run.unseen.contains(*a)).map(ToString::to_string).collect();
            let why = if blind.is_empty() { String::new() } else { format!(": {} could not be looked at", blind.join(" and ")) };
            return self.fail(step, format!("{row} could not be acted on within {}{why}", crate::words::time::Span(patience)), false);
        }
        self.run.step_mut(step).look_again_at = Some(now + LOOK_AGAIN);
    }
}
