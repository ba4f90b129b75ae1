//! The logs of several services, shown and followed together, with the acts between their lines.

use std::{
    collections::{BTreeMap, BTreeSet},
    time::Duration,
};

use actix_web::{HttpResponse, web};
use bytes::Bytes;
use futures::stream;
use serde::Deserialize;
use yantro_core::{name::Address, run::RunId, selection};
use yantro_engine::{ActMark, Engine, EngineError};
use yantro_reach::{LogFollow, LogLine};

use crate::{
    api::blocking,
    problem::Problem,
    wire::{FollowedAct, FollowedLine},
};

/// How often logs are read on.
const AGAIN: Duration = Duration::from_millis(200);
/// After so many rounds with nothing new the stream says that it is alive.
const QUIET: u32 = 50;
/// Lines that an answer without an end has at most, from an act on.
const FROM_AN_ACT: usize = 5_000;

#[derive(Deserialize)]
pub struct LogsOf {
    /// Selections, with commas between.
    of: String,
    /// How many of the last lines of each log.
    lines: Option<usize>,
    /// Whether to go on as lines are written.
    #[serde(default)]
    follow: bool,
    /// Begin at the first act of this run, instead of at the last lines.
    run: Option<u64>,
}

/// One log being read.
struct One {
    address: Address,
    follow: LogFollow,
    path: String,
    /// Acts whose place was not passed yet, the next first.
    ahead: Vec<ActMark>,
    /// Acts that were told or are ahead.
    known: BTreeSet<(RunId, u32)>,
}

struct Reading {
    engine: web::Data<Engine>,
    logs: Vec<One>,
    /// Only acts of this run are shown between the lines.
    run: Option<RunId>,
    /// How far each run was when its acts were last asked for.
    known: BTreeMap<RunId, u64>,
}

pub async fn logs(engine: web::Data<Engine>, asked: web::Query<LogsOf>) -> Result<HttpResponse, Problem> {
    let loaded = engine.loaded().ok_or(EngineError::NoEstate)?;
    let words: Vec<String> = asked.of.split(',').map(str::to_owned).collect();
    let chosen = selection::resolve(&loaded.estate, &loaded.graph, &words, &[]).map_err(EngineError::from)?;
    let run = asked.run.map(RunId);
    let lines = asked.lines.unwrap_or(20);
    let mut first: Vec<FollowedLine> = Vec::new();
    let mut reading = Reading { engine: engine.clone(), logs: Vec::new(), run, known: BTreeMap::new() };
    let marks = {
        let (engine, chosen) = (engine.clone(), chosen.clone());
        blocking(move || engine.act_marks(&chosen, run)).await?
    };
    for address in chosen {
        for path in engine.logs_of(&loaded.estate.services[&address]) {
            let from = run.and_then(|_| marks.iter().filter(|m| m.source == path && m.address == address).min_by_key(|m| m.mark.position));
            let opened = match from {
                Some(mark) => LogFollow::since(&path, mark.mark, lines).map(|f| (f, Vec::new())),
                None => LogFollow::new(&path, lines),
            };
            match opened {
                Ok((follow, lines)) => {
                    // What lies before the first line that is shown is not told of.
                    let begin = lines.first().map_or(follow.position(), |l| l.at);
                    let mut one = One { address: address.clone(), follow, path, ahead: Vec::new(), known: BTreeSet::new() };
                    one.learn(&marks, if from.is_some() { 0 } else { begin });
                    first.extend(one.shown(&engine, lines));
                    reading.logs.push(one);
                }
                Err(error) => {
                    let text = format!("this log may not be read: {error}");
                    first.push(FollowedLine { address: address.clone(), source: path, text, unreadable: true, act: None });
                }
            }
        }
    }
    if run.is_some() {
        while first.len() < FROM_AN_ACT {
            let more = reading.poll();
            if more.is_empty() {
                break;
            }
            first.extend(more);
        }
    }
    by_time(&mut first);
    if !asked.follow {
        return Ok(HttpResponse::Ok().json(first));
    }
    let told = first.iter().map(line).collect::<String>();
    let tail = stream::unfold((reading, Some(told), 0u32), |(mut reading, first, mut quiet)| async move {
        if let Some(first) = first {
            return Some((Ok::<_, std::io::Error>(Bytes::from(format!("retry: 1000\n\n{first}"))), (reading, None, 0)));
        }
        loop {
            let mut more = reading.poll();
            by_time(&mut more);
            quiet += 1;
            let text = match more.iter().map(line).collect::<String>() {
                text if text.is_empty() && quiet >= QUIET => ": quiet\n\n".to_owned(),
                text => text,
            };
            if !text.is_empty() {
                return Some((Ok(Bytes::from(text)), (reading, None, 0)));
            }
            tokio::time::sleep(AGAIN).await;
        }
    });
    Ok(HttpResponse::Ok().content_type("text/event-stream").insert_header(("cache-control", "no-store")).streaming(tail))
}

fn line(line: &FollowedLine) -> String {
    format!("event: line\ndata: {}\n\n", serde_json::to_string(line).unwrap_or_default())
}

impl Reading {
    /// What was written since, and which acts were given.
    fn poll(&mut self) -> Vec<FollowedLine> {
        let of: BTreeSet<Address> = self.logs.iter().map(|l| l.address.clone()).collect();
        let mut marks = self.engine.new_act_marks(&of, &mut self.known);
        marks.retain(|m| self.run.is_none_or(|run| m.run == run));
        let mut all = Vec::new();
        for one in &mut self.logs {
            one.learn(&marks, 0);
            let lines = one.follow.poll().unwrap_or_default();
            all.extend(one.shown(&self.engine, lines));
        }
        all
    }
}

impl One {
    /// Takes in acts that were given meanwhile; those before a place in the file are left out.
    fn learn(&mut self, marks: &[ActMark], from: u64) {
        for mark in marks.iter().filter(|m| m.source == self.path && m.address == self.address) {
            if self.known.insert((mark.run, mark.act)) && mark.mark.position >= from {
                self.ahead.push(mark.clone());
            }
        }
        self.ahead.sort_by_key(|m| (m.at, m.act));
    }

    /// Lines as they are shown, each act before the first line that was written after it.
    fn shown(&mut self, engine: &Engine, lines: Vec<LogLine>) -> Vec<FollowedLine> {
        let mut all = Vec::new();
        for line in lines {
            let passed = self.ahead.iter().take_while(|m| m.mark.position <= line.at).count();
            for mark in self.ahead.drain(..passed) {
                let act = Some(FollowedAct { run: mark.run, step: mark.step, at: mark.at });
                all.push(FollowedLine { address: mark.address, source: mark.source, text: mark.says, unreadable: false, act });
            }
            let text = engine.mask(&line.text);
            all.push(FollowedLine { address: self.address.clone(), source: line.source, text, unreadable: false, act: None });
        }
        all
    }
}

/// Lines of several logs in the order of their times, as far as they begin with one (RFC 3339); a line without one
/// stays behind the line before it.
fn by_time(lines: &mut [FollowedLine]) {
    let mut last: BTreeMap<String, i64> = BTreeMap::new();
    let mut keyed: Vec<(i64, usize)> = Vec::with_capacity(lines.len());
    for (i, line) in lines.iter().enumerate() {
        let stamp = match &line.act {
            Some(act) => Some(act.at.as_ms()),
            None => line.text.split(' ').next().and_then(|s| chrono::DateTime::parse_from_rfc3339(s).ok()).map(|t| t.timestamp_millis()),
        };
        let before = last.get(&line.source).copied().unwrap_or(i64::MIN);
        // A log never goes back in itself.
        let at = stamp.unwrap_or(before).max(before);
        last.insert(line.source.clone(), at);
        keyed.push((at, i));
    }
    keyed.sort();
    let sorted: Vec<FollowedLine> = keyed.into_iter().map(|(_, i)| lines[i].clone()).collect();
    lines.clone_from_slice(&sorted);
}
