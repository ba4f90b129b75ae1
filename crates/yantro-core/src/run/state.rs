//! A run's state: the fold of its events. Nothing is decided here.

mod asked;
mod fold;
mod step;

pub(super) use step::LookAhead;
pub use step::{ActNow, RunState, RungSeen, StepNow, StepState, state_words};

use std::{
    cmp::Reverse,
    collections::{BTreeMap, BTreeSet, HashMap},
    time::Duration,
};

use crate::{
    plan::{Part, Preflight, Release, Step, StepId},
    proof::{Answer, SeenState},
    run::{
        Event,
        begun::Begun,
        ends::{Difference, Otherwise, RunEnd},
        holds::{Frozen, HoldCause, Restriction},
        id::RunId,
    },
    words::{
        name::{Address, ProcedureName},
        time::Timestamp,
    },
};

/// How long a queued run waits for its locks (R7).
pub(in crate::run) const QUEUE_PATIENCE: Duration = Duration::from_secs(30 * 60);
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
                outcome_unknown: false,
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
    /// Whether it has its locks, and has not given them back by its end.
    pub fn has_locks(&self) -> bool {
        self.locked && !self.has_ended()
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
}
