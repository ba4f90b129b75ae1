//! Storing what a turn came to, and only then carrying out what follows; what becomes of it where it could not be stored (R27).

use std::{collections::BTreeSet, sync::PoisonError};

use yantro_core::run::{HoldCause, Input, Order, Run, RunId};
use yantro_store::{Batch, StoreError};

use super::{RESERVE_BYTES, STORE_AGAIN, Work};
use crate::{
    ended::end_process,
    engine::read,
    error::EngineError,
    told::{
        publish::{Published, Topic},
        runs::brief,
    },
};

/// An error with all that it comes from: what is to be mended stands last.
fn told(error: &(dyn std::error::Error + 'static)) -> String {
    let all: Vec<String> = std::iter::successors(Some(error), |e| e.source()).map(ToString::to_string).collect();
    all.join(": ")
}

impl Work {
    /// Stores what happened, and only then carries out what follows; until nothing more follows.
    pub(crate) async fn settle(&mut self) {
        if self.batch.is_empty() && self.trouble().is_some() {
            // Whether there is room again is found out by storing something.
            self.batch.settings.push(("alive_at".to_owned(), self.engine.hands.clock.now().as_ms().to_string()));
        }
        while !self.batch.is_empty() || !self.orders.is_empty() || !self.replies.is_empty() {
            let batch = std::mem::take(&mut self.batch);
            let ids = match batch.is_empty() {
                true => Vec::new(),
                false => match self.engine.storage.commit(&batch) {
                    Ok(ids) => {
                        self.undo.clear();
                        ids
                    }
                    Err(error) => {
                        self.not_stored(batch, &error);
                        tokio::time::sleep(STORE_AGAIN).await;
                        return; // No act is given (R27); the loop comes back.
                    }
                },
            };
            // What is ordered from here on follows from what is not stored yet, and waits for the next turn round.
            let (acts, others) = std::mem::take(&mut self.orders).into_iter().partition(|(_, o)| matches!(o, Order::Act { .. }));
            let replies = std::mem::take(&mut self.replies);
            // Acts come first of all that follows.
            self.carry_all_out(acts);
            if !batch.is_empty() {
                if let Some(last) = ids.last() {
                    self.engine.hands.identity.came_to(*last);
                }
                self.stored(&batch, &ids);
            }
            for reply in replies {
                reply(Ok(()));
            }
            self.carry_all_out(others);
        }
        self.forget_ended();
    }

    fn carry_all_out(&mut self, orders: Vec<(RunId, Order)>) {
        for (run, order) in orders {
            self.carry_out(run, order);
        }
    }

    pub(crate) fn stored(&mut self, batch: &Batch, ids: &[i64]) {
        if batch.edition.is_some() {
            self.freezes_at = 0;
        }
        for ((run, stamped), id) in batch.events.iter().zip(ids) {
            let body = serde_json::json!({ "run": run, "no": stamped.no, "at": stamped.at, "event": brief(&stamped.event) });
            self.engine.shared.publisher.tell(Published::new(Topic::Run, Some(self.engine.place(*id)), &body));
        }
        if self.trouble().is_some() {
            tracing::info!("events can be stored again");
            self.make_reserve();
            let now = self.engine.hands.clock.now();
            let for_ms = self.trouble_since.take().map_or(0, |at| now.since(at).as_millis() as u64);
            // What was asked for when it could not be stored came to nothing: all is as after a restart, and asked for again.
            self.back_to_the_store(self.open_runs().into_iter().collect());
            for run in self.open_runs() {
                // What was under way meanwhile is looked for, before anything is decided on what was never stored.
                let orders = read(&self.engine.shared.runs).get(&run).map(Run::recover).unwrap_or_default();
                self.orders.extend(orders.into_iter().map(|o| (run, o)));
                // Nobody looked meanwhile: it is as if the server had been away.
                let _ = self.input(run, Input::Away { for_ms });
                let is_storage = |c: &&HoldCause| matches!(c, HoldCause::Storage { .. });
                let causes: Vec<HoldCause> = read(&self.engine.shared.runs)
                    .get(&run)
                    .map(|r| r.hold_causes().filter(is_storage).cloned().collect())
                    .unwrap_or_default();
                for cause in causes {
                    let _ = self.input(run, Input::Unhold { cause, by: "there is room again".to_owned() });
                }
            }
            // Last: whoever sees that there is room again sees what it comes to.
            *self.engine.shared.storage_trouble.write().unwrap_or_else(PoisonError::into_inner) = None;
            self.engine.shared.publisher.tell(Published::new(Topic::Server, None, &serde_json::json!({})));
        }
    }

    /// Nothing of the batch was stored: so nothing of it was decided. Every run is as the store has it, whoever asked is told,
    /// and what acts and looks came to meanwhile is asked for again once there is room (R27).
    pub(crate) fn not_stored(&mut self, batch: Batch, error: &StoreError) {
        self.freezes_at = 0;
        let why = told(error);
        if !error.is_passing() {
            end_process(&format!("events cannot be stored, and no trying again mends it: {why}"));
        }
        if self.trouble().is_some() {
            *self.engine.shared.storage_trouble.write().unwrap_or_else(PoisonError::into_inner) = Some(why);
            // The hold itself, which is all that is waiting to be stored.
            self.batch = batch;
            return;
        }
        tracing::error!(%error, "events cannot be stored: nothing is begun until they can");
        self.trouble_since = Some(self.engine.hands.clock.now());
        for undo in std::mem::take(&mut self.undo).into_iter().rev() {
            undo();
        }
        self.orders.clear();
        // One that would have ended by what was not stored is open.
        let mut decided: BTreeSet<RunId> = batch.events.iter().map(|(run, _)| *run).collect();
        decided.extend(self.open_runs());
        self.batch = Batch { session: batch.session, ..Batch::default() };
        self.back_to_the_store(decided);
        // Room for the hold itself.
        let _ = std::fs::remove_file(&self.reserve);
        for run in self.open_runs() {
            let _ = self.input(run, Input::Hold(HoldCause::Storage { why: why.clone() }));
        }
        // Nothing follows from a hold but that nothing does.
        self.orders.clear();
        // Said once all is as the store has it: whoever reads it sees no run that is nowhere stored.
        *self.engine.shared.storage_trouble.write().unwrap_or_else(PoisonError::into_inner) = Some(why.clone());
        for reply in std::mem::take(&mut self.replies) {
            reply(Err(EngineError::NotStored(why.clone())));
        }
        self.engine.shared.publisher.tell(Published::new(Topic::Server, None, &serde_json::json!({})));
    }

    /// Runs as their stored events have them, with the locks that they had by these; one of which nothing is stored was never begun.
    fn back_to_the_store(&mut self, of: BTreeSet<RunId>) {
        let reader = self.engine.reader();
        for id in of {
            let events = reader.as_ref().map_err(|e| told(e)).and_then(|r| r.events_of(id).map_err(|e| told(&e)));
            let events = events.unwrap_or_else(|why| end_process(&format!("run {id} cannot be read back after storing failed: {why}")));
            let stored = Run::replay(id, events.into_iter().map(|e| (e.at, e.event)));
            let mut runs = self.engine.shared.runs.write().unwrap_or_else(PoisonError::into_inner);
            match stored {
                Some(run) => drop(runs.insert(id, run)),
                None => {
                    runs.remove(&id);
                    drop(runs);
                    self.locks.release(id);
                    self.asked_as.retain(|_, run| *run != id);
                    self.next_run = self.next_run.min(id.0);
                }
            }
        }
        self.rooms_at_hand = None;
        // What was taken for steps that are none gives way; what they had, no two of them had.
        self.lock_anew();
    }

    pub(crate) fn make_reserve(&self) {
        if std::fs::metadata(&self.reserve).map_or(0, |m| m.len()) < RESERVE_BYTES as u64
            && let Err(error) = std::fs::write(&self.reserve, vec![0x59u8; RESERVE_BYTES])
        {
            tracing::warn!(%error, "no room to keep a reserve");
        }
    }
}
