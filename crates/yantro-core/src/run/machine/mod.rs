//! The machine's decisions: input and time in, events and orders out.

mod act;
mod begin;
mod decide;
mod guard;
mod task;
mod would;

use std::{collections::BTreeMap, time::Duration};

use super::{
    acts::*,
    begun::*,
    ends::*,
    event::*,
    holds::*,
    input::*,
    order::*,
    state::{Run, StepState},
};
use crate::{
    estate::{Force, IfItFails},
    name::{Address, ProcedureName},
    procedure::contradicted,
    proof::{Facts, SeenState, Verdict},
    sequence::{Part, Step, StepId, StepKind, Task},
    time::Timestamp,
};
use crate::{
    holders::Rooms,
    run::{Decision, Refusal},
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
        if let Some(room) = self.run.room_of(step).filter(|_| self.run.in_flight.contains(&step)) {
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
                    self.happened(Event::ActUnknown { step, act });
                    if self.run.giving_up {
                        self.left_behind(step);
                    } else
                    // Done if a ladder proves the wish, else the step holds (R21).
                    if self.ladder_can_tell(step, act) {
                        self.prove(step);
                    } else {
                        self.fail(step, "what became of the act is unknown, and no look can tell".to_owned(), true);
                    }
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
        if matches!(now.state, StepState::Proving { .. }) {
            self.order(Order::StopLooking { step });
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

    // ---- leaving the way forward ----

    /// A rule leaves the way forward, and is nobody's decision: what somebody holds the run for goes on holding it, so that
    /// no act begins behind their back (R29).
    fn still_held(&mut self, leave: impl FnOnce(&mut Self)) {
        let by_others = |c: &&HoldCause| matches!(c, HoldCause::Operator { .. } | HoldCause::Away | HoldCause::Restricted { .. });
        let causes: Vec<HoldCause> = self.run.hold_causes().filter(by_others).cloned().collect();
        leave(self);
        for cause in causes {
            self.hold(cause);
        }
    }

    /// What became of an act can be told by the ladder that its step climbs: whether a service is up or down shows. That
    /// work was done, or something re-read, does not.
    fn ladder_can_tell(&self, step: StepId, act: ActId) -> bool {
        let kind = self.run.step_now(step).acts.iter().find(|a| a.act == act).map(|a| a.kind);
        match kind {
            Some(ActKind::Start | ActKind::Stop | ActKind::Clear | ActKind::Force | ActKind::Evidence(_)) => true,
            Some(ActKind::Further) => self.rungs_to_climb(step, false) > 0,
            Some(ActKind::Work | ActKind::Reload | ActKind::Announce) | None => false,
        }
    }

    /// Of lines that are vouched for, what the first look contradicts and nobody has named (N54).
    fn against_vouch(&self, seen: &BTreeMap<Address, SeenState>) -> Vec<String> {
        let Some(from) = self.run.begun.from_line else { return Vec::new() };
        let earlier: Vec<Step> = self.run.steps().filter(|(s, _)| s.line.is_some_and(|l| l < from)).map(|(s, _)| s.clone()).collect();
        let found: Facts = seen.clone().into_iter().collect();
        let against = contradicted(&earlier, &found).into_iter().filter(|(a, _)| !self.run.begun.vouched_for.contains(a));
        against.map(|(_, says)| format!("beginning at line {from} vouches that {says}")).collect()
    }

    /// Worked out anew before anything was touched, and confirmed so (R8).
    fn replanned(&mut self, begun: Box<Begun>, decision: Decision) -> Result<(), Refusal> {
        let changed = self.run.hold_causes().any(|c| matches!(c, HoldCause::Changed { .. }));
        if !changed || decision.hold != self.run.hold_no() {
            return Err(match &self.run.last_decision {
                Some(by) => Refusal::Stale { by: by.clone() },
                None => Refusal::NotHeld { run: self.run.id.0 },
            });
        }
        let who = decision.who.clone();
        self.happened(Event::Decided { decision });
        self.happened(Event::Replanned(begun));
        let others: Vec<HoldCause> =
            self.run.hold_causes().filter(|c| !matches!(c, HoldCause::Standstill | HoldCause::Step { .. })).cloned().collect();
        for cause in others {
            self.unhold(cause, who.clone());
        }
        self.order(Order::FirstLook);
        Ok(())
    }

    /// The newest edition restricts, or no longer does (R25). Each act asks for it: see `intend`.
    fn restricted(&mut self, restrictions: BTreeMap<Address, Restriction>) {
        if self.run.restrictions == restrictions {
            return;
        }
        let lifted: Vec<HoldCause> = self
            .run
            .hold_causes()
            .filter(|c| match c {
                HoldCause::Restricted { address, why } => {
                    let was = self.run.restrictions.get(address);
                    was.is_some_and(|r| r.says() == *why) && restrictions.get(address).is_none_or(|r| r.says() != *why)
                }
                _ => false,
            })
            .cloned()
            .collect();
        self.happened(Event::Restricted { restrictions });
        for cause in lifted {
            self.unhold(cause, "the newest edition restricts it no longer".to_owned());
        }
        // Said at once where something is left to do with it, and not only when it comes to that.
        let touched: Vec<(Address, String)> = self
            .run
            .restrictions
            .iter()
            .filter(|(address, restriction)| {
                let left = |s: &Step| match restriction {
                    Restriction::Acts { .. } => s.kind() != StepKind::Await,
                    Restriction::Force => s.kind() == StepKind::Stop,
                };
                self.run.steps_on(address).any(|(s, n)| left(s) && !n.state.has_ended())
            })
            .map(|(address, restriction)| (address.clone(), restriction.says()))
            .collect();
        for (address, why) in touched {
            if !self.run.giving_up {
                self.hold(HoldCause::Restricted { address, why });
            }
        }
    }

    /// Ends the way forward: what is in flight finishes, and then everything is put back (R31).
    fn put_back(&mut self, by: &str, why: &str) {
        self.happened(Event::PutBackBegan { by: by.to_owned(), why: why.to_owned() });
        self.leave_the_way(by, why);
    }

    /// Ends the way forward: what is in flight finishes, and then the named procedure takes over (R32).
    fn divert(&mut self, procedure: ProcedureName, failed: String, reason: String, by: &str) {
        let why = format!("{failed}: {reason}");
        self.happened(Event::DivertBegan { procedure, failed, reason, by: by.to_owned() });
        self.leave_the_way(by, &why);
    }

    fn leave_the_way(&mut self, by: &str, why: &str) {
        let left: Vec<StepId> = self.run.steps().filter(|(_, n)| !n.state.has_ended()).map(|(s, _)| s.id).collect();
        for step in left {
            let now = self.run.step_now(step);
            let (is_wait, act) = (self.is_wait(step), now.acts.last().filter(|a| a.end.is_none()).map(|a| a.act));
            match now.state {
                // To wait any longer is of no use: nothing has to be awaited before the way is left.
                StepState::Proving { .. } | StepState::Pausing { after_act: true, .. } if is_wait => {
                    self.order(Order::StopLooking { step });
                    self.end(step, StepEnd::PassedOver { by: by.to_owned(), why: why.to_owned() });
                }
                StepState::Acting { .. } if self.run.may_be_recalled(step) => {
                    if let Some(act) = act {
                        self.order(Order::Recall { step, act });
                    }
                }
                StepState::Acting { .. } | StepState::Proving { .. } | StepState::Pausing { after_act: true, .. } => {}
                StepState::Waiting | StepState::Pausing { .. } | StepState::Asking { answer: Some(_), .. } if now.attempts == 0 => {
                    self.end(step, StepEnd::NotBegun);
                }
                _ => self.end(step, StepEnd::PassedOver { by: by.to_owned(), why: why.to_owned() }),
            }
        }
    }

    /// Whether a step only waits for something: ending it leaves nothing half done.
    fn is_wait(&self, step: StepId) -> bool {
        let task = self.run.begun.sequence.step(step).task();
        matches!(task, Some(Task::Until { .. } | Task::Look { .. } | Task::Pause { .. } | Task::UntilTime { .. }))
    }

    fn divert_planned(&mut self, planned: Result<Divert, String>) {
        if !std::mem::take(&mut self.run.divert_asked) || self.run.part != Part::Divert || self.run.part_planned {
            return;
        }
        match planned {
            Err(why) => self.hold(HoldCause::CannotDivert { why }),
            Ok(divert) => {
                if let Some(gone) = divert.steps.iter().filter_map(Step::address).find(|a| self.run.is_released(a)) {
                    // It is others' to act on since, and whatever takes over would do so unlocked.
                    let why = format!("it acts on {gone}, which this run let go of");
                    return self.hold(HoldCause::CannotDivert { why });
                }
                let Divert { title, steps, services, beside, values, found, preflight: _ } = divert;
                self.happened(Event::DivertPlanned { title, steps, services, beside, values, found });
            }
        }
    }

    /// Lines before the one that the run begins at are vouched for by whoever began it (N54).
    fn vouch_for_earlier_lines(&mut self) {
        let Some(from) = self.run.begun.from_line else { return };
        let earlier: Vec<StepId> = self.run.steps().filter(|(s, _)| s.line.is_some_and(|l| l < from)).map(|(s, _)| s.id).collect();
        let (by, why) = (self.run.begun.who.clone(), self.run.begun.why.clone().unwrap_or_default());
        for step in earlier {
            self.end(step, StepEnd::Vouched { by: by.clone(), why: format!("begun at line {from}: {why}") });
        }
    }

    fn pass_over(&mut self, step: StepId, by: &str, why: &str) {
        for next in self.run.waiting_on(step) {
            // What is under way ends by itself, and is proven or not: it is not left alone while it comes up (R28).
            if matches!(
                self.run.step_now(next).state,
                StepState::Acting { .. } | StepState::Proving { .. } | StepState::Pausing { after_act: true, .. }
            ) {
                continue;
            }
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
            if self.run.step_now(step).look_ahead_at.is_some_and(|at| at <= self.now) {
                self.look_ahead(step);
            }
            // Of thousands in flight few are due: what cannot be is not copied.
            let may_be = match &self.run.step_now(step).state {
                StepState::Pausing { until, .. } => *until <= self.now,
                StepState::Acting { patience_ends, .. } => *patience_ends <= self.now,
                StepState::Proving { patience_ends, steady_until, .. } => steady_until.unwrap_or(*patience_ends) <= self.now,
                StepState::Asking { until, .. } => until.is_some_and(|u| u <= self.now),
                StepState::Waiting | StepState::Failed { .. } | StepState::OutcomeUnknown { .. } | StepState::Ended(_) => false,
            };
            if !may_be {
                continue;
            }
            match self.run.step_now(step).state.clone() {
                StepState::Pausing { until, after_act } if until <= self.now => {
                    if after_act && self.now.since(until) > TIME_OF_DAY_IS_PAST && self.is_time_of_day(step) {
                        // It came while nobody was there (R34).
                        self.asks_whether_it_is_too_late(step, until);
                    } else if after_act {
                        self.end(step, StepEnd::Done);
                    } else if !self.is_held() && !self.run.giving_up {
                        let now = self.run.step_now(step);
                        if !now.looking && now.look_again_at.is_none_or(|at| at <= self.now) {
                            self.look_fresh(step);
                        }
                    }
                }
                StepState::Asking { answer: Some(_), until: Some(until), .. } if until <= self.now => self.unanswered(step),
                StepState::Acting { kind, .. } if self.run.act_deadline(step) <= Some(self.now) => {
                    self.attempt_failed(step, format!("the {} act has not ended within its patience", kind.word()));
                }
                StepState::Proving { steady_until: Some(until), patience_ends, clearing, .. } if until <= self.now => {
                    self.steady_ended(step, patience_ends, clearing);
                }
                StepState::Proving { steady_until: None, patience_ends, clearing, .. } if patience_ends <= self.now => {
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
        let on_its_way = self.run.part == Part::Forward && self.run.acts_given() > 0 && self.run.steps_not_ended() > 0;
        if self.run.past_last_moment || !on_its_way || self.run.last_moment().is_none_or(|at| at > self.now) {
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

    pub(super) fn patience_ended(&mut self, step: StepId, clearing: bool) {
        if self.run.begun.sequence.step(step).task().is_some() {
            return self.task_patience_ended(step);
        }
        let service = self.run.service(step).clone();
        let now = self.run.step_now(step);
        let waited = if clearing { service.stop.patience } else { crate::time::Span(self.run.patience_of(step)) };
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
        if !self.run.begun.services.contains_key(&address) || self.run.is_released(&address) || !self.run.first_looked {
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
        let mine = || self.run.steps_on(address).filter(|(s, _)| s.service().is_some());
        // The last step that had to do with it tells: one after another may take it up and down.
        let last = mine().rfind(|(_, n)| n.began_at.is_some() || matches!(n.state, StepState::Ended(StepEnd::Unneeded)));
        match last {
            Some((step, now)) => step.kind() != StepKind::Stop && matches!(now.state, StepState::Ended(StepEnd::Done | StepEnd::Unneeded)),
            None => mine().next().is_none() && self.run.begun.as_found.get(address) == Some(&SeenState::Proven),
        }
    }

    fn lost_for_good(&mut self, address: Address) {
        let state = self.run.seen.get(&address).copied().unwrap_or_default();
        if state == SeenState::Proven {
            return self.happened(Event::ServiceRegained { address });
        }
        let step = self
            .run
            .steps_on(&address)
            .filter(|(s, n)| s.service().is_some_and(|on| on.kind != StepKind::Stop) && n.state.has_ended())
            .filter(|(_, n)| n.began_at.is_some() || matches!(n.state, StepState::Ended(StepEnd::Unneeded)))
            .map(|(s, _)| s.id)
            .next_back();
        match step {
            Some(step) => {
                self.fail(step, format!("it was proven, and is {state} since"), false);
            }
            None => self.hold(HoldCause::Lost { address }),
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

    fn final_looked(&mut self, seen: BTreeMap<Address, SeenState>) {
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
            let good = |n: &super::state::StepNow| matches!(n.state, StepState::Ended(StepEnd::Done | StepEnd::Unneeded));
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
    fn otherwise(&self, seen: &BTreeMap<Address, SeenState>) -> Vec<Otherwise> {
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
