//! One way for every deed that changes something: the estate is named, what it leads to is shown, a word is typed, and what was
//! shown goes with the deed. `--yes` is for scripts.

use serde_json::{Value, json};
use yantro_core::{
    run::{Allowed, DecisionKind, RunId},
    sequence::StepId,
};
use yantro_engine::{BoardView, RunView};
use yantro_server::wire::{DecisionRequest, PlanView, RunBegun};

use super::{board::heading, follow, shown, standing};
use crate::{
    client::{Client, identity},
    exit::{Exit, Failure, Outcome},
    say::{Say, Tint, tinted},
};

/// How often a script's begin is worked out anew where it came out otherwise than a moment before.
const TRIES: u32 = 3;

/// Plans what is asked for, shows it, has it confirmed by its word, begins just that, and watches it. `calls` are the call that
/// plans and the one that begins; `said` is whether it is begun unasked, and not watched.
pub async fn begin_as_shown(
    client: &Client,
    say: &Say,
    calls: [&str; 2],
    request: &impl serde::Serialize,
    word: &str,
    said: (bool, bool),
) -> Outcome {
    let (yes, unwatched) = said;
    let mut request = serde_json::to_value(request).map_err(|e| Failure::own(e.to_string(), ""))?;
    let mut tries = 0;
    let begun: RunBegun = loop {
        request["shown"] = Value::Null;
        let plan: PlanView = client.ask(calls[0], &request).await?;
        let board: BoardView = client.get("/board").await?;
        // Whoever is asked sees what for, whatever form the outcome takes.
        if !say.is_json() || !yes {
            say.talk(heading(&board));
            shown::show(&plan, shown::BEFORE_BEGINNING, &|line| say.talk(line));
        }
        if !plan.can_begin {
            if say.is_json() {
                say.json(&plan);
            }
            return Ok(Exit::Failed);
        }
        if !yes && !confirmed_as(say, word, "begin", "begun") {
            return Ok(Exit::NotConfirmed);
        }
        request["shown"] = json!(plan.digest);
        request["asked_as"] = json!(identity()?);
        say.changes_something();
        match client.post_once(calls[1], &request).await {
            Err(Failure::Problem(problem)) if problem.kind.ends_with(":otherwise") && (!yes || tries < TRIES) => {
                tries += 1;
                say.talk(format!("\n{} {}", tinted(Tint::Alarm, "Nothing was begun:"), problem.detail));
            }
            other => break other?,
        }
    };
    if unwatched {
        if say.is_json() {
            say.json(&begun)
        } else {
            say.line(format!("run {}", begun.id))
        }
        return Ok(Exit::Good);
    }
    follow::watch(client, begun.id, say).await
}

/// Asks for a word to be typed: `does` says what for, `done` what was not done without it.
pub fn confirmed_as(say: &Say, word: &str, does: &str, done: &str) -> bool {
    if !say.at_terminal() {
        say.talk(format!("Nothing was {done}: this is no terminal to ask at. Say --yes to {does} without being asked."));
        return false;
    }
    let yes = say.asks(&format!("\nType {} to {does}:", tinted(Tint::Strong, word)), word);
    if !yes {
        say.talk(format!("Nothing was {done}."));
    }
    yes
}

/// Names the estate, shows what a deed leads to and has it confirmed by its word.
pub async fn agreed(client: &Client, say: &Say, yes: bool, leads_to: &[String], word: &str) -> Result<bool, Failure> {
    if yes {
        return Ok(true);
    }
    let board: BoardView = client.get("/board").await?;
    say.talk(heading(&board));
    leads_to.iter().for_each(|line| say.talk(line));
    Ok(confirmed_as(say, word, "do it", "done"))
}

/// How a decision is given.
#[derive(Debug, Default, clap::Args)]
pub struct DecisionArgs {
    /// The hold that you answer, as it was shown: refused where another stands by now.
    #[arg(long, value_name = "NUMBER")]
    pub hold: Option<u32>,
    /// Do not ask; without --hold, whichever hold stands is answered.
    #[arg(long)]
    pub yes: bool,
}

/// A decision on a run that somebody means to take.
pub struct Meant {
    pub run: u64,
    pub args: DecisionArgs,
    pub why: Option<String>,
    /// Whether the run is watched afterwards.
    pub watch: bool,
    /// Whether the step was named, where it is about one.
    pub step_named: bool,
}

/// Takes a decision on a run. It names the hold, and the step, that its person saw: either both are named, as the printed
/// commands have them, or what it is about is shown here and confirmed.
pub async fn decide(client: &Client, say: &Say, meant: Meant, kind_of: impl FnOnce(&RunView) -> Result<DecisionKind, Failure>) -> Outcome {
    let Meant { run, args, why, watch, step_named } = meant;
    let path = format!("/runs/{run}");
    let view: RunView = client.get(&path).await?;
    let kind = kind_of(&view)?;
    let hold = args.hold.or(view.hold);
    if kind.needs_reason() && why.as_deref().is_none_or(|w| w.trim().is_empty()) && view.ended_at.is_none() {
        return Err(Failure::own(format!("{} needs a reason", kind.word()), "say why, for those who read the record: --why …"));
    }
    let mut shown = None;
    if kind == DecisionKind::Resume && view.allowed.iter().any(is_anew) {
        let plan: PlanView = client.get(&format!("{path}/anew")).await?;
        let board: BoardView = client.get("/board").await?;
        if !say.is_json() || !args.yes {
            say.talk(heading(&board));
            say.talk(format!("\nRun {run} was confirmed otherwise, and has not begun to act. Worked out anew it would do this:"));
            shown::show(&plan, shown::BEFORE_BEGINNING, &|line| say.talk(line));
        }
        if !plan.can_begin {
            say.talk(format!("\nIt cannot go on so. Give it up, and begin it anew with what has to be said: yantro give-up {run} --why …"));
            return Ok(Exit::Failed);
        }
        if !args.yes && !confirmed_as(say, kind.word(), "have it go on so", "done") {
            return Ok(Exit::NotConfirmed);
        }
        shown = Some(plan.digest);
    } else if asks_first(&kind, &args, step_named) {
        // What cannot be done is told by the server, with the reason.
        if let Some(leads_to) = leads_to(&view, &kind, say)
            && !agreed(client, say, args.yes, &leads_to, kind.word()).await?
        {
            return Ok(Exit::NotConfirmed);
        }
    }
    let body = DecisionRequest { kind, hold, shown, why };
    say.changes_something();
    let after: RunView = client.post(&format!("{path}/decisions"), &body).await?;
    if watch {
        return follow::watch(client, RunId(run), say).await;
    }
    standing::stands(&after, say);
    Ok(Exit::Good)
}

/// Whether going on takes a plan that was worked out anew.
fn is_anew(allowed: &Allowed) -> bool {
    allowed.kind == DecisionKind::Resume && allowed.leads_to.starts_with("works it out anew")
}

/// Whether a decision is shown and confirmed before it is sent.
fn asks_first(kind: &DecisionKind, args: &DecisionArgs, step_named: bool) -> bool {
    match kind {
        DecisionKind::Hold | DecisionKind::Answer { .. } => false,
        DecisionKind::Resume => args.hold.is_none(),
        DecisionKind::TryAgain { .. } | DecisionKind::PassOver { .. } | DecisionKind::Vouch { .. } => args.hold.is_none() || !step_named,
        DecisionKind::Release { .. }
        | DecisionKind::Force { .. }
        | DecisionKind::PutBack
        | DecisionKind::Divert { .. }
        | DecisionKind::GiveUp => true,
    }
}

/// What a decision is about and leads to; nothing where it cannot be taken now.
fn leads_to(view: &RunView, kind: &DecisionKind, say: &Say) -> Option<Vec<String>> {
    let known = view.allowed.iter().find(|a| is_same(&a.kind, kind));
    let says = known.map(|a| a.leads_to.clone()).or_else(|| match kind {
        DecisionKind::Divert { .. } => {
            Some("leaves what is left to do, lets what is in flight end, and has that procedure take over".into())
        }
        _ => None,
    })?;
    let mut lines = vec![format!("\nRun {} · {}", view.id, tinted(Tint::Strong, &view.title))];
    if let Some(hold) = view.hold {
        lines.push(format!("  hold {hold}: {}", view.held_because.join("; ")));
    }
    if let Some(step) = kind.step() {
        lines.push(format!("  step {step}: {}", of_step(view, step)));
    }
    lines.push(format!("  {} {}", tinted(Tint::Moving, format!("{}:", kind.word())), says));
    let _ = say;
    Some(lines)
}

fn of_step(view: &RunView, step: StepId) -> String {
    view.steps.iter().find(|s| s.planned.id == step).map(|s| s.says.clone()).unwrap_or_default()
}

/// Whether two decisions are the same but for what is changed or answered by them.
fn is_same(a: &DecisionKind, b: &DecisionKind) -> bool {
    match (a, b) {
        (DecisionKind::Release { address: a }, DecisionKind::Release { address: b }) => a == b,
        (DecisionKind::Divert { .. }, DecisionKind::Divert { .. }) => true,
        _ => a.word() == b.word() && a.step() == b.step(),
    }
}
