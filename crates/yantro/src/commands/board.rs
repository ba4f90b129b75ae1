//! `yantro board` and `relations`.

use std::time::Duration;

use yantro_core::{
    model::Launch,
    proof::{SeenState, UnitWord},
    words::name::Address,
};
use yantro_engine::BoardView;
use yantro_server::wire::{Relations as RelationsView, roughly};

use crate::{
    Global,
    client::{Client, wait_for},
    exit::{Exit, Failure, Outcome},
    marks,
    say::{Say, Tint, tinted},
};

/// A clock that is off by so much is told.
const CLOCK_OFF_MS: u64 = 2_000;
/// What shows a state is cut here: it has a line of its own in `yantro show`.
const SHOWN: usize = 78;

/// Show how everything stands.
#[derive(clap::Args)]
pub struct Board {
    /// Keep showing it, until interrupted.
    #[arg(long)]
    live: bool,
    /// Only what differs from what is expected.
    #[arg(long)]
    differs: bool,
    /// Look at everything once more first.
    #[arg(long)]
    look: bool,
}

/// Show what a service relies on and what relies on it.
#[derive(clap::Args)]
pub struct Relations {
    /// The service.
    service: String,
}

impl Board {
    pub fn run(self, global: &Global, say: &Say) -> Outcome {
        let client = Client::find(global)?;
        wait_for(async {
            loop {
                let board: BoardView = if self.look { client.ask("/look", &()).await? } else { client.get("/board").await? };
                if say.is_json() {
                    say.json(&board);
                } else {
                    if self.live && say.at_terminal() {
                        say.clear();
                    }
                    show(&board, self.differs, say);
                }
                if !self.live {
                    return Ok(Exit::Good);
                }
                tokio::select! {
                    () = tokio::time::sleep(Duration::from_secs(1)) => {}
                    _ = tokio::signal::ctrl_c() => return Ok(Exit::Good),
                }
            }
        })
    }
}

/// The line that says what this estate is: production is told from test everywhere (N57).
pub fn heading(board: &BoardView) -> String {
    let stands_for =
        board.stands_for.and_then(|s| serde_json::to_value(s).ok()).and_then(|v| v.as_str().map(str::to_owned)).unwrap_or_default();
    format!("{} · {} · edition {}", tinted(Tint::Strong, &board.estate), tinted(Tint::Strong, stands_for.to_uppercase()), board.edition)
}

pub(crate) fn show(board: &BoardView, only_differing: bool, say: &Say) {
    if board.edition == 0 {
        say.line("No estate is loaded yet. Describe one and load it:\n  yantro load estate.toml\nSee docs/estate.md for the format, or try `yantro demo`.");
        return;
    }
    say.line(heading(board));
    if let Some(who) = &board.standstill {
        say.line(tinted(Tint::Alarm, format!("Everything is at a standstill: {who}")));
    }
    if let Some(why) = &board.storage_trouble {
        say.line(tinted(Tint::Alarm, format!("Nothing is begun: {why}")));
    }
    for (host, why) in board.hosts.iter().filter_map(|h| Some((&h.name, h.kept.as_ref()?))) {
        say.line(tinted(Tint::Alarm, format!("{host} is not acted on: {why}. Once that is settled: yantro take-over {host} --why …")));
    }
    for host in &board.hosts {
        // One that is off is no trouble to be mended; it is said once, below.
        if let Some(link) = host.link.as_ref().filter(|l| !l.up && host.itself != Some(SeenState::Down)) {
            let mend = link.mend.as_ref().map(|m| format!("\n  {m}")).unwrap_or_default();
            let why = link.why.as_deref().unwrap_or("not connected yet");
            let now = if link.why.is_some() {
                format!("\n  It is tried by itself, and at once by: yantro reach {}", host.name)
            } else {
                String::new()
            };
            say.line(tinted(Tint::Unreach, format!("{} is out of reach: {why}{mend}{now}", host.name)));
        }
    }
    let off: Vec<String> = board.hosts.iter().filter(|h| h.itself == Some(SeenState::Down)).map(|h| h.name.to_string()).collect();
    if !off.is_empty() {
        say.line(format!("{} {} off", off.join(", "), if off.len() == 1 { "is" } else { "are" }));
    }
    for (host, cannot) in board.hosts.iter().filter_map(|h| Some((&h.name, h.link.as_ref().filter(|l| l.up)?.plain_shell.as_ref()?))) {
        say.line(format!("{host} is reached {cannot}"));
    }
    for (host, ahead) in board.hosts.iter().filter_map(|h| Some((&h.name, h.link.as_ref().filter(|l| l.up)?.clock_ahead_ms?))) {
        if ahead.unsigned_abs() >= CLOCK_OFF_MS {
            let way = if ahead > 0 { "ahead of" } else { "behind" };
            say.line(tinted(Tint::Moving, format!("the clock of {host} is {} {way} ours", roughly(ahead.unsigned_abs()))));
        }
    }
    for run in &board.open_runs {
        say.line(format!(
            "run {} · {} · {} · {} of {} steps",
            run.id,
            run.title,
            tinted(super::runs::state_tint(&run.state), &run.state),
            run.steps_ended,
            run.steps
        ));
    }
    say.line("");
    let mut table = marks::table(&["SERVICE", "TITLE", "STATE", "SEEN", "WHAT SHOWS IT"]);
    let mut rows = 0;
    for row in board.services.iter().filter(|r| !only_differing || r.differs) {
        rows += 1;
        let state = format!("{} {}", marks::dial(&row.seen), row.seen.state);
        let tint = marks::tint(row.seen.state, row.differs);
        let known = row.seen.log_against.is_some() && row.seen.state == SeenState::Ailing;
        let parts = [
            known.then(|| format!("yantro acknowledge {} --why …", row.address)),
            row.owed_because.as_ref().map(|why| format!("restart owed: {why}")),
            row.intended_down.clone().filter(|_| !row.seen.state.is_up()),
            row.seen.last_known.map(|l| format!("last seen {}, {} ago", l.state, roughly(board.as_of.since(l.at).as_millis() as u64))),
            row.notes.first().cloned(),
            row.hands_off.is_some().then(|| "hands-off".to_owned()),
            (row.differs && row.in_run.is_none()).then(|| "differs from expected".to_owned()),
            row.in_run.map(|r| format!("in run {r}")),
            // Two witnesses: the manager's word goes before the ladder's.
            row.seen.manager.as_ref().filter(|_| row.seen.state != SeenState::OutOfReach).map(UnitWord::standing),
            // Why its step failed says more than what a look finds since.
            row.failed_in_run.clone().or_else(|| Some(row.seen.says.clone())).filter(|s| !s.is_empty()),
        ];
        let mut shows = parts.into_iter().flatten().collect::<Vec<_>>().join(" · ");
        if shows.chars().count() > SHOWN {
            shows = shows.chars().take(SHOWN - 1).chain(['…']).collect();
        }
        table.add_row([
            row.address.to_string(),
            row.title.clone(),
            tinted(tint, state),
            marks::age(board.as_of.as_ms() - row.seen.last_known.map_or(row.seen.as_of, |l| l.at).as_ms()),
            shows,
        ]);
    }
    if rows == 0 {
        say.line("Nothing differs from what is expected.");
    } else {
        say.line(marks::lines(&table));
    }
    let count = |f: &dyn Fn(&yantro_engine::BoardRow) -> bool| board.services.iter().filter(|r| f(r)).count();
    let proven = count(&|r| r.seen.state == SeenState::Proven);
    let differ = count(&|r| r.differs);
    say.line(format!(
        "\n{proven} of {} proven, {differ} differ{} from what is expected",
        board.services.len(),
        if differ == 1 { "s" } else { "" }
    ));
}

impl Relations {
    pub fn run(self, global: &Global, say: &Say) -> Outcome {
        let client = Client::find(global)?;
        let view: RelationsView = wait_for(client.get_with("/relations", &[("of", self.service.clone())]))?;
        if say.is_json() {
            say.json(&view);
            return Ok(Exit::Good);
        }
        say.line(tinted(Tint::Strong, &view.address));
        let list = |title: &str, near: &std::collections::BTreeSet<Address>, all: &std::collections::BTreeSet<Address>| {
            say.line(format!("\n{title}"));
            if all.is_empty() {
                say.line("  nothing");
            }
            for address in near {
                say.line(format!("  {address}"));
            }
            for address in all.difference(near) {
                say.line(format!("  {}", tinted(Tint::Rest, format!("{address}  (through others)"))));
            }
        };
        list("relies on", &view.relies_on, &view.needs);
        list("is relied on by", &view.reliant, &view.takes_with_it);
        Ok::<_, Failure>(Exit::Good)
    }
}

/// Show what services will really be started with.
#[derive(clap::Args)]
pub struct StartedWith {
    /// Addresses, names, globs, group:NAME, host:NAME.
    #[arg(required = true)]
    selection: Vec<String>,
}

impl StartedWith {
    pub fn run(self, global: &Global, say: &Say) -> Outcome {
        let client = Client::find(global)?;
        let all: Vec<Launch> = wait_for(client.get_with("/started-with", &[("of", self.selection.join(","))]))?;
        if say.is_json() {
            say.json(&all);
            return Ok(Exit::Good);
        }
        for launch in &all {
            say.line(tinted(Tint::Strong, &launch.address));
            let mut table = marks::table(&["", "VALUE", "WRITTEN IN"]);
            let mut row = |what: &str, value: &str, from: &str| {
                table.add_row([what.to_owned(), value.to_owned(), tinted(Tint::Rest, from)]);
            };
            for (i, word) in launch.command.iter().enumerate() {
                row(if i == 0 { "program" } else { "argument" }, &word.value, &word.from);
            }
            row("folder", &launch.dir.value, &launch.dir.from);
            match &launch.user {
                Some(user) => row("account", &user.value, &user.from),
                None => row("account", "the server's own", ""),
            }
            for (name, value) in &launch.env {
                row("environment", &format!("{name}={}", value.value), &value.from);
            }
            say.line(marks::lines(&table));
            say.line("");
        }
        Ok(Exit::Good)
    }
}
