//! The machine's decisions: input and time in, events and orders out.

use std::{collections::BTreeMap, time::Duration};

use super::{
    decision::{Decision, DecisionKind, Refusal},
    event::*,
    input::*,
    rooms::Rooms,
    state::{Run, StepState},
};
use crate::{
    estate::{Force, IfItFails, ServiceRunner},
    name::Address,
    sequence::{StepId, StepKind},
    state::{Answer, SeenState, Verdict},
    time::Timestamp,
};

/// How long a force may take to show.
const AFTER_FORCE: Duration = Duration::from_secs(10);
/// How soon to look again before an act that cannot be given yet.
const LOOK_AGAIN: Duration = Duration::from_millis(250);

impl Run {
    /// Takes an input. What it answers must be stored (events) before it is carried out (orders).
    ///
    /// An input that comes late or twice does nothing; a decision that does not fit is refused and
    /// changes nothing.
    pub fn take(&mut self, input: Input, now: Timestamp, rooms: &mut Rooms) -> Result<Taken, Refusal> {
        if self.has_ended() {
            return match input {
                Input::Decide(_) => Err(Refusal::Ended { run: self.id.0, word: self.state().word() }),
                _ => Ok(Taken::default()),
            };
        }
        let mut turn = Turn { run: self, now, rooms, taken: Taken::default() };
        turn.input(input)?;
        turn.deadlines();
        turn.begin_ready();
        turn.finish_if_through();
        Ok(turn.taken)
    }

    /// The orders that pick the run up after a restart of the server. Nothing is given again before
    /// it was looked for.
    pub fn recover(&self) -> Vec<Order> {
        if self.has_ended() {
            return Vec::new();
        }
        if !self.locked {
            return vec![Order::TakeLocks];
        }
        if !self.first_looked {
            return vec![Order::FirstLook];
        }
        let mut orders = Vec::new();
        for (step, now) in self.steps() {
            match &now.state {
                StepState::Acting { act, kind, .. } => {
                    orders.push(Order::FindAct { step: step.id, act: *act, kind: *kind, address: step.address.clone() });
                }
                StepState::Proving { climbed, .. } => orders.push(self.climb(step.id, *climbed)),
                StepState::Waiting
                | StepState::Pausing { .. }
                | StepState::Asking { .. }
                | StepState::Failed { .. }
                | StepState::OutcomeUnknown { .. }
                | StepState::Ended(_) => {}
            }
        }
        orders
    }

    fn climb(&self, step: StepId, from: u32) -> Order {
        let said = self.begun.sequence.step(step);
        let now = self.step_now(step);
        let last = now.acts.last();
        let kind = match last.map(|a| a.kind) {
            Some(ActKind::Clear) => StepKind::Stop,
            _ => said.kind,
        };
        // The positions that count are those of the act itself; a force belongs to its stop.
        let act = now.acts.iter().rev().find(|a| !matches!(a.kind, ActKind::Force | ActKind::Evidence(_))).map(|a| a.act);
        Order::Climb { step, attempt: now.attempts, address: said.address.clone(), kind, from, act }
    }
}

/// One input being worked through.
struct Turn<'a> {
    run: &'a mut Run,
    now: Timestamp,
    rooms: &'a mut Rooms,
    taken: Taken,
}

impl Turn<'_> {
    /// Records an event: the state follows from it at once.
    fn happened(&mut self, event: Event) {
        self.run.apply(self.now, &event);
        self.taken.events.push(event);
    }

    fn order(&mut self, order: Order) {
        self.taken.orders.push(order);
    }

    fn address(&self, step: StepId) -> Address {
        self.run.begun.sequence.step(step).address.clone()
    }

    fn kind(&self, step: StepId) -> StepKind {
        self.run.begun.sequence.step(step).kind
    }

    fn input(&mut self, input: Input) -> Result<(), Refusal> {
        match input {
            Input::Queued { behind } => {
                if !self.run.locked && self.run.queued_behind != behind {
                    self.happened(Event::Queued { behind });
                }
            }
            Input::Locked => {
                if !self.run.locked {
                    self.happened(Event::Locked);
                    self.order(Order::FirstLook);
                }
            }
            Input::FirstLooked { seen, unconfirmed } => {
                if self.run.locked && !self.run.first_looked {
                    self.happened(Event::FirstLooked { seen });
                    if !unconfirmed.is_empty() {
                        self.hold(HoldCause::Changed { acts: unconfirmed });
                    }
                }
            }
            Input::FreshLooked { step, seen } => self.fresh_looked(step, seen),
            Input::FinalLooked { seen } => self.final_looked(seen),
            Input::ActBegun { step, act, begun } => self.act_begun(step, act, begun),
            Input::ActEnded { step, act, end } => self.act_ended(step, act, end),
            Input::ActUnknown { step, act } => {
                if matches!(self.run.step_now(step).state, StepState::Acting { act: current, .. } if current == act) {
                    self.happened(Event::ActUnknown { step, act });
                    // Done if a ladder proves the wish, else the step holds (R21).
                    self.prove(step);
                }
            }
            Input::RungLooked { step, attempt, rung, answer, logs } => self.rung_looked(step, attempt, rung, answer, logs),
            Input::Seen { address, state, says } => self.seen(address, state, says),
            Input::Tick => {}
            Input::Decide(decision) => self.decide(decision)?,
            Input::Hold(cause) => {
                if !self.run.giving_up {
                    self.hold(cause);
                }
            }
            Input::Unhold { cause, by } => self.unhold(cause, by),
            Input::Away { for_ms } => {
                self.happened(Event::Away { for_ms });
                if Duration::from_millis(for_ms) > LONG_AWAY {
                    self.hold(HoldCause::Away);
                }
            }
        }
        Ok(())
    }

    // ---- holding ----

    fn hold(&mut self, cause: HoldCause) {
        if self.run.hold_causes().any(|c| *c == cause) || self.run.giving_up {
            return;
        }
        let hold = match self.run.hold_no() {
            Some(hold) => hold,
            None => self.run.next_hold_no(),
        };
        self.happened(Event::Held { hold, cause });
    }

    fn unhold(&mut self, cause: HoldCause, by: String) {
        if self.run.hold_causes().any(|c| *c == cause) {
            self.happened(Event::Unheld { cause, by });
        }
    }

    fn is_held(&self) -> bool {
        self.run.hold_no().is_some()
    }

    // ---- beginning steps ----

    /// Begins every step that may begin, the longest tail first.
    fn begin_ready(&mut self) {
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
            if !self.rooms.has_room(&address) || self.group_is_full(step) {
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

    fn pause_before(&self, step: StepId) -> Duration {
        let service = self.run.service(step);
        match self.kind(step) {
            StepKind::Start => service.start.pause_before.0,
            StepKind::Stop => service.stop.pause_before.0,
            StepKind::Reload => service.reload.as_ref().map_or(Duration::ZERO, |r| r.pause_before.0),
            StepKind::Await => Duration::ZERO,
        }
    }

    fn pause_after(&self, step: StepId) -> Duration {
        let service = self.run.service(step);
        match self.kind(step) {
            StepKind::Start => service.start.pause_after.0,
            StepKind::Stop => service.stop.pause_after.0,
            StepKind::Reload => service.reload.as_ref().map_or(Duration::ZERO, |r| r.pause_after.0),
            StepKind::Await => Duration::ZERO,
        }
    }

    fn patience(&self, step: StepId) -> Duration {
        let service = self.run.service(step);
        match self.kind(step) {
            StepKind::Start | StepKind::Await => service.start.patience.0,
            StepKind::Stop => service.stop.patience.0,
            StepKind::Reload => service.reload.as_ref().map_or(service.start.patience.0, |r| r.patience.0),
        }
    }

    /// Each service is looked at once more just before its act, with all that the act hangs on (R8).
    fn look_fresh(&mut self, step: StepId) {
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

    fn fresh_looked(&mut self, step: StepId, seen: BTreeMap<Address, SeenState>) {
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

    fn before_start(&mut self, step: StepId, address: &Address, state: SeenState, of: &dyn Fn(&Address) -> SeenState) {
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

    fn before_stop(&mut self, step: StepId, address: &Address, state: SeenState, of: &dyn Fn(&Address) -> SeenState) {
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
    fn members_in_work(&self, group: &KeepUp, except: StepId) -> Vec<Address> {
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
    fn group_is_full(&self, step: StepId) -> bool {
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

    fn look_again(&mut self, step: StepId) {
        self.run.step_mut(step).look_again_at = Some(self.now + LOOK_AGAIN);
    }

    // ---- acting ----

    fn intend(&mut self, step: StepId, kind: ActKind) {
        let act = self.run.next_act();
        let address = self.address(step);
        let now = self.run.step_now(step);
        let attempt = match kind {
            ActKind::Start | ActKind::Stop | ActKind::Reload => now.attempts + 1,
            ActKind::Clear | ActKind::Evidence(_) | ActKind::Force => now.attempts,
        };
        let patience = match kind {
            ActKind::Clear => self.run.service(step).stop.patience.0,
            ActKind::Force => AFTER_FORCE,
            _ => self.patience(step),
        };
        if !self.run.in_flight.contains(&step) {
            self.rooms.take(&address);
        }
        self.happened(Event::ActIntended { step, act, kind, attempt, patience_ends: self.now + patience });
        self.order(Order::Act { step, act, kind, address });
    }

    fn act_begun(&mut self, step: StepId, act: ActId, begun: ActBegun) {
        let StepState::Acting { act: current, kind, begun: false, .. } = self.run.step_now(step).state else { return };
        if current != act {
            return;
        }
        self.happened(Event::ActBegun { step, act, begun });
        // What Yantro starts itself goes on running: it is proven while it does.
        let runs_on = matches!(self.run.service(step).runner, ServiceRunner::Process(_));
        if kind == ActKind::Start && runs_on && !self.run.giving_up {
            self.prove(step);
        }
    }

    fn act_ended(&mut self, step: StepId, act: ActId, end: ActEnd) {
        let now = self.run.step_now(step);
        let Some(known) = now.acts.iter().find(|a| a.act == act) else { return };
        if known.end.is_some() {
            return;
        }
        let (kind, state) = (known.kind, now.state.clone());
        let is_current = now.acts.last().is_some_and(|a| a.act == act);
        self.happened(Event::ActEnded { step, act, end: end.clone() });
        if !is_current || self.run.giving_up {
            return;
        }
        match state {
            StepState::Acting { .. } => match self.judge(step, kind, &end) {
                Ok(()) => match kind {
                    ActKind::Evidence(n) => self.gather_or_force(step, n + 1),
                    _ => self.prove(step),
                },
                Err(why) => match kind {
                    // Evidence that cannot be had is no reason to leave a service hanging.
                    ActKind::Evidence(n) => self.gather_or_force(step, n + 1),
                    _ => self.attempt_failed(step, why),
                },
            },
            // Where a climbing process ended, the climb says so, once it has read what was logged last.
            StepState::Proving { .. }
            | StepState::Waiting
            | StepState::Pausing { .. }
            | StepState::Asking { .. }
            | StepState::Failed { .. }
            | StepState::OutcomeUnknown { .. }
            | StepState::Ended(_) => {}
        }
    }

    /// Whether an act came out as it should.
    fn judge(&self, step: StepId, kind: ActKind, end: &ActEnd) -> Result<(), String> {
        let service = self.run.service(step);
        let accepted: &[i32] = match kind {
            ActKind::Start => &service.start.accept_exits,
            ActKind::Stop | ActKind::Clear => &service.stop.accept_exits,
            ActKind::Reload => service.reload.as_ref().map_or(&[0], |r| r.accept_exits.as_slice()),
            ActKind::Evidence(_) | ActKind::Force => &[0],
        };
        match end {
            ActEnd::Sent => Ok(()),
            ActEnd::Exited { code, .. } if accepted.contains(code) => Ok(()),
            ActEnd::Refused { why, mend } => Err(format!("{why}; {mend}")),
            other => Err(format!("the {} command {}", kind.word(), told(other))),
        }
    }

    fn gather_or_force(&mut self, step: StepId, next: u32) {
        if (next as usize) < self.run.service(step).stop.evidence.len() {
            self.intend(step, ActKind::Evidence(next));
        } else {
            self.intend(step, ActKind::Force);
        }
    }

    // ---- proving ----

    fn prove(&mut self, step: StepId) {
        let address = self.address(step);
        if !self.run.in_flight.contains(&step) {
            self.rooms.take(&address);
        }
        // Patience runs from the act (R14).
        let patience_ends = match self.run.step_now(step).state {
            StepState::Acting { patience_ends, .. } => patience_ends,
            _ => self.now + self.patience(step),
        };
        self.happened(Event::StepProving { step, patience_ends });
        let climb = self.run.climb(step, 0);
        self.order(climb);
    }

    fn rungs_to_climb(&self, step: StepId, clearing: bool) -> usize {
        let kind = if clearing { StepKind::Stop } else { self.kind(step) };
        self.run.service(step).ladder_of(kind).len()
    }

    fn rung_looked(&mut self, step: StepId, attempt: u32, rung: u32, answer: Answer, logs: Vec<LogEvidence>) {
        let now = self.run.step_now(step);
        let StepState::Proving { climbed, steady_until, clearing, .. } = now.state else { return };
        if attempt != now.attempts {
            return;
        }
        if !logs.is_empty() && now.acts.last().is_some_and(|a| a.logs != logs) {
            self.happened(Event::LogKept { step, logs });
        }
        let rungs = self.rungs_to_climb(step, clearing) as u32;
        match answer.verdict {
            Verdict::Holds if rung == climbed && rung < rungs => {
                self.happened(Event::RungClimbed { step, rung, says: answer.says });
                if rung + 1 == rungs {
                    self.last_rung(step, clearing);
                }
            }
            Verdict::Holds => {}
            Verdict::Against => {
                let end = self.run.step_now(step).acts.last().filter(|a| a.kind == ActKind::Start).and_then(|a| a.end.as_ref());
                let reason = match (rung, end) {
                    (0, Some((_, end))) => format!("{}: {}", answer.says, told(end)),
                    _ => answer.says,
                };
                self.attempt_failed(step, reason);
            }
            Verdict::NotYet | Verdict::CouldNotLook => {
                if rung < climbed && (steady_until.is_some() || answer.verdict == Verdict::NotYet) {
                    self.happened(Event::RungLost { step, rung, says: answer.says.clone() });
                }
                self.run.step_mut(step).last_answer = Some((rung, answer));
            }
        }
    }

    fn last_rung(&mut self, step: StepId, clearing: bool) {
        let steady = self.run.service(step).steady.0;
        let kind = self.kind(step);
        if clearing || kind == StepKind::Stop || steady.is_zero() {
            self.proven(step, clearing);
        } else {
            self.happened(Event::SteadyBegan { step, until: self.now + steady });
        }
    }

    fn proven(&mut self, step: StepId, clearing: bool) {
        self.order(Order::StopLooking { step });
        if clearing {
            let service = self.run.service(step);
            let gap = service.start.gap.0;
            let until = self.now + gap;
            self.happened(Event::StepPausing { step, until, after_act: false });
            return;
        }
        let pause = self.pause_after(step);
        if pause > Duration::ZERO {
            self.happened(Event::StepPausing { step, until: self.now + pause, after_act: true });
        } else {
            self.end(step, StepEnd::Done);
        }
    }

    // ---- ending and failing ----

    fn end(&mut self, step: StepId, end: StepEnd) {
        let address = self.address(step);
        if self.run.in_flight.contains(&step) {
            self.rooms.give_back(&address);
        }
        self.happened(Event::StepEnded { step, end });
    }

    fn attempt_failed(&mut self, step: StepId, reason: String) {
        let now = self.run.step_now(step);
        let clearing = matches!(now.state, StepState::Proving { clearing: true, .. } | StepState::Acting { kind: ActKind::Clear, .. });
        let (tries, attempt) = (now.tries, now.attempts);
        if matches!(now.state, StepState::Proving { .. }) {
            self.order(Order::StopLooking { step });
        }
        let service = self.run.service(step);
        let (attempts, gap) = match self.kind(step) {
            StepKind::Start => (service.start.attempts, service.start.gap.0),
            StepKind::Stop => (service.stop.attempts, service.stop.gap.0),
            StepKind::Reload | StepKind::Await => (1, Duration::ZERO),
        };
        if clearing {
            self.fail(step, format!("the earlier attempt is still there: {reason}"), false);
        } else if tries > 0 && tries < attempts {
            // Where no act was given there is nothing to try again.
            self.happened(Event::AttemptFailed { step, attempt, reason, next_at: self.now + gap });
        } else {
            self.fail(step, reason, false);
        }
    }

    fn fail(&mut self, step: StepId, reason: String, outcome_unknown: bool) {
        let address = self.address(step);
        if self.run.in_flight.contains(&step) {
            self.rooms.give_back(&address);
        }
        self.happened(Event::StepFailed { step, reason: reason.clone(), outcome_unknown });
        match self.run.service(step).if_it_fails {
            IfItFails::CarryOn if !outcome_unknown => self.pass_over(step, "the rule carry-on", &reason),
            // Vetting refuses the other two until procedures bring them; holding is the safest.
            IfItFails::Hold | IfItFails::CarryOn | IfItFails::PutBack | IfItFails::Divert => self.hold(HoldCause::Step { step }),
        }
    }

    fn pass_over(&mut self, step: StepId, by: &str, why: &str) {
        for next in self.run.waiting_on(step) {
            let why = format!("step {step} was passed over: {why}");
            self.end(next, StepEnd::PassedOver { by: by.to_owned(), why });
            self.unhold(HoldCause::Step { step: next }, by.to_owned());
        }
        self.end(step, StepEnd::PassedOver { by: by.to_owned(), why: why.to_owned() });
        self.unhold(HoldCause::Step { step }, by.to_owned());
    }

    // ---- time ----

    fn deadlines(&mut self) {
        if self.run.giving_up {
            return; // What is in flight ends by itself: see `finish_if_through`.
        }
        let due: Vec<StepId> = self.run.in_flight.iter().copied().collect();
        for step in due {
            match self.run.step_now(step).state.clone() {
                StepState::Pausing { until, after_act } if until <= self.now => {
                    if after_act {
                        self.end(step, StepEnd::Done);
                    } else if !self.is_held() && !self.run.giving_up {
                        let now = self.run.step_now(step);
                        if !now.looking && now.look_again_at.is_none_or(|at| at <= self.now) {
                            self.look_fresh(step);
                        }
                    }
                }
                StepState::Acting { kind, .. } if self.run.act_deadline(step) <= Some(self.now) => {
                    self.attempt_failed(step, format!("the {} act has not ended within its patience", kind.word()));
                }
                StepState::Proving { steady_until: Some(until), .. } if until <= self.now => self.proven(step, false),
                StepState::Proving { steady_until: None, patience_ends, clearing, .. } if patience_ends <= self.now => {
                    self.patience_ended(step, clearing);
                }
                _ => {}
            }
        }
        let late: Vec<Address> = self.run.lost.iter().filter(|(_, ends)| **ends <= self.now).map(|(a, _)| a.clone()).collect();
        for address in late {
            self.lost_for_good(address);
        }
    }

    fn patience_ended(&mut self, step: StepId, clearing: bool) {
        let service = self.run.service(step).clone();
        let now = self.run.step_now(step);
        let waited = match self.kind(step) {
            StepKind::Stop => service.stop.patience,
            _ if clearing => service.stop.patience,
            _ => service.start.patience,
        };
        let could_not = matches!(&now.last_answer, Some((_, a)) if a.verdict == Verdict::CouldNotLook);
        let unknown = now.acts.last().is_some_and(|a| a.begun.is_none() && a.end.is_none());
        let last = now.last_answer.as_ref().map_or_else(|| "nothing was answered".to_owned(), |(_, a)| a.says.clone());
        let forced = now.acts.last().is_some_and(|a| a.kind == ActKind::Force);
        let (is_stop, force) = (self.kind(step) == StepKind::Stop, service.stop.force);
        let what = if is_stop || clearing { "down" } else { "proven" };
        let reason = format!("not {what} within {waited}: {last}");
        self.order(Order::StopLooking { step });
        if unknown {
            return self.fail(step, format!("what became of the act is unknown, and {reason}"), true);
        }
        if could_not {
            // Neither for nor against: nothing is tried again on it (R14).
            return self.fail(step, format!("could not be looked at: {last}"), false);
        }
        if is_stop && !forced && self.run.step_now(step).tries >= service.stop.attempts {
            match force {
                Force::Allow if !self.is_held() => return self.gather_or_force(step, 0),
                // While the run is held no force begins (R29): then it is asked for, too.
                Force::Ask | Force::Allow => {
                    self.happened(Event::ForceAsked { step, reason });
                    return self.hold(HoldCause::Step { step });
                }
                Force::Never => {}
            }
        }
        self.attempt_failed(step, reason);
    }

    // ---- answerable (R18) ----

    fn seen(&mut self, address: Address, state: SeenState, says: String) {
        if !self.run.begun.services.contains_key(&address) || !self.run.first_looked {
            return;
        }
        let before = self.run.seen.insert(address.clone(), state);
        if state == SeenState::Proven {
            if self.run.lost.contains_key(&address) {
                self.happened(Event::ServiceRegained { address: address.clone() });
            }
            self.unhold(HoldCause::Lost { address }, "it is proven again".to_owned());
            return;
        }
        let must_be_proven = self.must_be_proven(&address);
        let leaves = matches!(state, SeenState::Down | SeenState::Ailing | SeenState::Sinking | SeenState::OutOfReach);
        let known = self.run.lost.contains_key(&address)
            || self.run.hold_causes().any(|c| matches!(c, HoldCause::Lost { address: a } if *a == address));
        if must_be_proven && leaves && before == Some(SeenState::Proven) && !known {
            let patience = self.run.begun.services[&address].start.patience.0;
            self.happened(Event::ServiceLost { address, state, says, patience_ends: self.now + patience });
        }
    }

    /// Whether a service should be proven now, as far as this run is concerned: it brought it up,
    /// or found it proven and does not touch it.
    fn must_be_proven(&self, address: &Address) -> bool {
        let mut touched = false;
        for (step, now) in self.run.steps().filter(|(s, _)| s.address == *address) {
            touched = true;
            let good = matches!(now.state, StepState::Ended(StepEnd::Done | StepEnd::Unneeded));
            if good && step.kind != StepKind::Stop {
                return true;
            }
        }
        !touched && self.run.begun.as_found.get(address) == Some(&SeenState::Proven)
    }

    fn lost_for_good(&mut self, address: Address) {
        let state = self.run.seen.get(&address).copied().unwrap_or_default();
        let step = self
            .run
            .steps()
            .find(|(s, n)| s.address == address && s.kind != StepKind::Stop && matches!(n.state, StepState::Ended(_)))
            .map(|(s, _)| s.id);
        match step {
            Some(step) => {
                self.run.lost.remove(&address);
                self.fail(step, format!("it was proven, and is {state} since"), false);
            }
            None => self.hold(HoldCause::Lost { address }),
        }
    }

    // ---- decisions ----

    fn decide(&mut self, decision: Decision) -> Result<(), Refusal> {
        let run = self.run.id.0;
        let word = decision.kind.word();
        if decision.kind.needs_reason() && decision.why.as_deref().is_none_or(|w| w.trim().is_empty()) {
            return Err(Refusal::NoReason { decision: word });
        }
        if self.run.giving_up {
            let by = self.run.last_decision.clone().unwrap_or_default();
            return Err(Refusal::Stale { by });
        }
        if let Some(step) = decision.kind.step()
            && !self.run.has_step(step)
        {
            return Err(Refusal::NoStep { run, step });
        }
        let answers_hold = !matches!(decision.kind, DecisionKind::Hold | DecisionKind::GiveUp);
        if answers_hold && decision.hold != self.run.hold_no() {
            return Err(match (&self.run.last_decision, self.run.hold_no()) {
                (Some(by), _) => Refusal::Stale { by: by.clone() },
                (None, None) => Refusal::NotHeld { run },
                (None, Some(now)) => Refusal::Stale { by: format!("hold {now} is the one to answer") },
            });
        }
        if let Some(step) = decision.kind.step() {
            let state = &self.run.step_now(step).state;
            let fits = match decision.kind {
                DecisionKind::Force { .. } => matches!(state, StepState::Asking { .. }),
                _ => state.awaits_decision(),
            };
            if !fits {
                return Err(Refusal::NotAwaited { step, state: state.word(), decision: word });
            }
        }
        if decision.kind == DecisionKind::Resume
            && let Some(step) = self.run.awaiting().next()
        {
            return Err(Refusal::StepsFirst { step });
        }
        let (who, why) = (decision.who.clone(), decision.why.clone().unwrap_or_default());
        if let DecisionKind::TryAgain { step, .. } = &decision.kind
            && self.run.in_flight.contains(step)
        {
            // It begins anew, and takes its room anew.
            let address = self.address(*step);
            self.rooms.give_back(&address);
        }
        self.happened(Event::Decided { decision: decision.clone() });
        match decision.kind {
            DecisionKind::Hold => self.hold(HoldCause::Operator { who }),
            DecisionKind::Resume => {
                let causes: Vec<HoldCause> =
                    self.run.hold_causes().filter(|c| !matches!(c, HoldCause::Standstill | HoldCause::Step { .. })).cloned().collect();
                for cause in causes {
                    self.unhold(cause, who.clone());
                }
            }
            DecisionKind::TryAgain { step, .. } => self.unhold(HoldCause::Step { step }, who),
            DecisionKind::PassOver { step } => self.pass_over(step, &who, &why),
            DecisionKind::Vouch { step } => {
                self.end(step, StepEnd::Vouched { by: who.clone(), why });
                self.unhold(HoldCause::Step { step }, who);
            }
            DecisionKind::Force { step } => {
                self.unhold(HoldCause::Step { step }, who);
                self.gather_or_force(step, 0);
            }
            DecisionKind::GiveUp => {
                self.happened(Event::GivingUp { who, why });
                self.give_up();
            }
        }
        Ok(())
    }

    /// What acts is awaited; everything else ends here.
    fn give_up(&mut self) {
        let steps: Vec<StepId> = self.run.steps().filter(|(_, n)| !n.state.has_ended()).map(|(s, _)| s.id).collect();
        for step in steps {
            match self.run.step_now(step).state {
                StepState::Acting { .. } => {}
                StepState::Proving { .. } => {
                    self.order(Order::StopLooking { step });
                    self.end(
                        step,
                        StepEnd::PassedOver { by: "giving up".to_owned(), why: "the run was given up before it was proven".to_owned() },
                    );
                }
                StepState::Failed { .. } | StepState::OutcomeUnknown { .. } | StepState::Asking { .. } => {
                    self.end(step, StepEnd::PassedOver { by: "giving up".to_owned(), why: "the run was given up".to_owned() });
                }
                StepState::Waiting | StepState::Pausing { .. } | StepState::Ended(_) => self.end(step, StepEnd::NotBegun),
            }
        }
    }

    // ---- the end ----

    fn finish_if_through(&mut self) {
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
            for step in through {
                self.end(
                    step,
                    StepEnd::PassedOver { by: "giving up".to_owned(), why: "the run was given up before it was proven".to_owned() },
                );
            }
        }
        if self.run.giving_up && !self.run.first_looked {
            // It never had its locks, or never looked: nothing was touched.
            self.happened(Event::Ended { end: RunEnd::GivenUp, differences: Vec::new() });
            return self.order(Order::Release);
        }
        let free_to_end = self.run.giving_up || (!self.is_held() && self.run.lost.is_empty());
        if self.run.first_looked && self.run.steps_not_ended() == 0 && free_to_end && !self.run.final_looking && !self.run.has_ended() {
            self.run.final_looking = true;
            self.order(Order::FinalLook);
        }
    }

    fn final_looked(&mut self, seen: BTreeMap<Address, SeenState>) {
        if !std::mem::take(&mut self.run.final_looking) || self.run.steps_not_ended() > 0 {
            return;
        }
        if !self.run.giving_up {
            for (address, state) in &seen {
                self.seen(address.clone(), *state, format!("the last look found it {state}"));
            }
            if self.is_held() || !self.run.lost.is_empty() {
                return; // Not the final word yet: it has its patience to come back.
            }
        }
        let differences = seen
            .iter()
            .filter_map(|(address, now)| {
                let found = self.run.begun.as_found.get(address).copied().unwrap_or_default();
                (found != *now).then(|| Difference { address: address.clone(), found, now: *now })
            })
            .collect();
        let end = if self.run.giving_up {
            RunEnd::GivenUp
        } else if self.run.exceptions {
            RunEnd::FinishedWithExceptions
        } else {
            RunEnd::Finished
        };
        self.happened(Event::Ended { end, differences });
        self.order(Order::Release);
    }
}

/// How an act ended, in words.
fn told(end: &ActEnd) -> String {
    let last = |output: &str| {
        let line = output.lines().rev().find(|l| !l.trim().is_empty()).unwrap_or_default().trim();
        if line.is_empty() { String::new() } else { format!(", saying \"{line}\"") }
    };
    match end {
        ActEnd::Exited { code, output } => format!("ended with exit code {code}{}", last(output)),
        ActEnd::Signalled { signal, output } => format!("was ended by signal {signal}{}", last(output)),
        ActEnd::TimedOut { output } => format!("took longer than it may{}", last(output)),
        ActEnd::Sent => "was sent".to_owned(),
        ActEnd::Refused { why, .. } => why.clone(),
    }
}
