//! Hosts and services that are played: with stated times, spreads and chances, for rehearsing, teaching and scale. What
//! chance decides follows from the estate's seed, the address and how often it was asked for: the same again each time.
//!
//! What is played is kept in memory: a server that begins anew finds everything as the estate says it begins.

use std::{
    collections::{BTreeMap, HashMap, hash_map::DefaultHasher},
    hash::{Hash, Hasher},
    sync::{Arc, Mutex, MutexGuard, PoisonError},
    time::{Duration, Instant},
};

use rand::{RngExt, SeedableRng, rngs::StdRng};
use rand_distr::{Distribution, LogNormal};
use tokio::sync::Notify;
use yantro_core::{
    model::{Host, Service, ServiceRunner, Simulated},
    proof::{Answer, Verdict},
    run::{ActBegun, ActEnd, ActKind},
    words::{
        Reach,
        kinds::StepKind,
        name::{Address, HostName},
    },
};

use crate::{
    acts::recorder::{ActNews, ActRecord, Recorded},
    here::ActSpec,
    looks::climb::{Climb, Report},
    looks::look::RawLook,
    looks::procs::{ProcessId, boot_id},
};

/// A climb looks at least so often.
const AGAIN: Duration = Duration::from_millis(500);
/// What takes no stated time takes this.
const AT_ONCE: Duration = Duration::from_millis(50);

/// Where something that is played stands.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Stands {
    Up,
    Down,
    /// On its way up: since when, until when.
    Rises(Instant, Instant),
    /// On its way down, until then.
    Sinks(Instant),
    /// A host between two boots: when it is down, and when up again.
    Reboots(Instant, Instant),
}

struct Played {
    stands: Stands,
    /// Acts so far, from which chance is drawn.
    acts: u64,
    /// Boots so far, of a host.
    boots: u64,
}

#[derive(Default)]
struct Stage {
    hosts: BTreeMap<HostName, Simulated>,
    played: HashMap<Address, Played>,
    acts: HashMap<String, (ActBegun, Option<ActEnd>)>,
}

/// All that is played.
#[derive(Default)]
pub(crate) struct Sim {
    stage: Arc<Mutex<Stage>>,
    moved: Arc<Notify>,
}

/// What an act comes to, and after how long.
struct Outcome {
    stands: Stands,
    ends_after: Duration,
    end: ActEnd,
}

fn well() -> ActEnd {
    ActEnd::Exited { code: 0, output: String::new() }
}

impl Stage {
    fn spec(&self, service: &Service) -> Option<Simulated> {
        match &service.runner {
            ServiceRunner::Simulated(s) => Some(s.clone()),
            _ => self.hosts.get(&service.address.host).cloned(),
        }
    }

    fn played(&mut self, service: &Service, spec: &Simulated) -> &mut Played {
        let stands = if spec.begins_down { Stands::Down } else { Stands::Up };
        self.played.entry(service.address.clone()).or_insert(Played { stands, acts: 0, boots: 1 })
    }

    /// Where it stands now: what was on its way may have arrived.
    fn stands(&mut self, service: &Service, spec: &Simulated) -> Stands {
        let now = Instant::now();
        let played = self.played(service, spec);
        played.stands = match played.stands {
            Stands::Rises(_, until) if until <= now => Stands::Up,
            Stands::Sinks(until) if until <= now => Stands::Down,
            Stands::Reboots(_, until) if until <= now => {
                played.boots += 1;
                Stands::Up
            }
            other => other,
        };
        played.stands
    }

    fn host_is_off(&mut self, host: &HostName) -> bool {
        match self.played.get(&Address::of_host(host)).map(|p| p.stands) {
            Some(Stands::Down | Stands::Reboots(..)) => true,
            Some(Stands::Rises(_, until)) => until > Instant::now(),
            Some(Stands::Sinks(until)) => until <= Instant::now(),
            Some(Stands::Up) | None => false,
        }
    }

    fn outcome(&mut self, service: &Service, spec: &Simulated, kind: ActKind, is_reboot: bool) -> Outcome {
        let now = Instant::now();
        let played = self.played(service, spec);
        played.acts += 1;
        let mut seed = DefaultHasher::new();
        (spec.seed, service.address.to_string(), played.acts).hash(&mut seed);
        let mut chance = StdRng::seed_from_u64(seed.finish());
        let mut takes = |usual: Duration| match LogNormal::new(0.0, f64::from(spec.spread) / 1000.0) {
            Ok(spread) => usual.mul_f64(spread.sample(&mut chance).clamp(0.05, 20.0)),
            Err(_) => usual,
        };
        let (up, down) = (takes(spec.starts.0), takes(spec.stops.0));
        let (fails, clings) = (chance.random_range(0..1000) < spec.fails, chance.random_range(0..1000) < spec.clings);
        match kind {
            ActKind::Start if fails => {
                let output = "simulated: it came to nothing, as chance had it".to_owned();
                Outcome { stands: Stands::Sinks(now + up), ends_after: up, end: ActEnd::Exited { code: 1, output } }
            }
            ActKind::Start => Outcome { stands: Stands::Rises(now, now + up), ends_after: AT_ONCE.min(up), end: well() },
            ActKind::Stop | ActKind::Clear if clings => Outcome { stands: played.stands, ends_after: AT_ONCE, end: well() },
            ActKind::Stop if is_reboot => {
                Outcome { stands: Stands::Reboots(now + down, now + down + up), ends_after: AT_ONCE, end: well() }
            }
            ActKind::Stop | ActKind::Clear => Outcome { stands: Stands::Sinks(now + down), ends_after: AT_ONCE.min(down), end: well() },
            ActKind::Force => Outcome { stands: Stands::Down, ends_after: Duration::ZERO, end: well() },
            ActKind::Reload | ActKind::Further | ActKind::Work | ActKind::Evidence(_) | ActKind::Announce => {
                Outcome { stands: played.stands, ends_after: AT_ONCE, end: well() }
            }
        }
    }
}

impl Sim {
    fn stage(&self) -> MutexGuard<'_, Stage> {
        self.stage.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(crate) fn know(&self, hosts: &BTreeMap<HostName, Host>) {
        let played = hosts.iter().filter(|(_, h)| h.reach == Reach::Simulated);
        self.stage().hosts = played.filter_map(|(n, h)| Some((n.clone(), h.simulated.clone()?))).collect();
    }

    pub(crate) fn plays(&self, host: &HostName) -> bool {
        self.stage().hosts.contains_key(host)
    }

    pub(crate) fn look(&self, service: &Service) -> RawLook {
        let total = service.ladder.len();
        let look = |runs, rungs| RawLook { runs, main: None, manager: None, rungs, total };
        let mut stage = self.stage();
        let Some(spec) = stage.spec(service) else { return look(None, vec![Answer::could_not("it is not simulated")]) };
        if !service.runner.is_power() && stage.host_is_off(&service.address.host) {
            stage.played(service, &spec).stands = Stands::Down;
            return look(Some(false), vec![Answer::against("its host is off")]);
        }
        match stage.stands(service, &spec) {
            Stands::Up => look(Some(true), vec![Answer::holds("simulated: up"); total]),
            Stands::Down => look(Some(false), Vec::new()),
            Stands::Rises(..) => look(Some(true), vec![Answer::not_yet("simulated: on its way up")]),
            Stands::Sinks(_) => look(Some(true), vec![Answer::not_yet("simulated: on its way down")]),
            Stands::Reboots(..) => look(Some(false), vec![Answer::against("simulated: between two boots")]),
        }
    }

    pub(crate) fn recorded(&self, identity: &str) -> Recorded {
        match self.stage().acts.get(identity) {
            None => Recorded::Nothing,
            Some((begun, None)) => Recorded::Begun(record(begun)),
            Some((begun, Some(end))) => Recorded::Ended(Some(record(begun)), end.clone()),
        }
    }

    pub(crate) async fn follow(&self, identity: &str, tell: impl Fn(ActNews)) {
        loop {
            if let Recorded::Ended(_, end) = self.recorded(identity) {
                return tell(ActNews::Ended(end));
            }
            let _ = tokio::time::timeout(AGAIN, self.moved.notified()).await;
        }
    }

    pub(crate) async fn act(&self, spec: ActSpec<'_>, tell: impl Fn(ActNews) + Send + Sync + 'static) -> Result<(), ActEnd> {
        let service = spec.service;
        let words = match &service.runner {
            ServiceRunner::Commands(c) => c.start.clone(),
            _ => vec![format!("simulated: {}", spec.kind.word()), service.address.to_string()],
        };
        let (begun, outcome) = {
            let mut stage = self.stage();
            if stage.acts.contains_key(spec.identity) {
                tell(ActNews::BegunBefore);
                return Ok(());
            }
            let Some(behaves) = stage.spec(service) else {
                let why = format!("{} is not simulated", service.address);
                return Err(ActEnd::Refused { why, mend: "check its host in the estate".to_owned() });
            };
            if !service.runner.is_power() && stage.host_is_off(&service.address.host) {
                let why = format!("{} is off", service.address.host);
                return Err(ActEnd::Refused { why, mend: "power it on first".to_owned() });
            }
            let is_reboot = matches!(&service.runner, ServiceRunner::Host(h) if h.reboots);
            let boots = stage.played(service, &behaves).boots;
            let outcome = stage.outcome(service, &behaves, spec.kind, is_reboot);
            let begun = ActBegun {
                env: BTreeMap::new(),
                to_the_letter: Default::default(),
                command: words,
                dir: "/".to_owned(),
                user: "simulated".to_owned(),
                pid: None,
                started: None,
                marks: BTreeMap::new(),
                boot: matches!(service.runner, ServiceRunner::Host(_)).then(|| format!("simulated-{boots}")),
            };
            stage.played(service, &behaves).stands = outcome.stands;
            stage.acts.insert(spec.identity.to_owned(), (begun.clone(), None));
            (begun, outcome)
        };
        tell(ActNews::Begun(Box::new(begun.clone()), Box::new(record(&begun))));
        self.moved.notify_waiters();
        let (stage, moved, identity) = (Arc::clone(&self.stage), Arc::clone(&self.moved), spec.identity.to_owned());
        tokio::time::sleep(outcome.ends_after).await;
        if let Some(act) = stage.lock().unwrap_or_else(PoisonError::into_inner).acts.get_mut(&identity) {
            act.1 = Some(outcome.end.clone());
        }
        moved.notify_waiters();
        tell(ActNews::Ended(outcome.end));
        Ok(())
    }

    pub(crate) async fn climb(&self, climb: Climb, mut report: impl FnMut(Report)) {
        let service = &climb.service;
        let total = service.ladder_of(climb.kind).len();
        let before = climb.old.as_ref().map(|o| o.boot.clone());
        let (mut at, mut last) = (climb.from, None);
        loop {
            let moved = self.moved.notified();
            let (stands, boots) = {
                let mut stage = self.stage();
                let Some(spec) = stage.spec(service) else { return };
                let stands = match service.runner {
                    // What stands for work and waits has a ladder of looks that are not played: they hold.
                    ServiceRunner::Commands(_) => Stands::Up,
                    _ => stage.stands(service, &spec),
                };
                (stands, stage.played(service, &spec).boots)
            };
            let now = Instant::now();
            let boot = format!("simulated-{boots}");
            // How many rungs hold, and when to look again.
            let (holds, says, again) = match (climb.kind, stands) {
                (StepKind::Stop, Stands::Down) => (total, "simulated: down".to_owned(), AGAIN),
                (StepKind::Stop, Stands::Reboots(down, _)) if down <= now => (total, "simulated: between two boots".to_owned(), AGAIN),
                (StepKind::Stop, Stands::Reboots(down, _)) => (0, "simulated: on its way down".to_owned(), down - now),
                (StepKind::Stop, Stands::Up) if before.as_ref().is_some_and(|b| *b != boot) => {
                    (total, format!("simulated: its boot is over, now it is in {boot}"), AGAIN)
                }
                (StepKind::Stop, Stands::Sinks(until)) => (0, "simulated: on its way down".to_owned(), until - now),
                (StepKind::Stop, _) => (0, "simulated: it is up".to_owned(), AGAIN),
                (_, Stands::Up) => (total, "simulated: up".to_owned(), AGAIN),
                (_, Stands::Rises(since, until)) => {
                    let part = (now - since).as_secs_f64() / (until - since).as_secs_f64().max(f64::EPSILON);
                    let (done, of) = ((part * total as f64) as usize, total.max(1) as u32);
                    let next = since + (until - since) * (done as u32 + 1) / of;
                    (done, "simulated: on its way up".to_owned(), next.saturating_duration_since(now))
                }
                (_, Stands::Reboots(_, until)) => (0, "simulated: between two boots".to_owned(), until - now),
                (_, Stands::Down | Stands::Sinks(_)) => (0, "simulated: down".to_owned(), AGAIN),
            };
            while at < total && at < holds {
                report(Report { rung: at as u32, answer: Answer::holds(says.clone()), logs: Vec::new() });
                at += 1;
                last = None;
            }
            if at > holds {
                at = holds;
                last = None;
            }
            if at < total {
                let answer = Answer::not_yet(says);
                if last.as_ref() != Some(&(at, answer.clone())) {
                    debug_assert!(answer.verdict == Verdict::NotYet);
                    report(Report { rung: at as u32, answer: answer.clone(), logs: Vec::new() });
                    last = Some((at, answer));
                }
            }
            let _ = tokio::time::timeout(again.clamp(Duration::from_millis(1), AGAIN), moved).await;
        }
    }
}

/// A record in the place of one that a recorder would write: no process is behind it.
fn record(begun: &ActBegun) -> ActRecord {
    let nobody = ProcessId { boot: boot_id().to_owned(), pid: 0, started: 0 };
    ActRecord { process: None, recorder: nobody, group: None, begun: Some(begun.clone()) }
}
