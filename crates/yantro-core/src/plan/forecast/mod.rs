//! How long steps usually take, from what they took before.
//!
//! An estimate is a log-normal distribution, told as its middle and its 90 % point. From history the
//! middle is the median of the logarithms and the spread their median absolute deviation, so that one
//! night that hung for an hour does not spoil it (Huber, Robust Statistics, 1981); few samples are drawn
//! toward what the estate declares, else toward the service's group, else toward a stated default.

mod least_felt;
pub mod plays;
mod words;

use std::{collections::BTreeMap, time::Duration};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::{
    model::{Estate, Service, ServiceRunner, task::Task},
    plan::{For, Step},
    words::{
        kinds::StepKind,
        name::{Address, GroupName},
    },
};

pub use words::{Basis, Felt, Prefer};

/// How long a step takes, as a distribution.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Estimate {
    /// The middle, in milliseconds: half the time it takes longer.
    pub usual_ms: u64,
    /// One in ten takes longer than this, in milliseconds.
    pub slow_ms: u64,
    /// What it is made from.
    pub basis: Basis,
    /// How many earlier ones it is made from.
    pub samples: u32,
}

/// The 90 % point of the standard normal distribution.
const P90: f64 = 1.281_551_565_544_8;
/// The spread (of the logarithm) taken where nothing is known.
const UNKNOWN_SPREAD: f64 = 0.5;
/// How many samples what is declared counts for.
const PRIOR_COUNTS: f64 = 2.0;
/// The least spread: nothing takes exactly as long twice.
const LEAST_SPREAD: f64 = 0.03;

/// Taken for a start that was never seen, on top of what the estate declares.
const START: Duration = Duration::from_secs(3);
/// Taken for a stop or reload that was never seen.
const STOP: Duration = Duration::from_secs(1);
/// Taken for a host that was never seen to come up, and to go down.
const HOST_UP: Duration = Duration::from_secs(60);
const HOST_DOWN: Duration = Duration::from_secs(20);
/// Taken for work or a wait that was never seen.
const WORK: Duration = Duration::from_secs(5);
/// Taken for a person's answer.
const QUESTION: Duration = Duration::from_secs(30);

impl Estimate {
    /// Something that takes so long, no more and no less.
    pub fn exactly(length: Duration) -> Self {
        let ms = length.as_millis() as u64;
        Self { usual_ms: ms, slow_ms: ms, basis: Basis::Declared, samples: 0 }
    }

    fn new(middle: f64, spread: f64, basis: Basis, samples: usize) -> Self {
        let usual = middle.exp();
        Self { usual_ms: usual.round() as u64, slow_ms: (usual * (spread * P90).exp()).round() as u64, basis, samples: samples as u32 }
    }

    /// The spread of the logarithm.
    pub fn spread(&self) -> f64 {
        spread(self.usual_ms, self.slow_ms)
    }
}

/// The spread of the logarithm between a middle and its 90 % point.
pub(crate) fn spread(usual_ms: u64, slow_ms: u64) -> f64 {
    if usual_ms == 0 || slow_ms <= usual_ms { 0.0 } else { (slow_ms as f64 / usual_ms as f64).ln() / P90 }
}

/// How long steps took before, and what is made of it.
#[derive(Debug, Clone, Default)]
pub struct Usual {
    services: BTreeMap<(Address, StepKind), Known>,
    groups: BTreeMap<(GroupName, StepKind), f64>,
    others: BTreeMap<String, Known>,
}

/// What history says: middle and spread of the logarithm, and from how many.
#[derive(Debug, Clone, Copy)]
struct Known {
    middle: f64,
    spread: f64,
    samples: usize,
}

/// What the times of a step are kept under: its service's address, or its line in its procedure.
pub fn kept_under(of: &For, step: &Step) -> String {
    match (step.service(), of) {
        (Some(on), _) => on.address.to_string(),
        (None, For::Procedure { procedure, .. }) => format!("{procedure}: {}", step.says()),
        (None, For::Act { act, .. }) => format!("{act}: {}", step.says()),
        (None, For::Wish { .. }) => step.says(),
    }
}

impl Usual {
    /// From the last good times of steps: what they are kept under, the step's kind as a word, and the times.
    pub fn new(samples: impl IntoIterator<Item = (String, String, Vec<Duration>)>, estate: &Estate) -> Self {
        let mut usual = Self::default();
        let mut of_group: BTreeMap<(GroupName, StepKind), Vec<f64>> = BTreeMap::new();
        for (under, kind, times) in samples {
            let Some(known) = known(&times) else { continue };
            let kinds = [StepKind::Start, StepKind::Stop, StepKind::Reload, StepKind::Await];
            let kind = kinds.into_iter().find(|k| k.word() == kind);
            match (under.parse::<Address>(), kind) {
                (Ok(address), Some(kind)) => {
                    for group in estate.services.get(&address).into_iter().flat_map(|s| &s.groups) {
                        of_group.entry((group.clone(), kind)).or_default().push(known.middle);
                    }
                    usual.services.insert((address, kind), known);
                }
                _ => drop(usual.others.insert(under, known)),
            }
        }
        usual.groups = of_group.into_iter().map(|(key, mut middles)| (key, median(&mut middles))).collect();
        usual
    }

    /// How long a step of a service usually takes.
    pub fn of(&self, service: &Service, kind: StepKind) -> Estimate {
        let (mut up, mut down, mut start_usually, mut stop_usually) = (START, STOP, service.start.usually, service.stop.usually);
        match &service.runner {
            ServiceRunner::Host(_) => (up, down) = (HOST_UP, HOST_DOWN),
            // What is played says itself how long it takes.
            ServiceRunner::Simulated(s) => (start_usually, stop_usually) = (Some(s.starts), Some(s.stops)),
            _ => {}
        }
        let (pauses, declared, fallback) = match kind {
            StepKind::Start | StepKind::Await => {
                let start = &service.start;
                (start.pause_before.0 + start.pause_after.0 + service.steady.0, start_usually, up)
            }
            StepKind::Stop => (service.stop.pause_before.0 + service.stop.pause_after.0, stop_usually, down),
            _ => {
                let pauses = service.reload.as_ref().map_or(Duration::ZERO, |r| r.pause_before.0 + r.pause_after.0);
                (service.steady.0 + pauses, None, STOP)
            }
        };
        let group = || service.groups.iter().find_map(|g| self.groups.get(&(g.clone(), kind)));
        let (middle, basis) = match declared {
            Some(declared) => (log_of(declared.0), Basis::Declared),
            None => match group().filter(|_| !self.groups.is_empty()) {
                Some(middle) => (*middle, Basis::Group),
                None => (log_of(fallback + pauses), Basis::Default),
            },
        };
        let own = if self.services.is_empty() { None } else { self.services.get(&(service.address.clone(), kind)) };
        drawn(own.copied(), middle, basis)
    }

    /// How long any step usually takes.
    pub fn of_step(&self, of: &For, step: &Step, estate: &Estate) -> Estimate {
        let pauses = step.set(|s| s.pause_before).unwrap_or_default().0 + step.set(|s| s.pause_after).unwrap_or_default().0;
        if let Some(on) = step.service() {
            let own = estate.services.get(&on.address).map_or(Estimate::exactly(STOP), |s| self.of(s, on.kind));
            let more = pauses.as_millis() as u64;
            return Estimate { usual_ms: own.usual_ms + more, slow_ms: own.slow_ms + more, ..own };
        }
        let known = self.others.get(&kept_under(of, step)).copied();
        let declared = step.set(|s| s.usually).map(|u| u.0);
        let fallback = match step.task() {
            Some(Task::Pause { length }) => return Estimate::exactly(length.0 + pauses),
            Some(Task::Question(_)) => QUESTION,
            Some(Task::Work(_) | Task::Act { .. } | Task::Until { .. }) => WORK,
            _ => return Estimate::exactly(pauses),
        };
        match declared {
            Some(declared) => drawn(known, log_of(declared + pauses), Basis::Declared),
            None => drawn(known, log_of(fallback + pauses), Basis::Default),
        }
    }
}

/// What history says, drawn toward what is taken without it.
fn drawn(known: Option<Known>, middle: f64, basis: Basis) -> Estimate {
    let Some(known) = known else { return Estimate::new(middle, UNKNOWN_SPREAD, basis, 0) };
    // A bare default knows nothing: it says how much the first samples are to be trusted, not where they lie.
    let toward = if basis == Basis::Default { known.middle } else { middle };
    let n = known.samples as f64;
    let all = n + PRIOR_COUNTS;
    let middle = (known.middle * n + toward * PRIOR_COUNTS) / all;
    let variance = (known.spread.powi(2) * n + UNKNOWN_SPREAD.powi(2) * PRIOR_COUNTS / 2.0) / all;
    Estimate::new(middle, variance.sqrt().max(LEAST_SPREAD), Basis::History, known.samples)
}

fn log_of(length: Duration) -> f64 {
    (length.as_millis().max(1) as f64).ln()
}

fn known(times: &[Duration]) -> Option<Known> {
    let mut logs: Vec<f64> = times.iter().map(|t| log_of(*t)).collect();
    if logs.is_empty() {
        return None;
    }
    let middle = median(&mut logs);
    let mut off: Vec<f64> = logs.iter().map(|l| (l - middle).abs()).collect();
    // 1.4826 makes the median absolute deviation of normal samples their standard deviation.
    Some(Known { middle, spread: 1.4826 * median(&mut off), samples: times.len() })
}

fn median(values: &mut [f64]) -> f64 {
    values.sort_by(f64::total_cmp);
    let n = values.len();
    if n % 2 == 1 { values[n / 2] } else { (values[n / 2 - 1] + values[n / 2]) / 2.0 }
}
