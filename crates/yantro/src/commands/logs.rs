//! `yantro logs`: the logs of several services together; at a terminal, followed with search, pause and jumps.

use std::io::IsTerminal;

use crossterm::event::{Event, EventStream, KeyEventKind};
use eventsource_stream::Eventsource;
use futures::StreamExt;
use yantro_server::wire::FollowedLine;

use crate::{
    Global,
    client::{Client, wait_for},
    exit::{Exit, Failure, Outcome},
    marks,
    reader::{After, LogsOf, Reader},
    say::{Say, Tint, tinted},
};

/// Show or follow the logs of several services together.
#[derive(clap::Args)]
pub struct Logs {
    /// Addresses, names, globs, group:NAME, host:NAME.
    #[arg(required = true)]
    selection: Vec<String>,
    /// Go on as lines are written; at a terminal with search, pause and jumps to the acts.
    #[arg(long, short)]
    follow: bool,
    /// How many of the last lines of each log.
    #[arg(long, default_value_t = 20)]
    lines: usize,
    /// Begin at the first act of this run.
    #[arg(long, value_name = "RUN")]
    run: Option<u64>,
    /// Only lines that hold this text.
    #[arg(long)]
    with: Option<String>,
    /// Follow with plain lines at a terminal, too.
    #[arg(long)]
    plain: bool,
}

impl Logs {
    pub fn run(self, global: &Global, say: &Say) -> Outcome {
        let client = Client::find(global)?;
        let mut query = vec![("of", self.selection.join(",")), ("lines", self.lines.to_string()), ("follow", self.follow.to_string())];
        query.extend(self.run.map(|r| ("run", r.to_string())));
        wait_for(async {
            if !self.follow {
                let lines: Vec<FollowedLine> = client.get_with("/logs", &query).await?;
                let lines: Vec<FollowedLine> = lines.into_iter().filter(|l| self.wants(l)).collect();
                if say.is_json() {
                    say.json(&lines);
                } else {
                    let mut logs = LogsOf::default();
                    lines.iter().for_each(|l| logs.learn(l));
                    lines.iter().for_each(|l| show(l, &logs, say));
                }
                return Ok(Exit::Good);
            }
            let answer = client.stream("/logs", &query, None).await?;
            let lines = answer.bytes_stream().eventsource().map(|event| match event {
                Ok(event) => serde_json::from_str::<FollowedLine>(&client.heard(&event.data)).map_err(|_| cut()),
                Err(_) => Err(cut()),
            });
            if say.at_terminal() && std::io::stdout().is_terminal() && !say.is_json() && !self.plain {
                self.read(lines).await
            } else {
                self.print(lines, say).await
            }
        })
    }

    async fn print(&self, lines: impl futures::Stream<Item = Result<FollowedLine, Failure>>, say: &Say) -> Outcome {
        let mut lines = std::pin::pin!(lines);
        let mut logs = LogsOf::default();
        loop {
            tokio::select! {
                line = lines.next() => {
                    let line = line.ok_or_else(cut)??;
                    logs.learn(&line);
                    if self.wants(&line) {
                        if say.is_json() { say.line(serde_json::to_string(&line).unwrap_or_default()) } else { show(&line, &logs, say) }
                    }
                }
                _ = tokio::signal::ctrl_c() => return Ok(Exit::Good),
            }
        }
    }

    /// At a terminal: the whole of it is the reader's, and given back however this ends.
    async fn read(&self, lines: impl futures::Stream<Item = Result<FollowedLine, Failure>>) -> Outcome {
        let mut lines = std::pin::pin!(lines);
        let mut reader = Reader::new(self.selection.join(" "), self.with.clone().unwrap_or_default());
        let mut terminal = ratatui::try_init().map_err(|e| Failure::own(format!("the terminal cannot be taken: {e}"), "use --plain"))?;
        let mut keys = EventStream::new();
        let outcome = loop {
            if let Err(error) = terminal.draw(|frame| reader.draw(frame)) {
                break Err(Failure::own(format!("the terminal cannot be drawn to: {error}"), "use --plain"));
            }
            tokio::select! {
                line = lines.next() => match line {
                    Some(Ok(line)) => reader.push(line),
                    Some(Err(error)) => break Err(error),
                    None => break Err(cut()),
                },
                key = keys.next() => match key {
                    Some(Ok(Event::Key(key))) if key.kind != KeyEventKind::Release => {
                        if reader.key(key) == After::Leave {
                            break Ok(Exit::Good);
                        }
                    }
                    Some(Ok(_)) => {}
                    Some(Err(_)) | None => break Ok(Exit::Good),
                },
            }
        };
        ratatui::restore();
        outcome
    }

    fn wants(&self, line: &FollowedLine) -> bool {
        self.with.as_ref().is_none_or(|w| line.text.contains(w.as_str()) || line.unreadable || line.act.is_some())
    }
}

fn cut() -> Failure {
    Failure::own("the stream was cut", "is the server still running?")
}

fn show(line: &FollowedLine, logs: &LogsOf, say: &Say) {
    let text = match (&line.act, line.unreadable) {
        (Some(act), _) => tinted(Tint::Moving, format!("── {} {} ──", marks::moment(act.at), line.text)),
        (None, true) => tinted(Tint::Alarm, format!("{}: {}", line.source, line.text)),
        (None, false) => match line.when {
            Some(when) => format!("{} {}", tinted(Tint::Rest, marks::moment(when)), line.text),
            None => line.text.clone(),
        },
    };
    say.line(format!("{} {text}", tinted(Tint::Rest, format!("{:<26}", logs.name(line)))));
}
