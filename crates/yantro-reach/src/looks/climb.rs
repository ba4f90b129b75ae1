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
    model::{RungKind, Service, ServiceRunner},
    proof::{Answer, Verdict, logs::LogMatcher},
    run::{LogEvidence, LogMark},
    words::{kinds::StepKind, time::Timestamp},
};

use crate::{
    acts::recorder::ActRecord,
    here::Here,
    looks::files::Interest,
    looks::hung::{self, Lent},
    looks::journal::is_journal,
    looks::logs::LogWatch,
    looks::procs::ProcessId,
    looks::tree::{self, Tree},
    looks::units::UnitSeen,
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
    /// When it was last told something.
    woken: Option<Instant>,
}

impl Waker {
    /// Wakes for these files, and for the ends of these processes.
    async fn new(here: &Here, files: Vec<PathBuf>, processes: Vec<ProcessId>) -> Self {
        let ends = processes
            .into_iter()
            .map(|p| -> Pin<Box<dyn Future<Output = ()> + Send>> { Box::pin(async move { p.ended().await }) })
            .collect();
        Self { files: here.files.interest(files).await, ends, told: Arc::default(), woken: None }
    }

    /// Waits at most so long, and says whether something was told. What is told without a pause is heard now and then: a log may
    /// be written so.
    async fn wait(&mut self, at_most: Duration) -> bool {
        let told = self.told_within(at_most).await;
        if told {
            if let Some(since) = self.woken.map(|at| at.elapsed()).filter(|since| *since < QUICK) {
                tokio::time::sleep(QUICK - since).await;
            }
            self.woken = Some(Instant::now());
        }
        told
    }

    async fn told_within(&mut self, at_most: Duration) -> bool {
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
            RungKind::Log | RungKind::File { .. } if self.files.was_complete() => TOLD,
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
            | RungKind::Rights { .. }
            | RungKind::Signals { .. }
            | RungKind::Unit { .. }
            | RungKind::Outlives
            | RungKind::Records { .. }
            | RungKind::Program { .. } => (waited / 50).clamp(QUICK, WIDEST),
        }
    }
}

/// Whether a look at it asks something of somebody: the service itself may write a line for each, and so wake us for the next.
fn is_asked(kind: &RungKind) -> bool {
    matches!(
        kind,
        RungKind::Connect { .. }
            | RungKind::Ping { .. }
            | RungKind::Web { .. }
            | RungKind::Command { .. }
            | RungKind::State
            | RungKind::Power
            | RungKind::Reached
            | RungKind::Booted
    )
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
        let logs = match LogMatcher::new(patterns) {
            Ok(matcher) if !patterns.is_empty() => {
                let forbids = !patterns.must_not_see.is_empty();
                let watch = LogWatch::new(matcher, &climb.marks, climb.kind, &patterns.must_see, forbids);
                Some(Lent::new(watch.about(), watch))
            }
            _ => None,
        };
        // Files are opened at once, so that one renamed from now on is still read.
        let mut unread: Option<String> = match &logs {
            Some(watch) => watch.ask(hung::WITHIN, LogWatch::open).await.err(),
            None => None,
        };
        let is_process = matches!(&climb.service.runner, ServiceRunner::Process(p) if !p.program.is_empty());
        let log_rung = rungs.iter().position(|r| r.kind == RungKind::Log);
        let files = rungs.iter().filter_map(|r| if let RungKind::File { path, .. } = &r.kind { Some(PathBuf::from(path)) } else { None });
        let read = logs.iter().flat_map(|_| climb.marks.keys().filter(|k| !is_journal(k)).map(PathBuf::from));
        let processes = climb.known.iter().flat_map(|k| k.process.iter().chain([&k.recorder]).cloned()).chain(climb.old.clone());
        let mut waker = Waker::new(self, files.chain(read).collect(), processes.collect()).await;
        let before = match &climb.service.runner {
            ServiceRunner::Systemd(s) => {
                self.units.wake(&s.unit, &waker.told).await;
                climb.marks.get(&s.journal()).and_then(|m| m.invocation.clone())
            }
            _ => None,
        };
        if let Some(watch) = &logs {
            watch.says(|w| w.wake(&waker.told));
        }
        let evidence = || logs.as_ref().and_then(|w| w.says(|w| w.evidence(&self.secrets()))).unwrap_or_default();
        let (mut told, mut logs_read) = (true, Instant::now());
        let began = Instant::now();
        let mut at = climb.from;
        let mut last: Option<(usize, Answer)> = None;
        // When a rung was last asked that asks somebody, and when all of them were while they stay steady.
        let (mut asked_at, mut steady_at): (Option<(usize, Instant)>, Option<Instant>) = (None, None);
        let (mut kept, mut kept_at): (Vec<LogEvidence>, Instant) = (Vec::new(), Instant::now());
        loop {
            let round = if told { self.round_from_now() } else { self.round() };
            let unit = self.unit_of(&climb.service).await;
            let tree = match (&climb.old, &unit) {
                (Some(old), _) => Tree::of_one(old),
                (None, Some(Ok(seen))) => Tree::of_unit(seen),
                (None, Some(Err(why))) => Tree::unsaid(why.clone()),
                (None, None) => tree::tree(&climb.service, climb.known.as_ref(), &round),
            };
            let ended = is_process && tree.is_empty() == Ok(true);
            if let Some(watch) = &logs
                && (told || ended || logs_read.elapsed() >= LOGS_AGAIN || !waker.files.is_complete().await)
            {
                logs_read = Instant::now();
                let polled = watch.ask(hung::WITHIN, move |watch| {
                    watch.poll();
                    if ended && watch.has_half_line() {
                        watch.end_of_lines();
                    }
                });
                unread = polled.await.err();
            }
            // A forbidden line counts at once, whichever rung is being climbed (R17).
            if let (Some(watch), Some(rung)) = (&logs, log_rung) {
                let against = watch.says(LogWatch::answer).filter(|a| a.verdict == Verdict::Against);
                if let Some(answer) = against {
                    report(Report { rung: rung as u32, answer: self.masked(answer), logs: evidence() });
                    return;
                }
            }
            // A start whose whole process tree is gone will not climb any further. Its log was read after
            // the tree was, so that nothing it wrote is missed.
            if climb.kind == StepKind::Start && ended && climb.known.is_some() {
                report(Report { rung: 0, answer: Answer::against("its process ended"), logs: evidence() });
                return;
            }
            // What the manager holds against a start counts at once, whichever rung is being climbed.
            if climb.kind == StepKind::Start && unit.is_some() {
                let answer = managers(unit.as_ref(), &climb, before.as_deref());
                if answer.verdict == Verdict::Against {
                    report(Report { rung: 0, answer: self.masked(answer), logs: evidence() });
                    return;
                }
            }
            let look = async |i: usize| -> Answer {
                let answer = match (&rungs[i].kind, &logs) {
                    (RungKind::Log, Some(watch)) => match (&unread, watch.says(LogWatch::answer)) {
                        (None, Some(answer)) => answer,
                        (why, _) => Answer::could_not(why.clone().unwrap_or_else(|| "its log is being read still".to_owned())),
                    },
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
                let is_due = steady_at.is_none_or(|at| at.elapsed() >= STEADY);
                if is_due {
                    steady_at = Some(Instant::now());
                }
                for i in (0..rungs.len()).filter(|i| is_due || !is_asked(&rungs[*i].kind)) {
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
            let pace = waker.pace(&rungs[at].kind, began.elapsed());
            if let Some((_, since)) = asked_at.filter(|(i, since)| *i == at && since.elapsed() < pace) {
                told = waker.wait(pace.saturating_sub(since.elapsed())).await;
                continue;
            }
            asked_at = is_asked(&rungs[at].kind).then(|| (at, Instant::now()));
            let answer = look(at).await;
            let changed = last.as_ref() != Some(&(at, answer.clone()));
            let read = if Some(at) == log_rung { evidence() } else { Vec::new() };
            // How far a log was read is told now and then only: it may be written without a pause.
            if changed || (read != kept && kept_at.elapsed() >= COUNTS_AGAIN) {
                kept_at = Instant::now();
                kept.clone_from(&read);
                report(Report { rung: at as u32, answer: answer.clone(), logs: read });
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
            told = waker.wait(pace).await;
        }
    }

    /// Watches the logs of an act for forbidden lines until one is there, or until dropped.
    pub async fn watch_log(&self, service: &Service, kind: StepKind, marks: &BTreeMap<String, LogMark>) -> Option<Report> {
        let patterns = service.patterns(kind);
        let rung = service.ladder_of(kind).iter().position(|r| r.kind == RungKind::Log)?;
        let watch = LogWatch::new(LogMatcher::new(patterns).ok()?, marks, kind, &patterns.must_see, true);
        let watch = Lent::new(watch.about(), watch);
        // One that hangs is tried again: what is forbidden counts whenever it is read.
        let _ = watch.ask(hung::WITHIN, LogWatch::open).await;
        let files = marks.keys().filter(|k| !is_journal(k)).map(PathBuf::from).collect();
        let mut waker = Waker::new(self, files, Vec::new()).await;
        watch.says(|w| w.wake(&waker.told));
        loop {
            let _ = watch.ask(hung::WITHIN, LogWatch::poll).await;
            let against = watch.says(LogWatch::answer).filter(|a| a.verdict == Verdict::Against);
            if let Some(answer) = against {
                let logs = watch.says(|w| w.evidence(&self.secrets())).unwrap_or_default();
                return Some(Report { rung: rung as u32, answer: self.masked(answer), logs });
            }
            let gap = if waker.files.is_complete().await { WIDEST } else { STEADY };
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
        (RungKind::Process, _) => match tree.all() {
            Ok([]) => Answer::holds("no process is left"),
            Ok(pids) => {
                let pids: Vec<String> = pids.iter().map(ToString::to_string).collect();
                Answer::not_yet(format!("still there: process {}", pids.join(", ")))
            }
            Err(why) => Answer::could_not(why),
        },
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
        let there = Tree::of_one(&crate::ProcessId::of(std::process::id()).unwrap().unwrap());
        assert_eq!(looked(Answer::holds("process 1"), &there), Verdict::NotYet);
        assert_eq!(looked(Answer::not_yet("process 1 is not its program yet"), &there), Verdict::NotYet);
        assert_eq!(looked(Answer::not_yet("no process"), &Tree::default()), Verdict::Holds);
    }
}
