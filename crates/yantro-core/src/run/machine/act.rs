//! Acts and their proof: what is given, how it came out, which rungs are climbed.

use std::time::Duration;

use super::{Turn, begin::LOOK_AHEAD, guard::Against};
use crate::{
    model::{ServiceRunner, task::Task},
    plan::StepId,
    proof::{Answer, Verdict},
    run::{acts::*, ends::*, event::*, holds::*, order::*, state::StepState},
    words::{kinds::StepKind, time::Timestamp},
};

/// How long a force may take to show.
const AFTER_FORCE: Duration = Duration::from_secs(10);
/// How long one look may take.
const ONE_LOOK: Duration = Duration::from_secs(5);
/// How long it may take to tell people something.
const ANNOUNCE: Duration = Duration::from_secs(10);

impl Turn<'_> {
    /// Gives an act, where nothing that came meanwhile keeps it from that: every act is asked here, on the way forward, back
    /// and diverted alike.
    pub(super) fn intend(&mut self, step: StepId, kind: ActKind) {
        match self.run.against(step, kind) {
            None => {}
            Some(Against::Holds(cause)) => return self.hold(cause),
            Some(Against::Fails(why)) => return self.fail(step, why, false),
        }
        let act = self.run.next_act();
        let now = self.run.step_now(step);
        let attempt = match kind {
            ActKind::Start | ActKind::Stop | ActKind::Reload | ActKind::Further | ActKind::Work | ActKind::Announce => now.attempts + 1,
            ActKind::Clear | ActKind::Evidence(_) | ActKind::Force => now.attempts,
        };
        let patience = match kind {
            ActKind::Clear => self.run.service(step).stop.patience.0,
            ActKind::Force => AFTER_FORCE,
            ActKind::Announce => ANNOUNCE,
            _ => self.patience(step),
        };
        if !self.run.in_flight.contains(&step) {
            self.take_room(step);
        }
        self.happened(Event::ActIntended { step, act, kind, attempt, patience_ends: self.now + patience });
        self.order(Order::Act { step, act, kind });
    }

    pub(super) fn act_begun(&mut self, step: StepId, act: ActId, begun: ActBegun) {
        let StepState::Acting { act: current, kind, begun: false, .. } = self.run.step_now(step).state else { return };
        if current != act {
            return;
        }
        self.happened(Event::ActBegun { step, act, begun });
        // What Yantro starts itself goes on running: it is proven while it does.
        if kind == ActKind::Start && matches!(self.run.service(step).runner, ServiceRunner::Process(_)) && !self.run.giving_up {
            self.prove(step);
        }
    }

    pub(super) fn act_ended(&mut self, step: StepId, act: ActId, end: ActEnd) {
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
                    ActKind::Evidence(n) => self.evidence_gathered(step, n),
                    ActKind::Work => self.work_done(step, &end),
                    ActKind::Announce => self.proven(step, false),
                    _ => self.prove(step),
                },
                Err(why) => match kind {
                    // Evidence that cannot be had is no reason to leave a service hanging.
                    ActKind::Evidence(n) => self.evidence_gathered(step, n),
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
    pub(super) fn judge(&self, step: StepId, kind: ActKind, end: &ActEnd) -> Result<(), String> {
        let planned = self.run.begun.sequence.step(step);
        let accepted: &[i32] = match (kind, planned.task()) {
            // The manager's command is not the service: how that may end is the manager's to judge.
            (ActKind::Start | ActKind::Stop | ActKind::Clear | ActKind::Reload, None)
                if !matches!(self.run.service(step).runner, ServiceRunner::Commands(_)) =>
            {
                &[0]
            }
            (ActKind::Start, _) => &self.run.service(step).start.accept_exits,
            (ActKind::Stop | ActKind::Clear, _) => &self.run.service(step).stop.accept_exits,
            (ActKind::Reload, _) => self.run.service(step).reload.as_ref().map_or(&[0], |r| r.accept_exits.as_slice()),
            (ActKind::Work, Some(Task::Work(work))) => &work.accept_exits,
            (ActKind::Further, Some(Task::Act { act, .. })) => {
                self.run.service(step).acts.get(act).map_or(&[0], |a| a.accept_exits.as_slice())
            }
            _ => &[0],
        };
        match end {
            ActEnd::Sent => Ok(()),
            ActEnd::Exited { code, .. } if accepted.contains(code) => Ok(()),
            ActEnd::Refused { why, mend } => Err(format!("{why}; {mend}")),
            other => Err(format!("the {} command {}", kind.word(), told(other))),
        }
    }

    /// Evidence was gathered, and the force would come next. Held meanwhile it is asked for, unless it was this step's force
    /// that an operator ordered; at a standstill it is asked for in any case (R29, R36).
    fn evidence_gathered(&mut self, step: StepId, n: u32) {
        let standstill = self.run.hold_causes().any(|c| matches!(c, HoldCause::Standstill));
        if standstill || (self.is_held() && !self.run.forced.contains(&step)) || self.run.begun.sequence.step(step).part != self.run.part {
            let reason = "evidence is gathered, and the run was held before the force".to_owned();
            self.happened(Event::ForceAsked { step, reason });
            return self.hold(HoldCause::Step { step });
        }
        self.gather_or_force(step, n + 1);
    }

    pub(super) fn gather_or_force(&mut self, step: StepId, next: u32) {
        if (next as usize) < self.run.service(step).stop.evidence.len() {
            self.intend(step, ActKind::Evidence(next));
        } else {
            self.intend(step, ActKind::Force);
        }
    }

    pub(super) fn prove(&mut self, step: StepId) {
        if !self.run.in_flight.contains(&step) {
            self.take_room(step);
        }
        // Patience runs from the act (R14). An outcome that came in late leaves time for one look all the same: what was
        // never looked at is not judged.
        let patience_ends = match self.run.step_now(step).state {
            StepState::Acting { patience_ends, .. } if patience_ends <= self.now => self.now + ONE_LOOK,
            StepState::Acting { patience_ends, .. } => patience_ends,
            _ => self.now + self.patience(step),
        };
        self.happened(Event::StepProving { step, patience_ends });
        let clearing = matches!(self.run.step_now(step).state, StepState::Proving { clearing: true, .. });
        if self.rungs_to_climb(step, clearing) == 0 && self.run.begun.sequence.step(step).task().is_some() {
            return self.proven(step, false);
        }
        let climb = self.run.climb(step, 0);
        self.order(climb);
    }

    pub(super) fn rungs_to_climb(&self, step: StepId, clearing: bool) -> usize {
        let planned = self.run.begun.sequence.step(step);
        if let Some(task) = planned.task() {
            return match task {
                Task::Act { act, .. } => self.run.service(step).acts.get(act).map_or(0, |a| a.ladder.len()),
                Task::Until { rungs, .. } => rungs.len(),
                Task::Look { .. } => 1,
                _ => 0,
            };
        }
        let kind = if clearing { StepKind::Stop } else { self.run.climbs_as(step) };
        let all = self.run.service(step).ladder_of(kind).len();
        // Found ailing, it is put back to no rung worse than found.
        let found = planned.set(|s| s.rungs).filter(|_| !clearing).map(|n| (n as usize).max(1));
        found.map_or(all, |n| n.min(all))
    }

    pub(super) fn rung_looked(&mut self, step: StepId, attempt: u32, rung: u32, answer: Answer, logs: Vec<LogEvidence>) {
        let now = self.run.step_now(step);
        if matches!(now.state, StepState::Ended(StepEnd::Done))
            && answer.verdict == Verdict::Against
            && attempt == now.attempts
            && !self.run.giving_up
        {
            self.happened(Event::LogKept { step, logs });
            return self.fail(step, format!("after it was proven: {}", answer.says), false);
        }
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
            Verdict::Holds => {
                if steady_until.is_some() && self.is_blind(step) {
                    // It is seen again: that it is steady is seen from now on.
                    self.run.step_mut(step).last_answer = None;
                    self.steady_from_now(step);
                }
            }
            Verdict::Against => {
                let end = self.run.step_now(step).acts.last().filter(|a| a.kind == ActKind::Start).and_then(|a| a.end.as_ref());
                let is_process = matches!(self.run.service(step).runner, ServiceRunner::Process(_));
                let reason = match (rung, end) {
                    // Of a service that Yantro starts itself it is the service's own end.
                    (0, Some((_, end))) if is_process => format!("{}: {}", answer.says, told(end)),
                    // Of another it is its command's, which may well have done all it was to do.
                    (0, Some((_, ActEnd::Exited { code: 0, .. }))) => answer.says,
                    (0, Some((_, end))) => format!("{}; the start command {}", answer.says, told(end)),
                    _ => answer.says,
                };
                self.attempt_failed(step, reason);
            }
            Verdict::NotYet | Verdict::CouldNotLook if self.run.is_one_look(step) => {
                self.order(Order::StopLooking { step });
                self.attempt_failed(step, answer.says);
            }
            Verdict::NotYet | Verdict::CouldNotLook => {
                // Nobody could look: that neither climbs nor condemns, and nothing is proven by it (R14).
                if rung < climbed && answer.verdict == Verdict::NotYet {
                    self.happened(Event::RungLost { step, rung, says: answer.says.clone() });
                }
                self.run.step_mut(step).last_answer = Some((rung, answer));
            }
        }
    }

    pub(super) fn last_rung(&mut self, step: StepId, clearing: bool) {
        if self.run.begun.sequence.step(step).task().is_some() {
            return self.proven(step, false);
        }
        let steady = self.run.service(step).steady.0;
        let kind = self.kind(step);
        if clearing || kind == StepKind::Stop || steady.is_zero() {
            self.proven(step, clearing);
        } else {
            self.steady_from_now(step);
        }
    }

    /// It has to stay as it is, from now on.
    fn steady_from_now(&mut self, step: StepId) {
        let steady = self.run.service(step).steady.0;
        let until = self.now + steady;
        self.happened(Event::SteadyBegan { step, until });
        if steady > LOOK_AHEAD {
            self.run.step_mut(step).look_ahead_at = Some(until - LOOK_AHEAD);
        } else {
            self.look_ahead(step);
        }
    }

    /// It was steady for long enough, as far as it was seen. Where nobody could look by the end, its patience is waited out (R14).
    pub(super) fn steady_ended(&mut self, step: StepId, patience_ends: Timestamp, clearing: bool) {
        if !self.is_blind(step) {
            self.proven(step, false);
        } else if patience_ends <= self.now {
            self.patience_ended(step, clearing);
        } else {
            self.steady_from_now(step);
        }
    }

    /// Whether the last look at a step could not look.
    fn is_blind(&self, step: StepId) -> bool {
        matches!(self.run.step_now(step).last_answer, Some((_, Answer { verdict: Verdict::CouldNotLook, .. })))
    }

    pub(super) fn proven(&mut self, step: StepId, clearing: bool) {
        self.order(Order::StopLooking { step });
        if clearing {
            let service = self.run.service(step);
            let gap = service.start.gap.0;
            let until = self.now + gap;
            self.happened(Event::StepPausing { step, until, after_act: false });
            return;
        }
        if let Some(order) = self.run.watch_log(step) {
            self.order(order);
        }
        let pause = self.pause_after(step);
        if pause > Duration::ZERO {
            self.happened(Event::StepPausing { step, until: self.now + pause, after_act: true });
        } else {
            self.end(step, StepEnd::Done);
        }
    }
}

/// How an act ended, in words.
fn told(end: &ActEnd) -> String {
    let last = |output: &str| {
        // What is set in belongs to a line before it: a hint, a stack of calls.
        let lines = || output.lines().rev().filter(|l| !l.trim().is_empty());
        let line = lines().find(|l| !l.starts_with(char::is_whitespace)).or_else(|| lines().next()).unwrap_or_default().trim();
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
