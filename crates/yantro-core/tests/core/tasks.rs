//! Steps that are about no service: questions and who may answer them, waiting for what must hold, and what decisions on them do.

use std::collections::BTreeMap;

use rstest::rstest;
use yantro_core::{
    holders::Wants,
    model::{RungKind, ServiceRunner},
    plan::{
        StepId,
        forecast::Usual,
        procedure::{self, Asked},
    },
    proof::Answer,
    run::{ActEnd, ActId, Begun, Decision, DecisionKind, Event, HoldCause, Input, Order, StepEnd, StepState},
    words::kinds::StepKind,
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
    run.given(Input::ActEnded { step: FIRST, act: ActId(1), end: ActEnd::Exited { code: 3, output: String::new() } });
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

// ---- work, announcements and further acts ----

/// Work is good by its own exits, and an announcement has ten seconds.
#[rstest]
#[case::its_own("accept_exits = [0, 3], ", 3, true)]
#[case::another("accept_exits = [0, 3], ", 4, false)]
#[case::none_is_said("", 0, true)]
fn work_is_good_by_its_own_exits(#[case] with: &str, #[case] code: i32, #[case] is_good: bool) {
    let mut run = begun(&format!("work = [\"/bin/patch\"], {with}on = \"h\""));
    run.given(Input::ActBegun { step: FIRST, act: ActId(1), begun: begun_now() });
    run.given(Input::ActEnded { step: FIRST, act: ActId(1), end: ActEnd::Exited { code, output: String::new() } });
    assert_eq!(state(&run).word(), if is_good { "done" } else { "failed" });
}

#[test]
fn people_are_told_within_ten_seconds() {
    let run = begun("announce = \"boats are late\"");
    let StepState::Acting { patience_ends, .. } = state(&run) else { panic!("{:?}", state(&run)) };
    assert_eq!(*patience_ends, run.now + std::time::Duration::from_secs(10));
    let mut run = begun("announce = \"boats are late\"");
    run.given(Input::ActEnded { step: FIRST, act: ActId(1), end: ActEnd::Exited { code: 0, output: String::new() } });
    assert_eq!(*state(&run), StepState::Ended(StepEnd::Done));
    assert!(!run.stored.iter().any(|(_, e)| matches!(e, Event::StepProving { .. })), "there is nothing to climb");
    // Nobody told whether it came off: to tell them twice does no harm, and nothing is unknown of it.
    let mut run = begun("announce = \"boats are late\"");
    run.waits(15_000);
    run.given(Input::Tick);
    let reason = "the announce act has not ended within its patience".to_owned();
    assert_eq!(*state(&run), StepState::Failed { reason });
}

/// A run of this act of `app`.
fn acted(act: &str) -> Began {
    let more = format!(
        "[service.app]\nlike = \"x\"\nladder = [{{ rung = \"port\", port = 1 }}]\n[service.app.acts.drain]\ncommand = [\"/bin/drain\"]\n{act}\n"
    );
    let mut run = crate::played::night("zz", &more, &["act = \"drain\", of = [\"app\"]"], "");
    run.given(Input::Locked);
    let seen = run.found();
    run.given(Input::FirstLooked { seen: seen.clone(), rungs: BTreeMap::new(), processes: BTreeMap::new(), unconfirmed: vec![] });
    let answers: Vec<_> = run.run.begun.preflight.iter().map(|look| (look.clone(), Answer::holds("so"))).collect();
    if !answers.is_empty() {
        run.given(Input::Preflighted { answers });
    }
    run.given(Input::FreshLooked { step: FIRST, seen });
    run
}

/// A further act is good by its own exits, and shows by a ladder of its own where it has one: then its outcome may be unknown, too.
#[rstest]
#[case::its_own("accept_exits = [0, 5]\nchanges_nothing = true", Some(5), "done")]
#[case::another("accept_exits = [0, 5]\nchanges_nothing = true", Some(4), "failed")]
#[case::it_has_to_show("ladder = [{ rung = \"file\", path = \"/e/drained\" }]\nchanges_nothing = true", Some(0), "proving")]
#[case::unknown_and_it_can_show("ladder = [{ rung = \"file\", path = \"/e/drained\" }]\nchanges_nothing = true", None, "proving")]
#[case::unknown_and_nothing_shows_it("changes_nothing = true", None, "outcome unknown")]
fn a_further_act_is_through_once_it_shows(#[case] act: &str, #[case] code: Option<i32>, #[case] word: &str) {
    let mut run = acted(act);
    run.given(Input::ActBegun { step: FIRST, act: ActId(1), begun: begun_now() });
    match code {
        Some(code) => run.given(Input::ActEnded { step: FIRST, act: ActId(1), end: ActEnd::Exited { code, output: String::new() } }),
        None => run.given(Input::ActUnknown { step: FIRST, act: ActId(1) }),
    };
    assert_eq!(state(&run).word(), word);
    if word == "proving" {
        run.given(Input::RungLooked { step: FIRST, attempt: 1, rung: 0, answer: Answer::holds("drained"), logs: vec![] });
        assert_eq!(state(&run).word(), "done", "it has one rung");
    }
}

/// Where it does not show in time, it failed; where besides nobody knows what became of it, that is so.
#[rstest]
#[case::it_ended(true, "failed")]
#[case::nobody_knows(false, "outcome unknown")]
fn a_further_act_that_does_not_show_in_time(#[case] ended: bool, #[case] word: &str) {
    let mut run = acted("ladder = [{ rung = \"file\", path = \"/e/drained\" }]\nchanges_nothing = true");
    run.given(Input::ActBegun { step: FIRST, act: ActId(1), begun: begun_now() });
    match ended {
        true => run.given(Input::ActEnded { step: FIRST, act: ActId(1), end: ActEnd::Exited { code: 0, output: String::new() } }),
        false => run.given(Input::ActUnknown { step: FIRST, act: ActId(1) }),
    };
    run.waits(61_000);
    run.given(Input::Tick);
    assert_eq!(state(&run).word(), word);
}

/// What carries an act out is its own command; what shows it is its ladder, on the service's host.
#[test]
fn what_carries_an_act_and_what_shows_it() {
    let run = acted("ladder = [{ rung = \"file\", path = \"/e/drained\" }]\nchanges_nothing = true");
    let acts = run.run.carried(FIRST, true).unwrap();
    let shows = run.run.carried(FIRST, false).unwrap();
    let ServiceRunner::Commands(spec) = &acts.runner else { panic!("{:?}", acts.runner) };
    assert_eq!(spec.start, ["/bin/drain"]);
    assert!(shows.ladder.iter().any(|r| matches!(&r.kind, RungKind::File { path, .. } if path == "/e/drained")), "{:?}", shows.ladder);
    assert!(!acts.ladder.iter().any(|r| matches!(r.kind, RungKind::File { .. })));
}

/// A look that must hold holds at once or not at all; with patience of its own it is waited for.
#[rstest]
#[case::at_once("", "failed")]
#[case::with_patience(", patience = \"30s\"", "proving")]
fn a_look_holds_at_once_or_with_patience(#[case] with: &str, #[case] word: &str) {
    let mut run = begun(&format!("look = {{ rung = \"file\", path = \"/e/there\" }}, on = \"h\"{with}"));
    assert_eq!(state(&run).word(), "proving", "it has one rung to climb");
    run.given(Input::RungLooked {
        step: FIRST,
        attempt: run.run.step_now(FIRST).attempts,
        rung: 0,
        answer: Answer::not_yet("no"),
        logs: vec![],
    });
    assert_eq!(state(&run).word(), word);
}

/// A line's ladder is climbed as such, whatever line it is.
#[rstest]
#[case("until = [{ rung = \"file\", path = \"/e/there\" }], on = \"h\"")]
#[case("look = { rung = \"file\", path = \"/e/there\" }, on = \"h\"")]
fn a_line_is_climbed_as_what_is_awaited(#[case] line: &str) {
    let mut run = begun(line);
    run.is_read_back();
    let kinds: Vec<StepKind> =
        run.run.recover().iter().filter_map(|o| if let Order::Climb { kind, .. } = o { Some(*kind) } else { None }).collect();
    assert_eq!(kinds, [StepKind::Await]);
}

/// What has to stand so while work goes on is named with it, and nobody else may act on what has to be down.
#[test]
fn what_has_to_stand_so_is_kept_from_others() {
    let lines = ["work = [\"/bin/patch\"], on = \"h\", while_down = [\"log\"], while_up = [\"db\"]"];
    let run = crate::played::night("db, log, app", "", &lines, "log=down");
    let names: Vec<String> = run.run.stands_meanwhile(FIRST).iter().map(|s| s.address.to_string()).collect();
    assert_eq!(names, ["h/log", "h/db"]);
    let leans = |name: &str| Wants::new(Default::default(), crate::estates::addresses(name));
    let mine = run.run.wants();
    assert!(mine.excludes(&leans("log")), "nobody may start it meanwhile");
    assert!(!mine.excludes(&leans("db")), "others may count on it, too");
    assert!(mine.excludes(&Wants::new(crate::estates::addresses("db"), Default::default())));
}

/// A step that awaits a decision says so.
#[test]
fn who_awaits_a_decision() {
    let run = begun("question = { asks = \"Go on?\" }");
    assert!(state(&run).awaits_decision());
    assert!(!begun("pause = \"10s\"").run.step_now(FIRST).state.awaits_decision());
}

/// The schema tells of every state of a step by which word it is known, of an end too.
#[test]
fn the_schema_of_a_step_tells_each_state() {
    let schema = schemars::schema_for!(StepState).to_value();
    let variants = schema["oneOf"].as_array().unwrap();
    let own: Vec<&str> = variants.iter().filter_map(|v| v["properties"]["state"]["const"].as_str()).collect();
    assert_eq!(own, ["waiting", "pausing", "asking", "acting", "proving", "failed", "outcome-unknown"]);
    let ended: Vec<&str> = variants.iter().filter_map(|v| v["allOf"][1]["properties"]["state"]["const"].as_str()).collect();
    assert_eq!(ended, ["ended"]);
    assert_eq!(own.len() + ended.len(), variants.len());
}
