//! Works out the steps of a procedure, line by line, each from what the lines before it leave behind.

use std::collections::{BTreeMap, BTreeSet};

use crate::{
    graph::EstateGraph,
    model::{
        Estate, fill,
        procedure::{Does, FoundBy, Line, Procedure},
        task::Task,
    },
    plan::{
        self, Ask, AskedWith, For, LeftAlone, Obstacle, Part, Plan, Preflight, Release, Request, Sequence, Step, StepId, Subject, Wait,
        Why, forecast::Usual, lay_out,
    },
    proof::{Facts, SeenState},
    selection,
    words::{
        Expected,
        kinds::{StepKind, Wish},
        name::{Address, GroupName},
    },
};

/// What a procedure is asked to do.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Asked {
    /// Its values: settled answers and what the estate gives.
    pub values: BTreeMap<String, String>,
    /// Services named one by one as left standing, or started, on what is not proven (R3).
    pub left_standing: BTreeSet<Address>,
    /// Groups whose `keep_up` may be broken (R20).
    pub below_keep_up: BTreeSet<GroupName>,
    /// The line to begin at, from 1; those before it are vouched for (N54).
    pub from_line: Option<u32>,
    /// Services that are taken as the lines before left them, though a look says otherwise: each named.
    pub vouched_for: BTreeSet<Address>,
    /// What earlier runs had found up, which its lines were filled with (R37).
    pub found_by: FoundBy,
    /// Whether it is a further act that was asked for by itself, and no procedure of the estate.
    pub by_itself: bool,
    /// Which part of a run the steps are for, and the number of the first.
    pub part: Part,
    /// The number before that of the first step.
    pub after: u32,
}

impl Asked {
    /// What the steps of a procedure are worked out for.
    fn works_for(&self, procedure: &Procedure) -> For {
        match procedure.lines.first().map(|line| &line.does) {
            Some(Does::Act { act, of }) if self.by_itself => For::Act { act: act.clone(), of: of.clone() },
            _ => For::Procedure { procedure: procedure.name.clone(), title: procedure.title.clone() },
        }
    }
}

/// Works out the steps of a procedure from the facts.
///
/// Each line is planned against what the lines before it leave behind; its steps wait on theirs. The
/// outcome is the same for the same estate, facts, values and forecast.
pub fn plan(estate: &Estate, graph: &EstateGraph, facts: &Facts, usual: &Usual, procedure: &Procedure, asked: &Asked) -> Plan {
    plan_by_line(estate, graph, facts, usual, procedure, asked).0
}

/// The same, with the line that each thing to be said in so many words belongs to.
pub(crate) fn plan_by_line(
    estate: &Estate,
    graph: &EstateGraph,
    facts: &Facts,
    usual: &Usual,
    procedure: &Procedure,
    asked: &Asked,
) -> (Plan, Vec<u32>) {
    let mut work = Work {
        estate,
        graph,
        usual,
        procedure,
        asked,
        facts: facts.clone(),
        steps: Vec::new(),
        before: Vec::new(),
        stage: Vec::new(),
        in_stage: Vec::new(),
        taken_down: Vec::new(),
        obstacles: Vec::new(),
        asks: Vec::new(),
        ask_lines: Vec::new(),
        left_alone: BTreeMap::new(),
        standing: BTreeSet::new(),
    };
    for (i, line) in procedure.lines.iter().enumerate() {
        if asked.from_line == Some(i as u32 + 1) {
            work.against_vouch(facts);
        }
        work.line(i as u32 + 1, line);
    }
    let lines = std::mem::take(&mut work.ask_lines);
    (work.finish(), lines)
}

struct Work<'a> {
    estate: &'a Estate,
    graph: &'a EstateGraph,
    usual: &'a Usual,
    procedure: &'a Procedure,
    asked: &'a Asked,
    /// How things stand before the line being worked out.
    facts: Facts,
    steps: Vec<Step>,
    /// What the lines of this stage wait for.
    before: Vec<StepId>,
    /// What the next stage will wait for.
    stage: Vec<StepId>,
    /// What the lines of this stage have to do with.
    in_stage: Vec<(u32, BTreeSet<Address>)>,
    /// What each line took down, by its number and name.
    taken_down: Vec<(u32, Option<String>, Vec<Address>)>,
    obstacles: Vec<Obstacle>,
    asks: Vec<Ask>,
    ask_lines: Vec<u32>,
    left_alone: BTreeMap<Address, String>,
    standing: BTreeSet<Address>,
}

impl Work<'_> {
    fn line(&mut self, no: u32, line: &Line) {
        if line.preflight {
            return; // Taken before the first act, with all others.
        }
        if !line.alongside && !self.stage.is_empty() {
            self.before = std::mem::take(&mut self.stage);
            self.in_stage.clear();
        }
        let first = self.steps.len();
        let vouched = self.asked.from_line.is_some_and(|from| no < from);
        match &line.does {
            Does::Services { wish, selection, except, alone, left_standing } => {
                let chosen = match self.resolve(no, selection, except) {
                    Some(chosen) => chosen,
                    None => return,
                };
                let mut standing = self.asked.left_standing.clone();
                standing.extend(left_standing.iter().filter_map(|a| a.parse::<Address>().ok()));
                self.services(no, line, *wish, chosen, *alone, standing, vouched);
            }
            Does::Act { act, of } => {
                let Some(chosen) = self.resolve(no, of, &[]) else { return };
                let mut added = Vec::new();
                for address in chosen {
                    let service = &self.estate.services[&address];
                    if !service.acts.contains_key(act) {
                        let known: Vec<&str> = service.acts.keys().map(String::as_str).collect();
                        let mend = crate::words::name::did_you_mean(act, known.iter().copied());
                        self.obstacle(no, Some(&address), format!("{address} has no act \"{act}\""), mend);
                    }
                    if let Some(reason) = &service.hands_off {
                        let why = format!("{address} is hands-off: {reason}");
                        self.obstacle(no, Some(&address), why, "leave it out".to_owned());
                    }
                    let rests = self.facts.of(&address) == SeenState::Down && service.acts.get(act).is_some_and(|a| a.at_rest);
                    if !rests && matches!(self.facts.of(&address), SeenState::Down | SeenState::Unknown | SeenState::OutOfReach) {
                        let why = format!("{address} is {} there, and only what runs can {act}", self.facts.of(&address));
                        self.obstacle(no, Some(&address), why, "move the line to where it runs".to_owned());
                    }
                    let found = self.facts.of(&address);
                    added.push(self.add(no, line, Subject::Task(Box::new(Task::Act { address, act: act.clone() })), found));
                }
                self.stage.extend(added);
            }
            Does::BringBack { of } => {
                let all = of.iter().any(|o| o == "all");
                let wanted: BTreeSet<Address> = self
                    .taken_down
                    .iter()
                    .filter(|(_, name, _)| all || name.as_ref().is_some_and(|n| of.contains(n)))
                    .flat_map(|(.., down)| down.iter().cloned())
                    .filter(|a| vouched || self.facts.of(a) != SeenState::Proven)
                    .collect();
                if !wanted.is_empty() {
                    self.services(no, line, Wish::Start, wanted, false, self.asked.left_standing.clone(), vouched);
                }
            }
            Does::Task { task } => {
                if let Task::Work(work) = task.as_ref() {
                    self.stands_meanwhile(no, work, vouched);
                }
                let step = self.add(no, line, Subject::Task(task.clone()), SeenState::Unknown);
                self.stage.push(step);
            }
        }
        self.beside_others(no, first);
    }

    /// Whether what must be down or up while work goes on is so by then.
    fn stands_meanwhile(&mut self, no: u32, work: &crate::model::task::Work, is_vouched: bool) {
        let otherwise = plan::meanwhile(work).filter(|(a, must)| !is_vouched && self.facts.of(a) != *must);
        let otherwise: Vec<(Address, SeenState)> = otherwise.map(|(a, must)| (a.clone(), must)).collect();
        for (address, must) in otherwise {
            let why = format!("{address} is {} there, and must be {must} while this works", self.facts.of(&address));
            let mend = match must {
                SeenState::Down => format!("stop {address} in a line before it, or take it out of its `while_down`"),
                _ => format!("start {address} in a line before it, or take it out of its `while_up`"),
            };
            self.obstacle(no, Some(&address), why, mend);
        }
    }

    /// What a look contradicts of what the lines so far are vouched to have done. What cannot be looked at contradicts
    /// nothing.
    fn against_vouch(&mut self, found: &Facts) {
        let from = self.asked.from_line.unwrap_or_default();
        for (address, says) in contradicted(&self.steps, found) {
            if !self.asked.vouched_for.contains(&address) {
                self.asks.push(Ask::AgainstVouch { says: format!("beginning at line {from} vouches that {says}"), address });
                self.ask_lines.push(from);
            }
        }
    }

    /// Lines that go alongside each other must have nothing to do with each other: which of them is first
    /// would decide what is up.
    fn beside_others(&mut self, no: u32, first: usize) {
        let mut mine: BTreeSet<Address> = self.steps[first..].iter().filter_map(|s| s.address().cloned()).collect();
        mine.extend(self.steps[first..].iter().flat_map(|s| s.meanwhile().map(|(a, _)| a.clone())));
        let related = |a: &Address, b: &Address| {
            let says = |a: &Address, b: &Address| {
                let service = &self.estate.services[a];
                service.relies_on_any().chain(&service.never_with).chain(&service.yields_to).any(|o| o == b)
            };
            a == b || says(a, b) || says(b, a)
        };
        let meets = self.in_stage.iter().find_map(|(other, theirs)| {
            let (a, b) = mine.iter().find_map(|a| Some((a.clone(), theirs.iter().find(|b| related(a, b))?.clone())))?;
            Some((*other, a, b))
        });
        if let Some((other, a, b)) = meets {
            let what = if a == b { a.to_string() } else { format!("{a} and {b}, which rely on each other") };
            let mend = format!("take `alongside` out of step {no}, or join the two");
            self.obstacle(no, Some(&a), format!("it goes alongside step {other}, and both have to do with {what}"), mend);
        }
        if !mine.is_empty() {
            self.in_stage.push((no, mine));
        }
    }

    fn resolve(&mut self, no: u32, selection: &[String], except: &[String]) -> Option<BTreeSet<Address>> {
        let words = |texts: &[String]| -> Vec<String> {
            // A value that is a selection may name several, parted by blanks.
            texts.iter().flat_map(|t| fill::text(t, &self.asked.values).split_whitespace().map(str::to_owned).collect::<Vec<_>>()).collect()
        };
        match selection::resolve(self.estate, self.graph, &words(selection), &words(except)) {
            Ok(chosen) => Some(chosen),
            Err(error) => {
                self.obstacle(no, None, error.to_string(), error.hint());
                None
            }
        }
    }

    fn obstacle(&mut self, no: u32, address: Option<&Address>, why: String, mend: String) {
        let known = self.obstacles.iter().any(|o| o.why == why);
        if !known {
            self.obstacles.push(Obstacle { address: address.cloned(), line: Some(no), why, mend });
        }
    }

    #[allow(clippy::too_many_arguments, reason = "a line's own words, passed on once")]
    fn services(
        &mut self,
        no: u32,
        line: &Line,
        wish: Wish,
        chosen: BTreeSet<Address>,
        alone: bool,
        standing: BTreeSet<Address>,
        vouched: bool,
    ) {
        let mut below = self.asked.below_keep_up.clone();
        below.extend(line.settings.below_keep_up.iter().cloned());
        let request = Request { wish, chosen, alone, left_standing: standing, below_keep_up: below };
        let mut plan = plan::plan(self.estate, self.graph, &self.facts, self.usual, &request);
        if !vouched {
            for obstacle in std::mem::take(&mut plan.obstacles) {
                self.obstacle(no, obstacle.address.as_ref(), obstacle.why, obstacle.mend);
            }
            for ask in plan.asks {
                // What an earlier line brought about is no finding of this one.
                let known = self.asks.contains(&ask) || matches!(&ask, Ask::UpWithout { .. } if !self.steps.is_empty());
                if !known {
                    self.asks.push(ask);
                    self.ask_lines.push(no);
                }
            }
        }
        for left in plan.left_alone {
            self.left_alone.entry(left.address).or_insert(left.why);
        }
        self.standing.extend(plan.sequence.left_standing);
        let base = self.asked.after + self.steps.len() as u32;
        let mut down = Vec::new();
        let mut waited_on: BTreeSet<StepId> = BTreeSet::new();
        for mut step in plan.sequence.steps {
            step.id = StepId(step.id.0 + base);
            for wait in &mut step.waits {
                wait.step = StepId(wait.step.0 + base);
                if wait.release == Release::WhenGood {
                    waited_on.insert(wait.step);
                }
            }
            // Who only yields within its line is let go of in any way: it waits for the lines before by itself (R28).
            if step.waits.iter().all(|w| w.release == Release::WhenEnded) {
                step.waits.extend(self.before.iter().map(|s| Wait { step: *s, release: Release::WhenGood }));
            }
            step.line = Some(no);
            step.part = self.asked.part;
            if line.settings != Default::default() {
                step.settings = Some(Box::new(line.settings.clone()));
            }
            if step.why == Why::Chosen {
                step.why = Why::Written(no);
            }
            if let Some(on) = step.service() {
                let was = self.facts.of(&on.address);
                match on.kind {
                    StepKind::Stop => {
                        // Vouched lines did their part before: what they would have taken down is what should be up.
                        let expected = self.estate.services[&on.address].expected != Expected::Down;
                        if was.is_up() || (vouched && expected) {
                            down.push(on.address.clone());
                        }
                        self.facts.0.insert(on.address.clone(), SeenState::Down);
                    }
                    StepKind::Start | StepKind::Await => drop(self.facts.0.insert(on.address.clone(), SeenState::Proven)),
                    _ => {}
                }
            }
            self.steps.push(step);
        }
        let ends: Vec<StepId> =
            self.steps[(base - self.asked.after) as usize..].iter().map(|s| s.id).filter(|id| !waited_on.contains(id)).collect();
        self.stage.extend(ends);
        down.retain(|a| self.facts.of(a) != SeenState::Proven);
        self.taken_down.push((no, line.name.clone(), down));
    }

    fn add(&mut self, no: u32, line: &Line, subject: Subject, found: SeenState) -> StepId {
        let id = StepId(self.asked.after + self.steps.len() as u32 + 1);
        let mut step = Step {
            id,
            subject,
            why: Why::Written(no),
            found,
            waits: self.before.iter().map(|s| Wait { step: *s, release: Release::WhenGood }).collect(),
            rank: 0,
            usual_ms: 0,
            slow_ms: 0,
            basis: Default::default(),
            tail_ms: 0,
            critical: false,
            line: Some(no),
            part: self.asked.part,
            settings: (line.settings != Default::default()).then(|| Box::new(line.settings.clone())),
        };
        let of = self.asked.works_for(self.procedure);
        let estimate = self.usual.of_step(&of, &step, self.estate);
        (step.usual_ms, step.slow_ms, step.basis) = (estimate.usual_ms, estimate.slow_ms, estimate.basis);
        self.steps.push(step);
        id
    }

    fn finish(mut self) -> Plan {
        for step in &mut self.steps {
            if let (Some(settings), Some(_)) = (&step.settings, step.service()) {
                let pauses = settings.pause_before.unwrap_or_default().0 + settings.pause_after.unwrap_or_default().0;
                step.usual_ms += pauses.as_millis() as u64;
                step.slow_ms += pauses.as_millis() as u64;
            }
        }
        // What is taken as done takes no time.
        let from = self.asked.from_line.unwrap_or_default();
        for step in self.steps.iter_mut().filter(|s| s.line.is_some_and(|l| l < from)) {
            (step.usual_ms, step.slow_ms) = (0, 0);
        }
        let usual_ms = lay_out(&mut self.steps, self.asked.after + 1);
        let touched: BTreeSet<Address> = self.steps.iter().filter_map(|s| s.address().cloned()).collect();
        let is_vouched = |s: &&Step| self.asked.from_line.is_some_and(|from| s.line.is_some_and(|l| l < from));
        let vouched: BTreeSet<StepId> = self.steps.iter().filter(is_vouched).map(|s| s.id).collect();
        let hits = plan::hits(self.estate, &self.steps);
        let preflight = self.preflight();
        let mut values = self.asked.values.clone();
        values.entry("dir".to_owned()).or_insert_with(|| self.procedure.dir.clone());
        Plan {
            remarks: Vec::new(),
            refused_now: Vec::new(),
            felt: None,
            sequence: Sequence {
                of: self.asked.works_for(self.procedure),
                steps: self.steps,
                below_keep_up: self.asked.below_keep_up.clone(),
                left_standing: self.standing,
                usual_ms,
            },
            obstacles: self.obstacles,
            asks: self.asks,
            left_alone: self
                .left_alone
                .into_iter()
                .filter(|(a, _)| !touched.contains(a))
                .map(|(address, why)| LeftAlone { address, why })
                .collect(),
            hits,
            preflight,
            values,
            vouched,
            asked_with: AskedWith { found_by: self.asked.found_by.clone(), ..AskedWith::default() },
        }
    }

    /// The looks that it asks for, filled with its values, and those that are obvious.
    fn preflight(&self) -> Vec<Preflight> {
        let mut looks = plan::Looks::default();
        for (i, line) in self.procedure.lines.iter().enumerate().filter(|(_, l)| l.preflight) {
            if let Does::Task { task } = &line.does
                && let Ok(Task::Look { host, rung }) = task.filled(&self.asked.values)
            {
                looks.asked_for(Preflight { says: line.says(), host, rung, line: Some(i as u32 + 1) });
            }
        }
        for step in &self.steps {
            if let Some(Task::Work(work)) = step.task()
                && let Ok(Task::Work(work)) = Task::Work(work.clone()).filled(&self.asked.values)
            {
                looks.of_work(&step.says(), &work);
            }
        }
        looks.of_services(self.estate, &self.steps);
        looks.all
    }
}

/// Services that a look finds otherwise than these steps would have left them, each with a sentence.
pub(crate) fn contradicted(steps: &[Step], found: &Facts) -> Vec<(Address, String)> {
    let mut meant: BTreeMap<&Address, StepKind> = BTreeMap::new();
    for on in steps.iter().filter_map(Step::service) {
        match on.kind {
            StepKind::Stop | StepKind::Start | StepKind::Await => drop(meant.insert(&on.address, on.kind)),
            _ => {}
        }
    }
    let against = meant.into_iter().filter_map(|(address, kind)| {
        let (seen, word) = (found.of(address), if kind == StepKind::Stop { "down" } else { "up" });
        let differs = if kind == StepKind::Stop { seen.is_up() } else { seen == SeenState::Down };
        differs.then(|| (address.clone(), format!("{address} is {word}, and it is {seen}")))
    });
    against.collect()
}
