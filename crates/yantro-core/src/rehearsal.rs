//! A rehearsal: a plan played by the run machine itself against a world in which everything goes as it should,
//! but for one step. It shows where each failure rule would leave the estate, and touches nothing.

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::{
    graph::EstateGraph,
    holders::Rooms,
    model::{Estate, IfItFails},
    plan::{Plan, StepId, forecast::Usual},
    proof::{Answer, Facts, SeenState},
    run::{ActBegun, ActEnd, ActId, ActKind, Begun, Decision, DecisionKind, Divert, Input, Run, RunId, RunState, StepState, plan_divert},
    stage::{Climb, Stage},
    words::{
        name::{Address, ProcedureName},
        time::Timestamp,
    },
};

/// What would come of it if one step failed.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct WhatIf {
    /// The step that fails.
    pub step: StepId,
    /// The rule that is played.
    pub rule: IfItFails,
    /// Whether it is the rule that holds for the step.
    pub is_its_rule: bool,
    /// How the run stands then.
    pub state: RunState,
    /// What happened, a line for each step that did not go as planned.
    pub says: Vec<String>,
    /// The services that stand differently from how they were found, by address.
    pub stands: BTreeMap<Address, SeenState>,
    /// How many steps went well.
    pub good: u32,
    /// How many were not begun or passed over.
    pub left_out: u32,
}

/// Plays a plan with one step failing, once for each rule that there is: hold, carry on, put back, and the
/// divert that holds for the step, where one does.
pub fn what_if(estate: &Estate, graph: &EstateGraph, facts: &Facts, plan: &Plan, edition: u64, step: StepId) -> Vec<WhatIf> {
    let begun = Begun::of(plan.clone(), estate, edition, "rehearsal", &BTreeMap::new());
    let own = Run::begin(RunId(0), START, begun.clone()).rule_of(step);
    let mut rules = vec![IfItFails::Hold, IfItFails::CarryOn, IfItFails::PutBack];
    if let IfItFails::Divert(_) = own {
        rules.push(own.clone());
    }
    rules
        .into_iter()
        .map(|rule| {
            let mut begun = begun.clone();
            let planned = &mut begun.sequence.steps[step.0 as usize - 1];
            planned.settings.get_or_insert_default().if_it_fails = Some(rule.clone());
            let mut stage = Played::new(estate, graph, facts, step);
            let run = stage.play(begun);
            let off = run
                .steps()
                .filter(|(_, n)| !matches!(&n.state, StepState::Ended(end) if end.is_good()) && !matches!(n.state, StepState::Waiting));
            let says = off.map(|(s, n)| format!("step {} ({}): {}", s.id, s.says(), n.state.word())).collect();
            let stands = stage.states.iter().filter(|(a, s)| facts.of(a) != **s).map(|(a, s)| (a.clone(), *s)).collect();
            let good = run.steps().filter(|(_, n)| matches!(&n.state, StepState::Ended(end) if end.is_good())).count() as u32;
            WhatIf {
                step,
                is_its_rule: rule == own,
                rule,
                state: run.state(),
                says,
                stands,
                good,
                left_out: run.steps().count() as u32 - good,
            }
        })
        .collect()
}

const START: Timestamp = Timestamp::from_ms_const(0);
/// More turns than any sequence needs.
const TURNS: usize = 2_000_000;

/// A world in which everything goes as it should, but for one step.
struct Played<'a> {
    estate: &'a Estate,
    graph: &'a EstateGraph,
    states: BTreeMap<Address, SeenState>,
    fails: StepId,
    now: Timestamp,
    inputs: std::collections::VecDeque<Input>,
}

impl<'a> Played<'a> {
    fn new(estate: &'a Estate, graph: &'a EstateGraph, facts: &Facts, fails: StepId) -> Self {
        Self { estate, graph, states: facts.0.clone(), fails, now: START, inputs: Default::default() }
    }

    /// Plays until the run ends, or is held and waits for a person.
    fn play(&mut self, begun: Begun) -> Run {
        let mut run = Run::begin(RunId(0), START, begun);
        self.inputs.push_back(Input::Locked);
        for _ in 0..TURNS {
            if run.has_ended() {
                break;
            }
            let asked = run.steps().find(|(_, n)| matches!(n.state, StepState::Asking { answer: Some(_), .. })).map(|(s, _)| s.id);
            let input = match (self.inputs.pop_front(), asked, run.next_deadline()) {
                (Some(input), ..) => input,
                (None, Some(step), _) => {
                    // Whoever is asked says yes; to the step that fails, no.
                    let value = if step == self.fails { "no" } else { "yes" };
                    let kind = DecisionKind::Answer { step, value: value.to_owned() };
                    Input::Decide(Decision { kind, hold: None, who: "rehearsal".to_owned(), why: None })
                }
                (None, None, Some(at)) => {
                    self.now = self.now.max(at);
                    Input::Tick
                }
                (None, None, None) => break, // Held: a person would decide now.
            };
            let mut rooms = Rooms::new(self.estate);
            run.rooms_taken().for_each(|r| rooms.take(&r));
            // A question with a limited choice of people refuses the rehearsal's answer: then it stands there.
            let Ok(taken) = run.take(input, self.now, &mut rooms) else { break };
            for order in taken.orders {
                self.carry_out(&run, order);
            }
        }
        run
    }

    fn state(&self, address: &Address) -> SeenState {
        self.states.get(address).copied().unwrap_or_default()
    }
}

impl Stage for Played<'_> {
    fn comes(&mut self, _run: &Run, input: Input) {
        self.inputs.push_back(input);
    }

    fn look(&mut self, _run: &Run, addresses: Vec<Address>) -> BTreeMap<Address, SeenState> {
        addresses.into_iter().map(|a| (a.clone(), self.state(&a))).collect()
    }

    fn divert(&mut self, run: &Run, procedure: &ProcedureName, failed: &str, reason: &str) -> Result<Divert, String> {
        let facts = Facts(self.states.clone());
        let after = run.begun.sequence.steps.len() as u32;
        plan_divert(self.estate, self.graph, &facts, &Usual::default(), procedure, [failed, reason], after)
    }

    fn find(&mut self, run: &Run, step: StepId, act: ActId, kind: ActKind) {
        self.act(run, step, act, kind);
    }

    fn act(&mut self, run: &Run, step: StepId, act: ActId, kind: ActKind) {
        let command = Vec::new();
        let begun = ActBegun { command, dir: "/".to_owned(), user: String::new(), ..ActBegun::default() };
        self.inputs.push_back(Input::ActBegun { step, act, begun });
        if step == self.fails {
            // A start that fails leaves nothing behind, a stop leaves its service as it was.
            let end = ActEnd::Exited { code: 1, output: "it fails in this rehearsal".to_owned() };
            self.inputs.push_back(Input::ActEnded { step, act, end });
            return;
        }
        if let Some(address) = run.begun.sequence.step(step).address() {
            let state = match kind {
                ActKind::Start => SeenState::Proven,
                ActKind::Stop | ActKind::Clear | ActKind::Force => SeenState::Down,
                _ => self.state(address),
            };
            self.states.insert(address.clone(), state);
        }
        if kind != ActKind::Start {
            let output = String::new();
            let kept = matches!(run.begun.sequence.step(step).task(), Some(crate::model::task::Task::Work(w)) if !w.keep.is_empty());
            // What work would print is not known: that it prints what is kept is taken as so.
            let end = if kept { ActEnd::Sent } else { ActEnd::Exited { code: 0, output } };
            self.inputs.push_back(Input::ActEnded { step, act, end });
        }
    }

    fn climb(&mut self, run: &Run, climb: Climb) {
        let Climb { step, attempt, kind, from } = climb;
        let planned = run.begun.sequence.step(step);
        let rungs = match (planned.task(), planned.address().and_then(|a| run.begun.services.get(a))) {
            (None, Some(service)) => service.ladder_of(kind).len() as u32,
            _ => run.carried(step, false).map_or(0, |s| s.ladder.len() as u32),
        };
        let fails = step == self.fails;
        for rung in from..rungs {
            let answer = if fails { Answer::against("it fails in this rehearsal") } else { Answer::holds("taken as so") };
            self.inputs.push_back(Input::RungLooked { step, attempt, rung, answer, logs: Vec::new() });
            if fails {
                break;
            }
        }
    }
}
