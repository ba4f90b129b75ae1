//! Decisions of an operator (R30), and giving up.

use super::Turn;
use crate::{
    plan::{Part, StepId},
    run::{
        Decision, DecisionKind, Refusal,
        ends::*,
        event::*,
        holds::*,
        order::*,
        state::{Run, StepState},
    },
    words::kinds::StepKind,
};

impl Turn<'_> {
    pub(super) fn decide(&mut self, decision: Decision) -> Result<(), Refusal> {
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
        let (own_hold, free) = (self.run.hold_no().is_some(), matches!(decision.kind, DecisionKind::PutBack | DecisionKind::Divert { .. }));
        // The way back may be gone at any time; while it is held, it answers the hold like all else.
        let answers_hold =
            !matches!(decision.kind, DecisionKind::Hold | DecisionKind::GiveUp | DecisionKind::Answer { .. }) && (own_hold || !free);
        if answers_hold && (decision.hold.is_none() || decision.hold != self.run.hold_no()) {
            return Err(match (&self.run.last_decision, self.run.hold_no()) {
                (Some(by), _) => Refusal::Stale { by: by.clone() },
                (None, None) => Refusal::NotHeld { run },
                (None, Some(now)) => Refusal::Stale { by: format!("hold {now} is the one to answer") },
            });
        }
        if let Some(step) = decision.kind.step() {
            let state = &self.run.step_now(step).state;
            // One that was tried again while something else holds the run has its decision, and takes no second one.
            let awaits = self.run.awaiting().any(|s| s == step);
            let fits = match decision.kind {
                DecisionKind::Force { .. } => awaits && matches!(state, StepState::Asking { answer: None, .. }),
                DecisionKind::Answer { .. } => matches!(state, StepState::Asking { answer: Some(_), .. }),
                // What only a person can do is done by none of our acts, however often it is tried.
                DecisionKind::TryAgain { .. } => awaits && self.run.begun.sequence.step(step).kind() != StepKind::ByHand,
                _ => awaits,
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
        if decision.kind == DecisionKind::Resume && self.run.hold_causes().any(|c| matches!(c, HoldCause::Changed { .. })) {
            // What it would do now was never confirmed: it goes on by what is worked out anew.
            return Err(Refusal::Changed { run });
        }
        let at_standstill = self.run.hold_causes().any(|c| matches!(c, HoldCause::Standstill));
        // A hold of its own may be answered meanwhile; where there is none, nothing would come of it but a word that it was done.
        let nothing_else = || self.run.hold_causes().all(|c| matches!(c, HoldCause::Standstill));
        let is_kept = match decision.kind {
            DecisionKind::Force { .. } => at_standstill,
            DecisionKind::Resume => at_standstill && nothing_else(),
            _ => false,
        };
        if is_kept {
            return Err(Refusal::Standstill { decision: word });
        }
        if let DecisionKind::Release { address } = &decision.kind {
            if !self.run.answerable().any(|a| a == address) {
                return Err(Refusal::NotHolding { run, address: address.clone() });
            }
            if let Some(step) = self.run.in_flight_on(address) {
                let state = self.run.step_now(step).state.word();
                return Err(Refusal::InFlight { step, state, address: address.clone() });
            }
        }
        if let DecisionKind::PutBack | DecisionKind::Divert { .. } = &decision.kind {
            let left = self.run.part == Part::PutBack || (self.run.part == Part::Divert && decision.kind != DecisionKind::PutBack);
            if left {
                return Err(Refusal::OffTheWay { run, word: if self.run.part == Part::PutBack { "putting back" } else { "diverted" } });
            }
            if !self.run.first_looked || self.run.acts_given() == 0 {
                return Err(Refusal::Untouched { run });
            }
        }
        if let DecisionKind::Answer { step, value } = &decision.kind {
            self.may_answer(*step, &decision.who, value)?;
        }
        let (who, why) = (decision.who.clone(), decision.why.clone().unwrap_or_default());
        if let DecisionKind::TryAgain { step, .. } = &decision.kind
            && self.run.in_flight.contains(step)
        {
            // It begins anew, and takes its room anew.
            self.give_room_back(*step);
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
            DecisionKind::Release { address } => {
                let steps: Vec<StepId> = self.run.steps_of(&address).collect();
                for step in steps {
                    // One may have gone with another that it waited on.
                    if !self.run.step_now(step).state.has_ended() {
                        self.pass_over(step, &who, &format!("{address} was released: {why}"));
                    }
                }
                self.unhold(HoldCause::Lost { address: address.clone() }, who);
                let watched: Vec<StepId> = self.run.steps_on(&address).map(|(s, _)| s.id).collect();
                watched.into_iter().for_each(|step| self.order(Order::StopLooking { step }));
                self.order(Order::Unlock { address });
            }
            DecisionKind::Force { step } => {
                self.unhold(HoldCause::Step { step }, who);
                self.gather_or_force(step, 0);
            }
            DecisionKind::Answer { step, value } => self.answered(step, &who, &value),
            DecisionKind::PutBack => self.put_back(&who, if why.is_empty() { "decided" } else { &why }),
            DecisionKind::Divert { procedure } => {
                let [failed, reason] = self.run.failed_and_why(&why);
                self.divert(procedure, failed, reason, &who);
            }
            DecisionKind::GiveUp => {
                self.happened(Event::GivingUp { who, why });
                self.give_up();
            }
        }
        Ok(())
    }

    /// What acts is awaited; everything else ends here.
    pub(super) fn give_up(&mut self) {
        let steps: Vec<StepId> = self.run.steps().filter(|(_, n)| !n.state.has_ended()).map(|(s, _)| s.id).collect();
        for step in steps {
            match self.run.step_now(step).state {
                StepState::Acting { .. } => {
                    let act = self.run.step_now(step).acts.last().filter(|a| a.end.is_none()).map(|a| a.act);
                    if let Some(act) = act.filter(|_| self.run.may_be_recalled(step)) {
                        self.order(Order::Recall { step, act });
                    }
                }
                StepState::Proving { .. } => {
                    self.order(Order::StopLooking { step });
                    self.left_behind(step);
                }
                StepState::Failed { .. } | StepState::OutcomeUnknown { .. } | StepState::Asking { .. } => {
                    self.end(step, StepEnd::PassedOver { by: "giving up".to_owned(), why: "the run was given up".to_owned() });
                }
                StepState::Waiting | StepState::Pausing { .. } | StepState::Ended(_) => self.end(step, StepEnd::NotBegun),
            }
        }
    }
}

impl Run {
    /// What failed, and why: what a procedure that takes over is told. Where nothing failed, the reason is the one given.
    pub fn failed_and_why(&self, why: &str) -> [String; 2] {
        let failed = self.awaiting().next().map(|s| (self.begun.sequence.step(s).row(), self.step_now(s).state.clone()));
        match failed {
            Some((row, StepState::Failed { reason } | StepState::OutcomeUnknown { reason })) => [row, reason],
            Some((row, _)) => [row, why.to_owned()],
            None => [String::new(), why.to_owned()],
        }
    }
}
