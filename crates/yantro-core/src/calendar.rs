//! Hours that come again: change freezes and maintenance windows, as RFC 5545 rules in an IANA time zone.

use std::time::Duration;

use chrono::NaiveDateTime;
use rrule::{RRuleSet, Tz};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::words::{
    FreezeBegin, ImpactLevel,
    time::{Span, Timestamp, local},
};

/// So many occurrences are looked at for one answer: more than two days of minutes have.
const AT_MOST: u16 = 60_000;
/// A rule that counts its occurrences is worked out from its first: it counts no more than these.
const LONGEST_COUNT: u32 = 10_000;
/// Within so long a rule has to come: leap days are eight years apart at most, and a rule may want one that is a Sunday.
const COMES_WITHIN: Duration = Duration::from_secs(60 * 366 * 24 * 3600);
/// Stands in where it is not known when they first come.
pub(crate) const SOUND_FROM: &str = "2026-06-06T06:00";
const DAY: Duration = Duration::from_secs(24 * 3600);

/// Hours that come again.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Hours {
    /// The RFC 5545 recurrence rule, without `RRULE:`; without one they come once.
    pub rule: Option<String>,
    /// When the first begins, by the wall clock of the zone: `2026-06-06T06:00`.
    pub from: String,
    /// The IANA zone.
    pub zone: String,
    /// How long each is. A length is real time: over a clock change the wall clock shows an hour more or less.
    pub length: Span,
}

/// Hours in which disruptive runs are refused.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Freeze {
    /// What people call it.
    pub title: String,
    /// When.
    pub hours: Hours,
    /// From which impact on a run is refused.
    pub impact: ImpactLevel,
    /// Whether a run may be begun all the same.
    pub begin: FreezeBegin,
}

/// Hours for which a run must fit.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Window {
    /// What people call it.
    pub title: String,
    /// When.
    pub hours: Hours,
}

impl Hours {
    /// What is wrong with them, each with the key that says it; none hides another.
    pub fn faults(&self) -> Vec<(&'static str, String)> {
        let mut faults = Vec::new();
        let mut sound = self.clone();
        if self.zone.parse::<chrono_tz::Tz>().is_err() {
            faults.push(("zone", format!("\"{}\" is no IANA time zone", self.zone)));
            sound.zone = "UTC".to_owned();
        }
        if self.first().is_none() {
            faults.push(("from", format!("\"{}\" is no date and time, such as 2026-06-06T06:00", self.from)));
            sound.from = SOUND_FROM.to_owned();
        }
        if self.length.0.is_zero() {
            faults.push(("length", "they have no length".to_owned()));
            sound.length = Span::secs(3600);
        }
        faults.extend(sound.check_rule().err().map(|why| ("rule", why)));
        faults
    }

    fn check_rule(&self) -> Result<(), String> {
        let (Some(rule), Some(from)) = (&self.rule, self.first()) else { return Ok(()) };
        let (freq, several) = (self.part("FREQ"), |key: &str| self.part(key).is_some_and(|v| v.contains(',')));
        if freq.as_deref() == Some("SECONDLY") || several("BYSECOND") {
            return Err(format!("\"{rule}\" comes more often than each minute"));
        }
        if self.part("COUNT").and_then(|c| c.parse::<u32>().ok()).is_some_and(|c| c > LONGEST_COUNT) {
            return Err(format!("\"{rule}\" counts more than {LONGEST_COUNT} of them; say until when instead: UNTIL=20281231T235959Z"));
        }
        self.set(from)?;
        let begins = Timestamp::from_ms(from.and_utc().timestamp_millis());
        let before = Timestamp::from_ms(begins.as_ms() - 2 * DAY.as_millis() as i64);
        match self.next(before, COMES_WITHIN) {
            Some(_) => Ok(()),
            None => Err(format!("\"{rule}\" never comes from {} on", self.from)),
        }
    }

    /// A part of the rule, such as `FREQ`.
    fn part(&self, key: &str) -> Option<String> {
        let parts = self.rule.as_deref()?.split(';');
        let found = parts.filter_map(|p| p.split_once('=')).find(|(k, _)| k.trim().eq_ignore_ascii_case(key));
        found.map(|(_, v)| v.trim().to_ascii_uppercase())
    }

    fn first(&self) -> Option<NaiveDateTime> {
        NaiveDateTime::parse_from_str(&self.from, "%Y-%m-%dT%H:%M").ok()
    }

    /// The rule over wall-clock readings, as if the zone had no clock changes: which instant a reading means is
    /// settled by [`local`], the same for all hours.
    fn set(&self, from: NaiveDateTime) -> Result<RRuleSet, String> {
        let rule = self.rule.as_deref().unwrap_or("FREQ=DAILY;COUNT=1");
        let text = format!("DTSTART:{}Z\nRRULE:{rule}", from.format("%Y%m%dT%H%M%S"));
        text.parse::<RRuleSet>().map_err(|e| format!("\"{rule}\" is no recurrence rule: {e}"))
    }

    /// A first occurrence that the rule comes to as well, and not long before a reading: nobody counts the minutes since 1970. A
    /// rule that counts its occurrences is counted from the first.
    fn first_near(&self, first: NaiveDateTime, reading: NaiveDateTime) -> NaiveDateTime {
        let interval = self.part("INTERVAL").map_or(Some(1), |i| i.parse::<i64>().ok()).filter(|i| (1..=10_000).contains(i));
        let weeks = match (self.part("FREQ").as_deref(), self.part("COUNT"), interval) {
            // As many weeks as it has between: weekday, time of day and the place in the interval stay.
            (Some("WEEKLY" | "DAILY" | "HOURLY" | "MINUTELY"), None, Some(interval)) => interval,
            _ => return first,
        };
        let step = chrono::TimeDelta::weeks(weeks);
        let steps = (reading - first).num_seconds().div_euclid(step.num_seconds());
        // One more back: what began just before still lasts.
        if steps > 1 { first + step * (steps - 1) as i32 } else { first }
    }

    /// Those that begin in a stretch of time, each with its begin and end.
    fn between(&self, from: Timestamp, to: Timestamp) -> Vec<(Timestamp, Timestamp)> {
        let (Ok(zone), Some(first)) = (self.zone.parse::<chrono_tz::Tz>(), self.first()) else { return Vec::new() };
        // A day wider on both sides than any zone's offset, and cut to size below.
        let day = chrono::TimeDelta::days(1);
        let wide = |at: Timestamp| at.to_chrono().with_timezone(&Tz::UTC);
        let first = self.first_near(first, (wide(from) - day).naive_utc());
        let Ok(set) = self.set(first) else { return Vec::new() };
        let found = set.after(wide(from) - day).before(wide(to) + day).all(AT_MOST).dates;
        let instants = found.into_iter().filter_map(|reading| local(zone, reading.naive_utc()));
        instants.filter(|at| *at >= from && *at <= to).map(|at| (at, at + self.length.0)).collect()
    }

    /// The one that an instant lies in: its begin and end, the latest to end where several do.
    pub fn covering(&self, at: Timestamp) -> Option<(Timestamp, Timestamp)> {
        // All are as long: the one that began last ends last. It is looked for a little while back first: they may be many.
        let mut back = Duration::from_secs(3600);
        loop {
            let within = back.min(self.length.0);
            let from = Timestamp::from_ms(at.as_ms() - within.as_millis() as i64);
            let found = self.between(from, at).into_iter().filter(|(from, to)| *from <= at && at < *to).max_by_key(|(_, to)| *to);
            if found.is_some() || within == self.length.0 {
                return found;
            }
            back *= 8;
        }
    }

    /// The next that begins after an instant, within so long.
    pub fn next(&self, after: Timestamp, within: Duration) -> Option<(Timestamp, Timestamp)> {
        // A little while ahead first, for the same reason.
        let mut ahead = DAY;
        loop {
            let ahead_now = ahead.min(within);
            let found = self.between(after, after + ahead_now).into_iter().find(|(from, _)| *from > after);
            if found.is_some() || ahead_now == within {
                return found;
            }
            ahead *= 8;
        }
    }
}
