//! The steps of what starts and stops, in the order that their waits allow.

use std::{
    collections::{BTreeSet, VecDeque},
    time::Duration,
};

use super::Work;
use crate::{
    model::ServiceRunner,
    plan::{
        OnService, Part, Release, Step, StepId, Subject, Wait,
        forecast::{Estimate, Usual},
    },
    proof::SeenState,
    words::kinds::{StepKind, Wish},
};

impl Work<'_> {
    pub(super) fn steps(&self, usual: &Usual) -> Vec<Step> {
        // Nodes of the step graph: (service, is it the stop?).
        let n = self.services.len();
        let mut node_of = [vec![u32::MAX; n], vec![u32::MAX; n]];
        let mut nodes: Vec<(u32, StepKind)> = Vec::new();
        for (i, (stop, raise)) in self.stop.iter().zip(&self.raise).enumerate() {
            if stop.is_some() {
                node_of[0][i] = nodes.len() as u32;
                nodes.push((i as u32, StepKind::Stop));
            }
            if let Some((kind, _)) = raise {
                node_of[1][i] = nodes.len() as u32;
                nodes.push((i as u32, *kind));
            }
        }
        let waits = self.waits(&nodes, &node_of);
        let estimates: Vec<Estimate> = nodes
            .iter()
            .map(|&(i, kind)| {
                let nothing_to_do = match kind {
                    StepKind::Stop => self.seen[i as usize] == SeenState::Down,
                    StepKind::Start => self.seen[i as usize] == SeenState::Proven && self.stop[i as usize].is_none(),
                    _ => false,
                };
                if nothing_to_do { Estimate::exactly(Duration::ZERO) } else { usual.of(self.services[i as usize], kind) }
            })
            .collect();
        let durations: Vec<u64> = estimates.iter().map(|e| e.usual_ms).collect();
        let (order, rank) = ranked(&waits);
        let mut tail = vec![0u64; nodes.len()];
        let mut reaches = vec![0u64; nodes.len()];
        for &v in order.iter().rev() {
            tail[v] = durations[v] + reaches[v];
            for &(w, _) in &waits[v] {
                reaches[w as usize] = reaches[w as usize].max(tail[v]);
            }
        }
        let mut begins = vec![0u64; nodes.len()];
        for &v in &order {
            begins[v] = waits[v].iter().map(|&(w, _)| begins[w as usize] + durations[w as usize]).max().unwrap_or(0);
        }
        let length = tail.iter().copied().max().unwrap_or(0);
        // Numbered as drawn: by rank, then by address.
        let mut drawn: Vec<usize> = (0..nodes.len()).collect();
        drawn.sort_by_key(|&v| (rank[v], nodes[v].0, nodes[v].1));
        let mut number = vec![StepId(0); nodes.len()];
        for (at, &v) in drawn.iter().enumerate() {
            number[v] = StepId(at as u32 + 1);
        }
        drawn
            .into_iter()
            .map(|v| {
                let (i, kind) = nodes[v];
                let why = match kind {
                    StepKind::Stop => self.stop[i as usize].clone(),
                    _ => self.raise[i as usize].clone().map(|(_, why)| why),
                };
                let mut waits: Vec<Wait> = waits[v].iter().map(|&(w, release)| Wait { step: number[w as usize], release }).collect();
                waits.sort_by_key(|w| w.step);
                Step {
                    id: number[v],
                    subject: Subject::Service(self.on(i, kind)),
                    why: why.expect("a node is only made for what has a reason"),
                    found: self.seen[i as usize],
                    waits,
                    rank: rank[v],
                    usual_ms: durations[v],
                    slow_ms: estimates[v].slow_ms,
                    basis: estimates[v].basis,
                    tail_ms: tail[v],
                    critical: length > 0 && begins[v] + tail[v] == length,
                    line: None,
                    part: Part::Forward,
                    settings: None,
                }
            })
            .collect()
    }

    fn on(&self, i: u32, kind: StepKind) -> OnService {
        let mut on = OnService::new(self.services[i as usize], kind);
        on.comes_back |= matches!(kind, StepKind::Stop | StepKind::Start) && self.reboots(i);
        on
    }

    /// A host that is restarted reboots by itself, unless something that it cannot work without is away meanwhile: then
    /// it waits for that with its power off.
    fn reboots(&self, i: u32) -> bool {
        let is_host = matches!(self.services[i as usize].runner, ServiceRunner::Host(_));
        let goes_down = |j: u32| self.stop[j as usize].is_some();
        let needed = || self.graph.relies_on[i as usize].iter().flat_map(|r| &r.any_of);
        is_host
            && self.request.wish == Wish::Restart
            && goes_down(i)
            && matches!(self.raise[i as usize], Some((StepKind::Start, _)))
            && !needed().any(|&j| goes_down(j))
    }

    /// What each node waits for.
    fn waits(&self, nodes: &[(u32, StepKind)], node_of: &[Vec<u32>; 2]) -> Vec<Vec<(u32, Release)>> {
        let [stop_of, raise_of] = node_of;
        let mut waits: Vec<Vec<(u32, Release)>> = nodes
            .iter()
            .map(|&(i, kind)| {
                Vec::with_capacity(match kind {
                    StepKind::Stop => self.graph.reliant[i as usize].len(),
                    StepKind::Start => self.graph.relies_on[i as usize].iter().map(|r| r.any_of.len()).sum::<usize>() + 1,
                    _ => 0,
                })
            })
            .collect();
        let mut add = |from: u32, to: u32, release: Release| {
            if from != u32::MAX && to != u32::MAX && !waits[from as usize].iter().any(|(w, _)| *w == to) {
                waits[from as usize].push((to, release));
            }
        };
        let awaited_first = self.awaited_first(nodes);
        for (v, &(i, kind)) in nodes.iter().enumerate() {
            let v = v as u32;
            match kind {
                StepKind::Stop => {
                    // What only waits comes before what takes away: nothing goes down for what may never come up again.
                    for &j in &awaited_first {
                        add(v, raise_of[j as usize], Release::WhenGood);
                    }
                    // Turned round: what relies on it goes first.
                    for &(d, _) in &self.graph.reliant[i as usize] {
                        add(v, stop_of[d as usize], Release::WhenGood);
                    }
                    for &first in &self.graph.yields_to[i as usize] {
                        add(stop_of[first as usize], v, Release::WhenEnded);
                    }
                }
                StepKind::Start => {
                    add(v, stop_of[i as usize], Release::WhenGood);
                    for rel in &self.graph.relies_on[i as usize] {
                        for &j in &rel.any_of {
                            add(v, raise_of[j as usize], Release::WhenGood);
                        }
                    }
                    for &j in &self.graph.never_with[i as usize] {
                        add(v, stop_of[j as usize], Release::WhenGood);
                    }
                    for &first in &self.graph.yields_to[i as usize] {
                        add(v, raise_of[first as usize], Release::WhenEnded);
                    }
                }
                _ => {}
            }
        }
        waits
    }

    /// What a restart has to wait for and does not bring up itself, of all that none of its own stops comes before.
    fn awaited_first(&self, nodes: &[(u32, StepKind)]) -> Vec<u32> {
        if !matches!(self.request.wish, Wish::Restart | Wish::PowerCycle) {
            return Vec::new();
        }
        let awaited = nodes.iter().filter(|(_, kind)| *kind == StepKind::Await).map(|(i, _)| *i);
        awaited.filter(|&i| !self.hangs_on_a_stop(i)).collect()
    }

    /// Whether a service needs, directly or not, something that goes down in this run.
    fn hangs_on_a_stop(&self, i: u32) -> bool {
        let mut known = BTreeSet::from([i]);
        let mut queue = vec![i];
        while let Some(at) = queue.pop() {
            if self.stop[at as usize].is_some() {
                return true;
            }
            let never_with = self.graph.never_with[at as usize].iter();
            let needed = self.graph.relies_on[at as usize].iter().flat_map(|r| &r.any_of).chain(never_with);
            queue.extend(needed.chain(&self.graph.yields_to[at as usize]).copied().filter(|j| known.insert(*j)));
        }
        false
    }
}

/// An order that respects every wait, and the rank of each node: one more than the highest it waits for.
fn ranked(waits: &[Vec<(u32, Release)>]) -> (Vec<usize>, Vec<u32>) {
    let mut open: Vec<u32> = waits.iter().map(|w| w.len() as u32).collect();
    // Who waits on whom, in one row: node w's are at ends[w - 1]..ends[w].
    let mut ends = vec![0usize; waits.len()];
    for &(w, _) in waits.iter().flatten() {
        ends[w as usize] += 1;
    }
    let mut sum = 0;
    for end in &mut ends {
        (*end, sum) = (sum, sum + *end);
    }
    let mut waited_by = vec![0u32; sum];
    for (v, list) in waits.iter().enumerate() {
        for &(w, _) in list {
            waited_by[ends[w as usize]] = v as u32;
            ends[w as usize] += 1;
        }
    }
    let mut rank = vec![0u32; waits.len()];
    let mut queue: VecDeque<usize> = (0..waits.len()).filter(|&v| open[v] == 0).collect();
    let mut order = Vec::with_capacity(waits.len());
    while let Some(v) = queue.pop_front() {
        order.push(v);
        for &d in &waited_by[if v == 0 { 0 } else { ends[v - 1] }..ends[v]] {
            let d = d as usize;
            rank[d] = rank[d].max(rank[v] + 1);
            open[d] -= 1;
            if open[d] == 0 {
                queue.push_back(d);
            }
        }
    }
    debug_assert_eq!(order.len(), waits.len(), "vetting refuses cycles, so every node is reached");
    (order, rank)
}
