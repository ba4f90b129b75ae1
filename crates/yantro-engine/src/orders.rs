//! Carrying out the core's orders, once what they follow from is stored.

use std::{
    collections::{BTreeMap, BTreeSet},
    sync::Arc,
    time::Duration,
};

use yantro_core::{
    estate::Service,
    name::{Address, ProcedureName},
    procedure::{self, Asked},
    proof::{Facts, SeenState, Verdict},
    run::{ActId, ActKind, Begun, Divert, HoldCause, Input, Order, Run, RunId, plan_divert},
    sequence::{For, Plan, Request, Step, StepId, StepKind, Task, Usual, plan, preflight},
    time::Timestamp,
};

use crate::{
    engine::{Engine, Loaded, Msg, read},
    hands::{Announced, Given, identity},
    publish::{Published, Topic},
    view,
    work::{Work, restrictions},
};

impl Work {
    pub(crate) fn carry_out(&mut self, id: RunId, order: Order) {
        let hands = self.engine.hands.clone();
        tracing::trace!(run = %id, ?order, "order");
        match order {
            Order::TakeLocks => {
                if !self.queue.contains(&id) {
                    self.queue.push(id);
                }
                self.serve_queue();
            }
            Order::Release => {
                hands.stop_looking_for(id);
                self.locks.release(id);
                self.queue.retain(|q| *q != id);
                self.serve_queue();
                self.engine.shared.publisher.tell(Published::new(Topic::Board, None, &serde_json::json!({})));
            }
            Order::Unlock { address } => {
                self.locks.release_one(id, &address);
                self.serve_queue();
                self.engine.shared.publisher.tell(Published::new(Topic::Board, None, &serde_json::json!({})));
            }
            Order::FirstLook => self.first_look(id),
            Order::FreshLook { step, addresses } => {
                let services = self.services_of(id, &addresses);
                tokio::spawn(async move {
                    let seen = hands.look(services).await;
                    hands.tell(id, Input::FreshLooked { step, seen });
                });
            }
            Order::FinalLook => {
                let all: Vec<Address> =
                    read(&self.engine.shared.runs).get(&id).map(|r| r.answerable().cloned().collect()).unwrap_or_default();
                let services = self.services_of(id, &all);
                tokio::spawn(async move {
                    let seen = hands.look(services).await;
                    hands.tell(id, Input::FinalLooked { seen });
                });
            }
            Order::Preflight { looks } => {
                tokio::spawn(async move {
                    let answers = hands.preflight(looks).await;
                    hands.tell(id, Input::Preflighted { answers });
                });
            }
            Order::PlanDivert { procedure, failed, reason } => {
                let engine = self.engine.clone();
                tokio::spawn(async move {
                    let planned = divert_from_now(&engine, id, &procedure, [&failed, &reason]).await;
                    engine.send(Msg::PlanDivert { run: id, planned });
                });
            }
            Order::FindAct { step, act, kind: ActKind::Announce } if self.is_held(id) => {
                hands.tell(id, Input::ActNeverBegun { step, act });
            }
            Order::Act { step, act, kind: ActKind::Announce } | Order::FindAct { step, act, kind: ActKind::Announce } => {
                // Telling twice is no harm: whoever is told knows it by the act's identity.
                self.announce(id, step, act);
            }
            Order::Act { step, act, kind } => {
                if let Some((given, service, host)) = self.given(id, step, act, kind) {
                    hands.act(given, service, host);
                }
            }
            Order::FindAct { step, act, kind } => {
                if let Some((given, service, _)) = self.given(id, step, act, kind) {
                    let boot = read(&self.engine.shared.runs).get(&id).and_then(|run| {
                        let known = run.step_now(step).acts.iter().find(|a| a.act == act)?;
                        known.begun.as_ref()?.boot.clone()
                    });
                    hands.find_act(given, service, boot);
                }
            }
            Order::Climb { step, attempt, kind, from, act } => {
                let runs = read(&self.engine.shared.runs);
                let Some(run) = runs.get(&id) else { return };
                let given = act.and_then(|a| run.step_now(step).acts.iter().find(|known| known.act == a));
                // What comes back by itself writes to its log from its stop on.
                let comes_back = run.begun.sequence.step(step).service().filter(|on| on.comes_back).map(|on| &on.address);
                let stops = || run.steps().filter(|(s, _)| s.kind() == StepKind::Stop && comes_back.is_some_and(|a| s.is_on(a)));
                let given = given.or_else(|| stops().flat_map(|(_, n)| n.acts.iter()).last());
                let since = given.map_or(run.began_at, |g| g.intended_at);
                let Some(service) = run.carried(step, false) else { return };
                hands.climb(id, step, attempt, kind, from, service, given.and_then(|g| g.begun.as_ref()), since);
            }
            Order::WatchLog { step, attempt, address, kind, act } => {
                let runs = read(&self.engine.shared.runs);
                let Some(run) = runs.get(&id) else { return };
                let begun = run.step_now(step).acts.iter().find(|a| a.act == act).and_then(|a| a.begun.as_ref());
                let Some(marks) = begun.map(|b| b.marks.clone()) else { return };
                hands.watch_log(id, step, attempt, kind, run.begun.services[&address].clone(), marks);
            }
            Order::Recall { step, act } => {
                if let Some(run) = read(&self.engine.shared.runs).get(&id) {
                    let host = run.begun.sequence.step(step).host().cloned();
                    if let Some(host) = host {
                        hands.recall(host, identity(run, act));
                    }
                }
            }
            Order::StopLooking { step } => hands.stop_looking(id, step),
        }
    }

    fn is_held(&self, id: RunId) -> bool {
        read(&self.engine.shared.runs).get(&id).is_none_or(|r| r.hold_no().is_some())
    }

    /// What it takes to give an act: the act, its service or what stands for it, and where that is.
    fn given(&self, run: RunId, step: StepId, act: ActId, kind: ActKind) -> Option<(Given, Arc<Service>, String)> {
        let (identity, service) = {
            let runs = read(&self.engine.shared.runs);
            let known = runs.get(&run)?;
            (identity(known, act), known.carried(step, true)?)
        };
        let host = self.host_of(&service.address);
        Some((Given { run, step, act, kind, identity }, service, host))
    }

    /// Tells people something: in the run's record, and where a page was named, there.
    fn announce(&self, id: RunId, step: StepId, act: ActId) {
        let told = {
            let runs = read(&self.engine.shared.runs);
            let Some(run) = runs.get(&id) else { return };
            let Some(Ok(Task::Announce { says, to })) = run.task(step) else { return };
            Announced {
                says,
                to,
                identity: identity(run, act),
                run: id,
                title: view::title_of(run),
                who: run.begun.who.clone(),
                at: run.step_now(step).acts.last().map_or(run.began_at, |a| a.intended_at),
            }
        };
        let hands = self.engine.hands.clone();
        tokio::spawn(async move { hands.announce(step, act, told).await });
    }

    /// The network address of a service's host; of one that has left the estate, its name.
    fn host_of(&self, address: &Address) -> String {
        let known = self.engine.loaded().and_then(|l| Some(l.estate.hosts.get(&address.host)?.address.clone()));
        known.unwrap_or_else(|| address.host.to_string())
    }

    pub(crate) fn services_of(&self, id: RunId, addresses: &[Address]) -> Vec<Arc<Service>> {
        let runs = read(&self.engine.shared.runs);
        let loaded = self.engine.loaded();
        let of_estate = |a: &Address| loaded.as_ref().and_then(|l| l.estate.services.get(a).cloned());
        addresses.iter().filter_map(|a| runs.get(&id).and_then(|r| r.begun.services.get(a).cloned()).or_else(|| of_estate(a))).collect()
    }

    /// Gives locks to whoever waits, the first that came first; nobody overtakes those he would block.
    pub(crate) fn serve_queue(&mut self) {
        let mut waiting: Vec<RunId> = Vec::new();
        for id in std::mem::take(&mut self.queue) {
            let outcome = {
                let runs = read(&self.engine.shared.runs);
                let Some(run) = runs.get(&id).filter(|r| !r.has_ended()) else { continue };
                let wanted: BTreeSet<&Address> = run.answerable().collect();
                let ahead: Vec<RunId> =
                    waiting.iter().copied().filter(|w| runs.get(w).is_some_and(|r| r.answerable().any(|a| wanted.contains(a)))).collect();
                if ahead.is_empty() { self.locks.take(run) } else { Err(ahead.into_iter().collect()) }
            };
            match outcome {
                Ok(()) => drop(self.input(id, Input::Locked)),
                Err(behind) => {
                    let behind = {
                        let runs = read(&self.engine.shared.runs);
                        behind
                            .iter()
                            .map(|r| {
                                runs.get(r).map_or_else(
                                    || format!("run {r}"),
                                    |run| format!("run {r} ({}, {})", view::title_of(run), run.begun.who),
                                )
                            })
                            .collect()
                    };
                    let _ = self.input(id, Input::Queued { behind });
                    waiting.push(id);
                }
            }
        }
        self.queue = waiting;
    }

    /// Looks at everything a run is answerable for, and whether the sequence still is the one confirmed.
    pub(crate) fn first_look(&self, id: RunId) {
        let engine = self.engine.clone();
        let runs = read(&self.engine.shared.runs);
        let Some(run) = runs.get(&id) else { return };
        let services: Vec<Arc<Service>> = run.begun.services.values().cloned().collect();
        drop(runs);
        tokio::spawn(async move {
            let seen = engine.hands.look(services).await;
            // What it was begun by may be large: it is read where it is.
            let unconfirmed = match read(&engine.shared.runs).get(&id) {
                Some(run) => unconfirmed(&engine, &run.begun, &seen),
                None => return,
            };
            let ailing = seen.iter().filter(|(_, s)| **s == SeenState::Ailing);
            let rungs = ailing.filter_map(|(a, _)| Some((a.clone(), engine.hands.watched(a)?.seen.rungs_climbed))).collect();
            let identified = seen.keys().filter_map(|a| Some((a.clone(), engine.hands.watched(a)?.process?)));
            let processes = identified.collect();
            engine.hands.tell(id, Input::FirstLooked { seen, rungs, processes, unconfirmed });
        });
    }

    /// Picks every run up where it was. Nothing is given again before it was looked for.
    pub(crate) fn recover(&mut self, alive_at: Option<Timestamp>) {
        let now = self.engine.hands.clock.now();
        let ids = self.open_runs();
        for id in &ids {
            let locked = read(&self.engine.shared.runs).get(id).is_some_and(Run::is_locked);
            if locked {
                let taken = read(&self.engine.shared.runs).get(id).map(|run| self.locks.take(run));
                if let Some(Err(behind)) = taken {
                    tracing::error!(run = %id, ?behind, "locks that it held are taken; it goes on without them");
                }
            }
        }
        for id in ids {
            let away = alive_at.map_or(Duration::ZERO, |at| now.since(at));
            let orders = read(&self.engine.shared.runs).get(&id).map(Run::recover).unwrap_or_default();
            let _ = self.input(id, Input::Away { for_ms: away.as_millis() as u64 });
            if read(&self.engine.shared.standstill).is_some() {
                let _ = self.input(id, Input::Hold(HoldCause::Standstill));
            }
            // What came while it was away: a newer edition may restrict it.
            if let Some(loaded) = self.engine.loaded() {
                let restrictions = read(&self.engine.shared.runs).get(&id).map(|r| restrictions(&r.begun, &loaded.estate));
                let _ = restrictions.map(|r| self.input(id, Input::Restricted(r)));
            }
            self.orders.extend(orders.into_iter().map(|o| (id, o)));
        }
    }
}

/// So many acts are named of a plan that is told in a sentence.
const ACTS_NAMED: usize = 12;

/// Acts that a plan from these facts would have and the confirmed one has not, with all that would be done now and how that
/// stands which was found otherwise (R8); nothing where what was confirmed holds.
fn unconfirmed(engine: &Engine, begun: &Begun, seen: &BTreeMap<Address, SeenState>) -> Vec<String> {
    let Some(loaded) = engine.loaded() else { return vec!["no estate is loaded any more".to_owned()] };
    let mut facts: Facts = loaded.estate.services.keys().filter_map(|a| Some((a.clone(), engine.hands.watched(a)?.seen.state))).collect();
    facts.0.extend(seen.clone());
    // A further act that was asked for by itself stands in no estate: nothing is planned for it but what its steps say.
    if begun.sequence.steps.iter().all(|s| matches!(s.task(), Some(Task::Act { .. }))) {
        return described_otherwise(&loaded, begun).collect();
    }
    let Some(again) = again(&loaded, begun, &facts, &Usual::default()) else {
        return vec![format!("{} is no longer in the estate", begun.sequence.of.says())];
    };
    let confirmed: BTreeSet<(String, StepKind)> = begun.sequence.steps.iter().map(|s| (s.row(), s.kind())).collect();
    let acting = || again.sequence.steps.iter().filter(|s| s.kind() != StepKind::Await);
    let new = acting().filter(|s| !confirmed.contains(&(s.row(), s.kind()))).map(|s| format!("new: {}, found {}", s.says(), s.found));
    let mut changes: Vec<String> = new.chain(described_otherwise(&loaded, begun)).collect();
    if !changes.is_empty() {
        // Who has to decide sees what stands now, and what would be done by that.
        let stands = begun.as_found.iter().filter_map(|(a, was)| Some((a, was, seen.get(a)?))).filter(|(_, was, now)| was != now);
        changes.extend(stands.map(|(a, was, now)| format!("{a} is {} now, and was {}", now.word(), was.word())));
        let all: Vec<String> = acting().map(Step::says).collect();
        let more = all.len().saturating_sub(ACTS_NAMED);
        let more = if more == 0 { String::new() } else { format!(" and {more} more") };
        let all = &all[..all.len().min(ACTS_NAMED)];
        changes.push(if all.is_empty() {
            "it would do nothing now".to_owned()
        } else {
            format!("in all it would now {}{more}", all.join(", "))
        });
    }
    changes
}

/// What it acts on and the newest edition describes otherwise than its own did: it was confirmed by that.
fn described_otherwise<'b>(loaded: &'b Loaded, begun: &'b Begun) -> impl Iterator<Item = String> + 'b {
    let acted_on = if loaded.edition == begun.edition { BTreeSet::new() } else { begun.sequence.acted_on() };
    let mine = begun.services.iter().filter(move |(a, _)| acted_on.contains(*a) && !begun.overrides.contains_key(*a));
    let differs = mine.filter(|(a, s)| loaded.estate.services.get(*a) != Some(*s));
    differs.map(|(a, _)| format!("{a} is described otherwise by edition {} than by edition {}", loaded.edition, begun.edition))
}

/// What a run would come to by these facts: its wish or procedure with all that was said for it. `None` where its procedure is
/// no longer in the estate.
pub(crate) fn again(loaded: &Loaded, begun: &Begun, facts: &Facts, usual: &Usual) -> Option<Plan> {
    Some(match &begun.sequence.of {
        For::Wish { wish, chosen } => {
            let request = Request {
                wish: *wish,
                chosen: chosen.iter().filter(|a| loaded.estate.services.contains_key(*a)).cloned().collect(),
                alone: !begun.sequence.left_standing.is_empty(),
                left_standing: begun.sequence.left_standing.clone(),
                below_keep_up: begun.sequence.below_keep_up.clone(),
            };
            let mut plan = plan(&loaded.estate, &loaded.graph, facts, usual, &request);
            plan.preflight = preflight(&loaded.estate, &plan.sequence.steps);
            plan
        }
        For::Procedure { procedure: name, .. } => {
            let procedure = loaded.estate.procedures.get(name)?;
            let asked = Asked {
                values: begun.values.clone(),
                left_standing: begun.sequence.left_standing.clone(),
                below_keep_up: begun.sequence.below_keep_up.clone(),
                from_line: begun.from_line,
                vouched_for: begun.vouched_for.clone(),
                ..Asked::default()
            };
            procedure::plan(&loaded.estate, &loaded.graph, facts, usual, procedure, &asked)
        }
    })
}

/// Works out the procedure that takes over, from a fresh look (R32).
pub(crate) async fn divert_from_now(engine: &Engine, id: RunId, name: &ProcedureName, known: [&str; 2]) -> Result<Divert, String> {
    let loaded = engine.loaded().ok_or("no estate is loaded")?;
    let facts: Facts = engine.hands.look(loaded.estate.services.values().cloned().collect()).await.into_iter().collect();
    let (after, in_freeze) = read(&engine.shared.runs)
        .get(&id)
        .map_or((0, BTreeSet::new()), |r| (r.begun.sequence.steps.len() as u32, r.begun.in_freeze.clone()));
    let usual = engine.usual(&loaded.estate).await;
    let divert = plan_divert(&loaded.estate, &loaded.graph, &facts, &usual, name, known, after)?;
    // What a begin is asked, a divert is asked too: freezes, the hosts' managers, the ways to them, the looks before.
    let mut plan = divert.as_plan(name, &loaded.estate);
    plan.heed_freezes(&loaded.estate, engine.hands.clock.now(), &in_freeze);
    engine.heed_hosts(&mut plan, &loaded.estate, &BTreeSet::new()).await;
    if !plan.can_begin() {
        return Err(plan.refusals().join("; "));
    }
    let answers = engine.hands.preflight(divert.preflight.clone()).await;
    let against: Vec<String> = answers
        .iter()
        .filter(|(_, a)| a.verdict != Verdict::Holds)
        .map(|(look, answer)| format!("{}: {}", look.says, answer.says))
        .collect();
    if against.is_empty() { Ok(divert) } else { Err(against.join("; ")) }
}
