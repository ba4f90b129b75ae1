//! Whether a plan still is the one that was confirmed (R8).

use std::collections::{BTreeMap, BTreeSet};

use crate::{
    graph::EstateGraph,
    model::{Estate, procedure::Procedure},
    plan::{
        For, Plan, Request, Step,
        forecast::Usual,
        plan, preflight,
        procedure::{self, Asked},
    },
    proof::{Facts, SeenState},
    run::Begun,
    words::{kinds::StepKind, name::Address},
};

/// The newest edition of the estate.
#[derive(Debug, Clone, Copy)]
pub struct Newest<'e> {
    /// Its number.
    pub edition: u64,
    /// The estate.
    pub estate: &'e Estate,
    /// What relies on what in it.
    pub graph: &'e EstateGraph,
}

/// So many acts are named of a plan that is told in a sentence.
const ACTS_NAMED: usize = 12;

/// Acts that a plan from these facts would have and the confirmed one has not, with all that would be done now and how that
/// stands which was found otherwise (R8); nothing where what was confirmed holds.
pub fn unconfirmed(newest: &Newest<'_>, begun: &Begun, facts: &Facts, seen: &BTreeMap<Address, SeenState>) -> Vec<String> {
    let Some(again) = again(newest, begun, facts, &Usual::default()) else {
        return vec![format!("{} is no longer in the estate", begun.sequence.of.says())];
    };
    let confirmed: BTreeSet<(String, StepKind)> = begun.sequence.steps.iter().map(|s| (s.row(), s.kind())).collect();
    let acting = || again.sequence.steps.iter().filter(|s| s.kind() != StepKind::Await);
    let new = acting().filter(|s| !confirmed.contains(&(s.row(), s.kind()))).map(|s| format!("new: {}, found {}", s.says(), s.found));
    let mut changes: Vec<String> = new.chain(described_otherwise(newest, begun)).collect();
    if !changes.is_empty() {
        // Who has to decide sees what stands now, and what would be done by that.
        let stands = begun.as_found.iter().filter_map(|(a, was)| Some((a, was, seen.get(a)?))).filter(|(_, was, now)| was != now);
        changes.extend(stands.map(|(a, was, now)| format!("{a} is {} now, and was {}", now.word(), was.word())));
        let all: Vec<String> = acting().map(Step::says).collect();
        let more = all.len().saturating_sub(ACTS_NAMED);
        let more = if more == 0 { String::new() } else { format!(" and {more} more") };
        let all = &all[..all.len().min(ACTS_NAMED)];
        changes.push(if all.is_empty() {
            "it would do nothing now".to_owned()
        } else {
            format!("in all it would now {}{more}", all.join(", "))
        });
    }
    changes
}

/// What it acts on and the newest edition describes otherwise than its own did: it was confirmed by that.
fn described_otherwise<'b>(newest: &'b Newest<'_>, begun: &'b Begun) -> impl Iterator<Item = String> + 'b {
    let acted_on = if newest.edition == begun.edition { BTreeSet::new() } else { begun.sequence.acted_on() };
    let mine = begun.services.iter().filter(move |(a, _)| acted_on.contains(*a) && !begun.overrides.contains_key(*a));
    let differs = mine.filter(|(a, s)| newest.estate.services.get(*a) != Some(*s));
    differs.map(|(a, _)| format!("{a} is described otherwise by edition {} than by edition {}", newest.edition, begun.edition))
}

/// What a run would come to by these facts: its wish or procedure with all that was said for it. `None` where its procedure is
/// no longer in the estate.
pub fn again(newest: &Newest<'_>, begun: &Begun, facts: &Facts, usual: &Usual) -> Option<Plan> {
    let with = &begun.asked_with;
    let mut planned = match &begun.sequence.of {
        For::Wish { wish, chosen } => {
            let request = Request {
                wish: *wish,
                chosen: chosen.iter().filter(|a| newest.estate.services.contains_key(*a)).cloned().collect(),
                alone: with.alone || !begun.sequence.left_standing.is_empty(),
                left_standing: begun.sequence.left_standing.clone(),
                below_keep_up: begun.sequence.below_keep_up.clone(),
            };
            let mut plan = plan(newest.estate, newest.graph, facts, usual, &request);
            plan.preflight = preflight(newest.estate, &plan.sequence.steps);
            plan
        }
        For::Procedure { procedure: name, .. } => {
            let procedure = newest.estate.procedures.get(name)?.clone().with_found(&with.found_by);
            let asked = Asked {
                values: begun.values.clone(),
                left_standing: begun.sequence.left_standing.clone(),
                below_keep_up: begun.sequence.below_keep_up.clone(),
                from_line: begun.from_line,
                vouched_for: begun.vouched_for.clone(),
                found_by: with.found_by.clone(),
                ..Asked::default()
            };
            procedure::plan(newest.estate, newest.graph, facts, usual, &procedure, &asked)
        }
        For::Act { act, of } => {
            let asked = Asked { by_itself: true, ..Asked::default() };
            let procedure = Procedure::of_one_act(act.parse().ok()?, act, of);
            procedure::plan(newest.estate, newest.graph, facts, usual, &procedure, &asked)
        }
    };
    planned.prefer(with.prefer, newest.estate);
    planned.asked_with.along.clone_from(&with.along);
    Some(planned)
}
