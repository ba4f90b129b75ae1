//! One way for every deed that changes something: the estate is named, what it leads to is shown, a word is typed, and what was
//! shown goes with the deed. `--yes` is for scripts.

use serde_json::{Value, json};
use yantro_core::{
    plan::StepId,
    run::{Allowed, DecisionKind, RunId},
};
use yantro_engine::{BeginRequest, BoardView, Consequences, Deed, RunView};
use yantro_server::wire::{DecisionRequest, PlanView, RunBegun};

use super::{board::heading, follow, shown, standing};
use crate::{
    client::{Client, identity},
    exit::{Exit, Failure, Outcome},
    say::{Say, Tint, tinted},
};

/// How often a script's begin is worked out anew where it came out otherwise than a moment before.
const TRIES: u32 = 3;

/// Plans what is asked for, shows it, has it confirmed by its word, begins just that, and watches it. `said` is whether it is begun
/// unasked, and not watched.
pub async fn begin_as_shown(client: &Client, say: &Say, request: &BeginRequest, word: &str, said: (bool, bool)) -> Outcome {
    let (yes, unwatched) = said;
    let mut request = request.clone();
    let mut tries = 0;
    let begun: RunBegun = loop {
        request.shown = None;
        let plan: PlanView = client.ask("/plan", &request).await?;
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
        request.shown = Some(plan.digest.clone());
        request.asked_as = Some(identity()?);
        say.changes_something();
        match client.post_once("/runs", &request).await {
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

/// So many sentences of what a deed would do are shown.
const SENTENCES_SHOWN: usize = 40;

/// Shows what a deed would do now, has it confirmed by its word, and does no more than that: `path` and `body` are the call that
/// does it, `about` is what it is about. Nothing comes back where it was not confirmed.
pub async fn do_as_shown<T: serde::de::DeserializeOwned>(
    client: &Client,
    say: &Say,
    deed: &Deed,
    about: &[String],
    word: &str,
    yes: bool,
    (path, body): (&str, &mut Value),
) -> Result<Option<T>, Failure> {
    let mut tries = 0;
    loop {
        let would: Consequences = client.ask("/consequences", deed).await?;
        if !yes {
            let board: BoardView = client.get("/board").await?;
            say.talk(heading(&board));
            about.iter().for_each(|line| say.talk(line));
            would.does.iter().take(SENTENCES_SHOWN).for_each(|does| say.talk(format!("    {does}")));
            if would.does.len() > SENTENCES_SHOWN {
                say.talk(format!("    and {} more", would.does.len() - SENTENCES_SHOWN));
            }
            if !confirmed_as(say, word, "do it", "done") {
                return Ok(None);
            }
        }
        body["shown"] = json!(would.digest);
        if would.hold.is_some() {
            body["hold"] = json!(would.hold);
        }
        say.changes_something();
        match client.post(path, &body).await {
            Err(Failure::Problem(problem)) if problem.kind.ends_with(":otherwise") && (!yes || tries < TRIES) => {
                tries += 1;
                say.talk(format!("\n{} {}", tinted(Tint::Alarm, "Nothing was done:"), problem.detail));
            }
            other => return other.map(Some),
        }
    }
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
    let path = format!("{path}/decisions");
    let request = DecisionRequest { kind, hold, shown: None, why };
    let kind = &request.kind;
    let after: RunView = if kind == &DecisionKind::Resume && view.allowed.iter().any(is_anew) {
        let Some(shown) = shown_anew(client, say, run, kind.word(), args.yes).await? else { return Ok(Exit::NotConfirmed) };
        let Some(digest) = shown else { return Ok(Exit::Failed) };
        say.changes_something();
        client.post(&path, &DecisionRequest { shown: Some(digest), ..request }).await?
    } else if asks_first(kind, &args, step_named) {
        let deed = Deed::Decision { run: RunId(run), decision: kind.clone(), hold };
        let (about, word) = (leads_to(&view, kind), kind.word());
        let mut body = serde_json::to_value(&request).map_err(|e| Failure::own(e.to_string(), ""))?;
        let done = do_as_shown(client, say, &deed, &about, word, args.yes, (&path, &mut body)).await?;
        let Some(after) = done else { return Ok(Exit::NotConfirmed) };
        after
    } else {
        say.changes_something();
        client.post(&path, &request).await?
    };
    if watch {
        return follow::watch(client, RunId(run), say).await;
    }
    standing::stands(&after, say);
    Ok(Exit::Good)
}

/// Shows what a run that things changed for would do now, and has it confirmed: its digest. Nothing where it was not confirmed,
/// and no digest where it cannot go on.
async fn shown_anew(client: &Client, say: &Say, run: u64, word: &str, yes: bool) -> Result<Option<Option<String>>, Failure> {
    let plan: PlanView = client.get(&format!("/runs/{run}/anew")).await?;
    let board: BoardView = client.get("/board").await?;
    if !say.is_json() || !yes {
        say.talk(heading(&board));
        say.talk(format!("\nRun {run} was confirmed otherwise, and has not begun to act. Worked out anew it would do this:"));
        shown::show(&plan, shown::BEFORE_BEGINNING, &|line| say.talk(line));
    }
    if !plan.can_begin {
        say.talk(format!("\nIt cannot go on so. Give it up, and begin it anew with what has to be said: yantro give-up {run} --why …"));
        return Ok(Some(None));
    }
    let confirmed = yes || confirmed_as(say, word, "have it go on so", "done");
    Ok(confirmed.then_some(Some(plan.digest)))
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

/// What a decision is about and leads to.
fn leads_to(view: &RunView, kind: &DecisionKind) -> Vec<String> {
    let known = view.allowed.iter().find(|a| is_same(&a.kind, kind)).map(|a| a.leads_to.clone());
    let says = match kind {
        DecisionKind::Divert { .. } => view.may_divert.clone(),
        _ => known,
    };
    let mut lines = vec![format!("\nRun {} · {}", view.id, tinted(Tint::Strong, &view.title))];
    if let Some(hold) = view.hold {
        lines.push(format!("  hold {hold}: {}", view.held_because.join("; ")));
    }
    if let Some(step) = kind.step() {
        lines.push(format!("  step {step}: {}", of_step(view, step)));
    }
    lines.push(format!("  {} {}", tinted(Tint::Moving, format!("{}:", kind.word())), says.unwrap_or_default()));
    lines
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
