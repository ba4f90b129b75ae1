//! `yantro attend`: one service started in the foreground of this terminal (N40).

use futures::StreamExt;
use yantro_core::{
    run::{RunId, RunState},
    words::kinds::Wish,
};
use yantro_engine::{BeginRequest, RunView};
use yantro_server::wire::RunBegun;

use super::follow;
use crate::{
    Global,
    client::{Client, identity, wait_for},
    exit::{Exit, Failure, Outcome},
    marks,
    say::{Say, Tint, tinted},
};

/// Start one service attended: its own output comes through here as it is written, and is kept. Ctrl-C stops it.
#[derive(clap::Args)]
pub struct Attend {
    /// The service.
    service: String,
    /// Leave it on at Ctrl-C, instead of stopping it.
    #[arg(long)]
    leave_on: bool,
    /// For this run only: NAME=VALUE in its environment.
    #[arg(long, value_name = "NAME=VALUE")]
    env: Vec<String>,
    /// Why, for the record.
    #[arg(long)]
    why: Option<String>,
}

fn request(wish: Wish, service: &str, why: Option<String>) -> BeginRequest {
    BeginRequest { why, ..BeginRequest::of_services(wish, [service]) }
}

impl Attend {
    pub fn run(self, global: &Global, say: &Say) -> Outcome {
        let client = Client::find(global)?;
        wait_for(self.attended(&client, say))
    }

    async fn attended(self, client: &Client, say: &Say) -> Outcome {
        let board: yantro_engine::BoardView = client.get("/board").await?;
        let known = |row: &&yantro_engine::BoardRow| {
            row.address.to_string().eq_ignore_ascii_case(&self.service) || row.address.service.as_str().eq_ignore_ascii_case(&self.service)
        };
        let rows: Vec<_> = board.services.iter().filter(known).collect();
        let [row] = rows.as_slice() else {
            let list: Vec<String> = rows.iter().map(|r| r.address.to_string()).collect();
            let what =
                if list.is_empty() { "nothing is called so".to_owned() } else { format!("it has several copies: {}", list.join(", ")) };
            return Err(Failure::own(format!("{}: {what}", self.service), "name one service by its address"));
        };
        let address = row.address.clone();
        if row.seen.state.is_up() {
            let mend = format!("stop it first: yantro stop {address}");
            return Err(Failure::own(format!("{address} is {}, and would not be started anew", row.seen.state), mend));
        }
        let mut start = request(Wish::Start, &address.to_string(), Some(self.why.clone().unwrap_or_else(|| "attended".to_owned())));
        for text in &self.env {
            let Some((name, value)) = text.split_once('=') else {
                return Err(Failure::own(format!("--env {text} cannot be read"), "write it as NAME=VALUE"));
            };
            start.overrides.entry(address.clone()).or_default().env.insert(name.to_owned(), value.to_owned());
        }
        // One listener for the whole time: a Ctrl-C that comes while something is asked is not lost.
        let mut interrupts = follow::interrupts()?;
        // Its output first, so that nothing it says is missed.
        let query = [("of", address.to_string())];
        let mut output = client.stream("/output", &query, None).await?.bytes_stream();
        say.changes_something();
        start.asked_as = Some(identity()?);
        let begun: RunBegun = client.post_once("/runs", &start).await?;
        let (mut beside, mut cut) = (Beside::default(), Vec::new());
        say.talk(tinted(Tint::Rest, format!("run {} starts {address}; Ctrl-C {}", begun.id, self.at_the_end())));
        loop {
            tokio::select! {
                piece = output.next() => match piece {
                    Some(Ok(bytes)) => {
                        say.output(&mut cut, &bytes);
                    }
                    _ => return Err(Failure::own("the stream of its output was cut", "is the server still running?")),
                },
                () = tokio::time::sleep(std::time::Duration::from_millis(200)), if !beside.over => {
                    let view: RunView = client.get(&format!("/runs/{}", begun.id)).await?;
                    beside.tell(&view, begun.id, say);
                }
                _ = interrupts.recv() => break,
            }
        }
        if self.leave_on {
            say.talk(tinted(Tint::Rest, format!("\n{address} is left on")));
            return Ok(Exit::Good);
        }
        say.talk(tinted(Tint::Rest, format!("\nstopping {address}")));
        let path = format!("/runs/{}", begun.id);
        if !beside.ended && client.get::<RunView>(&path).await?.ended_at.is_none() {
            let end = serde_json::json!({ "kind": "give-up", "hold": null, "why": "ended by Ctrl-C where it was attended" });
            // It may end by itself in this very moment: then there is nothing to give up.
            if let Err(error) = client.post::<RunView>(&format!("{path}/decisions"), &end).await
                && client.get::<RunView>(&path).await?.ended_at.is_none()
            {
                return Err(error);
            }
        }
        let mut stop = request(Wish::Stop, &address.to_string(), Some("it was attended".to_owned()));
        stop.asked_as = Some(identity()?);
        let stopped: RunBegun = client.post_once("/runs", &stop).await?;
        follow::watch(client, stopped.id, say).await
    }

    fn at_the_end(&self) -> &'static str {
        if self.leave_on { "leaves it on" } else { "stops it" }
    }
}

/// What is told of the run beside its service's own output.
#[derive(Default)]
struct Beside {
    rungs: usize,
    /// It is told how the run came out.
    over: bool,
    ended: bool,
}

impl Beside {
    fn tell(&mut self, view: &RunView, run: RunId, say: &Say) {
        let seen: Vec<_> = view.steps.iter().flat_map(|s| s.now.acts.iter().flat_map(|a| &a.rungs).map(move |r| (s, r))).collect();
        for (step, rung) in seen.iter().skip(self.rungs) {
            let name = step.rungs.get(rung.rung as usize).map_or("", String::as_str);
            let mark = if rung.climbed { tinted(Tint::Good, "✓") } else { tinted(Tint::Ailing, "↓") };
            say.talk(format!("{} {mark} {} {name}", tinted(Tint::Rest, marks::clock(rung.at)), step.row));
        }
        self.rungs = seen.len();
        if view.ended_at.is_some() || view.state == RunState::Held {
            let word = tinted(marks::run_tint(view.state), view.state.word());
            let because = view.held_because.first().map_or(String::new(), |b| format!(": {b}"));
            say.talk(format!("{} run {run} is {word}{because}", tinted(Tint::Rest, "·")));
            self.over = true;
            self.ended = view.ended_at.is_some();
        }
    }
}
