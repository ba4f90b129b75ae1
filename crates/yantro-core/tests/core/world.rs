//! A made-up world for runs: services that start, fail, hang and refuse to stop, in virtual time.
//! It carries out a machine's orders, and checks what must always hold at every one of them.

use std::collections::{BTreeMap, BTreeSet};

use yantro_core::{
    graph::EstateGraph,
    holders::Rooms,
    model::{Estate, ServiceRunner},
    plan::{
        Part, Preflight, Request, StepId,
        forecast::{Prefer, Usual},
        plan,
        procedure::{self, Asked},
    },
    proof::{Answer, Facts, SeenState},
    run::{
        ActBegun, ActEnd, ActId, ActKind, Begun, Decision, DecisionKind, Divert, Event, Input, Order, Run, RunId, StepEnd, StepState,
        plan_divert,
    },
    stage::{Climb, Stage},
    words::{
        Force,
        kinds::StepKind,
        name::{Address, ProcedureName},
        time::{Span, Timestamp},
    },
};

/// What is wrong with a service.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Fault {
    /// Nothing.
    None,
    /// Its first so many starts end at once.
    StartEnds(u32),
    /// Its first so many starts never climb.
    NeverReady(u32),
    /// It does not heed a stop.
    IgnoresStop,
}

/// What the operator does when the run is held.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Operator {
    TriesAgain,
    PassesOver,
    Vouches,
    /// Lets go of the service whose step failed.
    Releases,
    GivesUp,
    /// Has everything put back; where that fails, vouches for it.
    PutsBack,
}

pub struct World {
    pub estate: Estate,
    states: BTreeMap<Address, SeenState>,
    faults: BTreeMap<Address, Fault>,
    starts: BTreeMap<Address, u32>,
    now: Timestamp,
    inputs: BTreeMap<(Timestamp, u64), Input>,
    order_no: u64,
    looking: BTreeSet<u32>,
    pub acts: Vec<(ActKind, Address)>,
    /// The events, as they would be stored.
    pub events: Vec<(Timestamp, Event)>,
    /// Which order's answers are lost, for each recovery: the server ends there.
    pub kill_at: BTreeSet<usize>,
    given: BTreeSet<u32>,
    rungs: BTreeMap<u32, usize>,
    /// When each step was looked at last for its act.
    looked: BTreeMap<u32, Timestamp>,
    /// Whether the run was held before the input being worked through.
    was_held: bool,
    /// Which of the allowed orders is taken.
    pub prefer: Prefer,
    /// How long a hold may last.
    pub held_at_most: Option<Span>,
    /// How many services the run may work on at once.
    pub at_once: Option<u32>,
    /// Services whose locks were given back while the run went on.
    pub unlocked: BTreeSet<Address>,
    /// What work was done, by its title.
    pub works: Vec<String>,
    /// Work that takes half a minute, by its title.
    pub slow_work: Vec<String>,
    /// Acts that were ended in the middle, by what they do.
    pub recalled: Vec<String>,
    /// Work that ends badly, by its title.
    pub failing_work: Vec<String>,
    /// What work prints.
    pub output: String,
    /// What every look before the first act answers.
    pub preflight: Answer,
    /// Something else brings this one up again, once all is done.
    pub comes_back: Option<Address>,
}

impl World {
    pub fn new(estate: Estate, facts: &Facts, faults: BTreeMap<Address, Fault>) -> Self {
        Self {
            states: facts.0.clone(),
            estate,
            faults,
            starts: BTreeMap::new(),
            now: Timestamp::from_ms(1_000_000),
            inputs: BTreeMap::new(),
            order_no: 0,
            looking: BTreeSet::new(),
            acts: Vec::new(),
            events: Vec::new(),
            kill_at: BTreeSet::new(),
            given: BTreeSet::new(),
            rungs: BTreeMap::new(),
            looked: BTreeMap::new(),
            was_held: false,
            prefer: Prefer::Soonest,
            held_at_most: None,
            at_once: None,
            unlocked: BTreeSet::new(),
            works: Vec::new(),
            slow_work: Vec::new(),
            recalled: Vec::new(),
            failing_work: Vec::new(),
            output: String::new(),
            preflight: Answer::holds("so"),
            comes_back: None,
        }
    }

    pub fn state(&self, address: &Address) -> SeenState {
        self.states.get(address).copied().unwrap_or_default()
    }

    /// Plans a request and plays it to its end. `None` where it could not be begun.
    pub fn play(&mut self, request: &Request, operator: Operator) -> Option<Run> {
        let graph = EstateGraph::new(&self.estate);
        let facts: Facts = self.states.clone().into_iter().collect();
        let mut plan = plan(&self.estate, &graph, &facts, &Usual::default(), request);
        if !plan.can_begin() {
            return None;
        }
        plan.prefer(self.prefer, &self.estate);
        let begun =
            Begun { at_once: self.at_once, held_at_most: self.held_at_most, ..Begun::of(plan, &self.estate, 1, "maren", &BTreeMap::new()) };
        self.run(begun, operator)
    }

    /// Plans a procedure and plays it to its end. `None` where it could not be begun.
    pub fn play_procedure(&mut self, name: &str, answers: &[(&str, &str)], operator: Operator) -> Option<Run> {
        let graph = EstateGraph::new(&self.estate);
        let facts: Facts = self.states.clone().into_iter().collect();
        let procedure = &self.estate.procedures[&name.parse::<ProcedureName>().unwrap()];
        let given = answers.iter().map(|(n, v)| ((*n).to_owned(), (*v).to_owned())).collect();
        let values = procedure::settle(&self.estate, &graph, procedure, &given).unwrap();
        let asked = Asked { values, ..Asked::default() };
        let plan = procedure::plan(&self.estate, &graph, &facts, &Usual::default(), procedure, &asked);
        if !plan.can_begin() {
            return None;
        }
        let begun = Begun { at_once: self.at_once, ..Begun::of(plan, &self.estate, 1, "maren", &BTreeMap::new()) };
        self.run(begun, operator)
    }

    /// Plays what begins so to its end.
    pub fn run(&mut self, begun: Begun, operator: Operator) -> Option<Run> {
        self.events.push((self.now, Event::Begun(Box::new(begun.clone()))));
        let mut run = Run::begin(RunId(1), self.now, begun);
        self.later(0, Input::Locked);
        let mut decided = 0;
        for turn in 0..20_000 {
            if run.has_ended() {
                break;
            }
            if self.kill_at.contains(&turn) {
                run = self.killed(run);
            }
            let deadline = run.next_deadline();
            let next = self.inputs.keys().next().copied();
            let input = match (next, deadline) {
                (Some(key), None) => self.take(key),
                (Some(key), Some(at)) if key.0 <= at => self.take(key),
                (_, Some(at)) => {
                    self.now = self.now.max(at);
                    Input::Tick
                }
                (None, None) => {
                    decided += 1;
                    assert!(decided < 500, "the run waits for nobody: {:?}", run.state());
                    self.decide(&run, operator, decided)
                }
            };
            self.give(&mut run, input);
        }
        assert!(run.has_ended(), "the run never ended: {:?}", run.steps().map(|(s, n)| (s.says(), n.state.word())).collect::<Vec<_>>());
        Some(run)
    }

    fn take(&mut self, key: (Timestamp, u64)) -> Input {
        self.now = self.now.max(key.0);
        self.inputs.remove(&key).unwrap()
    }

    fn give(&mut self, run: &mut Run, input: Input) {
        let mut rooms = Rooms::new(&self.estate);
        run.rooms_taken().for_each(|r| rooms.take(&r));
        self.was_held = run.hold_no().is_some();
        let taken = run.take(input, self.now, &mut rooms).unwrap_or_else(|e| panic!("refused: {e}"));
        self.events.extend(taken.events.into_iter().map(|e| (self.now, e)));
        for order in taken.orders {
            self.is_looked_at(run, &order);
            self.carry_out(run, order);
        }
    }

    /// Each service is looked at once more just before its act (R8), be it while the last that it waits for only had to
    /// stay steady.
    fn is_looked_at(&self, run: &Run, order: &Order) {
        let Order::Act { step, kind: ActKind::Start | ActKind::Stop | ActKind::Reload | ActKind::Further, .. } = order else { return };
        let says = run.begun.sequence.step(*step).says();
        let at = self.looked.get(&step.0).unwrap_or_else(|| panic!("{says}: nobody looked"));
        let ago = self.now.since(*at);
        assert!(ago <= std::time::Duration::from_millis(250), "{says}: looked at {ago:?} before its act");
    }

    /// The server ends: what was under way in it is lost, what was begun outside goes on.
    fn killed(&mut self, run: Run) -> Run {
        let replayed = Run::replay(run.id, self.events.clone()).unwrap();
        assert_eq!(told(&replayed), told(&run), "replaying the events gives the same state");
        self.inputs.retain(|_, i| matches!(i, Input::ActEnded { .. }));
        self.inputs.clear();
        self.looking.clear();
        let mut run = replayed;
        let orders = run.recover();
        self.give(&mut run, Input::Away { for_ms: 10 });
        for order in orders {
            self.carry_out(&run, order);
        }
        run
    }

    fn decide(&mut self, run: &Run, operator: Operator, nth: u32) -> Input {
        if let Some((step, _)) = run.steps().find(|(_, n)| matches!(n.state, StepState::Asking { answer: Some(_), .. })) {
            let kind = DecisionKind::Answer { step: step.id, value: "yes".into() };
            return Input::Decide(Decision { kind, hold: None, who: "maren".into(), why: None });
        }
        let step =
            run.awaiting().next().unwrap_or_else(|| panic!("nothing awaits a decision: {:?}", run.hold_causes().collect::<Vec<_>>()));
        let asked = matches!(run.step_now(step).state, yantro_core::run::StepState::Asking { .. });
        let kind = match operator {
            Operator::TriesAgain if asked && nth.is_multiple_of(2) => DecisionKind::Force { step },
            Operator::TriesAgain if nth < 40 => DecisionKind::TryAgain { step, change: None },
            Operator::TriesAgain | Operator::GivesUp => DecisionKind::GiveUp,
            Operator::Releases => match run.begun.sequence.step(step).address() {
                Some(address) => DecisionKind::Release { address: address.clone() },
                None => DecisionKind::PassOver { step },
            },
            Operator::PutsBack if run.part() != Part::PutBack && run.allowed().iter().any(|a| a.kind == DecisionKind::PutBack) => {
                DecisionKind::PutBack
            }
            Operator::PutsBack if asked => DecisionKind::PassOver { step },
            Operator::PutsBack => DecisionKind::PassOver { step },
            Operator::PassesOver => DecisionKind::PassOver { step },
            Operator::Vouches => DecisionKind::Vouch { step },
        };
        Input::Decide(Decision { kind, hold: run.hold_no(), who: "maren".into(), why: Some("for the test".into()) })
    }

    fn later(&mut self, ms: u64, input: Input) {
        self.order_no += 1;
        self.inputs.insert((self.now + std::time::Duration::from_millis(ms), self.order_no), input);
    }

    /// An act on a service begins, and ends but for a process that goes on: the command of a service manager or a power
    /// controller ends, too.
    fn begins(&mut self, address: &Address, step: StepId, act: ActId, kind: ActKind) {
        self.later(1, Input::ActBegun { step, act, begun: begun() });
        if kind != ActKind::Start || !matches!(self.estate.services[address].runner, ServiceRunner::Process(_)) {
            self.later(2, Input::ActEnded { step, act, end: ActEnd::Sent });
        }
    }

    fn work(&mut self, run: &Run, step: StepId, act: ActId) {
        let planned = run.begun.sequence.step(step);
        let held = run.hold_no().is_some() && self.was_held;
        assert!(!held, "{} while held", planned.says());
        self.works.push(planned.says());
        self.later(1, Input::ActBegun { step, act, begun: begun() });
        let end = self.work_ends(run, step);
        let slow = self.slow_work.contains(&planned.says());
        self.later(if slow { 30_000 } else { 2 }, Input::ActEnded { step, act, end });
    }

    fn work_ends(&self, run: &Run, step: StepId) -> ActEnd {
        let says = run.begun.sequence.step(step).says();
        let code = i32::from(self.failing_work.contains(&says));
        ActEnd::Exited { code, output: self.output.clone() }
    }

    fn acts(&mut self, kind: ActKind, address: &Address, returns: bool) {
        self.acts.push((kind, address.clone()));
        let fault = self.faults.get(address).copied().unwrap_or(Fault::None);
        let state = match kind {
            ActKind::Start => {
                let n = self.starts.entry(address.clone()).or_insert(0);
                *n += 1;
                match fault {
                    Fault::StartEnds(times) if *n <= times => SeenState::Down,
                    Fault::NeverReady(times) if *n <= times => SeenState::Rising,
                    _ => SeenState::Proven,
                }
            }
            ActKind::Stop | ActKind::Clear if fault == Fault::IgnoresStop => self.state(address),
            // What something else brings back is back before anyone looks.
            ActKind::Stop if (returns || self.estate.services[address].brought_back_by.is_some()) && fault != Fault::IgnoresStop => {
                SeenState::Proven
            }
            ActKind::Stop | ActKind::Clear | ActKind::Force => SeenState::Down,
            ActKind::Reload | ActKind::Evidence(_) | ActKind::Further | ActKind::Work | ActKind::Announce => self.state(address),
        };
        self.states.insert(address.clone(), state);
    }

    /// What must always hold (design §4), at every act.
    fn always(&self, run: &Run, kind: ActKind, address: &Address) {
        let service = &self.estate.services[address];
        assert!(run.begun.sequence.acted_on().contains(address), "{address} is outside the sequence");
        assert!(service.hands_off.is_none(), "{address} is hands-off");
        assert!(kind != ActKind::Start || service.brought_back_by.is_none(), "{address} is brought back by something else");
        assert!(!self.unlocked.contains(address), "{address} was let go of");
        assert!(run.begun.at_once.is_none_or(|limit| run.in_flight().count() <= limit as usize), "more at once than asked for");
        let decided = self
            .events
            .iter()
            .rev()
            .any(|(_, e)| matches!(e, Event::Decided { decision } if matches!(decision.kind, DecisionKind::Force { .. })));
        let is_decided_force = decided && matches!(kind, ActKind::Force | ActKind::Evidence(_));
        assert!(run.hold_no().is_none() || !self.was_held || is_decided_force, "{kind:?} {address} while held");
        let vouched = run.vouched();
        // What is looked up is what would be found by looking through all.
        assert!(run.steps_on(address).map(|(s, _)| s.id).eq(run.steps().filter(|(s, _)| s.is_on(address)).map(|(s, _)| s.id)));
        let all = run.steps().filter(|(_, n)| matches!(n.state, StepState::Ended(StepEnd::Vouched { .. })));
        assert!(all.filter_map(|(s, _)| s.address()).all(|a| vouched.contains(a)));
        match kind {
            ActKind::Start => {
                for relation in &service.relies_on {
                    let good = relation.any_of.iter().filter(|a| self.state(a) == SeenState::Proven || vouched.contains(*a)).count();
                    assert!(good >= relation.at_least as usize, "{address} starts before what it relies on is proven");
                }
                assert!(!service.never_with.iter().any(|o| self.state(o).is_up()), "{address} starts beside what it must never be up with");
            }
            ActKind::Stop => {
                for other in self.estate.services.values().filter(|o| self.state(&o.address).is_up() && !vouched.contains(&o.address)) {
                    for relation in other.relies_on.iter().filter(|r| r.any_of.contains(address)) {
                        let stays = relation.any_of.iter().filter(|a| *a != address && self.state(a) == SeenState::Proven).count();
                        let had = stays + usize::from(self.state(address) == SeenState::Proven);
                        assert!(
                            stays >= relation.at_least as usize || had < relation.at_least as usize,
                            "{address} stops under {}",
                            other.address
                        );
                    }
                }
                for (name, group) in &self.estate.groups {
                    let Some(keep_up) = group.keep_up.filter(|_| group.members.contains(address)) else { continue };
                    let stays = group.members.iter().filter(|m| *m != address && self.state(m) == SeenState::Proven).count();
                    let set_aside = run.begun.sequence.below_keep_up.contains(name);
                    assert!(
                        set_aside || self.state(address) != SeenState::Proven || stays >= keep_up as usize,
                        "{address} takes {name} below {keep_up}"
                    );
                }
            }
            ActKind::Force => {
                let asked = run.begun.services[address].stop.force;
                assert!(asked != Force::Never, "{address} is forced, which is never allowed");
                let said = self
                    .events
                    .iter()
                    .any(|(_, e)| matches!(e, Event::Decided { decision } if matches!(decision.kind, DecisionKind::Force { .. })));
                assert!(asked == Force::Allow || said, "{address} is forced without being asked");
            }
            ActKind::Clear | ActKind::Reload | ActKind::Evidence(_) | ActKind::Further | ActKind::Work | ActKind::Announce => {}
        }
    }
}

impl Stage for World {
    fn comes(&mut self, _run: &Run, input: Input) {
        let after = match &input {
            Input::Locked | Input::FreshLooked { .. } => 0,
            _ => 1,
        };
        if let Input::FreshLooked { step, .. } = &input {
            self.looked.insert(step.0, self.now);
        }
        self.later(after, input);
    }

    fn look(&mut self, run: &Run, addresses: Vec<Address>) -> BTreeMap<Address, SeenState> {
        // What ends the run is seen last of all.
        if run.steps_not_ended() == 0 {
            self.states.extend(self.comes_back.clone().map(|a| (a, SeenState::Proven)));
        }
        addresses.into_iter().map(|a| (a.clone(), self.state(&a))).collect()
    }

    fn act(&mut self, run: &Run, step: StepId, act: ActId, kind: ActKind) {
        assert!(self.given.insert(act.0), "act {} was given twice", act.0);
        let planned = run.begun.sequence.step(step);
        if let ActKind::Work | ActKind::Announce = kind {
            return self.work(run, step, act);
        }
        let address = planned.address().unwrap().clone();
        self.always(run, kind, &address);
        self.acts(kind, &address, planned.service().is_some_and(|on| on.comes_back));
        self.begins(&address, step, act, kind);
    }

    fn find(&mut self, run: &Run, step: StepId, act: ActId, kind: ActKind) {
        if self.given.contains(&act.0) && matches!(kind, ActKind::Work | ActKind::Announce) {
            let end = self.work_ends(run, step);
            self.later(1, Input::ActEnded { step, act, end });
        } else if self.given.contains(&act.0) {
            let address = run.begun.sequence.step(step).address().unwrap().clone();
            self.begins(&address, step, act, kind);
        } else {
            self.act(run, step, act, kind);
        }
    }

    fn preflight(&mut self, _run: &Run, _look: &Preflight) -> Answer {
        self.preflight.clone()
    }

    fn divert(&mut self, run: &Run, procedure: &ProcedureName, failed: &str, reason: &str) -> Result<Divert, String> {
        let graph = EstateGraph::new(&self.estate);
        let facts: Facts = self.states.clone().into_iter().collect();
        let after = run.begun.sequence.steps.len() as u32;
        plan_divert(&self.estate, &graph, &facts, &Usual::default(), procedure, [failed, reason], after)
    }

    fn climb(&mut self, run: &Run, climb: Climb) {
        let Climb { step, attempt, kind, from } = climb;
        if run.begun.sequence.step(step).task().is_some() {
            for rung in 0..4 {
                self.later(5 + rung, Input::RungLooked { step, attempt, rung: rung as u32, answer: Answer::holds("so"), logs: vec![] });
            }
            return;
        }
        let address = run.begun.sequence.step(step).address().unwrap().clone();
        self.looking.insert(step.0);
        let rungs = run.begun.services[&address].ladder_of(kind).len();
        self.rungs.insert(step.0, rungs);
        let state = self.state(&address);
        let returns = run.begun.sequence.step(step).service().is_some_and(|on| on.comes_back);
        let comes_back = returns || run.begun.services[&address].brought_back_by.is_some();
        let fault = self.faults.get(&address).copied().unwrap_or(Fault::None);
        let (holds, against) = match kind {
            StepKind::Stop => (state == SeenState::Down || (comes_back && fault != Fault::IgnoresStop), false),
            _ if comes_back => (state == SeenState::Proven, false),
            _ => (state == SeenState::Proven, state == SeenState::Down),
        };
        for rung in from as usize..rungs {
            let answer = if holds {
                Answer::holds("so")
            } else if against {
                Answer::against("its process ended")
            } else {
                Answer::not_yet("not so")
            };
            self.later(5 + rung as u64, Input::RungLooked { step, attempt, rung: rung as u32, answer, logs: vec![] });
            if !holds {
                break;
            }
        }
    }

    fn stop_looking(&mut self, _run: &Run, step: StepId) {
        self.looking.remove(&step.0);
    }

    fn unlock(&mut self, run: &Run, address: &Address) {
        assert!(run.is_released(address) && run.in_flight().all(|a| a != address), "{address} is let go of while it is worked on");
        self.unlocked.insert(address.clone());
    }

    fn recall(&mut self, run: &Run, step: StepId, act: ActId) {
        self.recalled.push(run.begun.sequence.step(step).says());
        self.later(1, Input::ActEnded { step, act, end: ActEnd::Signalled { signal: 15, output: String::new() } });
    }
}

/// How an act begins here.
fn begun() -> ActBegun {
    ActBegun { command: vec![], dir: "/".into(), user: "x".into(), ..ActBegun::default() }
}

/// What of a run is in its events.
pub fn told(run: &Run) -> String {
    let steps: Vec<String> = run.steps().map(|(s, n)| format!("{} {:?} {}", s.id, n.state, n.attempts)).collect();
    format!("{:?} {:?} {:?}", run.state(), steps, run.hold_causes().collect::<Vec<_>>())
}
