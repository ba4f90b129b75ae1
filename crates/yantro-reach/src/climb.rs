//! Climbs a ladder: looks at its rungs in order until told to stop, and says what it sees.

use std::{
    collections::BTreeMap,
    path::PathBuf,
    pin::Pin,
    sync::Arc,
    time::{Duration, Instant},
};

use futures::{StreamExt, stream::FuturesUnordered};
use serde::{Deserialize, Serialize};
use tokio::sync::Notify;
use yantro_core::{
    estate::{RungKind, Service, ServiceRunner},
    logs::LogMatcher,
    run::{event::LogEvidence, input::LogMark},
    sequence::StepKind,
    state::{Answer, Verdict},
    time::Timestamp,
};

use crate::{
    files::Interest,
    here::Here,
    journal::is_journal,
    logs::LogWatch,
    look::{self, Tree},
    procs::ProcessId,
    recorder::ActRecord,
    units::UnitSeen,
};

/// Between looks that cost next to nothing and of which no event tells.
const QUICK: Duration = Duration::from_millis(15);
/// Between looks while an event will tell, should one ever be missed.
const TOLD: Duration = Duration::from_millis(250);
/// Between looks while a service has to stay steady.
const STEADY: Duration = Duration::from_millis(250);
/// The widest gap between looks.
const WIDEST: Duration = Duration::from_secs(2);
/// How often at most it is told how far a log was read, while nothing else of it is news.
const COUNTS_AGAIN: Duration = Duration::from_millis(250);
/// Logs are read on at least so often: half a line has to be judged once its writer fell silent.
const LOGS_AGAIN: Duration = Duration::from_millis(250);

/// Waits between looks, and is woken by what the system tells: a file written, a process ended.
struct Waker {
    files: Interest,
    /// Ends of processes, each told once.
    ends: FuturesUnordered<Pin<Box<dyn Future<Output = ()> + Send>>>,
    /// Told by whoever else has news: the service manager, a journal.
    told: Arc<Notify>,
}

impl Waker {
    /// Wakes for these files, and for the ends of these processes.
    fn new(here: &Here, files: impl IntoIterator<Item = PathBuf>, processes: impl IntoIterator<Item = ProcessId>) -> Self {
        let ends = processes
            .into_iter()
            .map(|p| -> Pin<Box<dyn Future<Output = ()> + Send>> { Box::pin(async move { p.ended().await }) })
            .collect();
        Self { files: here.files.interest(files), ends, told: Arc::default() }
    }

    /// Waits at most so long, and says whether something was told.
    async fn wait(&mut self, at_most: Duration) -> bool {
        tokio::select! {
            () = tokio::time::sleep(at_most) => false,
            () = self.files.changed() => true,
            () = self.told.notified() => true,
            Some(()) = self.ends.next() => true,
        }
    }

    /// How long until the next look at a rung.
    fn pace(&mut self, kind: &RungKind, waited: Duration) -> Duration {
        match kind {
            RungKind::Process if !self.ends.is_empty() => TOLD,
            RungKind::Manager => TOLD,
            RungKind::Log | RungKind::File { .. } if self.files.is_complete() => TOLD,
            RungKind::Process
            | RungKind::Port { .. }
            | RungKind::PortFree { .. }
            | RungKind::File { .. }
            | RungKind::Mount { .. }
            | RungKind::Log => QUICK,
            RungKind::Power
            | RungKind::Reached
            | RungKind::Booted
            | RungKind::Connect { .. }
            | RungKind::Ping { .. }
            | RungKind::Web { .. }
            | RungKind::Command { .. }
            | RungKind::State
            | RungKind::Room { .. }
            | RungKind::Account { .. }
            | RungKind::Owner { .. }
            | RungKind::Program { .. } => (waited / 50).clamp(QUICK, WIDEST),
        }
    }
}

/// What is climbed.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Climb {
    /// The service.
    pub service: Arc<Service>,
    /// Whose ladder: for a stop every rung must be gone.
    pub kind: StepKind,
    /// The rung to begin at.
    pub from: usize,
    /// The start whose process is meant, where one is known.
    pub known: Option<ActRecord>,
    /// For the stop of what comes back by itself: the process that must be gone, whatever runs by then.
    pub old: Option<ProcessId>,
    /// Log positions of the act.
    pub marks: BTreeMap<String, LogMark>,
    /// When the act was given.
    pub since: Timestamp,
}

/// What a climb has to say.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Report {
    /// The rung, from 0.
    pub rung: u32,
    /// The answer.
    pub answer: Answer,
    /// The logs' evidence, where it changed.
    pub logs: Vec<LogEvidence>,
}

impl Here {
    /// Climbs until dropped. An answer is reported when it differs from the one before.
    pub async fn climb(&self, climb: Climb, mut report: impl FnMut(Report)) {
        self.learn(&crate::here::references_of(&climb.service));
        let rungs = climb.service.ladder_of(climb.kind);
        let patterns = climb.service.patterns(climb.kind);
        let mut logs = match LogMatcher::new(patterns) {
            Ok(matcher) if !patterns.is_empty() => {
                Some(LogWatch::new(matcher, &climb.marks, climb.kind, &patterns.must_see, !patterns.must_not_see.is_empty()))
            }
            _ => None,
        };
        let is_process = matches!(&climb.service.runner, ServiceRunner::Process(p) if !p.program.is_empty());
        let log_rung = rungs.iter().position(|r| r.kind == RungKind::Log);
        let files = rungs.iter().filter_map(|r| if let RungKind::File { path, .. } = &r.kind { Some(PathBuf::from(path)) } else { None });
        let read = logs.iter().flat_map(|_| climb.marks.keys().filter(|k| !is_journal(k)).map(PathBuf::from));
        let processes = climb.known.iter().flat_map(|k| k.process.iter().chain([&k.recorder]).cloned()).chain(climb.old.clone());
        let mut waker = Waker::new(self, files.chain(read), processes);
        let before = match &climb.service.runner {
            ServiceRunner::Systemd(s) => {
                self.units.wake(&s.unit, &waker.told).await;
                climb.marks.get(&s.journal()).and_then(|m| m.invocation.clone())
            }
            _ => None,
        };
        if let Some(watch) = &mut logs {
            watch.wake(&waker.told);
        }
        let (mut told, mut logs_read) = (true, Instant::now());
        let began = Instant::now();
        let mut at = climb.from;
        let mut last: Option<(usize, Answer)> = None;
        let (mut kept, mut kept_at): (Vec<LogEvidence>, Instant) = (Vec::new(), Instant::now());
        loop {
            let round = if told { self.round_from_now() } else { self.round() };
            let unit = self.unit_of(&climb.service).await;
            let tree = match (&climb.old, &unit) {
                (Some(old), _) => Tree::of_one(old),
                (None, Some(Ok(seen))) => Tree::of_unit(seen),
                (None, Some(Err(why))) => Tree::unsaid(why.clone()),
                (None, None) => look::tree(&climb.service, climb.known.as_ref(), &round),
            };
            let ended = is_process && tree.unsaid.is_none() && tree.is_empty();
            if (told || ended || !waker.files.is_complete() || logs_read.elapsed() >= LOGS_AGAIN)
                && let Some(watch) = logs.take()
            {
                logs_read = Instant::now();
                let polled = tokio::task::spawn_blocking(move || {
                    let mut watch = watch;
                    watch.poll();
                    if ended && watch.has_half_line() {
                        watch.end_of_lines();
                    }
                    watch
                });
                // The blocking pool only fails to answer when the runtime goes down.
                let Ok(watch) = polled.await else { return };
                logs = Some(watch);
            }
            // A forbidden line counts at once, whichever rung is being climbed (R17).
            if let (Some(watch), Some(rung)) = (&logs, log_rung) {
                let answer = watch.answer();
                if answer.verdict == Verdict::Against {
                    report(Report { rung: rung as u32, answer: self.masked(answer), logs: watch.evidence(&self.secrets()) });
                    return;
                }
            }
            // A start whose whole process tree is gone will not climb any further. Its log was read after
            // the tree was, so that nothing it wrote is missed.
            if climb.kind == StepKind::Start && ended && climb.known.is_some() {
                let evidence = logs.as_ref().map(|w| w.evidence(&self.secrets())).unwrap_or_default();
                report(Report { rung: 0, answer: Answer::against("its process ended"), logs: evidence });
                return;
            }
            // What the manager holds against a start counts at once, whichever rung is being climbed.
            if climb.kind == StepKind::Start && unit.is_some() {
                let answer = managers(unit.as_ref(), &climb, before.as_deref());
                if answer.verdict == Verdict::Against {
                    let evidence = logs.as_ref().map(|w| w.evidence(&self.secrets())).unwrap_or_default();
                    report(Report { rung: 0, answer: self.masked(answer), logs: evidence });
                    return;
                }
            }
            let look = async |i: usize| -> Answer {
                let answer = match (&rungs[i].kind, &logs) {
                    (RungKind::Log, Some(watch)) => watch.answer(),
                    (RungKind::Manager, _) => return managers(unit.as_ref(), &climb, before.as_deref()),
                    _ => self.rung(&climb.service, &rungs[i], &tree, Some(climb.since), &round).await,
                };
                let answer = if climb.kind == StepKind::Stop && rungs[i].kind != RungKind::Log {
                    match (&rungs[i].kind, answer.verdict, &climb.old) {
                        (RungKind::Process, Verdict::NotYet, Some(old)) => Answer::holds(format!("process {} is gone", old.pid)),
                        (kind, ..) => gone(kind, answer, &tree),
                    }
                } else {
                    answer
                };
                self.masked(answer)
            };
            // All rungs below are looked at again while it has to stay steady.
            if at >= rungs.len() {
                for i in 0..rungs.len() {
                    let answer = look(i).await;
                    if answer.verdict != Verdict::Holds {
                        report(Report { rung: i as u32, answer, logs: Vec::new() });
                        at = i;
                        last = None;
                        break;
                    }
                }
                if at >= rungs.len() {
                    told = waker.wait(STEADY).await;
                }
                continue;
            }
            let answer = look(at).await;
            let changed = last.as_ref() != Some(&(at, answer.clone()));
            let evidence = match (&logs, Some(at) == log_rung) {
                (Some(watch), true) => watch.evidence(&self.secrets()),
                _ => Vec::new(),
            };
            // How far a log was read is told now and then only: it may be written without a pause.
            if changed || (evidence != kept && kept_at.elapsed() >= COUNTS_AGAIN) {
                kept_at = Instant::now();
                kept.clone_from(&evidence);
                report(Report { rung: at as u32, answer: answer.clone(), logs: evidence });
            }
            match answer.verdict {
                Verdict::Holds => {
                    at += 1;
                    last = None;
                    continue;
                }
                Verdict::Against => return,
                Verdict::NotYet | Verdict::CouldNotLook => last = Some((at, answer)),
            }
            let pace = waker.pace(&rungs[at].kind, began.elapsed());
            told = waker.wait(pace).await;
        }
    }

    /// Watches the logs of an act for forbidden lines until one is there, or until dropped.
    pub async fn watch_log(&self, service: &Service, kind: StepKind, marks: &BTreeMap<String, LogMark>) -> Option<Report> {
        let patterns = service.patterns(kind);
        let rung = service.ladder_of(kind).iter().position(|r| r.kind == RungKind::Log)?;
        let mut watch = LogWatch::new(LogMatcher::new(patterns).ok()?, marks, kind, &patterns.must_see, true);
        let mut waker = Waker::new(self, marks.keys().filter(|k| !is_journal(k)).map(PathBuf::from), None);
        watch.wake(&waker.told);
        loop {
            watch = tokio::task::spawn_blocking(move || {
                watch.poll();
                watch
            })
            .await
            .ok()?;
            let answer = watch.answer();
            if answer.verdict == Verdict::Against {
                return Some(Report { rung: rung as u32, answer: self.masked(answer), logs: watch.evidence(&self.secrets()) });
            }
            let gap = if waker.files.is_complete() { WIDEST } else { STEADY };
            waker.wait(gap).await;
        }
    }

    fn masked(&self, answer: Answer) -> Answer {
        Answer { says: self.mask(&answer.says), ..answer }
    }
}

/// What the manager's word comes to for the act that is climbed for.
fn managers(unit: Option<&Result<UnitSeen, String>>, climb: &Climb, before: Option<&str>) -> Answer {
    match unit {
        Some(Ok(seen)) if climb.kind == StepKind::Stop => seen.word.stopped(),
        Some(Ok(seen)) => seen.word.answer(before.filter(|_| climb.kind == StepKind::Start), climb.kind == StepKind::Start),
        Some(Err(why)) => Answer::could_not(why.clone()),
        None => Answer::could_not("its host's manager does not run it"),
    }
}

/// The same look after a stop: it must find nothing (R15).
fn gone(kind: &RungKind, answer: Answer, tree: &Tree) -> Answer {
    match (kind, answer.verdict) {
        (RungKind::Process, Verdict::CouldNotLook) => answer,
        // One that is not its program yet proves no start, and is there all the same.
        (RungKind::Process, _) if !tree.is_empty() => {
            let pids: Vec<String> = tree.all().iter().map(ToString::to_string).collect();
            Answer::not_yet(format!("still there: process {}", pids.join(", ")))
        }
        (RungKind::Process, _) => Answer::holds("no process is left"),
        (RungKind::Port { port, .. }, Verdict::NotYet) => Answer::holds(format!("port {port} is free")),
        // A port that another holds by now is named, and is no longer the service's.
        (RungKind::Port { .. }, Verdict::Against) => Answer::holds(answer.says),
        (RungKind::Port { .. }, Verdict::Holds) => Answer::not_yet(answer.says),
        (_, Verdict::Holds) => Answer::not_yet(format!("still so: {}", answer.says)),
        (_, Verdict::NotYet | Verdict::Against) => Answer::holds(format!("gone: {}", answer.says)),
        (_, Verdict::CouldNotLook) => answer,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_process_that_could_not_be_looked_for_is_not_gone() {
        let unsaid = Tree::unsaid("its environment cannot be read".into());
        let looked = |answer: Answer, tree: &Tree| gone(&RungKind::Process, answer, tree).verdict;
        assert_eq!(looked(Answer::could_not("its environment cannot be read"), &unsaid), Verdict::CouldNotLook);
        let there = Tree::of_one(&crate::ProcessId::of(std::process::id()).unwrap());
        assert_eq!(looked(Answer::holds("process 1"), &there), Verdict::NotYet);
        assert_eq!(looked(Answer::not_yet("process 1 is not its program yet"), &there), Verdict::NotYet);
        assert_eq!(looked(Answer::not_yet("no process"), &Tree::default()), Verdict::Holds);
    }
}
