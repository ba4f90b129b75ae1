//! The forecast of a run: its step graph played many times over under its limits, each step as long as chance
//! has it; and once as it usually goes, rank by rank too, for comparison.

use std::{
    cmp::Reverse,
    collections::{BTreeMap, BTreeSet, BinaryHeap},
};

use rand::{RngExt, SeedableRng, rngs::SmallRng};
use rand_distr::StandardNormal;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::spread;
use crate::{
    model::Estate,
    plan::Step,
    words::{
        kinds::StepKind,
        name::{Address, HostName},
    },
};

/// How a step stands when a forecast is made.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Standing {
    /// It ended so many milliseconds ago.
    Ended(u64),
    /// It goes on since so many milliseconds.
    GoesOn(u64),
    /// It has not begun.
    Waits,
}

/// What a play has to respect besides the waits: how much at once.
#[derive(Debug, Clone, Default)]
pub struct Limits {
    capacities: Vec<u32>,
    /// What each step takes while it goes on.
    taken: Vec<Vec<u32>>,
    /// What a stop takes until its service is back, and the start that gives it back.
    rolling: Vec<Vec<u32>>,
}

impl Limits {
    /// The limits of an estate for these steps; `at_once` where the run was asked to go slower.
    pub fn new(estate: &Estate, steps: &[Step], at_once: Option<u32>) -> Self {
        let mut limits = Self { capacities: Vec::new(), taken: vec![Vec::new(); steps.len()], rolling: vec![Vec::new(); steps.len()] };
        let started: BTreeSet<(&Address, Option<u32>)> =
            steps.iter().filter(|s| s.kind() == StepKind::Start).filter_map(|s| Some((s.address()?, s.line))).collect();
        let takes_room = |s: &Step| s.address().is_some() || s.kind() == StepKind::Work;
        let overall = [estate.limits.at_once, at_once].into_iter().flatten().min();
        // Whose steps they are, once: an estate of thousands of hosts has as many limits.
        let mut on_host: BTreeMap<&HostName, Vec<usize>> = BTreeMap::new();
        let mut of_service: BTreeMap<&Address, Vec<usize>> = BTreeMap::new();
        for (i, step) in steps.iter().enumerate() {
            if let Some(host) = step.host().filter(|_| takes_room(step)) {
                on_host.entry(host).or_default().push(i);
            }
            if let Some(address) = step.address() {
                of_service.entry(address).or_default().push(i);
            }
        }
        let mut add = |capacity: u32, members: &[usize], rolling: bool| {
            let r = limits.capacities.len() as u32;
            limits.capacities.push(capacity);
            for i in members {
                if rolling { limits.rolling[*i].push(r) } else { limits.taken[*i].push(r) }
            }
        };
        if let Some(overall) = overall {
            let all: Vec<usize> = (0..steps.len()).filter(|i| takes_room(&steps[*i])).collect();
            add(overall, &all, false);
        }
        for (name, host) in &estate.hosts {
            if let Some(limit) = host.at_once.or(estate.limits.per_host) {
                add(limit, on_host.get(name).map(Vec::as_slice).unwrap_or_default(), false);
            }
        }
        for group in estate.groups.values() {
            let of_members: Vec<usize> = group.members.iter().filter_map(|a| of_service.get(a)).flatten().copied().collect();
            if let Some(limit) = group.at_once {
                add(limit, &of_members, false);
            }
            if let Some(keep_up) = group.keep_up {
                // Only members that come back roll; those that stop for good were spoken for.
                let comes_back = |s: &Step| s.address().is_some_and(|a| started.contains(&(a, s.line)));
                let rolls = |i: &usize| steps[*i].kind() != StepKind::Stop || comes_back(&steps[*i]);
                let limit = (group.members.len() as u32).saturating_sub(keep_up).min(group.at_once.unwrap_or(u32::MAX)).max(1);
                add(limit, &of_members.into_iter().filter(rolls).collect::<Vec<_>>(), true);
            }
        }
        limits
    }
}

/// The forecast of a run.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Forecast {
    /// Half of all plays end by then, in milliseconds from now.
    pub likely_ms: u64,
    /// Nine in ten end by then.
    pub late_ms: u64,
    /// One in ten ends by then.
    pub soon_ms: u64,
    /// When plays end, in milliseconds from now: 101 points, from the first to the last.
    pub ends_ms: Vec<u64>,
    /// How many plays it is made from.
    pub plays: u32,
    /// Each step, by number; empty where that was not asked for.
    pub steps: Vec<StepForecast>,
    /// For how long users are without each service, the longest first.
    pub away: Vec<Away>,
    /// How long it would usually take rank by rank, in milliseconds.
    pub rank_by_rank_ms: u64,
    /// How long it usually takes as it is done.
    pub as_planned_ms: u64,
}

/// One step in a forecast.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct StepForecast {
    /// When it likely begins, in milliseconds from now.
    pub begins_ms: u64,
    /// When it likely ends.
    pub ends_ms: u64,
    /// When it ends in nine of ten plays.
    pub late_ms: u64,
    /// In how many of a hundred plays the run's end hangs on it.
    pub critical: u32,
    /// How much later it could end without the run's end moving, as it usually goes.
    pub slack_ms: u64,
}

/// For how long users are without a service.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Away {
    /// The service.
    pub address: Address,
    /// Likely, in milliseconds; `None` where it stays down.
    pub likely_ms: Option<u64>,
    /// In nine of ten plays.
    pub late_ms: Option<u64>,
}

impl Forecast {
    /// The chance, in percent, that the run has ended so many milliseconds from now.
    pub fn chance_by(&self, ms: u64) -> u32 {
        self.ends_ms.partition_point(|e| *e <= ms).saturating_sub(1).min(100) as u32
    }
}

/// How many plays are worth their time: thousands of a few hundred steps.
fn plays_for(steps: usize) -> u32 {
    (1_000_000 / steps.max(1)).clamp(100, 2_000) as u32
}

/// Plays steps of which none has begun.
pub fn play_all(steps: &[Step], estate: &Estate, at_once: Option<u32>) -> Forecast {
    play(steps, &Limits::new(estate, steps, at_once), &vec![Standing::Waits; steps.len()])
}

/// Plays the steps from how they stand now. The outcome is the same for the same steps, limits and standings.
pub fn play(steps: &[Step], limits: &Limits, standing: &[Standing]) -> Forecast {
    let n = steps.len();
    let mut game = Game::new(steps, limits, standing);
    let usual: Vec<f64> = steps.iter().map(|s| s.usual_ms as f64).collect();
    let as_planned = game.play(&usual, false);
    let slack = game.slack(&usual);
    let rank_by_rank = game.play(&usual, true);
    let plays = plays_for(n);
    let table = Table {
        steps,
        limits,
        standing,
        spreads: steps.iter().map(|s| spread(s.usual_ms, s.slow_ms)).collect(),
        pairs: pairs(steps),
        usual,
    };
    let Played { mut ends, critical, mut begins, mut finishes, away } = table.side_by_side(plays);
    let pairs = table.pairs;
    ends.sort_by(f64::total_cmp);
    let at = |share: f64| ends.get(((ends.len().max(1) - 1) as f64 * share).round() as usize).map_or(0, |e| e.max(0.0).round() as u64);
    let point = |values: &mut Vec<f32>, share: f64| {
        let k = ((values.len().max(1) - 1) as f64 * share).round() as usize;
        if values.is_empty() { 0 } else { values.select_nth_unstable_by(k, f32::total_cmp).1.max(0.0).round() as u64 }
    };
    let step_forecasts = (0..n)
        .map(|i| StepForecast {
            begins_ms: point(&mut begins[i], 0.5),
            ends_ms: point(&mut finishes[i], 0.5),
            late_ms: point(&mut finishes[i], 0.9),
            critical: (critical[i] * 100).div_ceil(plays),
            slack_ms: slack[i],
        })
        .collect();
    let mut away: Vec<Away> = pairs
        .iter()
        .zip(away)
        .map(|(pair, mut lost)| {
            lost.sort_by(f64::total_cmp);
            let at = |share: f64| lost.get(((lost.len().max(1) - 1) as f64 * share).round() as usize).map(|l| l.max(0.0).round() as u64);
            Away { address: pair.address.clone(), likely_ms: at(0.5), late_ms: at(0.9) }
        })
        .collect();
    away.sort_by(|a, b| b.likely_ms.unwrap_or(u64::MAX).cmp(&a.likely_ms.unwrap_or(u64::MAX)).then_with(|| a.address.cmp(&b.address)));
    Forecast {
        likely_ms: at(0.5),
        late_ms: at(0.9),
        soon_ms: at(0.1),
        ends_ms: (0..=100).map(|p| at(f64::from(p) / 100.0)).collect(),
        plays,
        steps: step_forecasts,
        away,
        rank_by_rank_ms: rank_by_rank.max(0.0).round() as u64,
        as_planned_ms: as_planned.max(0.0).round() as u64,
    }
}

/// In how many parts plays are made: each has luck of its own, so that the outcome does not hang on how many
/// processors there are.
const PARTS: u32 = 2;
/// Below so many steps played in all, a part of their own is not worth a thread.
const WORTH_A_THREAD: usize = 50_000;

/// What is played again and again.
struct Table<'s> {
    steps: &'s [Step],
    limits: &'s Limits,
    standing: &'s [Standing],
    usual: Vec<f64>,
    spreads: Vec<f64>,
    pairs: Vec<Pair>,
}

/// What plays came to.
struct Played {
    /// When each play ended.
    ends: Vec<f64>,
    /// How often each step was on the way that led to the end.
    critical: Vec<u32>,
    /// When each step began, in a quarter of the plays: that tells enough.
    begins: Vec<Vec<f32>>,
    finishes: Vec<Vec<f32>>,
    /// For how long each service that comes back was away.
    away: Vec<Vec<f64>>,
}

impl Table<'_> {
    /// All plays, in parts beside each other where that is worth it.
    fn side_by_side(&self, plays: u32) -> Played {
        let share = |part: u32| plays * (part + 1) / PARTS - plays * part / PARTS;
        let mut parts: Vec<Played> = if self.steps.len() * plays as usize > WORTH_A_THREAD {
            std::thread::scope(|scope| {
                let hands: Vec<_> = (0..PARTS).map(|part| scope.spawn(move || self.part(part, share(part)))).collect();
                hands.into_iter().map(|h| h.join().expect("a play has nothing to fail at")).collect()
            })
        } else {
            (0..PARTS).map(|part| self.part(part, share(part))).collect()
        };
        let mut all = parts.remove(0);
        for part in parts {
            all.ends.extend(part.ends);
            all.critical.iter_mut().zip(part.critical).for_each(|(all, more)| *all += more);
            let each = |all: &mut Vec<Vec<f32>>, more: Vec<Vec<f32>>| all.iter_mut().zip(more).for_each(|(all, more)| all.extend(more));
            each(&mut all.begins, part.begins);
            each(&mut all.finishes, part.finishes);
            all.away.iter_mut().zip(part.away).for_each(|(all, more)| all.extend(more));
        }
        all
    }

    /// One part of the plays, with its own luck.
    fn part(&self, part: u32, plays: u32) -> Played {
        let n = self.steps.len();
        let mut game = Game::new(self.steps, self.limits, self.standing);
        let mut rng = SmallRng::seed_from_u64(0x59414e54524f + u64::from(part));
        let quarter = vec![Vec::with_capacity(plays as usize / 4 + 1); n];
        let mut played = Played {
            ends: Vec::with_capacity(plays as usize),
            critical: vec![0; n],
            begins: quarter.clone(),
            finishes: quarter,
            away: vec![Vec::with_capacity(plays as usize); self.pairs.len()],
        };
        let mut lengths = vec![0f64; n];
        for nth in 0..plays {
            for (i, length) in lengths.iter_mut().enumerate() {
                let mut drawn = || self.usual[i] * (self.spreads[i] * rng.sample::<f64, _>(StandardNormal)).exp();
                *length = match self.standing[i] {
                    Standing::Ended(_) => 0.0,
                    Standing::Waits => drawn(),
                    // What went on so long already takes longer than that.
                    Standing::GoesOn(since) => {
                        let since = since as f64;
                        (0..8).map(|_| drawn()).find(|l| *l > since).unwrap_or(since * 1.1 + 100.0)
                    }
                };
            }
            played.ends.push(game.play(&lengths, false));
            game.mark_critical(&mut played.critical);
            for i in (0..n).filter(|_| nth % 4 == 0) {
                played.begins[i].push(game.begin[i] as f32);
                played.finishes[i].push(game.end[i] as f32);
            }
            for (pair, lost) in self.pairs.iter().zip(&mut played.away) {
                if let Some(start) = pair.start {
                    lost.push(game.end[start] - game.begin[pair.stop]);
                }
            }
        }
        played
    }
}

struct Pair {
    address: Address,
    stop: usize,
    start: Option<usize>,
}

/// The stop that takes each service from its users, and the start that brings it back.
fn pairs(steps: &[Step]) -> Vec<Pair> {
    let mut pairs: BTreeMap<&Address, Pair> = BTreeMap::new();
    for (i, step) in steps.iter().enumerate() {
        let Some(on) = step.service() else { continue };
        match on.kind {
            StepKind::Stop if step.found.is_up() => {
                pairs.entry(&on.address).or_insert_with(|| Pair { address: on.address.clone(), stop: i, start: None });
            }
            StepKind::Start => {
                if let Some(pair) = pairs.get_mut(&on.address) {
                    pair.start = Some(i);
                }
            }
            _ => {}
        }
    }
    pairs.into_values().collect()
}

/// A step that may begin: the longest way behind it first, then by number.
type Ready = (u64, Reverse<u32>);

/// One play after another over the same graph. What a play needs is kept from one to the next.
struct Game<'s> {
    steps: &'s [Step],
    limits: &'s Limits,
    standing: &'s [Standing],
    /// Who waits on each step: step w's are in `waiters` at `waits_at[w]..waits_at[w + 1]`.
    waiters: Vec<u32>,
    waits_at: Vec<usize>,
    /// How many each step waits on.
    waits: Vec<u32>,
    tails: Vec<u64>,
    ranks: Vec<u32>,
    stops: Vec<bool>,
    starts: Vec<bool>,
    begin: Vec<f64>,
    end: Vec<f64>,
    /// The step whose end let each one begin.
    let_in: Vec<u32>,
    open: Vec<u32>,
    room: Vec<u32>,
    ready: BinaryHeap<Ready>,
    /// What has no room, by the first thing that it found full.
    blocked: Vec<BinaryHeap<Ready>>,
    going: BinaryHeap<(Reverse<u64>, u32)>,
    /// What was given back since something last began.
    freed: Vec<u32>,
}

const NOBODY: u32 = u32::MAX;

impl<'s> Game<'s> {
    fn new(steps: &'s [Step], limits: &'s Limits, standing: &'s [Standing]) -> Self {
        let n = steps.len();
        let mut lists: Vec<Vec<u32>> = vec![Vec::new(); n];
        for (i, step) in steps.iter().enumerate() {
            for wait in &step.waits {
                lists[wait.step.0 as usize - 1].push(i as u32);
            }
        }
        let mut waits_at = vec![0];
        for list in &lists {
            waits_at.push(waits_at.last().copied().unwrap_or(0) + list.len());
        }
        Self {
            waiters: lists.concat(),
            waits_at,
            waits: steps.iter().map(|s| s.waits.len() as u32).collect(),
            tails: steps.iter().map(|s| s.tail_ms).collect(),
            ranks: steps.iter().map(|s| s.rank).collect(),
            stops: steps.iter().map(|s| s.kind() == StepKind::Stop).collect(),
            starts: steps.iter().map(|s| s.kind() == StepKind::Start).collect(),
            begin: vec![0.0; n],
            end: vec![0.0; n],
            let_in: vec![NOBODY; n],
            open: vec![0; n],
            room: Vec::new(),
            ready: BinaryHeap::new(),
            blocked: (0..limits.capacities.len()).map(|_| BinaryHeap::new()).collect(),
            going: BinaryHeap::new(),
            freed: Vec::new(),
            steps,
            limits,
            standing,
        }
    }

    fn ready(&self, i: usize) -> Ready {
        (self.tails[i], Reverse(i as u32))
    }

    fn goes_on_until(&mut self, i: usize) {
        self.going.push((Reverse((self.end[i].max(0.0) * 1000.0) as u64), i as u32));
    }

    /// Plays once, and says when the last step ended.
    fn play(&mut self, lengths: &[f64], by_rank: bool) -> f64 {
        self.open.copy_from_slice(&self.waits);
        self.room.clone_from(&self.limits.capacities);
        self.ready.clear();
        self.going.clear();
        self.freed.clear();
        self.blocked.iter_mut().for_each(BinaryHeap::clear);
        let mut in_rank: BTreeMap<u32, u32> = BTreeMap::new();
        if by_rank {
            self.ranks.iter().for_each(|r| *in_rank.entry(*r).or_default() += 1);
        }
        // Those of later ranks, and the lowest of which not all have ended.
        let mut early: BTreeMap<u32, Vec<Ready>> = BTreeMap::new();
        let mut lowest = in_rank.keys().next().copied().unwrap_or(0);
        let (mut last, mut now, mut freed_by) = (0f64, 0f64, NOBODY);
        for (i, length) in lengths.iter().enumerate() {
            self.let_in[i] = NOBODY;
            match self.standing[i] {
                Standing::Ended(ago) => {
                    (self.begin[i], self.end[i]) = (-(ago as f64), -(ago as f64));
                    self.goes_on_until(i);
                }
                Standing::GoesOn(since) => {
                    (self.begin[i], self.end[i]) = (-(since as f64), (length - since as f64).max(0.0));
                    self.take(i);
                    self.goes_on_until(i);
                }
                Standing::Waits if self.open[i] == 0 => self.ready.push(self.ready(i)),
                Standing::Waits => {}
            }
        }
        loop {
            loop {
                let Some(top) = self.ready.pop() else {
                    // Whoever had no room may have some now.
                    let Some(&r) = self.freed.last() else { break };
                    if self.room[r as usize] > 0
                        && let Some(next) = self.blocked[r as usize].pop()
                    {
                        self.ready.push(next);
                    } else {
                        self.freed.pop();
                    }
                    continue;
                };
                let i = top.1.0 as usize;
                if by_rank && self.ranks[i] > lowest {
                    early.entry(self.ranks[i]).or_default().push(top);
                } else if let Some(r) = self.full(i) {
                    self.blocked[r as usize].push(top);
                    self.let_in[i] = NOBODY;
                } else {
                    self.begins(i, now, lengths[i], freed_by);
                }
            }
            let Some((_, i)) = self.going.pop() else {
                // Nothing goes on, and something has no room: a person would make some.
                let Some(Reverse(i)) = self.blocked.iter_mut().find_map(BinaryHeap::pop).map(|top| top.1) else { break };
                self.begins(i as usize, now, lengths[i as usize], freed_by);
                continue;
            };
            let i = i as usize;
            now = now.max(self.end[i]);
            last = last.max(self.end[i]);
            freed_by = i as u32;
            if !matches!(self.standing[i], Standing::Ended(_)) {
                self.give_back(i);
            }
            if by_rank {
                if let Some(left) = in_rank.get_mut(&self.ranks[i]) {
                    *left -= 1;
                }
                while let Some(first) = in_rank.first_entry().filter(|rank| *rank.get() == 0) {
                    first.remove();
                }
                lowest = in_rank.keys().next().copied().unwrap_or(u32::MAX);
                while let Some(those) = early.first_entry().filter(|rank| *rank.key() <= lowest) {
                    self.ready.extend(those.remove());
                }
            }
            for k in self.waits_at[i]..self.waits_at[i + 1] {
                let w = self.waiters[k] as usize;
                self.open[w] -= 1;
                if self.open[w] == 0 && self.standing[w] == Standing::Waits {
                    self.let_in[w] = i as u32;
                    self.ready.push(self.ready(w));
                }
            }
        }
        last
    }

    fn begins(&mut self, i: usize, now: f64, length: f64, freed_by: u32) {
        if self.let_in[i] == NOBODY && now > 0.0 {
            self.let_in[i] = freed_by;
        }
        self.take(i);
        self.begin[i] = now;
        self.end[i] = now + length;
        self.goes_on_until(i);
    }

    /// The first thing that has no room for a step.
    fn full(&self, i: usize) -> Option<u32> {
        let rolling = self.limits.rolling[i].iter().filter(|_| self.stops[i]);
        self.limits.taken[i].iter().chain(rolling).copied().find(|r| self.room[*r as usize] == 0)
    }

    fn take(&mut self, i: usize) {
        let rolling = self.limits.rolling[i].iter().filter(|_| self.stops[i]);
        for r in self.limits.taken[i].iter().chain(rolling) {
            self.room[*r as usize] = self.room[*r as usize].saturating_sub(1);
        }
    }

    fn give_back(&mut self, i: usize) {
        let rolling = self.limits.rolling[i].iter().filter(|_| self.starts[i]);
        for r in self.limits.taken[i].iter().chain(rolling) {
            let room = &mut self.room[*r as usize];
            *room = (*room + 1).min(self.limits.capacities[*r as usize]);
            if !self.freed.contains(r) {
                self.freed.push(*r);
            }
        }
    }

    /// Counts the steps on the way that led to the last end.
    fn mark_critical(&self, counts: &mut [u32]) {
        let waits = |i: &usize| !matches!(self.standing[*i], Standing::Ended(_));
        let Some(mut at) = (0..self.steps.len()).filter(waits).max_by(|a, b| self.end[*a].total_cmp(&self.end[*b]).then(b.cmp(a))) else {
            return;
        };
        loop {
            counts[at] += 1;
            match self.let_in[at] {
                NOBODY => return,
                before => at = before as usize,
            }
        }
    }

    /// How much later each step could end without the last end moving, as it usually goes.
    fn slack(&self, usual: &[f64]) -> Vec<u64> {
        let last = self.end.iter().copied().fold(0.0, f64::max);
        let mut latest = vec![last; self.steps.len()];
        for i in (0..self.steps.len()).rev() {
            for w in &self.waiters[self.waits_at[i]..self.waits_at[i + 1]] {
                latest[i] = latest[i].min(latest[*w as usize] - usual[*w as usize]);
            }
        }
        latest.iter().zip(&self.end).map(|(l, e)| (l - e).max(0.0).round() as u64).collect()
    }
}
