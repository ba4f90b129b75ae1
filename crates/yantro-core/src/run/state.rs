//! A run's state: the fold of its events. Nothing is decided here.

mod fold;
mod step;

pub(super) use step::LookAhead;
pub use step::{ActNow, RunState, RungSeen, StepNow, StepState, state_words};

use std::{
    cmp::Reverse,
    collections::{BTreeMap, BTreeSet, HashMap},
    sync::Arc,
    time::Duration,
};

use crate::{
    holders::{Room, Wants},
    model::{IfItFails, RungKind, Service, ServiceRunner, task::Task},
    plan::{Part, Preflight, Release, Step, StepId},
    proof::{Answer, SeenState},
    run::{
        Event,
        acts::{ActId, ActKind},
        begun::Begun,
        ends::{Difference, Otherwise, RunEnd, StepEnd},
        holds::{Frozen, HoldCause, Restriction},
        id::RunId,
    },
    words::{
        kinds::StepKind,
        name::{Address, ProcedureName},
        time::{Span, Timestamp},
    },
};

/// How long a queued run waits for its locks (R7).
const QUEUE_PATIENCE: Duration = Duration::from_secs(30 * 60);
/// How long the answer to a look that may not wait is waited for.
const ANSWER_WITHIN: Duration = Duration::from_secs(15);

/// A run.
#[derive(Debug, Clone, PartialEq)]
pub struct Run {
    /// Its number.
    pub id: RunId,
    /// How it began.
    pub begun: Begun,
    /// When it began.
    pub began_at: Timestamp,
    pub(super) locked: bool,
    pub(super) first_looked: bool,
    pub(super) queued_behind: Vec<String>,
    /// When it is given up where it has no locks yet.
    queue_ends: Timestamp,
    pub(super) steps: Vec<StepNow>,
    waiters: Vec<Vec<(StepId, Release)>>,
    /// Steps whose waits are over and that have not begun, the longest tail first.
    pub(super) ready: BTreeSet<(Reverse<u64>, StepId)>,
    /// Steps whose work goes on only while a service is down, or up.
    pub(super) beside: BTreeMap<Address, Vec<StepId>>,
    /// Those of them that are not being looked at for their act.
    pub(super) unasked: BTreeSet<(Reverse<u64>, StepId)>,
    /// The event with which its steps became others.
    pub(super) whole_from: u64,
    /// How often one became ready so far.
    pub(super) became_ready: u64,
    /// Steps that take up room.
    pub(super) in_flight: BTreeSet<StepId>,
    left: u32,
    hold_no: u32,
    causes: BTreeSet<HoldCause>,
    pub(super) last_decision: Option<String>,
    pub(super) giving_up: bool,
    /// How what it is answerable for was last seen.
    pub(super) seen: BTreeMap<Address, SeenState>,
    /// What the last look before an act could not look at. Not part of the fold.
    pub(super) unseen: BTreeSet<Address>,
    pub(super) lost: BTreeMap<Address, Timestamp>,
    /// Services an operator released from it.
    pub(super) released: BTreeSet<Address>,
    end: Option<(Timestamp, RunEnd, Vec<Difference>)>,
    events: u64,
    acts: u32,
    /// Whether a final look is under way. Not part of the fold.
    pub(super) final_looking: bool,
    pub(super) exceptions: bool,
    /// The part it is in.
    pub(super) part: Part,
    /// Whether the steps of that part are there.
    pub(super) part_planned: bool,
    /// What takes over, what failed and why.
    pub(super) divert: Option<(ProcedureName, String, String)>,
    /// Whether what takes over is being worked out. Not part of the fold.
    pub(super) divert_asked: bool,
    /// What is known by name: answers, and pieces of output.
    pub(super) values: BTreeMap<String, String>,
    /// When the looks before the first act were taken, while they count.
    pub(super) preflighted_at: Option<Timestamp>,
    /// Whether they are being taken. Not part of the fold.
    pub(super) preflighting: bool,
    pub(super) preflight: Vec<(Preflight, Answer)>,
    /// Whether the last moment to put back has passed.
    pub(super) past_last_moment: bool,
    /// Since when it is held.
    pub(super) held_since: Option<Timestamp>,
    pub(super) frozen: BTreeMap<String, Frozen>,
    /// What the newest edition restricts of its services (R25).
    pub(super) restrictions: BTreeMap<Address, Restriction>,
    /// Steps that an operator has ordered to be forced: evidence first, then the force.
    pub(super) forced: BTreeSet<StepId>,
    /// What stands otherwise than it was to be left, once it ended.
    otherwise: Vec<Otherwise>,
    pub(super) notes: Vec<(Timestamp, String, String)>,
    pub(super) taken_by: Option<(Timestamp, String)>,
    /// Who relies on whom, of all that it knows of: looked up at every stop.
    reliant: BTreeMap<Address, BTreeSet<Address>>,
    /// The steps on each service, in order: looked up at every look.
    on: HashMap<Address, Vec<StepId>>,
    /// See [`Run::vouched`].
    vouched: BTreeSet<Address>,
}

impl Run {
    /// A run from its first event. Anything but `Begun` cannot begin one.
    pub fn begin(id: RunId, at: Timestamp, begun: Begun) -> Self {
        let mut run = Self {
            id,
            seen: begun.as_found.clone(),
            began_at: at,
            locked: false,
            first_looked: false,
            queued_behind: Vec::new(),
            queue_ends: at + QUEUE_PATIENCE,
            steps: Vec::new(),
            waiters: Vec::new(),
            ready: BTreeSet::new(),
            beside: BTreeMap::new(),
            unasked: BTreeSet::new(),
            became_ready: 0,
            whole_from: 0,
            in_flight: BTreeSet::new(),
            left: 0,
            hold_no: 0,
            causes: BTreeSet::new(),
            last_decision: None,
            giving_up: false,
            unseen: BTreeSet::new(),
            lost: BTreeMap::new(),
            released: BTreeSet::new(),
            end: None,
            events: 1,
            acts: 0,
            final_looking: false,
            exceptions: false,
            part: Part::Forward,
            part_planned: true,
            divert: None,
            divert_asked: false,
            values: begun.values.clone(),
            preflighted_at: None,
            preflighting: false,
            preflight: Vec::new(),
            past_last_moment: false,
            held_since: None,
            frozen: BTreeMap::new(),
            restrictions: BTreeMap::new(),
            forced: BTreeSet::new(),
            otherwise: Vec::new(),
            notes: Vec::new(),
            taken_by: None,
            reliant: BTreeMap::new(),
            on: HashMap::new(),
            vouched: BTreeSet::new(),
            begun,
        };
        run.note_relations();
        let steps = run.begun.sequence.steps.clone();
        run.add_steps(&steps);
        run
    }

    /// A step waits for nothing any more but its turn.
    pub(super) fn becomes_ready(&mut self, tail_ms: u64, step: StepId) {
        self.ready.insert((Reverse(tail_ms), step));
        self.unasked.insert((Reverse(tail_ms), step));
        self.became_ready += 1;
    }

    /// A step has begun or ended.
    pub(super) fn is_ready_no_more(&mut self, tail_ms: u64, step: StepId) {
        self.ready.remove(&(Reverse(tail_ms), step));
        self.unasked.remove(&(Reverse(tail_ms), step));
    }

    /// A step is looked at for its act from now on, or is not any more.
    pub(super) fn is_looked_at(&mut self, step: StepId, looking: bool) -> bool {
        let place = (Reverse(self.begun.sequence.step(step).tail_ms), step);
        if looking {
            self.unasked.remove(&place);
        } else if self.ready.contains(&place) {
            self.unasked.insert(place);
        }
        std::mem::replace(&mut self.step_mut(step).looking, looking)
    }

    /// Makes room for steps that are in the sequence by now.
    fn add_steps(&mut self, added: &[Step]) {
        self.waiters.resize_with(self.waiters.len() + added.len(), Vec::new);
        for step in added {
            if let Some(address) = step.address() {
                self.on.entry(address.clone()).or_default().push(step.id);
            }
            for (address, _) in step.meanwhile() {
                self.beside.entry(address.clone()).or_default().push(step.id);
            }
            for wait in &step.waits {
                self.waiters[wait.step.0 as usize - 1].push((step.id, wait.release));
            }
            if step.waits.is_empty() {
                self.becomes_ready(step.tail_ms, step.id);
            }
            self.steps.push(StepNow {
                state: StepState::Waiting,
                attempts: 0,
                began_at: None,
                ended_at: None,
                acts: Vec::new(),
                rungs: Vec::new(),
                stood_otherwise: None,
                changed: self.events,
                released: false,
                open_waits: step.waits.len() as u32,
                tries: 0,
                looking: false,
                look_again_at: None,
                ahead: None,
                look_ahead_at: None,
                look_since: None,
                last_answer: None,
            });
        }
        self.left += added.len() as u32;
    }

    /// What of it follows from its events alone: what was looked at, asked for and remembered of looks in this process is left
    /// out. Replaying gives the same.
    pub fn lasting(&self) -> Self {
        let mut run = Self { final_looking: false, divert_asked: false, preflighting: false, ..self.clone() };
        // Everything is looked at again before anything hangs on it.
        run.seen.clear();
        run.unseen.clear();
        run.unasked.clone_from(&run.ready);
        for now in &mut run.steps {
            now.looking = false;
            now.look_again_at = None;
            now.ahead = None;
            now.look_ahead_at = None;
            now.look_since = None;
            now.last_answer = None;
            now.changed = 0;
        }
        run
    }

    /// Folds the events of a run, the first of which is `Begun`.
    pub fn replay(id: RunId, events: impl IntoIterator<Item = (Timestamp, Event)>) -> Option<Self> {
        let mut events = events.into_iter();
        let Some((at, Event::Begun(begun))) = events.next() else { return None };
        let mut run = Self::begin(id, at, *begun);
        for (at, event) in events {
            run.apply(at, &event);
        }
        Some(run)
    }

    /// How it stands.
    pub fn state(&self) -> RunState {
        match &self.end {
            Some((_, RunEnd::Finished, _)) => RunState::Finished,
            Some((_, RunEnd::FinishedWithExceptions, _)) => RunState::FinishedWithExceptions,
            Some((_, RunEnd::PutBack, _)) => RunState::PutBack,
            Some((_, RunEnd::PutBackInPart, _)) => RunState::PutBackInPart,
            Some((_, RunEnd::GivenUp, _)) => RunState::GivenUp,
            Some((_, RunEnd::Refused, _)) => RunState::Refused,
            None if !self.causes.is_empty() => RunState::Held,
            None if !self.locked => RunState::Queued,
            None if self.part == Part::PutBack => RunState::PuttingBack,
            None => RunState::Running,
        }
    }

    /// Whether it ended.
    pub fn has_ended(&self) -> bool {
        self.end.is_some()
    }
    /// When and how it ended, and what stands differently.
    pub fn end(&self) -> Option<&(Timestamp, RunEnd, Vec<Difference>)> {
        self.end.as_ref()
    }
    /// What stands otherwise than it was to be left, once it ended.
    pub fn otherwise(&self) -> &[Otherwise] {
        &self.otherwise
    }
    /// The number of events so far.
    pub fn event_count(&self) -> u64 {
        self.events
    }
    /// The hold's number, while it is held.
    pub fn hold_no(&self) -> Option<u32> {
        (!self.causes.is_empty()).then_some(self.hold_no)
    }
    /// Why it is held.
    pub fn hold_causes(&self) -> impl Iterator<Item = &HoldCause> {
        self.causes.iter()
    }
    /// Behind whom it queues.
    pub fn queued_behind(&self) -> &[String] {
        &self.queued_behind
    }
    /// When it is given up unless it has its locks by then: half an hour of a server that was there (R7, R34).
    pub fn queue_ends(&self) -> Option<Timestamp> {
        (!self.locked && !self.has_ended()).then_some(self.queue_ends)
    }
    pub(super) fn next_hold_no(&self) -> u32 {
        self.hold_no + 1
    }
    /// Whether it has its locks.
    pub fn is_locked(&self) -> bool {
        self.locked
    }
    /// Its steps, each as planned and as it stands.
    pub fn steps(&self) -> impl Iterator<Item = (&Step, &StepNow)> {
        self.begun.sequence.steps.iter().zip(&self.steps)
    }
    /// The steps on one service, in order.
    pub fn steps_on(&self, address: &Address) -> impl DoubleEndedIterator<Item = (&Step, &StepNow)> {
        let steps = self.on.get(address).map(Vec::as_slice).unwrap_or_default();
        steps.iter().map(|s| (self.begun.sequence.step(*s), self.step_now(*s)))
    }
    /// The services that a vouched step leaves standing or unproven.
    pub fn vouched(&self) -> &BTreeSet<Address> {
        &self.vouched
    }
    /// One step as it stands.
    pub fn step_now(&self, step: StepId) -> &StepNow {
        &self.steps[step.0 as usize - 1]
    }
    pub(super) fn step_mut(&mut self, step: StepId) -> &mut StepNow {
        let events = self.events;
        let now = &mut self.steps[step.0 as usize - 1];
        now.changed = events;
        now
    }
    /// Whether whoever knows it as it was after this event may be told only what changed since: not where its steps are others now.
    pub fn may_be_told_since(&self, event: u64) -> bool {
        (1..=self.events).contains(&event) && event >= self.whole_from
    }
    /// Whether a step changed with an event after this one.
    pub fn changed_since(&self, step: StepId, event: u64) -> bool {
        self.step_now(step).changed > event
    }
    /// Whether there is such a step.
    pub fn has_step(&self, step: StepId) -> bool {
        step.0 >= 1 && step.0 as usize <= self.steps.len()
    }
    pub(super) fn waiters(&self, step: StepId) -> &[(StepId, Release)] {
        &self.waiters[step.0 as usize - 1]
    }
    /// Steps that await a decision.
    pub fn awaiting(&self) -> impl Iterator<Item = StepId> + '_ {
        self.causes.iter().filter_map(|c| match c {
            HoldCause::Step { step } => Some(*step),
            _ => None,
        })
    }
    /// How many steps have not ended.
    pub fn steps_not_ended(&self) -> u32 {
        self.left
    }
    /// Services on which a step is in flight, once for each.
    pub fn in_flight(&self) -> impl Iterator<Item = &Address> {
        self.in_flight.iter().filter_map(|s| self.begun.sequence.step(*s).address())
    }
    /// Whether a look at a service tells this run anything new.
    pub fn is_news(&self, address: &Address, state: SeenState) -> bool {
        let awaited =
            || self.lost.contains_key(address) || self.hold_causes().any(|c| matches!(c, HoldCause::Lost { address: a } if a == address));
        let is_known = self.seen.get(address) == Some(&state);
        self.begun.services.contains_key(address) && (!is_known || (state == SeenState::Proven && awaited()))
    }
    /// The locks that it wants: what it acts on, and all that it is answerable for or counts on.
    pub fn wants(&self) -> Wants {
        // The way back goes by the locks that the way there was given.
        let there: Vec<Step> = self.begun.sequence.steps.iter().filter(|s| s.part != Part::PutBack).cloned().collect();
        self.wants_for(&there, self.answerable().cloned().collect(), &self.begun.services)
    }

    /// The locks that it takes to carry these steps out or back, answerable for those services: what must never run beside what they
    /// move, and the members of groups that are kept up while they stop one, are nobody else's to act on meanwhile (R5, R20).
    pub fn wants_for(&self, steps: &[Step], mut answerable: BTreeSet<Address>, services: &BTreeMap<Address, Arc<Service>>) -> Wants {
        let of = |kind: StepKind| steps.iter().filter(move |s| s.kind() == kind).filter_map(Step::address);
        // What is stopped may be started on the way back.
        let moved = of(StepKind::Start).chain(of(StepKind::Stop));
        let apart = moved.filter_map(|a| services.get(a)).flat_map(|s| s.never_with.iter().cloned());
        let stopped: BTreeSet<&Address> = of(StepKind::Stop).collect();
        let kept_up = self.begun.keep_up.values().filter(|g| g.keep_up > 0 && g.members.iter().any(|m| stopped.contains(m)));
        answerable.extend(apart.chain(kept_up.flat_map(|g| g.members.iter().cloned())));
        // What must be down while work goes on is nobody's to start meanwhile.
        let kept_down = steps.iter().flat_map(|s| s.meanwhile().filter(|(_, must)| *must == SeenState::Down).map(|(a, _)| a.clone()));
        let acting = steps.iter().filter(|s| s.kind() != StepKind::Await).filter_map(|s| s.address().cloned()).chain(kept_down);
        // What it let go of is others' to act on, and is not taken back after a restart.
        answerable.retain(|a| !self.is_released(a));
        Wants::new(acting.filter(|a| !self.is_released(a)).collect(), answerable)
    }

    /// The room that steps take up: in flight, or looked at for their act. Room is had from the look on, so that what
    /// was free when it was asked for is not another's by the time of the act (R7).
    pub fn rooms_taken(&self) -> impl Iterator<Item = Room> + '_ {
        let looking = self.ready.iter().map(|(_, s)| *s).filter(|s| self.step_now(*s).looking);
        self.in_flight.iter().copied().chain(looking).filter_map(|s| self.room_of(s))
    }
    /// Where a step takes up room; waits, questions and announcements take none.
    pub fn room_of(&self, step: StepId) -> Option<Room> {
        let step = self.begun.sequence.step(step);
        match (step.address(), step.task()) {
            (Some(address), _) => Some(Room::Service(address.clone())),
            (None, Some(Task::Work(work))) => Some(Room::Host(work.host.clone())),
            (None, _) => None,
        }
    }
    /// Whether a step takes up room.
    pub(super) fn takes_room(&self, step: StepId) -> bool {
        let step = self.begun.sequence.step(step);
        step.address().is_some() || matches!(step.task(), Some(Task::Work(_)))
    }
    /// The part it is in: on its way forward, back, or diverted.
    pub fn part(&self) -> Part {
        self.part
    }
    /// The procedure that took over, where one did.
    pub fn diverted_to(&self) -> Option<&ProcedureName> {
        self.divert.as_ref().map(|(p, ..)| p)
    }
    /// The looks taken before the first act, with their answers.
    pub fn preflight(&self) -> &[(Preflight, Answer)] {
        &self.preflight
    }
    /// What people wrote down: when, who, what.
    pub fn notes(&self) -> &[(Timestamp, String, String)] {
        &self.notes
    }
    /// Who has it, and since when; at first whoever began it.
    pub fn taken_by(&self) -> (Timestamp, &str) {
        self.taken_by.as_ref().map_or((self.began_at, self.begun.who.as_str()), |(at, who)| (*at, who.as_str()))
    }
    /// What is known by name by now.
    pub fn values(&self) -> &BTreeMap<String, String> {
        &self.values
    }
    /// A step's task with everything filled in that is known; an error names what is not known.
    pub fn task(&self, step: StepId) -> Option<Result<Task, String>> {
        self.begun.sequence.step(step).task().map(|t| t.filled(&self.values))
    }
    /// The service that a step acts and is looked at through: its own, or one that stands for its task.
    ///
    /// `None` where there is nothing to act on or look at, or a value is missing.
    pub fn carried(&self, step: StepId, for_act: bool) -> Option<Arc<Service>> {
        let planned = self.begun.sequence.step(step);
        let Some(task) = self.task(step) else {
            let service = self.service(step);
            return Some(planned.service().map_or_else(|| Arc::clone(service), |on| on.acts_on(service)));
        };
        let task = task.ok()?;
        let of = planned.address().and_then(|a| self.begun.services.get(a));
        match (&task, of) {
            (Task::Act { act, .. }, Some(service)) if for_act => Task::act_of(service, act),
            _ => task.as_service(&format!("step-{step}"), of.map(Arc::as_ref), Span(self.patience_of(step))),
        }
        .map(Arc::new)
    }
    /// How long a step may take, from its act.
    pub fn patience_of(&self, step: StepId) -> Duration {
        let planned = self.begun.sequence.step(step);
        if let Some(said) = planned.set(|s| s.patience) {
            return said.0;
        }
        match (planned.kind(), planned.task()) {
            (_, Some(Task::Work(work))) => work.within.0,
            (_, Some(Task::Act { act, .. })) => self.service(step).acts.get(act).map_or(Duration::from_secs(60), |a| a.patience.0),
            (_, Some(Task::Look { .. })) => ANSWER_WITHIN,
            (_, Some(_)) => Duration::from_secs(60),
            (StepKind::Stop, None) => self.service(step).stop.patience.0,
            (StepKind::Reload, None) => {
                let service = self.service(step);
                service.reload.as_ref().map_or(service.start.patience.0, |r| r.patience.0)
            }
            (_, None) => self.service(step).start.patience.0,
        }
    }
    /// Whether a step is a look that must hold at once.
    pub(super) fn is_one_look(&self, step: StepId) -> bool {
        let planned = self.begun.sequence.step(step);
        planned.kind() == StepKind::Look && planned.set(|s| s.patience).is_none()
    }
    /// What happens when a step fails: the nearest rule (R28).
    pub fn rule_of(&self, step: StepId) -> IfItFails {
        let planned = self.begun.sequence.step(step);
        // Inside a put-back or a divert the rule is hold.
        if planned.part != Part::Forward {
            return IfItFails::Hold;
        }
        let own = planned.set(|s| s.if_it_fails.clone());
        let of_service = || planned.address().and_then(|a| self.begun.services.get(a)).and_then(|s| s.if_it_fails.clone());
        own.or_else(of_service).or_else(|| self.begun.if_it_fails.clone()).unwrap_or_default()
    }
    /// Steps whose last open wait this one is.
    pub(super) fn waiting_on_it_alone(&self, step: StepId) -> Vec<StepId> {
        let waiting = self.waiters[step.0 as usize - 1].iter().map(|(next, _)| *next);
        waiting.filter(|next| self.step_now(*next).open_waits == 1 && self.step_now(*next).state == StepState::Waiting).collect()
    }
    /// How much room its steps take up.
    pub(super) fn rooms_in_use(&self) -> usize {
        self.rooms_taken().count()
    }
    /// Services of this run, and those beside it, of which some relation names this one.
    pub(super) fn reliant_on(&self, address: &Address) -> impl Iterator<Item = &Service> {
        let all = self.reliant.get(address).into_iter().flatten();
        all.filter_map(|a| self.begun.services.get(a).or_else(|| self.begun.beside.get(a)).map(Arc::as_ref))
    }
    /// Whether the last start of a step showed all but the lines that must appear since it (R17).
    pub fn lacks_lines(&self, step: StepId) -> bool {
        let now = self.step_now(step);
        let Some(act) = now.acts.iter().rev().find(|a| a.kind == ActKind::Start) else { return false };
        let service = self.service(step);
        let log_rung = service.ladder_of(StepKind::Start).iter().position(|r| r.kind == RungKind::Log);
        let holds = |rung: usize| act.rungs.iter().rev().find(|r| r.rung as usize == rung).is_some_and(|r| r.climbed);
        !service.patterns(StepKind::Start).must_see.is_empty() && log_rung.is_some_and(|log| !holds(log) && (0..log).all(holds))
    }
    /// How this run sets out to leave a service, by the last of its steps that took it up or down; `None` where it does not.
    pub(super) fn meant(&self, address: &Address) -> Option<SeenState> {
        let part = self.part;
        let mut mine = self.steps_on(address).filter(|(s, _)| part == Part::Forward || s.part == part || s.part == Part::Forward);
        let (last, _) = mine.rfind(|(s, n)| {
            matches!(s.kind(), StepKind::Stop | StepKind::Start | StepKind::Await | StepKind::Reload)
                && !matches!(n.state, StepState::Ended(StepEnd::NotBegun | StepEnd::PassedOver { .. } | StepEnd::Vouched { .. }))
        })?;
        // Where it was found ailing and is put back, it is to stand no worse: that is judged by what differs.
        let as_good = last.set(|s| s.rungs).is_some();
        let comes_back = last.service().is_some_and(|on| on.comes_back) || self.begun.services.get(address)?.brought_back_by.is_some();
        match last.kind() {
            StepKind::Stop if comes_back => None,
            StepKind::Stop => Some(SeenState::Down),
            _ if as_good => None,
            _ => Some(SeenState::Proven),
        }
    }
    /// Every service that the act of a step hangs on, its own first of all in meaning: what is looked at just before it.
    pub(super) fn hangs_on(&self, step: StepId) -> Vec<Address> {
        if self.begun.sequence.step(step).address().is_none() {
            return self.begun.sequence.step(step).meanwhile().map(|(a, _)| a.clone()).collect();
        }
        let service = self.service(step);
        let mine = &service.address;
        let mut addresses = vec![mine.clone()];
        match self.begun.sequence.step(step).kind() {
            StepKind::Start => addresses.extend(service.relies_on_any().chain(&service.never_with).cloned()),
            StepKind::Stop => {
                for reliant in self.reliant_on(mine) {
                    addresses.push(reliant.address.clone());
                    // What else it could stand on is judged from this look, too, and not from what was seen some time ago.
                    let relations = reliant.relies_on.iter().filter(|r| r.any_of.contains(mine));
                    addresses.extend(relations.flat_map(|r| r.any_of.iter().cloned()));
                }
                let groups = self.begun.keep_up.values().filter(|g| g.keep_up > 0 && g.members.contains(mine));
                addresses.extend(groups.flat_map(|g| g.members.iter().cloned()));
            }
            _ => {}
        }
        addresses.sort();
        addresses.dedup();
        addresses
    }
    /// Works out anew who relies on whom: services were added.
    pub(super) fn note_relations(&mut self) {
        let mut reliant: BTreeMap<Address, BTreeSet<Address>> = BTreeMap::new();
        for service in self.begun.services.values().chain(self.begun.beside.values()) {
            for needed in service.relies_on_any() {
                reliant.entry(needed.clone()).or_default().insert(service.address.clone());
            }
        }
        self.reliant = reliant;
    }
    /// The services that must stand so or so while a step works, as this run sees them.
    pub fn stands_meanwhile(&self, step: StepId) -> Vec<Arc<Service>> {
        let step = self.begun.sequence.step(step);
        step.meanwhile().filter_map(|(a, _)| self.begun.services.get(a).cloned()).collect()
    }
    /// The service a step is for, as this run sees it. Steps that are no service's have none.
    pub fn service(&self, step: StepId) -> &Arc<Service> {
        let address = self.begun.sequence.step(step).address().expect("asked only of a service's steps");
        &self.begun.services[address]
    }
    /// What it is answerable for (R18): all it acts on and all those rely on, but what was released.
    pub fn answerable(&self) -> impl Iterator<Item = &Address> {
        self.begun.services.keys().filter(|a| !self.is_released(a))
    }
    /// Whether an operator released this service from it (R7): others may act on it.
    pub fn is_released(&self, address: &Address) -> bool {
        self.released.contains(address)
    }
    pub(super) fn next_act(&self) -> ActId {
        ActId(self.acts + 1)
    }
    /// The step and act of the newest start of a service in this run.
    pub fn last_act(&self, step: StepId) -> Option<&ActNow> {
        self.step_now(step).acts.last()
    }

    /// When an act that has not ended is taken as failed. A command is ended by the recorder at its
    /// own limit, and its end is awaited a little longer.
    pub(super) fn act_deadline(&self, step: StepId) -> Option<Timestamp> {
        let StepState::Acting { patience_ends, .. } = self.step_now(step).state else { return None };
        let within = match (self.begun.sequence.step(step).task(), self.begun.sequence.step(step).address()) {
            (None, Some(_)) => match &self.service(step).runner {
                ServiceRunner::Commands(c) => c.within.0,
                _ => Duration::ZERO,
            },
            _ => Duration::ZERO,
        };
        Some(patience_ends + within + Duration::from_secs(5))
    }

    /// When a hold becomes a put-back, where it does.
    pub fn hold_ends(&self) -> Option<Timestamp> {
        let since = self.held_since.filter(|_| !self.giving_up && self.part == Part::Forward && self.acts_given() > 0)?;
        let at_most = self.begun.held_at_most.filter(|_| !self.causes.contains(&HoldCause::Standstill))?;
        Some(since + at_most.0)
    }

    /// When the run next wants waking; `None` when it waits for answers or for a person.
    pub fn next_deadline(&self) -> Option<Timestamp> {
        if self.giving_up {
            // Nothing is waited for but what acts, and that no longer than it may take.
            let of = |s: &StepId| match self.step_now(*s).state {
                StepState::Acting { patience_ends, .. } => Some(patience_ends),
                _ => None,
            };
            return if self.has_ended() { None } else { self.in_flight.iter().filter_map(of).min() };
        }
        let begins = self.causes.is_empty();
        let steps = self.in_flight.iter().filter_map(|s| {
            let now = self.step_now(*s);
            match &now.state {
                StepState::Pausing { until, after_act: true } => Some(*until),
                StepState::Pausing { until, after_act: false } if begins && !now.looking => Some(now.look_again_at.unwrap_or(*until)),
                StepState::Acting { .. } => self.act_deadline(*s),
                StepState::Proving { patience_ends, steady_until, .. } => {
                    Some(steady_until.map_or(*patience_ends, |until| now.look_ahead_at.map_or(until, |at| at.min(until))))
                }
                StepState::Asking { until, .. } => *until,
                StepState::Pausing { .. }
                | StepState::Waiting
                | StepState::Failed { .. }
                | StepState::OutcomeUnknown { .. }
                | StepState::Ended(_) => None,
            }
        });
        if self.has_ended() {
            return None;
        }
        let last_moment =
            self.last_moment().filter(|_| !self.past_last_moment && self.part == Part::Forward && self.acts_given() > 0 && self.left > 0);
        let again = self.ready.iter().filter(|_| begins).filter_map(|(_, s)| self.step_now(*s).look_again_at);
        steps.chain(again).chain(self.lost.values().copied()).chain(last_moment).chain(self.hold_ends()).min()
    }
}
