//! What every single act is asked, whoever or whatever gives it: on the way forward, back and diverted, tried again, forced,
//! and after a restart of the server alike. One list: a guard that stands here stands everywhere.

use crate::{
    model::task::Task,
    plan::{Part, StepId},
    run::{
        acts::ActKind,
        holds::{HoldCause, Restriction},
        state::Run,
    },
};

/// What a guard has against an act.
pub(super) enum Against {
    /// It is not given as long as this is so: the run holds for it.
    Holds(HoldCause),
    /// Its step fails by it.
    Fails(String),
}

type Guard = fn(&Run, StepId, ActKind) -> Option<Against>;

/// The list.
const EVERY_ACT: [Guard; 5] = [standstill, released, restricted, hands_off, frozen];

impl Run {
    /// What is against an act now, by the first guard that has something.
    pub(super) fn against(&self, step: StepId, kind: ActKind) -> Option<Against> {
        EVERY_ACT.iter().find_map(|guard| guard(self, step, kind))
    }
}

/// The one switch (R36): at a standstill nothing is acted on, whatever was decided.
fn standstill(run: &Run, _: StepId, _: ActKind) -> Option<Against> {
    run.hold_causes().any(|c| matches!(c, HoldCause::Standstill)).then_some(Against::Holds(HoldCause::Standstill))
}

/// What was let go of is others' to act on (R7).
fn released(run: &Run, step: StepId, _: ActKind) -> Option<Against> {
    let address = run.begun.sequence.step(step).address().filter(|a| run.is_released(a))?;
    Some(Against::Fails(format!("{address} was released from this run")))
}

/// What the newest edition has against it (R25). What is half way through an attempt is decided on as any step that failed;
/// what has not begun is only held.
fn restricted(run: &Run, step: StepId, kind: ActKind) -> Option<Against> {
    let address = run.begun.sequence.step(step).address()?;
    let restriction = run.restrictions.get(address).filter(|r| match r {
        Restriction::Acts { .. } => true,
        Restriction::Force => kind == ActKind::Force,
    })?;
    let (address, why) = (address.clone(), restriction.says());
    let is_half_way = run.in_flight.contains(&step) && run.step_now(step).attempts > 0;
    Some(if is_half_way { Against::Fails(format!("{address} {why}")) } else { Against::Holds(HoldCause::Restricted { address, why }) })
}

/// Found as it was wished when it was planned, and not any more: nobody acts on it by a run, as its own edition says (R11).
fn hands_off(run: &Run, step: StepId, _: ActKind) -> Option<Against> {
    let address = run.begun.sequence.step(step).address()?;
    let reason = run.begun.services.get(address)?.hands_off.as_ref()?;
    Some(Against::Fails(format!("{address} is hands-off: {reason}")))
}

/// A change freeze that began meanwhile lets starts and the way back go on, and holds what takes something from its users: new
/// stops, and further acts that they notice (R25).
fn frozen(run: &Run, step: StepId, kind: ActKind) -> Option<Against> {
    let planned = run.begun.sequence.step(step);
    let address = planned.address()?;
    let impact = match (planned.part, kind, planned.task()) {
        (Part::PutBack, ..) => return None,
        (_, ActKind::Stop, _) => run.service(step).impact.level,
        (_, ActKind::Further, Some(Task::Act { act, .. })) => run.service(step).acts.get(act)?.noticed()?.level,
        _ => return None,
    };
    let (_, frozen) = run.frozen.iter().find(|(name, f)| impact >= f.impact && !run.begun.in_freeze.contains(*name))?;
    Some(Against::Holds(HoldCause::Restricted { address: address.clone(), why: frozen.says.clone() }))
}
