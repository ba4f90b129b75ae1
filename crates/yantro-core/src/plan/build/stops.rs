//! What is stopped for a wish, with what relies on it; what comes back, and what is left standing.

use std::collections::{BTreeSet, VecDeque};

use super::Work;
use crate::{
    plan::{Ask, Why},
    proof::SeenState,
    words::{
        Expected,
        kinds::{StepKind, Wish},
        name::Address,
    },
};

impl Work<'_> {
    pub(super) fn stop_closure(&mut self) {
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
    pub(super) fn bring_back(&mut self) {
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
    pub(super) fn bring_to_expected(&mut self) {
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

    pub(super) fn reload_chosen(&mut self) {
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

    pub(super) fn touched(&self, i: u32) -> bool {
        self.stop[i as usize].is_some() || self.raise[i as usize].is_some()
    }

    /// R10: a dependent that is up while what it relies on is down.
    pub(super) fn up_without_needed(&mut self) {
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
}
