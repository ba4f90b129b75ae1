//! `yantro procedures`, `procedure`, `carry-out`, `answer`, `put-back`, `divert`, `note` and `take-on`.

use std::{collections::BTreeMap, num::NonZeroU32};

use yantro_core::{
    model::{IfItFails, procedure::Does},
    plan::StepId,
    run::DecisionKind,
    words::name::{Address, GroupName, ProcedureName},
};
use yantro_engine::{BeginRequest, Doing, Draft, DraftRequest, RunView};
use yantro_server::wire::{NoteRequest, ProcedureSummary, ProcedureView};

use super::{
    acts,
    consent::{self, DecisionArgs, Meant},
    standing,
};
use crate::{
    Global,
    client::{Client, wait_for},
    exit::{Exit, Failure, Outcome},
    marks,
    say::{Say, Tint, tinted},
};

/// List the procedures of the estate.
#[derive(clap::Args)]
pub struct Procedures {}

/// Show a procedure: what it asks, and its lines.
#[derive(clap::Args)]
pub struct Procedure {
    /// Its name.
    name: String,
    /// The text it is written in, as TOML.
    #[arg(long)]
    text: bool,
}

/// How a procedure is to be carried out.
#[derive(clap::Args)]
pub struct Terms {
    /// Answer a question: NAME=VALUE; once for each.
    #[arg(long, value_name = "NAME=VALUE")]
    answer: Vec<String>,
    /// Begin at this line; those before it are vouched for, which needs --why.
    #[arg(long, value_name = "LINE")]
    pub(super) from_line: Option<u32>,
    /// Name a service that is taken as the lines before left it, though a look says otherwise; once for each.
    #[arg(long, value_name = "ADDRESS", requires = "from_line")]
    pub(super) vouched_for: Vec<Address>,
    /// Name a service that may stand on what is not proven; once for each.
    #[arg(long, value_name = "ADDRESS")]
    pub(super) left_standing: Vec<Address>,
    /// Name a group that may fall below the number it keeps up; once for each.
    #[arg(long, value_name = "GROUP")]
    pub(super) below_keep_up: Vec<GroupName>,
    /// Name a unit that a host's manager may move along, as HOST:UNIT; once for each.
    #[arg(long, value_name = "HOST:UNIT")]
    along: Vec<String>,
    /// Work on so many services at once, where that is to be fewer than the estate allows.
    #[arg(long, value_name = "NUMBER")]
    pub(super) at_once: Option<NonZeroU32>,
    /// Why, for the record.
    #[arg(long)]
    why: Option<String>,
    /// The number of the change it belongs to.
    #[arg(long, value_name = "NUMBER")]
    change: Option<String>,
    #[command(flatten)]
    over: acts::OverridesOf,
    #[command(flatten)]
    hours: acts::HoursOf,
}

/// Carry out a procedure.
#[derive(clap::Args)]
pub struct CarryOut {
    /// Its name.
    name: String,
    #[command(flatten)]
    terms: Terms,
    /// Do not ask; what has to be said in so many words still has to be.
    #[arg(long)]
    yes: bool,
    /// Begin it and come back at once, instead of watching.
    #[arg(long)]
    unwatched: bool,
}

/// Answer what a step asks.
#[derive(clap::Args)]
pub struct Answer {
    /// The run.
    run: u64,
    /// The step.
    step: u32,
    /// yes, no, or the value asked for.
    value: String,
}

/// Put everything back as it was found.
#[derive(clap::Args)]
pub struct PutBack {
    /// The run.
    run: u64,
    /// Why, for the record.
    #[arg(long)]
    why: Option<String>,
    #[command(flatten)]
    args: DecisionArgs,
    /// Watch the run afterwards.
    #[arg(long)]
    watch: bool,
}

/// Have another procedure take over.
#[derive(clap::Args)]
pub struct Divert {
    /// The run.
    run: u64,
    /// The procedure.
    procedure: ProcedureName,
    /// Why, for the record.
    #[arg(long)]
    why: Option<String>,
    #[command(flatten)]
    args: DecisionArgs,
}

/// Write a note on a run.
#[derive(clap::Args)]
pub struct Note {
    /// The run.
    run: u64,
    /// What is to be remembered.
    text: String,
}

/// Say that you have a run from now on.
#[derive(clap::Args)]
pub struct TakeOn {
    /// The run.
    run: u64,
}

impl Terms {
    /// The answers given on the command line.
    pub(super) fn answers(&self) -> Result<BTreeMap<String, String>, Failure> {
        let mut answers = BTreeMap::new();
        for text in &self.answer {
            let Some((name, value)) = text.split_once('=') else {
                return Err(Failure::own(format!("--answer {text} cannot be read"), "write it as NAME=VALUE"));
            };
            answers.insert(name.to_owned(), value.to_owned());
        }
        Ok(answers)
    }

    /// A request on these terms for the procedure.
    pub(super) fn request(&self, name: &str) -> Result<BeginRequest, Failure> {
        let (answers, vouched_for) = (self.answers()?, self.vouched_for.iter().cloned().collect());
        self.put_on(Doing::Procedure { name: name.to_owned(), answers, from_line: self.from_line, vouched_for })
    }

    /// A request on these terms.
    pub(super) fn put_on(&self, does: Doing) -> Result<BeginRequest, Failure> {
        Ok(BeginRequest {
            left_standing: self.left_standing.iter().cloned().collect(),
            below_keep_up: self.below_keep_up.iter().cloned().collect(),
            along: self.along.iter().cloned().collect(),
            overrides: self.over.overrides()?,
            at_once: self.at_once,
            why: self.why.clone(),
            change: self.change.clone(),
            ..self.hours.bound(BeginRequest::new(does))
        })
    }
}

impl Procedures {
    pub fn run(self, global: &Global, say: &Say) -> Outcome {
        let client = Client::find(global)?;
        let all: Vec<ProcedureSummary> = wait_for(client.get("/procedures"))?;
        if say.is_json() {
            say.json(&all);
            return Ok(Exit::Good);
        }
        if all.is_empty() {
            say.line("No procedures yet. Write one into the estate as [procedure.NAME]: see docs/procedures.md.");
            return Ok(Exit::Good);
        }
        let mut table = marks::table(&["PROCEDURE", "TITLE", "LINES", "ASKS"]);
        for p in &all {
            table.add_row([tinted(Tint::Strong, &p.name), p.title.clone(), p.lines.to_string(), p.asks.join(", ")]);
        }
        say.line(marks::lines(&table));
        say.line(tinted(Tint::Rest, "\nOne of them in full: yantro procedure NAME; its steps as things stand: yantro rehearse NAME"));
        Ok(Exit::Good)
    }
}

impl Procedure {
    pub fn run(self, global: &Global, say: &Say) -> Outcome {
        let client = Client::find(global)?;
        let view: ProcedureView = wait_for(client.get(&format!("/procedures/{}", self.name)))?;
        if self.text {
            let draft: Draft = wait_for(client.ask(&format!("/procedures/{}/draft", self.name), &DraftRequest::default()))?;
            say.text(&draft.text);
            return Ok(Exit::Good);
        }
        if say.is_json() {
            say.json(&view);
        } else {
            written(&view, say);
        }
        Ok(Exit::Good)
    }
}

/// A procedure as it is written, in words.
pub(crate) fn written(view: &ProcedureView, say: &Say) {
    let p = &view.procedure;
    say.line(format!("{} · {} · edition {}", tinted(Tint::Strong, &p.title), p.name, view.edition));
    if let Some(purpose) = &p.purpose {
        say.line(textwrap::fill(purpose, 100));
    }
    if let Some(rule) = &p.if_it_fails {
        say.line(format!("If a step fails: {}", rule.says()));
    }
    for (name, asks) in &p.questions {
        let default = asks.default.as_ref().map_or(String::new(), |d| format!(" [{d}]"));
        say.line(format!("  {} {name}: {}{}{default}", tinted(Tint::Moving, "?"), asks.asks, tinted(Tint::Rest, asks.hint())));
    }
    say.line("");
    let mut table = marks::table(&["LINE", "DOES", "", "IF IT FAILS"]);
    for (i, (line, says)) in p.lines.iter().zip(&view.says).enumerate() {
        let kind = match &line.does {
            Does::Services { wish, .. } => wish.word().to_owned(),
            Does::Act { act, .. } => act.clone(),
            Does::BringBack { .. } => "bring back".to_owned(),
            Does::Task { .. } if line.preflight => "preflight".to_owned(),
            Does::Task { task } => task.kind().word().to_owned(),
        };
        let number = if line.alongside { format!("‖{}", i + 1) } else { format!(" {}", i + 1) };
        table.add_row([
            number,
            says.clone(),
            tinted(Tint::Rest, kind),
            line.settings.if_it_fails.as_ref().map(IfItFails::says).unwrap_or_default(),
        ]);
    }
    say.line(marks::lines(&table));
    if p.lines.iter().any(|l| l.alongside) {
        say.line(tinted(Tint::Rest, "‖ begins together with the line before it"));
    }
}

impl CarryOut {
    pub fn run(self, global: &Global, say: &Say) -> Outcome {
        let client = Client::find(global)?;
        let mut request = self.terms.request(self.name.as_str())?;
        wait_for(async {
            let view: ProcedureView = client.get(&format!("/procedures/{}", self.name)).await?;
            if say.at_terminal() && !self.yes {
                ask_questions(&view, &mut request, say);
            }
            let said = (self.yes, self.unwatched);
            consent::begin_as_shown(&client, say, &request, self.name.as_str(), said).await
        })
    }
}

/// Asks what was not answered on the command line.
fn ask_questions(view: &ProcedureView, request: &mut BeginRequest, say: &Say) {
    let Doing::Procedure { answers, .. } = &mut request.does else { return };
    for (name, asks) in view.procedure.questions.iter().filter(|(n, _)| !answers.contains_key(*n)).collect::<Vec<_>>() {
        let default = asks.default.as_ref().map_or(String::new(), |d| format!(" [{d}]"));
        let answer = say.answer(&format!("{}{}{default}: ", asks.asks, asks.hint()));
        if !answer.is_empty() {
            answers.insert(name.clone(), answer);
        }
    }
}

fn meant(run: u64, args: DecisionArgs, why: Option<String>, watch: bool) -> Meant {
    Meant { run, args, why, watch, step_named: true }
}

impl Answer {
    pub fn run(self, global: &Global, say: &Say) -> Outcome {
        let client = Client::find(global)?;
        let kind = DecisionKind::Answer { step: StepId(self.step), value: self.value };
        wait_for(consent::decide(&client, say, meant(self.run, DecisionArgs::default(), None, false), |_| Ok(kind)))
    }
}

impl PutBack {
    pub fn run(self, global: &Global, say: &Say) -> Outcome {
        let client = Client::find(global)?;
        wait_for(consent::decide(&client, say, meant(self.run, self.args, self.why, self.watch), |_| Ok(DecisionKind::PutBack)))
    }
}

impl Divert {
    pub fn run(self, global: &Global, say: &Say) -> Outcome {
        let client = Client::find(global)?;
        let kind = DecisionKind::Divert { procedure: self.procedure };
        wait_for(consent::decide(&client, say, meant(self.run, self.args, self.why, false), |_| Ok(kind)))
    }
}

impl Note {
    pub fn run(self, global: &Global, say: &Say) -> Outcome {
        let client = Client::find(global)?;
        let view: RunView = wait_for(client.post(&format!("/runs/{}/notes", self.run), &NoteRequest { text: self.text }))?;
        standing::stands(&view, say);
        Ok(Exit::Good)
    }
}

impl TakeOn {
    pub fn run(self, global: &Global, say: &Say) -> Outcome {
        let client = Client::find(global)?;
        let view: RunView = wait_for(client.post(&format!("/runs/{}/taken", self.run), &serde_json::json!({})))?;
        standing::stands(&view, say);
        Ok(Exit::Good)
    }
}
