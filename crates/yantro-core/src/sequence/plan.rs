//! Works out the sequence for a wish from the estate, its graph and the facts.
//!
//! Everything runs over the graph's dense numbers, so that ten thousand services are a matter of
//! milliseconds; addresses come back in at the end.

use std::{
    cmp::Ordering,
    collections::{BTreeMap, BTreeSet, VecDeque},
    time::Duration,
};

use super::*;
use crate::{
    estate::{Estate, Expected, Service, ServiceRunner},
    graph::EstateGraph,
    proof::Facts,
};

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

    // ---- starting ----

    fn start_chosen(&mut self) {
        let mut queue = VecDeque::new();
        for i in self.chosen_numbers() {
            self.choose_start(i);
            queue.push_back(i);
        }
        self.pull_in(queue);
    }

    /// A chosen service to start: what cannot be started over is told.
    fn choose_start(&mut self, i: u32) {
        let service = self.services[i as usize];
        match (self.seen[i as usize], &service.hands_off) {
            (SeenState::Proven, _) => {}
            (_, Some(reason)) => self.obstacle(i, format!("{} is hands-off: {reason}", service.address), "leave it out"),
            (SeenState::Ailing, _) if service.brought_back_by.is_none() => {
                self.obstacle(i, format!("{} is ailing: it runs already, and is never started over", service.address), "restart it instead")
            }
            (SeenState::OutOfReach | SeenState::Unknown, _) => self.cannot_say(i),
            (SeenState::Down | SeenState::Rising | SeenState::Sinking | SeenState::Ailing, None) => {}
        }
        self.raise[i as usize] = Some((StepKind::Start, Why::Chosen));
    }

    /// Whether a chosen service runs cannot be said: neither as up nor as down does it count (R19).
    fn cannot_say(&mut self, i: u32) {
        let (address, seen) = (self.address(i), self.seen[i as usize]);
        let mend = if seen == SeenState::OutOfReach {
            "wait until its host answers, or leave it out"
        } else {
            "see why it cannot be looked at, or leave it out: yantro board --look"
        };
        self.obstacle(i, format!("{address} is {seen}: whether it runs cannot be said"), mend);
    }

    /// Brings in what the queued services need and is not proven.
    fn pull_in(&mut self, mut queue: VecDeque<u32>) {
        while let Some(i) = queue.pop_front() {
            // What is up already needs nothing brought up for it; unless it goes down in this run.
            if self.seen[i as usize] == SeenState::Proven && self.stop[i as usize].is_none() {
                continue;
            }
            for rel in &self.graph.relies_on[i as usize] {
                let counts = |w: &Self, j: u32| {
                    (w.seen[j as usize] == SeenState::Proven && w.stop[j as usize].is_none()) || w.raise[j as usize].is_some()
                };
                let have = rel.any_of.iter().filter(|&&j| counts(self, j)).count() as u32;
                let mut wanted = rel.at_least.saturating_sub(have);
                if wanted == 0 {
                    continue;
                }
                if self.request.alone {
                    self.standing.insert(i);
                    continue;
                }
                let mut candidates: Vec<u32> = rel.any_of.iter().copied().filter(|&j| !counts(self, j)).collect();
                // What we may start comes first, then what can only be waited for, then what should be down.
                candidates.sort_by_key(|&j| (self.reluctance(j), j));
                for j in candidates {
                    if wanted == 0 {
                        break;
                    }
                    wanted -= 1;
                    let service = self.services[j as usize];
                    if service.expected == Expected::Down && !self.seen[j as usize].is_up() {
                        self.obstacle(
                            j,
                            format!("{} needs {}, which is expected to be down", self.address(i), service.address),
                            format!("choose {} too, if it is to be started", service.address),
                        );
                    }
                    let cannot_start = matches!(self.seen[j as usize], SeenState::Ailing | SeenState::OutOfReach | SeenState::Unknown);
                    let kind = if service.hands_off.is_some() || cannot_start { StepKind::Await } else { StepKind::Start };
                    self.raise[j as usize] = Some((kind, Why::NeededBy(self.address(i).clone())));
                    queue.push_back(j);
                }
            }
        }
        self.exclusions();
    }

    fn reluctance(&self, j: u32) -> u8 {
        let service = self.services[j as usize];
        match (self.seen[j as usize], &service.hands_off, service.expected) {
            (SeenState::Rising, _, _) => 0,
            (_, Some(_), _) => 3,
            (SeenState::Ailing | SeenState::OutOfReach | SeenState::Unknown, _, _) => 4,
            (_, None, Expected::Down) => 5,
            (_, None, Expected::Up) => 1,
            (_, None, Expected::Either) => 2,
        }
    }

    /// What must never be up with what starts here (R6).
    fn exclusions(&mut self) {
        for i in 0..self.services.len() as u32 {
            if !matches!(self.raise[i as usize], Some((StepKind::Start, _))) {
                continue;
            }
            for &j in &self.graph.never_with[i as usize] {
                let other = self.address(j);
                let rises = matches!(self.raise[j as usize], Some((StepKind::Start, _)));
                if rises && i < j {
                    self.obstacle(
                        i,
                        format!("{} and {other} must never both be up, and both would start", self.address(i)),
                        "choose one of them",
                    );
                } else if !rises && self.stop[j as usize].is_none() && self.seen[j as usize] != SeenState::Down {
                    self.obstacle(
                        i,
                        format!("{} must never be up with {other}, which is {}", self.address(i), self.seen[j as usize]),
                        format!("stop {other} first"),
                    );
                }
            }
        }
    }

    // ---- stopping ----

    fn stop_closure(&mut self) {
        let mut queue = VecDeque::new();
        for i in self.chosen_numbers() {
            self.stop[i as usize] = Some(Why::Chosen);
            queue.push_back(i);
        }
        while let Some(i) = queue.pop_front() {
            for &(d, k) in &self.graph.reliant[i as usize] {
                if self.stop[d as usize].is_some() {
                    continue;
                }
                let rel = &self.graph.relies_on[d as usize][k as usize];
                let staying =
                    rel.any_of.iter().filter(|&&j| self.stop[j as usize].is_none() && self.seen[j as usize] == SeenState::Proven).count()
                        as u32;
                let rolling = self.group_of_all.get(&rel.any_of).copied().unwrap_or(0);
                if self.seen[d as usize] == SeenState::Down {
                    self.left_alone.entry(d).or_insert_with(|| "is down, and stays so".to_owned());
                    continue;
                }
                if staying.max(rolling) >= rel.at_least {
                    self.left_alone.entry(d).or_insert_with(|| "enough of what it relies on stays up".to_owned());
                    continue;
                }
                if self.request.alone {
                    self.standing.insert(d);
                    continue;
                }
                if !self.seen[d as usize].is_up() {
                    // It may be up, and would lose what it relies on: whoever names it one by one vouches for it (R19).
                    if self.request.left_standing.contains(self.address(d)) {
                        self.standing.insert(d);
                        continue;
                    }
                    let (address, seen) = (self.address(d), self.seen[d as usize]);
                    self.obstacle(
                        d,
                        format!("{address} relies on {} and is {seen}: whether it runs cannot be said", self.address(i)),
                        format!("have it looked at, leave {} out, or vouch for it: --left-standing {address}", self.address(i)),
                    );
                    continue;
                }
                if let Some(reason) = &self.services[d as usize].hands_off {
                    // Whoever names it one by one vouches for it (R11).
                    if self.request.left_standing.contains(self.address(d)) {
                        self.standing.insert(d);
                        continue;
                    }
                    self.obstacle(
                        d,
                        format!("{} relies on {} and is hands-off: {reason}", self.address(d), self.address(i)),
                        format!(
                            "have it stopped by whoever looks after it, leave {} out, or vouch for it: --left-standing {}",
                            self.address(i),
                            self.address(d)
                        ),
                    );
                    continue;
                }
                self.left_alone.remove(&d);
                self.stop[d as usize] = Some(Why::ReliesOn(self.address(i).clone()));
                queue.push_back(d);
            }
        }
        for i in self.chosen_numbers() {
            let service = self.services[i as usize];
            if let Some(reason) = &service.hands_off {
                self.obstacle(i, format!("{} is hands-off: {reason}", service.address), "leave it out");
            } else if matches!(self.seen[i as usize], SeenState::OutOfReach | SeenState::Unknown) {
                self.cannot_say(i);
            }
        }
    }

    /// A restart brings back exactly what was up, and what was chosen.
    fn bring_back(&mut self) {
        let mut queue = VecDeque::new();
        for i in 0..self.services.len() as u32 {
            let Some(why) = self.stop[i as usize].clone() else { continue };
            let up = self.seen[i as usize].is_up();
            if !up && self.seen[i as usize] != SeenState::Unknown {
                // Found down: there is nothing to stop, and it is started since it was chosen.
                self.stop[i as usize] = None;
            }
            if up || why == Why::Chosen {
                self.raise[i as usize] = Some((StepKind::Start, why));
                queue.push_back(i);
            }
        }
        self.pull_in(queue);
    }

    /// Down what is expected to be down, with what relies on it; up what is expected to be up, with what it
    /// needs (N53). What is ailing or set aside is left alone, with the reason.
    fn bring_to_expected(&mut self) {
        let mut rise = VecDeque::new();
        let mut sink = Vec::new();
        for i in self.chosen_numbers() {
            let service = self.services[i as usize];
            let seen = self.seen[i as usize];
            let leave = match (&service.hands_off, service.expected, seen) {
                (Some(reason), ..) => format!("is hands-off: {reason}"),
                (None, Expected::Either, _) => "may be either".to_owned(),
                (None, _, SeenState::OutOfReach | SeenState::Unknown) => format!("is {seen}: whether it runs cannot be said"),
                (None, Expected::Up, SeenState::Ailing) => "is ailing: restart it, or look at what ails it".to_owned(),
                (None, Expected::Up, SeenState::Proven) | (None, Expected::Down, SeenState::Down) => "is as expected".to_owned(),
                (None, Expected::Up, _) => {
                    rise.push_back(i);
                    continue;
                }
                (None, Expected::Down, _) => {
                    sink.push(i);
                    continue;
                }
            };
            self.left_alone.insert(i, leave);
        }
        self.chosen.fill(false);
        for &i in &sink {
            self.chosen[i as usize] = true;
        }
        self.stop_closure();
        self.chosen.fill(false);
        rise.retain(|&i| self.stop[i as usize].is_none());
        for &i in &rise {
            self.chosen[i as usize] = true;
            self.choose_start(i);
        }
        self.pull_in(rise);
    }

    fn reload_chosen(&mut self) {
        for i in self.chosen_numbers() {
            let service = self.services[i as usize];
            let address = &service.address;
            if let Some(reason) = &service.hands_off {
                self.obstacle(i, format!("{address} is hands-off: {reason}"), "leave it out");
            } else if service.reload.is_none() {
                self.obstacle(i, format!("{address} has no way to reload"), "restart it instead, or add a reload block to the estate");
            } else if !matches!(self.seen[i as usize], SeenState::Proven | SeenState::Ailing) {
                self.obstacle(i, format!("{address} is {}, and only what runs can be reloaded", self.seen[i as usize]), "start it instead");
            }
            self.raise[i as usize] = Some((StepKind::Reload, Why::Chosen));
        }
    }

    // ---- what must be asked ----

    fn touched(&self, i: u32) -> bool {
        self.stop[i as usize].is_some() || self.raise[i as usize].is_some()
    }

    /// R10: a dependent that is up while what it relies on is down.
    fn up_without_needed(&mut self) {
        for i in 0..self.services.len() as u32 {
            let named = self.request.left_standing.contains(self.address(i));
            if named || !self.touched(i) || !matches!(self.seen[i as usize], SeenState::Proven | SeenState::Ailing) {
                continue;
            }
            for rel in &self.graph.relies_on[i as usize] {
                // What this very run takes down, and raises with what it needs before it, is not left so.
                let rises = |j: &u32| matches!(self.raise[*j as usize], Some((StepKind::Start, _)));
                if self.stop[i as usize].is_some() && (self.raise[i as usize].is_none() || rel.any_of.iter().any(rises)) {
                    continue;
                }
                let down = rel.any_of.iter().filter(|&&j| self.seen[j as usize] == SeenState::Down).count();
                if (rel.any_of.len() - down) < rel.at_least as usize {
                    let missing: Vec<String> = rel
                        .any_of
                        .iter()
                        .filter(|&&j| self.seen[j as usize] == SeenState::Down)
                        .map(|&j| self.address(j).to_string())
                        .collect();
                    let address = self.address(i).clone();
                    self.asks.push(Ask::UpWithout { says: format!("{address} is up while {} is down", missing.join(", ")), address });
                }
            }
        }
        let unnamed: BTreeSet<Address> =
            self.standing.iter().map(|&i| self.address(i).clone()).filter(|a| !self.request.left_standing.contains(a)).collect();
        if !unnamed.is_empty() {
            let list: Vec<String> = unnamed.iter().map(ToString::to_string).collect();
            let what = match self.request.wish {
                Wish::Start => "would start without what it relies on being proven",
                Wish::Stop | Wish::Restart | Wish::PowerCycle | Wish::Reload | Wish::BringToExpected => {
                    "would be left standing on what stops"
                }
            };
            self.asks.push(Ask::LeftStanding { says: format!("{} {what}", list.join(", ")), addresses: unnamed });
        }
    }

    /// Groups that this run would take below their `keep_up` (R20).
    ///
    /// Members that must be down at the same time (because they stop for good, or rely on
    /// something else that stops here) cannot roll.
    fn keep_up(&mut self) {
        for (name, group) in &self.estate.groups {
            let Some(keep_up) = group.keep_up else { continue };
            if self.request.below_keep_up.contains(name) {
                continue;
            }
            let members: Vec<u32> = group.members.iter().filter_map(|m| self.graph.number(m)).collect();
            let together: Vec<u32> = members
                .iter()
                .copied()
                .filter(|&m| self.stop[m as usize].is_some())
                .filter(|&m| {
                    let stays_down = self.raise[m as usize].is_none();
                    let for_another =
                        self.graph.relies_on[m as usize].iter().any(|r| r.any_of.iter().any(|&j| self.stop[j as usize].is_some()));
                    stays_down || for_another
                })
                .collect();
            if together.is_empty() {
                continue;
            }
            let proven = members.iter().filter(|&&m| self.seen[m as usize] == SeenState::Proven).count();
            let leaving = together.iter().filter(|&&m| self.seen[m as usize] == SeenState::Proven).count();
            if proven - leaving < keep_up as usize {
                let list: Vec<String> = together.iter().map(|&m| self.address(m).to_string()).collect();
                self.asks.push(Ask::BelowKeepUp {
                    group: name.clone(),
                    says: format!(
                        "group {name} keeps {keep_up} up, and {} would be down at the same time, leaving {}",
                        list.join(", "),
                        proven - leaving
                    ),
                });
            }
        }
    }

    // ---- the steps ----

    fn finish(self, usual: &Usual) -> Plan {
        let steps = self.steps(usual);
        let usual_ms = steps.iter().map(|s| s.tail_ms).max().unwrap_or(0);
        let hits = self.hits(&steps);
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

    fn steps(&self, usual: &Usual) -> Vec<Step> {
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

    fn hits(&self, steps: &[Step]) -> Vec<Hit> {
        hits(self.estate, steps)
    }
}

/// What users notice of steps that are laid out: of each service that goes down, for how long it is away.
pub(crate) fn hits(estate: &Estate, steps: &[Step]) -> Vec<Hit> {
    let mut starts: BTreeMap<&Address, &Step> = BTreeMap::new();
    for step in steps.iter().filter(|s| s.kind() == StepKind::Start) {
        starts.extend(step.address().map(|a| (a, step)));
    }
    let mut hits: BTreeMap<&Address, Hit> = BTreeMap::new();
    for step in steps.iter().filter(|s| s.kind() == StepKind::Stop && s.found.is_up()) {
        let Some((address, service)) = step.address().and_then(|a| Some((a, estate.services.get(a)?))) else { continue };
        let back = starts.get(address).filter(|b| b.id > step.id);
        let usual_ms = back.map(|b| step.tail_ms.saturating_sub(b.tail_ms) + b.usual_ms);
        hits.entry(address).or_insert_with(|| Hit { address: address.clone(), impact: service.impact.clone(), usual_ms });
    }
    let mut hits: Vec<Hit> = hits.into_values().collect();
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
