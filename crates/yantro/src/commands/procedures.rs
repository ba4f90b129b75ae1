//! `yantro procedures`, `procedure`, `carry-out`, `rehearse`, `answer`, `put-back`, `divert`, `note` and `take-on`.

use std::{
    collections::{BTreeMap, BTreeSet},
    num::NonZeroU32,
    path::PathBuf,
};

use yantro_core::{
    graph::EstateGraph,
    model::{Estate, IfItFails, procedure::Does},
    plan::{
        self, Plan, StepId,
        forecast::Usual,
        procedure::{self, Asked},
    },
    proof::{Facts, SeenState},
    run::DecisionKind,
    selection,
    text::vet,
    words::name::{Address, GroupName, ProcedureName},
};
use yantro_engine::{BeginRequest, Doing, Draft, DraftRequest, Rehearsal, RunView, rehearse};
use yantro_server::wire::{NoteRequest, PlanView, ProcedureSummary, ProcedureView, plan_says, roughly};

use clap::ValueEnum;

use super::{
    acts,
    acts::WishArg,
    consent::{self, DecisionArgs, Meant},
    shown, standing,
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
    from_line: Option<u32>,
    /// Name a service that is taken as the lines before left it, though a look says otherwise; once for each.
    #[arg(long, value_name = "ADDRESS", requires = "from_line")]
    vouched_for: Vec<Address>,
    /// Name a service that may stand on what is not proven; once for each.
    #[arg(long, value_name = "ADDRESS")]
    left_standing: Vec<Address>,
    /// Name a group that may fall below the number it keeps up; once for each.
    #[arg(long, value_name = "GROUP")]
    below_keep_up: Vec<GroupName>,
    /// Name a unit that a host's manager may move along, as HOST:UNIT; once for each.
    #[arg(long, value_name = "HOST:UNIT")]
    along: Vec<String>,
    /// Work on so many services at once, where that is to be fewer than the estate allows.
    #[arg(long, value_name = "NUMBER")]
    at_once: Option<NonZeroU32>,
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

/// Play a wish or a procedure against its forecast; touches nothing.
#[derive(clap::Args)]
pub struct Rehearse {
    /// start, stop, restart, reload, shut-down, power-on, reboot, power-cycle or bring-to-expected, or the name of a procedure.
    what: String,
    /// Of what, for a wish.
    selection: Vec<String>,
    #[command(flatten)]
    terms: Terms,
    /// Leave these out.
    #[arg(long)]
    except: Vec<String>,
    /// Only these, without what relies on them or what they need.
    #[arg(long)]
    alone: bool,
    /// Print the sheet: the sequence on paper, to work by hand.
    #[arg(long)]
    sheet: bool,
    /// What if this step failed, by each rule.
    #[arg(long, value_name = "STEP")]
    if_fails: Option<u32>,
    /// Without a server: rehearse on this estate file, everything as expected.
    #[arg(long, value_name = "ESTATE")]
    offline: Option<PathBuf>,
    /// With --offline: take a service as down, proven or ailing; once for each.
    #[arg(long, value_name = "ADDRESS=STATE")]
    assume: Vec<String>,
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
    fn answers(&self) -> Result<BTreeMap<String, String>, Failure> {
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
    fn request(&self, name: &str) -> Result<BeginRequest, Failure> {
        let (answers, vouched_for) = (self.answers()?, self.vouched_for.iter().cloned().collect());
        self.put_on(Doing::Procedure { name: name.to_owned(), answers, from_line: self.from_line, vouched_for })
    }

    /// A request on these terms.
    fn put_on(&self, does: Doing) -> Result<BeginRequest, Failure> {
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

/// The wish that a word means; a procedure may have the same name, and is meant where nothing is chosen.
fn wish_of(word: &str, chosen: &[String]) -> Option<WishArg> {
    WishArg::from_str(word, true).ok().filter(|_| !chosen.is_empty())
}

impl Rehearse {
    pub fn run(self, global: &Global, say: &Say) -> Outcome {
        let rehearsal = match &self.offline {
            Some(file) => self.offline(file)?,
            None => wait_for(self.online(global))?,
        };
        if say.is_json() {
            say.json(&rehearsal);
        } else if self.sheet {
            say.line(rehearsal.sheet.trim_end());
        } else {
            show(&rehearsal, say);
        }
        Ok(if rehearsal.can_begin { Exit::Good } else { Exit::Failed })
    }

    async fn online(&self, global: &Global) -> Result<Rehearsal, Failure> {
        let client = Client::find(global)?;
        let fails = self.if_fails.map_or(String::new(), |n| format!("?fails={n}"));
        let request = match wish_of(&self.what, &self.selection) {
            Some(word) => {
                let ((wish, of), (_, except)) = (word.of(self.selection.clone()), word.of(self.except.clone()));
                self.terms.put_on(Doing::Services { wish, of, except, alone: self.alone })?
            }
            None => self.terms.request(&self.what)?,
        };
        client.ask(&format!("/rehearsals{fails}"), &request).await
    }

    /// From a file alone: everything as expected, but for what is assumed.
    fn offline(&self, file: &std::path::Path) -> Result<Rehearsal, Failure> {
        let (text, folder) = super::estate::read(file)?;
        let vetted = vet(&text, &folder);
        let mend = format!("see them all: yantro vet {}", file.display());
        let estate = vetted.estate.ok_or_else(|| Failure::own(format!("{} has {} faults", file.display(), vetted.faults.len()), mend))?;
        let graph = EstateGraph::new(&estate);
        let facts = self.assumed(&estate, &graph)?;
        let plan = self.plan(&estate, &graph, &facts)?;
        let fails = self.if_fails.map(StepId);
        if fails.is_some_and(|s| s.0 == 0 || s.0 as usize > plan.sequence.steps.len()) {
            return Err(Failure::own("there is no such step", "see the rehearsal without --if-fails for its steps"));
        }
        let refused = plan.obstacles.iter().map(|o| o.why.clone()).collect();
        let at_once = self.terms.at_once.map(Into::into);
        Ok(rehearse(plan, &estate, 0, &facts, at_once, fails, refused, Vec::new(), super::now()))
    }

    fn assumed(&self, estate: &Estate, graph: &EstateGraph) -> Result<Facts, Failure> {
        let mut facts: Facts = estate
            .services
            .iter()
            .map(|(a, s)| (a.clone(), if s.expected == yantro_core::words::Expected::Down { SeenState::Down } else { SeenState::Proven }))
            .collect();
        for text in &self.assume {
            let parsed = text.split_once('=').and_then(|(who, state)| {
                let state = [SeenState::Down, SeenState::Proven, SeenState::Ailing].into_iter().find(|s| s.word() == state)?;
                Some((who, state))
            });
            let Some((who, state)) = parsed else {
                return Err(Failure::own(
                    format!("--assume {text} cannot be read"),
                    "write it as quay-1/fares-db=down (or proven, ailing)",
                ));
            };
            let chosen = selection::resolve(estate, graph, &[who.to_owned()], &[]).map_err(|e| Failure::own(e.to_string(), e.hint()))?;
            facts.0.extend(chosen.into_iter().map(|a| (a, state)));
        }
        Ok(facts)
    }

    fn plan(&self, estate: &Estate, graph: &EstateGraph, facts: &Facts) -> Result<Plan, Failure> {
        let left_standing: BTreeSet<Address> = self.terms.left_standing.iter().cloned().collect();
        let below_keep_up: BTreeSet<GroupName> = self.terms.below_keep_up.iter().cloned().collect();
        if let Some(word) = wish_of(&self.what, &self.selection) {
            let ((wish, of), (_, except)) = (word.of(self.selection.clone()), word.of(self.except.clone()));
            let chosen = selection::resolve(estate, graph, &of, &except).map_err(|e| Failure::own(e.to_string(), e.hint()))?;
            let request = plan::Request { wish, chosen, alone: self.alone, left_standing, below_keep_up };
            return Ok(plan::plan(estate, graph, facts, &Usual::new([], estate), &request));
        }
        let found = self.what.parse::<ProcedureName>().ok().and_then(|n| estate.procedures.get(&n));
        let procedure = found.ok_or_else(|| {
            let names: Vec<&str> = estate.procedures.keys().map(ProcedureName::as_str).collect();
            Failure::own(
                format!("there is no procedure \"{}\"", self.what),
                yantro_core::words::name::did_you_mean(&self.what, names.iter().copied()),
            )
        })?;
        let values = procedure::settle(estate, graph, procedure, &self.terms.answers()?).map_err(|faults| {
            let (why, mend): (Vec<String>, Vec<String>) = faults.into_iter().map(|f| (f.why, f.mend)).unzip();
            Failure::own(why.join("; "), mend.join("; "))
        })?;
        let asked = Asked {
            values,
            left_standing,
            below_keep_up,
            from_line: self.terms.from_line.filter(|l| *l > 1),
            vouched_for: self.terms.vouched_for.iter().cloned().collect(),
            ..Asked::default()
        };
        Ok(procedure::plan(estate, graph, facts, &Usual::new([], estate), procedure, &asked))
    }
}

/// A rehearsal: the plan with its forecast, the looks taken, what if.
pub(crate) fn show(rehearsal: &Rehearsal, say: &Say) {
    let plan = PlanView {
        digest: rehearsal.digest.clone(),
        can_begin: rehearsal.can_begin,
        says: plan_says(&rehearsal.plan),
        forecast: rehearsal.forecast.clone(),
        plan: rehearsal.plan.clone(),
    };
    shown::show(&plan, usize::MAX, &|line| say.line(line));
    let forecast = &rehearsal.forecast;
    say.line(format!("\n{}", tinted(Tint::Strong, "Forecast")));
    say.line(format!(
        "  likely {} · 9 in 10 within {} · from {} plays",
        roughly(forecast.likely_ms),
        roughly(forecast.late_ms),
        forecast.plays
    ));
    if forecast.rank_by_rank_ms > forecast.as_planned_ms + 500 {
        say.line(format!(
            "  {} sooner than rank by rank, which would take {}",
            roughly(forecast.rank_by_rank_ms - forecast.as_planned_ms),
            roughly(forecast.rank_by_rank_ms)
        ));
    }
    if let Some(window) = &rehearsal.window {
        let tint = if window.chance >= 95 { Tint::Good } else { Tint::Alarm };
        let ends = window.ends_at.to_chrono().with_timezone(&chrono::Local).format("%d %b %H:%M");
        say.line(format!(
            "  {} ends {ends}: {} that it has ended by then",
            window.title,
            tinted(tint, format!("{} in 100", window.chance))
        ));
    }
    for away in forecast.away.iter().take(5) {
        let length = match (away.likely_ms, away.late_ms) {
            (Some(likely), Some(late)) => format!("{}, at worst (1 in 10) {}", roughly(likely), roughly(late)),
            _ => "until it is started again".to_owned(),
        };
        say.line(format!("  users are without {:<28} {length}", away.address));
    }
    if forecast.away.len() > 5 {
        say.line(tinted(Tint::Rest, format!("  and {} more for less long", forecast.away.len() - 5)));
    }
    if !rehearsal.preflight.is_empty() {
        let bad: Vec<_> = rehearsal.preflight.iter().filter(|p| !p.holds()).collect();
        say.line(format!(
            "\n{}  {} of {} hold",
            tinted(Tint::Strong, "Before the first act"),
            rehearsal.preflight.len() - bad.len(),
            rehearsal.preflight.len()
        ));
        for look in rehearsal.preflight.iter().filter(|p| p.line.is_some() || !p.holds()) {
            let (mark, tint) = if look.holds() { ("✓", Tint::Good) } else { ("✗", Tint::Alarm) };
            say.line(format!("  {} {}: {}", tinted(tint, mark), look.says, look.answer.says));
        }
    }
    for what in &rehearsal.what_if {
        let own = if what.is_its_rule { ", which is its rule" } else { "" };
        say.line(format!(
            "\n{}{own}: the run is {}, {} step{} good, {} left out",
            tinted(Tint::Strong, format!("If step {} fails: {}", what.step, what.rule.says())),
            tinted(marks::run_tint(what.state), what.state.word()),
            what.good,
            if what.good == 1 { "" } else { "s" },
            what.left_out
        ));
        if what.stands.is_empty() {
            say.line("  everything stands as found");
        }
        for (address, state) in what.stands.iter().take(12) {
            say.line(format!("  {address} is {state}"));
        }
        if what.stands.len() > 12 {
            say.line(format!("  and {} more stand differently", what.stands.len() - 12));
        }
    }
    for why in &rehearsal.refused {
        say.line(format!("\n{} {why}", tinted(Tint::Alarm, "It would be refused:")));
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
