//! A run in a world that is as it says: it is given its inputs one after another, and each step is done on demand.

use std::collections::{BTreeMap, BTreeSet};

use yantro_core::{
    plan::{
        StepId,
        forecast::Usual,
        procedure::{self, Asked},
    },
    proof::{Answer, SeenState},
    run::{ActEnd, ActId, Begun, Input, Order, StepEnd, StepState, Taken},
    words::{kinds::StepKind, name::Address},
};

use crate::{
    by_hand::{Began, begun_by, begun_now},
    estates::{estate, facts, seen},
};

/// A run of these lines, answerable for all of its estate.
pub fn night(relations: &str, more: &str, lines: &[&str], found: &str) -> Began {
    let lines = lines.iter().map(|l| format!("  {{ {l} }},\n")).collect::<String>();
    let more = format!("{more}[procedure.night]\nsteps = [\n{lines}]\n");
    let (estate, graph) = estate(relations, &more);
    let procedure = estate.procedures[&"night".parse().unwrap()].clone();
    let plan = procedure::plan(&estate, &graph, &facts(&estate, found), &Usual::default(), &procedure, &Asked::default());
    assert!(plan.can_begin(), "{:?}", plan.refusals());
    let services = estate.services.clone();
    begun_by(Begun { services, ..Begun::of(plan, &estate, 1, "maren", &BTreeMap::new()) })
}

/// A run and what its world is like: whatever it looks at is so.
pub struct Played {
    pub run: Began,
    pub stands: BTreeMap<Address, SeenState>,
    /// Steps that are looked at for their act, and not answered yet.
    pub asked: BTreeSet<StepId>,
}

impl Played {
    pub fn of(run: Began, but: &str) -> Self {
        let mut stands = run.found();
        stands.extend(seen(but));
        let mut played = Self { run, stands, asked: BTreeSet::new() };
        played.given(Input::Locked);
        let (seen, rungs, processes) = (played.stands.clone(), BTreeMap::new(), BTreeMap::new());
        played.given(Input::FirstLooked { seen, rungs, processes, unconfirmed: vec![] });
        let looks = played.run.run.begun.preflight.clone();
        if !looks.is_empty() {
            played.given(Input::Preflighted { answers: looks.into_iter().map(|look| (look, Answer::holds("so"))).collect() });
        }
        played
    }

    pub fn given(&mut self, input: Input) -> Taken {
        if let Input::FreshLooked { step, .. } = &input {
            self.asked.remove(step);
        }
        let taken = self.run.given(input);
        self.asked.extend(taken.orders.iter().filter_map(|o| if let Order::FreshLook { step, .. } = o { Some(*step) } else { None }));
        taken
    }

    /// Steps that have begun and not ended, or are looked at for that.
    pub fn under_way(&self) -> Vec<String> {
        let run = &self.run.run;
        let steps = run.steps().filter(|(s, n)| !n.state.has_ended() && (n.began_at.is_some() || self.asked.contains(&s.id)));
        steps.map(|(s, _)| s.says()).collect()
    }

    pub fn step(&self, kind: StepKind, name: &str) -> StepId {
        let address: Address = format!("h/{name}").parse().unwrap();
        self.run.run.steps().find(|(s, n)| s.kind() == kind && s.is_on(&address) && !n.state.has_ended()).unwrap().0.id
    }

    pub fn looks(&mut self, kind: StepKind, name: &str) -> Taken {
        let step = self.step(kind, name);
        let seen = self.stands.clone();
        self.given(Input::FreshLooked { step, seen })
    }

    /// Does a step to its end.
    pub fn does(&mut self, kind: StepKind, name: &str) {
        let step = self.step(kind, name);
        self.acts(step);
        self.ends(step, ActEnd::Sent);
        assert_eq!(self.run.run.step_now(step).state, StepState::Ended(StepEnd::Done));
    }

    /// The act that a step was given last.
    pub fn act(&self, step: StepId) -> ActId {
        self.run.run.last_act(step).unwrap_or_else(|| panic!("no act of {step}: {:?}", self.run.run.step_now(step).state)).act
    }

    /// Gives a step its act, as far as its being under way.
    pub fn acts(&mut self, step: StepId) -> ActId {
        if self.asked.contains(&step) {
            let seen = self.stands.clone();
            self.given(Input::FreshLooked { step, seen });
        }
        let act = self.act(step);
        self.given(Input::ActBegun { step, act, begun: begun_now() });
        act
    }

    /// Ends the act of a step so, and climbs all of its ladder.
    pub fn ends(&mut self, step: StepId, end: ActEnd) {
        let act = self.act(step);
        self.given(Input::ActEnded { step, act, end });
        let attempt = self.run.run.step_now(step).attempts;
        let planned = self.run.run.begun.sequence.step(step).clone();
        let Some(address) = planned.address() else { return };
        let state = if planned.kind() == StepKind::Stop { SeenState::Down } else { SeenState::Proven };
        self.stands.insert(address.clone(), state);
        for rung in 0..self.run.run.service(step).ladder_of(planned.kind()).len() as u32 {
            self.given(Input::RungLooked { step, attempt, rung, answer: Answer::holds("so"), logs: vec![] });
        }
    }

    /// Does so many steps, one after the other, as they come.
    pub fn goes_on(&mut self, steps: usize) {
        for _ in 0..steps {
            let run = &self.run.run;
            let next = run.steps().find(|(s, n)| !n.state.has_ended() && (!n.acts.is_empty() || self.asked.contains(&s.id)));
            let step = next.unwrap_or_else(|| panic!("nothing is under way: {:?}", run.state())).0.id;
            self.acts(step);
            self.ends(step, ActEnd::Exited { code: 0, output: String::new() });
            assert!(self.run.run.step_now(step).state.has_ended(), "{:?}", self.run.run.step_now(step).state);
        }
    }
}
