//! Change freezes and windows: their rules, zones and lengths.

use std::{collections::BTreeMap, time::Duration};

use super::Vetting;
use crate::{
    calendar::{Freeze, Hours, SOUND_FROM, Window},
    words::{ImpactLevel, time::Span},
};

/// A freeze that lasts for longer is seldom meant: the quiet weeks of a year's end are shorter.
const LONGEST_FREEZE: Duration = Duration::from_secs(62 * 24 * 3600);

impl Vetting<'_, '_> {
    pub(super) fn freezes(&mut self) -> BTreeMap<String, Freeze> {
        let mut freezes = BTreeMap::new();
        for (name, f) in self.file.freeze.clone() {
            let at = format!("freeze.{name}");
            let Some(hours) = self.hours(&at, f.from, f.rule, f.zone, f.length) else { continue };
            if hours.length.0 > LONGEST_FREEZE {
                let says = format!("freeze {name} lasts {}: nothing is stopped for all that time but by whoever names it", hours.length);
                let mend = "say how long it lasts, such as `length = \"14h\"`; with a `rule` it comes again";
                self.faults.warn("long-freeze", self.places.key(&at), says, mend);
            }
            let title = f.title.unwrap_or_else(|| name.clone());
            let impact = f.impact.unwrap_or(ImpactLevel::Brief);
            freezes.insert(name, Freeze { title, hours, impact, begin: f.begin.unwrap_or_default() });
        }
        freezes
    }

    pub(super) fn windows(&mut self) -> BTreeMap<String, Window> {
        let mut windows = BTreeMap::new();
        for (name, w) in self.file.window.clone() {
            let at = format!("window.{name}");
            let Some(hours) = self.hours(&at, w.from, w.rule, w.zone, w.length) else { continue };
            windows.insert(name.clone(), Window { title: w.title.unwrap_or(name), hours });
        }
        windows
    }

    /// The hours that a table says, where it says them: each of its keys is looked at, whatever is wrong with another.
    fn hours(&mut self, at: &str, from: Option<String>, rule: Option<String>, zone: Option<String>, length: Option<Span>) -> Option<Hours> {
        let of = |key: &str| format!("{at}.{key}");
        let missing = [("from", from.is_none()), ("length", length.is_none())].into_iter().filter(|(_, is_missing)| *is_missing);
        self.lacks(
            &missing.map(|(key, _)| of(key)).collect::<Vec<_>>(),
            self.places.key(at),
            format!("[{at}] does not say when it begins, or how long it is"),
            "add `from = \"2026-06-06T06:00\"` and `length = \"14h\"`",
        );
        let common = self.file.estate.time_zone.clone();
        let is_told = |z: &String| z.parse::<chrono_tz::Tz>().is_err();
        // The estate's own is blamed once, where it is written.
        let is_common_bad = zone.is_none() && common.as_ref().is_some_and(is_told);
        let is_whole = from.is_some() && length.is_some() && !is_common_bad;
        let hours = Hours {
            rule,
            from: from.unwrap_or_else(|| SOUND_FROM.to_owned()),
            zone: zone.or(common.filter(|z| !is_told(z))).unwrap_or_else(|| "UTC".to_owned()),
            length: length.unwrap_or(Span::secs(3600)),
        };
        let faults = hours.faults();
        for (key, why) in &faults {
            let mend = "rules are those of RFC 5545, such as \"FREQ=WEEKLY;BYDAY=SA,SU\"; zones such as \"Europe/London\"";
            self.faults.error("bad-hours", self.places.value(&of(key)), format!("[{at}]: {why}"), mend);
        }
        (is_whole && faults.is_empty()).then_some(hours)
    }
}
