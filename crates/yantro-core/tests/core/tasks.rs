//! Steps that are about no service: questions and who may answer them, waiting for what must hold, and what decisions on them do.

use std::collections::BTreeMap;

use rstest::rstest;
use yantro_core::{
    plan::{
        StepId,
        forecast::Usual,
        procedure::{self, Asked},
    },
    proof::Answer,
    run::{ActId, Begun, Decision, DecisionKind, Event, HoldCause, Input, Order, StepEnd, StepState},
};

use crate::{
    by_hand::{Began, begun_by, begun_now, decision},
    estates::{estate, facts},
};

const FIRST: StepId = StepId(1);

/// A run of this line, and then of a stop; its first step has begun.
pub fn begun(line: &str) -> Began {
    let more = format!("[procedure.night]\nsteps = [{{ {line} }}, {{ stop = [\"zz\"] }}]\n");
    let (estate, graph) = estate("zz", &more);
    let procedure = estate.procedures[&"night".parse().unwrap()].clone();
    let plan = procedure::plan(&estate, &graph, &facts(&estate, ""), &Usual::default(), &procedure, &Asked::default());
    let mut run = begun_by(Begun::of(plan, &estate, 1, "maren", &BTreeMap::new()));
    run.given(Input::Locked);
    let seen = run.found();
    run.given(Input::FirstLooked { seen, rungs: BTreeMap::new(), processes: BTreeMap::new(), unconfirmed: vec![] });
    let answers = run.run.begun.preflight.iter().map(|look| (look.clone(), Answer::holds("so"))).collect();
    run.given(Input::Preflighted { answers });
    run
}

fn answers(who: &str, value: &str) -> Input {
    let kind = DecisionKind::Answer { step: FIRST, value: value.to_owned() };
    Input::Decide(Decision { kind, hold: None, who: who.to_owned(), why: None })
}

fn state(run: &Began) -> &StepState {
    &run.run.step_now(FIRST).state
}

#[rstest]
#[case::yes("", "tove", "yes", None, Some(StepEnd::Done))]
#[case::no("", "tove", "no", None, None)]
#[case::neither("", "tove", "perhaps", Some("answer yes or no"), None)]
#[case::by_another("who = [\"maren\"], ", "tove", "yes", Some("have one of them answer"), None)]
#[case::by_one_of_them("who = [\"maren\", \"tove\"], ", "Tove", "yes", None, Some(StepEnd::Done))]
#[case::a_value("kind = \"value\", ", "tove", " v7 ", None, Some(StepEnd::Done))]
#[case::no_value("kind = \"value\", ", "tove", "  ", Some("answer yes or no"), None)]
#[case::more_than_a_line("kind = \"value\", ", "tove", "v7\nv8", Some("answer yes or no"), None)]
fn a_question_takes_what_answers_it_of_whom_it_asks(
    #[case] with: &str,
    #[case] who: &str,
    #[case] value: &str,
    #[case] refused: Option<&str>,
    #[case] end: Option<StepEnd>,
) {
    let name = if with.contains("value") { ", name = \"tag\"" } else { "" };
    let mut run = begun(&format!("question = {{ asks = \"Go on?\", {with}look_at = \"the weather\" }}{name}"));
    assert!(matches!(state(&run), StepState::Asking { answer: Some(_), until: None, .. }));
    if let Some(mend) = refused {
        let refusal = run.refused(answers(who, value));
        assert!(refusal.hint().contains(mend), "{refusal}: {}", refusal.hint());
        return;
    }
    let taken = run.given(answers(who, value));
    match end {
        Some(end) => assert_eq!(*state(&run), StepState::Ended(end)),
        None => assert_eq!(*state(&run), StepState::Failed { reason: "tove answered no".to_owned() }),
    }
    let kept = taken.events.iter().find_map(|e| if let Event::ValueKept { value, .. } = e { Some(value.as_str()) } else { None });
    assert_eq!(kept, with.contains("value").then_some("v7"));
}

#[rstest]
#[case::it_means_yes("yes", None)]
#[case::it_means_no("no", Some("nobody answered in time, which means no"))]
#[case::it_failed("failed", Some("nobody answered in time"))]
fn a_question_that_nobody_answers_in_time_means_what_it_says(#[case] unanswered: &str, #[case] why: Option<&str>) {
    let mut run = begun(&format!("question = {{ asks = \"Go on?\", limit = \"5m\", unanswered = \"{unanswered}\" }}"));
    run.waits(300_000 - 1);
    run.given(Input::Tick);
    assert!(matches!(state(&run), StepState::Asking { .. }), "there is a moment left");
    run.waits(1);
    run.given(Input::Tick);
    match why {
        None => assert_eq!(*state(&run), StepState::Ended(StepEnd::Done)),
        Some(why) => assert_eq!(*state(&run), StepState::Failed { reason: why.to_owned() }),
    }
}

/// What must hold is waited for as long as it has patience; what could not be looked at is told so, and nothing is tried again on it.
#[rstest]
#[case::not_so(Answer::not_yet("no file"), "not so within 30s: no file")]
#[case::nobody_could_look(Answer::could_not("no answer"), "could not be looked at: no answer")]
fn what_must_hold_is_waited_for_as_long_as_its_patience(#[case] answer: Answer, #[case] why: &str) {
    let mut run = begun("until = [{ rung = \"file\", path = \"/e/there\" }], on = \"h\", patience = \"30s\"");
    run.given(Input::RungLooked { step: FIRST, attempt: run.run.step_now(FIRST).attempts, rung: 0, answer, logs: vec![] });
    run.waits(30_000 - 1);
    run.given(Input::Tick);
    assert!(matches!(state(&run), StepState::Proving { .. }), "{:?}", state(&run));
    run.waits(1);
    run.given(Input::Tick);
    assert_eq!(*state(&run), StepState::Failed { reason: why.to_owned() });
}

#[test]
fn what_holds_is_through_and_a_pause_is_over_on_time() {
    let mut run = begun("until = [{ rung = \"file\", path = \"/e/there\" }], on = \"h\", patience = \"30s\"");
    let attempt = run.run.step_now(FIRST).attempts;
    run.given(Input::RungLooked { step: FIRST, attempt, rung: 0, answer: Answer::holds("it is there"), logs: vec![] });
    assert_eq!(*state(&run), StepState::Ended(StepEnd::Done));
    let mut run = begun("pause = \"10s\"");
    for (ms, is_over) in [(9_999, false), (1, true)] {
        run.waits(ms);
        run.given(Input::Tick);
        assert_eq!(state(&run).has_ended(), is_over);
    }
}

// ---- what a decision would do, said before it is taken ----

#[test]
fn what_a_decision_would_do_is_said_step_by_step() {
    let mut run = begun("work = [\"/bin/check\"], on = \"h\", title = \"check\", changes_nothing = true");
    run.given(Input::ActBegun { step: FIRST, act: ActId(1), begun: begun_now() });
    let would = |run: &Began, kind: DecisionKind, hold: Option<u32>| run.run.would(&decision(kind, hold), 1, run.now).unwrap().steps;
    assert_eq!(would(&run, DecisionKind::GiveUp, None), ["end step 1 in the middle: check", "leave out step 2: stop h/zz"]);
    run.given(Input::ActEnded { step: FIRST, act: ActId(1), end: yantro_core::run::ActEnd::Exited { code: 3, output: String::new() } });
    let hold = run.run.hold_no();
    assert_eq!(would(&run, DecisionKind::TryAgain { step: FIRST, change: None }, hold), ["step 1: check again"]);
    assert_eq!(would(&run, DecisionKind::Vouch { step: FIRST }, hold), ["take step 1 as done: check"]);
    assert_eq!(would(&run, DecisionKind::PassOver { step: FIRST }, hold), ["leave out step 2: stop h/zz", "leave out step 1: check"]);
    let before = run.stored.len();
    let stale = run.run.would(&decision(DecisionKind::Vouch { step: FIRST }, Some(9)), 1, run.now);
    assert!(stale.is_err() && run.stored.len() == before, "what would be refused is, and nothing of it happened");
}

/// What goes on once a standstill is lifted is said of each run: its next step, or that something else holds it.
#[test]
fn what_goes_on_after_a_standstill_is_said() {
    let mut run = begun("pause = \"10s\"");
    run.given(Input::Hold(HoldCause::Standstill));
    assert_eq!(run.run.would_go_on(run.now), ["run 1 (night): goes on"]);
    run.waits(10_000);
    run.given(Input::Tick);
    assert_eq!(run.run.would_go_on(run.now), ["run 1 (night): goes on, next step 2: stop h/zz"]);
    run.given(Input::Hold(HoldCause::Operator { who: "tove".into() }));
    let told = run.run.would_go_on(run.now);
    assert!(told.len() == 1 && told[0].starts_with("run 1 (night): stays as it is, "), "{told:?}");
    let lifted = run.given(Input::Unhold { cause: HoldCause::Standstill, by: "tove".into() });
    assert!(!lifted.orders.iter().any(|o| matches!(o, Order::FreshLook { .. } | Order::Act { .. })));
}
