//! The loop itself: takes what came in, lets the machines decide, stores, and then carries out.

mod agreed;
mod deciding;
mod orders;
mod settling;
pub(crate) mod storage;

use std::{
    collections::{BTreeMap, BTreeSet},
    path::PathBuf,
    sync::{Arc, PoisonError},
    time::{Duration, Instant},
};

use tokio::sync::oneshot;
use yantro_core::{
    guards::restrictions,
    holders::{Locks, RoomLimits, Rooms},
    model::Estate,
    plan::{OnService, forecast::kept_under},
    proof::{LogAgainst, SeenState, logs::Meaning},
    run::{ActKind, DecisionKind, Event, Frozen, HoldCause, Input, Order, Restriction, Run, RunId, Stamped, StepEnd},
    words::{
        kinds::StepKind,
        name::{Address, HostName},
        time::Timestamp,
    },
};
use yantro_store::{AuditRow, Batch, Edition, IntendedDown, StartedAs};

use crate::{
    clock::Steps,
    engine::{Engine, read},
    error::EngineError,
    hands::identity,
    inbox::Messages,
    loaded::Loaded,
    messages::Msg,
    told::{
        publish::{Published, Topic},
        runs::summary,
    },
};

/// Ended runs kept at hand.
const KEPT_RUNS: usize = 20;
/// How long storing is left alone after it failed.
const STORE_AGAIN: Duration = Duration::from_millis(500);
/// How often the change freezes are looked at, in milliseconds.
const FREEZES_AGAIN_MS: i64 = 2_000;
/// Given back to the file system when it is full, so that the hold itself can be stored (R27).
const RESERVE_BYTES: usize = 4 * 1024 * 1024;

/// So many messages at most are taken in before what they came to is stored and carried out.
const AT_ONCE: usize = 512;
/// For so long at most deadlines wait for messages to be taken in.
const TICK_ANYWAY: Duration = Duration::from_secs(10);
/// How soon at the earliest a deadline is looked at again that could not be kept.
const AGAIN_AT_LEAST: Duration = Duration::from_millis(50);
/// A run with more steps in flight is a large one.
const MANY_IN_FLIGHT: usize = 200;

/// What somebody is told once it is stored, or that it could not be and nothing of it counts.
type Reply = Box<dyn FnOnce(Result<(), EngineError>) + Send>;
/// What takes back what was noted in memory and could not be stored.
type Undo = Box<dyn FnOnce() + Send>;

/// What the loop holds.
pub(crate) struct Work {
    pub(crate) engine: Engine,
    pub(crate) locks: Locks,
    pub(crate) batch: Batch,
    pub(crate) orders: Vec<(RunId, Order)>,
    pub(crate) replies: Vec<Reply>,
    pub(crate) undo: Vec<Undo>,
    /// Since when nothing can be stored.
    pub(crate) trouble_since: Option<Timestamp>,
    /// Runs begun since the server started, by the identity that they were asked for under.
    pub(crate) asked_as: BTreeMap<String, RunId>,
    pub(crate) next_run: u64,
    pub(crate) reserve: PathBuf,
    pub(crate) stored_alive_at: i64,
    pub(crate) clock_steps: Steps,
    /// When to look at the change freezes again.
    pub(crate) freezes_at: i64,
    /// The limits of an edition.
    pub(crate) limits: (u64, Arc<RoomLimits>),
    /// What is taken of them, while that is known.
    pub(crate) rooms_at_hand: Option<Rooms>,
}

impl Work {
    pub(crate) async fn go(mut self, mut messages: Messages<Msg>) {
        self.settle().await;
        let mut ticked = Instant::now();
        let mut past: Option<Timestamp> = None;
        loop {
            let now = self.engine.hands.clock.now();
            let deadline = self.engine.next_wake();
            let wait = deadline.map_or(Duration::from_secs(1), |at| at.since(now)).min(Duration::from_secs(1));
            // A deadline that was there before the last tick, and is past still, is nothing to turn round and round for.
            let at_least = if deadline.is_some() && deadline == past { AGAIN_AT_LEAST } else { Duration::from_millis(1) };
            past = deadline.filter(|at| *at <= now);
            let first = tokio::select! {
                msg = messages.recv() => msg,
                () = tokio::time::sleep(wait.max(at_least)) => None,
            };
            self.rooms_at_hand = None;
            if let Some(msg) = first {
                self.take(msg);
                // What came in together is decided together, and shares a commit.
                for _ in 1..AT_ONCE {
                    let Some(msg) = messages.try_recv() else { break };
                    self.take(msg);
                }
            }
            if is_time_to_tick(!messages.is_empty(), ticked.elapsed()) {
                ticked = Instant::now();
                self.ticks();
            }
            self.settle().await;
        }
    }

    // ---- taking in ----

    pub(crate) fn take(&mut self, msg: Msg) {
        // While nothing can be stored nothing is decided (R27): what acts and looks come to is asked for again afterwards.
        if let Some(why) = self.trouble() {
            return self.take_in_trouble(msg, why);
        }
        self.heed_freezes_in_time(self.engine.hands.clock.now());
        match msg {
            Msg::Input { run, input } => {
                // Late news of a run that ended is no error.
                let _ = self.input(run, input);
            }
            Msg::LookAt(address) => self.look_at(address),
            Msg::Looked(seen) => self.looked(seen),
            Msg::Begin { begun, asked_as, reply } => {
                let outcome = self.begin(*begun, asked_as);
                self.reply(reply, outcome);
            }
            Msg::Replan { run, begun, decision, reply } => {
                let outcome = self.replan(run, begun, decision);
                self.reply(reply, outcome);
            }
            Msg::Decide { run, decision, shown, reply } => {
                let outcome = self.decide(run, decision, shown.as_ref());
                self.reply(reply, outcome);
            }
            Msg::Remark { run, input, reply } => {
                let outcome = self.remark(run, input);
                self.reply(reply, outcome);
            }
            Msg::PlanDivert { run, planned } => self.divert_planned(run, planned),
            Msg::Load { edition, loaded, reply } => self.load(*edition, loaded, reply),
            Msg::Acknowledge { address, who, why, reply } => {
                let outcome = match self.engine.hands.watched(&address).and_then(|w| w.seen.log_against) {
                    None => Err(EngineError::NothingAgainst(address)),
                    Some(against) => {
                        self.audit(&who, "acknowledge", format!("{address}: \"{}\"", against.line), Some(why));
                        self.log_against(&address, None);
                        Ok(())
                    }
                };
                self.reply(reply, outcome);
            }
            Msg::Audit { who, what, about, why, reply } => {
                self.audit(&who, what, about, Some(why));
                self.reply(reply, Ok(()));
            }
            Msg::Standstill { on, who, shown, reply } => {
                let outcome = self.lifts_no_more(shown.as_ref());
                if outcome.is_ok() {
                    self.standstill(on, &who);
                }
                self.reply(reply, outcome);
            }
        }
    }

    /// Answers once it is stored. Whoever asked may have gone meanwhile: that changes nothing.
    fn reply<T: Send + 'static>(&mut self, reply: oneshot::Sender<Result<T, EngineError>>, outcome: Result<T, EngineError>) {
        self.replies.push(Box::new(move |stored| _ = reply.send(stored.and(outcome))));
    }

    /// Why nothing can be stored, while that is so.
    fn trouble(&self) -> Option<String> {
        read(&self.engine.shared.storage_trouble).clone()
    }

    /// What comes in while nothing can be stored: whoever asks is told so, and news are asked for again afterwards.
    fn take_in_trouble(&mut self, msg: Msg, why: String) {
        let refused = || EngineError::NotStored(why);
        match msg {
            Msg::Input { .. } | Msg::Looked(_) | Msg::PlanDivert { .. } => {}
            Msg::LookAt(address) => self.look_at(address),
            Msg::Begin { reply, .. } => _ = reply.send(Err(refused())),
            Msg::Replan { reply, .. } | Msg::Decide { reply, .. } | Msg::Remark { reply, .. } => _ = reply.send(Err(refused())),
            Msg::Load { reply, .. } => _ = reply.send(Err(refused())),
            Msg::Acknowledge { reply, .. } => _ = reply.send(Err(refused())),
            Msg::Audit { reply, .. } | Msg::Standstill { reply, .. } => _ = reply.send(Err(refused())),
        }
    }

    /// Lets a machine decide. Its events wait for the next commit, its orders for that.
    pub(crate) fn input(&mut self, id: RunId, input: Input) -> Result<(), EngineError> {
        tracing::trace!(run = %id, ?input, "input");
        let now = self.engine.hands.clock.now();
        let shared = Arc::clone(&self.engine.shared);
        let mut runs = shared.runs.write().unwrap_or_else(PoisonError::into_inner);
        let mut rooms = match self.rooms_at_hand.take() {
            Some(rooms) => rooms,
            None => self.rooms(&runs),
        };
        let Some(run) = runs.get_mut(&id) else { return Err(EngineError::NoRun(id)) };
        let first_no = run.event_count();
        let taken = run.take(input, now, &mut rooms)?;
        // Counted anew for each input, unless that would take longer than the input: then once for all that came in together.
        if run.in_flight().take(MANY_IN_FLIGHT + 1).count() > MANY_IN_FLIGHT {
            self.rooms_at_hand = Some(rooms);
        }
        for (i, event) in taken.events.into_iter().enumerate() {
            self.note(run, &event, now);
            self.batch.events.push((id, Stamped { no: first_no + 1 + i as u64, at: now, event }));
        }
        if run.event_count() != first_no {
            let row = summary(run);
            self.batch.runs.retain(|r| r.id != id);
            self.batch.runs.push(row);
        }
        self.orders.extend(taken.orders.into_iter().map(|o| (id, o)));
        Ok(())
    }

    fn rooms(&mut self, runs: &BTreeMap<RunId, Run>) -> Rooms {
        if let Some(loaded) = self.engine.loaded().filter(|l| l.edition != self.limits.0) {
            self.limits = (loaded.edition, Arc::new(RoomLimits::new(&loaded.estate)));
        }
        let mut rooms = Rooms::within(Arc::clone(&self.limits.1));
        for run in runs.values().filter(|r| !r.has_ended()) {
            run.rooms_taken().for_each(|r| rooms.take(&r));
        }
        rooms
    }

    fn log_against(&mut self, address: &Address, against: Option<LogAgainst>) {
        let known = self.engine.hands.watched(address).and_then(|w| w.seen.log_against);
        if known != against {
            let (hands, of, before) = (self.engine.hands.clone(), address.clone(), known);
            self.undo.push(Box::new(move || hands.set_log_against(&of, before)));
            self.engine.hands.set_log_against(address, against.clone());
            self.batch.log_against.push((address.clone(), against));
        }
    }

    /// A step left a service as it was wished to stand: down on purpose, or up (R33).
    fn intends(&mut self, run: &Run, on: &OnService) {
        let begun = &run.begun;
        let intended = || IntendedDown { run: run.id, who: begun.who.clone(), why: begun.why.clone() };
        self.intended_down(&on.address, (on.kind == StepKind::Stop).then(intended));
    }

    fn intended_down(&mut self, address: &Address, intended: Option<IntendedDown>) {
        let known = self.engine.hands.intended_down(address);
        if known != intended {
            let (hands, of, before) = (self.engine.hands.clone(), address.clone(), known);
            self.undo.push(Box::new(move || hands.set_intended_down(&of, before)));
            self.engine.hands.set_intended_down(address, intended.clone());
            self.batch.intended_down.push((address.clone(), intended));
        }
    }

    /// What follows from an event besides the run itself.
    pub(crate) fn note(&mut self, run: &Run, event: &Event, now: Timestamp) {
        if let Event::StepEnded { step, .. } = event {
            tracing::trace!(run = %run.id, %step, "step ended");
        }
        match event {
            Event::ActBegun { step, act, .. } if run.act(*step, *act).is_some_and(|a| a.kind == ActKind::Start) => {
                let address = run.service(*step).address.clone();
                let started = StartedAs {
                    run: run.id,
                    act: identity(run, *act),
                    at: now,
                    edition: run.begun.edition,
                    service: run.service(*step).clone(),
                };
                self.engine.hands.remember_started(&address, started.clone());
                self.batch.started.push((address.clone(), started));
                // What its log said before is of another life, and that it was taken down is over.
                self.log_against(&address, None);
                self.intended_down(&address, None);
            }
            Event::LogKept { step, logs } => {
                let Some(on) = run.begun.sequence.step(*step).service() else { return };
                let mut hits = logs.iter().flat_map(|l| l.hits.iter().map(move |h| (l, h)));
                let forbidden = hits.rfind(|(_, h)| h.meaning == Meaning::Forbidden);
                if let Some((log, hit)) = forbidden.filter(|_| on.kind != StepKind::Stop) {
                    let (line, source) = (hit.text.clone(), log.source.clone());
                    self.log_against(&on.address, Some(LogAgainst { line, source, missing: false, run: run.id.0, at: now }));
                }
            }
            // Its rungs hold, and the lines that must appear since its start have not: that is not proven (R17).
            Event::AttemptFailed { step, .. } | Event::StepFailed { step, .. } => {
                let on = run.begun.sequence.step(*step).service().filter(|on| on.kind == StepKind::Start);
                if let Some(address) = on.map(|on| on.address.clone()).filter(|_| run.lacks_lines(*step)) {
                    let service = run.service(*step);
                    let wanted: Vec<String> = service.patterns(StepKind::Start).must_see.iter().map(|p| format!("\"{p}\"")).collect();
                    let source = service.logs.join(", ");
                    let missing = LogAgainst { line: wanted.join(" or "), source, missing: true, run: run.id.0, at: now };
                    self.log_against(&address, Some(missing));
                }
            }
            Event::StepEnded { step, end: StepEnd::Done } => {
                let planned = run.begun.sequence.step(*step);
                if let Some(began_at) = run.step_now(*step).began_at {
                    self.batch.took.push((kept_under(&run.begun.sequence.of, planned), planned.kind(), now.since(began_at)));
                }
                let Some(on) = planned.service() else { return };
                let state = if on.kind == StepKind::Stop { SeenState::Down } else { SeenState::Proven };
                self.engine.hands.set_seen(&on.address, state);
                self.intends(run, on);
            }
            // Found down, and wished so: that it is down is on purpose from now on.
            Event::StepEnded { step, end: StepEnd::Unneeded } => {
                if let Some(on) = run.begun.sequence.step(*step).service() {
                    self.intends(run, on);
                }
            }
            Event::Noted { who, text } => self.audit(who, "note", format!("run {}", run.id), Some(text.clone())),
            Event::Taken { who } => self.audit(who, "take on", format!("run {}", run.id), None),
            Event::Decided { decision } => {
                if let DecisionKind::Vouch { step } = &decision.kind
                    && let Some(address) = run.begun.sequence.step(*step).address()
                {
                    self.log_against(&address.clone(), None);
                }
                let about = decision.kind.step().map_or_else(|| format!("run {}", run.id), |s| format!("run {}, step {s}", run.id));
                self.audit(&decision.who, decision.kind.word(), about, decision.why.clone());
            }
            _ => {}
        }
    }

    pub(crate) fn audit(&mut self, who: &str, what: &str, about: String, why: Option<String>) {
        let at = self.engine.hands.clock.now();
        self.batch.audit.push(AuditRow { at, who: who.to_owned(), what: what.to_owned(), about, why });
    }

    pub(crate) fn load(&mut self, edition: Edition, loaded: Arc<Loaded>, reply: oneshot::Sender<Result<(), EngineError>>) {
        self.audit(&edition.who.clone(), "load", format!("edition {}", edition.no), edition.why.clone());
        self.batch.edition = Some(edition);
        let estate = &loaded.estate;
        self.engine.hands.keep_only(|a| estate.services.contains_key(a));
        // What runs keeps its edition, but restrictions tighten at once (R25).
        self.restrict(estate);
        self.heed_freezes(estate, self.engine.hands.clock.now());
        // Those of the edition before count no longer, though it is there until this one is stored.
        self.freezes_at = i64::MAX;
        let engine = self.engine.clone();
        self.replies.push(Box::new(move |stored| {
            if stored.is_err() {
                _ = reply.send(stored);
                return;
            }
            let needed: BTreeSet<HostName> = {
                let runs = read(&engine.shared.runs);
                let steps = runs.values().filter(|r| !r.has_ended()).flat_map(|r| &r.begun.sequence.steps);
                steps.filter_map(|s| s.host().cloned()).collect()
            };
            engine.hands.hosts.know(&loaded.estate.hosts, |host| needed.contains(host));
            *engine.shared.loaded.write().unwrap_or_else(PoisonError::into_inner) = Some(loaded);
            *engine.shared.unusable.write().unwrap_or_else(PoisonError::into_inner) = None;
            engine.shared.publisher.tell(Published::new(Topic::Edition, None, &serde_json::json!({})));
            _ = reply.send(stored);
        }));
    }

    /// Tells every open run what an edition restricts of its services over what its own says.
    fn restrict(&mut self, estate: &Estate) {
        let runs = read(&self.engine.shared.runs);
        let open = runs.values().filter(|r| !r.has_ended());
        let all: Vec<(RunId, BTreeMap<Address, Restriction>)> = open.map(|r| (r.id, restrictions(&r.begun, estate))).collect();
        drop(runs);
        for (run, restrictions) in all {
            // The run was there a moment ago, and ended runs take no harm.
            let _ = self.input(run, Input::Restricted(restrictions));
        }
    }

    pub(crate) fn standstill(&mut self, on: bool, who: &str) {
        let before = std::mem::replace(
            &mut *self.engine.shared.standstill.write().unwrap_or_else(PoisonError::into_inner),
            on.then(|| who.to_owned()),
        );
        let engine = self.engine.clone();
        self.undo.push(Box::new(move || *engine.shared.standstill.write().unwrap_or_else(PoisonError::into_inner) = before));
        self.batch.settings.push(("standstill".to_owned(), if on { who.to_owned() } else { String::new() }));
        self.audit(who, if on { "standstill" } else { "lift standstill" }, "everything".to_owned(), None);
        for run in self.open_runs() {
            let input =
                if on { Input::Hold(HoldCause::Standstill) } else { Input::Unhold { cause: HoldCause::Standstill, by: who.to_owned() } };
            let _ = self.input(run, input);
        }
        let engine = self.engine.clone();
        self.replies.push(Box::new(move |_| engine.shared.publisher.tell(Published::new(Topic::Server, None, &serde_json::json!({})))));
    }

    pub(crate) fn open_runs(&self) -> Vec<RunId> {
        read(&self.engine.shared.runs).values().filter(|r| !r.has_ended()).map(|r| r.id).collect()
    }

    /// Something ended: it is looked at now and not at the next round.
    pub(crate) fn look_at(&mut self, address: Address) {
        let engine = self.engine.clone();
        let Some(service) = engine.loaded().and_then(|l| l.estate.services.get(&address).cloned()) else { return };
        tokio::spawn(async move {
            let seen = engine.hands.look(vec![service]).await;
            let says = engine.hands.watched(&address).map(|w| w.seen.says).unwrap_or_default();
            engine.send(Msg::Looked(seen.into_iter().map(|(a, s)| (a, s, says.clone())).collect()));
        });
    }

    pub(crate) fn looked(&mut self, mut seen: Vec<(Address, SeenState, String)>) {
        // A round waits for its slowest host: what was seen of the others may be over by now. What counts is what is known
        // here and now, steps that ended meanwhile included.
        for (address, state, says) in &mut seen {
            if let Some(watched) = self.engine.hands.watched(address).filter(|w| w.seen.state != *state) {
                (*state, *says) = (watched.seen.state, watched.seen.says);
            }
            // Whoever brought it up: when it is down the next time, nobody meant that.
            if matches!(state, SeenState::Proven | SeenState::Rising | SeenState::Ailing) {
                self.intended_down(address, None);
            }
        }
        for id in self.open_runs() {
            for (address, state, says) in &seen {
                let is_news = read(&self.engine.shared.runs).get(&id).is_some_and(|r| r.is_news(address, *state));
                if is_news {
                    let _ = self.input(id, Input::Seen { address: address.clone(), state: *state, says: says.clone() });
                }
            }
        }
        self.engine.shared.publisher.tell(Published::new(Topic::Board, None, &serde_json::json!({ "changed": seen.len() })));
    }

    pub(crate) fn ticks(&mut self) {
        if self.trouble().is_some() {
            return; // No deadline is judged on what nobody looked at.
        }
        let now = self.engine.hands.clock.now();
        let due: Vec<RunId> = read(&self.engine.shared.runs)
            .values()
            .filter(|r| !r.has_ended() && (r.next_deadline().is_some_and(|at| at <= now)))
            .map(|r| r.id)
            .collect();
        for run in due {
            let _ = self.input(run, Input::Tick);
        }
        self.heed_freezes_in_time(now);
        if let Some(by_ms) = self.clock_steps.take(self.engine.hands.clock.set_by()) {
            self.audit("yantro", "clock set", format!("the system's clock, by {} s", by_ms as f64 / 1000.0), None);
            for run in self.open_runs() {
                let _ = self.input(run, Input::ClockStepped { by_ms });
            }
        }
        // So that a restarted server knows how long it was away.
        if now.as_ms() - self.stored_alive_at > 60_000 {
            self.stored_alive_at = now.as_ms();
            self.batch.settings.push(("alive_at".to_owned(), now.as_ms().to_string()));
        }
    }

    /// Looks at the change freezes again once one may have begun or ended: before anything else is decided at that time.
    fn heed_freezes_in_time(&mut self, now: Timestamp) {
        if now.as_ms() < self.freezes_at {
            return;
        }
        self.freezes_at = now.as_ms() + FREEZES_AGAIN_MS;
        let Some(loaded) = self.engine.loaded() else { return };
        let turns = loaded.estate.freezes.values().flat_map(|f| {
            let begins = f.hours.next(now, Duration::from_millis(FREEZES_AGAIN_MS as u64)).map(|(from, _)| from);
            begins.into_iter().chain(f.hours.covering(now).map(|(_, until)| until))
        });
        self.freezes_at = turns.map(Timestamp::as_ms).fold(self.freezes_at, i64::min);
        self.heed_freezes(&loaded.estate, now);
    }

    /// Tells every open run which change freezes are on: they hold new stops (R25).
    fn heed_freezes(&mut self, estate: &Estate, now: Timestamp) {
        let on = frozen_at(estate, now);
        for run in self.open_runs() {
            // The run was there a moment ago, and ended runs take no harm.
            let _ = self.input(run, Input::Frozen(on.clone()));
        }
    }

    pub(crate) fn forget_ended(&mut self) {
        let mut runs = self.engine.shared.runs.write().unwrap_or_else(PoisonError::into_inner);
        let ended: Vec<RunId> = runs.values().filter(|r| r.has_ended()).map(|r| r.id).collect();
        for id in ended.iter().take(ended.len().saturating_sub(KEPT_RUNS)) {
            runs.remove(id);
        }
    }
}

/// Whether deadlines are judged now. Nothing is late whose outcome waits to be taken in; time goes on all the same where more comes in
/// than can be taken.
fn is_time_to_tick(more_waits: bool, since_last: Duration) -> bool {
    !more_waits || since_last >= TICK_ANYWAY
}

/// The change freezes that are on.
fn frozen_at(estate: &Estate, now: Timestamp) -> BTreeMap<String, Frozen> {
    let on = estate.freezes.iter().filter_map(|(name, f)| {
        let (_, until) = f.hours.covering(now)?;
        let says = format!("{} is a change freeze until {}", f.title, until.in_zone(&f.hours.zone));
        Some((name.clone(), Frozen { says, impact: f.impact }))
    });
    on.collect()
}

#[cfg(test)]
mod tests;
