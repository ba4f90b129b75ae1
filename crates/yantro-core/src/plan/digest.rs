//! What a person agrees to when they begin a plan: its digest goes with the begin, so that what is begun is what was shown.

use std::collections::{BTreeMap, BTreeSet};

use sha2::{Digest, Sha256};

use super::{Plan, Step};
use crate::{
    proof::SeenState,
    words::{kinds::StepKind, name::Address},
};

/// What was shown of a plan, as far as it matters to whoever agrees to it: a sentence for each thing done.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Shown {
    /// The edition of the estate that it was worked out by.
    pub edition: u64,
    /// What is done and what is so already, in the order of the steps.
    pub steps: Vec<String>,
    /// Everything else that decides what is done, to the letter: order, settings, values, looks before the first act.
    rest: String,
}

impl Shown {
    /// What of a plan by this edition is agreed to. How long it may take and how the estate stands besides is not part of it.
    pub fn of(plan: &Plan, edition: u64) -> Self {
        let mut stopped = BTreeSet::new();
        let steps = plan.sequence.steps.iter().map(|s| {
            if s.kind() == StepKind::Stop {
                stopped.extend(s.address());
            }
            says(plan, s, &stopped)
        });
        let steps = steps.collect();
        let exact: Vec<_> = plan.sequence.steps.iter().map(|s| (&s.subject, &s.waits, s.line, s.part, &s.settings)).collect();
        let rest = (&plan.sequence.of, exact, &plan.sequence.below_keep_up, &plan.sequence.left_standing, &plan.preflight, &plan.values);
        Self { edition, steps, rest: serde_json::to_string(&rest).expect("our own types have text keys only") }
    }

    /// What somebody agrees to who does something that begins no run: what it is about, the edition of the estate that it is worked
    /// out by, and what it does, a sentence each.
    pub fn deed(about: String, edition: u64, does: Vec<String>) -> Self {
        Self { edition, steps: does, rest: about }
    }

    /// Whether what would be done now is no more than what was shown here: some of it may have come about meanwhile.
    pub fn covers(&self, now: &Self) -> bool {
        self.edition == now.edition && self.rest == now.rest && only_in(&now.steps, &self.steps).is_empty()
    }

    /// About how many bytes it takes.
    pub fn size(&self) -> usize {
        self.rest.len() + self.steps.iter().map(|s| s.len() + size_of::<String>()).sum::<usize>()
    }

    /// A digest of it, in hexadecimal: the first half of a SHA-256.
    pub fn digest(&self) -> String {
        let mut hash = Sha256::new();
        hash.update(self.edition.to_le_bytes());
        for part in self.steps.iter().chain([&self.rest]) {
            hash.update((part.len() as u64).to_le_bytes());
            hash.update(part);
        }
        hash.finalize().iter().take(16).map(|b| format!("{b:02x}")).collect()
    }

    /// How another differs from this one, a sentence each; the other came later.
    pub fn difference(&self, now: &Self) -> Vec<String> {
        let mut all = Vec::new();
        if self.edition != now.edition {
            all.push(format!("the estate is edition {} now, and was edition {}", now.edition, self.edition));
        }
        all.extend(only_in(&now.steps, &self.steps).into_iter().map(|s| format!("new: {s}")));
        all.extend(only_in(&self.steps, &now.steps).into_iter().map(|s| format!("no longer: {s}")));
        if all.is_empty() && self.rest != now.rest {
            all.push("the same steps, in another order or with other settings".to_owned());
        }
        all
    }
}

/// What is in the first and not in the second; what is in it twice, as often as the second lacks it.
fn only_in(mine: &[String], theirs: &[String]) -> Vec<String> {
    let mut left: BTreeMap<&String, usize> = BTreeMap::new();
    for step in theirs {
        *left.entry(step).or_default() += 1;
    }
    let mut only = Vec::new();
    for step in mine {
        match left.get_mut(step).filter(|n| **n > 0) {
            Some(n) => *n -= 1,
            None => only.push(step.clone()),
        }
    }
    only
}

/// A step in words; `stopped` are the services that it or a step before it stops.
fn says(plan: &Plan, step: &Step, stopped: &BTreeSet<&Address>) -> String {
    let so_already = match step.kind() {
        StepKind::Stop => step.found == SeenState::Down,
        StepKind::Start => step.found == SeenState::Proven && step.address().is_none_or(|a| !stopped.contains(a)),
        _ => false,
    };
    let how = match (plan.vouched.contains(&step.id), so_already) {
        (true, _) => ", vouched for",
        (false, true) => ", so already",
        (false, false) => "",
    };
    format!("{}{how}", step.says())
}
