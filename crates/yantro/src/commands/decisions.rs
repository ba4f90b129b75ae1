//! Decisions on a run, and the one switch that holds everything.

use serde_json::json;
use yantro_core::{
    overrides::Override,
    plan::StepId,
    run::DecisionKind,
    words::{
        name::{Address, HostName},
        time::Span,
    },
};
use yantro_engine::{BoardView, Deed, RunView};
use yantro_server::wire::{Acknowledgement, StandstillRequest};

use super::consent::{DecisionArgs, Meant, decide, do_as_shown};

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
    #[command(flatten)]
    args: DecisionArgs,
}

/// A decision on a whole run, with its reason.
#[derive(clap::Args)]
pub struct OnRunWhy {
    /// The run.
    run: u64,
    /// Why, for the record.
    #[arg(long)]
    why: Option<String>,
    #[command(flatten)]
    args: DecisionArgs,
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
    #[command(flatten)]
    args: DecisionArgs,
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
    #[command(flatten)]
    args: DecisionArgs,
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
    #[command(flatten)]
    args: DecisionArgs,
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
    /// Do not ask.
    #[arg(long)]
    yes: bool,
}

/// The one switch that holds every run.
#[derive(clap::Args)]
pub struct Standstill {
    /// on holds everything, off lets it go on.
    #[arg(value_parser = ["on", "off"])]
    to: String,
    /// Do not ask; holding everything is never asked about.
    #[arg(long)]
    yes: bool,
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

impl StepDecision {
    /// The command that it is given by.
    fn command(&self) -> &'static str {
        match self {
            StepDecision::Again => "again",
            StepDecision::PassOver => "pass-over",
            StepDecision::Vouch => "vouch",
            StepDecision::Force => "force",
        }
    }
}

impl OnRun {
    pub fn run(self, kind: DecisionKind, global: &Global, say: &Say) -> Outcome {
        let client = Client::find(global)?;
        let meant = Meant { run: self.run, args: self.args, why: None, watch: false, step_named: true };
        wait_for(decide(&client, say, meant, |_| Ok(kind)))
    }
}

impl OnRunWhy {
    pub fn run(self, global: &Global, say: &Say) -> Outcome {
        let client = Client::find(global)?;
        let meant = Meant { run: self.run, args: self.args, why: self.why, watch: false, step_named: true };
        wait_for(decide(&client, say, meant, |_| Ok(DecisionKind::GiveUp)))
    }
}

/// The step meant: the one named, or the only one that awaits a decision.
fn step_of(view: &RunView, decision: &StepDecision, named: Option<u32>) -> Result<StepId, Failure> {
    if let Some(step) = named {
        return Ok(StepId(step));
    }
    // What is offered, and no step that has its decision and waits for another hold to be answered.
    let offered = view.allowed.iter().map(|a| &a.kind).filter(|kind| !matches!(kind, DecisionKind::Answer { .. }));
    let mut awaiting: Vec<StepId> = offered.filter_map(DecisionKind::step).collect();
    awaiting.sort();
    awaiting.dedup();
    match awaiting.as_slice() {
        [one] => Ok(*one),
        [] => Err(Failure::own(
            format!("no step of run {} awaits a decision", view.id),
            format!("see how it stands: yantro show {}", view.id),
        )),
        several => {
            let says = |id: &StepId| view.steps.iter().find(|s| s.planned.id == *id).map_or(String::new(), |s| format!(" ({})", s.says));
            let list: Vec<String> = several.iter().map(|id| format!("{id}{}", says(id))).collect();
            Err(Failure::own(
                format!("several steps await a decision: {}", list.join(", ")),
                format!("name one of them: yantro {} {} {}", decision.command(), view.id, several[0]),
            ))
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
        let step_named = self.step.is_some();
        let meant = Meant { run: self.run, args: self.args, why: None, watch: self.watch, step_named };
        wait_for(decide(&client, say, meant, |view| Ok(kind_of(&decision, step_of(view, &decision, self.step)?, change))))
    }
}

impl OnStepWhy {
    pub fn run(self, decision: StepDecision, global: &Global, say: &Say) -> Outcome {
        let client = Client::find(global)?;
        let step_named = self.step.is_some();
        let meant = Meant { run: self.run, args: self.args, why: self.why, watch: self.watch, step_named };
        wait_for(decide(&client, say, meant, |view| Ok(kind_of(&decision, step_of(view, &decision, self.step)?, None))))
    }
}

impl Release {
    pub fn run(self, global: &Global, say: &Say) -> Outcome {
        let client = Client::find(global)?;
        let kind = DecisionKind::Release { address: self.address };
        let meant = Meant { run: self.run, args: self.args, why: self.why, watch: false, step_named: true };
        wait_for(decide(&client, say, meant, |_| Ok(kind)))
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
        let why = self.why.unwrap_or_default();
        if why.trim().is_empty() {
            return Err(Failure::own("to take a host over needs a reason", "say why, for those who read the record: --why …"));
        }
        let host = self.host.clone();
        let deed = Deed::TakeOver { host: self.host };
        let mut body = json!({ "host": host, "why": why });
        let about = [format!("\nTake over {}:", tinted(Tint::Strong, &host))];
        let done = do_as_shown(&client, say, &deed, &about, "take over", self.yes, ("/take-overs", &mut body));
        let Some(board) = wait_for(done)? else { return Ok(Exit::NotConfirmed) };
        let board: BoardView = board;
        if say.is_json() {
            say.json(&board);
            return Ok(Exit::Good);
        }
        say.line(format!("This server acts on {} from now on, and no other.", host));
        if let Some(why) = &board.standstill {
            say.line(format!("Everything is still at a standstill ({why}). Let it go on with: yantro standstill off"));
        }
        Ok(Exit::Good)
    }
}

impl Standstill {
    /// Lets everything go on, once it is shown what that is. Nothing comes back where it was not confirmed.
    async fn lift(&self, client: &Client, say: &Say) -> Result<Option<BoardView>, Failure> {
        let board: BoardView = client.get("/board").await?;
        // There may be nothing to lift, and so nothing to ask about.
        let Some(who) = &board.standstill else { return Ok(Some(board)) };
        let about = [
            format!("\nEverything is at a standstill by {who}. Lifted, what has no other cause to be held goes on at once:"),
            if board.open_runs.is_empty() { "    no run is open".to_owned() } else { String::new() },
        ];
        let about: Vec<String> = about.into_iter().filter(|line| !line.is_empty()).collect();
        let mut body = json!({ "on": false });
        do_as_shown(client, say, &Deed::LiftStandstill, &about, "lift", self.yes, ("/standstill", &mut body)).await
    }

    pub fn run(self, global: &Global, say: &Say) -> Outcome {
        let client = Client::find(global)?;
        let board: BoardView = if self.to == "on" {
            say.changes_something();
            wait_for(client.post("/standstill", &StandstillRequest { on: true, shown: None }))?
        } else {
            let Some(board) = wait_for(self.lift(&client, say))? else { return Ok(Exit::NotConfirmed) };
            board
        };
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
