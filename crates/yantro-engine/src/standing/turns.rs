//! Whose turn it is to be looked at: each that is asked at its own pace, whatever becomes of the others.

use std::{
    collections::{BTreeMap, BTreeSet},
    time::{Duration, Instant},
};

use yantro_core::words::{name::HostName, time::Timestamp};

/// How often everything is looked at again.
pub(crate) const ROUND: Duration = Duration::from_secs(2);

/// Between looks at one there is at least so many times what the last took, and at most [`LONGEST_PAUSE`].
const PAUSE_TIMES: u32 = 4;

const LONGEST_PAUSE: Duration = Duration::from_secs(10);

/// After so long without an answer another machine is late: how old all others are is not told by it.
const LATE_AFTER: Duration = Duration::from_secs(1);

/// Who is asked how services stand.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum Asked {
    /// This machine, and what is only played on it.
    Here,
    /// A host that is reached over a connection.
    Host(HostName),
    /// What gives a host power.
    Power(HostName),
}

/// How far each is whom services are asked of.
#[derive(Debug, Default)]
pub(crate) struct Turns(BTreeMap<Asked, Turn>);

#[derive(Debug, Default)]
struct Turn {
    /// When the look that is under way was begun.
    under_way: Option<(Instant, Timestamp)>,
    /// When it may be looked at again; at once, where it never was.
    next: Option<Instant>,
    /// Since when all its services were looked at once more.
    looked_at: Option<Timestamp>,
    /// How many services it has.
    services: usize,
}

impl Turns {
    /// Keeps the turns of those whom an estate asks, with how many services each has. A look that is under way at somebody else is
    /// waited for no longer.
    pub fn keep(&mut self, asked: &BTreeMap<Asked, usize>) {
        self.0.retain(|of, _| asked.contains_key(of));
        for (of, services) in asked {
            self.0.entry(of.clone()).or_default().services = *services;
        }
    }

    /// Whose turn it is.
    pub fn due(&self, now: Instant) -> BTreeSet<Asked> {
        let is_due = |turn: &Turn| turn.under_way.is_none() && turn.next.is_none_or(|next| next <= now);
        self.0.iter().filter(|(_, turn)| is_due(turn)).map(|(of, _)| of.clone()).collect()
    }

    /// When the next turn comes; nothing while all are under way.
    pub fn next(&self, now: Instant) -> Option<Instant> {
        self.0.values().filter(|t| t.under_way.is_none()).map(|t| t.next.unwrap_or(now)).min()
    }

    /// A look was begun.
    pub fn begun(&mut self, of: &Asked, now: Instant, at: Timestamp) {
        if let Some(turn) = self.0.get_mut(of) {
            turn.under_way = Some((now, at));
        }
    }

    /// Nothing of it was due: it comes again with the next round.
    pub fn spared(&mut self, of: &Asked, now: Instant) {
        if let Some(turn) = self.0.get_mut(of) {
            turn.next = Some(now + ROUND);
        }
    }

    /// A look has ended. Looking has a budget: what takes long is looked at less often, up to a limit.
    pub fn ended(&mut self, of: &Asked, now: Instant) {
        let Some(turn) = self.0.get_mut(of) else { return };
        let Some((began, at)) = turn.under_way.take() else { return };
        let took = now.duration_since(began);
        turn.next = Some(now + ROUND.max((took * PAUSE_TIMES).min(LONGEST_PAUSE)));
        turn.looked_at = Some(at);
    }

    /// It is everybody's turn.
    pub fn all_at_once(&mut self) {
        self.0.values_mut().for_each(|turn| turn.next = None);
    }

    /// Since when what most services are asked of was looked at once more, but for those that are late; nothing before the first
    /// look has ended.
    pub fn looked_at(&self, now: Instant) -> Option<Timestamp> {
        let is_late = |(of, turn): &(&Asked, &Turn)| {
            // Looks here are bounded themselves, and none of them waits for another machine.
            **of != Asked::Here && turn.under_way.is_some_and(|(began, _)| now.duration_since(began) > LATE_AFTER)
        };
        let (late, timely): (Vec<_>, Vec<_>) = self.0.iter().filter(|(_, t)| t.looked_at.is_some()).partition(is_late);
        let most = |turns: Vec<(&Asked, &Turn)>| turns.into_iter().max_by_key(|(_, t)| t.services).and_then(|(_, t)| t.looked_at);
        most(timely).or_else(|| most(late))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn host(name: &str) -> Asked {
        Asked::Host(name.parse().unwrap())
    }

    /// Plays looks of so long each until a time; when each was begun.
    fn played(takes: &[(Asked, Duration)], until: Duration) -> BTreeMap<Asked, Vec<Duration>> {
        let (began, step) = (Instant::now(), Duration::from_millis(50));
        let mut turns = Turns::default();
        turns.keep(&takes.iter().map(|(of, _)| (of.clone(), 1)).collect());
        let mut ends: BTreeMap<Asked, Duration> = BTreeMap::new();
        let mut begun: BTreeMap<Asked, Vec<Duration>> = BTreeMap::new();
        let mut passed = Duration::ZERO;
        while passed < until {
            let now = began + passed;
            for of in ends.iter().filter(|(_, end)| **end <= passed).map(|(of, _)| of.clone()).collect::<Vec<_>>() {
                ends.remove(&of);
                turns.ended(&of, now);
            }
            for of in turns.due(now) {
                let took = takes.iter().find(|(o, _)| *o == of).unwrap().1;
                turns.begun(&of, now, Timestamp::from_ms(i64::try_from(passed.as_millis()).unwrap()));
                ends.insert(of.clone(), passed + took);
                begun.entry(of).or_default().push(passed);
            }
            passed += step;
        }
        begun
    }

    #[test]
    fn one_that_does_not_answer_takes_nothing_from_the_pace_of_the_others() {
        let (quick, until) = (Duration::from_millis(100), Duration::from_secs(60));
        for slow in [Duration::from_millis(900), Duration::from_secs(3), Duration::from_secs(600)] {
            let alone = played(&[(host("pier"), quick), (Asked::Here, quick)], until);
            let beside = played(&[(host("pier"), quick), (Asked::Here, quick), (host("quay"), slow)], until);
            assert_eq!(beside[&host("pier")], alone[&host("pier")], "beside a look of {slow:?}");
            assert_eq!(beside[&Asked::Here], alone[&Asked::Here], "beside a look of {slow:?}");
        }
    }

    #[test]
    fn looks_that_take_long_are_taken_less_often_up_to_a_limit() {
        let begun = |took: Duration| played(&[(Asked::Here, took)], Duration::from_secs(120))[&Asked::Here].clone();
        let periods = |took: Duration| begun(took).windows(2).map(|w| w[1] - w[0]).collect::<Vec<_>>();
        assert!(periods(Duration::from_millis(100)).iter().all(|p| *p == ROUND + Duration::from_millis(100)));
        assert!(periods(Duration::from_secs(1)).iter().all(|p| *p == Duration::from_secs(5)));
        assert!(periods(Duration::from_secs(8)).iter().all(|p| *p == Duration::from_secs(18)));
    }

    #[test]
    fn how_old_all_is_is_told_by_what_most_are_asked_of_unless_it_is_late() {
        let (now, at) = (Instant::now(), Timestamp::from_ms);
        let mut turns = Turns::default();
        turns.keep(&[(Asked::Here, 2), (host("pier"), 90), (host("quay"), 30)].into());
        assert_eq!(turns.looked_at(now), None);
        for (of, ms) in [(Asked::Here, 10), (host("pier"), 20), (host("quay"), 30)] {
            turns.begun(&of, now, at(ms));
            turns.ended(&of, now + Duration::from_millis(100));
        }
        assert_eq!(turns.looked_at(now), Some(at(20)));
        turns.begun(&host("pier"), now, at(2_000));
        assert_eq!(turns.looked_at(now + LATE_AFTER), Some(at(20)), "not late yet");
        let later = now + LATE_AFTER + Duration::from_millis(1);
        assert_eq!(turns.looked_at(later), Some(at(30)));
        // All are late, or here: what is known is still told.
        turns.begun(&host("quay"), now, at(2_000));
        assert_eq!(turns.looked_at(later), Some(at(10)));
        turns.keep(&[(host("pier"), 90)].into());
        assert_eq!(turns.looked_at(later), Some(at(20)));
    }

    #[test]
    fn all_are_looked_at_at_once_when_somebody_asks_and_none_twice_at_a_time() {
        let now = Instant::now();
        let mut turns = Turns::default();
        turns.keep(&[(Asked::Here, 1), (host("pier"), 1)].into());
        for of in [Asked::Here, host("pier")] {
            turns.begun(&of, now, Timestamp::from_ms(0));
        }
        assert_eq!(turns.next(now), None);
        turns.ended(&Asked::Here, now);
        assert_eq!(turns.next(now), Some(now + ROUND));
        assert!(turns.due(now).is_empty());
        turns.all_at_once();
        assert_eq!(turns.due(now), [Asked::Here].into());
        assert_eq!(turns.next(now), Some(now));
        turns.spared(&Asked::Here, now);
        assert!(turns.due(now).is_empty());
        assert_eq!(turns.due(now + ROUND), [Asked::Here].into());
    }
}
