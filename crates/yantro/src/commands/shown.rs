//! A plan as people read it before they say yes.

use std::collections::BTreeSet;

use yantro_core::{
    plan::{Ask, Why},
    proof::SeenState,
    words::{kinds::StepKind, name::Address},
};
use yantro_server::wire::{PlanView, roughly};

use crate::{
    marks,
    say::{Tint, tinted},
};

/// So many steps are shown before a run is begun: nobody reads thousands then, and what stands in the way must be seen.
pub const BEFORE_BEGINNING: usize = 200;

/// Shows a plan: the sentence, the ranks, what is left alone, what stands in the way. Of a long one the first steps.
pub fn show(plan: &PlanView, most: usize, line: &dyn Fn(String)) {
    let sequence = &plan.plan.sequence;
    line(format!("\n{}", tinted(Tint::Strong, sequence.of.says())));
    line(format!("{} About {} in all, 9 in 10 within {}.\n", plan.says, roughly(plan.forecast.likely_ms), roughly(plan.forecast.late_ms)));
    if let Some(felt) = &plan.plan.felt {
        line(format!("In the order that users feel least: {}.\n", felt.says()));
    }
    let lined = sequence.steps.iter().any(|s| s.line.is_some());
    let mut table = marks::table(&["", "STEP", if lined { "OF" } else { "SERVICE" }, "FOUND", "USUALLY", "WHY"]);
    let (mut rank, mut in_line) = (None, None);
    let stopped: BTreeSet<&Address> = sequence.steps.iter().filter(|s| s.kind() == StepKind::Stop).filter_map(|s| s.address()).collect();
    for step in sequence.steps.iter().take(most) {
        let head = match step.line {
            Some(no) => (in_line.replace(no) != Some(no)).then(|| format!("line {no}")),
            None => (rank.replace(step.rank) != Some(step.rank)).then(|| format!("rank {}", step.rank + 1)),
        };
        let why = match &step.why {
            Why::Chosen => "chosen".to_owned(),
            Why::ReliesOn(a) => format!("relies on {a}"),
            Why::NeededBy(a) => format!("needed by {a}"),
            Why::Written(_) => String::new(),
            Why::TakesBack(step) => format!("takes back step {step}"),
        };
        let starts_only = || step.address().is_none_or(|a| !stopped.contains(a));
        let vouched = plan.plan.vouched.contains(&step.id);
        let unneeded = match step.kind() {
            StepKind::Stop => step.found == SeenState::Down,
            StepKind::Start => step.found == SeenState::Proven && starts_only(),
            _ => false,
        };
        let usually = match step.usual_ms {
            _ if vouched => tinted(Tint::Alarm, "vouched for"),
            _ if unneeded => "so already".to_owned(),
            0 => String::new(),
            ms => roughly(ms),
        };
        let row = step.row();
        table.add_row([
            head.unwrap_or_default(),
            step.does().to_owned(),
            if step.critical { tinted(Tint::Strong, &row) } else { row },
            if step.service().is_some() { step.found.to_string() } else { String::new() },
            usually,
            why,
        ]);
    }
    line(marks::lines(&table));
    let more_than_shown = |all: usize| all.checked_sub(most).filter(|more| *more > 0);
    if let Some(more) = more_than_shown(sequence.steps.len()) {
        let ranks = sequence.steps.iter().map(|s| s.rank + 1).max().unwrap_or_default();
        line(format!("… and {more} more steps, to rank {ranks}. All of them: yantro preview, or the console."));
    }
    if sequence.steps.iter().any(|s| s.critical) {
        line(tinted(Tint::Rest, "\nThe run's length hangs on the steps in bold."));
    }
    let hits: Vec<_> = plan.plan.hits.iter().filter(|h| h.impact.says.is_some()).collect();
    for hit in hits.iter().take(most) {
        let length = hit.usual_ms.map_or("until it is started again".to_owned(), |ms| format!("about {}", roughly(ms)));
        line(format!("  {} {}: {} ({length})", tinted(Tint::Moving, "!"), hit.address, hit.impact.says.clone().unwrap_or_default()));
    }
    if let Some(more) = more_than_shown(hits.len()) {
        line(format!("  {} and {more} more that users notice", tinted(Tint::Moving, "!")));
    }
    for left in plan.plan.left_alone.iter().take(most) {
        line(tinted(Tint::Rest, format!("  left alone: {} {}", left.address, left.why)));
    }
    if let Some(more) = more_than_shown(plan.plan.left_alone.len()) {
        line(tinted(Tint::Rest, format!("  left alone: {more} more")));
    }
    for why in &plan.plan.refused_now {
        line(format!("  {} before its first act, as things stand: {why}", tinted(Tint::Alarm, "✗ refused")));
    }
    for remark in &plan.plan.remarks {
        line(tinted(Tint::Rest, format!("  note: {remark}")));
    }
    for ask in &plan.plan.asks {
        let (says, option) = match ask {
            Ask::LeftStanding { addresses, says } => {
                (says, addresses.iter().map(|a| format!("--left-standing {a}")).collect::<Vec<_>>().join(" "))
            }
            Ask::BelowKeepUp { group, says } => (says, format!("--below-keep-up {group}")),
            Ask::InFreeze { freeze, says } => (says, format!("--in-freeze {freeze} --why …")),
            Ask::UpWithout { address, says } => (says, format!("--left-standing {address}")),
            Ask::AgainstVouch { address, says } => (says, format!("--vouched-for {address}")),
        };
        line(format!(
            "\n{} {says}.\n  If that is meant, add: {}",
            tinted(Tint::Alarm, "To be said in so many words:"),
            tinted(Tint::Strong, option)
        ));
    }
    for obstacle in &plan.plan.obstacles {
        let at = obstacle.line.map_or(String::new(), |l| format!("line {l}: "));
        line(format!("\n{} {at}{}.\n  {}", tinted(Tint::Alarm, "Not possible:"), obstacle.why, obstacle.mend));
    }
}
