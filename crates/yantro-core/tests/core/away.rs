//! The time that the server was away is nobody's: whatever may take so long may take so much longer. And what was said of times at
//! their very edge.

use std::{collections::BTreeMap, time::Duration};

use rstest::rstest;
use yantro_core::{
    plan::{Request, StepId},
    proof::{Answer, SeenState},
    run::{ActEnd, ActId, DecisionKind, Event, HoldCause, Input, StepEnd, StepState},
    words::{
        kinds::{StepKind, Wish},
        time::{Span, Timestamp},
    },
};

use crate::{
    by_hand::{Began, began_so, begun_now, decision},
    estates::{addresses, seen},
    tasks::begun,
};

const FIRST: StepId = StepId(1);
const MORE: &str = "[service.app]\nlike = \"x\"\nsteady = \"9s\"\nladder = [{ rung = \"port\", port = 1 }]\n\
    start = { pause_before = \"4s\", patience = \"40s\", attempts = 2, gap = \"7s\" }\n";

/// A start that is paused before, and has come as far as this.
fn start(as_far: &str) -> Began {
    let mut run = began_so("zz", MORE, "app=down", &Request::new(Wish::Start, addresses("app")));
    run.given(Input::Locked);
    let found = seen("app=down zz=proven");
    run.given(Input::FirstLooked { seen: found.clone(), rungs: BTreeMap::new(), processes: BTreeMap::new(), unconfirmed: vec![] });
    if as_far == "paused before" {
        return run;
    }
    run.waits(4_000);
    run.given(Input::Tick);
    run.given(Input::FreshLooked { step: FIRST, seen: found });
    if as_far == "acts" {
        return run;
    }
    run.given(Input::ActBegun { step: FIRST, act: ActId(1), begun: begun_now() });
    match as_far {
        "climbs" => {}
        "is steady" => {
            for rung in 0..run.run.service(FIRST).ladder_of(StepKind::Start).len() as u32 {
                run.given(Input::RungLooked { step: FIRST, attempt: 1, rung, answer: Answer::holds("so"), logs: vec![] });
            }
            assert!(matches!(run.run.step_now(FIRST).state, StepState::Proving { steady_until: Some(_), .. }));
        }
        "tries again" => {
            run.given(Input::ActEnded { step: FIRST, act: ActId(1), end: ActEnd::Exited { code: 1, output: String::new() } });
            run.given(Input::RungLooked { step: FIRST, attempt: 1, rung: 0, answer: Answer::against("it ended"), logs: vec![] });
        }
        other => panic!("{other}"),
    }
    run
}

fn over(ms: u64) -> Duration {
    Duration::from_millis(ms)
}

/// By how much the next deadline is later after a minute's absence.
fn moves(run: &mut Began) -> Duration {
    run.is_read_back();
    let before = run.run.next_deadline().expect("something is waited for");
    run.waits(60_000);
    run.given(Input::Away { for_ms: 60_000 });
    run.run.next_deadline().unwrap().since(before)
}

#[rstest]
#[case::a_pause_before_an_act("paused before")]
#[case::an_act("acts")]
#[case::a_climb("climbs")]
#[case::to_stay_steady("is steady")]
#[case::the_gap_between_attempts("tries again")]
fn what_a_service_may_take_is_not_used_up_while_nobody_is_there(#[case] as_far: &str) {
    assert_eq!(moves(&mut start(as_far)), over(60_000));
}

#[rstest]
#[case::a_pause("pause = \"10s\"")]
#[case::a_question("question = { asks = \"Go on?\", limit = \"5m\" }")]
#[case::what_must_hold("until = [{ rung = \"file\", path = \"/e/there\" }], on = \"h\", patience = \"30s\"")]
#[case::work("work = [\"/bin/patch\"], on = \"h\", patience = \"3m\"")]
fn what_a_line_may_take_is_not_used_up_while_nobody_is_there(#[case] line: &str) {
    assert_eq!(moves(&mut begun(line)), over(60_000));
}

/// What was lost has as much of its patience left as it had.
#[test]
fn what_was_lost_has_its_patience_though_nobody_was_there() {
    let mut run = began_so("app -> db", "", "app=down", &Request::new(Wish::Start, addresses("app")));
    run.given(Input::Locked);
    let found = seen("app=down db=proven");
    run.given(Input::FirstLooked { seen: found, rungs: BTreeMap::new(), processes: BTreeMap::new(), unconfirmed: vec![] });
    run.given(Input::Seen { address: "h/db".parse().unwrap(), state: SeenState::Down, says: "gone".into() });
    assert_eq!(moves(&mut run), over(60_000));
}

/// A hold becomes a put-back after so long, in which somebody could have decided.
#[test]
fn a_hold_lasts_as_long_as_somebody_could_have_decided() {
    let mut run = start("climbs");
    run.run.begun.held_at_most = Some(Span::secs(600));
    run.given(Input::Hold(HoldCause::Operator { who: "tove".into() }));
    let ends = run.run.hold_ends().unwrap();
    assert_eq!(ends, run.now + over(600_000));
    run.waits(60_000);
    run.given(Input::Away { for_ms: 60_000 });
    assert_eq!(run.run.hold_ends(), Some(ends + over(60_000)));
}

// ---- edges ----

/// What begins at the very time of day that it waits for need not ask whether that is over.
#[rstest]
#[case::a_moment_before(-1, "pausing")]
#[case::at_it(0, "done")]
#[case::a_moment_after(1, "asking")]
fn a_time_of_day_is_over_from_the_moment_after_it(#[case] ms: i64, #[case] word: &str) {
    let mut run = begun("pause = \"10s\"");
    let mut terms = begun("until_time = \"02:30\"").run.begun;
    let at = Timestamp::from_ms(1_782_867_600_000 + 90 * 60_000);
    terms.preflight.clear();
    run.now = Timestamp::from_ms(at.as_ms() + ms);
    run.stored = vec![(run.now, Event::Begun(Box::new(terms.clone())))];
    run.run = yantro_core::run::Run::begin(run.run.id, run.now, terms);
    run.given(Input::Locked);
    let seen = run.found();
    run.given(Input::FirstLooked { seen, rungs: BTreeMap::new(), processes: BTreeMap::new(), unconfirmed: vec![] });
    run.given(Input::Tick);
    assert_eq!(run.run.step_now(FIRST).state.word(), word, "{:?}", run.run.step_now(FIRST).state);
}

/// A time of day that came while nobody was there is asked about once that is longer ago than a minute; a pause is over, however long ago.
#[rstest]
#[case::a_minute_ago("until_time = \"02:30\"", 60_000, "done")]
#[case::longer_ago("until_time = \"02:30\"", 60_001, "asking")]
#[case::a_pause("pause = \"10s\"", 3_600_000, "done")]
fn what_came_long_ago_is_asked_about_where_it_was_a_time_of_day(#[case] line: &str, #[case] ms: u64, #[case] word: &str) {
    let mut run = begun(line);
    let StepState::Pausing { until, .. } = run.run.step_now(FIRST).state else { panic!("{:?}", run.run.step_now(FIRST).state) };
    run.now = until + over(ms);
    run.given(Input::Tick);
    assert_eq!(run.run.step_now(FIRST).state.word(), word);
}

/// After its pause a step is looked at once, however often the clock ticks before the answer; not at all while the run is held.
#[test]
fn after_its_pause_it_is_looked_at_once() {
    let mut run = start("paused before");
    run.waits(4_000);
    let looks = |run: &mut Began| run.given(Input::Tick).orders.len();
    assert_eq!((looks(&mut run), looks(&mut run)), (1, 0));
    let mut run = start("paused before");
    run.given(Input::Hold(HoldCause::Operator { who: "tove".into() }));
    run.waits(4_000);
    assert_eq!(looks(&mut run), 0);
}

/// A server that was away for longer than five minutes comes back to a run that is held, and one that was not goes on.
#[rstest]
#[case::five_minutes(300_000, false)]
#[case::longer(300_001, true)]
fn who_was_away_for_long_holds(#[case] ms: u64, #[case] is_held: bool) {
    let mut run = start("climbs");
    run.given(Input::Away { for_ms: ms });
    assert_eq!(run.run.hold_causes().any(|c| *c == HoldCause::Away), is_held);
}

// ---- looks before the first act, late ----

/// Those that a line asks for are taken again after a long hold; once something was done, one that fails holds and refuses nothing.
#[test]
fn a_look_before_the_first_act_that_fails_later_holds() {
    let look = "look = { rung = \"file\", path = \"/e/backup\" }, on = \"h\", preflight = true }, { work = [\"/bin/one\"], on = \"h\" }, \
                { work = [\"/bin/two\"], on = \"h\"";
    let mut run = begun(look);
    let step = run.run.steps().find(|(_, n)| !n.acts.is_empty()).unwrap().0.id;
    run.given(Input::ActBegun { step, act: ActId(1), begun: begun_now() });
    run.given(Input::Hold(HoldCause::Operator { who: "tove".into() }));
    run.given(Input::ActEnded { step, act: ActId(1), end: ActEnd::Exited { code: 0, output: String::new() } });
    assert_eq!(run.run.step_now(step).state, StepState::Ended(StepEnd::Done));
    run.waits(16 * 60_000);
    let hold = run.run.hold_no();
    run.given(Input::Decide(decision(DecisionKind::Resume, hold)));
    let again: Vec<_> = run.run.begun.preflight.iter().filter(|p| p.line.is_some()).cloned().collect();
    assert_eq!(again.len(), 1);
    run.given(Input::Preflighted { answers: again.into_iter().map(|p| (p, Answer::not_yet("no backup"))).collect() });
    assert!(run.run.hold_causes().any(|c| matches!(c, HoldCause::Preflight { .. })) && !run.run.has_ended());
}
