//! The logs of several services, shown and followed together, with the acts between their lines.

use std::{
    collections::{BTreeMap, BTreeSet},
    time::Duration,
};

use actix_web::{HttpResponse, web};
use bytes::Bytes;
use futures::stream;
use serde::Deserialize;
use yantro_core::{
    run::RunId,
    selection,
    words::{name::Address, time::Timestamp},
};
use yantro_engine::{ActMark, Engine, EngineError};
use yantro_reach::{LogLine, ReadLog};

use crate::{
    blocking::blocking,
    problem::Problem,
    stamps::stamp,
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
    follow: ReadLog,
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
            let opened = engine.open_log(&address.host, &path, from.map(|m| m.mark.clone()), lines).await;
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
                    first.push(FollowedLine { address: address.clone(), source: path, text, when: None, unreadable: true, act: None });
                }
            }
        }
    }
    if run.is_some() {
        while first.len() < FROM_AN_ACT {
            let more = reading.poll().await;
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
            let mut more = reading.poll().await;
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
    async fn poll(&mut self) -> Vec<FollowedLine> {
        let of: BTreeSet<Address> = self.logs.iter().map(|l| l.address.clone()).collect();
        let mut marks = self.engine.new_act_marks(&of, &mut self.known);
        marks.retain(|m| self.run.is_none_or(|run| m.run == run));
        let mut all = Vec::new();
        for one in &mut self.logs {
            one.learn(&marks, 0);
            let lines = one.follow.poll().await.unwrap_or_default();
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
                all.push(FollowedLine { address: mark.address, source: mark.source, text: mark.says, when: None, unreadable: false, act });
            }
            let text = engine.mask(&line.text);
            all.push(FollowedLine {
                address: self.address.clone(),
                source: line.source,
                text,
                when: line.when,
                unreadable: false,
                act: None,
            });
        }
        all
    }
}

/// Lines of several logs in the order of their times, as far as they have one; a line without one stays behind the line
/// before it.
fn by_time(lines: &mut [FollowedLine]) {
    let now = chrono::Local::now();
    let mut last: BTreeMap<String, i64> = BTreeMap::new();
    let mut keyed: Vec<(i64, usize)> = Vec::with_capacity(lines.len());
    for (i, line) in lines.iter().enumerate() {
        let stamp = match &line.act {
            Some(act) => Some(act.at.as_ms()),
            None => line.when.map(Timestamp::as_ms).or_else(|| stamp(&line.text, now)),
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

#[cfg(test)]
mod tests {
    use rstest::rstest;
    use yantro_core::{plan::StepId, run::LogMark};

    use super::*;

    fn line(source: &str, text: &str) -> FollowedLine {
        FollowedLine {
            address: "quay/db".parse().unwrap(),
            source: source.into(),
            text: text.into(),
            when: None,
            unreadable: false,
            act: None,
        }
    }

    #[rstest]
    #[case::two_logs(
        &[("a", "2026-11-23T02:40:01Z one"), ("a", "2026-11-23T02:40:03Z three"), ("b", "2026-11-23T02:40:02Z two")],
        &["2026-11-23T02:40:01Z one", "2026-11-23T02:40:02Z two", "2026-11-23T02:40:03Z three"]
    )]
    #[case::a_line_without_a_time_stays_behind_its_own(
        &[("a", "2026-11-23T02:40:01Z one"), ("a", "  at line 7"), ("b", "2026-11-23T02:40:00Z zero")],
        &["2026-11-23T02:40:00Z zero", "2026-11-23T02:40:01Z one", "  at line 7"]
    )]
    #[case::a_clock_that_went_back_does_not_turn_a_log_round(
        &[("a", "2026-11-23T02:40:05Z five"), ("a", "2026-11-23T02:40:01Z one"), ("b", "2026-11-23T02:40:02Z two")],
        &["2026-11-23T02:40:02Z two", "2026-11-23T02:40:05Z five", "2026-11-23T02:40:01Z one"]
    )]
    #[case::other_zones(
        &[("a", "2026-11-23T03:40:02+01:00 two"), ("b", "2026-11-23T02:40:01Z one")],
        &["2026-11-23T02:40:01Z one", "2026-11-23T03:40:02+01:00 two"]
    )]
    #[case::other_ways_to_write_it(
        &[("a", "x [23/Nov/2026:02:40:02 +0000] two"), ("b", "2026-11-23T02:40:01Z one")],
        &["2026-11-23T02:40:01Z one", "x [23/Nov/2026:02:40:02 +0000] two"]
    )]
    #[case::no_times_at_all(&[("a", "x"), ("b", "y"), ("a", "z")], &["x", "y", "z"])]
    fn lines_come_in_the_order_of_their_times(#[case] lines: &[(&str, &str)], #[case] wanted: &[&str]) {
        let mut lines: Vec<FollowedLine> = lines.iter().map(|(s, t)| line(s, t)).collect();
        by_time(&mut lines);
        assert_eq!(lines.iter().map(|l| l.text.as_str()).collect::<Vec<_>>(), wanted);
    }

    fn mark(act: u32, position: u64) -> ActMark {
        ActMark {
            run: RunId(7),
            step: StepId(act),
            act,
            address: "quay/db".parse().unwrap(),
            source: "db.log".into(),
            says: format!("act {act}"),
            at: Timestamp::from_ms(i64::from(act)),
            mark: LogMark { position, ..LogMark::default() },
        }
    }

    #[rstest]
    #[case::before_what_came_after_it(&[mark(1, 0), mark(2, 20)], 0, &[1, 2])]
    #[case::what_lies_before_the_first_line_is_left_out(&[mark(1, 0), mark(2, 20)], 10, &[2])]
    #[case::each_once(&[mark(1, 5), mark(1, 5)], 0, &[1])]
    #[tokio::test]
    async fn acts_are_learnt_once_and_in_order(#[case] marks: &[ActMark], #[case] from: u64, #[case] wanted: &[u32]) {
        let dir = tempfile::tempdir().unwrap();
        let (follow, _) = ReadLog::here(&dir.path().join("none").display().to_string(), 0).await.unwrap();
        let mut one = One { address: "quay/db".parse().unwrap(), follow, path: "db.log".into(), ahead: Vec::new(), known: BTreeSet::new() };
        one.learn(marks, from);
        one.learn(marks, from);
        assert_eq!(one.ahead.iter().map(|m| m.act).collect::<Vec<_>>(), wanted);
        one.learn(&[ActMark { source: "other.log".into(), ..mark(9, 0) }], 0);
        assert_eq!(one.ahead.len(), wanted.len(), "another log's acts are none of its own");
    }
}
