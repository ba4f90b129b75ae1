//! `yantro runs`, `show` and `trail`.

use yantro_core::{
    proof::logs::Meaning,
    run::{ActEnd, StepState, state_words},
};
use yantro_engine::{Comparison, RunView, StepView};
use yantro_server::wire::{AuditLine, RunPage, roughly};

use crate::{
    Global,
    client::{Client, wait_for},
    exit::{Exit, Outcome},
    marks,
    say::{Say, Tint, tinted},
};

/// List runs, the newest first.
#[derive(clap::Args)]
pub struct Runs {
    /// How many.
    #[arg(long, default_value_t = 20)]
    limit: u32,
    /// Only runs before this one.
    #[arg(long)]
    before: Option<u64>,
}

/// Show a run with its evidence.
#[derive(clap::Args)]
pub struct Show {
    /// The run.
    run: u64,
    /// Only this step, with all that is known of it.
    #[arg(long)]
    step: Option<u32>,
    /// The evidence of every step, not only of those that failed.
    #[arg(long)]
    evidence: bool,
}

/// The report of a run, to hand on.
#[derive(clap::Args)]
pub struct Report {
    /// The run.
    run: u64,
    /// How it is written.
    #[arg(long = "as", value_enum, default_value_t)]
    form: Form,
}

/// How a report is written.
#[derive(Clone, Copy, Default, clap::ValueEnum)]
enum Form {
    /// For people.
    #[default]
    Markdown,
    /// For machines.
    Json,
    /// For tables.
    Csv,
    /// For those who read test results.
    Junit,
}

/// One run beside another, step by step.
#[derive(clap::Args)]
pub struct Compare {
    /// The run.
    run: u64,
    /// The other one (default: the last earlier one of the same kind).
    with: Option<u64>,
}

/// Show who did what.
#[derive(clap::Args)]
pub struct Trail {
    /// How many lines.
    #[arg(long, default_value_t = 40)]
    limit: u32,
}

impl Runs {
    pub fn run(self, global: &Global, say: &Say) -> Outcome {
        let client = Client::find(global)?;
        let mut query = vec![("limit", self.limit.to_string())];
        query.extend(self.before.map(|b| ("before", b.to_string())));
        let page: RunPage = wait_for(client.get_with("/runs", &query))?;
        if say.is_json() {
            say.json(&page);
            return Ok(Exit::Good);
        }
        if page.runs.is_empty() {
            say.line("No runs yet. See what one would do: yantro preview restart SERVICE");
            return Ok(Exit::Good);
        }
        let mut table = marks::table(&["RUN", "WHAT", "STATE", "STEPS", "BY", "BEGUN", "TOOK"]);
        for run in &page.runs {
            let took = run.ended_at.map_or("–".to_owned(), |end| roughly((end.as_ms() - run.began_at.as_ms()).max(0) as u64));
            table.add_row([
                run.id.to_string(),
                run.title.clone(),
                tinted(state_tint(&run.state), &run.state),
                format!("{} of {}", run.steps_ended, run.steps),
                run.who.clone(),
                marks::day_and_clock(run.began_at),
                took,
            ]);
        }
        say.line(marks::lines(&table));
        if let Some(next) = page.next {
            say.talk(format!("older ones: yantro runs --before {next}"));
        }
        Ok(Exit::Good)
    }
}

/// The tint of a run's state by its word.
pub fn state_tint(word: &str) -> Tint {
    state_words().into_iter().find(|s| s.word() == word).map_or(Tint::Rest, marks::run_tint)
}

impl Show {
    pub fn run(self, global: &Global, say: &Say) -> Outcome {
        let client = Client::find(global)?;
        let view: RunView = wait_for(client.get(&format!("/runs/{}", self.run)))?;
        if say.is_json() {
            say.json(&view);
            return Ok(Exit::Good);
        }
        say.line(format!(
            "Run {} · {} · {}",
            view.id,
            tinted(Tint::Strong, &view.title),
            tinted(marks::run_tint(view.state), view.state.word())
        ));
        let why = view.why.as_ref().map_or(String::new(), |w| format!(" · “{w}”"));
        let began = marks::day_and_clock_in_zone(view.began_at);
        say.line(format!("begun {began} by {}{why} · edition {}", view.who, view.edition));
        if let Some(change) = &view.change {
            say.line(format!("change {change}"));
        }
        if view.taken_by != view.who {
            say.line(format!("{} has it", tinted(Tint::Strong, &view.taken_by)));
        }
        let values: Vec<String> = view.values.iter().filter(|(n, _)| n.as_str() != "dir").map(|(n, v)| format!("{n} = {v}")).collect();
        if !values.is_empty() {
            say.line(tinted(Tint::Rest, values.join(" · ")));
        }
        if let Some(procedure) = &view.diverted_to {
            say.line(tinted(Tint::Moving, format!("{procedure} took over")));
        }
        for look in view.preflight.iter().filter(|p| p.line.is_some() || !p.holds()) {
            let (mark, tint) = if look.holds() { ("✓", Tint::Good) } else { ("✗", Tint::Alarm) };
            say.line(format!("  {} {}: {}", tinted(tint, mark), look.says, look.answer.says));
        }
        for note in &view.notes {
            say.line(format!("  {} {}: {}", tinted(Tint::Rest, marks::clock(note.at)), note.who, note.text));
        }
        for because in &view.held_because {
            say.line(tinted(Tint::Alarm, because));
        }
        for (address, over) in &view.overrides {
            say.line(tinted(Tint::Moving, format!("for this run only, {address}: {}", over.says().join(", "))));
        }
        say.line("");
        let mut table = marks::table(&["", "STEP", "OF", "STATE", "TOOK"]);
        let mut part = yantro_core::plan::Part::Forward;
        for step in view.steps.iter().filter(|s| self.step.is_none_or(|n| n == s.planned.id.0)) {
            if step.planned.part != part {
                part = step.planned.part;
                let head = if part == yantro_core::plan::Part::PutBack { "the way back" } else { "what took over" };
                table.add_row(["", "", &tinted(Tint::Rest, head)]);
            }
            let (mark, tint) = marks::step(&step.now.state);
            let took = match (step.now.began_at, step.now.ended_at) {
                (Some(from), Some(to)) => format!("{:.1} s", (to.as_ms() - from.as_ms()) as f64 / 1000.0),
                _ => String::new(),
            };
            table.add_row([
                step.planned.id.to_string(),
                step.planned.does().to_owned(),
                step.row.clone(),
                tinted(tint, format!("{mark} {}", step.now.state.word())),
                took,
            ]);
        }
        for o in &view.otherwise {
            say.line(format!("{} {}", tinted(Tint::Alarm, "✗"), tinted(Tint::Strong, o.says())));
        }
        say.line(marks::lines(&table));
        for step in &view.steps {
            let failed = step.now.state.awaits_decision() || step.now.acts.iter().any(|a| a.failed.is_some());
            if self.step == Some(step.planned.id.0) || (self.step.is_none() && (self.evidence || failed)) {
                evidence(step, say);
            }
        }
        for d in &view.differences {
            say.line(format!("{} was found {} and is {} now", d.address, d.found, d.now));
        }
        if !view.held_because.is_empty() {
            say.line("");
            super::standing::lines(&view).into_iter().for_each(|l| say.line(l));
        }
        Ok(Exit::Good)
    }
}

/// Everything known of a step, with its evidence.
pub(crate) fn evidence(step: &StepView, say: &Say) {
    let planned = &step.planned;
    say.line(format!("\n{}", tinted(Tint::Strong, format!("Step {} · {}", planned.id, step.says))));
    for act in &step.now.acts {
        say.line(format!("  {} attempt {} · {}", marks::clock(act.intended_at), act.attempt, act.kind.word()));
        if let Some(begun) = &act.begun {
            let pid = begun.pid.map_or(String::new(), |p| format!(" · process {p}"));
            say.line(format!("    {}", begun.typed()));
            say.line(tinted(Tint::Rest, format!("    in {} as {}{pid}", begun.dir, begun.user)));
        }
        for rung in &act.rungs {
            let mark = if rung.climbed { tinted(Tint::Good, "✓") } else { tinted(Tint::Ailing, "↓") };
            let name = step.rungs.get(rung.rung as usize).map_or("", String::as_str);
            say.line(format!("    {mark} {name}: {} {}", rung.says, tinted(Tint::Rest, format!("at {}", marks::clock(rung.at)))));
        }
        if let Some((at, end)) = &act.end {
            let said = match end {
                ActEnd::Exited { code, .. } => format!("ended with exit code {code}"),
                ActEnd::Signalled { signal, .. } => format!("ended by signal {signal}"),
                ActEnd::TimedOut { .. } => "took longer than it may".to_owned(),
                ActEnd::Sent => "sent".to_owned(),
                ActEnd::Refused { why, mend } => format!("{why}; {mend}"),
            };
            say.line(format!("    {said} {}", tinted(Tint::Rest, format!("at {}", marks::clock(*at)))));
            if let ActEnd::Exited { output, .. } | ActEnd::Signalled { output, .. } | ActEnd::TimedOut { output } = end {
                for line in output.lines().rev().take(10).collect::<Vec<_>>().into_iter().rev() {
                    say.line(format!("      {line}"));
                }
            }
        }
        for log in &act.logs {
            let seen = log.count.wanted.iter().filter(|n| **n > 0).count();
            let forbidden: u64 = log.count.forbidden.iter().sum();
            say.line(format!(
                "    {} {}",
                log.source,
                tinted(
                    Tint::Rest,
                    format!(
                        "from this act on, {} lines · must see {seen} of {} · must not see {forbidden}",
                        log.count.lines,
                        log.count.wanted.len()
                    )
                )
            ));
            for hit in log.hits.iter().take(5) {
                for line in &hit.before {
                    say.line(tinted(Tint::Rest, format!("      {line}")));
                }
                let tint = if hit.meaning == Meaning::Forbidden { Tint::Alarm } else { Tint::Good };
                say.line(format!("    {} {}", tinted(tint, ">"), tinted(tint, &hit.text)));
                for line in &hit.after {
                    say.line(tinted(Tint::Rest, format!("      {line}")));
                }
            }
        }
        if let Some((_, reason)) = &act.failed {
            say.line(format!("    {}", tinted(Tint::Alarm, format!("✗ {reason}"))));
        }
    }
    if let (StepState::Failed { reason } | StepState::OutcomeUnknown { reason }, true) = (&step.now.state, step.now.acts.is_empty()) {
        say.line(format!("    {}", tinted(Tint::Alarm, format!("✗ {reason}"))));
    }
}

impl Report {
    pub fn run(self, global: &Global, say: &Say) -> Outcome {
        let client = Client::find(global)?;
        let form = match self.form {
            Form::Markdown if say.is_json() => "json",
            Form::Markdown => "markdown",
            Form::Json => "json",
            Form::Csv => "csv",
            Form::Junit => "junit",
        };
        let text = wait_for(client.text(&format!("/runs/{}/report?as={form}", self.run)))?;
        say.line(text.trim_end());
        Ok(Exit::Good)
    }
}

impl Compare {
    pub fn run(self, global: &Global, say: &Say) -> Outcome {
        let client = Client::find(global)?;
        let with = self.with.map_or(String::new(), |w| format!("?with={w}"));
        let comparison: Comparison = wait_for(client.get(&format!("/runs/{}/comparison{with}", self.run)))?;
        if say.is_json() {
            say.json(&comparison);
            return Ok(Exit::Good);
        }
        beside(&comparison, say);
        Ok(Exit::Good)
    }
}

/// One run beside another.
pub(crate) fn beside(comparison: &Comparison, say: &Say) {
    let length = |ms: Option<u64>| ms.map_or("–".to_owned(), |ms| format!("{:.1} s", ms as f64 / 1000.0));
    let with = comparison.with.map_or("none before".to_owned(), |w| format!("run {w}"));
    let forecast = comparison
        .forecast_ms
        .map_or(String::new(), |(likely, late)| format!(", forecast {} to {}", length(Some(likely)), length(Some(late))));
    say.line(format!("Run {} took {}{forecast}; {with}: {}", comparison.run, length(comparison.took_ms), length(comparison.with_ms)));
    say.line("");
    let run = format!("RUN {}", comparison.run);
    let other = comparison.with.map_or("BEFORE".to_owned(), |w| format!("RUN {w}"));
    let all = format!("{} BEFORE", comparison.earlier.len());
    let mut table = marks::table(&["", "STEP", &run, "USUALLY", &other, if comparison.earlier.len() > 1 { &all } else { "" }, ""]);
    let between = |t: yantro_engine::Took| format!("{:.1} to {:.1} s", t.least_ms as f64 / 1000.0, t.most_ms as f64 / 1000.0);
    for s in &comparison.steps {
        let took = length(s.took_ms);
        let differs = s.with_state.as_ref().is_some_and(|w| *w != s.state);
        let said = match (&s.with_state, differs) {
            (Some(with), true) => format!("{}, was {with}", s.state),
            (None, _) if comparison.with.is_some() => format!("{}, was not there", s.state),
            _ if s.slow => "slower than 9 in 10".to_owned(),
            _ => String::new(),
        };
        table.add_row([
            s.step.map_or(String::new(), |n| n.to_string()),
            s.says.clone(),
            if s.slow { tinted(Tint::Ailing, took) } else { took },
            length(Some(s.usual_ms).filter(|ms| *ms > 0)),
            length(s.with_ms),
            s.earlier.filter(|_| comparison.earlier.len() > 1).map(between).unwrap_or_default(),
            tinted(if differs { Tint::Alarm } else { Tint::Rest }, said),
        ]);
    }
    say.line(marks::lines(&table));
}

impl Trail {
    pub fn run(self, global: &Global, say: &Say) -> Outcome {
        let client = Client::find(global)?;
        let lines: Vec<AuditLine> = wait_for(client.get_with("/audit", &[("limit", self.limit.to_string())]))?;
        if say.is_json() {
            say.json(&lines);
            return Ok(Exit::Good);
        }
        let mut table = marks::table(&["WHEN", "WHO", "DID", "TO", "WHY"]);
        for l in &lines {
            let when = marks::day_and_clock(l.at);
            table.add_row([when, l.who.clone(), l.what.clone(), l.about.clone(), l.why.clone().unwrap_or_default()]);
        }
        say.line(marks::lines(&table));
        Ok(Exit::Good)
    }
}
