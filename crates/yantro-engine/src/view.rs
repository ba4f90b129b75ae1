//! A run as it is shown: everything a person needs to see, computed here once for all of them.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use yantro_core::{
    run::{Allowed, Run, RunId, RunState, StepNow, StepState, event::Difference},
    sequence::Step,
    time::Timestamp,
};

/// A run in a list.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct RunSummary {
    /// Its number.
    pub id: RunId,
    /// How it stands, as a word.
    pub state: String,
    /// What it does, in a few words.
    pub title: String,
    /// Who began it.
    pub who: String,
    /// When.
    pub began_at: Timestamp,
    /// When it ended.
    pub ended_at: Option<Timestamp>,
    /// How many steps it has.
    pub steps: u32,
    /// How many have ended.
    pub steps_ended: u32,
}

/// A step, as planned and as it stands.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
pub struct StepView {
    /// As planned.
    pub planned: Step,
    /// As it stands.
    pub now: StepNow,
    /// What people call its service.
    pub title: String,
    /// The rungs it climbs, in words, in order.
    pub rungs: Vec<String>,
}

/// A run in full.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
pub struct RunView {
    /// Its number.
    pub id: RunId,
    /// How it stands.
    pub state: RunState,
    /// What it does, in a few words.
    pub title: String,
    /// Who began it.
    pub who: String,
    /// Why.
    pub why: Option<String>,
    /// The edition of the estate.
    pub edition: u64,
    /// When it began.
    pub began_at: Timestamp,
    /// When it ended.
    pub ended_at: Option<Timestamp>,
    /// When it will likely have ended; where it is held: if decided now.
    pub likely_end: Option<Timestamp>,
    /// Behind whom it queues.
    pub queued_behind: Vec<String>,
    /// The hold's number, while it is held.
    pub hold: Option<u32>,
    /// Why it is held, in sentences.
    pub held_because: Vec<String>,
    /// What an operator may do now.
    pub allowed: Vec<Allowed>,
    /// What it put over the estate's settings, by address.
    pub overrides: yantro_core::overrides::Overrides,
    /// How many services it works on at once, where it was asked to go slower than the estate allows.
    pub at_once: Option<u32>,
    /// Services that were released from it.
    pub released: Vec<yantro_core::name::Address>,
    /// The steps.
    pub steps: Vec<StepView>,
    /// What stands differently from how it was found, once it ended.
    pub differences: Vec<Difference>,
    /// The number of its newest event.
    pub events: u64,
}

/// What a run does, in a few words.
pub(crate) fn title_of(run: &Run) -> String {
    let chosen: Vec<String> = run.begun.sequence.chosen.iter().map(ToString::to_string).collect();
    let wish = run.begun.sequence.wish;
    match chosen.as_slice() {
        [one] => format!("{wish} {one}"),
        [first, second] => format!("{wish} {first}, {second}"),
        [first, rest @ ..] => format!("{wish} {first} and {} more", rest.len()),
        [] => wish.to_string(),
    }
}

/// Shows a run.
pub(crate) fn view(run: &Run, now: Timestamp) -> RunView {
    let steps = run
        .steps()
        .map(|(planned, step)| {
            let service = &run.begun.services[&planned.address];
            StepView {
                planned: planned.clone(),
                now: step.clone(),
                title: service.title.clone(),
                rungs: service.ladder_of(planned.kind).iter().map(|r| r.kind.says()).collect(),
            }
        })
        .collect();
    RunView {
        id: run.id,
        state: run.state(),
        title: title_of(run),
        who: run.begun.who.clone(),
        why: run.begun.why.clone(),
        edition: run.begun.edition,
        began_at: run.began_at,
        ended_at: run.end().map(|(at, ..)| *at),
        likely_end: if run.has_ended() { None } else { Some(likely_end(run, now)) },
        queued_behind: run.queued_behind().to_vec(),
        hold: run.hold_no(),
        held_because: run.hold_causes().map(|c| because(run, c)).collect(),
        allowed: run.allowed(),
        overrides: run.begun.overrides.clone(),
        at_once: run.begun.at_once,
        released: run.begun.services.keys().filter(|a| run.is_released(a)).cloned().collect(),
        steps,
        differences: run.end().map(|(_, _, d)| d.clone()).unwrap_or_default(),
        events: run.event_count(),
    }
}

fn because(run: &Run, cause: &yantro_core::run::HoldCause) -> String {
    use yantro_core::run::HoldCause;
    let HoldCause::Step { step } = cause else { return cause.to_string() };
    let planned = run.begun.sequence.step(*step);
    let said = match &run.step_now(*step).state {
        StepState::Failed { reason } | StepState::OutcomeUnknown { reason } => reason.clone(),
        StepState::Asking { reason } => format!("{reason}; may it be ended by force?"),
        other => other.word().to_owned(),
    };
    format!("step {step} ({} {}): {said}", planned.kind.word(), planned.address)
}

/// The longest way still to go: of each step what is left of its usual time, and what follows it.
fn likely_end(run: &Run, now: Timestamp) -> Timestamp {
    let left = run
        .steps()
        .filter(|(_, n)| !n.state.has_ended())
        .map(|(planned, n)| {
            let spent = n.began_at.map_or(0, |at| now.since(at).as_millis() as u64).min(planned.usual_ms);
            planned.tail_ms - spent
        })
        .max()
        .unwrap_or(0);
    now + std::time::Duration::from_millis(left)
}
