//! From looks to states: what a service is seen to be, with memory of what it was.

use std::time::Duration;

use crate::{
    proof::{Answer, LastKnown, LogAgainst, Seen, SeenState, UnitWord, Verdict, unit::times},
    run::FoundProcess,
    words::time::Timestamp,
};

/// A look at a whole service, as taken.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Look {
    /// Whether something of it runs; `None` where that cannot be said.
    pub runs: Option<bool>,
    /// The answers, rung by rung, up to the first that does not hold.
    pub rungs: Vec<Answer>,
    /// How many rungs there are.
    pub total: usize,
    /// Its main process.
    pub process: Option<FoundProcess>,
    /// What the host's service manager says of it.
    pub manager: Option<UnitWord>,
    /// When it was started, where that is known.
    pub started_at: Option<Timestamp>,
}

/// A service being watched.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Watched {
    /// What it is seen to be.
    pub seen: Seen,
    /// Its main process, so that it can be told from any other.
    pub process: Option<FoundProcess>,
    /// Contrary looks in a row.
    contrary: u32,
    /// When the newest look that was taken in had begun: one from before it says nothing any more.
    asked_at: Timestamp,
    /// The newest look could not look (R14); whether something of it is known to run all the same.
    blind: Option<bool>,
    /// Since when this process, or whatever runs of it, is seen to run: it has its patience to come up, whoever started it.
    runs_since: Option<Timestamp>,
    /// When its manager was seen to have started it again by itself, lately.
    started_again: Vec<Timestamp>,
    /// When its manager was last asked how often it had.
    counted_at: Timestamp,
}

/// Started again by its manager so often within so long, it goes on dying, however it stands between two deaths.
const LOOPS: (usize, Duration) = (2, Duration::from_secs(120));

impl Watched {
    /// Never looked at.
    pub fn unknown(rungs: usize, now: Timestamp) -> Self {
        let seen = Seen {
            state: SeenState::Unknown,
            as_of: now,
            since: now,
            rungs_climbed: 0,
            rungs: rungs as u32,
            rung_against: None,
            says: "not looked at yet".to_owned(),
            pid: None,
            manager: None,
            last_known: None,
            log_against: None,
        };
        Self {
            seen,
            process: None,
            contrary: 0,
            asked_at: Timestamp::from_ms(0),
            blind: None,
            runs_since: None,
            started_again: Vec::new(),
            counted_at: Timestamp::from_ms(0),
        }
    }

    /// Whether a look that began then is news; from now on none that began before it is.
    pub fn is_news(&mut self, asked_at: Timestamp) -> bool {
        let is_news = asked_at >= self.asked_at;
        self.asked_at = self.asked_at.max(asked_at);
        is_news
    }

    /// Whether it was looked at since then, by a look that could.
    pub fn was_seen_since(&self, then: Timestamp) -> bool {
        self.blind.is_none() && self.seen.state != SeenState::OutOfReach && self.asked_at >= then
    }

    /// That it could not be looked at: what it is shown as is what it was seen as last.
    fn not_looked_at(&self, why: &str) -> String {
        match self.seen.state {
            SeenState::Unknown => format!("could not look: {why}"),
            state => format!("seen {state} last, and could not be looked at since: {why}"),
        }
    }

    /// Whether it is looked at again by now, where it is looked at so often at rest: what stands otherwise than up and well or
    /// down, or is about to, is looked at in each round.
    pub fn is_due(&self, now: Timestamp, every: Duration) -> bool {
        let is_at_rest = matches!(self.seen.state, SeenState::Proven | SeenState::Down) && self.contrary == 0 && self.blind.is_none();
        !is_at_rest || now.since(self.asked_at) >= every
    }

    /// What the newest look alone shows, for whoever acts on it: what could not be looked at is neither up nor down, though
    /// the board goes on showing what was known, with its age (R14). What is known to run is at least up, and not proven.
    pub fn as_looked_at(&self) -> SeenState {
        match self.blind {
            None => self.seen.state,
            Some(true) => SeenState::Ailing,
            Some(false) => SeenState::Unknown,
        }
    }

    /// Takes in a look. `patience` is how long a start may take, `ailing_after` how many contrary
    /// looks in a row make it ailing (R14).
    pub fn take(&mut self, look: &Look, now: Timestamp, patience: Duration, ailing_after: u32) {
        self.count_restarts(look.manager.as_ref(), now);
        // What the manager said of it does not outlive its host's being off.
        if look.manager.is_some() || look.runs == Some(false) {
            self.seen.manager.clone_from(&look.manager);
        }
        self.blind = None;
        // What it was before its host went out of reach is what it was; another process is another life.
        let was = self.seen.last_known.map_or(self.seen.state, |l| l.state);
        let is_another = look.process.is_some() && self.process.is_some() && look.process != self.process;
        let before = if is_another && look.runs == Some(true) { SeenState::Down } else { was };
        if look.runs == Some(true) && !before.is_up() {
            self.runs_since = Some(now);
            self.contrary = 0;
        }
        let climbed = look.rungs.iter().take_while(|a| a.verdict == Verdict::Holds).count();
        let failing = look.rungs.iter().enumerate().find(|(_, a)| a.verdict != Verdict::Holds);
        let (state, says) = match (look.runs, failing) {
            (None, _) => {
                // Neither for nor against: what was known stays, with its age.
                self.seen.says = self.not_looked_at(failing.map_or("nobody says why", |(_, a)| &a.says));
                self.blind = Some(false);
                return;
            }
            (Some(false), _) => {
                let stranger = look.rungs.iter().find(|a| a.verdict == Verdict::Against);
                (SeenState::Down, stranger.map_or_else(String::new, |a| a.says.clone()))
            }
            (Some(true), None) if look.rungs.len() == look.total && self.started_again.len() >= LOOPS.0 => {
                let n = look.manager.as_ref().map_or(0, |m| m.restarts);
                (SeenState::Ailing, format!("a crash loop: the manager started it again {}, and may at any moment", times(n)))
            }
            (Some(true), None) if look.rungs.len() == look.total => {
                // The highest rung says most; those below it go without saying.
                (SeenState::Proven, look.rungs.last().map(|a| a.says.clone()).unwrap_or_default())
            }
            (Some(true), None) => (before, self.seen.says.clone()),
            (Some(true), Some((_, answer))) if answer.verdict == Verdict::CouldNotLook => {
                self.seen.says = self.not_looked_at(&answer.says);
                self.blind = Some(true);
                return;
            }
            (Some(true), Some((_, answer))) => {
                // Whoever started it: by our own word, or since it was first seen to run.
                let since = look.started_at.max(self.runs_since);
                let within_patience = since.is_some_and(|at| now.since(at) < patience);
                let state = match before {
                    SeenState::Proven if self.contrary + 1 < ailing_after => SeenState::Proven,
                    SeenState::Proven | SeenState::Ailing => SeenState::Ailing,
                    SeenState::Sinking => SeenState::Sinking,
                    _ if within_patience && answer.verdict == Verdict::NotYet => SeenState::Rising,
                    SeenState::Unknown | SeenState::Down | SeenState::Rising | SeenState::OutOfReach => SeenState::Ailing,
                };
                let says = match state {
                    // One contrary look condemns nothing, and is no proof: it says which it is.
                    SeenState::Proven => format!("just now {}; ailing where that is so {ailing_after} times in a row", answer.says),
                    _ => answer.says.clone(),
                };
                (state, says)
            }
        };
        self.contrary = if failing.is_some() && look.runs == Some(true) { self.contrary + 1 } else { 0 };
        let against = failing.filter(|_| state == SeenState::Ailing).map(|(i, _)| i as u32);
        self.set(state, now);
        self.seen.rungs_climbed = if state == SeenState::Down { 0 } else { climbed as u32 };
        self.seen.rungs = look.total as u32;
        self.seen.rung_against = against;
        self.seen.says = says;
        self.seen.pid = look.process.map(|p| p.pid);
        self.process = look.process;
        self.heed_log();
    }

    /// Notes that its manager started it again since the look before, and forgets what is long ago.
    fn count_restarts(&mut self, manager: Option<&UnitWord>, now: Timestamp) {
        self.started_again.retain(|at| now.since(*at) < LOOPS.1);
        let Some(is) = manager else { return };
        // What happened over a long time in which nobody could ask may be long ago.
        let is_lately = now.since(std::mem::replace(&mut self.counted_at, now)) < LOOPS.1;
        let Some(before) = self.seen.manager.as_ref().filter(|_| is_lately) else { return };
        // Each run of it that somebody asks for counts from none.
        let more = is.restarts.saturating_sub(before.restarts) as usize;
        self.started_again.extend(std::iter::repeat_n(now, more.min(LOOPS.0)));
        if is.restarts == 0 {
            self.started_again.clear();
        }
    }

    /// Its host does not answer: neither up nor down, with what it was last and when (R19).
    pub fn out_of_reach(&mut self, why: &str, now: Timestamp) {
        let last = match self.seen.state {
            SeenState::OutOfReach => self.seen.last_known,
            SeenState::Unknown => None,
            state => Some(LastKnown { state, at: self.seen.as_of }),
        };
        self.set(SeenState::OutOfReach, now);
        self.seen.last_known = last;
        self.seen.says = why.to_owned();
    }

    /// Notes a forbidden line in its log, or that it was acknowledged or a new start left it behind.
    pub fn log_against(&mut self, line: Option<LogAgainst>) {
        self.seen.log_against = line;
        self.heed_log();
    }

    /// Whatever its rungs say: a forbidden line keeps it ailing (R17).
    fn heed_log(&mut self) {
        let Some(against) = &self.seen.log_against else { return };
        let says = if against.missing {
            format!("its last start, by run {}, never showed {}", against.run, against.line)
        } else {
            format!("forbidden line in its log, seen by run {}: \"{}\"", against.run, against.line)
        };
        match self.seen.state {
            SeenState::Proven | SeenState::Ailing => {
                self.seen.state = SeenState::Ailing;
                self.seen.says = says;
            }
            // What does not run is no worse for it, and this may well be why.
            SeenState::Down if self.seen.says.is_empty() => self.seen.says = says,
            SeenState::Down | SeenState::Unknown | SeenState::Rising | SeenState::Sinking | SeenState::OutOfReach => {}
        }
    }

    /// Puts it into a state that was shown otherwise: by a climb, or by a stop proven.
    pub fn set(&mut self, state: SeenState, now: Timestamp) {
        self.blind = None;
        if self.seen.state != state {
            self.seen.since = now;
            self.contrary = 0;
            // What was said of the state before says nothing of this one.
            self.seen.says = String::new();
        }
        self.seen.state = state;
        self.seen.as_of = now;
        self.seen.last_known = None;
        match state {
            SeenState::Proven => {
                self.seen.rungs_climbed = self.seen.rungs;
                self.seen.rung_against = None;
            }
            SeenState::Down => {
                self.seen.rungs_climbed = 0;
                self.seen.rung_against = None;
                self.seen.pid = None;
                self.process = None;
                self.seen.says = String::new();
            }
            SeenState::Unknown | SeenState::Rising | SeenState::Ailing | SeenState::Sinking | SeenState::OutOfReach => {}
        }
        self.heed_log();
    }
}
