//! How a run stands and what can be decided on it, in lines.

use yantro_core::run::{Allowed, DecisionKind, RunId};
use yantro_engine::RunView;

use crate::{
    marks,
    say::{Say, Tint, tinted},
};

/// The command line that takes a decision: it names the hold, and the step, that it answers.
pub fn command_for(run: RunId, allowed: &Allowed) -> String {
    let hold = allowed.hold.map_or(String::new(), |h| format!(" --hold {h}"));
    match &allowed.kind {
        DecisionKind::Hold => format!("yantro hold {run}"),
        DecisionKind::Resume => format!("yantro resume {run}{hold}"),
        DecisionKind::TryAgain { step, .. } => format!("yantro again {run} {step}{hold}"),
        DecisionKind::PassOver { step } => format!("yantro pass-over {run} {step}{hold} --why …"),
        DecisionKind::Vouch { step } => format!("yantro vouch {run} {step}{hold} --why …"),
        DecisionKind::Release { address } => format!("yantro release {run} {address}{hold} --why …"),
        DecisionKind::Force { step } => format!("yantro force {run} {step}{hold}"),
        DecisionKind::Answer { step, value } if value.is_empty() => format!("yantro answer {run} {step} VALUE"),
        DecisionKind::Answer { step, value } => format!("yantro answer {run} {step} {value}"),
        DecisionKind::PutBack => format!("yantro put-back {run}{hold}"),
        DecisionKind::Divert { procedure } => format!("yantro divert {run} {procedure}{hold}"),
        DecisionKind::GiveUp => format!("yantro give-up {run}{hold} --why …"),
    }
}

/// What can be decided, a line each: the command, and what it leads to.
pub fn lines(view: &RunView) -> Vec<String> {
    let line = |command: String, leads_to: &str| format!("  {command:<44} {}", tinted(Tint::Rest, leads_to));
    let is_release = |a: &&Allowed| matches!(a.kind, DecisionKind::Release { .. });
    let mut lines: Vec<String> =
        view.allowed.iter().filter(|a| !is_release(a)).map(|a| line(command_for(view.id, a), &a.leads_to)).collect();
    let mut releases = view.allowed.iter().filter(is_release);
    match (releases.next(), releases.count()) {
        (None, _) => {}
        (Some(one), 0) => lines.push(line(command_for(view.id, one), &one.leads_to)),
        (Some(_), more) => lines.push(line(
            format!("yantro release {} ADDRESS{} --why …", view.id, view.hold.map_or(String::new(), |h| format!(" --hold {h}"))),
            &format!("leaves out what is left to do with one of {} services, and lets other runs act on it", more + 1),
        )),
    }
    lines
}

/// How a run stands, in a line.
pub fn stands(view: &RunView, say: &Say) {
    if say.is_json() {
        return say.json(view);
    }
    let held_by = if view.taken_by == view.who { String::new() } else { format!(" · {} has it", view.taken_by) };
    say.line(format!("Run {} · {} · {}{held_by}", view.id, view.title, tinted(marks::run_tint(view.state), view.state.word())));
}
