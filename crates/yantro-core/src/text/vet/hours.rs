//! Change freezes and windows: their rules, zones and lengths.

use std::{collections::BTreeMap, time::Duration};

use super::Vetting;
use crate::{
    calendar::{Freeze, Hours, Window},
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

    fn hours(&mut self, at: &str, from: Option<String>, rule: Option<String>, zone: Option<String>, length: Option<Span>) -> Option<Hours> {
        let (Some(from), Some(length)) = (from, length) else {
            self.faults.error(
                "missing-key",
                self.places.key(at),
                format!("[{at}] does not say when it begins, or how long it is"),
                "add `from = \"2026-06-06T06:00\"` and `length = \"14h\"`",
            );
            return None;
        };
        if zone.is_none() && self.file.estate.time_zone.as_ref().is_some_and(|z| z.parse::<chrono_tz::Tz>().is_err()) {
            return None; // Told once, where it is written.
        }
        let zone = zone.or_else(|| self.file.estate.time_zone.clone()).unwrap_or_else(|| "UTC".to_owned());
        let hours = Hours { rule, from, zone, length };
        if let Err(why) = hours.check() {
            let mend = "rules are those of RFC 5545, such as \"FREQ=WEEKLY;BYDAY=SA,SU\"; zones such as \"Europe/London\"";
            self.faults.error("bad-hours", self.places.key(at), format!("[{at}]: {why}"), mend);
            return None;
        }
        Some(hours)
    }
}
