//! A run as it is shown: everything a person needs to see, computed here once for all of them.

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use yantro_core::{
    plan::{Part, Preflight, Step},
    proof::Answer,
    run::{ActBegun, Allowed, Difference, Otherwise, Run, RunId, RunState, StepNow, StepState, WindowTerms},
    words::{
        name::{HostName, ProcedureName},
        time::Timestamp,
    },
};

/// A step, as planned and as it stands.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
pub struct StepView {
    /// As planned.
    pub planned: Step,
    /// As it stands.
    pub now: StepNow,
    /// What it does, in a few words, with what is known filled in.
    pub says: String,
    /// What names it in a row: its service's address, or what it does.
    pub row: String,
    /// What people call its service.
    pub title: String,
    /// What happens when it fails.
    pub if_it_fails: String,
    /// The rungs it climbs, in words, in order.
    pub rungs: Vec<String>,
    /// What each of its acts was given as, so that it can be pasted into a shell there; empty for one that has not begun.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub commands: Vec<String>,
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
    /// What having another procedure take over leads to, where that may be done now.
    pub may_divert: Option<String>,
    /// When the hold becomes a put-back by itself, where it does.
    pub hold_ends: Option<Timestamp>,
    /// What it put over the estate's settings, by address.
    pub overrides: yantro_core::overrides::Overrides,
    /// How many services it works on at once, where it was asked to go slower than the estate allows.
    pub at_once: Option<u32>,
    /// Services that were released from it.
    pub released: Vec<yantro_core::words::name::Address>,
    /// Which part it is in: on its way forward, back, or diverted.
    pub part: Part,
    /// The procedure that took over, where one did.
    pub diverted_to: Option<ProcedureName>,
    /// What its texts are filled with, by name.
    pub values: BTreeMap<String, String>,
    /// The looks taken before its first act.
    pub preflight: Vec<PreflightView>,
    /// Who has it.
    pub taken_by: String,
    /// The number of the change it belongs to.
    pub change: Option<String>,
    /// The line of its procedure that it began at, where not the first.
    pub from_line: Option<u32>,
    /// The window that it must fit.
    pub window: Option<WindowTerms>,
    /// Change freezes that it was begun in all the same.
    pub in_freeze: std::collections::BTreeSet<String>,
    /// What people wrote down, the first first.
    pub notes: Vec<NoteView>,
    /// The steps; where only what is new was asked for, those that changed since.
    pub steps: Vec<StepView>,
    /// Whether all steps are there.
    pub whole: bool,
    /// How many steps it has, and how many have ended.
    pub steps_in_all: [u32; 2],
    /// What stands otherwise than it was to be left, once it ended: the first thing to know of it.
    pub otherwise: Vec<Otherwise>,
    /// What stands differently from how it was found, once it ended.
    pub differences: Vec<Difference>,
    /// The number of its newest event.
    pub events: u64,
}

/// A look taken before the first act, and its answer.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
pub struct PreflightView {
    /// What must hold.
    pub says: String,
    /// The host it was looked at on.
    pub host: HostName,
    /// The line that asks for it; without one it was added by itself.
    pub line: Option<u32>,
    /// What was seen.
    pub answer: Answer,
}

impl PreflightView {
    /// Whether it holds.
    pub fn holds(&self) -> bool {
        self.answer.verdict == yantro_core::proof::Verdict::Holds
    }
}

impl From<(Preflight, Answer)> for PreflightView {
    fn from((look, answer): (Preflight, Answer)) -> Self {
        Self { says: look.says, host: look.host, line: look.line, answer }
    }
}

/// What somebody wrote down.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
pub struct NoteView {
    /// When.
    pub at: Timestamp,
    /// Who.
    pub who: String,
    /// What.
    pub text: String,
}

/// What a step does, with what is known by now filled in.
fn said(run: &Run, planned: &Step) -> String {
    match run.task(planned.id) {
        Some(Ok(task)) => planned.set(|s| s.title.clone()).unwrap_or_else(|| task.says()),
        _ => planned.says(),
    }
}

/// What a run does, in a few words.
pub(crate) fn title_of(run: &Run) -> String {
    run.begun.sequence.of.says()
}

/// Shows a run; with the number of an event, only those of its steps that changed after it.
pub(crate) fn view(run: &Run, now: Timestamp, since: Option<u64>) -> RunView {
    let since = since.filter(|s| run.may_be_told_since(*s));
    let all = run.begun.sequence.steps.len() as u32;
    let steps = run
        .steps()
        // What a task says changes with what is known.
        .filter(|(planned, _)| since.is_none_or(|s| run.changed_since(planned.id, s) || planned.task().is_some()))
        .map(|(planned, step)| {
            let service = planned.address().and_then(|a| run.begun.services.get(a));
            let rungs = match (planned.service(), planned.task(), service) {
                (Some(on), _, Some(service)) => service.ladder_of(on.kind),
                (None, Some(_), _) => run.carried(planned.id, false).map(|s| s.ladder.clone()).unwrap_or_default(),
                _ => Vec::new(),
            };
            StepView {
                says: said(run, planned),
                row: planned.row(),
                planned: planned.clone(),
                commands: step.acts.iter().map(|a| a.begun.as_ref().map_or_else(String::new, ActBegun::typed)).collect(),
                now: step.clone(),
                title: service.map_or_else(|| planned.says(), |s| s.title.clone()),
                rungs: rungs.iter().map(|r| r.kind.says()).collect(),
                if_it_fails: run.rule_of(planned.id).says(),
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
        may_divert: run.divert_leads_to(),
        hold_ends: run.hold_ends(),
        overrides: run.begun.overrides.clone(),
        at_once: run.begun.at_once,
        released: run.begun.services.keys().filter(|a| run.is_released(a)).cloned().collect(),
        part: run.part(),
        diverted_to: run.diverted_to().cloned(),
        values: run.values().clone(),
        preflight: run.preflight().iter().cloned().map(PreflightView::from).collect(),
        taken_by: run.taken_by().1.to_owned(),
        change: run.begun.change.clone(),
        from_line: run.begun.from_line,
        window: run.begun.window.clone(),
        in_freeze: run.begun.in_freeze.clone(),
        notes: run.notes().iter().map(|(at, who, text)| NoteView { at: *at, who: who.clone(), text: text.clone() }).collect(),
        steps,
        whole: since.is_none(),
        steps_in_all: [all, all - run.steps_not_ended()],
        otherwise: run.otherwise().to_vec(),
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
        StepState::Asking { reason, answer: None, .. } => format!("{reason}; may it be ended by force?"),
        other => other.word().to_owned(),
    };
    format!("step {step} ({}): {said}", planned.says())
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
