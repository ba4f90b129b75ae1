//! Carrying out the core's orders, once what they follow from is stored.

use std::{collections::BTreeMap, sync::Arc, time::Duration};

use yantro_core::{
    guards::{restrictions, unconfirmed},
    holders::Wants,
    model::{Service, task::Task},
    plan::StepId,
    proof::{Facts, SeenState},
    run::{ActId, ActKind, Begun, HoldCause, Input, Order, Run, RunId},
    words::{name::Address, time::Timestamp},
};

use crate::{
    engine::{Engine, read},
    hands::{Announced, Given, identity},
    messages::Msg,
    told::{
        publish::{Published, Topic},
        view,
    },
    turn::Work,
};

impl Work {
    pub(crate) fn carry_out(&mut self, id: RunId, order: Order) {
        let hands = self.engine.hands.clone();
        tracing::trace!(run = %id, ?order, "order");
        match order {
            Order::TakeLocks => {
                self.locks.wait(id);
                self.serve_queue();
            }
            Order::Release => {
                hands.stop_looking_for(id);
                self.locks.release(id);
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
                    let planned = engine.divert_from_now(id, &procedure, [&failed, &reason]).await;
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
                    let boot = read(&self.engine.shared.runs).get(&id).and_then(|run| run.act(step, act)?.begun.as_ref()?.boot.clone());
                    hands.find_act(given, service, boot);
                }
            }
            Order::Climb { step, attempt, kind, from, act } => {
                let runs = read(&self.engine.shared.runs);
                let Some(run) = runs.get(&id) else { return };
                let (given, since) = run.shows_since(step, act);
                let Some(service) = run.carried(step, false) else { return };
                hands.climb(id, step, attempt, kind, from, service, given.and_then(|g| g.begun.as_ref()), since);
            }
            Order::WatchLog { step, attempt, address, kind, act } => {
                let runs = read(&self.engine.shared.runs);
                let Some(run) = runs.get(&id) else { return };
                let Some(marks) = run.act(step, act).and_then(|a| Some(a.begun.as_ref()?.marks.clone())) else { return };
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
        let (identity, service, meanwhile) = {
            let runs = read(&self.engine.shared.runs);
            let known = runs.get(&run)?;
            (identity(known, act), known.carried(step, true)?, known.stands_meanwhile(step))
        };
        let host = self.host_of(&service.address);
        Some((Given { run, step, act, kind, identity, meanwhile }, service, host))
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

    /// Gives locks to whoever waits and can have them.
    pub(crate) fn serve_queue(&mut self) {
        let served = {
            let runs = read(&self.engine.shared.runs);
            self.locks.serve(|id| Some(runs.get(&id).filter(|r| !r.has_ended())?.wants()))
        };
        for (id, outcome) in served {
            let input = match outcome {
                Ok(()) => Input::Locked,
                Err(behind) => {
                    let runs = read(&self.engine.shared.runs);
                    let says = |r: &RunId| match runs.get(r) {
                        Some(run) => format!("run {r} ({}, {})", view::title_of(run), run.begun.who),
                        None => format!("run {r}"),
                    };
                    Input::Queued { behind: behind.iter().map(says).collect() }
                }
            };
            // Each is open: that was asked a moment ago.
            let _ = self.input(id, input);
        }
    }

    /// Looks at everything a run is answerable for, and at what relies on that, and whether the sequence still is the one confirmed.
    pub(crate) fn first_look(&self, id: RunId) {
        let engine = self.engine.clone();
        let runs = read(&self.engine.shared.runs);
        let Some(run) = runs.get(&id) else { return };
        let services: Vec<Arc<Service>> = run.begun.services.values().chain(run.begun.beside.values()).cloned().collect();
        drop(runs);
        tokio::spawn(async move {
            let mut seen = engine.hands.look(services).await;
            // What it was begun by may be large: it is read where it is.
            let unconfirmed = match read(&engine.shared.runs).get(&id) {
                Some(run) => {
                    let unconfirmed = engine.unconfirmed(&run.begun, &seen);
                    seen.retain(|a, _| run.begun.services.contains_key(a));
                    unconfirmed
                }
                None => return,
            };
            let ailing = seen.iter().filter(|(_, s)| **s == SeenState::Ailing);
            let rungs = ailing.filter_map(|(a, _)| Some((a.clone(), engine.hands.watched(a)?.seen.rungs_climbed))).collect();
            let identified = seen.keys().filter_map(|a| Some((a.clone(), engine.hands.watched(a)?.process?)));
            let processes = identified.collect();
            engine.hands.tell(id, Input::FirstLooked { seen, rungs, processes, unconfirmed });
        });
    }

    /// Has every run hold the locks that it holds by what is stored.
    pub(crate) fn lock_anew(&mut self) {
        let held: Vec<(RunId, Wants)> =
            read(&self.engine.shared.runs).values().filter(|r| r.has_locks()).map(|r| (r.id, r.wants())).collect();
        for (run, behind) in self.locks.give_anew(held) {
            tracing::error!(%run, ?behind, "locks that it held are taken; it goes on without them");
        }
    }

    /// Picks every run up where it was. Nothing is given again before it was looked for.
    pub(crate) fn recover(&mut self, alive_at: Option<Timestamp>) {
        let now = self.engine.hands.clock.now();
        let ids = self.open_runs();
        self.lock_anew();
        for id in ids {
            let away = alive_at.map_or(Duration::ZERO, |at| now.since(at));
            let orders = read(&self.engine.shared.runs).get(&id).map(Run::recover).unwrap_or_default();
            // First of all, so that a server that was started to look only begins nothing by what comes next.
            if read(&self.engine.shared.standstill).is_some() {
                let _ = self.input(id, Input::Hold(HoldCause::Standstill));
            }
            let _ = self.input(id, Input::Away { for_ms: away.as_millis() as u64 });
            // What came while it was away: a newer edition may restrict it.
            if let Some(loaded) = self.engine.loaded() {
                let restrictions = read(&self.engine.shared.runs).get(&id).map(|r| restrictions(&r.begun, &loaded.estate));
                let _ = restrictions.map(|r| self.input(id, Input::Restricted(r)));
            }
            self.orders.extend(orders.into_iter().map(|o| (id, o)));
        }
    }
}

impl Engine {
    /// What would be done by now that nobody confirmed (R8).
    fn unconfirmed(&self, begun: &Begun, seen: &BTreeMap<Address, SeenState>) -> Vec<String> {
        let Some(loaded) = self.loaded() else { return vec!["no estate is loaded any more".to_owned()] };
        let watched = |a: &Address| Some((a.clone(), self.hands.watched(a)?.seen.state));
        let mut facts: Facts = loaded.estate.services.keys().filter_map(watched).collect();
        facts.0.extend(seen.iter().map(|(a, s)| (a.clone(), *s)));
        unconfirmed(&loaded.newest(), begun, &facts, seen)
    }
}
