//! The report of a run: one source for page, Markdown, CSV and JUnit XML; and one run beside another.

use std::{collections::BTreeMap, fmt::Write, time::Duration};

use quick_junit::{NonSuccessKind, Report as JUnit, TestCase, TestCaseStatus, TestSuite};
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

/// One run beside another, step by step.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
pub struct Comparison {
    /// The run.
    pub run: RunId,
    /// The other one; none where there is no earlier run of the same kind.
    pub with: Option<RunId>,
    /// How long the run took, in milliseconds.
    pub took_ms: Option<u64>,
    /// How long the other took.
    pub with_ms: Option<u64>,
    /// How long the run was likely to take when it was begun, and in nine of ten cases.
    pub forecast_ms: Option<(u64, u64)>,
    /// Earlier runs of the same kind that ended, the newest first, ten at most.
    pub earlier: Vec<EarlierRun>,
    /// Step by step, in the order of the run.
    pub steps: Vec<Beside>,
}

/// An earlier run of the same kind.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
pub struct EarlierRun {
    /// Its number.
    pub run: RunId,
    /// How it ended.
    pub state: RunState,
    /// When it began.
    pub began_at: Timestamp,
    /// How long it took, in milliseconds.
    pub took_ms: Option<u64>,
}

/// How long a step took in earlier runs, in milliseconds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Took {
    /// In how many.
    pub runs: u32,
    /// The shortest.
    pub least_ms: u64,
    /// The middle one.
    pub median_ms: u64,
    /// The longest.
    pub most_ms: u64,
}

impl Took {
    /// Of times in any order; nothing where there are none.
    fn of(mut times: Vec<u64>) -> Option<Self> {
        times.sort_unstable();
        let (least, most) = (times.first()?, times.last()?);
        Some(Self { runs: times.len() as u32, least_ms: *least, median_ms: times[times.len() / 2], most_ms: *most })
    }
}

/// How many earlier runs a run is laid beside.
const EARLIER: usize = 10;

/// A step beside the same one in another run.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
pub struct Beside {
    /// Its number in the run.
    pub step: Option<u32>,
    /// What it does.
    pub says: String,
    /// How it ended.
    pub state: String,
    /// How it ended in the other.
    pub with_state: Option<String>,
    /// How long it took, in milliseconds.
    pub took_ms: Option<u64>,
    /// How long it took in the other.
    pub with_ms: Option<u64>,
    /// How long it was to take.
    pub usual_ms: u64,
    /// Whether it took longer than nine in ten of its kind.
    pub slow: bool,
    /// How long it took in the earlier runs of the same kind.
    pub earlier: Option<Took>,
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

    /// A run beside another; without one named, beside the last earlier one of the same kind that ended.
    pub fn compare(&self, id: RunId, with: Option<RunId>) -> Result<Comparison, EngineError> {
        let report = self.report(id)?;
        let before = self.reader()?.runs(Some(id), 500)?.into_iter();
        let same = before.filter(|r| r.title == report.title && r.ended_at.is_some() && r.steps_ended == r.steps).take(EARLIER);
        let earlier = same.map(|r| self.report(r.id)).collect::<Result<Vec<Report>, _>>()?;
        let other = with.map(|with| self.report(with)).transpose()?;
        Ok(compare(&report, other.as_ref().or(earlier.first()), &earlier))
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

/// What tells a step again in another run: what its times are kept under, its part, and the how-manieth such it is.
fn occurrences(report: &Report) -> Vec<((&str, Part, usize), &ReportStep)> {
    let mut count: BTreeMap<(&str, Part), usize> = BTreeMap::new();
    let nth = report.steps.iter().map(|s| {
        let n = count.entry((s.under.as_str(), s.part)).or_default();
        *n += 1;
        ((s.under.as_str(), s.part, *n), s)
    });
    nth.collect()
}

fn compare(report: &Report, other: Option<&Report>, earlier: &[Report]) -> Comparison {
    let mut times: BTreeMap<(&str, Part, usize), Vec<u64>> = BTreeMap::new();
    for (key, step) in earlier.iter().flat_map(occurrences) {
        times.entry(key).or_default().extend(step.took_ms);
    }
    let mut of_earlier: BTreeMap<u32, Took> =
        occurrences(report).into_iter().filter_map(|(key, s)| Some((s.step, Took::of(times.remove(&key)?)?))).collect();
    let mut theirs: BTreeMap<(&str, Part), Vec<&ReportStep>> = BTreeMap::new();
    for step in other.iter().flat_map(|o| o.steps.iter().rev()) {
        theirs.entry((&step.under, step.part)).or_default().push(step);
    }
    let mut steps: Vec<Beside> = report
        .steps
        .iter()
        .map(|s| {
            let same = theirs.get_mut(&(s.under.as_str(), s.part)).and_then(Vec::pop);
            Beside {
                step: Some(s.step),
                says: s.says.clone(),
                state: s.state.clone(),
                with_state: same.map(|o| o.state.clone()),
                took_ms: s.took_ms,
                with_ms: same.and_then(|o| o.took_ms),
                usual_ms: s.usual_ms,
                slow: s.usual_ms > 0 && s.took_ms.is_some_and(|ms| ms > s.slow_ms.max(500)),
                earlier: of_earlier.remove(&s.step),
            }
        })
        .collect();
    let only_theirs = theirs.into_values().flatten().map(|o| Beside {
        step: None,
        says: o.says.clone(),
        state: "not there".to_owned(),
        with_state: Some(o.state.clone()),
        took_ms: None,
        with_ms: o.took_ms,
        usual_ms: o.usual_ms,
        slow: false,
        earlier: None,
    });
    steps.extend(only_theirs);
    Comparison {
        run: report.run,
        with: other.map(|o| o.run),
        took_ms: report.took_ms,
        with_ms: other.and_then(|o| o.took_ms),
        forecast_ms: report.forecast_ms,
        earlier: earlier.iter().map(|e| EarlierRun { run: e.run, state: e.state, began_at: e.began_at, took_ms: e.took_ms }).collect(),
        steps,
    }
}

fn seconds(ms: u64) -> String {
    format!("{:.1} s", ms as f64 / 1000.0)
}

/// Text within a cell of a Markdown table.
fn cell(text: &str) -> String {
    one_line(text).replace('|', "\\|")
}

/// Text that others wrote, in a line of Markdown: it begins no heading of its own, and no markup of a page.
fn one_line(text: &str) -> String {
    let text: String = text.chars().map(|c| if c.is_control() { ' ' } else { c }).collect();
    text.replace('<', "&lt;")
}

/// A command as code of Markdown, whatever is in it: between more backticks than it has in a row (CommonMark 0.31, 6.1).
fn as_code(command: &str) -> String {
    let text: String = command.chars().map(|c| if c.is_control() { ' ' } else { c }).collect();
    let longest = text.split(|c| c != '`').map(str::len).max().unwrap_or_default();
    let fence = "`".repeat(longest + 1);
    let pad = if longest > 0 { " " } else { "" };
    format!("{fence}{pad}{text}{pad}{fence}")
}

impl Report {
    /// As Markdown.
    pub fn markdown(&self) -> String {
        let mut out = String::new();
        let _ = writeln!(out, "# Run {}: {}\n", self.run, self.title);
        let took = self.took_ms.map_or(String::new(), |ms| format!(" after {}", seconds(ms)));
        let _ = writeln!(out, "**{}**{took} · {} · edition {}\n", self.state.word(), self.estate, self.edition);
        for o in &self.otherwise {
            let _ = writeln!(out, "**{}**\n", o.says());
        }
        let _ = writeln!(out, "- begun {} by {}", self.began_at, self.who);
        for (what, text) in [("why", &self.why), ("change", &self.change)] {
            if let Some(text) = text {
                let _ = writeln!(out, "- {what}: {}", one_line(text));
            }
        }
        if let Some((likely, late)) = self.forecast_ms {
            let _ = writeln!(out, "- forecast: {}, nine in ten within {}", seconds(likely), seconds(late));
        }
        for (name, value) in &self.values {
            let _ = writeln!(out, "- {name} = {}", one_line(value));
        }
        if !self.preflight.is_empty() {
            let _ = writeln!(out, "\n## Before the first act\n");
            for look in &self.preflight {
                let _ =
                    writeln!(out, "- {} {}: {}", if look.holds() { "holds:" } else { "**does not hold:**" }, look.says, look.answer.says);
            }
        }
        let _ = writeln!(out, "\n## Steps\n\n| step | does | state | took | usually | proof |\n|---|---|---|---|---|---|");
        let mut part = Part::Forward;
        for s in &self.steps {
            if s.part != part {
                part = s.part;
                let _ = writeln!(out, "| | **{}** | | | | |", if part == Part::PutBack { "the way back" } else { "what took over" });
            }
            let took = s.took_ms.map(seconds).unwrap_or_default();
            let why = s.why.as_ref().map_or(String::new(), |w| format!(" ({})", cell(w)));
            let proof = s.proof.last().map(|p| cell(p)).unwrap_or_default();
            let _ = writeln!(out, "| {} | {} | {}{why} | {took} | {} | {proof} |", s.step, cell(&s.says), s.state, seconds(s.usual_ms));
        }
        if self.steps.iter().any(|s| !s.commands.is_empty()) {
            let _ = writeln!(out, "\n## What was given\n");
            for s in &self.steps {
                for command in &s.commands {
                    let _ = writeln!(out, "- step {}, {}: {}", s.step, one_line(&s.says), as_code(command));
                }
            }
        }
        if !self.decisions.is_empty() {
            let _ = writeln!(out, "\n## Decisions\n");
            for d in &self.decisions {
                let why = d.why.as_ref().map_or(String::new(), |w| format!(": {}", one_line(w)));
                let _ = writeln!(out, "- {} {} {}{why}", d.at, d.who, d.what);
            }
        }
        if !self.as_found.is_empty() {
            let _ = writeln!(out, "\n## As found\n");
            for found in &self.as_found {
                let _ = writeln!(out, "- {}", found.says());
            }
        }
        if !self.differences.is_empty() {
            let _ = writeln!(out, "\n## Different from as found\n");
            for d in &self.differences {
                let _ = writeln!(out, "- {} was {} and is {}", d.address, d.found, d.now);
            }
        }
        if !self.notes.is_empty() {
            let _ = writeln!(out, "\n## Notes\n");
            for n in &self.notes {
                let _ = writeln!(out, "- {} {}: {}", n.at, one_line(&n.who), one_line(&n.text));
            }
        }
        out
    }

    /// As CSV (RFC 4180), a row for each step.
    pub fn csv(&self) -> String {
        let mut writer = csv::Writer::from_writer(Vec::new());
        let head = [
            "run", "step", "line", "part", "does", "state", "why", "began_at", "took_ms", "usual_ms", "attempts", "command", "exit",
            "proof",
        ];
        // What others wrote is text to whatever opens the table, and no formula.
        let text = |text: &str| if text.starts_with(['=', '+', '-', '@', '\t', '\r']) { format!("'{text}") } else { text.to_owned() };
        let opt = |n: Option<u64>| n.map_or(String::new(), |n| n.to_string());
        let mut rows = vec![head.map(str::to_owned).to_vec()];
        for s in &self.steps {
            rows.push(vec![
                self.run.to_string(),
                s.step.to_string(),
                opt(s.line.map(u64::from)),
                match s.part {
                    Part::Forward => "forward".to_owned(),
                    Part::PutBack => "put-back".to_owned(),
                    Part::Divert => "divert".to_owned(),
                },
                text(&s.says),
                s.state.clone(),
                text(s.why.as_deref().unwrap_or_default()),
                s.began_at.map_or(String::new(), |at| at.to_string()),
                opt(s.took_ms),
                s.usual_ms.to_string(),
                s.attempts.to_string(),
                text(&s.commands.join("\n")),
                text(s.exit.as_deref().unwrap_or_default()),
                text(&s.proof.join("\n")),
            ]);
        }
        for row in rows {
            writer.write_record(&row).expect("memory takes what is written");
        }
        String::from_utf8(writer.into_inner().unwrap_or_default()).unwrap_or_default()
    }

    /// As JUnit XML: a test case for each step; one that is not done or unneeded has failed or was skipped.
    pub fn junit(&self) -> String {
        let mut suite = TestSuite::new(format!("run {}: {}", self.run, self.title));
        suite.set_timestamp(self.began_at.to_chrono().fixed_offset());
        for s in &self.steps {
            let status = match s.state.as_str() {
                "done" | "unneeded" => TestCaseStatus::success(),
                "failed" | "outcome unknown" | "asking" | "passed over" | "vouched" => {
                    let mut status = TestCaseStatus::non_success(NonSuccessKind::Failure);
                    status.set_message(s.why.clone().unwrap_or_else(|| s.state.clone())).set_type(s.state.clone());
                    status
                }
                _ => TestCaseStatus::skipped(),
            };
            let mut case = TestCase::new(format!("{} {}", s.step, s.says), status);
            case.set_classname(self.title.clone());
            case.set_time(Duration::from_millis(s.took_ms.unwrap_or(0)));
            let out: Vec<&str> = s.commands.iter().chain(&s.proof).chain(&s.lines).map(String::as_str).collect();
            case.set_system_out(out.join("\n"));
            suite.add_test_case(case);
        }
        let mut junit = JUnit::new(format!("yantro run {}", self.run));
        junit.add_test_suite(suite);
        junit.to_string().unwrap_or_default()
    }
}
