//! `yantro preview`, `start`, `stop`, `restart` and `reload`.

use std::num::NonZeroU32;

use clap::ValueEnum;
use yantro_core::{
    overrides::Overrides,
    plan::forecast::Prefer,
    run::AtLastMoment,
    selection::of_host,
    words::{
        kinds::Wish,
        name::{Address, GroupName},
        time::Span,
    },
};
use yantro_engine::{BeginRequest, BoardView, Doing};
use yantro_server::wire::PlanView;

use super::{board::heading, consent::begin_as_shown, shown::show};
use crate::{
    Global,
    client::{Client, wait_for},
    exit::{Exit, Failure, Outcome},
    say::Say,
};

/// What a run is asked to do.
#[derive(clap::Args)]
pub struct Selection {
    /// Addresses, names, globs, group:NAME, host:NAME, reliant-on:NAME, needed-by:NAME.
    #[arg(required = true)]
    selection: Vec<String>,
    /// Leave these out.
    #[arg(long)]
    except: Vec<String>,
    /// Only these, without what relies on them or what they need.
    #[arg(long)]
    alone: bool,
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
    #[command(flatten)]
    over: OverridesOf,
    /// Why, for the record.
    #[arg(long)]
    why: Option<String>,
    /// The number of the change it belongs to.
    #[arg(long, value_name = "NUMBER")]
    change: Option<String>,
    #[command(flatten)]
    hours: HoursOf,
}

/// What one run puts over the settings of single services.
#[derive(clap::Args)]
pub struct OverridesOf {
    /// For this run only: ADDRESS:NAME=VALUE puts NAME into its environment.
    #[arg(long, value_name = "ADDRESS:NAME=VALUE")]
    env: Vec<String>,
    /// For this run only: ADDRESS=90s is how long its start may take.
    #[arg(long, value_name = "ADDRESS=TIME")]
    patience: Vec<String>,
    /// For this run only: any setting as the estate file writes it; once for each.
    #[arg(long, value_name = "ADDRESS: KEY = VALUE")]
    for_this_run: Vec<String>,
}

impl OverridesOf {
    pub fn overrides(&self) -> Result<Overrides, Failure> {
        let mut overrides = Overrides::new();
        for text in &self.env {
            let parsed = text.split_once(':').and_then(|(a, rest)| Some((a.parse::<Address>().ok()?, rest.split_once('=')?)));
            let Some((address, (name, value))) = parsed else {
                return Err(Failure::own(format!("--env {text} cannot be read"), "write it as quay-1/fares-db:NAME=VALUE"));
            };
            overrides.entry(address).or_default().env.insert(name.to_owned(), value.to_owned());
        }
        for text in &self.patience {
            let parsed = text.split_once('=').and_then(|(a, t)| Some((a.parse::<Address>().ok()?, t.parse().ok()?)));
            let Some((address, patience)) = parsed else {
                return Err(Failure::own(format!("--patience {text} cannot be read"), "write it as quay-1/fares-db=90s"));
            };
            overrides.entry(address).or_default().start_patience = Some(patience);
        }
        for text in &self.for_this_run {
            let Some((address, line)) = text.split_once(':').and_then(|(a, line)| Some((a.parse::<Address>().ok()?, line.trim()))) else {
                let mend = "write it as quay-1/fares-db: steady = \"5s\"";
                return Err(Failure::own(format!("--for-this-run {text} cannot be read"), mend));
            };
            let written = overrides.entry(address).or_default().written.get_or_insert_default();
            *written += &format!("{line}\n");
        }
        Ok(overrides)
    }
}

/// How a run goes, and the hours that it is bound to.
#[derive(clap::Args)]
pub struct HoursOf {
    /// Name a change freeze to begin in all the same, with --why; once for each.
    #[arg(long, value_name = "FREEZE")]
    pub in_freeze: Vec<String>,
    /// Take the order that users feel least, though it may take longer.
    #[arg(long)]
    pub least_felt: bool,
    /// Put it back by itself once it was held for so long, such as 20m.
    #[arg(long, value_name = "TIME")]
    pub held_at_most: Option<Span>,
    /// The window that it must fit.
    #[arg(long, value_name = "WINDOW")]
    pub window: Option<String>,
    /// What it does when putting back would no longer fit the window.
    #[arg(long, value_enum, default_value_t, requires = "window")]
    pub at_last_moment: LastMoment,
}

impl HoursOf {
    /// The request, so bound.
    pub fn bound(&self, request: BeginRequest) -> BeginRequest {
        BeginRequest {
            prefer: if self.least_felt { Prefer::LeastFelt } else { Prefer::Soonest },
            in_freeze: self.in_freeze.iter().cloned().collect(),
            held_at_most: self.held_at_most,
            window: self.window.clone(),
            at_last_moment: self.at_last_moment.into(),
            ..request
        }
    }
}

/// What a run does at the last moment to put back.
#[derive(Clone, Copy, Default, ValueEnum)]
pub enum LastMoment {
    /// Begins nothing new and waits.
    #[default]
    Hold,
    /// Puts everything back.
    PutBack,
    /// Goes on.
    GoOn,
}

impl From<LastMoment> for AtLastMoment {
    fn from(moment: LastMoment) -> Self {
        match moment {
            LastMoment::Hold => AtLastMoment::Hold,
            LastMoment::PutBack => AtLastMoment::PutBack,
            LastMoment::GoOn => AtLastMoment::GoOn,
        }
    }
}

/// What is wished for.
#[derive(Clone, Copy, ValueEnum)]
pub enum WishArg {
    Start,
    Stop,
    Restart,
    Reload,
    ShutDown,
    PowerOn,
    Reboot,
    PowerCycle,
    BringToExpected,
}

impl WishArg {
    /// What it comes to; of what is chosen, bare names are hosts where it is about these.
    pub fn of(self, words: Vec<String>) -> (Wish, Vec<String>) {
        let of_hosts = || words.iter().map(|w| of_host(w)).collect();
        match self {
            WishArg::Start => (Wish::Start, words),
            WishArg::Stop => (Wish::Stop, words),
            WishArg::Restart => (Wish::Restart, words),
            WishArg::Reload => (Wish::Reload, words),
            WishArg::ShutDown => (Wish::Stop, of_hosts()),
            WishArg::PowerOn => (Wish::Start, of_hosts()),
            WishArg::Reboot => (Wish::Restart, of_hosts()),
            WishArg::PowerCycle => (Wish::PowerCycle, of_hosts()),
            WishArg::BringToExpected => (Wish::BringToExpected, words),
        }
    }
}

/// Work out a sequence and show it; touches nothing.
#[derive(clap::Args)]
pub struct Preview {
    /// What is wished for.
    wish: WishArg,
    #[command(flatten)]
    selection: Selection,
}

/// Act on services.
#[derive(clap::Args)]
pub struct Wanted {
    #[command(flatten)]
    selection: Selection,
    /// Do not ask; what has to be said in so many words still has to be.
    #[arg(long)]
    yes: bool,
    /// Begin it and come back at once, instead of watching.
    #[arg(long)]
    unwatched: bool,
}

impl Selection {
    fn request(self, wish: Wish) -> Result<BeginRequest, Failure> {
        let does = Doing::Services { wish, of: self.selection, except: self.except, alone: self.alone };
        Ok(BeginRequest {
            left_standing: self.left_standing.into_iter().collect(),
            below_keep_up: self.below_keep_up.into_iter().collect(),
            along: self.along.into_iter().collect(),
            overrides: self.over.overrides()?,
            at_once: self.at_once,
            why: self.why,
            change: self.change,
            ..self.hours.bound(BeginRequest::new(does))
        })
    }
}

impl Preview {
    pub fn run(self, global: &Global, say: &Say) -> Outcome {
        let client = Client::find(global)?;
        let Selection { selection, except, .. } = &self.selection;
        let (wish, selection) = self.wish.of(selection.clone());
        let except = self.wish.of(except.clone()).1;
        let request = Selection { selection, except, ..self.selection }.request(wish)?;
        wait_for(async {
            let plan: PlanView = client.ask("/plan", &request).await?;
            if say.is_json() {
                say.json(&plan);
            } else {
                let board: BoardView = client.get("/board").await?;
                say.line(heading(&board));
                show(&plan, usize::MAX, &|line| say.line(line));
            }
            Ok(if plan.can_begin { Exit::Good } else { Exit::Failed })
        })
    }
}

/// Act on hosts themselves; they are named by their bare names, and globs of these.
#[derive(clap::Args)]
pub struct OfHosts {
    #[command(flatten)]
    wanted: Wanted,
}

impl OfHosts {
    pub fn run(mut self, wish: Wish, global: &Global, say: &Say) -> Outcome {
        for words in [&mut self.wanted.selection.selection, &mut self.wanted.selection.except] {
            words.iter_mut().for_each(|w| *w = of_host(w));
        }
        self.wanted.carry_out(wish, global, say)
    }
}

/// Have services carry out a further act: one of their own, or what their host's manager can be told of a unit.
#[derive(clap::Args)]
pub struct FurtherAct {
    /// The act: as the description names it; units have re-read, at-boot-on and at-boot-off.
    act: String,
    /// Of what: addresses, names, globs, group:, host:.
    #[arg(required = true)]
    of: Vec<String>,
    /// Why, for the record.
    #[arg(long)]
    why: Option<String>,
    /// Begin without being asked.
    #[arg(long)]
    yes: bool,
    /// Do not watch it.
    #[arg(long)]
    unwatched: bool,
}

impl FurtherAct {
    pub fn run(self, global: &Global, say: &Say) -> Outcome {
        let does = Doing::Act { act: self.act.clone(), of: self.of };
        let request = BeginRequest { why: self.why, ..BeginRequest::new(does) };
        begin_as_confirmed(&request, &self.act, (self.yes, self.unwatched), global, say)
    }
}

impl Wanted {
    pub fn run(self, wish: &str, global: &Global, say: &Say) -> Outcome {
        let wish = match wish {
            "start" => Wish::Start,
            "stop" => Wish::Stop,
            "reload" => Wish::Reload,
            "bring-to-expected" => Wish::BringToExpected,
            _ => Wish::Restart,
        };
        self.carry_out(wish, global, say)
    }

    fn carry_out(self, wish: Wish, global: &Global, say: &Say) -> Outcome {
        let request = self.selection.request(wish)?;
        begin_as_confirmed(&request, wish.word(), (self.yes, self.unwatched), global, say)
    }
}

fn begin_as_confirmed(request: &BeginRequest, word: &str, said: (bool, bool), global: &Global, say: &Say) -> Outcome {
    let client = Client::find(global)?;
    wait_for(begin_as_shown(&client, say, request, word, said))
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    /// What can be done can be looked at beforehand, under the same name and with the same words.
    #[rstest]
    #[case("start", Wish::Start, "harbour")]
    #[case("shut-down", Wish::Stop, "power:harbour")]
    #[case("power-on", Wish::Start, "power:harbour")]
    #[case("reboot", Wish::Restart, "power:harbour")]
    #[case("power-cycle", Wish::PowerCycle, "power:harbour")]
    fn a_deed_on_hosts_is_previewed_by_its_own_name(#[case] word: &str, #[case] wish: Wish, #[case] of: &str) {
        let (is, chosen) = WishArg::from_str(word, false).unwrap().of(vec!["harbour".to_owned()]);
        assert_eq!((is, chosen), (wish, vec![of.to_owned()]));
    }
}
