//! What is asked of a run's steps and services: locks and rooms they want, patience, rules, deadlines, what hangs on what.

use super::{
    ANSWER_WITHIN, Run,
    step::{ActNow, StepState},
};
use std::{
    collections::{BTreeMap, BTreeSet},
    sync::Arc,
    time::Duration,
};

use crate::{
    holders::{Room, Wants},
    model::{IfItFails, RungKind, Service, ServiceRunner, task::Task},
    plan::{Part, Preflight, Step, StepId},
    proof::{Answer, SeenState},
    run::{
        acts::{ActId, ActKind},
        ends::StepEnd,
        holds::HoldCause,
    },
    words::{
        kinds::StepKind,
        name::{Address, ProcedureName},
        time::{Span, Timestamp},
    },
};

impl Run {
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
    pub(in crate::run) fn takes_room(&self, step: StepId) -> bool {
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
    pub(in crate::run) fn is_one_look(&self, step: StepId) -> bool {
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
    pub(in crate::run) fn waiting_on_it_alone(&self, step: StepId) -> Vec<StepId> {
        let waiting = self.waiters[step.0 as usize - 1].iter().map(|(next, _)| *next);
        waiting.filter(|next| self.step_now(*next).open_waits == 1 && self.step_now(*next).state == StepState::Waiting).collect()
    }
    /// How much room its steps take up.
    pub(in crate::run) fn rooms_in_use(&self) -> usize {
        self.rooms_taken().count()
    }
    /// Services of this run, and those beside it, of which some relation names this one.
    pub(in crate::run) fn reliant_on(&self, address: &Address) -> impl Iterator<Item = &Service> {
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
    pub(in crate::run) fn meant(&self, address: &Address) -> Option<SeenState> {
        // On the way back everything is to stand as it was found: what the way there meant is over.
        let is_back = self.part == Part::PutBack;
        let mut mine = self.steps_on(address).filter(|(s, _)| (s.part == Part::PutBack) == is_back);
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
    pub(in crate::run) fn hangs_on(&self, step: StepId) -> Vec<Address> {
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
    pub(in crate::run) fn note_relations(&mut self) {
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
    pub(in crate::run) fn next_act(&self) -> ActId {
        ActId(self.acts + 1)
    }
    /// An act of a step.
    pub fn act(&self, step: StepId, act: ActId) -> Option<&ActNow> {
        self.step_now(step).acts.iter().find(|known| known.act == act)
    }
    /// The act since which what a step's service shows counts, and since when: its own; of what comes back by itself, the stop that it
    /// comes back from; else the run's begin.
    pub fn shows_since(&self, step: StepId, act: Option<ActId>) -> (Option<&ActNow>, Timestamp) {
        let comes_back = self.begun.sequence.step(step).service().filter(|on| on.comes_back);
        let stopped = || {
            let stops = self.steps_on(&comes_back?.address).filter(|(s, _)| s.kind() == StepKind::Stop);
            stops.flat_map(|(_, now)| &now.acts).last()
        };
        let given = act.and_then(|act| self.act(step, act)).or_else(stopped);
        (given, given.map_or(self.began_at, |given| given.intended_at))
    }
    /// The step and act of the newest start of a service in this run.
    pub fn last_act(&self, step: StepId) -> Option<&ActNow> {
        self.step_now(step).acts.last()
    }

    /// When an act that has not ended is taken as failed. A command is ended by the recorder at its
    /// own limit, and its end is awaited a little longer.
    pub(in crate::run) fn act_deadline(&self, step: StepId) -> Option<Timestamp> {
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

    /// When its window's last moment is to be heeded: not before it has done something, nor once all is done or it is left already.
    pub(in crate::run) fn last_moment_ahead(&self) -> Option<Timestamp> {
        let on_its_way = !self.past_last_moment && self.part == Part::Forward && self.acts_given() > 0 && self.left > 0;
        self.last_moment().filter(|_| on_its_way)
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
        let last_moment = self.last_moment_ahead();
        let again = self.ready.iter().filter(|_| begins).filter_map(|(_, s)| self.step_now(*s).look_again_at);
        steps.chain(again).chain(self.lost.values().copied()).chain(last_moment).chain(self.hold_ends()).chain(self.queue_ends()).min()
    }
}
