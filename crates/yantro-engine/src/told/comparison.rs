//! One run beside another, step by step, and beside all earlier ones of its kind.

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use yantro_core::{
    plan::Part,
    run::{RunId, RunState},
    words::time::Timestamp,
};

use crate::{
    engine::Engine,
    error::EngineError,
    told::report::{Report, ReportStep},
};

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
