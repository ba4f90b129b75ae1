//! The world itself: what is true, what is seen of it, and what comes in between.

use std::{
    collections::{BTreeMap, BTreeSet},
    time::Duration,
};

use rand::{RngExt, SeedableRng, rngs::SmallRng, seq::IndexedRandom};
use yantro_core::{
    graph::EstateGraph,
    guards::{Newest, again, restrictions, unconfirmed},
    holders::{Locks, Rooms},
    model::{Estate, ServiceRunner},
    plan::{
        Plan, Preflight, StepId,
        forecast::Usual,
        plan, preflight,
        procedure::{self, Asked},
    },
    proof::{Answer, Facts, SeenState},
    run::{
        ActBegun, ActEnd, ActId, ActKind, Begun, Decision, DecisionKind, Divert, Event, Frozen, HoldCause, Input, Order, Restriction, Run,
        RunId, StepEnd, StepState, plan_divert,
    },
    stage::{Climb, Stage},
    words::{
        Force, ImpactLevel,
        kinds::StepKind,
        name::{Address, HostName, ProcedureName},
        time::Timestamp,
    },
};

use super::drawn::{self, one_of};

/// For so long the world is hostile; then it is calm.
const HOSTILE_FOR: Duration = Duration::from_secs(240);
/// By then every run must have come to an end.
const THE_END: Duration = Duration::from_secs(4 * 3600);
/// More turns than any world needs.
const TURNS: usize = 400_000;
/// So often somebody decides in a calm world before a run is given up.
const PATIENT_FOR: u32 = 40;

/// What a service truly is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Real {
    Down,
    /// It comes up then, or never.
    Rising(Option<Timestamp>),
    Up,
    Ailing,
    /// It is gone then, or never by itself.
    Sinking(Option<Timestamp>),
}

/// What became of an act, as the recorder on its host knows.
#[derive(Debug, Clone, PartialEq)]
pub enum Recorded {
    /// On its way there.
    OnItsWay,
    /// It will never be begun.
    NeverBegun,
    Begun,
    Ended(ActEnd),
    /// Nobody can say.
    Unknown,
}

/// What happens next.
#[derive(Debug, Clone)]
enum Happening {
    /// Something comes into a run, unless the server is killed before.
    Comes(usize, Input),
    /// A step's ladder is looked at once more.
    Looks(usize, Climb),
    /// An act arrives at its host.
    Arrives(usize, StepId, ActId, ActKind),
    /// An act ends there.
    Ends(usize, StepId, ActId, ActEnd),
    /// Something from outside.
    Weather,
    /// A run is begun.
    Begins,
    /// Something brings a service back as a new process.
    Returns(Address),
}

/// A run as it is played.
pub struct Played {
    pub run: Run,
    pub events: Vec<(Timestamp, Event)>,
    /// What the run was told of each service last, by whatever look.
    pub told: BTreeMap<Address, SeenState>,
    /// When the look just before each step's act was asked for.
    pub asked: BTreeMap<StepId, Timestamp>,
    /// What the newest edition restricts of it.
    pub restricted: BTreeMap<Address, Restriction>,
    /// Whether it was held, and at a standstill, before what it takes in.
    pub was_held: bool,
    pub was_still: bool,
    /// How often it was decided on in a calm world.
    decided: u32,
}

/// See `mod.rs`.
pub struct Hostile {
    pub estate: Estate,
    edition: u64,
    lot: SmallRng,
    pub now: Timestamp,
    began: Timestamp,
    real: BTreeMap<Address, Real>,
    /// Since when each was changed by others than runs.
    pub outside: BTreeMap<Address, Timestamp>,
    /// When something brought each back last.
    returned: BTreeMap<Address, Timestamp>,
    cut_off: BTreeMap<HostName, Timestamp>,
    pub runs: Vec<Played>,
    locks: Locks,
    happens: BTreeMap<(Timestamp, u64), Happening>,
    no: u64,
    climbing: BTreeMap<(usize, StepId), Climb>,
    recorded: BTreeMap<(usize, ActId), Recorded>,
    standstill: bool,
    frozen: BTreeMap<String, Frozen>,
    came_to: BTreeSet<&'static str>,
    tells: bool,
    at: usize,
}

impl Hostile {
    /// The world of a number.
    pub fn drawn(number: u64) -> Self {
        let mut lot = SmallRng::seed_from_u64(number);
        let estate = drawn::estate(&mut lot);
        let now = Timestamp::from_ms(1_000_000_000);
        let mut world = Self {
            real: BTreeMap::new(),
            estate,
            edition: 1,
            lot,
            now,
            began: now,
            outside: BTreeMap::new(),
            returned: BTreeMap::new(),
            cut_off: BTreeMap::new(),
            runs: Vec::new(),
            locks: Locks::default(),
            happens: BTreeMap::new(),
            no: 0,
            climbing: BTreeMap::new(),
            recorded: BTreeMap::new(),
            standstill: false,
            frozen: BTreeMap::new(),
            came_to: BTreeSet::new(),
            tells: false,
            at: 0,
        };
        let all: Vec<Address> = world.estate.services.keys().cloned().collect();
        for address in all {
            let service = &world.estate.services[&address];
            let stands = service.relies_on_any().all(|a| world.real.get(a) != Some(&Real::Down));
            let apart = service.never_with.iter().all(|a| world.real.get(a).is_none_or(|r| *r == Real::Down));
            let up = stands && apart && world.lot.random_bool(0.75);
            world.real.insert(address, if up { Real::Up } else { Real::Down });
        }
        for _ in 0..world.lot.random_range(2..6) {
            let after = world.lot.random_range(0..20_000);
            world.later(after, Happening::Begins);
        }
        world.later(500, Happening::Weather);
        world
    }

    /// Tells all that happens.
    pub fn telling(mut self) -> Self {
        self.tells = true;
        self
    }

    /// What it came to, in words.
    pub fn came_to(&self) -> BTreeSet<&'static str> {
        self.came_to.clone()
    }

    fn says(&self, what: impl FnOnce() -> String) {
        if self.tells {
            eprintln!("{:>9} {}", self.now.since(self.began).as_millis(), what());
        }
    }

    fn is_calm(&self) -> bool {
        self.now.since(self.began) > HOSTILE_FOR
    }

    /// Whether something bad comes to pass, which it never does in a calm world.
    fn bad(&mut self, chance: f64) -> bool {
        !self.is_calm() && self.lot.random_bool(chance)
    }

    fn later(&mut self, ms: u64, what: Happening) {
        self.no += 1;
        self.happens.insert((self.now + Duration::from_millis(ms), self.no), what);
    }

    /// Plays until every run has come to its end.
    pub fn play(&mut self) {
        for _ in 0..TURNS {
            let begins = self.happens.values().any(|h| matches!(h, Happening::Begins));
            if !begins && self.runs.iter().all(|r| r.run.has_ended()) {
                return self.at_the_end();
            }
            assert!(self.now.since(self.began) < THE_END, "these never come to an end: {}", self.open());
            let due = self.runs.iter().enumerate().filter_map(|(i, r)| Some((r.run.next_deadline()?, i))).min();
            let next = self.happens.keys().next().copied();
            match (next, due) {
                (Some(key), due) if due.is_none_or(|(at, _)| key.0 <= at) => {
                    self.now = self.now.max(key.0);
                    let happening = self.happens.remove(&key).expect("it is there");
                    self.happen(happening);
                }
                (_, Some((at, i))) => {
                    self.now = self.now.max(at);
                    self.tick(i);
                }
                (None, None) => unreachable!("the weather goes on"),
                (Some(_), None) => unreachable!("taken above"),
            }
        }
        panic!("these turn for ever: {}", self.open());
    }

    /// The runs that have not ended, as they stand.
    fn open(&self) -> String {
        let of = |r: &Played| {
            let steps: Vec<String> =
                r.run.steps().filter(|(_, n)| !n.state.has_ended()).map(|(s, n)| format!("{} {}: {:?}", s.id, s.says(), n.state)).collect();
            let causes: Vec<String> = r.run.hold_causes().map(ToString::to_string).collect();
            format!(
                "\nrun {} {:?} held for {causes:?}, deadline {:?}, now {:?}\n  {}",
                r.run.id,
                r.run.state(),
                r.run.next_deadline(),
                self.now,
                steps.join("\n  ")
            )
        };
        self.runs.iter().filter(|r| !r.run.has_ended()).map(of).collect()
    }

    /// Deadlines are judged: whoever has none left by then does not ask again at once.
    fn tick(&mut self, i: usize) {
        let events = self.runs[i].events.len();
        let orders = self.give(i, Input::Tick);
        let stays = self.runs[i].run.next_deadline().is_some_and(|at| at <= self.now);
        assert!(!stays || orders > 0 || self.runs[i].events.len() > events, "run {i} spins on a deadline: {}", self.open());
    }

    fn happen(&mut self, happening: Happening) {
        match happening {
            Happening::Comes(i, input) => _ = self.give(i, input),
            Happening::Looks(i, climb) => self.looks(i, climb),
            Happening::Arrives(i, step, act, kind) => self.arrives(i, step, act, kind),
            Happening::Ends(i, step, act, end) => self.ends(i, step, act, end),
            Happening::Weather => self.weather(),
            Happening::Begins => self.begin(),
            Happening::Returns(address) => {
                if self.real(&address) == Real::Down {
                    self.becomes(&address, Real::Up);
                }
                self.returned.insert(address, self.now);
            }
        }
    }

    // ---- what is true, and what is seen ----

    pub fn real(&self, address: &Address) -> Real {
        match self.real.get(address).copied().unwrap_or(Real::Down) {
            Real::Rising(Some(at)) if at <= self.now => Real::Up,
            Real::Sinking(Some(at)) if at <= self.now => Real::Down,
            real => real,
        }
    }

    fn is_cut_off(&self, host: &HostName) -> bool {
        self.cut_off.get(host).is_some_and(|until| *until > self.now)
    }

    fn seen(&mut self, address: &Address) -> SeenState {
        if self.is_cut_off(&address.host) {
            return SeenState::OutOfReach;
        }
        if self.bad(0.03) {
            return SeenState::Unknown;
        }
        match self.real(address) {
            Real::Down => SeenState::Down,
            Real::Rising(_) => SeenState::Rising,
            Real::Up => SeenState::Proven,
            Real::Ailing => SeenState::Ailing,
            Real::Sinking(_) => SeenState::Sinking,
        }
    }

    fn facts(&mut self) -> Facts {
        let all: Vec<Address> = self.estate.services.keys().cloned().collect();
        all.into_iter().map(|a| (a.clone(), self.seen(&a))).collect()
    }

    fn becomes(&mut self, address: &Address, real: Real) {
        self.says(|| format!("      {address} becomes {real:?}"));
        self.real.insert(address.clone(), real);
    }

    // ---- runs ----

    fn begin(&mut self) {
        if self.standstill {
            return self.later(5_000, Happening::Begins); // Refused, and asked for again.
        }
        let facts = self.facts();
        let graph = EstateGraph::new(&self.estate);
        let planned = if self.lot.random_bool(0.25) {
            let night = self.estate.procedures[&"night".parse::<ProcedureName>().expect("a name")].clone();
            let asked = Asked {
                values: procedure::settle(&self.estate, &graph, &night, &BTreeMap::new()).expect("no questions"),
                ..Asked::default()
            };
            procedure::plan(&self.estate, &graph, &facts, &Usual::default(), &night, &asked)
        } else {
            let request = drawn::request(&mut self.lot, &self.estate);
            let mut planned = plan(&self.estate, &graph, &facts, &Usual::default(), &request);
            planned.preflight = preflight(&self.estate, &planned.sequence.steps);
            planned
        };
        if !planned.can_begin() {
            return;
        }
        let begun = self.begun(planned);
        let i = self.runs.len();
        self.says(|| format!("run {i} begins: {}", begun.sequence.of.says()));
        let run = Run::begin(RunId(i as u64 + 1), self.now, begun.clone());
        let events = vec![(self.now, Event::Begun(Box::new(begun)))];
        self.runs.push(Played {
            run,
            events,
            told: BTreeMap::new(),
            asked: BTreeMap::new(),
            restricted: BTreeMap::new(),
            was_held: false,
            was_still: false,
            decided: 0,
        });
        self.carry(i, vec![Order::TakeLocks]);
    }

    fn begun(&mut self, planned: Plan) -> Begun {
        let at_once = one_of(&mut self.lot, &[None, None, Some(1), Some(2)]);
        let held_at_most = if self.lot.random_bool(0.1) { "60s".parse().ok() } else { None };
        let begun = Begun::of(planned, &self.estate, self.edition, "maren", &BTreeMap::new());
        Begun { at_once, held_at_most: held_at_most.or(begun.held_at_most), ..begun }
    }

    /// Gives a run something: how many orders came of it.
    pub fn give(&mut self, i: usize, input: Input) -> usize {
        if self.runs[i].run.has_ended() {
            return 0;
        }
        self.says(|| format!("run {i} < {}", brief(&input)));
        let asked = match &input {
            Input::FreshLooked { step, .. } => self.runs[i].asked.get(step).copied(),
            _ => None,
        };
        self.is_told(i, &input);
        let mut rooms = Rooms::new(&self.estate);
        self.runs.iter().for_each(|r| r.run.rooms_taken().for_each(|room| rooms.take(&room)));
        let played = &mut self.runs[i];
        played.was_held = played.run.hold_no().is_some();
        played.was_still = played.run.hold_causes().any(|c| matches!(c, HoldCause::Standstill));
        let before = played.run.clone();
        let decision = matches!(input, Input::Decide(_)).then(|| input.clone());
        let taken = match played.run.take(input, self.now, &mut rooms) {
            Ok(taken) => taken,
            Err(why) => panic!("{decision:?} was refused, and was allowed: {why}"),
        };
        if !taken.events.is_empty() && self.bad(0.002) {
            return self.disk_full(i, before);
        }
        let played = &mut self.runs[i];
        for event in taken.events {
            if let Event::StepEnded { step, end: StepEnd::Done | StepEnd::Unneeded } = &event
                && let Some(on) = played.run.begun.sequence.step(*step).service()
            {
                let state = if on.kind == StepKind::Stop { SeenState::Down } else { SeenState::Proven };
                // A step that was waited for by nobody's look is not told again as it was before.
                if asked.is_none() || on.kind == StepKind::Stop || played.told.get(&on.address) != Some(&SeenState::Proven) {
                    played.told.insert(on.address.clone(), state);
                }
            }
            if self.tells {
                eprintln!("{:>9} run {i} * {}", self.now.since(self.began).as_millis(), event_brief(&event));
            }
            played.events.push((self.now, event));
        }
        let orders = taken.orders.len();
        if self.bad(0.001) {
            self.killed(); // Stored, and not carried out.
            return orders;
        }
        self.carry(i, taken.orders);
        orders
    }

    /// The disk is full: nothing of it counts, and the run is as it was stored.
    fn disk_full(&mut self, i: usize, before: Run) -> usize {
        self.says(|| format!("run {i} ! the disk is full"));
        self.came_to.insert("disk full");
        let stored = Run::replay(before.id, self.runs[i].events.clone()).expect("it was begun");
        self.runs[i].run = stored;
        self.climbing.retain(|(r, _), _| *r != i);
        let why = HoldCause::Storage { why: "no space".to_owned() };
        // Once there is room again it is picked up as after a death, in the same process.
        self.give_quietly(i, Input::Hold(why.clone()));
        self.give_quietly(i, Input::Unhold { cause: why, by: "there is room".to_owned() });
        let orders = self.runs[i].run.recover();
        self.carry(i, orders);
        1
    }

    /// Gives something whose orders nobody carries out.
    fn give_quietly(&mut self, i: usize, input: Input) {
        let mut rooms = Rooms::unlimited();
        let taken = self.runs[i].run.take(input, self.now, &mut rooms).expect("no decision");
        let acts = taken.orders.iter().filter(|o| matches!(o, Order::Act { .. })).count();
        let now = self.now;
        self.runs[i].events.extend(taken.events.into_iter().map(|e| (now, e)));
        assert_eq!(acts, 0, "an act was ordered that nobody gives");
    }

    fn carry(&mut self, i: usize, orders: Vec<Order>) {
        for order in orders {
            self.says(|| format!("run {i} > {order:?}"));
            if let Order::FreshLook { step, .. } = &order {
                let now = self.now;
                self.runs[i].asked.insert(*step, now);
            }
            self.at = i;
            let run = self.runs[i].run.clone();
            self.carry_out(&run, order);
        }
    }

    fn is_told(&mut self, i: usize, input: &Input) {
        let played = &mut self.runs[i];
        match input {
            Input::FirstLooked { seen, .. } | Input::FinalLooked { seen } => played.told.extend(seen.clone()),
            Input::FreshLooked { step, seen } => {
                let asked = played.asked.get(step).copied().unwrap_or(self.now);
                for (address, state) in seen {
                    // What was proven since the look was asked for is not rising any more.
                    let proven = played.run.steps_on(address).any(|(s, n)| {
                        s.kind() != StepKind::Stop && n.state == StepState::Ended(StepEnd::Done) && n.ended_at.is_some_and(|at| at >= asked)
                    });
                    if !(*state == SeenState::Rising && proven) {
                        played.told.insert(address.clone(), *state);
                    }
                }
            }
            Input::Seen { address, state, .. } => _ = played.told.insert(address.clone(), *state),
            _ => {}
        }
    }

    // ---- what comes from outside ----

    fn weather(&mut self) {
        let next = self.lot.random_range(200..1500);
        self.later(next, Happening::Weather);
        if self.is_calm() {
            return self.calm();
        }
        match self.lot.random_range(0..26) {
            0 => self.somebody_changes(Real::Down),
            1 => self.somebody_changes(Real::Up),
            2 => self.somebody_changes(Real::Ailing),
            3 => {
                let host = one_of(&mut self.lot, &["h1", "h2"]).parse().expect("a name");
                let until = self.now + Duration::from_millis(self.lot.random_range(500..25_000));
                self.says(|| format!("      {host} is cut off"));
                self.cut_off.insert(host, until);
            }
            4 | 5 => self.killed(),
            6..=9 => self.somebody_decides(),
            10 if !self.standstill => self.standstill_is(true),
            10..=12 if self.standstill => self.standstill_is(false),
            13 => self.edition(),
            14 => self.freezes(),
            15 => {
                let by_ms = self.lot.random_range(-60_000..60_000);
                (0..self.runs.len()).for_each(|i| _ = self.give(i, Input::ClockStepped { by_ms }));
            }
            16 => {
                let (who, i) = ("tove".to_owned(), self.a_run());
                let input = if self.lot.random_bool(0.5) { Input::TakeOn { who } } else { Input::Note { who, text: "so".into() } };
                i.into_iter().for_each(|i| _ = self.give(i, input.clone()));
            }
            _ => {}
        }
        self.board();
    }

    /// What the board sees is told to whoever is answerable for it.
    fn board(&mut self) {
        let all: Vec<Address> = self.estate.services.keys().cloned().collect();
        for address in all {
            let state = self.seen(&address);
            if state == SeenState::Unknown {
                continue;
            }
            for i in 0..self.runs.len() {
                if self.runs[i].run.is_news(&address, state) && !self.runs[i].run.has_ended() {
                    self.give(i, Input::Seen { address: address.clone(), state, says: "by the board".to_owned() });
                }
            }
        }
    }

    fn somebody_changes(&mut self, real: Real) {
        let all: Vec<Address> = self.estate.services.keys().cloned().collect();
        let address = all.choose(&mut self.lot).expect("there is one").clone();
        if (real == Real::Ailing && self.real(&address) != Real::Up) || self.real(&address) == real {
            return;
        }
        self.outside.insert(address.clone(), self.now);
        self.becomes(&address, real);
    }

    fn a_run(&mut self) -> Option<usize> {
        let open: Vec<usize> = (0..self.runs.len()).filter(|i| !self.runs[*i].run.has_ended()).collect();
        open.choose(&mut self.lot).copied()
    }

    fn somebody_decides(&mut self) {
        let Some(i) = self.a_run() else { return };
        self.only_what_is_offered_is_taken(i);
        let run = &self.runs[i].run;
        if run.divert_leads_to().is_some() && self.lot.random_bool(0.1) {
            let kind = DecisionKind::Divert { procedure: "dusk".parse().expect("a name") };
            return self.decide(i, kind, self.runs[i].run.hold_no());
        }
        let allowed = run.allowed();
        let Some(one) = allowed.choose(&mut self.lot).cloned() else { return };
        if one.kind == DecisionKind::GiveUp && self.lot.random_bool(0.7) {
            return;
        }
        self.decide(i, one.kind, one.hold);
    }

    /// What a run says may be decided now is what it takes, and nothing else (R30).
    fn only_what_is_offered_is_taken(&self, i: usize) {
        let run = &self.runs[i].run;
        let offered: Vec<DecisionKind> = run.allowed().into_iter().map(|a| a.kind).collect();
        let divert = DecisionKind::Divert { procedure: "dusk".parse().expect("a name") };
        let mut all = vec![DecisionKind::Hold, DecisionKind::Resume, DecisionKind::PutBack, DecisionKind::GiveUp, divert];
        for (step, now) in run.steps().map(|(s, now)| (s.id, now)).filter(|(_, now)| !now.state.has_ended()) {
            all.extend([DecisionKind::TryAgain { step, change: None }, DecisionKind::PassOver { step }, DecisionKind::Vouch { step }]);
            all.push(DecisionKind::Force { step });
            if matches!(now.state, StepState::Asking { answer: Some(_), .. }) {
                all.push(DecisionKind::Answer { step, value: "yes".to_owned() });
            }
        }
        let at_work: BTreeSet<&Address> = run.steps().filter(|(_, n)| !n.state.has_ended()).filter_map(|(s, _)| s.address()).collect();
        all.extend(at_work.into_iter().map(|a| DecisionKind::Release { address: a.clone() }));
        for kind in all {
            let is_offered = match &kind {
                DecisionKind::Divert { .. } => run.divert_leads_to().is_some(),
                DecisionKind::Answer { step, .. } => offered.iter().any(|o| matches!(o, DecisionKind::Answer { step: s, .. } if s == step)),
                // What changed is resumed by what was shown of it: see `resume_anew`.
                DecisionKind::Resume if run.hold_causes().any(|c| matches!(c, HoldCause::Changed { .. })) => false,
                // A second hand on the hold changes nothing, and is no fault.
                DecisionKind::Hold if run.hold_no().is_some() => continue,
                kind => offered.contains(kind),
            };
            let decision = Decision { kind: kind.clone(), hold: run.hold_no(), who: "tove".to_owned(), why: Some("so".to_owned()) };
            let taken = run.clone().take(Input::Decide(decision), self.now, &mut Rooms::new(&self.estate));
            let causes: Vec<&HoldCause> = run.hold_causes().collect();
            assert_eq!(
                taken.is_ok(),
                is_offered,
                "run {i}: {kind:?} is {}offered; held by {causes:?}: {taken:?}",
                if is_offered { "" } else { "not " }
            );
        }
    }

    fn decide(&mut self, i: usize, kind: DecisionKind, hold: Option<u32>) {
        self.says(|| format!("run {i} ? {kind:?}"));
        let kind = match kind {
            DecisionKind::Answer { step, value } if value.is_empty() => DecisionKind::Answer { step, value: "x".to_owned() },
            kind => kind,
        };
        let decision = Decision { kind, hold, who: "tove".to_owned(), why: Some("for the test".to_owned()) };
        let changed = self.runs[i].run.hold_causes().any(|c| matches!(c, HoldCause::Changed { .. }));
        if decision.kind == DecisionKind::Resume && changed {
            return self.resume_anew(i, decision);
        }
        self.give(i, Input::Decide(decision));
    }

    /// What changed is shown anew, and confirmed so.
    fn resume_anew(&mut self, i: usize, decision: Decision) {
        let facts = self.facts();
        let graph = EstateGraph::new(&self.estate);
        let newest = Newest { edition: self.edition, estate: &self.estate, graph: &graph };
        let Some(plan) = again(&newest, &self.runs[i].run.begun, &facts, &Usual::default()).filter(Plan::can_begin) else { return };
        let begun = Begun::of(plan, &self.estate, self.edition, "maren", &BTreeMap::new());
        let id = self.runs[i].run.id;
        let wanted = Run::begin(id, self.now, begun.clone());
        if self.locks.take(id, &wanted.wants()).is_err() {
            return; // Others have what it would act on: refused.
        }
        self.give(i, Input::Replanned { begun: Box::new(begun), decision });
    }

    fn standstill_is(&mut self, on: bool) {
        self.standstill = on;
        for i in 0..self.runs.len() {
            let input =
                if on { Input::Hold(HoldCause::Standstill) } else { Input::Unhold { cause: HoldCause::Standstill, by: "tove".to_owned() } };
            self.give(i, input);
        }
    }

    /// A new edition, which says something otherwise of one service.
    fn edition(&mut self) {
        let all: Vec<Address> = self.estate.services.keys().cloned().collect();
        let address = all.choose(&mut self.lot).expect("there is one").clone();
        let mut service = self.estate.services[&address].as_ref().clone();
        match self.lot.random_range(0..3) {
            0 if service.hands_off.is_none() => service.hands_off = Some("others see to it".to_owned()),
            0 => service.hands_off = None,
            1 => service.stop.force = Force::Never,
            _ => service.stop.force = Force::Ask,
        }
        self.estate.services.insert(address, std::sync::Arc::new(service));
        self.edition += 1;
        self.says(|| format!("      edition {}", self.edition));
        for i in 0..self.runs.len() {
            self.tightened(i);
        }
    }

    fn tightened(&mut self, i: usize) {
        let restricted = restrictions(&self.runs[i].run.begun, &self.estate);
        self.runs[i].restricted.clone_from(&restricted);
        self.give(i, Input::Restricted(restricted));
    }

    fn freezes(&mut self) {
        self.frozen = if self.frozen.is_empty() {
            BTreeMap::from([("ball".to_owned(), Frozen { says: "the ball is a change freeze".to_owned(), impact: ImpactLevel::None })])
        } else {
            BTreeMap::new()
        };
        for i in 0..self.runs.len() {
            self.give(i, Input::Frozen(self.frozen.clone()));
        }
    }

    /// The server is killed, and started again: what was under way in it is lost, what was begun outside goes on.
    fn killed(&mut self) {
        self.says(|| "      KILLED".to_owned());
        self.came_to.insert("killed");
        self.happens.retain(|_, h| !matches!(h, Happening::Comes(..) | Happening::Looks(..)));
        self.climbing.clear();
        self.locks = Locks::default();
        for played in &mut self.runs {
            let replayed = Run::replay(played.run.id, played.events.clone()).expect("it was begun");
            super::always::same(&played.run, &replayed);
            played.run = replayed;
        }
        let away = self.lot.random_range(0..3_000);
        let away = if self.bad(0.1) { 400_000 } else { away };
        let open: Vec<usize> = (0..self.runs.len()).filter(|i| !self.runs[*i].run.has_ended()).collect();
        for i in &open {
            let run = &self.runs[*i].run;
            if run.has_locks() {
                self.locks.take(run.id, &run.wants()).expect("nobody else has what it had");
            }
        }
        for i in open {
            let orders = self.runs[i].run.recover();
            self.give(i, Input::Away { for_ms: away });
            if self.standstill {
                self.give(i, Input::Hold(HoldCause::Standstill));
            }
            self.tightened(i);
            self.carry(i, orders);
        }
    }

    /// In a calm world whatever waits for somebody is decided: patiently at first, and then it is given up.
    fn calm(&mut self) {
        self.cut_off.clear();
        if self.standstill {
            self.standstill_is(false);
        }
        if !self.frozen.is_empty() {
            self.freezes();
        }
        // What is in a bad way is seen to by others.
        let all: Vec<Address> = self.estate.services.keys().cloned().collect();
        for address in all {
            if matches!(self.real(&address), Real::Ailing | Real::Rising(None) | Real::Sinking(None)) {
                let gone = self.lot.random_bool(0.5);
                self.outside.insert(address.clone(), self.now);
                self.becomes(&address, if gone { Real::Down } else { Real::Up });
            }
        }
        self.board();
        for i in 0..self.runs.len() {
            let run = &self.runs[i].run;
            let waits = run.hold_no().is_some() || run.steps().any(|(_, n)| matches!(n.state, StepState::Asking { .. }));
            if run.has_ended() || !waits {
                continue;
            }
            self.runs[i].decided += 1;
            let allowed = self.runs[i].run.allowed();
            let wanted = |kind: &DecisionKind| match kind {
                DecisionKind::Hold => false,
                DecisionKind::GiveUp => self.runs[i].decided > PATIENT_FOR,
                _ => true,
            };
            let may: Vec<_> = allowed.into_iter().filter(|a| wanted(&a.kind)).collect();
            let one = match may.choose(&mut self.lot) {
                Some(one) if self.runs[i].decided <= PATIENT_FOR => one.clone(),
                _ => match self.runs[i].run.allowed().into_iter().find(|a| a.kind == DecisionKind::GiveUp) {
                    Some(one) => one,
                    None => continue, // Given up already: what is in flight is awaited.
                },
            };
            self.decide(i, one.kind, one.hold);
        }
    }

    // ---- acts ----

    fn arrives(&mut self, i: usize, step: StepId, act: ActId, kind: ActKind) {
        if self.recorded.get(&(i, act)) != Some(&Recorded::OnItsWay) {
            return; // It was burnt meanwhile.
        }
        self.recorded.insert((i, act), Recorded::Begun);
        self.give(i, Input::ActBegun { step, act, begun: begun() });
        let Some(address) = self.runs[i].run.begun.sequence.step(step).address().cloned() else {
            return self.work_goes_on(i, step, act);
        };
        let ends_in = self.lot.random_range(1..200);
        match kind {
            ActKind::Start => {
                self.started_once(i, step, &address);
                let in_time = self.now + Duration::from_millis(self.lot.random_range(50..3_000));
                let late = self.now + Duration::from_millis(self.lot.random_range(8_000..25_000));
                let real = match self.lot.random_range(0..20) {
                    0 | 1 if !self.is_calm() => Real::Down,
                    2 if !self.is_calm() => Real::Rising(None),
                    3 if !self.is_calm() => Real::Rising(Some(late)),
                    _ => Real::Rising(Some(in_time)),
                };
                self.becomes(&address, real);
                let goes_on = matches!(self.estate.services[&address].runner, ServiceRunner::Process(_));
                if real == Real::Down {
                    self.later(ends_in, Happening::Ends(i, step, act, exited(1)));
                } else if !goes_on {
                    self.later(ends_in, Happening::Ends(i, step, act, exited(0)));
                }
            }
            ActKind::Stop | ActKind::Clear => {
                let real = self.real(&address);
                let in_time = self.now + Duration::from_millis(self.lot.random_range(20..2_500));
                match self.lot.random_range(0..12) {
                    0 if !self.is_calm() => {}
                    1 if !self.is_calm() && real != Real::Down => self.becomes(&address, Real::Sinking(None)),
                    _ if real != Real::Down => {
                        self.becomes(&address, Real::Sinking(Some(in_time)));
                        if self.estate.services[&address].brought_back_by.is_some() {
                            let after = self.lot.random_range(2_600..9_000);
                            self.later(after, Happening::Returns(address.clone()));
                        }
                    }
                    _ => {}
                }
                let code = i32::from(self.bad(0.05));
                self.later(ends_in, Happening::Ends(i, step, act, exited(code)));
            }
            ActKind::Force => {
                if self.real(&address) != Real::Down {
                    let soon = self.now + Duration::from_millis(50);
                    self.becomes(&address, Real::Sinking(Some(soon)));
                }
                self.later(ends_in, Happening::Ends(i, step, act, ActEnd::Sent));
            }
            ActKind::Evidence(_) | ActKind::Reload | ActKind::Further => {
                let code = i32::from(self.bad(0.1));
                self.later(ends_in, Happening::Ends(i, step, act, exited(code)));
            }
            ActKind::Work | ActKind::Announce => self.work_goes_on(i, step, act),
        }
    }

    fn work_goes_on(&mut self, i: usize, step: StepId, act: ActId) {
        let takes = self.lot.random_range(10..6_000);
        let code = i32::from(self.bad(0.15));
        self.later(takes, Happening::Ends(i, step, act, exited(code)));
    }

    fn ends(&mut self, i: usize, step: StepId, act: ActId, end: ActEnd) {
        if !matches!(self.recorded.get(&(i, act)), Some(Recorded::Begun)) {
            return;
        }
        if self.bad(0.04) {
            self.recorded.insert((i, act), Recorded::Unknown);
            self.give(i, Input::ActUnknown { step, act });
        } else {
            self.recorded.insert((i, act), Recorded::Ended(end.clone()));
            self.give(i, Input::ActEnded { step, act, end });
        }
    }

    fn looks(&mut self, i: usize, climb: Climb) {
        if self.climbing.get(&(i, climb.step)) != Some(&climb) {
            return;
        }
        let again = self.lot.random_range(80..400);
        self.later(again, Happening::Looks(i, climb));
        let Climb { step, attempt, kind, .. } = climb;
        let blind = self.bad(0.04);
        let run = &self.runs[i].run;
        let StepState::Proving { climbed, .. } = run.step_now(step).state else { return };
        let rungs = self.rungs(run, climb);
        let rung = if climbed < rungs { climbed } else { (self.now.as_ms() as u32 / 7) % rungs.max(1) };
        let address = run.begun.sequence.step(step).address().cloned();
        let answer = match address.filter(|_| run.begun.sequence.step(step).task().is_none()) {
            None => Answer::holds("so"),
            Some(address) if self.is_cut_off(&address.host) || blind => Answer::could_not("nobody could look"),
            Some(address) => {
                let process = matches!(self.estate.services[&address].runner, ServiceRunner::Process(_));
                let acted = run.step_now(step).acts.last().map(|a| a.intended_at);
                let returned = self.returned.get(&address).is_some_and(|at| acted.is_some_and(|acted| *at >= acted));
                match (kind, self.real(&address)) {
                    (StepKind::Stop, _) if returned => Answer::holds("it is another process"),
                    (StepKind::Stop, Real::Down) => Answer::holds("gone"),
                    (StepKind::Stop, _) => Answer::not_yet("still there"),
                    (_, Real::Up) => Answer::holds("so"),
                    (_, Real::Down) if process => Answer::against("its process ended"),
                    (_, Real::Ailing) if rung + 1 < rungs => Answer::holds("so"),
                    (_, Real::Down | Real::Rising(_) | Real::Ailing | Real::Sinking(_)) => Answer::not_yet("not so"),
                }
            }
        };
        self.give(i, Input::RungLooked { step, attempt, rung, answer, logs: vec![] });
    }

    fn rungs(&self, run: &Run, climb: Climb) -> u32 {
        let planned = run.begun.sequence.step(climb.step);
        match planned.address().and_then(|a| run.begun.services.get(a)) {
            Some(service) if planned.task().is_none() => service.ladder_of(climb.kind).len() as u32,
            _ => run.carried(climb.step, false).map_or(1, |s| s.ladder.len() as u32),
        }
    }

    // ---- the end ----

    fn at_the_end(&mut self) {
        for i in 0..self.runs.len() {
            self.came_to.insert(self.runs[i].run.state().word());
            let held = self.runs[i].events.iter().any(|(_, e)| matches!(e, Event::Held { .. }));
            let acts = self.runs[i].events.iter().any(|(_, e)| matches!(e, Event::ActIntended { .. }));
            self.came_to.extend(held.then_some("held"));
            self.came_to.extend(acts.then_some("acts"));
            self.ended_truly(i);
        }
    }
}

fn exited(code: i32) -> ActEnd {
    ActEnd::Exited { code, output: String::new() }
}

fn begun() -> ActBegun {
    ActBegun { command: vec![], dir: "/".into(), user: "x".into(), ..ActBegun::default() }
}

fn brief(input: &Input) -> String {
    let text = format!("{input:?}");
    text.chars().take(220).collect()
}

fn event_brief(event: &Event) -> String {
    let text = format!("{event:?}");
    text.chars().take(260).collect()
}

impl Stage for Hostile {
    fn comes(&mut self, _run: &Run, input: Input) {
        let after = if self.bad(0.05) { self.lot.random_range(300..2_500) } else { self.lot.random_range(0..120) };
        self.later(after, Happening::Comes(self.at, input));
    }

    fn look(&mut self, _run: &Run, addresses: Vec<Address>) -> BTreeMap<Address, SeenState> {
        addresses.into_iter().map(|a| (a.clone(), self.seen(&a))).collect()
    }

    fn take_locks(&mut self, run: &Run) {
        self.locks.wait(run.id);
        self.serve();
    }

    fn unconfirmed(&mut self, run: &Run, seen: &BTreeMap<Address, SeenState>) -> Vec<String> {
        let graph = EstateGraph::new(&self.estate);
        let mut facts = self.facts();
        facts.0.extend(seen.clone());
        unconfirmed(&Newest { edition: self.edition, estate: &self.estate, graph: &graph }, &run.begun, &facts, seen)
    }

    fn preflight(&mut self, _run: &Run, _look: &Preflight) -> Answer {
        if self.bad(0.05) { Answer::against("not any more") } else { Answer::holds("so") }
    }

    fn divert(&mut self, run: &Run, procedure: &ProcedureName, failed: &str, reason: &str) -> Result<Divert, String> {
        let facts = self.facts();
        let graph = EstateGraph::new(&self.estate);
        let after = run.begun.sequence.steps.len() as u32;
        let planned = plan_divert(&self.estate, &graph, &facts, &Usual::default(), procedure, [failed, reason], after)?;
        let wants = run.wants_for(&planned.steps, planned.services.keys().cloned().collect(), &planned.services);
        self.locks.take(run.id, &wants).map_err(|_| "others have what it needs".to_owned())?;
        Ok(planned)
    }

    fn act(&mut self, run: &Run, step: StepId, act: ActId, kind: ActKind) {
        let i = self.at;
        assert!(!self.recorded.contains_key(&(i, act)), "act {} was given twice", act.0);
        self.always(i, run, step, kind);
        let host = run.begun.sequence.step(step).host().cloned();
        let is_cut = host.is_some_and(|h| self.is_cut_off(&h));
        if self.bad(0.02) {
            let end = ActEnd::Refused { why: "it is refused".to_owned(), mend: "let it".to_owned() };
            self.recorded.insert((i, act), Recorded::Ended(end.clone()));
            return self.later(5, Happening::Comes(i, Input::ActEnded { step, act, end }));
        }
        if is_cut || self.bad(0.02) {
            self.recorded.insert((i, act), Recorded::NeverBegun);
            let after = self.lot.random_range(100..9_000);
            let input = if self.lot.random_bool(0.7) { Input::ActNeverBegun { step, act } } else { Input::ActUnknown { step, act } };
            return self.later(after, Happening::Comes(i, input));
        }
        self.recorded.insert((i, act), Recorded::OnItsWay);
        let after = self.lot.random_range(1..60);
        self.later(after, Happening::Arrives(i, step, act, kind));
    }

    fn find(&mut self, _run: &Run, step: StepId, act: ActId, _kind: ActKind) {
        let i = self.at;
        let known = self.recorded.get(&(i, act)).cloned();
        let input = match known {
            // It is burnt, so that it is never begun any more.
            None | Some(Recorded::OnItsWay | Recorded::NeverBegun) => {
                self.recorded.insert((i, act), Recorded::NeverBegun);
                Input::ActNeverBegun { step, act }
            }
            Some(Recorded::Begun) => Input::ActBegun { step, act, begun: begun() },
            Some(Recorded::Ended(end)) => {
                self.later(1, Happening::Comes(i, Input::ActBegun { step, act, begun: begun() }));
                Input::ActEnded { step, act, end }
            }
            Some(Recorded::Unknown) => Input::ActUnknown { step, act },
        };
        self.later(5, Happening::Comes(i, input));
    }

    fn climb(&mut self, _run: &Run, climb: Climb) {
        let i = self.at;
        self.climbing.insert((i, climb.step), climb);
        self.later(5, Happening::Looks(i, climb));
    }

    fn stop_looking(&mut self, _run: &Run, step: StepId) {
        self.climbing.remove(&(self.at, step));
    }

    fn watch_log(&mut self, run: &Run, step: StepId, attempt: u32) {
        if self.bad(0.05) {
            let rungs = run.service(step).ladder_of(StepKind::Start).len() as u32;
            let answer = Answer::against("a forbidden line");
            let after = self.lot.random_range(100..20_000);
            let input = Input::RungLooked { step, attempt, rung: rungs.saturating_sub(1), answer, logs: vec![] };
            self.later(after, Happening::Comes(self.at, input));
        }
    }

    fn recall(&mut self, _run: &Run, step: StepId, act: ActId) {
        let end = ActEnd::Signalled { signal: 15, output: String::new() };
        self.later(5, Happening::Ends(self.at, step, act, end));
    }

    fn unlock(&mut self, run: &Run, address: &Address) {
        assert!(run.is_released(address) && run.in_flight().all(|a| a != address), "{address} is let go of while it is worked on");
        self.locks.release_one(run.id, address);
        self.serve();
    }

    fn release(&mut self, run: &Run) {
        self.locks.release(run.id);
        self.serve();
    }
}

impl Hostile {
    /// Gives locks to whoever waits.
    fn serve(&mut self) {
        let runs = &self.runs;
        let wants = |id: RunId| runs.get(id.0 as usize - 1).filter(|r| !r.run.has_ended()).map(|r| r.run.wants());
        let served = self.locks.serve(wants);
        for (run, outcome) in served {
            let input = match outcome {
                Ok(()) => Input::Locked,
                Err(behind) => Input::Queued { behind: behind.into_iter().map(|r| r.to_string()).collect() },
            };
            self.later(0, Happening::Comes(run.0 as usize - 1, input));
        }
    }
}
