//! Hours that come again: change freezes and maintenance windows, as RFC 5545 rules in an IANA time zone.

use std::time::Duration;

use chrono::NaiveDateTime;
use rrule::{RRuleSet, Tz};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::{
    estate::{ImpactLevel, file::FreezeBegin},
    time::{Span, Timestamp, local},
};

/// More occurrences than this within one length are a mistake in the rule.
const AT_MOST: u16 = 200;

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
    /// Checks them: an error says what is wrong.
    pub fn check(&self) -> Result<(), String> {
        self.zone.parse::<chrono_tz::Tz>().map_err(|_| format!("\"{}\" is no IANA time zone", self.zone))?;
        let from = self.first().ok_or_else(|| format!("\"{}\" is no date and time, such as 2026-06-06T06:00", self.from))?;
        if self.length.0.is_zero() {
            return Err("they have no length".to_owned());
        }
        if self.rule.is_some() {
            self.set(from).map(drop)?;
        }
        Ok(())
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

    /// Those that begin in a stretch of time, each with its begin and end.
    fn between(&self, from: Timestamp, to: Timestamp) -> Vec<(Timestamp, Timestamp)> {
        let (Ok(zone), Some(first)) = (self.zone.parse::<chrono_tz::Tz>(), self.first()) else { return Vec::new() };
        let Ok(set) = self.set(first) else { return Vec::new() };
        // A day wider on both sides than any zone's offset, and cut to size below.
        let day = chrono::TimeDelta::days(1);
        let wide = |at: Timestamp| at.to_chrono().with_timezone(&Tz::UTC);
        let found = set.after(wide(from) - day).before(wide(to) + day).all(AT_MOST).dates;
        let instants = found.into_iter().filter_map(|reading| local(zone, reading.naive_utc()));
        instants.filter(|at| *at >= from && *at <= to).map(|at| (at, at + self.length.0)).collect()
    }

    /// The one that an instant lies in: its begin and end, the latest to end where several do.
    pub fn covering(&self, at: Timestamp) -> Option<(Timestamp, Timestamp)> {
        let back = Timestamp::from_ms(at.as_ms() - self.length.0.as_millis() as i64);
        self.between(back, at).into_iter().filter(|(from, to)| *from <= at && at < *to).max_by_key(|(_, to)| *to)
    }

    /// The next that begins after an instant, within so long.
    pub fn next(&self, after: Timestamp, within: Duration) -> Option<(Timestamp, Timestamp)> {
        self.between(after, after + within).into_iter().find(|(from, _)| *from > after)
    }
}
