//! The fold: what each event makes of a run's state. Nothing is decided here.

use std::time::Duration;

use super::{ActNow, Run, RungSeen, StepState};
use crate::{
    model::task::Task,
    overrides,
    plan::{Part, Release, Step, StepId},
    proof::SeenState,
    run::{ActKind, Begun, Decision, DecisionKind, Event, HoldCause, StepEnd},
    words::{kinds::StepKind, time::Timestamp},
};

/// How long looks before the first act count, where the run stood meanwhile (R8).
const PREFLIGHT_COUNTS: Duration = Duration::from_secs(15 * 60);

impl Run {
    /// Takes in one event.
    pub fn apply(&mut self, at: Timestamp, event: &Event) {
        self.events += 1;
        match event {
            Event::Begun(_) => {}
            Event::Queued { behind } => self.queued_behind.clone_from(behind),
            Event::Locked => {
                self.locked = true;
                self.queued_behind.clear();
            }
            Event::FirstLooked { seen, rungs, processes } => {
                self.first_looked = true;
                self.begun.as_found.clone_from(seen);
                self.begun.found_rungs.clone_from(rungs);
                self.begun.found_processes.clone_from(processes);
                self.seen.extend(seen.clone());
            }
            Event::Preflighted { answers } => {
                self.preflighted_at = Some(at);
                self.preflight.clone_from(answers);
            }
            Event::StepPausing { step, until, after_act } => {
                self.step_begins(*step, at);
                self.step_mut(*step).state = StepState::Pausing { until: *until, after_act: *after_act };
            }
            Event::ActIntended { step, act, kind, attempt, patience_ends } => {
                self.step_begins(*step, at);
                self.acts = self.acts.max(act.0);
                let now = self.step_mut(*step);
                now.state = StepState::Acting { act: *act, kind: *kind, begun: false, patience_ends: *patience_ends };
                if *attempt > now.attempts {
                    now.attempts = *attempt;
                    now.tries += 1;
                }
                now.last_answer = None;
                now.stood_otherwise = None;
                now.outcome_unknown = false;
                now.acts.push(ActNow {
                    act: *act,
                    kind: *kind,
                    attempt: *attempt,
                    intended_at: at,
                    begun: None,
                    end: None,
                    rungs: Vec::new(),
                    logs: Vec::new(),
                    failed: None,
                });
            }
            Event::ActBegun { step, act, begun: how } => {
                let now = self.step_mut(*step);
                if let StepState::Acting { begun, act: current, .. } = &mut now.state
                    && current == act
                {
                    *begun = true;
                }
                if let Some(known) = now.acts.iter_mut().find(|a| a.act == *act) {
                    known.begun = Some(how.clone());
                }
            }
            Event::ActEnded { step, act, end } => {
                let now = self.step_mut(*step);
                // Heard of after all.
                now.outcome_unknown &= now.acts.last().is_none_or(|a| a.act != *act);
                if let Some(known) = now.acts.iter_mut().find(|a| a.act == *act) {
                    known.end = Some((at, end.clone()));
                }
            }
            Event::ActUnknown { step, .. } => self.step_mut(*step).outcome_unknown = true,
            Event::ClockStepped { .. } => {}
            Event::StoodOtherwise { step, address, state } => {
                self.step_mut(*step).stood_otherwise = Some((address.clone(), *state));
            }
            Event::ActWithdrawn { step, act } => {
                let tail = self.begun.sequence.step(*step).tail_ms;
                let now = self.step_mut(*step);
                now.acts.retain(|a| a.act != *act);
                now.attempts = now.acts.iter().map(|a| a.attempt).max().unwrap_or(0);
                now.tries = now.tries.saturating_sub(1);
                now.state = StepState::Waiting;
                self.in_flight.remove(step);
                self.becomes_ready(tail, *step);
            }
            Event::Restricted { restrictions } => self.restrictions.clone_from(restrictions),
            Event::Replanned(begun) => self.begins_anew(begun),
            Event::StepProving { step, patience_ends } => {
                self.step_begins(*step, at);
                let now = self.step_mut(*step);
                let clearing = now.acts.last().is_some_and(|a| a.kind == ActKind::Clear);
                now.state = StepState::Proving { climbed: 0, steady_until: None, patience_ends: *patience_ends, clearing };
                now.last_answer = None;
            }
            Event::RungClimbed { step, rung, says } => self.rung_seen(*step, at, *rung, says, true),
            Event::RungLost { step, rung, says } => self.rung_seen(*step, at, *rung, says, false),
            Event::SteadyBegan { step, until } => {
                if let StepState::Proving { steady_until, .. } = &mut self.step_mut(*step).state {
                    *steady_until = Some(*until);
                }
            }
            Event::LogKept { step, logs } => {
                if let Some(act) = self.step_mut(*step).acts.last_mut() {
                    act.logs.clone_from(logs);
                }
            }
            Event::AttemptFailed { step, reason, next_at, .. } => {
                let now = self.step_mut(*step);
                if let Some(act) = now.acts.last_mut() {
                    act.failed = Some((at, reason.clone()));
                }
                now.state = StepState::Pausing { until: *next_at, after_act: false };
                now.last_answer = None;
            }
            Event::ForceAsked { step, reason } => {
                self.step_mut(*step).state = StepState::Asking { reason: reason.clone(), answer: None, until: None };
            }
            Event::QuestionAsked { step, asks, answer, until } => {
                self.step_begins(*step, at);
                self.step_mut(*step).state = StepState::Asking { reason: asks.clone(), answer: Some(*answer), until: *until };
            }
            Event::ValueKept { name, value, .. } => {
                self.values.insert(name.clone(), value.clone());
            }
            Event::PutBackBegan { .. } => self.leaves_the_way(Part::PutBack),
            Event::DivertBegan { procedure, failed, reason, .. } => {
                self.leaves_the_way(Part::Divert);
                self.divert = Some((procedure.clone(), failed.clone(), reason.clone()));
            }
            Event::PutBackPlanned { steps } => self.goes_on_with(steps),
            Event::DivertPlanned { steps, services, beside, values, found, .. } => {
                for (address, state) in found {
                    self.begun.as_found.entry(address.clone()).or_insert(*state);
                    self.seen.insert(address.clone(), *state);
                }
                self.begun.beside.extend(beside.clone());
                for (address, service) in services {
                    self.begun.services.entry(address.clone()).or_insert_with(|| service.clone());
                }
                self.note_relations();
                self.values.extend(values.clone());
                self.goes_on_with(steps);
            }
            Event::LastMoment => self.past_last_moment = true,
            Event::Frozen { freezes } => self.frozen.clone_from(freezes),
            Event::Noted { who, text } => self.notes.push((at, who.clone(), text.clone())),
            Event::Taken { who } => self.taken_by = Some((at, who.clone())),
            Event::StepFailed { step, reason, outcome_unknown } => {
                self.step_begins(*step, at);
                // What was lost is judged by that: whoever reads it back judges it no second time.
                if let Some(address) = self.begun.sequence.step(*step).address().cloned() {
                    self.lost.remove(&address);
                }
                let reopened = self.step_now(*step).state.has_ended();
                let now = self.step_mut(*step);
                if let Some(act) = now.acts.last_mut()
                    && act.failed.is_none()
                {
                    act.failed = Some((at, reason.clone()));
                }
                now.ended_at = None;
                now.state = if *outcome_unknown {
                    StepState::OutcomeUnknown { reason: reason.clone() }
                } else {
                    StepState::Failed { reason: reason.clone() }
                };
                now.last_answer = None;
                self.left += u32::from(reopened);
                self.in_flight.remove(step);
            }
            Event::StepEnded { step, end } => self.step_ends(*step, at, end),
            Event::ServiceLost { address, state, patience_ends, .. } => {
                self.seen.insert(address.clone(), *state);
                self.lost.insert(address.clone(), *patience_ends);
            }
            Event::ServiceRegained { address } => {
                self.seen.insert(address.clone(), SeenState::Proven);
                self.lost.remove(address);
            }
            Event::Held { hold, cause } => {
                self.hold_no = *hold;
                if let HoldCause::Lost { address } = cause {
                    self.lost.remove(address);
                }
                self.causes.insert(cause.clone());
                self.held_since.get_or_insert(at);
            }
            Event::Unheld { cause, .. } => {
                self.causes.remove(cause);
                // A standstill is nobody's to decide on: what it held counts from its end.
                match (self.causes.is_empty(), cause) {
                    (true, _) => self.held_since = None,
                    (false, HoldCause::Standstill) => self.held_since = Some(at),
                    (false, _) => {}
                }
                self.forget_old_preflight(at);
                if matches!(cause, HoldCause::Preflight { .. }) {
                    self.preflighted_at = None;
                }
            }
            Event::Decided { decision } => self.decided(decision),
            Event::GivingUp { .. } => {
                self.giving_up = true;
                self.causes.clear();
            }
            Event::Away { for_ms } => {
                let by = Duration::from_millis(*for_ms);
                self.move_deadlines(by);
                self.held_since = self.held_since.map(|since| since + by);
            }
            Event::Ended { end, differences, otherwise } => {
                self.end = Some((at, *end, differences.clone()));
                self.otherwise.clone_from(otherwise);
                self.causes.clear();
                self.in_flight.clear();
                self.ready.clear();
                self.unasked.clear();
                self.lost.clear();
            }
        }
    }

    /// Nothing was touched yet: what it does is this, from the first look on. Who began it, when and why stays.
    fn begins_anew(&mut self, begun: &Begun) {
        let before = std::mem::replace(self, Self::begin(self.id, self.began_at, begun.clone()));
        self.locked = before.locked;
        self.events = before.events;
        self.whole_from = before.events;
        self.hold_no = before.hold_no;
        self.causes = before.causes.into_iter().filter(|c| !matches!(c, HoldCause::Changed { .. })).collect();
        self.held_since = before.held_since.filter(|_| !self.causes.is_empty());
        self.last_decision = before.last_decision;
        self.frozen = before.frozen;
        self.restrictions = before.restrictions;
        self.notes = before.notes;
        self.taken_by = before.taken_by;
    }

    /// The way forward ends: only what holds everything goes on holding.
    fn leaves_the_way(&mut self, part: Part) {
        self.part = part;
        self.part_planned = false;
        self.causes.retain(|c| matches!(c, HoldCause::Standstill | HoldCause::Storage { .. }));
        self.lost.clear();
        self.held_since = None;
    }

    fn goes_on_with(&mut self, steps: &[Step]) {
        self.part_planned = true;
        self.begun.sequence.steps.extend(steps.iter().cloned());
        self.add_steps(steps);
    }

    /// What is moved anew is no longer waited for to come back by itself: the step that moves it answers for it now (R18).
    fn is_moved(&mut self, step: StepId) {
        let moved = self.begun.sequence.step(step).service().filter(|on| matches!(on.kind, StepKind::Stop | StepKind::Start));
        if let Some(on) = moved {
            self.lost.remove(&on.address);
        }
    }

    fn step_begins(&mut self, step: StepId, at: Timestamp) {
        self.is_moved(step);
        let tail = self.begun.sequence.step(step).tail_ms;
        self.is_ready_no_more(tail, step);
        self.in_flight.insert(step);
        let now = self.step_mut(step);
        now.began_at.get_or_insert(at);
        now.look_since = None;
        now.look_again_at = None;
        now.looking = false;
    }

    fn step_ends(&mut self, step: StepId, at: Timestamp, end: &StepEnd) {
        let tail = self.begun.sequence.step(step).tail_ms;
        self.is_ready_no_more(tail, step);
        self.in_flight.remove(&step);
        let now = self.step_mut(step);
        if now.state.has_ended() {
            return;
        }
        now.state = StepState::Ended(end.clone());
        now.ended_at = Some(at);
        now.looking = false;
        now.last_answer = None;
        self.left -= 1;
        if *end == StepEnd::Unneeded {
            self.is_moved(step);
        }
        if matches!(end, StepEnd::Done | StepEnd::Unneeded)
            && let Some(on) = self.begun.sequence.step(step).service()
        {
            let state = if on.kind == StepKind::Stop { SeenState::Down } else { SeenState::Proven };
            self.seen.insert(on.address.clone(), state);
        }
        self.exceptions |= !matches!(end, StepEnd::Done | StepEnd::Unneeded);
        // Whoever was asked may have taken long to answer (R8).
        if self.begun.sequence.step(step).kind() == StepKind::Question {
            self.forget_old_preflight(at);
        }
        if let (StepEnd::Vouched { .. }, Some(address)) = (end, self.begun.sequence.step(step).address()) {
            self.vouched.insert(address.clone());
        }
        if std::mem::replace(&mut self.step_mut(step).released, end.is_good()) {
            return;
        }
        for (next, release) in self.waiters[step.0 as usize - 1].clone() {
            let released = match release {
                Release::WhenEnded => true,
                Release::WhenGood => end.is_good(),
            };
            if released {
                let tail = self.begun.sequence.step(next).tail_ms;
                let now = self.step_mut(next);
                now.open_waits = now.open_waits.saturating_sub(1);
                if now.open_waits == 0 && now.state == StepState::Waiting {
                    self.becomes_ready(tail, next);
                }
            }
        }
    }

    /// Looks before the first act count no longer than this where the run stood meanwhile: they are taken again (R8).
    fn forget_old_preflight(&mut self, at: Timestamp) {
        if self.preflighted_at.is_some_and(|taken| at.since(taken) > PREFLIGHT_COUNTS) {
            self.preflighted_at = None;
        }
    }

    fn rung_seen(&mut self, step: StepId, at: Timestamp, rung: u32, says: &str, was_climbed: bool) {
        let now = self.step_mut(step);
        if let StepState::Proving { climbed, steady_until, .. } = &mut now.state {
            *climbed = if was_climbed { rung + 1 } else { rung };
            if !was_climbed {
                *steady_until = None;
            }
        }
        let seen = RungSeen { rung, at, climbed: was_climbed, says: says.to_owned() };
        match now.acts.last_mut() {
            Some(act) => act.rungs.push(seen),
            None => now.rungs.push(seen),
        }
    }

    fn decided(&mut self, decision: &Decision) {
        self.last_decision = Some(format!("{} decided: {}", decision.who, decision.kind.word()));
        match &decision.kind {
            DecisionKind::TryAgain { step, change } => {
                let address = self.begun.sequence.step(*step).address().cloned();
                if let (Some(change), Some(address)) = (change, address) {
                    if let Some(service) = self.begun.services.get(&address) {
                        let changed = overrides::applied(service, Some(change));
                        self.begun.services.insert(address.clone(), changed);
                    }
                    self.begun.overrides.insert(address, change.clone());
                }
                let tail = self.begun.sequence.step(*step).tail_ms;
                self.forced.remove(step);
                let now = self.step_mut(*step);
                now.state = StepState::Waiting;
                now.tries = 0;
                now.looking = false;
                now.look_again_at = None;
                self.in_flight.remove(step);
                self.becomes_ready(tail, *step);
            }
            DecisionKind::Force { step } => {
                self.step_mut(*step).state = StepState::Waiting;
                self.forced.insert(*step);
            }
            DecisionKind::Release { address } => {
                self.released.insert(address.clone());
                self.lost.remove(address);
            }
            DecisionKind::Answer { .. }
            | DecisionKind::PutBack
            | DecisionKind::Divert { .. }
            | DecisionKind::Hold
            | DecisionKind::Resume
            | DecisionKind::PassOver { .. }
            | DecisionKind::Vouch { .. }
            | DecisionKind::GiveUp => {}
        }
    }

    fn move_deadlines(&mut self, by: Duration) {
        self.queue_ends = self.queue_ends + by;
        for (now, planned) in self.steps.iter_mut().zip(&self.begun.sequence.steps) {
            match &mut now.state {
                // A time of day comes when it comes, whoever was away (R34).
                StepState::Pausing { .. } if matches!(planned.task(), Some(Task::UntilTime { .. })) => {}
                StepState::Pausing { until, .. } => *until = *until + by,
                StepState::Acting { patience_ends, .. } => *patience_ends = *patience_ends + by,
                StepState::Proving { patience_ends, steady_until, .. } => {
                    *patience_ends = *patience_ends + by;
                    *steady_until = steady_until.map(|s| s + by);
                }
                StepState::Asking { until, .. } => *until = until.map(|u| u + by),
                StepState::Waiting | StepState::Failed { .. } | StepState::OutcomeUnknown { .. } | StepState::Ended(_) => {}
            }
        }
        for ends in self.lost.values_mut() {
            *ends = *ends + by;
        }
    }
}
