//! Leaving the way forward: put back, diverted, restricted, worked out anew, passed over.

use std::collections::BTreeMap;

use super::Turn;
use crate::{
    model::task::Task,
    plan::{Part, Step, StepId, procedure::contradicted},
    proof::{Facts, SeenState},
    run::{Decision, Refusal, acts::*, begun::*, ends::*, event::*, holds::*, input::*, order::*, state::StepState},
    words::{
        kinds::StepKind,
        name::{Address, ProcedureName},
    },
};

impl Turn<'_> {
    /// A rule leaves the way forward, and is nobody's decision: what somebody holds the run for goes on holding it, so that
    /// no act begins behind their back (R29).
    pub(super) fn still_held(&mut self, leave: impl FnOnce(&mut Self)) {
        let by_others = |c: &&HoldCause| matches!(c, HoldCause::Operator { .. } | HoldCause::Away | HoldCause::Restricted { .. });
        let causes: Vec<HoldCause> = self.run.hold_causes().filter(by_others).cloned().collect();
        leave(self);
        for cause in causes {
            self.hold(cause);
        }
    }

    /// What became of an act can be told by the ladder that its step climbs: whether a service is up or down shows. That
    /// work was done, or something re-read, does not.
    pub(super) fn ladder_can_tell(&self, step: StepId, act: ActId) -> bool {
        let kind = self.run.step_now(step).acts.iter().find(|a| a.act == act).map(|a| a.kind);
        match kind {
            Some(ActKind::Start | ActKind::Stop | ActKind::Clear | ActKind::Force | ActKind::Evidence(_)) => true,
            Some(ActKind::Further) => self.rungs_to_climb(step, false) > 0,
            Some(ActKind::Work | ActKind::Reload | ActKind::Announce) | None => false,
        }
    }

    /// Of lines that are vouched for, what the first look contradicts and nobody has named (N54).
    pub(super) fn against_vouch(&self, seen: &BTreeMap<Address, SeenState>) -> Vec<String> {
        let Some(from) = self.run.begun.from_line else { return Vec::new() };
        let earlier: Vec<Step> = self.run.steps().filter(|(s, _)| s.line.is_some_and(|l| l < from)).map(|(s, _)| s.clone()).collect();
        let found: Facts = seen.clone().into_iter().collect();
        let against = contradicted(&earlier, &found).into_iter().filter(|(a, _)| !self.run.begun.vouched_for.contains(a));
        against.map(|(_, says)| format!("beginning at line {from} vouches that {says}")).collect()
    }

    /// Worked out anew before anything was touched, and confirmed so (R8).
    pub(super) fn replanned(&mut self, begun: Box<Begun>, decision: Decision) -> Result<(), Refusal> {
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
    pub(super) fn restricted(&mut self, restrictions: BTreeMap<Address, Restriction>) {
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
    pub(super) fn put_back(&mut self, by: &str, why: &str) {
        self.happened(Event::PutBackBegan { by: by.to_owned(), why: why.to_owned() });
        self.leave_the_way(by, why);
    }

    /// Ends the way forward: what is in flight finishes, and then the named procedure takes over (R32).
    pub(super) fn divert(&mut self, procedure: ProcedureName, failed: String, reason: String, by: &str) {
        let why = format!("{failed}: {reason}");
        self.happened(Event::DivertBegan { procedure, failed, reason, by: by.to_owned() });
        self.leave_the_way(by, &why);
    }

    pub(super) fn leave_the_way(&mut self, by: &str, why: &str) {
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
    pub(super) fn is_wait(&self, step: StepId) -> bool {
        let task = self.run.begun.sequence.step(step).task();
        matches!(task, Some(Task::Until { .. } | Task::Look { .. } | Task::Pause { .. } | Task::UntilTime { .. }))
    }

    pub(super) fn divert_planned(&mut self, planned: Result<Divert, String>) {
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
    pub(super) fn vouch_for_earlier_lines(&mut self) {
        let Some(from) = self.run.begun.from_line else { return };
        let earlier: Vec<StepId> = self.run.steps().filter(|(s, _)| s.line.is_some_and(|l| l < from)).map(|(s, _)| s.id).collect();
        let (by, why) = (self.run.begun.who.clone(), self.run.begun.why.clone().unwrap_or_default());
        for step in earlier {
            self.end(step, StepEnd::Vouched { by: by.clone(), why: format!("begun at line {from}: {why}") });
        }
    }

    pub(super) fn pass_over(&mut self, step: StepId, by: &str, why: &str) {
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
}
