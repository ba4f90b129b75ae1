//! Works out the sequence for a wish from the estate, its graph and the facts.
//!
//! Everything runs over the graph's dense numbers, so that ten thousand services are a matter of
//! milliseconds; addresses come back in at the end.

mod groups;
mod laid_out;
mod preflight;
mod starts;
mod stops;

use std::{
    cmp::Ordering,
    collections::{BTreeMap, BTreeSet},
};

use crate::{
    graph::EstateGraph,
    model::{Estate, Service, task::Task},
    plan::{Ask, AskedWith, For, Hit, LeftAlone, Obstacle, Plan, Request, Sequence, Step, Why, forecast::Usual},
    proof::{Facts, SeenState},
    words::{
        kinds::{StepKind, Wish},
        name::Address,
    },
};

pub(crate) use preflight::Looks;
pub use preflight::preflight;

/// Works out the sequence for a request.
///
/// The outcome is the same for the same estate, facts and forecast. What cannot be done is told in
/// `obstacles` and `asks`; the sequence is there all the same, to be shown.
pub fn plan(estate: &Estate, graph: &EstateGraph, facts: &Facts, usual: &Usual, request: &Request) -> Plan {
    let mut work = Work::new(estate, graph, facts, request);
    match request.wish {
        Wish::Start => work.start_chosen(),
        Wish::Stop => work.stop_closure(),
        Wish::Restart | Wish::PowerCycle => {
            work.stop_closure();
            work.bring_back();
        }
        Wish::Reload => work.reload_chosen(),
        Wish::BringToExpected => work.bring_to_expected(),
    }
    work.up_without_needed();
    work.keep_up();
    work.finish(usual)
}

struct Work<'a> {
    estate: &'a Estate,
    graph: &'a EstateGraph,
    request: &'a Request,
    services: Vec<&'a Service>,
    seen: Vec<SeenState>,
    chosen: Vec<bool>,
    stop: Vec<Option<Why>>,
    /// Start, Reload or Await.
    raise: Vec<Option<(StepKind, Why)>>,
    obstacles: Vec<Obstacle>,
    asks: Vec<Ask>,
    standing: BTreeSet<u32>,
    left_alone: BTreeMap<u32, String>,
    /// For members of groups that roll: how many stay up whatever this run does.
    group_of_all: BTreeMap<Vec<u32>, u32>,
}

impl<'a> Work<'a> {
    fn new(estate: &'a Estate, graph: &'a EstateGraph, facts: &Facts, request: &'a Request) -> Self {
        let services: Vec<&Service> = estate.services.values().map(AsRef::as_ref).collect();
        let n = services.len();
        let mut seen = vec![SeenState::Unknown; n];
        for (i, state) in beside(graph.addresses(), facts.0.iter()) {
            seen[i] = *state;
        }
        let mut chosen = vec![false; n];
        for (i, ()) in beside(graph.addresses(), request.chosen.iter().map(|a| (a, ()))) {
            chosen[i] = true;
        }
        let group_of_all = if matches!(request.wish, Wish::Restart | Wish::PowerCycle) {
            estate
                .groups
                .iter()
                .filter(|(name, _)| !request.below_keep_up.contains(*name))
                .filter_map(|(_, g)| Some((g.members.iter().filter_map(|m| graph.number(m)).collect(), g.keep_up?)))
                .collect()
        } else {
            BTreeMap::new()
        };
        Self {
            estate,
            graph,
            request,
            services,
            seen,
            chosen,
            stop: vec![None; n],
            raise: vec![None; n],
            obstacles: Vec::new(),
            asks: Vec::new(),
            standing: BTreeSet::new(),
            left_alone: BTreeMap::new(),
            group_of_all,
        }
    }

    fn address(&self, i: u32) -> &'a Address {
        self.graph.address(i)
    }

    fn chosen_numbers(&self) -> Vec<u32> {
        (0..self.chosen.len() as u32).filter(|&i| self.chosen[i as usize]).collect()
    }

    fn obstacle(&mut self, i: u32, why: String, mend: impl Into<String>) {
        let address = self.address(i).clone();
        self.obstacles.push(Obstacle { address: Some(address), line: None, why, mend: mend.into() });
    }

    fn finish(self, usual: &Usual) -> Plan {
        let steps = self.steps(usual);
        let usual_ms = steps.iter().map(|s| s.tail_ms).max().unwrap_or(0);
        let hits = hits(self.estate, &steps);
        Plan {
            remarks: Vec::new(),
            refused_now: Vec::new(),
            sequence: Sequence {
                of: For::Wish { wish: self.request.wish, chosen: self.request.chosen.clone() },
                steps,
                below_keep_up: self.request.below_keep_up.clone(),
                left_standing: self.standing.iter().map(|&i| self.address(i).clone()).collect(),
                usual_ms,
            },
            left_alone: self
                .left_alone
                .iter()
                .filter(|(i, _)| !self.touched(**i))
                .map(|(&i, why)| LeftAlone { address: self.address(i).clone(), why: why.clone() })
                .collect(),
            obstacles: self.obstacles,
            asks: self.asks,
            hits,
            preflight: Vec::new(),
            values: BTreeMap::new(),
            vouched: BTreeSet::new(),
            felt: None,
            asked_with: AskedWith { alone: self.request.alone, ..AskedWith::default() },
        }
    }
}

/// What users notice of steps that are laid out: of each service that goes down, for how long it is away, and of further acts.
pub(crate) fn hits(estate: &Estate, steps: &[Step]) -> Vec<Hit> {
    let mut starts: BTreeMap<&Address, &Step> = BTreeMap::new();
    for step in steps.iter().filter(|s| s.kind() == StepKind::Start) {
        starts.extend(step.address().map(|a| (a, step)));
    }
    let mut stops: BTreeMap<&Address, Hit> = BTreeMap::new();
    for step in steps.iter().filter(|s| s.kind() == StepKind::Stop && s.found.is_up()) {
        let Some((address, service)) = step.address().and_then(|a| Some((a, estate.services.get(a)?))) else { continue };
        let back = starts.get(address).filter(|b| b.id > step.id);
        let usual_ms = back.map(|b| step.tail_ms.saturating_sub(b.tail_ms) + b.usual_ms);
        stops.entry(address).or_insert_with(|| Hit { address: address.clone(), impact: service.impact.clone(), usual_ms });
    }
    let acts = steps.iter().filter_map(|step| {
        let Task::Act { address, act } = step.task()? else { return None };
        let impact = estate.services.get(address)?.acts.get(act)?.noticed()?.clone();
        Some(Hit { address: address.clone(), impact, usual_ms: Some(step.usual_ms) })
    });
    let mut hits: Vec<Hit> = stops.into_values().chain(acts).collect();
    hits.sort_by(|a, b| b.impact.level.cmp(&a.impact.level).then_with(|| a.address.cmp(&b.address)));
    hits
}

/// The numbers of services for which something is known. Both are ordered by address: one pass, no look-ups.
fn beside<'a, T>(addresses: &[Address], known: impl Iterator<Item = (&'a Address, T)>) -> Vec<(usize, T)> {
    let mut i = 0;
    let mut out = Vec::with_capacity(addresses.len());
    for (address, value) in known {
        // Most often it is the very next one, and one comparison tells.
        let order = loop {
            match addresses.get(i).map(|a| a.cmp(address)) {
                Some(Ordering::Less) => i += 1,
                other => break other,
            }
        };
        if order == Some(Ordering::Equal) {
            out.push((i, value));
            i += 1;
        }
    }
    out
}
