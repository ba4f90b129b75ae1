//! `yantro rehearse`: a wish or a procedure played against its forecast.

use std::{collections::BTreeSet, path::PathBuf};

use clap::ValueEnum;
use yantro_core::{
    graph::EstateGraph,
    model::Estate,
    plan::{
        self, Plan, StepId,
        forecast::Usual,
        procedure::{self, Asked},
    },
    proof::{Facts, SeenState},
    selection,
    text::vet,
    words::name::{Address, GroupName, ProcedureName},
};
use yantro_engine::{Doing, Rehearsal, rehearse};
use yantro_server::wire::{PlanView, plan_says, roughly};

use super::{acts::WishArg, procedures::Terms, shown};
use crate::{
    Global,
    client::{Client, wait_for},
    exit::{Exit, Failure, Outcome},
    marks,
    say::{Say, Tint, tinted},
};

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
