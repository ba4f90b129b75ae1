//! What is remembered of a service from look to look, at its edges (R14, R17, R19).

use std::time::Duration;

use rstest::rstest;
use yantro_core::{
    proof::{
        Answer, LogAgainst, SeenState, UnitWord,
        standing::{Look, Watched},
    },
    run::FoundProcess,
    words::time::Timestamp,
};

const PATIENCE: Duration = Duration::from_secs(60);
const AILING_AFTER: u32 = 2;

fn at(seconds: i64) -> Timestamp {
    Timestamp::from_ms(seconds * 1000)
}

/// A look at what runs as this process, with two rungs.
fn look(pid: Option<u32>, answers: &[Answer]) -> Look {
    let process = pid.map(|pid| FoundProcess { pid, started: u64::from(pid) });
    Look { runs: Some(true), rungs: answers.to_vec(), total: 2, process, manager: None, started_at: None }
}

fn good() -> Vec<Answer> {
    vec![Answer::holds("it listens"), Answer::holds("it answers")]
}

fn contrary() -> Vec<Answer> {
    vec![Answer::holds("it listens"), Answer::not_yet("no answer")]
}

fn takes(watched: &mut Watched, look: &Look, seconds: i64) -> SeenState {
    watched.take(look, at(seconds), PATIENCE, AILING_AFTER);
    watched.seen.state
}

fn proven(pid: Option<u32>) -> Watched {
    let mut watched = Watched::unknown(2, at(0));
    assert_eq!(takes(&mut watched, &look(pid, &good()), 1), SeenState::Proven);
    watched
}

/// One contrary look condemns nothing and says so; so many in a row do, and one good look between them begins the count anew.
#[test]
fn so_many_contrary_looks_in_a_row_make_it_ailing() {
    let mut watched = proven(Some(7));
    for _ in 0..2 {
        assert_eq!(takes(&mut watched, &look(Some(7), &contrary()), 2), SeenState::Proven);
        assert_eq!(watched.seen.says, "just now no answer; ailing where that is so 2 times in a row");
        assert_eq!((watched.seen.rungs_climbed, watched.seen.rung_against), (1, None));
        assert_eq!(takes(&mut watched, &look(Some(7), &good()), 3), SeenState::Proven);
        assert_eq!((watched.seen.says.as_str(), watched.seen.rungs_climbed), ("it answers", 2));
    }
    takes(&mut watched, &look(Some(7), &contrary()), 4);
    assert_eq!(takes(&mut watched, &look(Some(7), &contrary()), 5), SeenState::Ailing);
    assert_eq!((watched.seen.says.as_str(), watched.seen.rung_against), ("no answer", Some(1)));
}

/// Another process is another life: it is on its way up, and not proven by what the one before it had shown. Where no process is known
/// of one of both, nobody can say that it is another.
#[rstest]
#[case::another(Some(7), Some(9), SeenState::Rising)]
#[case::the_same(Some(7), Some(7), SeenState::Proven)]
#[case::none_was_known(None, Some(9), SeenState::Proven)]
#[case::none_is_known(Some(7), None, SeenState::Proven)]
fn another_process_is_another_life(#[case] was: Option<u32>, #[case] is: Option<u32>, #[case] state: SeenState) {
    let mut watched = proven(was);
    assert_eq!(takes(&mut watched, &look(is, &contrary()), 2), state);
}

/// Whether something of it runs cannot be said: what was known stays, with why.
#[rstest]
#[case::it_is_said_why(vec![Answer::could_not("the host is busy")], "the host is busy")]
#[case::nobody_says_why(vec![], "nobody says why")]
fn what_cannot_be_looked_at_stays_what_it_was(#[case] rungs: Vec<Answer>, #[case] why: &str) {
    let mut watched = proven(Some(7));
    let blind = Look { runs: None, rungs, ..look(None, &[]) };
    assert_eq!(takes(&mut watched, &blind, 2), SeenState::Proven);
    assert_eq!(watched.seen.says, format!("seen proven last, and could not be looked at since: {why}"));
    assert_eq!(watched.as_looked_at(), SeenState::Unknown);
}

/// What is down says whose process answers in its place, and nothing of rungs; a rung of it that cannot be looked at changes nothing.
#[test]
fn what_is_down_says_who_stands_in_its_place() {
    let mut watched = proven(Some(7));
    let answers = [Answer::not_yet("nothing listens"), Answer::against("7411 is taken by another")];
    let down = Look { runs: Some(false), ..look(None, &answers) };
    assert_eq!(takes(&mut watched, &down, 2), SeenState::Down);
    assert_eq!((watched.seen.says.as_str(), watched.seen.rungs_climbed, watched.seen.pid), ("7411 is taken by another", 0, None));
    let silent = Look { runs: Some(false), ..look(None, &[Answer::not_yet("nothing listens")]) };
    takes(&mut watched, &silent, 3);
    assert_eq!(watched.seen.says, "");
}

/// A look that did not come to the last rung proves nothing.
#[test]
fn a_look_that_did_not_come_to_the_end_proves_nothing() {
    let mut watched = Watched::unknown(2, at(0));
    takes(&mut watched, &look(Some(7), &contrary()), 1);
    assert_eq!(takes(&mut watched, &look(Some(7), &good()[..1]), 2), SeenState::Rising);
}

/// It has its patience from its start on, by whoever's word, and not a moment longer.
#[rstest]
#[case::within(59, SeenState::Rising)]
#[case::over(60, SeenState::Ailing)]
fn it_is_on_its_way_up_for_its_patience(#[case] after: i64, #[case] state: SeenState) {
    let mut watched = Watched::unknown(2, at(0));
    takes(&mut watched, &Look { runs: Some(false), ..look(None, &[]) }, 5);
    takes(&mut watched, &look(Some(7), &contrary()), 10);
    assert_eq!(takes(&mut watched, &look(Some(7), &contrary()), 10 + after), state);
}

fn again(restarts: u32) -> Look {
    Look { manager: Some(UnitWord { restarts, ..UnitWord::default() }), ..look(Some(7), &good()) }
}

/// Two starts by the manager within two minutes are a crash loop; what is longer ago is forgotten, and a start that was asked for
/// begins the count anew.
#[rstest]
#[case::at_once(&[(1, 0), (2, 2)], SeenState::Ailing)]
#[case::one(&[(1, 0), (2, 1)], SeenState::Proven)]
#[case::within_two_minutes(&[(1, 0), (2, 1), (121, 2)], SeenState::Ailing)]
#[case::over_two_minutes(&[(1, 0), (2, 1), (60, 1), (122, 2)], SeenState::Proven)]
#[case::nobody_asked_for_two_minutes(&[(1, 0), (121, 2)], SeenState::Proven)]
#[case::asked_for_just_before(&[(1, 0), (120, 2)], SeenState::Ailing)]
#[case::started_by_somebody(&[(1, 0), (2, 2), (3, 0)], SeenState::Proven)]
fn a_crash_loop_is_two_starts_within_two_minutes(#[case] looks: &[(i64, u32)], #[case] state: SeenState) {
    let mut watched = Watched::unknown(2, at(0));
    let last = looks.iter().map(|(seconds, restarts)| takes(&mut watched, &again(*restarts), *seconds)).last();
    assert_eq!(last, Some(state), "{}", watched.seen.says);
    let is_told = watched.seen.says.starts_with("a crash loop: the manager started it again");
    assert_eq!(is_told, state == SeenState::Ailing, "{}", watched.seen.says);
}

/// A forbidden line keeps it ailing whatever its rungs say; what is down for a reason of its own keeps saying that.
#[test]
fn a_forbidden_line_speaks_against_what_runs_and_explains_what_does_not() {
    let line = LogAgainst { line: "PANIC".into(), source: "/l".into(), missing: false, run: 3, at: at(1) };
    let says = "forbidden line in its log, seen by run 3: \"PANIC\"";
    let mut watched = proven(Some(7));
    watched.log_against(Some(line.clone()));
    assert_eq!((watched.seen.state, watched.seen.says.as_str()), (SeenState::Ailing, says));
    assert_eq!(takes(&mut watched, &look(Some(7), &good()), 2), SeenState::Ailing);
    let silent = Look { runs: Some(false), ..look(None, &[]) };
    assert_eq!(takes(&mut watched, &silent, 3), SeenState::Down);
    assert_eq!(watched.seen.says, says, "this may well be why");
    let taken = Look { runs: Some(false), ..look(None, &[Answer::against("7411 is taken by another")]) };
    takes(&mut watched, &taken, 4);
    assert_eq!(watched.seen.says, "7411 is taken by another");
    watched.log_against(Some(LogAgainst { missing: true, ..line }));
    takes(&mut watched, &silent, 5);
    assert_eq!(watched.seen.says, "its last start, by run 3, never showed PANIC");
}

/// Of a unit that a condition left down a start is told; the board is not, nor is a start of one whose condition was met.
#[rstest]
#[case::a_start(true, true, "a condition in its unit is not met")]
#[case::the_board(true, false, "inactive (dead)")]
#[case::it_was_met(false, true, "inactive (dead)")]
fn a_condition_that_is_not_met_speaks_against_a_start(#[case] unmet: bool, #[case] proves_a_start: bool, #[case] says: &str) {
    let (load, active, sub) = ("loaded".into(), "inactive".into(), "dead".into());
    let answer = UnitWord { load, active, sub, condition_unmet: unmet, ..UnitWord::default() }.answer(None, proves_a_start);
    assert!(answer.says.contains(says), "{answer:?}");
}

/// Of what was never started again that is not said.
#[test]
fn what_was_never_started_again_says_nothing_of_it() {
    let (load, active, sub) = ("loaded".into(), "active".into(), "running".into());
    let answer = UnitWord { load, active, sub, main_pid: Some(7), ..UnitWord::default() }.answer(None, false);
    assert_eq!(answer.says, "active (running), process 7");
}

/// What the manager said of a unit is told until it says otherwise, or nothing of it runs: it does not outlive its host's being off.
#[rstest]
#[case::it_runs(Some(true), true)]
#[case::nobody_can_say(None, true)]
#[case::nothing_runs(Some(false), false)]
fn what_the_manager_said_does_not_outlive_what_ran(#[case] runs: Option<bool>, #[case] is_told: bool) {
    let mut watched = Watched::unknown(2, at(0));
    takes(&mut watched, &again(0), 1);
    takes(&mut watched, &Look { runs, ..look(Some(7), &good()) }, 2);
    assert_eq!(watched.seen.manager.is_some(), is_told);
}
