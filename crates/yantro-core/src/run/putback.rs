//! The way back: worked out from what a run truly did, as steps of the same kind (R31).
//!
//! The done work is walked backwards. Before each counter-step every service that the work was ordered
//! against is brought to the state it had then; at last each service is brought to how it was found. Where
//! no work lies between, a service that was stopped and started again needs nothing.

use std::collections::{BTreeMap, BTreeSet};

use super::state::{Run, StepNow};
use crate::{
    model::{procedure::Settings, task::Task},
    plan::{OnService, Part, Release, Step, StepId, Subject, Wait, Why, lay_out},
    proof::SeenState,
    run::{ActEnd, ActKind},
    words::{kinds::StepKind, name::Address, time::Timestamp},
};

/// What a service is to be brought to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Goal {
    Down,
    /// Up; at least so many rungs where it was found ailing.
    Up(Option<u32>),
}

impl Run {
    /// The steps that lead back to how everything was found, from how it stands now.
    pub fn way_back(&self, seen: &BTreeMap<Address, SeenState>) -> Vec<Step> {
        let mut way = WayBack { run: self, stands: BTreeMap::new(), steps: Vec::new(), before: Vec::new() };
        let touched = self.touched();
        for address in &touched {
            let now = seen.get(address).copied().unwrap_or_default();
            way.stands.insert(address.clone(), now);
        }
        for work in self.work_to_take_back() {
            let goals = self.goals_under(work, &touched);
            way.bring(&goals);
            way.take_back(work);
        }
        let as_found = touched.iter().filter_map(|a| Some((a.clone(), self.goal_as_found(a)?))).collect();
        way.bring(&as_found);
        let mut steps = way.steps;
        lay_out(&mut steps, self.begun.sequence.steps.len() as u32 + 1);
        steps
    }

    /// How long the way back would take now, in nine of ten cases: its longest path, each step at its 90 % point.
    pub fn way_back_ms(&self) -> u64 {
        let mut steps = self.way_back(&self.seen);
        for step in &mut steps {
            step.usual_ms = step.slow_ms.max(step.usual_ms);
        }
        lay_out(&mut steps, self.begun.sequence.steps.len() as u32 + 1)
    }

    /// The last moment at which putting back would still fit the run's window, as things stand.
    pub fn last_moment(&self) -> Option<Timestamp> {
        let ends_at = self.begun.window.as_ref()?.ends_at;
        Some(Timestamp::from_ms(ends_at.as_ms() - self.way_back_ms() as i64))
    }

    /// What putting back now would do, in a sentence.
    pub(super) fn put_back_says(&self) -> String {
        let steps = self.way_back(&self.seen);
        let of = |kind: StepKind| steps.iter().filter(|s| s.kind() == kind).count();
        let mut parts = Vec::new();
        for (kind, word) in [(StepKind::Stop, "stops"), (StepKind::Start, "starts")] {
            match of(kind) {
                0 => {}
                1 => parts.extend(steps.iter().find(|s| s.kind() == kind).and_then(|s| Some(format!("{word} {}", s.address()?)))),
                n => parts.push(format!("{word} {n} services")),
            }
        }
        parts.extend(steps.iter().filter(|s| s.kind() == StepKind::Work).map(Step::says));
        let by_hand: Vec<String> = steps.iter().filter(|s| s.kind() == StepKind::ByHand).map(Step::says).collect();
        let length = steps.iter().map(|s| s.tail_ms).max().unwrap_or(0);
        let mut says = match parts.is_empty() {
            true => "ends the run: everything stands as found".to_owned(),
            false => format!("{}, as it was found, in about {} s", parts.join(", "), length.div_ceil(1000)),
        };
        if !by_hand.is_empty() {
            says += &format!("; it holds where only a person can: {}", by_hand.join(", "));
        }
        says
    }

    /// How many acts were given so far.
    pub fn acts_given(&self) -> u32 {
        self.next_act().0 - 1
    }

    /// Services that this run took up or down.
    fn touched(&self) -> BTreeSet<Address> {
        let acted = |n: &StepNow| n.acts.iter().any(|a| !was_refused(a.end.as_ref().map(|(_, e)| e)));
        let steps = self.steps().filter(|(s, n)| s.part != Part::PutBack && acted(n));
        steps
            .filter_map(|(s, _)| s.service().filter(|on| matches!(on.kind, StepKind::Stop | StepKind::Start)))
            .map(|on| on.address.clone())
            .filter(|a| !self.is_released(a))
            .collect()
    }

    /// Work that changed something, the last first.
    fn work_to_take_back(&self) -> Vec<&Step> {
        let mut work: Vec<(&Step, &StepNow)> = self
            .steps()
            .filter(|(s, n)| {
                let changes = match s.task() {
                    Some(Task::Work(work)) => !work.changes_nothing,
                    Some(Task::Act { address, act }) => {
                        self.begun.services.get(address).and_then(|s| s.acts.get(act)).is_none_or(|a| !a.changes_nothing)
                    }
                    _ => false,
                };
                s.part != Part::PutBack && changes && n.acts.iter().any(|a| !was_refused(a.end.as_ref().map(|(_, e)| e)))
            })
            .collect();
        work.sort_by_key(|(s, n)| (n.acts.first().map(|a| a.intended_at), s.id));
        work.reverse();
        work.into_iter().map(|(s, _)| s).collect()
    }

    /// What each service was while this work was done, of those that it was ordered against.
    fn goals_under(&self, work: &Step, touched: &BTreeSet<Address>) -> BTreeMap<Address, Goal> {
        let before = self.ancestors(work.id);
        let after = self.waiting_on_any(work.id);
        let mut goals = BTreeMap::new();
        for address in touched {
            let of = |steps: &BTreeSet<StepId>| {
                let mine = steps.iter().map(|s| self.begun.sequence.step(*s)).filter(|s| s.is_on(address));
                mine.filter(|s| matches!(s.kind(), StepKind::Stop | StepKind::Start)).max_by_key(|s| s.id).cloned()
            };
            let goal = match (of(&before), of(&after)) {
                (Some(last), _) if last.kind() == StepKind::Stop => Some(Goal::Down),
                (Some(_), _) => Some(Goal::Up(None)),
                (None, Some(_)) => self.goal_as_found(address),
                (None, None) => None,
            };
            goals.extend(goal.map(|g| (address.clone(), g)));
        }
        goals
    }

    /// What it takes for a service to stand as found; `None` where nobody knows how it was found.
    fn goal_as_found(&self, address: &Address) -> Option<Goal> {
        match self.begun.as_found.get(address).copied().unwrap_or_default() {
            SeenState::Proven | SeenState::Rising => Some(Goal::Up(None)),
            SeenState::Ailing => Some(Goal::Up(Some(self.begun.found_rungs.get(address).copied().unwrap_or(0)))),
            SeenState::Down | SeenState::Sinking => Some(Goal::Down),
            SeenState::Unknown | SeenState::OutOfReach => None,
        }
    }

    /// Every step that this one waited on, directly or not.
    fn ancestors(&self, step: StepId) -> BTreeSet<StepId> {
        let mut all = BTreeSet::new();
        let mut queue = vec![step];
        while let Some(at) = queue.pop() {
            queue.extend(self.begun.sequence.step(at).waits.iter().map(|w| w.step).filter(|w| all.insert(*w)));
        }
        all
    }

    /// Every step that waits on this one, directly or not, however it stands.
    fn waiting_on_any(&self, step: StepId) -> BTreeSet<StepId> {
        let mut all = BTreeSet::new();
        let mut queue = vec![step];
        while let Some(at) = queue.pop() {
            queue.extend(self.waiters(at).iter().map(|(s, _)| *s).filter(|s| all.insert(*s)));
        }
        all
    }
}

fn was_refused(end: Option<&ActEnd>) -> bool {
    matches!(end, Some(ActEnd::Refused { .. }))
}

struct WayBack<'r> {
    run: &'r Run,
    /// How each touched service stands at this point of the way.
    stands: BTreeMap<Address, SeenState>,
    steps: Vec<Step>,
    /// What the next stage waits for.
    before: Vec<StepId>,
}

impl WayBack<'_> {
    fn next(&self) -> StepId {
        StepId((self.run.begun.sequence.steps.len() + self.steps.len()) as u32 + 1)
    }

    /// Brings services to their goals: stops first what relies on others, starts it last.
    fn bring(&mut self, goals: &BTreeMap<Address, Goal>) {
        let mut stops: BTreeSet<Address> = BTreeSet::new();
        let mut starts: BTreeMap<Address, Option<u32>> = BTreeMap::new();
        for (address, goal) in goals {
            let stands = self.stands.get(address).copied().unwrap_or_default();
            match goal {
                Goal::Down if stands != SeenState::Down => drop(stops.insert(address.clone())),
                Goal::Down => {}
                Goal::Up(None) if stands == SeenState::Proven => {}
                Goal::Up(rungs) => {
                    // What our own start left behind, unproven, is cleared away first.
                    if stands.is_up() && self.last_act(address) == Some(ActKind::Start) && rungs.is_none() {
                        stops.insert(address.clone());
                    }
                    starts.insert(address.clone(), *rungs);
                }
            }
        }
        let begins = self.steps.len();
        let mut stop_of: BTreeMap<Address, StepId> = BTreeMap::new();
        let mut yielding: BTreeMap<&Address, Vec<&Address>> = BTreeMap::new();
        for address in &stops {
            self.run.begun.services[address].yields_to.iter().for_each(|to| yielding.entry(to).or_default().push(address));
        }
        for address in self.in_order(&stops, true) {
            let reliant = self.run.reliant_on(&address).filter_map(|d| stop_of.get(&d.address));
            let mut waits: Vec<Wait> = reliant.map(|s| Wait { step: *s, release: Release::WhenGood }).collect();
            let yielding = yielding.get(&address).into_iter().flatten().filter_map(|d| stop_of.get(*d));
            waits.extend(yielding.map(|s| Wait { step: *s, release: Release::WhenEnded }));
            stop_of.insert(address.clone(), self.add_service(address, StepKind::Stop, waits, None));
        }
        let chosen: BTreeSet<Address> = starts.keys().cloned().collect();
        let mut start_of: BTreeMap<Address, StepId> = BTreeMap::new();
        for address in self.in_order(&chosen, false) {
            let service = &self.run.begun.services[&address];
            let needed = service.relies_on_any().filter_map(|n| start_of.get(n));
            let mut waits: Vec<Wait> = needed.map(|s| Wait { step: *s, release: Release::WhenGood }).collect();
            // What it relies on, and was found down, goes down before it comes up, and never under it.
            let downs = service.never_with.iter().chain([&address]).chain(service.relies_on_any()).filter_map(|o| stop_of.get(o));
            waits.extend(downs.map(|s| Wait { step: *s, release: Release::WhenGood }));
            let yields = service.yields_to.iter().filter_map(|o| start_of.get(o));
            waits.extend(yields.map(|s| Wait { step: *s, release: Release::WhenEnded }));
            let rungs = starts[&address];
            start_of.insert(address.clone(), self.add_service(address, StepKind::Start, waits, rungs));
        }
        for address in stops {
            self.stands.insert(address, SeenState::Down);
        }
        for address in chosen {
            self.stands.insert(address, SeenState::Proven);
        }
        self.stage_ends(begins);
    }

    /// Takes back one piece of work; where there is no way back, a person has to.
    fn take_back(&mut self, work: &Step) {
        let begins = self.steps.len();
        let by_hand = |says: String| Task::ByHand { says };
        let (task, title) = match work.task() {
            Some(Task::Work(w)) => match &w.counter {
                Some(counter) => (Task::Work(counter.work.clone()), Some(counter.title.clone())),
                None => (by_hand(format!("take back step {}: {}", work.id, work.says())), None),
            },
            Some(Task::Act { address, act }) => {
                let back = self.run.begun.services.get(address).and_then(|s| s.acts.get(act)).and_then(|a| a.taken_back_by.clone());
                match back {
                    Some(back) => (Task::Act { address: address.clone(), act: back }, None),
                    None => (by_hand(format!("take back step {}: {}", work.id, work.says())), None),
                }
            }
            _ => return,
        };
        let settings = title.map(|t| Box::new(Settings { title: Some(t), ..Settings::default() }));
        let waits = self.before.iter().map(|s| Wait { step: *s, release: Release::WhenGood }).collect();
        let id = self.next();
        self.steps.push(Step {
            id,
            usual_ms: work.usual_ms,
            slow_ms: work.slow_ms,
            basis: work.basis,
            subject: Subject::Task(Box::new(task)),
            why: Why::TakesBack(work.id),
            found: SeenState::Unknown,
            waits,
            rank: 0,
            tail_ms: 0,
            critical: false,
            line: work.line,
            part: Part::PutBack,
            settings,
        });
        self.stage_ends(begins);
    }

    fn stage_ends(&mut self, begins: usize) {
        if begins == self.steps.len() {
            return;
        }
        let good = |w: &&Wait| w.release == Release::WhenGood;
        let waited_on: BTreeSet<StepId> = self.steps[begins..].iter().flat_map(|s| s.waits.iter().filter(good).map(|w| w.step)).collect();
        self.before = self.steps[begins..].iter().map(|s| s.id).filter(|s| !waited_on.contains(s)).collect();
    }

    fn add_service(&mut self, address: Address, kind: StepKind, waits: Vec<Wait>, rungs: Option<u32>) -> StepId {
        let id = self.next();
        // Who only yields to another of its stage is let go of in any way, and waits for the stage before by itself.
        let mut waits = waits;
        if waits.iter().all(|w| w.release == Release::WhenEnded) {
            waits.extend(self.before.iter().map(|s| Wait { step: *s, release: Release::WhenGood }));
        }
        // The last act that went the other way is the one that is taken back: a later step that never acted has nothing to do with it.
        let went_other = |s: &Step| matches!(s.kind(), StepKind::Stop | StepKind::Start) && s.kind() != kind;
        let other = self.run.steps_on(&address).rev().find(|(s, n)| went_other(s) && !n.acts.is_empty()).map(|(s, _)| s);
        let same = self.run.steps_on(&address).map(|(s, _)| s).find(|s| s.kind() == kind);
        let fallback = if kind == StepKind::Start { 3_000 } else { 1_000 };
        let known = same.filter(|s| s.usual_ms > 0);
        let usual_ms = known.map_or(fallback, |s| s.usual_ms);
        let why = other.map_or(Why::Chosen, |s| Why::TakesBack(s.id));
        let found = self.stands.get(&address).copied().unwrap_or_default();
        self.steps.push(Step {
            id,
            usual_ms,
            slow_ms: known.map_or(fallback * 2, |s| s.slow_ms),
            basis: known.map(|s| s.basis).unwrap_or_default(),
            line: other.and_then(|s| s.line),
            subject: Subject::Service(OnService::new(&self.run.begun.services[&address], kind)),
            why,
            found,
            waits,
            rank: 0,
            tail_ms: 0,
            critical: false,
            part: Part::PutBack,
            settings: rungs.map(|n| Box::new(Settings { rungs: Some(n), ..Settings::default() })),
        });
        id
    }

    /// Needed ones before what relies on them, or the other way round; ties by address.
    fn in_order(&self, set: &BTreeSet<Address>, reliant_first: bool) -> Vec<Address> {
        let mut left = set.clone();
        let mut order = Vec::with_capacity(set.len());
        let mut waits: BTreeMap<&Address, usize> = set.iter().map(|a| (a, 0)).collect();
        let mut releases: BTreeMap<&Address, Vec<&Address>> = BTreeMap::new();
        for address in set {
            let service = &self.run.begun.services[address];
            for needed in service.relies_on_any().chain(&service.yields_to).filter_map(|n| set.get(n)) {
                let (first, then) = if reliant_first { (address, needed) } else { (needed, address) };
                *waits.entry(then).or_default() += 1;
                releases.entry(first).or_default().push(then);
            }
        }
        let mut ready: BTreeSet<&Address> = waits.iter().filter(|(_, n)| **n == 0).map(|(a, _)| *a).collect();
        while let Some(address) = ready.pop_first() {
            left.remove(address);
            order.push(address.clone());
            for then in releases.get(address).into_iter().flatten() {
                let n = waits.get_mut(then).expect("counted above");
                *n -= 1;
                if *n == 0 {
                    ready.insert(then);
                }
            }
        }
        debug_assert!(left.is_empty(), "vetting refuses circles");
        order.extend(left);
        order
    }

    /// The last thing this run did to a service.
    fn last_act(&self, address: &Address) -> Option<ActKind> {
        let acts = self.run.steps_on(address).flat_map(|(_, n)| &n.acts);
        acts.filter(|a| matches!(a.kind, ActKind::Start | ActKind::Stop | ActKind::Force | ActKind::Clear))
            .max_by_key(|a| a.act)
            .map(|a| a.kind)
    }
}
