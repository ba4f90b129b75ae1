//! Among the allowed orders, one that costs users least.
//!
//! By itself every step begins as soon as it may: that ends soonest, and takes down early what is only wanted down
//! late. Here a stop that users feel waits for other stops and looks that what comes after both has to wait for
//! anyway. Only waits are added, so that whatever was allowed before still holds.

use std::{cmp::Reverse, collections::BTreeMap};

use crate::{
    model::Estate,
    plan::{
        Plan, Release, Step, StepId, Wait,
        forecast::{Felt, Prefer},
        lay_out,
    },
    words::{ImpactLevel, kinds::StepKind, name::Address},
};

/// How many stops are tried: enough for any night, and bounded for a restart of everything there is.
const TRIED: usize = 200;

impl Plan {
    /// Takes the order that users feel least; what it comes to is told in `felt`.
    pub fn prefer(&mut self, prefer: Prefer, estate: &Estate) {
        self.asked_with.prefer = prefer;
        if prefer == Prefer::LeastFelt {
            self.felt = Some(least_felt(&mut self.sequence.steps, estate));
            self.sequence.usual_ms = self.sequence.steps.iter().map(|s| s.tail_ms).max().unwrap_or(0);
        }
    }
}

/// What a minute without a service weighs.
fn weight(level: ImpactLevel) -> u64 {
    match level {
        ImpactLevel::None => 0,
        ImpactLevel::Brief => 1,
        ImpactLevel::Outage => 10,
    }
}

/// Steps as indices, with what each waits for.
struct Graph<'s> {
    steps: &'s [Step],
    waits: Vec<Vec<usize>>,
    /// Weight, stop and start of each service that comes back.
    away: Vec<(u64, usize, usize)>,
}

impl<'s> Graph<'s> {
    fn new(steps: &'s [Step], estate: &Estate) -> Self {
        let at: BTreeMap<StepId, usize> = steps.iter().enumerate().map(|(i, s)| (s.id, i)).collect();
        let waits = steps.iter().map(|s| s.waits.iter().filter_map(|w| at.get(&w.step).copied()).collect()).collect();
        let mut down: BTreeMap<&Address, usize> = BTreeMap::new();
        let mut away = Vec::new();
        for (i, step) in steps.iter().enumerate() {
            let Some(on) = step.service() else { continue };
            let weighs = estate.services.get(&on.address).map_or(0, |s| weight(s.impact.level));
            match on.kind {
                StepKind::Stop => drop(down.insert(&on.address, i)),
                StepKind::Start => away.extend(down.remove(&on.address).map(|stop| (weighs, stop, i))),
                _ => {}
            }
        }
        Self { steps, waits, away: away.into_iter().filter(|(w, ..)| *w > 0).collect() }
    }

    /// An order in which each step comes after all that it waits for, the old order where there is a choice;
    /// nothing where there is a circle.
    fn order(&self) -> Option<Vec<usize>> {
        let n = self.steps.len();
        let mut open: Vec<usize> = self.waits.iter().map(Vec::len).collect();
        let mut waiters: Vec<Vec<usize>> = vec![Vec::new(); n];
        for (v, waits) in self.waits.iter().enumerate() {
            waits.iter().for_each(|&w| waiters[w].push(v));
        }
        let mut ready: std::collections::BinaryHeap<Reverse<usize>> = (0..n).filter(|&v| open[v] == 0).map(Reverse).collect();
        let mut order = Vec::with_capacity(n);
        while let Some(Reverse(v)) = ready.pop() {
            order.push(v);
            for &w in &waiters[v] {
                open[w] -= 1;
                if open[w] == 0 {
                    ready.push(Reverse(w));
                }
            }
        }
        (order.len() == n).then_some(order)
    }

    /// What it costs users, weighted and plain, and how long it takes: each step as it usually goes.
    fn cost(&self) -> Option<(u64, u64, u64)> {
        let mut begins = vec![0u64; self.steps.len()];
        let end = |begins: &[u64], v: usize| begins[v] + self.steps[v].usual_ms;
        let mut length = 0;
        for v in self.order()? {
            begins[v] = self.waits[v].iter().map(|&w| end(&begins, w)).max().unwrap_or(0);
            length = length.max(end(&begins, v));
        }
        let lost = |stop: usize, start: usize| end(&begins, start).saturating_sub(begins[stop]);
        let weighted = self.away.iter().map(|&(w, stop, start)| w * lost(stop, start)).sum();
        Some((weighted, self.away.iter().map(|&(_, stop, start)| lost(stop, start)).sum(), length))
    }
}

fn least_felt(steps: &mut Vec<Step>, estate: &Estate) -> Felt {
    let before = steps.clone();
    let mut graph = Graph::new(&before, estate);
    let Some((mut best, soonest_away_ms, soonest_ms)) = graph.cost() else {
        return Felt { soonest_away_ms: 0, away_ms: 0, longer_ms: 0 };
    };
    // Who waits for a step: what comes after both it and another is a reason to let one wait for the other.
    let mut after: Vec<Vec<usize>> = vec![Vec::new(); before.len()];
    for (v, waits) in graph.waits.iter().enumerate() {
        waits.iter().for_each(|&w| after[w].push(v));
    }
    let mut felt = graph.away.clone();
    felt.sort_by_key(|&(w, stop, _)| (Reverse(w), stop));
    for (_, stop, _) in felt.into_iter().take(TRIED) {
        let mut peers: Vec<usize> = after[stop].iter().flat_map(|&v| graph.waits[v].iter().copied()).collect();
        peers.extend(graph.away.iter().map(|&(_, other, _)| other));
        peers.sort_unstable();
        peers.dedup();
        // The longest first: with it the others are most often through.
        peers.sort_by_key(|&p| Reverse(before[p].usual_ms));
        for peer in peers.into_iter().filter(|&p| p != stop && before[p].line == before[stop].line).take(TRIED) {
            if graph.waits[stop].contains(&peer) || before[peer].kind() == StepKind::Start {
                continue;
            }
            graph.waits[stop].push(peer);
            match graph.cost() {
                Some((cost, ..)) if cost < best => best = cost,
                // Nothing is gained by it, or the two wait for each other.
                _ => drop(graph.waits[stop].pop()),
            }
        }
    }
    let (_, away_ms, length) = graph.cost().expect("every wait that made a circle was taken back");
    let order = graph.order().expect("as above");
    let waits = graph.waits.clone();
    let first = before.first().map_or(1, |s| s.id.0);
    let mut numbers = vec![StepId(0); before.len()];
    for (at, &v) in order.iter().enumerate() {
        numbers[v] = StepId(first + at as u32);
    }
    let by_id: BTreeMap<StepId, usize> = before.iter().enumerate().map(|(i, s)| (s.id, i)).collect();
    *steps = order
        .into_iter()
        .map(|v| {
            let mut step = before[v].clone();
            step.id = numbers[v];
            let old: Vec<usize> = step.waits.iter().filter_map(|w| by_id.get(&w.step).copied()).collect();
            for wait in &mut step.waits {
                wait.step = by_id.get(&wait.step).map_or(wait.step, |&w| numbers[w]);
            }
            // Order only: whichever way the other ends, this one may go on.
            let added = waits[v].iter().filter(|w| !old.contains(w)).map(|&w| Wait { step: numbers[w], release: Release::WhenEnded });
            step.waits.extend(added);
            step
        })
        .collect();
    lay_out(steps, first);
    Felt { soonest_away_ms, away_ms, longer_ms: length.saturating_sub(soonest_ms) }
}
