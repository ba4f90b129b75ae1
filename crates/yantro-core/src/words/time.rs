//! Instants and durations as values. The core never reads a clock: `now` always comes in.

use std::{fmt, ops, str::FromStr, time::Duration};

use chrono::{DateTime, SecondsFormat, TimeZone, Utc};
use serde::{Deserialize, Deserializer, Serialize, Serializer, de};

/// An instant, to the millisecond, in UTC. In JSON it is RFC 3339 text.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default)]
pub struct Timestamp(i64);

impl Timestamp {
    /// From milliseconds since the Unix epoch.
    pub fn from_ms(ms: i64) -> Self {
        Self(ms)
    }
    /// The same, where a constant is wanted.
    pub(crate) const fn from_ms_const(ms: i64) -> Self {
        Self(ms)
    }
    /// Milliseconds since the Unix epoch.
    pub fn as_ms(self) -> i64 {
        self.0
    }
    /// How long after `earlier` this is; zero where it is not after.
    pub fn since(self, earlier: Timestamp) -> Duration {
        Duration::from_millis(u64::try_from(self.0 - earlier.0).unwrap_or(0))
    }
    /// The day and time of day in an IANA zone, with the zone's own short name; in UTC where there is no such zone.
    pub fn in_zone(self, zone: &str) -> String {
        let zone: chrono_tz::Tz = zone.parse().unwrap_or(chrono_tz::UTC);
        self.to_chrono().with_timezone(&zone).format("%a %d %b %H:%M %Z").to_string()
    }
    /// This instant with the calendar's own type.
    pub fn to_chrono(self) -> DateTime<Utc> {
        Utc.timestamp_millis_opt(self.0).single().unwrap_or_default()
    }
}

/// The occurrence of a time of day that is nearest to an instant, at most half a day away on either side.
///
/// `time` is `HH:MM`, `zone` an IANA name; `None` where one of them is none. A time that a clock change leaves
/// out is taken as the first instant after the gap, one that comes twice as the first of the two.
pub fn time_of_day_near(at: Timestamp, time: &str, zone: &str) -> Option<Timestamp> {
    let zone: chrono_tz::Tz = zone.parse().ok()?;
    let time = chrono::NaiveTime::parse_from_str(time, "%H:%M").ok()?;
    let today = at.to_chrono().with_timezone(&zone).date_naive();
    let candidates = [today.pred_opt()?, today, today.succ_opt()?].into_iter().filter_map(|day| local(zone, day.and_time(time)));
    candidates.min_by_key(|t| (t.0 - at.0).abs())
}

/// An instant from a wall clock's reading.
pub(crate) fn local(zone: chrono_tz::Tz, reading: chrono::NaiveDateTime) -> Option<Timestamp> {
    // A gap is an hour at most in the zones there are, and begins on a minute.
    (0..=24 * 60).find_map(|minutes| {
        let later = reading + chrono::TimeDelta::minutes(minutes);
        zone.from_local_datetime(&later).earliest().map(|t| Timestamp(t.timestamp_millis()))
    })
}

impl ops::Sub<Duration> for Timestamp {
    type Output = Self;
    fn sub(self, by: Duration) -> Self {
        Self(self.0.saturating_sub(i64::try_from(by.as_millis()).unwrap_or(i64::MAX)))
    }
}

impl ops::Add<Duration> for Timestamp {
    type Output = Timestamp;
    fn add(self, by: Duration) -> Timestamp {
        Timestamp(self.0.saturating_add(i64::try_from(by.as_millis()).unwrap_or(i64::MAX)))
    }
}

impl fmt::Display for Timestamp {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.to_chrono().to_rfc3339_opts(SecondsFormat::Millis, true))
    }
}

impl fmt::Debug for Timestamp {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, f)
    }
}

impl Serialize for Timestamp {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for Timestamp {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = String::deserialize(deserializer)?;
        DateTime::parse_from_rfc3339(&text).map(|at| Timestamp(at.timestamp_millis())).map_err(de::Error::custom)
    }
}

impl schemars::JsonSchema for Timestamp {
    fn schema_name() -> std::borrow::Cow<'static, str> {
        "Timestamp".into()
    }
    fn json_schema(_: &mut schemars::SchemaGenerator) -> schemars::Schema {
        schemars::json_schema!({
            "type": "string", "format": "date-time", "description": "An instant, RFC 3339 in UTC."
        })
    }
}

/// A length of time as people write it: `"90s"`, `"5m"`, `"1h 30m"`, `"200ms"`.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default)]
pub struct Span(pub Duration);

impl Span {
    /// A length in whole seconds.
    pub const fn secs(secs: u64) -> Self {
        Self(Duration::from_secs(secs))
    }
    /// A length in milliseconds.
    pub const fn millis(ms: u64) -> Self {
        Self(Duration::from_millis(ms))
    }
}

/// Why a piece of text is not a length of time.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("\"{text}\" is no length of time: {why}")]
pub struct SpanError {
    text: String,
    why: String,
}

impl FromStr for Span {
    type Err = SpanError;
    fn from_str(text: &str) -> Result<Self, SpanError> {
        humantime::parse_duration(text.trim()).map(Span).map_err(|e| SpanError { text: text.to_owned(), why: e.to_string() })
    }
}

impl fmt::Display for Span {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&humantime::format_duration(self.0).to_string())
    }
}

impl fmt::Debug for Span {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, f)
    }
}

impl Serialize for Span {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for Span {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        String::deserialize(deserializer)?.parse().map_err(de::Error::custom)
    }
}

impl schemars::JsonSchema for Span {
    fn schema_name() -> std::borrow::Cow<'static, str> {
        "Span".into()
    }
    fn json_schema(_: &mut schemars::SchemaGenerator) -> schemars::Schema {
        schemars::json_schema!({
            "type": "string", "format": "yantro-span",
            "description": "A length of time, such as \"200ms\", \"90s\", \"5m\" or \"1h 30m\"."
        })
    }
}
