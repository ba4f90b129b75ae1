//! What a decision would do, as it is shown to whoever takes it: worked out by taking it on a copy of the run.

use super::Turn;
use crate::{
    holders::Rooms,
    plan::{Part, Shown, StepId},
    run::{
        Decision, DecisionKind, Refusal,
        ends::*,
        event::*,
        holds::*,
        input::*,
        order::*,
        state::{Run, StepState},
    },
    words::time::Timestamp,
};

impl Run {
    /// What a decision would do if it were taken now, a sentence each, while this is the newest edition; nothing of the run
    /// changes.
    ///
    /// # Errors
    /// Where it would be refused, as that would be.
    pub fn would(&self, decision: &Decision, edition: u64, now: Timestamp) -> Result<Shown, Refusal> {
        if self.has_ended() {
            return Err(Refusal::Ended { run: self.id.0, word: self.state().word() });
        }
        let mut copy = self.clone();
        let mut turn = Turn { run: &mut copy, now, rooms: &mut Rooms::default(), taken: Taken::default(), gave_room: false };
        turn.decide(decision.clone())?;
        let taken = turn.taken;
        let mut does = Vec::new();
        match &decision.kind {
            DecisionKind::Force { step } => does.push(format!("end {} by force", self.begun.sequence.step(*step).row())),
            DecisionKind::TryAgain { step, change } => {
                does.push(format!("step {step}: {} again", self.begun.sequence.step(*step).says()));
                does.extend(change.iter().map(|c| format!("with {}", serde_json::to_string(c).expect("text keys only"))));
            }
            DecisionKind::Answer { step, value } => does.push(format!("answer step {step}: {value}")),
            DecisionKind::Hold
            | DecisionKind::Resume
            | DecisionKind::PassOver { .. }
            | DecisionKind::Vouch { .. }
            | DecisionKind::Release { .. }
            | DecisionKind::PutBack
            | DecisionKind::Divert { .. }
            | DecisionKind::GiveUp => {}
        }
        does.extend(taken.orders.iter().filter_map(|order| match order {
            Order::Recall { step, .. } => Some(format!("end step {step} in the middle: {}", self.said(*step))),
            _ => None,
        }));
        does.extend(taken.events.iter().filter_map(|event| match event {
            Event::StepEnded { step, end: StepEnd::PassedOver { .. } | StepEnd::NotBegun } => Some(self.left_out(*step)),
            Event::StepEnded { step, end: StepEnd::Vouched { .. } } => Some(format!("take step {step} as done: {}", self.said(*step))),
            _ => None,
        }));
        if decision.kind == DecisionKind::PutBack {
            // What is under way is awaited, and only then is it known what there is to put back of it.
            let acting = self.steps().filter(|(_, n)| matches!(n.state, StepState::Acting { .. } | StepState::Proving { .. }));
            does.extend(acting.map(|(s, _)| format!("await step {} and take it back: {}", s.id, s.says())));
            does.extend(self.way_back(&self.seen).iter().map(|s| format!("then {}", s.says())));
        }
        // The decision itself is part of it: another procedure, another service, another change is another deed.
        let about = format!("run {} {}", self.id, serde_json::to_string(&decision.kind).expect("text keys only"));
        Ok(Shown::deed(about, edition, does))
    }

    /// What would go on if the standstill were lifted now, a sentence each.
    pub fn would_go_on(&self, now: Timestamp) -> Vec<String> {
        let says = |what: String| format!("run {} ({}): {what}", self.id, self.begun.sequence.of.says());
        let mut copy = self.clone();
        let lifted = Input::Unhold { cause: HoldCause::Standstill, by: String::new() };
        let Ok(taken) = copy.take(lifted, now, &mut Rooms::default()) else { return Vec::new() };
        if let Some(cause) = copy.hold_causes().next() {
            return vec![says(format!("stays as it is, {cause}"))];
        }
        let begins = taken.orders.iter().filter_map(|order| match order {
            Order::FreshLook { step, .. } | Order::Act { step, .. } | Order::Climb { step, .. } => Some(*step),
            _ => None,
        });
        let mut next: Vec<StepId> = begins.collect();
        next.dedup();
        match next.as_slice() {
            [] => vec![says("goes on".to_owned())],
            steps => steps.iter().map(|step| says(format!("goes on, next step {step}: {}", self.said(*step)))).collect(),
        }
    }

    fn said(&self, step: StepId) -> String {
        self.begun.sequence.step(step).says()
    }

    fn left_out(&self, step: StepId) -> String {
        let part = match self.begun.sequence.step(step).part {
            Part::Forward => "",
            Part::PutBack => ", on the way back",
            Part::Divert => ", of what took over",
        };
        format!("leave out step {step}: {}{part}", self.said(step))
    }
}
