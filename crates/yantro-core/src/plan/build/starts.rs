//! What is started for a wish, with what it needs.

use std::collections::VecDeque;

use super::Work;
use crate::{
    plan::Why,
    proof::SeenState,
    words::{Expected, kinds::StepKind},
};

impl Work<'_> {
    pub(super) fn start_chosen(&mut self) {
        let mut queue = VecDeque::new();
        for i in self.chosen_numbers() {
            self.choose_start(i);
            queue.push_back(i);
        }
        self.pull_in(queue);
    }

    /// A chosen service to start: what cannot be started over is told.
    pub(super) fn choose_start(&mut self, i: u32) {
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
    pub(super) fn cannot_say(&mut self, i: u32) {
        let (address, seen) = (self.address(i), self.seen[i as usize]);
        let mend = if seen == SeenState::OutOfReach {
            "wait until its host answers, or leave it out"
        } else {
            "see why it cannot be looked at, or leave it out: yantro board --look"
        };
        self.obstacle(i, format!("{address} is {seen}: whether it runs cannot be said"), mend);
    }

    /// Brings in what the queued services need and is not proven.
    pub(super) fn pull_in(&mut self, mut queue: VecDeque<u32>) {
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
}
