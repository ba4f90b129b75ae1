//! The machine's decisions: input and time in, events and orders out.

mod act;
mod begin;
mod decide;
mod ending;
mod guard;
mod leaving;
mod task;
mod would;

use std::time::Duration;

use super::{
    acts::*,
    begun::*,
    ends::*,
    event::*,
    holds::*,
    input::*,
    order::*,
    state::{QUEUE_PATIENCE, Run, StepState},
};
use crate::{
    holders::Rooms,
    model::{IfItFails, task::Task},
    plan::{Part, StepId},
    proof::Verdict,
    run::{Decision, DecisionKind, Refusal},
    words::{Force, kinds::StepKind, name::Address, time::Timestamp},
};

/// A time of day that is over for longer is asked about; it came while the server was away.
const TIME_OF_DAY_IS_PAST: Duration = Duration::from_secs(60);

impl Run {
    /// Takes an input. What it answers must be stored (events) before it is carried out (orders).
    ///
    /// An input that comes late or twice does nothing; a decision that does not fit is refused and
    /// changes nothing.
    pub fn take(&mut self, input: Input, now: Timestamp, rooms: &mut Rooms) -> Result<Taken, Refusal> {
        if self.has_ended() && !matches!(input, Input::Note { .. }) {
            return match input {
                Input::Decide(_) => Err(Refusal::Ended { run: self.id.0, word: self.state().word() }),
                _ => Ok(Taken::default()),
            };
        }
        let is_tick = matches!(input, Input::Tick);
        // These tell of one step: whatever else may begin may only do so where that step let go of something.
        let is_of_one =
            matches!(input, Input::ActBegun { .. } | Input::ActEnded { .. } | Input::RungLooked { .. } | Input::FreshLooked { .. });
        let (became_ready, was_held) = (self.became_ready, self.hold_no().is_some());
        let mut turn = Turn { run: self, now, rooms, taken: Taken::default(), gave_room: false };
        turn.input(input)?;
        if turn.run.has_ended() {
            return Ok(turn.taken);
        }
        if is_tick {
            turn.deadlines();
        }
        if !is_of_one || was_held || turn.gave_room || turn.run.became_ready != became_ready {
            turn.begin_ready();
        }
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
                    orders.push(Order::FindAct { step: step.id, act: *act, kind: *kind });
                    if (step.part != self.part || self.giving_up) && self.may_be_recalled(step.id) {
                        orders.push(Order::Recall { step: step.id, act: *act });
                    }
                }
                StepState::Proving { climbed, .. } => orders.push(self.climb(step.id, *climbed)),
                StepState::Ended(StepEnd::Done) if step.address().is_none_or(|a| !self.is_released(a)) => {
                    orders.extend(self.watch_log(step.id));
                }
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

    /// What was started or reloaded is watched for forbidden lines until the run ends (R17).
    fn watch_log(&self, step: StepId) -> Option<Order> {
        let said = self.begun.sequence.step(step).service().filter(|on| matches!(on.kind, StepKind::Start | StepKind::Reload))?;
        let wanted = !self.service(step).patterns(said.kind).must_not_see.is_empty();
        let now = self.step_now(step);
        // One that was taken down again since has nothing to say.
        let last = self.steps_on(&said.address).filter(|(_, n)| n.began_at.is_some()).map(|(s, _)| s.id).max();
        let act = now.acts.iter().rev().find(|a| matches!(a.kind, ActKind::Start | ActKind::Reload))?.act;
        (wanted && last == Some(step)).then(|| Order::WatchLog {
            step,
            attempt: now.attempts,
            address: said.address.clone(),
            kind: said.kind,
            act,
        })
    }

    /// Whether an act under way may be ended in the middle: work that changes nothing.
    fn may_be_recalled(&self, step: StepId) -> bool {
        matches!(self.begun.sequence.step(step).task(), Some(Task::Work(work)) if work.changes_nothing)
    }

    /// Whose ladder a service's step climbs. A start that was not given is proven by the rungs alone: its log has no
    /// place from which on its lines would count.
    fn climbs_as(&self, step: StepId) -> StepKind {
        let said = self.begun.sequence.step(step);
        let Some(on) = said.service().filter(|on| on.kind == StepKind::Start) else { return said.kind() };
        let stopped = || self.steps_on(&on.address).any(|(s, n)| s.kind() == StepKind::Stop && !n.acts.is_empty());
        let counts_from = !self.step_now(step).acts.is_empty() || (on.comes_back && stopped());
        if counts_from { StepKind::Start } else { StepKind::Await }
    }

    fn climb(&self, step: StepId, from: u32) -> Order {
        let said = self.begun.sequence.step(step);
        let now = self.step_now(step);
        let last = now.acts.last();
        let kind = match last.map(|a| a.kind) {
            Some(ActKind::Clear) => StepKind::Stop,
            _ if said.task().is_some() => StepKind::Await,
            _ => self.climbs_as(step),
        };
        // The positions that count are those of the act itself; a force belongs to its stop.
        let act = now.acts.iter().rev().find(|a| !matches!(a.kind, ActKind::Force | ActKind::Evidence(_))).map(|a| a.act);
        Order::Climb { step, attempt: now.attempts, kind, from, act }
    }
}

/// One input being worked through.
struct Turn<'a> {
    run: &'a mut Run,
    now: Timestamp,
    rooms: &'a mut Rooms,
    taken: Taken,
    /// Whether room was given back by it.
    gave_room: bool,
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

    /// The service of a step that is one's.
    fn address(&self, step: StepId) -> Address {
        self.run.service(step).address.clone()
    }

    fn kind(&self, step: StepId) -> StepKind {
        self.run.begun.sequence.step(step).kind()
    }

    fn take_room(&mut self, step: StepId) {
        if let Some(room) = self.run.room_of(step) {
            self.rooms.take(&room);
        }
    }

    fn give_room_back(&mut self, step: StepId) {
        // It has room from its look on.
        let has_room = self.run.in_flight.contains(&step) || self.run.step_now(step).looking;
        if let Some(room) = self.run.room_of(step).filter(|_| has_room) {
            self.rooms.give_back(&room);
            self.gave_room = true;
        }
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
            Input::FirstLooked { seen, rungs, processes, unconfirmed } => {
                if self.run.locked && !self.run.first_looked {
                    let mut unconfirmed = unconfirmed;
                    unconfirmed.extend(self.against_vouch(&seen));
                    self.happened(Event::FirstLooked { seen, rungs, processes });
                    if unconfirmed.is_empty() {
                        self.vouch_for_earlier_lines();
                    } else {
                        self.hold(HoldCause::Changed { acts: unconfirmed });
                    }
                }
            }
            Input::Preflighted { answers } => self.preflighted(answers),
            Input::Replanned { begun, decision } => self.replanned(begun, decision)?,
            Input::Restricted(restrictions) => self.restricted(restrictions),
            Input::ActNeverBegun { step, act } => {
                if matches!(self.run.step_now(step).state, StepState::Acting { act: current, .. } if current == act) {
                    self.give_room_back(step);
                    self.happened(Event::ActWithdrawn { step, act });
                    if self.run.giving_up || self.run.begun.sequence.step(step).part != self.run.part {
                        self.end(step, StepEnd::NotBegun);
                    }
                }
            }
            Input::DivertPlanned(planned) => self.divert_planned(planned),
            Input::Frozen(freezes) => {
                if self.run.frozen != freezes {
                    let over: Vec<String> =
                        self.run.frozen.iter().filter(|(n, _)| !freezes.contains_key(*n)).map(|(_, f)| f.says.clone()).collect();
                    self.happened(Event::Frozen { freezes });
                    let lifted: Vec<HoldCause> = self
                        .run
                        .hold_causes()
                        .filter(|c| matches!(c, HoldCause::Restricted { why, .. } if over.contains(why)))
                        .cloned()
                        .collect();
                    for cause in lifted {
                        self.unhold(cause, "the change freeze is over".to_owned());
                    }
                }
            }
            Input::Note { who, text } => self.happened(Event::Noted { who, text }),
            Input::TakeOn { who } => {
                if self.run.taken_by().1 != who {
                    self.happened(Event::Taken { who });
                }
            }
            Input::FreshLooked { step, seen } => self.fresh_looked(step, seen),
            Input::FinalLooked { seen } => self.final_looked(seen),
            Input::ActBegun { step, act, begun } => self.act_begun(step, act, begun),
            Input::ActEnded { step, act, end } => self.act_ended(step, act, end),
            Input::ActUnknown { step, act } => {
                if matches!(self.run.step_now(step).state, StepState::Acting { act: current, .. } if current == act) {
                    self.unheard_of(step, act);
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
            Input::ClockStepped { by_ms } => self.happened(Event::ClockStepped { by_ms }),
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

    // ---- ending and failing ----

    fn end(&mut self, step: StepId, end: StepEnd) {
        self.give_room_back(step);
        self.happened(Event::StepEnded { step, end });
    }

    fn attempt_failed(&mut self, step: StepId, reason: String) {
        let now = self.run.step_now(step);
        let clearing = matches!(now.state, StepState::Proving { clearing: true, .. } | StepState::Acting { kind: ActKind::Clear, .. });
        let (tries, attempt) = (now.tries, now.attempts);
        // One act fails its attempt once: what climbs anew by the same act and fails again is no further attempt.
        let now_failed_once = now.acts.last().is_none_or(|a| a.failed.is_none());
        let outcome_unknown = now.outcome_unknown;
        if matches!(now.state, StepState::Proving { .. }) {
            self.order(Order::StopLooking { step });
        }
        if outcome_unknown {
            // A ladder would have shown it. It may go on all the same, and is not given a second time by itself (R21).
            return self.fail(step, format!("what became of the act is unknown, and {reason}"), true);
        }
        let planned = self.run.begun.sequence.step(step);
        let (attempts, gap) = match self.kind(step) {
            StepKind::Start => (self.run.service(step).start.attempts, self.run.service(step).start.gap.0),
            StepKind::Stop => (self.run.service(step).stop.attempts, self.run.service(step).stop.gap.0),
            StepKind::Work | StepKind::Act | StepKind::Announce => (1, Duration::from_secs(5)),
            _ => (1, Duration::ZERO),
        };
        let attempts = planned.set(|s| s.attempts).unwrap_or(attempts);
        let gap = planned.set(|s| s.gap).map_or(gap, |g| g.0);
        if clearing {
            self.fail(step, format!("the earlier attempt is still there: {reason}"), false);
        } else if tries > 0 && tries < attempts && now_failed_once {
            // Where no act was given there is nothing to try again.
            self.happened(Event::AttemptFailed { step, attempt, reason, next_at: self.now + gap });
        } else {
            self.fail(step, reason, false);
        }
    }

    /// Nobody knows what became of an act under way: done if a ladder proves the wish, else the step holds (R21).
    fn unheard_of(&mut self, step: StepId, act: ActId) {
        self.happened(Event::ActUnknown { step, act });
        if self.run.giving_up {
            self.left_behind(step);
        } else if self.ladder_can_tell(step, act) {
            self.prove(step);
        } else {
            self.fail(step, "what became of the act is unknown, and no look can tell".to_owned(), true);
        }
    }

    /// The run is given up, and this step's act is over or will not be heard of any more: it is left as it is.
    fn left_behind(&mut self, step: StepId) {
        let why = "the run was given up before it was proven".to_owned();
        self.end(step, StepEnd::PassedOver { by: "giving up".to_owned(), why });
    }

    fn fail(&mut self, step: StepId, reason: String, outcome_unknown: bool) {
        let rule = self.run.rule_of(step);
        self.fail_by(step, reason, outcome_unknown, rule);
    }

    /// Fails a step, to which this rule then applies.
    fn fail_by(&mut self, step: StepId, reason: String, outcome_unknown: bool, rule: IfItFails) {
        if self.run.giving_up {
            return self.left_behind(step);
        }
        self.give_room_back(step);
        self.happened(Event::StepFailed { step, reason: reason.clone(), outcome_unknown });
        let planned = self.run.begun.sequence.step(step);
        if planned.part != self.run.part {
            // The way that it was on is left already: what it came to is looked at on the way back.
            let by = if self.run.part == Part::PutBack { "putting back" } else { "diverting" };
            return self.end(step, StepEnd::PassedOver { by: by.to_owned(), why: reason });
        }
        match rule {
            _ if outcome_unknown => self.hold(HoldCause::Step { step }),
            IfItFails::CarryOn => self.pass_over(step, "the rule carry-on", &reason),
            IfItFails::Hold => self.hold(HoldCause::Step { step }),
            IfItFails::PutBack => {
                let why = format!("step {step} ({}) failed: {reason}", planned.says());
                self.still_held(|turn| turn.put_back("the rule put-back", &why));
            }
            IfItFails::Divert(procedure) => {
                let failed = planned.row();
                self.still_held(|turn| turn.divert(procedure, failed, reason, "the rule divert"));
            }
        }
    }

    // ---- time ----

    fn deadlines(&mut self) {
        if self.run.giving_up {
            return; // What is in flight ends by itself: see `finish_if_through`.
        }
        if self.run.queue_ends().is_some_and(|at| at <= self.now) {
            return self.queued_long_enough();
        }
        let due: Vec<StepId> = self.run.in_flight.iter().copied().collect();
        for step in due {
            if self.run.step_now(step).look_ahead_at.is_some_and(|at| at <= self.now) {
                self.look_ahead(step);
            }
            // Of thousands in flight few are due: what is not is not copied.
            let due_at = match &self.run.step_now(step).state {
                StepState::Pausing { until, .. } => Some(*until),
                StepState::Acting { .. } => self.run.act_deadline(step),
                StepState::Proving { patience_ends, steady_until, .. } => Some(steady_until.unwrap_or(*patience_ends)),
                StepState::Asking { until, .. } => *until,
                StepState::Waiting | StepState::Failed { .. } | StepState::OutcomeUnknown { .. } | StepState::Ended(_) => None,
            };
            if due_at.is_none_or(|at| at > self.now) {
                continue;
            }
            match self.run.step_now(step).state.clone() {
                StepState::Pausing { until, after_act } => {
                    if after_act && self.now.since(until) > TIME_OF_DAY_IS_PAST && self.is_time_of_day(step) {
                        // It came while nobody was there (R34).
                        self.asks_whether_it_is_too_late(step, until);
                    } else if after_act {
                        self.end(step, StepEnd::Done);
                    } else if !self.is_held() {
                        let now = self.run.step_now(step);
                        if !now.looking && now.look_again_at.is_none_or(|at| at <= self.now) {
                            self.look_fresh(step);
                        }
                    }
                }
                StepState::Asking { answer: Some(_), .. } => self.unanswered(step),
                // To tell people twice does no harm.
                StepState::Acting { kind: ActKind::Announce, .. } => {
                    self.attempt_failed(step, "the announce act has not ended within its patience".to_owned());
                }
                // Its recorder would have ended it by now, and nobody told: it may have come to anything.
                StepState::Acting { act, .. } => self.unheard_of(step, act),
                StepState::Proving { steady_until: Some(_), patience_ends, clearing, .. } => {
                    self.steady_ended(step, patience_ends, clearing);
                }
                StepState::Proving { steady_until: None, clearing, .. } => {
                    self.patience_ended(step, clearing);
                }
                _ => {}
            }
        }
        self.last_moment();
        self.held_long_enough();
        let late: Vec<Address> = self.run.lost.iter().filter(|(_, ends)| **ends <= self.now).map(|(a, _)| a.clone()).collect();
        for address in late {
            self.lost_for_good(address);
        }
    }

    /// Where putting back would no longer fit the window, the run's rule for that is applied, once.
    fn last_moment(&mut self) {
        let Some(window) = self.run.begun.window.clone() else { return };
        if self.run.last_moment_ahead().is_none_or(|at| at > self.now) {
            return;
        }
        self.happened(Event::LastMoment);
        match window.at_last_moment {
            AtLastMoment::Hold => self.hold(HoldCause::Window { title: window.title }),
            AtLastMoment::PutBack => {
                let why = format!("it would not fit the window {} any longer", window.title);
                self.still_held(|turn| turn.put_back("the window's rule", &why));
            }
            AtLastMoment::GoOn => {}
        }
    }

    /// A hold has no end unless that was said, and then it becomes a put-back (R29). A standstill does not.
    fn held_long_enough(&mut self) {
        let Some((at_most, until)) = self.run.begun.held_at_most.zip(self.run.hold_ends()) else { return };
        if until <= self.now {
            let why = format!("it was held for {at_most}, and nobody decided");
            self.put_back("the hold's patience", &why);
        }
    }

    /// A run that does not get its locks is given up, and nothing of it was done (R7).
    fn queued_long_enough(&mut self) {
        let why = format!("its locks did not come free within {}", crate::words::time::Span(QUEUE_PATIENCE));
        let decision = Decision { kind: DecisionKind::GiveUp, hold: None, who: "yantro".to_owned(), why: Some(why) };
        // To give up is refused to nobody with a reason.
        let _ = self.decide(decision);
    }

    pub(super) fn patience_ended(&mut self, step: StepId, clearing: bool) {
        if self.run.begun.sequence.step(step).task().is_some() {
            return self.task_patience_ended(step);
        }
        let service = self.run.service(step).clone();
        let now = self.run.step_now(step);
        let waited = if clearing { service.stop.patience } else { crate::words::time::Span(self.run.patience_of(step)) };
        let could_not = matches!(&now.last_answer, Some((_, a)) if a.verdict == Verdict::CouldNotLook);
        let unknown = now.outcome_unknown;
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
}
