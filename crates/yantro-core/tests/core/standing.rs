//! How a service stands, as it follows from one look after another.

use std::time::Duration;

use rstest::rstest;
use yantro_core::{
    proof::{
        Answer, LastKnown, LogAgainst,
        SeenState::{self, *},
        UnitWord,
        Verdict::{self, *},
        standing::{Look, Watched},
    },
    words::time::Timestamp,
};

fn look(runs: Option<bool>, answers: &[Verdict]) -> Look {
    let rungs = answers.iter().map(|v| Answer { verdict: *v, says: format!("{v:?}") }).collect();
    Look { runs, rungs, total: 2, process: None, manager: None, started_at: None }
}

#[rstest]
#[case::up(&[(Some(true), &[Holds, Holds][..])], Proven)]
#[case::gone(&[(Some(false), &[][..])], Down)]
#[case::one_contrary_look_is_not_enough(&[(Some(true), &[Holds, Holds][..]), (Some(true), &[Holds, NotYet])], Proven)]
#[case::two_are(&[(Some(true), &[Holds, Holds][..]), (Some(true), &[Holds, NotYet]), (Some(true), &[NotYet])], Ailing)]
#[case::two_but_not_in_a_row(&[(Some(true), &[Holds, Holds][..]), (Some(true), &[NotYet]), (Some(true), &[Holds, Holds]), (Some(true), &[NotYet])], Proven)]
#[case::could_not_look_condemns_nothing(&[(Some(true), &[Holds, Holds][..]), (None, &[CouldNotLook]), (Some(true), &[CouldNotLook])], Proven)]
#[case::never_known(&[(None, &[CouldNotLook][..])], Unknown)]
fn states_follow_from_looks(#[case] looks: &[(Option<bool>, &[Verdict])], #[case] state: SeenState) {
    let mut watched = Watched::unknown(2, Timestamp::from_ms(0));
    for (i, (runs, answers)) in looks.iter().enumerate() {
        watched.take(&look(*runs, answers), Timestamp::from_ms(i as i64 * 1000), Duration::from_secs(60), 2);
    }
    assert_eq!(watched.seen.state, state);
}

/// No row says in one breath that it is proven and that nobody could look.
#[rstest]
#[case::never_seen(&[], None, "could not look: CouldNotLook")]
#[case::seen_before(&[Holds, Holds], None, "seen proven last, and could not be looked at since: CouldNotLook")]
#[case::it_runs(&[Holds, Holds], Some(true), "seen proven last, and could not be looked at since: CouldNotLook")]
fn what_could_not_be_looked_at_says_what_it_was_seen_as(#[case] before: &[Verdict], #[case] runs: Option<bool>, #[case] says: &str) {
    let mut watched = Watched::unknown(2, Timestamp::from_ms(0));
    if !before.is_empty() {
        watched.take(&look(Some(true), before), Timestamp::from_ms(0), Duration::from_secs(60), 2);
    }
    watched.take(&look(runs, &[CouldNotLook]), Timestamp::from_ms(1), Duration::from_secs(60), 2);
    assert_eq!(watched.seen.says, says);
}

#[rstest]
#[case::at_rest(&[(Some(true), &[Holds, Holds][..])], 59, false)]
#[case::for_long(&[(Some(true), &[Holds, Holds][..])], 60, true)]
#[case::down(&[(Some(false), &[][..])], 59, false)]
#[case::one_contrary_look(&[(Some(true), &[Holds, Holds][..]), (Some(true), &[Holds, NotYet])], 2, true)]
#[case::rising(&[(Some(true), &[Holds, NotYet][..])], 2, true)]
#[case::blind(&[(Some(true), &[Holds, Holds][..]), (None, &[CouldNotLook])], 2, true)]
fn only_what_is_at_rest_is_looked_at_less_often(#[case] looks: &[(Option<bool>, &[Verdict])], #[case] after: u64, #[case] is_due: bool) {
    let mut watched = Watched::unknown(2, Timestamp::from_ms(0));
    for (runs, answers) in looks {
        watched.is_news(Timestamp::from_ms(0));
        watched.take(&look(*runs, answers), Timestamp::from_ms(0), Duration::from_secs(60), 2);
    }
    assert_eq!(watched.is_due(Timestamp::from_ms(0) + Duration::from_secs(after), Duration::from_secs(60)), is_due);
}

#[test]
fn a_look_that_began_before_a_newer_one_is_no_news() {
    let mut watched = Watched::unknown(2, Timestamp::from_ms(0));
    let told: Vec<bool> = [2000, 1000, 2000, 2500].into_iter().map(|at| watched.is_news(Timestamp::from_ms(at))).collect();
    assert_eq!(told, [true, false, true, true]);
}

/// What is told as it was seen a moment ago was seen: nothing is told so that nobody looked at, or could look at.
#[rstest]
#[case::never_looked_at(None, 1, false)]
#[case::seen(Some(&[Holds, Holds][..]), 1000, true)]
#[case::seen_before(Some(&[Holds, Holds][..]), 1001, false)]
#[case::could_not_look(Some(&[CouldNotLook][..]), 1000, false)]
fn only_what_a_look_saw_since_then_was_seen_since_then(#[case] look_of: Option<&[Verdict]>, #[case] then: i64, #[case] was_seen: bool) {
    let mut watched = Watched::unknown(2, Timestamp::from_ms(0));
    if let Some(answers) = look_of {
        watched.is_news(Timestamp::from_ms(1000));
        watched.take(&look(Some(true), answers), Timestamp::from_ms(1500), Duration::from_secs(60), 2);
    }
    assert_eq!(watched.was_seen_since(Timestamp::from_ms(then)), was_seen);
    watched.out_of_reach("no route", Timestamp::from_ms(1600));
    assert!(!watched.was_seen_since(Timestamp::from_ms(then)), "it is not reached");
}

/// Between two deaths it answers: that is no proof that it stays.
#[test]
fn what_its_manager_starts_again_and_again_is_not_proven_between_its_deaths() {
    let mut watched = Watched::unknown(2, Timestamp::from_ms(0));
    let mut state = |secs: i64, restarts: u32| {
        let manager = Some(UnitWord { active: "active".into(), restarts, ..UnitWord::default() });
        let look = Look { manager, ..look(Some(true), &[Holds, Holds]) };
        watched.take(&look, Timestamp::from_ms(secs * 1000), Duration::from_secs(60), 2);
        (watched.seen.state, watched.seen.says.clone())
    };
    assert_eq!(state(0, 7).0, Proven, "what it did long ago is nobody's news");
    assert_eq!(state(10, 8).0, Proven, "once may be an accident");
    let (looping, says) = state(20, 9);
    assert_eq!(looping, Ailing);
    assert!(says.contains("started it again 9 times"), "{says}");
    assert_eq!(state(60, 9).0, Ailing);
    assert_eq!((state(100, 9).0, state(200, 9).0), (Ailing, Proven), "it has stayed");
    assert_eq!((state(210, 10).0, state(212, 11).0), (Proven, Ailing));
    assert_eq!(state(215, 0).0, Proven, "somebody started it anew");
    assert_eq!(state(2000, 9).0, Proven, "nobody could ask for long: when it was cannot be said");
    assert_eq!((state(2010, 10).0, state(2020, 11).0), (Proven, Ailing));
}

#[test]
fn a_host_out_of_reach_leaves_the_last_state_with_its_age() {
    let mut watched = Watched::unknown(2, Timestamp::from_ms(0));
    watched.out_of_reach("no way to it", Timestamp::from_ms(500));
    assert_eq!((watched.seen.state, watched.seen.last_known), (OutOfReach, None), "never looked at before");
    watched.take(&look(Some(true), &[Holds, Holds]), Timestamp::from_ms(1000), Duration::from_secs(60), 2);
    for at in [2000, 3000] {
        watched.out_of_reach("no way to it", Timestamp::from_ms(at));
        assert_eq!(watched.seen.last_known, Some(LastKnown { state: Proven, at: Timestamp::from_ms(1000) }));
        assert_eq!((watched.seen.since, watched.seen.says.as_str()), (Timestamp::from_ms(2000), "no way to it"));
    }
    // Back within reach, one contrary look does not condemn it.
    watched.take(&look(Some(true), &[Holds, NotYet]), Timestamp::from_ms(4000), Duration::from_secs(60), 2);
    assert_eq!((watched.seen.state, watched.seen.last_known), (Proven, None));
}

fn forbidden() -> LogAgainst {
    LogAgainst { line: "FATAL index lost".into(), source: "/var/log/fares.log".into(), missing: false, run: 7, at: Timestamp::from_ms(0) }
}

#[test]
fn a_forbidden_line_keeps_it_ailing_until_it_is_acknowledged() {
    let mut watched = Watched::unknown(2, Timestamp::from_ms(0));
    let round = |watched: &mut Watched, answers| {
        watched.take(&look(Some(true), answers), Timestamp::from_ms(1000), Duration::from_secs(60), 2);
        watched.seen.state
    };
    assert_eq!(round(&mut watched, &[Holds, Holds]), Proven);
    watched.log_against(Some(forbidden()));
    assert_eq!(watched.seen.state, Ailing, "at once, not at the next round");
    for _ in 0..3 {
        assert_eq!(round(&mut watched, &[Holds, Holds]), Ailing);
        assert!(watched.seen.says.contains("FATAL index lost") && watched.seen.says.contains("run 7"));
    }
    watched.log_against(None);
    assert_eq!(round(&mut watched, &[Holds, Holds]), Proven);
}

#[test]
fn a_forbidden_line_does_not_make_what_is_down_ailing() {
    let mut watched = Watched::unknown(2, Timestamp::from_ms(0));
    watched.log_against(Some(forbidden()));
    watched.take(&look(Some(false), &[]), Timestamp::from_ms(1000), Duration::from_secs(60), 2);
    assert_eq!(watched.seen.state, Down);
    assert!(watched.seen.says.contains("FATAL index lost"), "it may well be why: {}", watched.seen.says);
    watched.set(Proven, Timestamp::from_ms(2000));
    assert_eq!(watched.seen.state, Ailing, "what shows it proven otherwise does not outweigh its log");
}

#[test]
fn within_its_patience_a_new_start_is_rising_and_after_it_ailing() {
    let mut watched = Watched::unknown(2, Timestamp::from_ms(0));
    let started = Look { started_at: Some(Timestamp::from_ms(0)), ..look(Some(true), &[Holds, NotYet]) };
    watched.take(&started, Timestamp::from_ms(1000), Duration::from_secs(10), 2);
    assert_eq!(watched.seen.state, Rising);
    watched.take(&started, Timestamp::from_ms(11_000), Duration::from_secs(10), 2);
    assert_eq!(watched.seen.state, Ailing);
}
