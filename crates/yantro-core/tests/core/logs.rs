//! Logs read in pieces: what counts as a line, what is evidence, and how much of it is kept.

use std::sync::Arc;

use proptest::prelude::*;
use rstest::rstest;
use yantro_core::{
    model::LogPatterns,
    proof::logs::{EVIDENCE_LINES, LogMatcher, LogScan, check_pattern},
};

fn scan(wanted: &[&str], forbidden: &[&str], overlook: &[&str]) -> LogScan {
    let own = |list: &[&str]| list.iter().map(|s| (*s).to_owned()).collect();
    let patterns = LogPatterns { must_see: own(wanted), must_not_see: own(forbidden), overlook: own(overlook) };
    LogScan::new(Arc::new(LogMatcher::new(&patterns).unwrap()))
}

#[rstest]
#[case::whole(&["ready for connections\n"], 1)]
#[case::half_then_rest(&["ready for", " connections\n"], 1)]
#[case::no_end_yet(&["ready for connections"], 0)]
#[case::never_across_lines(&["ready for\nconnections\n"], 0)]
#[case::invalid_utf8_around(&["x\u{fffd} ready for connections\n", "y\n"], 1)]
#[case::two(&["ready for connections\nnoise\nready for connections\n"], 2)]
fn a_pattern_is_meant_within_one_line(#[case] chunks: &[&str], #[case] seen: u64) {
    let mut scan = scan(&[r"ready\s+for\s+connections"], &[], &[]);
    chunks.iter().for_each(|c| scan.push(c.as_bytes()));
    assert_eq!(scan.count().wanted, [seen]);
}

#[test]
fn a_line_without_an_end_counts_once_its_writer_fell_silent() {
    let mut scan = scan(&["ready$"], &[], &[]);
    scan.push(b"getting ready");
    assert_eq!(scan.count().wanted, [0]);
    scan.end_of_line();
    assert_eq!(scan.count().wanted, [1]);
}

#[test]
fn overlook_cancels_only_what_is_forbidden() {
    let mut scan = scan(&["ERROR pool warmed"], &["ERROR"], &["ERROR pool"]);
    scan.push(b"ERROR pool warmed\nERROR disk\n");
    assert_eq!((scan.count().wanted[0], scan.count().forbidden[0], scan.count().overlooked), (1, 1, 1));
}

#[test]
fn evidence_has_two_lines_around_even_across_chunks() {
    let mut scan = scan(&[], &["refused"], &[]);
    for chunk in ["one\ntwo\nthr", "ee\nmanifest refused\nfi", "ve\nsix\nseven\n"] {
        scan.push(chunk.as_bytes());
    }
    let hit = &scan.hits()[0];
    assert_eq!((hit.line, hit.before.join(","), hit.after.join(",")), (4, "two,three".into(), "five,six".into()));
}

/// What stood before a line is shown alike whether it came along with it or in the chunk before: cut where it is long, without the
/// end of its line, and with a carriage return that is its own.
#[rstest]
#[case::long("a".repeat(3000), format!("{}…", "a".repeat(2048)))]
#[case::just_not_too_long("a".repeat(2048), "a".repeat(2048))]
#[case::just_not_too_long_with_its_end(format!("{}\r", "a".repeat(2048)), "a".repeat(2048))]
#[case::just_too_long("a".repeat(2049), format!("{}…", "a".repeat(2048)))]
#[case::carriage_return("a\r".to_owned(), "a".to_owned())]
#[case::its_own_carriage_return("a\r\r".to_owned(), "a\r".to_owned())]
fn what_stood_before_is_shown_alike_in_one_chunk_and_across_two(#[case] line: String, #[case] shown: String) {
    let (mut one, mut two) = (scan(&[], &["refused"], &[]), scan(&[], &["refused"], &[]));
    one.push(format!("{line}\nmanifest refused\n").as_bytes());
    two.push(format!("{line}\n").as_bytes());
    two.push(b"manifest refused\n");
    assert_eq!([&one.hits()[0].before, &two.hits()[0].before], [&vec![shown.clone()], &vec![shown]]);
}

#[test]
fn evidence_is_bounded_and_counted() {
    let mut scan = scan(&[], &["E"], &[]);
    scan.push("E\n".repeat(1000).as_bytes());
    assert_eq!((scan.hits().len(), scan.count().forbidden[0], scan.count().lines), (EVIDENCE_LINES, 1000, 1000));
}

#[rstest]
#[case::open_bracket("ready [")]
#[case::matches_everything("x*")]
fn a_bad_pattern_is_refused(#[case] pattern: &str) {
    assert!(check_pattern(pattern).is_err());
}

proptest! {
    /// However a log is cut into chunks, the outcome is that of going line by line.
    #[test]
    fn chunks_do_not_matter(lines in prop::collection::vec("[abE x]{0,6}", 0..30), cuts in prop::collection::vec(0usize..200, 0..8)) {
        let text = lines.iter().map(|l| format!("{l}\n")).collect::<String>();
        let mut cuts: Vec<usize> = cuts.into_iter().filter(|c| *c < text.len()).collect();
        cuts.extend([0, text.len()]);
        cuts.sort_unstable();
        let mut scan = scan(&["a.b", "^b"], &["E", "x$"], &["Ea"]);
        cuts.windows(2).for_each(|w| scan.push(&text.as_bytes()[w[0]..w[1]]));
        let count = |p: &str, but: Option<&str>| {
            let (p, but) = (regex::Regex::new(p).unwrap(), but.map(|b| regex::Regex::new(b).unwrap()));
            lines.iter().filter(|l| p.is_match(l) && !but.as_ref().is_some_and(|b| b.is_match(l))).count() as u64
        };
        prop_assert_eq!(&scan.count().wanted, &vec![count("a.b", None), count("^b", None)]);
        prop_assert_eq!(&scan.count().forbidden, &vec![count("E", Some("Ea")), count("x$", Some("Ea"))]);
        prop_assert_eq!(scan.count().lines, lines.len() as u64);
    }
}
