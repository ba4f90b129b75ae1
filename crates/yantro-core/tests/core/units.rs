//! What the manager says of a unit, and what that proves.

use rstest::rstest;
use yantro_core::proof::{
    UnitWord,
    Verdict::{self, *},
};

fn word(active: &str, sub: &str) -> UnitWord {
    UnitWord {
        unit: "ferry.service".into(),
        load: "loaded".into(),
        active: active.into(),
        sub: sub.into(),
        result: "success".into(),
        invocation: "new".into(),
        ..UnitWord::default()
    }
}

#[rstest]
#[case::up(word("active", "running"), Holds, "active (running)")]
#[case::on_its_way(word("activating", "start"), NotYet, "activating (start)")]
#[case::restarted(UnitWord { restarts: 2, ..word("active", "running") }, Against, "a crash loop: the manager has started it again 2 times")]
#[case::about_to_be(UnitWord { result: "exit-code".into(), exit_code: Some(1), ..word("activating", "auto-restart") }, Against, "a crash loop: it ended with exit code 1")]
#[case::no_account(UnitWord { result: "exit-code".into(), exit_code: Some(217), ..word("failed", "failed") }, Against, "its account is missing (exit code 217); make the account")]
#[case::no_program(UnitWord { result: "exit-code".into(), exit_code: Some(203), ..word("failed", "failed") }, Against, "its program cannot be run")]
#[case::no_folder(UnitWord { result: "exit-code".into(), exit_code: Some(200), ..word("failed", "failed") }, Against, "its working folder cannot be entered")]
#[case::own_limit(UnitWord { result: "timeout".into(), ..word("failed", "failed") }, Against, "the manager's own time limit came first")]
#[case::failed_before(UnitWord { invocation: "old".into(), result: "exit-code".into(), ..word("failed", "failed") }, NotYet, "failed before the act")]
#[case::old_run(UnitWord { invocation: "old".into(), ..word("active", "running") }, NotYet, "still the run from before the act")]
#[case::condition(UnitWord { condition_unmet: true, ..word("inactive", "dead") }, Against, "a condition in its unit is not met")]
#[case::unknown(UnitWord { load: "not-found".into(), ..word("inactive", "dead") }, Against, "knows no unit ferry.service")]
#[case::masked(UnitWord { load: "masked".into(), ..word("inactive", "dead") }, Against, "is masked")]
fn what_the_manager_says_proves_a_start_or_not(#[case] word: UnitWord, #[case] verdict: Verdict, #[case] says: &str) {
    let answer = word.answer(Some("old"), true);
    assert!(answer.verdict == verdict && answer.says.contains(says), "{answer:?}");
}

#[rstest]
#[case(word("inactive", "dead"), Holds)]
#[case(UnitWord { has_processes: true, ..word("inactive", "dead") }, NotYet)]
#[case(word("deactivating", "stop-sigterm"), NotYet)]
#[case(UnitWord { result: "timeout".into(), ..word("failed", "failed") }, Holds)]
#[case(word("active", "running"), NotYet)]
fn what_the_manager_says_proves_a_stop_or_not(#[case] word: UnitWord, #[case] verdict: Verdict) {
    assert_eq!(word.stopped().verdict, verdict);
    assert_eq!(word.runs(), verdict == NotYet, "what counts as up for a stop");
}

#[test]
fn on_the_board_a_restart_long_past_is_told_and_condemns_nothing() {
    let answer = UnitWord { restarts: 1, ..word("active", "running") }.answer(None, false);
    assert!(answer.verdict == Holds && answer.says.contains("started again once by the manager"), "{answer:?}");
}
