//! What an operator may do with a run now, and what each thing leads to (R30).

use std::collections::BTreeSet;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::{
    plan::{Part, Release, StepId},
    run::{
        DecisionKind,
        holds::HoldCause,
        state::{Run, StepState},
    },
    words::{PersonKind, kinds::StepKind, name::Address},
};

/// Something an operator may do now, and what it leads to.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Allowed {
    /// What.
    #[serde(flatten)]
    pub kind: DecisionKind,
    /// The hold it would answer.
    pub hold: Option<u32>,
    /// What it leads to, in a sentence.
    pub leads_to: String,
    /// Whether it must come with a reason.
    pub needs_reason: bool,
}

impl Run {
    /// What diverting to a procedure leads to, where it may be done now (R32).
    pub fn divert_leads_to(&self) -> Option<String> {
        let may = !self.has_ended() && !self.giving_up && self.part == Part::Forward && self.first_looked && self.acts_given() > 0;
        may.then(|| {
            let left = self.steps_not_ended();
            format!(
                "leaves {left} step{} undone, lets what is in flight end, and has another procedure take over, with what failed and why",
                if left == 1 { "" } else { "s" }
            )
        })
    }

    /// What an operator may do now.
    pub fn allowed(&self) -> Vec<Allowed> {
        let mut all = Vec::new();
        if self.has_ended() || self.giving_up {
            return all;
        }
        let hold = self.hold_no();
        let at_standstill = self.hold_causes().any(|c| matches!(c, HoldCause::Standstill));
        let mut add = |kind: DecisionKind, leads_to: String| {
            let needs_reason = kind.needs_reason();
            all.push(Allowed { kind, hold, leads_to, needs_reason });
        };
        for step in self.awaiting() {
            let now = self.step_now(step);
            let said = self.begun.sequence.step(step);
            let does = said.says();
            let waiting = self.waiting_on(step);
            if matches!(now.state, StepState::Asking { answer: None, .. }) && !at_standstill {
                let address = said.row();
                add(DecisionKind::Force { step }, format!("ends {address} by force: what it has not written is lost"));
            }
            if said.kind() != StepKind::ByHand {
                let cleared = if said.kind() == StepKind::Start && now.attempts > 0 { ", once the earlier attempt is gone" } else { "" };
                add(DecisionKind::TryAgain { step, change: None }, format!("{does} again{cleared}, then goes on"));
            }
            let others = match waiting.len() {
                0 => "nothing waits on it".to_owned(),
                1 => "and the step that waits on it".to_owned(),
                n => format!("and the {n} steps that wait on it"),
            };
            add(DecisionKind::PassOver { step }, format!("leaves out step {step} ({does}), {others}"));
            let standing = match (said.kind(), said.address()) {
                (StepKind::Stop, Some(address)) => format!("takes {address} as down though that is not proven, and goes on"),
                (_, Some(address)) => format!("takes {address} as good though it is not proven, and goes on"),
                (_, None) => format!("takes step {step} ({does}) as done, and goes on"),
            };
            add(DecisionKind::Vouch { step }, standing);
        }
        for (planned, now) in self.steps() {
            let StepState::Asking { answer: Some(answer), .. } = &now.state else { continue };
            let step = planned.id;
            match answer {
                PersonKind::YesNo => {
                    add(DecisionKind::Answer { step, value: "yes".to_owned() }, "goes on".to_owned());
                    let rule = self.rule_of(step).says();
                    add(DecisionKind::Answer { step, value: "no".to_owned() }, format!("fails step {step}; its rule is: {rule}"));
                }
                PersonKind::Value => {
                    add(DecisionKind::Answer { step, value: String::new() }, "keeps the value and goes on".to_owned());
                }
            }
        }
        if self.hold_causes().next().is_none() {
            add(DecisionKind::Hold, "lets what is in flight end, and begins nothing new".to_owned());
        } else if self.awaiting().next().is_none() && self.hold_causes().any(|c| !matches!(c, HoldCause::Standstill)) {
            let changed = self.hold_causes().any(|c| matches!(c, HoldCause::Changed { .. }));
            let leads_to = match (changed, at_standstill) {
                (true, _) => "works it out anew from how things stand now, shows it, and goes on by that once confirmed",
                (false, true) => "answers its own hold: it goes on once the standstill is lifted",
                (false, false) => "goes on from here",
            };
            add(DecisionKind::Resume, leads_to.to_owned());
        }
        for address in self.releasable() {
            let waiting = self.steps_of(address).flat_map(|s| self.waiting_on(s)).filter(|s| !self.begun.sequence.step(*s).is_on(address));
            let others = match waiting.collect::<BTreeSet<_>>().len() {
                0 => String::new(),
                1 => " and the step that waits on it".to_owned(),
                n => format!(" and the {n} steps that wait on it"),
            };
            add(
                DecisionKind::Release { address: address.clone() },
                format!("leaves out what is left to do with {address}{others}, and lets other runs act on it"),
            );
        }
        if self.part != Part::PutBack && self.acts_given() > 0 {
            add(DecisionKind::PutBack, self.put_back_says());
        }
        let left = self.steps_not_ended();
        add(
            DecisionKind::GiveUp,
            format!(
                "ends the run here: {left} step{} left undone, and what differs from as found is listed",
                if left == 1 { "" } else { "s" }
            ),
        );
        all
    }

    /// Every step that waits on this one being good, directly or not.
    pub fn waiting_on(&self, step: StepId) -> BTreeSet<StepId> {
        let mut all = BTreeSet::new();
        let mut queue = vec![step];
        while let Some(at) = queue.pop() {
            for (next, release) in self.waiters(at) {
                if *release == Release::WhenGood && !self.step_now(*next).state.has_ended() && all.insert(*next) {
                    queue.push(*next);
                }
            }
        }
        all
    }

    /// Its steps on a service that have not ended.
    pub(super) fn steps_of(&self, address: &Address) -> impl Iterator<Item = StepId> {
        self.steps_on(address).filter(|(_, n)| !n.state.has_ended()).map(|(s, _)| s.id)
    }

    /// Services of a held run that could be released now: with something left to do, and nothing in flight.
    fn releasable(&self) -> BTreeSet<&Address> {
        if self.hold_no().is_none() {
            return BTreeSet::new();
        }
        let free = |a: &&Address| !self.is_released(a) && self.in_flight_on(a).is_none();
        self.steps().filter(|(_, n)| !n.state.has_ended()).filter_map(|(s, _)| s.address()).filter(free).collect()
    }

    /// A step on a service whose act or proving is under way.
    pub(super) fn in_flight_on(&self, address: &Address) -> Option<StepId> {
        self.steps_of(address).find(|s| matches!(self.step_now(*s).state, StepState::Acting { .. } | StepState::Proving { .. }))
    }
}
