//! The report of a run: one source for page, Markdown, CSV and JUnit XML; and one run beside another.

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use yantro_core::{
    plan::{
        Part,
        forecast::{Basis, kept_under},
    },
    proof::SeenState,
    run::{ActEnd, Difference, Event, FoundProcess, Otherwise, Run, RunId, RunState, StepState},
    words::{name::Address, time::Timestamp},
};

use crate::{
    engine::Engine,
    error::EngineError,
    told::view::{NoteView, PreflightView, RunView, view},
};

/// A run as it is handed on.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
pub struct Report {
    /// Its number.
    pub run: RunId,
    /// What it did.
    pub title: String,
    /// What the estate is called.
    pub estate: String,
    /// The edition of the estate.
    pub edition: u64,
    /// How it stands.
    pub state: RunState,
    /// Who began it, and why.
    pub who: String,
    /// Why.
    pub why: Option<String>,
    /// The number of the change it belongs to.
    pub change: Option<String>,
    /// When it began.
    pub began_at: Timestamp,
    /// When it ended.
    pub ended_at: Option<Timestamp>,
    /// How long it took, in milliseconds.
    pub took_ms: Option<u64>,
    /// How long it was likely to take when it was begun, and in nine of ten cases.
    pub forecast_ms: Option<(u64, u64)>,
    /// What its texts were filled with.
    pub values: BTreeMap<String, String>,
    /// The looks taken before its first act.
    pub preflight: Vec<PreflightView>,
    /// Its steps.
    pub steps: Vec<ReportStep>,
    /// What was decided, by whom and why.
    pub decisions: Vec<Decided>,
    /// What stands otherwise than it was to be left.
    pub otherwise: Vec<Otherwise>,
    /// What stands differently from how it was found.
    pub differences: Vec<Difference>,
    /// How everything it was answerable for was found.
    pub as_found: Vec<Found>,
    /// What people wrote down.
    pub notes: Vec<NoteView>,
}

/// A step in a report.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
pub struct ReportStep {
    /// Its number.
    pub step: u32,
    /// The line of the procedure.
    pub line: Option<u32>,
    /// Which part of the run.
    pub part: Part,
    /// What it did.
    pub says: String,
    /// What its times are kept under.
    pub under: String,
    /// How it ended or stands, as a word.
    pub state: String,
    /// Why, where somebody or something said so.
    pub why: Option<String>,
    /// When it began.
    pub began_at: Option<Timestamp>,
    /// How long it took, in milliseconds.
    pub took_ms: Option<u64>,
    /// How long it usually takes, and in nine of ten cases.
    pub usual_ms: u64,
    /// The 90 % point.
    pub slow_ms: u64,
    /// What that is made from.
    pub basis: Basis,
    /// How often it was tried.
    pub attempts: u32,
    /// The exact commands.
    pub commands: Vec<String>,
    /// The exit of the last act, in words.
    pub exit: Option<String>,
    /// The rungs climbed, each with what was seen.
    pub proof: Vec<String>,
    /// The log lines that were wanted and seen.
    pub lines: Vec<String>,
}

/// How a service was found.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
pub struct Found {
    /// The service.
    pub address: Address,
    /// Its state.
    pub state: SeenState,
    /// How many rungs stood, where it was ailing.
    pub rungs: Option<u32>,
    /// Which process it was.
    pub process: Option<FoundProcess>,
}

impl Found {
    /// In words.
    pub fn says(&self) -> String {
        let rungs = self.rungs.map_or(String::new(), |n| format!(", {n} rung{} standing", if n == 1 { "" } else { "s" }));
        let process = self.process.map_or(String::new(), |p| format!(", process {}", p.pid));
        format!("{}: {}{rungs}{process}", self.address, self.state)
    }
}

/// A decision in a report.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
pub struct Decided {
    /// When.
    pub at: Timestamp,
    /// Who.
    pub who: String,
    /// What.
    pub what: String,
    /// Why.
    pub why: Option<String>,
}

impl Engine {
    fn whole(&self, id: RunId) -> Result<(Run, Vec<(Timestamp, Event)>), EngineError> {
        let events: Vec<(Timestamp, Event)> = self.reader()?.events_of(id)?.into_iter().map(|e| (e.at, e.event)).collect();
        let run = Run::replay(id, events.clone()).ok_or(EngineError::NoRun(id))?;
        Ok((run, events))
    }

    /// The report of a run. For threads that may block.
    pub fn report(&self, id: RunId) -> Result<Report, EngineError> {
        let (run, events) = self.whole(id)?;
        let estate = self.loaded().map(|l| l.estate.name.clone()).unwrap_or_default();
        Ok(report(&run, &events, estate, self.clock().now()))
    }
}

fn report(run: &Run, events: &[(Timestamp, Event)], estate: String, now: Timestamp) -> Report {
    let shown: RunView = view(run, now, None);
    let took_ms = shown.ended_at.map(|end| end.since(shown.began_at).as_millis() as u64);
    let decisions = events.iter().filter_map(|(at, e)| match e {
        Event::Decided { decision: d } => {
            let what = match (d.kind.step(), &d.kind) {
                (_, yantro_core::run::DecisionKind::Answer { step, value }) => format!("answered step {step}: {value}"),
                (Some(step), kind) => format!("{} step {step}", kind.word()),
                (None, kind) => kind.word().to_owned(),
            };
            Some(Decided { at: *at, who: d.who.clone(), what, why: d.why.clone() })
        }
        _ => None,
    });
    let steps = shown.steps.iter().map(|s| {
        let acts = &s.now.acts;
        let why = match &s.now.state {
            StepState::Failed { reason } | StepState::OutcomeUnknown { reason } | StepState::Asking { reason, .. } => Some(reason.clone()),
            StepState::Ended(yantro_core::run::StepEnd::PassedOver { by, why } | yantro_core::run::StepEnd::Vouched { by, why }) => {
                Some(format!("{by}: {why}"))
            }
            _ => acts.iter().rev().find_map(|a| a.failed.as_ref().map(|(_, why)| why.clone())),
        };
        let rungs = s.now.rungs.iter().chain(acts.last().into_iter().flat_map(|a| &a.rungs));
        let name = |rung: u32| s.rungs.get(rung as usize).cloned().unwrap_or_default();
        ReportStep {
            step: s.planned.id.0,
            line: s.planned.line,
            part: s.planned.part,
            says: s.says.clone(),
            under: format!("{} {}", s.planned.kind().word(), kept_under(&run.begun.sequence.of, &s.planned)),
            state: s.now.state.word().to_owned(),
            why,
            began_at: s.now.began_at,
            took_ms: s.now.began_at.zip(s.now.ended_at).map(|(from, to)| to.since(from).as_millis() as u64),
            usual_ms: s.planned.usual_ms,
            slow_ms: s.planned.slow_ms,
            basis: s.planned.basis,
            attempts: s.now.attempts,
            commands: acts.iter().filter_map(|a| a.begun.as_ref()).map(yantro_core::run::ActBegun::typed).collect(),
            exit: acts.iter().rev().find_map(|a| a.end.as_ref()).map(|(_, end)| told(end)),
            proof: rungs.filter(|r| r.climbed).map(|r| format!("{}: {}", name(r.rung), r.says)).collect(),
            lines: acts.iter().flat_map(|a| &a.logs).flat_map(|l| &l.hits).map(|h| h.text.clone()).collect(),
        }
    });
    Report {
        run: shown.id,
        title: shown.title.clone(),
        estate,
        edition: shown.edition,
        state: shown.state,
        who: shown.who.clone(),
        why: shown.why.clone(),
        change: shown.change.clone(),
        began_at: shown.began_at,
        ended_at: shown.ended_at,
        took_ms,
        forecast_ms: run.begun.forecast.as_ref().map(|f| (f.likely_ms, f.late_ms)),
        values: shown.values.iter().filter(|(n, _)| n.as_str() != "dir").map(|(n, v)| (n.clone(), v.clone())).collect(),
        steps: steps.collect(),
        decisions: decisions.collect(),
        preflight: shown.preflight,
        otherwise: shown.otherwise,
        differences: shown.differences,
        as_found: run
            .begun
            .as_found
            .iter()
            .map(|(a, state)| Found {
                address: a.clone(),
                state: *state,
                rungs: run.begun.found_rungs.get(a).copied(),
                process: run.begun.found_processes.get(a).copied(),
            })
            .collect(),
        notes: shown.notes,
    }
}

fn told(end: &ActEnd) -> String {
    match end {
        ActEnd::Exited { code, .. } => format!("exit code {code}"),
        ActEnd::Signalled { signal, .. } => format!("ended by signal {signal}"),
        ActEnd::TimedOut { .. } => "took longer than it may".to_owned(),
        ActEnd::Sent => "sent".to_owned(),
        ActEnd::Refused { why, .. } => why.clone(),
    }
}
