//! Decisions on a run, and the one switch that holds everything.

use yantro_core::{
    name::{Address, HostName},
    overrides::Override,
    run::{Allowed, DecisionKind, RunId},
    sequence::StepId,
    time::Span,
};
use yantro_engine::{BoardView, RunView};
use yantro_server::wire::{self, Acknowledgement, DecisionRequest, StandstillRequest};

use crate::{
    Global,
    client::{Client, wait_for},
    exit::{Exit, Failure, Outcome},
    marks,
    say::{Say, Tint, tinted},
};

/// A decision on a whole run.
#[derive(clap::Args)]
pub struct OnRun {
    /// The run.
    run: u64,
}

/// A decision on a whole run, with its reason.
#[derive(clap::Args)]
pub struct OnRunWhy {
    /// The run.
    run: u64,
    /// Why, for the record.
    #[arg(long)]
    why: Option<String>,
}

/// A decision on a failed step.
#[derive(clap::Args)]
pub struct OnStep {
    /// The run.
    run: u64,
    /// The step; needed where several await a decision.
    step: Option<u32>,
    /// From now on in this run, put NAME=VALUE into the service's environment.
    #[arg(long, value_name = "NAME=VALUE")]
    env: Vec<String>,
    /// From now on in this run, how long its start may take.
    #[arg(long, value_name = "TIME")]
    patience: Option<Span>,
    /// Watch the run afterwards.
    #[arg(long)]
    watch: bool,
}

/// A decision on a failed step, with its reason.
#[derive(clap::Args)]
pub struct OnStepWhy {
    /// The run.
    run: u64,
    /// The step; needed where several await a decision.
    step: Option<u32>,
    /// Why, for the record.
    #[arg(long)]
    why: Option<String>,
    /// Watch the run afterwards.
    #[arg(long)]
    watch: bool,
}

/// Let go of a service of a held run.
#[derive(clap::Args)]
pub struct Release {
    /// The run.
    run: u64,
    /// The service; its steps are passed over, and other runs may act on it.
    address: Address,
    /// Why, for the record.
    #[arg(long)]
    why: Option<String>,
}

/// Take a forbidden log line as known.
#[derive(clap::Args)]
pub struct Acknowledge {
    /// The service it is held against.
    address: Address,
    /// Why it no longer counts, for the record.
    #[arg(long)]
    why: Option<String>,
}

/// Act on a host from now on.
#[derive(clap::Args)]
pub struct TakeOver {
    /// The host.
    host: HostName,
    /// Why, for the record.
    #[arg(long)]
    why: Option<String>,
}

/// The one switch that holds every run.
#[derive(clap::Args)]
pub struct Standstill {
    /// on holds everything, off lets it go on.
    #[arg(value_parser = ["on", "off"])]
    to: String,
}

/// Decisions that are about a step.
pub enum StepDecision {
    /// Try again.
    Again,
    /// Pass over.
    PassOver,
    /// Vouch.
    Vouch,
    /// Force.
    Force,
}

/// The command line that takes a decision.
pub fn command_for(run: RunId, allowed: &Allowed) -> String {
    match &allowed.kind {
        DecisionKind::Hold => format!("yantro hold {run}"),
        DecisionKind::Resume => format!("yantro resume {run}"),
        DecisionKind::TryAgain { step, .. } => format!("yantro again {run} {step}"),
        DecisionKind::PassOver { step } => format!("yantro pass-over {run} {step} --why …"),
        DecisionKind::Vouch { step } => format!("yantro vouch {run} {step} --why …"),
        DecisionKind::Release { address } => format!("yantro release {run} {address} --why …"),
        DecisionKind::Force { step } => format!("yantro force {run} {step}"),
        DecisionKind::Answer { step, value } if value.is_empty() => format!("yantro answer {run} {step} VALUE"),
        DecisionKind::Answer { step, value } => format!("yantro answer {run} {step} {value}"),
        DecisionKind::PutBack => format!("yantro put-back {run}"),
        DecisionKind::Divert { procedure } => format!("yantro divert {run} {procedure}"),
        DecisionKind::GiveUp => format!("yantro give-up {run} --why …"),
    }
}

/// What can be decided, a line each: the command, and what it leads to.
pub fn lines(view: &RunView) -> Vec<String> {
    let line = |command: String, leads_to: &str| format!("  {command:<40} {}", tinted(Tint::Rest, leads_to));
    let is_release = |a: &&Allowed| matches!(a.kind, DecisionKind::Release { .. });
    let mut lines: Vec<String> =
        view.allowed.iter().filter(|a| !is_release(a)).map(|a| line(command_for(view.id, a), &a.leads_to)).collect();
    let mut releases = view.allowed.iter().filter(is_release);
    match (releases.next(), releases.count()) {
        (None, _) => {}
        (Some(one), 0) => lines.push(line(command_for(view.id, one), &one.leads_to)),
        (Some(_), more) => lines.push(line(
            format!("yantro release {} ADDRESS --why …", view.id),
            &format!("leaves out what is left to do with one of {} services, and lets other runs act on it", more + 1),
        )),
    }
    lines
}

/// Sends a decision. The hold it answers is the one that stands when it is sent.
async fn decide(
    client: &Client,
    run: u64,
    why: Option<String>,
    say: &Say,
    watch: bool,
    kind_of: impl FnOnce(&RunView) -> Result<DecisionKind, Failure>,
) -> Outcome {
    let view: RunView = client.get(&format!("/runs/{run}")).await?;
    let kind = kind_of(&view)?;
    let body = DecisionRequest { kind, hold: view.hold, why };
    let after: RunView = client.post(&format!("/runs/{run}/decisions"), &body).await?;
    if watch {
        return super::follow::watch(client, RunId(run), say).await;
    }
    stands(&after, say);
    Ok(Exit::Good)
}

/// How a run stands, in a line.
pub fn stands(view: &RunView, say: &Say) {
    if say.is_json() {
        return say.json(view);
    }
    let held_by = if view.taken_by == view.who { String::new() } else { format!(" · {} has it", view.taken_by) };
    say.line(format!("Run {} · {} · {}{held_by}", view.id, view.title, tinted(marks::run_tint(view.state), view.state.word())));
}

impl OnRun {
    pub fn run(self, kind: DecisionKind, global: &Global, say: &Say) -> Outcome {
        let client = Client::find(global)?;
        wait_for(decide(&client, self.run, None, say, false, |_| Ok(kind)))
    }
}

impl OnRunWhy {
    pub fn run(self, global: &Global, say: &Say) -> Outcome {
        let client = Client::find(global)?;
        wait_for(decide(&client, self.run, self.why, say, false, |_| Ok(DecisionKind::GiveUp)))
    }
}

/// The step meant: the one named, or the only one that awaits a decision.
fn step_of(view: &RunView, named: Option<u32>) -> Result<StepId, Failure> {
    if let Some(step) = named {
        return Ok(StepId(step));
    }
    let awaiting: Vec<StepId> = view.steps.iter().filter(|s| s.now.state.awaits_decision()).map(|s| s.planned.id).collect();
    match awaiting.as_slice() {
        [one] => Ok(*one),
        [] => Err(Failure::own(
            format!("no step of run {} awaits a decision", view.id),
            format!("see how it stands: yantro show {}", view.id),
        )),
        several => {
            let list: Vec<String> = several.iter().map(ToString::to_string).collect();
            Err(Failure::own(format!("several steps await a decision: {}", list.join(", ")), "name one of them"))
        }
    }
}

fn kind_of(decision: &StepDecision, step: StepId, change: Option<Override>) -> DecisionKind {
    match decision {
        StepDecision::Again => DecisionKind::TryAgain { step, change },
        StepDecision::PassOver => DecisionKind::PassOver { step },
        StepDecision::Vouch => DecisionKind::Vouch { step },
        StepDecision::Force => DecisionKind::Force { step },
    }
}

impl OnStep {
    pub fn run(self, decision: StepDecision, global: &Global, say: &Say) -> Outcome {
        let client = Client::find(global)?;
        let mut change = Override { start_patience: self.patience, ..Override::default() };
        for text in &self.env {
            let Some((name, value)) = text.split_once('=') else {
                return Err(Failure::own(format!("--env {text} cannot be read"), "write it as NAME=VALUE"));
            };
            change.env.insert(name.to_owned(), value.to_owned());
        }
        let change = (change != Override::default()).then_some(change);
        wait_for(decide(&client, self.run, None, say, self.watch, |view| Ok(kind_of(&decision, step_of(view, self.step)?, change))))
    }
}

impl OnStepWhy {
    pub fn run(self, decision: StepDecision, global: &Global, say: &Say) -> Outcome {
        let client = Client::find(global)?;
        wait_for(decide(&client, self.run, self.why, say, self.watch, |view| Ok(kind_of(&decision, step_of(view, self.step)?, None))))
    }
}

impl Release {
    pub fn run(self, global: &Global, say: &Say) -> Outcome {
        let client = Client::find(global)?;
        let kind = DecisionKind::Release { address: self.address };
        wait_for(decide(&client, self.run, self.why, say, false, |_| Ok(kind)))
    }
}

impl Acknowledge {
    pub fn run(self, global: &Global, say: &Say) -> Outcome {
        let client = Client::find(global)?;
        let body = Acknowledgement { address: self.address, why: self.why.unwrap_or_default() };
        let board: BoardView = wait_for(client.post("/acknowledgements", &body))?;
        if say.is_json() {
            say.json(&board);
        } else if let Some(row) = board.services.iter().find(|r| r.address == body.address) {
            say.line(format!("{} · {}", row.address, tinted(marks::tint(row.seen.state, row.differs), row.seen.state.word())));
        }
        Ok(Exit::Good)
    }
}

impl TakeOver {
    pub fn run(self, global: &Global, say: &Say) -> Outcome {
        let client = Client::find(global)?;
        let body = wire::TakeOver { host: self.host, why: self.why.unwrap_or_default() };
        let board: BoardView = wait_for(client.post("/take-overs", &body))?;
        if say.is_json() {
            say.json(&board);
            return Ok(Exit::Good);
        }
        say.line(format!("This server acts on {} from now on, and no other.", body.host));
        if let Some(why) = &board.standstill {
            say.line(format!("Everything is still at a standstill ({why}). Let it go on with: yantro standstill off"));
        }
        Ok(Exit::Good)
    }
}

impl Standstill {
    pub fn run(self, global: &Global, say: &Say) -> Outcome {
        let client = Client::find(global)?;
        let board: BoardView = wait_for(client.post("/standstill", &StandstillRequest { on: self.to == "on" }))?;
        if say.is_json() {
            say.json(&board);
            return Ok(Exit::Good);
        }
        match &board.standstill {
            Some(who) => say.line(format!(
                "{} by {who}. Looking goes on; nothing is begun until: yantro standstill off",
                tinted(Tint::Alarm, "Everything is at a standstill")
            )),
            None => say.line("The standstill is lifted; held runs that have no other cause go on."),
        }
        Ok(Exit::Good)
    }
}
