//! What is read of logs and of the manager's words: against the plainest way to read the same.

use std::sync::Arc;

use proptest::prelude::*;
use rstest::rstest;
use yantro_core::{
    model::LogPatterns,
    proof::{
        SeenState, UnitWord,
        logs::{LogCount, LogMatcher, LogScan, check_pattern},
    },
    run::{Otherwise, RunEnd, StepEnd},
};

fn patterns() -> LogPatterns {
    let own = |list: &[&str]| list.iter().map(|s| (*s).to_owned()).collect();
    LogPatterns { must_see: own(&["ready", "berth$"]), must_not_see: own(&["panic"]), overlook: own(&["drill"]) }
}

/// A line that matched: which, by what, with up to two lines before and after it.
type Hit = (u64, String, Vec<String>, Vec<String>);

/// The same, read line by line with nothing clever in it.
fn plainly(text: &str) -> (LogCount, Vec<Hit>) {
    let patterns = patterns();
    let lines: Vec<&str> = text.split_inclusive('\n').map(|l| l.strip_suffix('\n').unwrap_or(l)).collect();
    let shown: Vec<String> = lines.iter().map(|l| l.strip_suffix('\r').unwrap_or(l).to_owned()).collect();
    let mut count = LogCount { bytes: text.len() as u64, lines: lines.len() as u64, wanted: vec![0; 2], forbidden: vec![0], overlooked: 0 };
    let mut hits = Vec::new();
    for (at, line) in shown.iter().enumerate() {
        let around = |pattern: &String| {
            let after = shown[at + 1..].iter().take(2).cloned().collect();
            (at as u64 + 1, pattern.clone(), shown[at.saturating_sub(2)..at].to_vec(), after)
        };
        for (i, is_in) in [line.contains("ready"), line.ends_with("berth")].into_iter().enumerate() {
            if is_in {
                count.wanted[i] += 1;
                hits.push(around(&patterns.must_see[i]));
            }
        }
        match (line.contains("panic"), line.contains("drill")) {
            (true, true) => count.overlooked += 1,
            (true, false) => {
                count.forbidden[0] += 1;
                hits.push(around(&patterns.must_not_see[0]));
            }
            _ => {}
        }
    }
    (count, hits)
}

proptest! {
    /// However it comes in pieces: what is counted and shown is what a reader of the whole would count and see.
    #[test]
    fn a_log_is_read_as_a_person_would_read_it(
        lines in prop::collection::vec((prop_oneof!["", "tide", "ready at berth", "ready", "x panic", "panic, a drill", "at berth", "berth 3"], prop_oneof![Just("\n"), Just("\r\n")]), 0..12),
        cuts in prop::collection::vec(0usize..200, 0..6),
        ends in any::<bool>(),
    ) {
        let mut text: String = lines.iter().map(|(line, end)| format!("{line}{end}")).collect();
        if !ends {
            text.truncate(text.trim_end_matches(['\r', '\n']).len());
        }
        let mut scan = LogScan::new(Arc::new(LogMatcher::new(&patterns()).unwrap()));
        let mut cuts: Vec<usize> = cuts.into_iter().filter(|c| *c < text.len()).chain([0, text.len()]).collect();
        cuts.sort_unstable();
        for piece in cuts.windows(2) {
            scan.push(&text.as_bytes()[piece[0]..piece[1]]);
        }
        prop_assert_eq!(scan.has_half_line(), !text.is_empty() && !text.ends_with('\n'));
        scan.end_of_line();
        prop_assert!(!scan.has_half_line());
        let (count, hits) = plainly(&text);
        prop_assert_eq!(scan.count(), &count);
        // Only so many lines of one pattern are kept as evidence.
        let read: Vec<Hit> = scan.hits().iter().map(|h| (h.line, h.pattern.clone(), h.before.clone(), h.after.clone())).collect();
        let kept: Vec<Hit> = hits.iter().filter(|h| read.iter().any(|r| (r.0, &r.1) == (h.0, &h.1))).cloned().collect();
        prop_assert_eq!(read, kept);
    }
}

/// What ends its lines with a carriage return too has the same ends of lines.
#[rstest]
#[case::a_line_feed("x\nat berth\ny\n")]
#[case::both("x\r\nat berth\r\ny\r\n")]
#[case::within_a_line("x\n10 %\r20 % at berth\ny\n")]
fn the_end_of_a_line_is_before_whatever_ends_it(#[case] text: &str) {
    let wanted = |pattern: &str| LogPatterns { must_see: vec![pattern.to_owned()], ..LogPatterns::default() };
    for pattern in ["berth$", "(^| )at.berth$", "%.*berth|^at berth$"] {
        let mut scan = LogScan::new(Arc::new(LogMatcher::new(&wanted(pattern)).unwrap()));
        scan.push(text.as_bytes());
        assert_eq!(scan.count().wanted, [1], "{pattern}");
    }
}

#[rstest]
#[case::begin(r"\Aready", Some(r"\A is an end of all text, and a log is read line by line: write ^ for that of a line"))]
#[case::end(r"ready\z", Some(r"\z is an end of all text, and a log is read line by line: write $ for that of a line"))]
#[case::a_backslash_before_a_letter(r"C:\\Apps\\z", None)]
#[case::an_end_of_a_line(r"^ready$", None)]
fn what_is_no_end_of_a_line_is_told(#[case] pattern: &str, #[case] why: Option<&str>) {
    assert_eq!(check_pattern(pattern).map_err(|e| e.to_string()).err().as_deref(), why);
}

#[rstest]
#[case::nothing_wanted(&[], true)]
#[case::each_once(&[1, 1], true)]
#[case::often(&[7, 2], true)]
#[case::one_missing(&[1, 0], false)]
fn a_log_is_complete_once_each_wanted_line_was_seen(#[case] wanted: &[u64], #[case] is_complete: bool) {
    assert_eq!(LogCount { wanted: wanted.to_vec(), ..LogCount::default() }.all_wanted_seen(), is_complete);
}

#[rstest]
#[case::nothing_forbidden(&[], false)]
#[case::not_seen(&[0, 0], false)]
#[case::once(&[0, 1], true)]
#[case::often(&[5], true)]
fn a_log_is_against_what_has_a_forbidden_line(#[case] forbidden: &[u64], #[case] is_against: bool) {
    assert_eq!(LogCount { forbidden: forbidden.to_vec(), ..LogCount::default() }.any_forbidden(), is_against);
}

/// A line is shown up to 2,048 bytes.
#[rstest]
#[case::at_its_edge(2048, false)]
#[case::beyond(2049, true)]
fn a_long_line_is_cut_where_it_is_shown(#[case] length: usize, #[case] is_cut: bool) {
    let mut scan = LogScan::new(Arc::new(LogMatcher::new(&patterns()).unwrap()));
    scan.push(format!("ready{}\n", "x".repeat(length - 5)).as_bytes());
    let shown = &scan.hits()[0].text;
    assert_eq!((shown.ends_with('…'), shown.trim_end_matches('…').len()), (is_cut, 2048));
}

/// A line without an end is judged once it is longer than 64 KiB, and not before.
#[rstest]
#[case::at_its_edge(64 * 1024, 0)]
#[case::beyond(64 * 1024 + 1, 1)]
fn a_line_without_an_end_is_not_kept_without_end(#[case] length: usize, #[case] seen: u64) {
    let mut scan = LogScan::new(Arc::new(LogMatcher::new(&patterns()).unwrap()));
    scan.push(b"ready");
    scan.push("x".repeat(length - 5).as_bytes());
    assert_eq!((scan.count().wanted[0], scan.has_half_line()), (seen, seen == 0));
}

// ---- the manager's words ----

#[rstest]
#[case::working_folder("exit-code", 200, "its working folder cannot be entered (exit code 200)", "WorkingDirectory=")]
#[case::program("exit-code", 203, "its program cannot be run: it is missing, or may not be run (exit code 203)", "ExecStart=")]
#[case::input("exit-code", 208, "its standard input cannot be opened (exit code 208)", "StandardInput=")]
#[case::output("exit-code", 209, "its standard output cannot be opened (exit code 209)", "StandardOutput=")]
#[case::root("exit-code", 210, "its root folder cannot be entered (exit code 210)", "RootDirectory=")]
#[case::group("exit-code", 216, "its group is missing (exit code 216)", "Group=")]
#[case::account("exit-code", 217, "its account is missing (exit code 217)", "User=")]
#[case::view("exit-code", 226, "its own view of the files cannot be made (exit code 226)", "each must be there")]
#[case::first_of_folders("exit-code", 233, "one of its folders cannot be made (exit code 233)", "the room left")]
#[case::last_of_folders("exit-code", 243, "one of its folders cannot be made (exit code 243)", "the room left")]
#[case::any_other_of_the_managers("exit-code", 204, "the manager could not prepare its process (exit code 204)", "systemd.exec(5)")]
#[case::its_own("exit-code", 199, "it ended with exit code 199", "journal")]
#[case::beyond_the_managers("exit-code", 244, "it ended with exit code 244", "journal")]
#[case::time("timeout", 0, "the manager's own time limit came first", "TimeoutStartSec=")]
#[case::too_often("start-limit-hit", 0, "it was started too often in a short time, and the manager starts it no more", "reset-failed")]
#[case::resources("resources", 0, "the manager had not what it takes to start it", "limits")]
#[case::protocol("protocol", 0, "it did not say that it is ready as its unit promises", "Type=")]
#[case::watchdog("watchdog", 0, "it did not report to the manager in time", "WatchdogSec=")]
#[case::memory("oom-kill", 0, "the kernel ended it for want of memory", "memory")]
fn how_a_unit_failed_is_told_with_a_mend(#[case] result: &str, #[case] code: i32, #[case] why: &str, #[case] mend: &str) {
    let word = UnitWord { load: "loaded".into(), result: result.into(), exit_code: (code != 0).then_some(code), ..UnitWord::default() };
    let (told, mended) = word.failure();
    assert_eq!(told, why);
    assert!(mended.contains(mend), "{mended}");
}

#[rstest]
#[case::ended_by_a_signal("signal", Some(9), "signal 9 ended it")]
#[case::with_a_core("core-dump", Some(11), "signal 11 ended it")]
#[case::nothing_known("exec-condition", None, "its result is \"exec-condition\"")]
fn an_end_without_a_code_is_told(#[case] result: &str, #[case] signal: Option<i32>, #[case] why: &str) {
    let word = UnitWord { load: "loaded".into(), result: result.into(), signal, ..UnitWord::default() };
    assert_eq!(word.failure().0, why);
}

#[rstest]
#[case("not-found", "the manager knows no unit ferry.service")]
#[case("masked", "ferry.service is masked: it cannot be started")]
#[case("bad-setting", "the definition of ferry.service cannot be loaded")]
#[case("error", "the definition of ferry.service cannot be loaded")]
fn a_unit_that_is_not_loaded_is_told(#[case] load: &str, #[case] why: &str) {
    assert_eq!(UnitWord { unit: "ferry.service".into(), load: load.into(), ..UnitWord::default() }.failure().0, why);
}

#[rstest]
#[case("enabled", Some(true))]
#[case("enabled-runtime", Some(true))]
#[case("disabled", Some(false))]
#[case("masked", Some(false))]
#[case("masked-runtime", Some(false))]
#[case("static", None)]
fn whether_a_unit_comes_up_at_boot(#[case] said: &str, #[case] comes: Option<bool>) {
    assert_eq!(UnitWord { at_boot: said.into(), ..UnitWord::default() }.comes_up_at_boot(), comes);
}

#[rstest]
#[case(0, "active (running)")]
#[case(1, "active (running), started again once by its manager")]
#[case(4, "active (running), started again 4 times by its manager")]
fn how_often_a_unit_was_started_again_stands_in_its_row(#[case] restarts: u32, #[case] says: &str) {
    let word = UnitWord { active: "active".into(), sub: "running".into(), restarts, ..UnitWord::default() };
    assert_eq!(word.standing(), says);
}

// ---- the words of ends ----

#[test]
fn each_end_has_its_word() {
    let (by, why) = (String::new(), String::new());
    let ends = [
        (StepEnd::Done, "done", true),
        (StepEnd::Unneeded, "unneeded", true),
        (StepEnd::Vouched { by: by.clone(), why: why.clone() }, "vouched", true),
        (StepEnd::PassedOver { by, why }, "passed over", false),
        (StepEnd::NotBegun, "not begun", false),
    ];
    for (end, word, is_good) in ends {
        assert_eq!((end.word(), end.is_good()), (word, is_good));
    }
    let ends = [
        (RunEnd::Finished, "finished"),
        (RunEnd::FinishedWithExceptions, "finished with exceptions"),
        (RunEnd::PutBack, "put back"),
        (RunEnd::PutBackInPart, "put back in part"),
        (RunEnd::GivenUp, "given up"),
        (RunEnd::Refused, "refused"),
    ];
    assert!(ends.iter().all(|(end, word)| end.word() == *word));
}

/// That something was up and is not comes first.
#[rstest]
#[case::left_down(SeenState::Proven, SeenState::Down, "h/db was found proven and is left down; it was to be proven")]
#[case::left_unseen(SeenState::Proven, SeenState::OutOfReach, "h/db was found proven and is left out of reach; it was to be proven")]
#[case::still_up(SeenState::Proven, SeenState::Ailing, "h/db is ailing, and was to be proven")]
#[case::down_before(SeenState::Down, SeenState::Down, "h/db is down, and was to be proven")]
fn how_a_service_is_left_otherwise_is_told(#[case] found: SeenState, #[case] now: SeenState, #[case] says: &str) {
    let otherwise = Otherwise { address: "h/db".parse().unwrap(), found, meant: SeenState::Proven, now };
    assert_eq!(otherwise.says(), says);
}

/// A line without anything in it is one where it stands, and none where a text ends or another line was found.
#[rstest]
#[case::there_is_none("x\n", [0, 0])]
#[case::behind_one("x\n\n", [1, 0])]
#[case::behind_what_was_found("at berth\nx\n", [0, 1])]
#[case::between("at berth\n\nat berth\n", [1, 2])]
#[case::with_a_carriage_return("x\r\n\r\ny\r\n", [1, 0])]
fn an_empty_line_is_one_only_where_it_stands(#[case] text: &str, #[case] seen: [u64; 2]) {
    let wanted = LogPatterns { must_see: vec!["^$".to_owned(), "berth".to_owned()], ..LogPatterns::default() };
    let mut scan = LogScan::new(Arc::new(LogMatcher::new(&wanted).unwrap()));
    scan.push(text.as_bytes());
    assert_eq!(scan.count().wanted, seen);
}
