//! A made-up world that runs are played in: where nothing is real, a run's orders are carried out here, and nowhere else. A
//! world says how things stand and what comes of acts and climbs; rehearsals have one, and so have tests.

use std::collections::BTreeMap;

use crate::{
    plan::{Preflight, StepId},
    proof::{Answer, SeenState},
    run::{ActId, ActKind, Divert, Input, Order, Run},
    words::{
        kinds::StepKind,
        name::{Address, ProcedureName},
    },
};

/// A climb that was ordered: a step's rungs are looked at in order, until it is told to stop.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Climb {
    /// The step.
    pub step: StepId,
    /// The attempt that the looks belong to.
    pub attempt: u32,
    /// Whose ladder.
    pub kind: StepKind,
    /// The rung to go on from.
    pub from: u32,
}

/// A made-up world.
pub trait Stage {
    /// Something comes into a run, when the world lets it.
    fn comes(&mut self, run: &Run, input: Input);

    /// How services are seen to stand by a look.
    fn look(&mut self, run: &Run, addresses: Vec<Address>) -> BTreeMap<Address, SeenState>;

    /// An act is given, under its identity.
    fn act(&mut self, run: &Run, step: StepId, act: ActId, kind: ActKind);

    /// What became of an act is found out, after the server was gone.
    fn find(&mut self, run: &Run, step: StepId, act: ActId, kind: ActKind);

    /// A step's ladder is climbed.
    fn climb(&mut self, run: &Run, climb: Climb);

    /// The procedure that takes over is worked out.
    ///
    /// # Errors
    /// Why it cannot be, in a sentence.
    fn divert(&mut self, run: &Run, procedure: &ProcedureName, failed: &str, reason: &str) -> Result<Divert, String>;

    /// The run asks for its locks: in a world with one run it has them.
    fn take_locks(&mut self, run: &Run) {
        self.comes(run, Input::Locked);
    }

    /// What the confirmed sequence did not have, by the first look: nothing, where nobody else acts.
    fn unconfirmed(&mut self, _run: &Run, _seen: &BTreeMap<Address, SeenState>) -> Vec<String> {
        Vec::new()
    }

    /// What a look before the first act answers.
    fn preflight(&mut self, _run: &Run, _look: &Preflight) -> Answer {
        Answer::holds("taken as so")
    }

    /// Nobody looks for this step any more.
    fn stop_looking(&mut self, _run: &Run, _step: StepId) {}

    /// A proven step's log is read on for forbidden lines.
    fn watch_log(&mut self, _run: &Run, _step: StepId, _attempt: u32) {}

    /// An act that changes nothing is ended in the middle.
    fn recall(&mut self, _run: &Run, _step: StepId, _act: ActId) {}

    /// The locks on one service are given back.
    fn unlock(&mut self, _run: &Run, _address: &Address) {}

    /// All locks are given back.
    fn release(&mut self, _run: &Run) {}

    /// Carries out an order.
    fn carry_out(&mut self, run: &Run, order: Order) {
        match order {
            Order::TakeLocks => self.take_locks(run),
            Order::FirstLook => {
                let seen = self.look(run, run.answerable().cloned().collect());
                let unconfirmed = self.unconfirmed(run, &seen);
                self.comes(run, Input::FirstLooked { seen, rungs: BTreeMap::new(), processes: BTreeMap::new(), unconfirmed });
            }
            Order::FreshLook { step, addresses } => {
                let seen = self.look(run, addresses);
                self.comes(run, Input::FreshLooked { step, seen });
            }
            Order::FinalLook => {
                let seen = self.look(run, run.answerable().cloned().collect());
                self.comes(run, Input::FinalLooked { seen });
            }
            Order::Preflight { looks } => {
                let answers = looks.into_iter().map(|look| (look.clone(), self.preflight(run, &look))).collect();
                self.comes(run, Input::Preflighted { answers });
            }
            Order::PlanDivert { procedure, failed, reason } => {
                let planned = self.divert(run, &procedure, &failed, &reason);
                self.comes(run, Input::DivertPlanned(planned));
            }
            Order::Act { step, act, kind } => self.act(run, step, act, kind),
            Order::FindAct { step, act, kind } => self.find(run, step, act, kind),
            Order::Climb { step, attempt, kind, from, .. } => self.climb(run, Climb { step, attempt, kind, from }),
            Order::StopLooking { step } => self.stop_looking(run, step),
            Order::WatchLog { step, attempt, .. } => self.watch_log(run, step, attempt),
            Order::Recall { step, act } => self.recall(run, step, act),
            Order::Unlock { address } => self.unlock(run, &address),
            Order::Release => self.release(run),
        }
    }
}
