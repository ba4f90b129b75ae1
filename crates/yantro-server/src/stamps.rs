//! When a line of a log was written, by what it says itself.

use chrono::{DateTime, Datelike, Local, NaiveDateTime, TimeZone};

/// How far into a line its time is looked for.
const LOOKED_AT: usize = 200;

/// The time that a line has, in milliseconds since the epoch: RFC 3339, what web servers write into their access logs
/// (`[28/Nov/2026:15:06:59 +0000]`) and error logs (`2026/11/28 15:06:59`), what most programs write
/// (`2026-11-28 15:06:59.123`, with a comma too), and what syslog did (`Nov 28 15:06:59`, RFC 3164). Where it has no zone, it is
/// taken for this machine's; where it has no year, for the one that is nearest to `now`.
pub fn stamp(text: &str, now: DateTime<Local>) -> Option<i64> {
    let cut = (0..=LOOKED_AT.min(text.len())).rev().find(|i| text.is_char_boundary(*i)).unwrap_or_default();
    let text = text[..cut].trim_start();
    let first = text.split(' ').next().unwrap_or_default().trim_matches(['[', ']']);
    if let Ok(at) = DateTime::parse_from_rfc3339(first) {
        return Some(at.timestamp_millis());
    }
    in_brackets(text).or_else(|| without_zone(text.trim_start_matches('['))).or_else(|| of_syslog(text, now))
}

fn in_brackets(text: &str) -> Option<i64> {
    let inside = text.split('[').skip(1).filter_map(|rest| rest.split_once(']')).map(|(inside, _)| inside);
    inside.filter_map(|t| DateTime::parse_from_str(t, "%d/%b/%Y:%H:%M:%S %z").ok()).map(|t| t.timestamp_millis()).next()
}

fn local(at: NaiveDateTime) -> Option<i64> {
    // An hour that the clock reads twice is the earlier one: of a log that is as good as the later.
    Local.from_local_datetime(&at).earliest().map(|t| t.timestamp_millis())
}

fn without_zone(text: &str) -> Option<i64> {
    let day_and_time = text.get(..19)?;
    let rest = &text[19..];
    let formats = ["%Y-%m-%d %H:%M:%S", "%Y-%m-%dT%H:%M:%S", "%Y/%m/%d %H:%M:%S", "%d.%m.%Y %H:%M:%S"];
    let at = formats.iter().find_map(|f| NaiveDateTime::parse_from_str(day_and_time, f).ok())?;
    let (fraction, behind) = match rest.strip_prefix(['.', ',']) {
        Some(of_second) => of_second.split_at(of_second.find(|c: char| !c.is_ascii_digit()).unwrap_or(of_second.len())),
        None => ("", rest),
    };
    let digits = &fraction[..fraction.len().min(3)];
    let ms = digits.parse::<i64>().map_or(0, |n| n * 10i64.pow(3 - digits.len() as u32));
    // A zone right behind it, by its letters or by how far it is off.
    let zone = behind.trim_start();
    if let Some(off) = off_by(zone) {
        return Some(at.and_utc().timestamp_millis() + ms - off * 1000);
    }
    if zone.starts_with("UTC") || zone.starts_with("GMT") || zone.starts_with("Z ") {
        return Some(at.and_utc().timestamp_millis() + ms);
    }
    local(at).map(|t| t + ms)
}

/// An offset in seconds: `+0100`, `+01:00` or `+01`.
fn off_by(zone: &str) -> Option<i64> {
    let (sign, rest) = zone.strip_prefix('+').map(|r| (1, r)).or_else(|| zone.strip_prefix('-').map(|r| (-1, r)))?;
    let digits: String = rest.chars().take_while(|c| c.is_ascii_digit() || *c == ':').filter(|c| *c != ':').collect();
    let (hours, minutes) = (digits.get(..2)?.parse::<i64>().ok()?, digits.get(2..4).map_or(Some(0), |m| m.parse::<i64>().ok())?);
    (hours <= 14 && minutes < 60 && matches!(digits.len(), 2 | 4)).then_some(sign * (hours * 3600 + minutes * 60))
}

fn of_syslog(text: &str, now: DateTime<Local>) -> Option<i64> {
    let stamp = text.get(..15)?;
    let of = |year: i32| NaiveDateTime::parse_from_str(&format!("{year} {stamp}"), "%Y %b %e %H:%M:%S").ok().and_then(local);
    let years = [now.year() - 1, now.year(), now.year() + 1];
    years.into_iter().filter_map(of).min_by_key(|t| (t - now.timestamp_millis()).abs())
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn now() -> DateTime<Local> {
        DateTime::parse_from_rfc3339("2026-11-28T15:10:00Z").unwrap().with_timezone(&Local)
    }

    #[rstest]
    #[case::rfc3339("2026-11-28T15:06:59Z ready")]
    #[case::with_an_offset("2026-11-28T16:06:59+01:00 ready")]
    #[case::a_web_servers("10.0.0.7 - - [28/Nov/2026:15:06:59 +0000] \"GET / HTTP/1.1\" 200 612 \"-\" \"yantro-look/0.1\"")]
    #[case::another_zone("10.0.0.7 - maren [28/Nov/2026:17:06:59 +0200] \"GET /[a] HTTP/1.1\" 200 612")]
    #[case::without_a_fraction("2026-11-28 15:06:59 UTC [231] LOG:  ready")]
    #[case::off_by_hours("2026-11-28 17:06:59 +0200 ready")]
    #[case::off_right_behind("2026-11-28 16:06:59.000+01 [231] LOG:  ready")]
    #[case::off_the_other_way("2026-11-28 10:06:59,000 -05:00 INFO ready")]
    #[case::a_databases("2026-11-28 15:06:59.000 UTC [231] LOG:  database system is ready to accept connections")]
    fn a_time_with_its_zone_is_read(#[case] text: &str) {
        assert_eq!(stamp(text, now()), Some(1_795_878_419_000), "{text}");
    }

    #[rstest]
    #[case::plain("2026-11-28 15:06:59 ready", 0)]
    #[case::with_a_comma("2026-11-28 15:06:59,250 INFO ready", 250)]
    #[case::with_a_point("[2026-11-28 15:06:59.5] ready", 500)]
    #[case::an_error_log("2026/11/28 15:06:59 [error] 231#231: *1 connect() failed", 0)]
    #[case::syslogs("Nov 28 15:06:59 desk booking[231]: ready", 0)]
    fn a_time_without_a_zone_is_this_machines(#[case] text: &str, #[case] ms: i64) {
        let wanted = Local.with_ymd_and_hms(2026, 11, 28, 15, 6, 59).unwrap().timestamp_millis() + ms;
        assert_eq!(stamp(text, now()), Some(wanted), "{text}");
    }

    #[test]
    fn the_year_of_a_time_without_one_is_the_nearest() {
        let new_year = DateTime::parse_from_rfc3339("2027-01-01T00:10:00Z").unwrap().with_timezone(&Local);
        let at = stamp("Dec 31 23:59:00 desk booking: closing", new_year).unwrap();
        assert!((new_year.timestamp_millis() - at).abs() < 2 * 86_400_000, "{at}");
    }

    #[rstest]
    #[case::none("  at line 7 of the night")]
    #[case::a_number("20261128150659 ready")]
    #[case::a_word_of_the_line("[not/a/time:at all]")]
    #[case::other_letters("ÄÖÜäöüÄÖÜäöü ßßßß")]
    fn what_has_no_time_has_none(#[case] text: &str) {
        assert_eq!(stamp(text, now()), None, "{text}");
    }
}
