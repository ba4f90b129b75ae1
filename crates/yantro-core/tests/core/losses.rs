//! What is lost by itself meanwhile: of what that is said, how long it has to come back, and what it keeps a run from (R18).

use std::time::Duration;

use rstest::rstest;
use yantro_core::{
    plan::{Request, StepId},
    proof::{Answer, SeenState},
    run::{ActEnd, DecisionKind, Event, HoldCause, Input, Order, RunEnd, StepEnd, StepState, Taken},
    words::{
        kinds::{StepKind, Wish},
        name::Address,
    },
};

use crate::{
    by_hand::{began_so, decision},
    estates::{addresses, seen},
    played::{Played, night},
};

const APP: &str = "[service.app]\nlike = \"x\"\nsteady = \"0s\"\nladder = [{ rung = \"port\", port = 1 }]\nrelies_on = [\"db\"]\n\
    start = { patience = \"40s\", must_not_see = [\"panic\"] }\n";

fn wished(wish: Wish, chosen: &str, found: &str) -> Played {
    Played::of(began_so("db, log", APP, found, &Request::new(wish, addresses(chosen))), found)
}

fn at(name: &str) -> Address {
    format!("h/{name}").parse().unwrap()
}

fn is_seen(played: &mut Played, text: &str) -> Vec<String> {
    let mut lost = Vec::new();
    for (address, state) in seen(text) {
        let taken = played.given(Input::Seen { address, state, says: "so".into() });
        lost.extend(taken.events.iter().filter_map(|e| match e {
            Event::ServiceLost { address, .. } => Some(format!("lost {address}")),
            Event::ServiceRegained { address } => Some(format!("regained {address}")),
            _ => None,
        }));
    }
    lost
}

/// What was found proven and is not touched, and what the run brought up, is to stay so; what only rises, or could not be looked at,
/// is not lost.
#[rstest]
#[case::down("db=down", &["lost h/db"])]
#[case::not_well("db=ailing", &["lost h/db"])]
#[case::going_down("db=sinking", &["lost h/db"])]
#[case::out_of_reach("db=out", &["lost h/db"])]
#[case::rising("db=rising", &[])]
#[case::not_looked_at("db=unknown", &[])]
#[case::it_is_still_so("db=proven", &[])]
#[case::what_is_about_to_be_stopped("app=down", &[])]
fn what_leaves_its_state_is_lost(#[case] text: &str, #[case] expected: &[&str]) {
    let mut played = wished(Wish::Stop, "app", "");
    assert_eq!(is_seen(&mut played, text), expected);
    assert_eq!(is_seen(&mut played, text), [] as [&str; 0], "it is told once");
}

/// What was found down is nobody's loss, though somebody brought it up meanwhile; nor is what the run itself took down, or has not
/// brought up yet.
#[test]
fn only_what_is_to_be_proven_can_be_lost() {
    let mut played = wished(Wish::Start, "app", "app=down log=down");
    assert_eq!(is_seen(&mut played, "log=proven"), [] as [&str; 0]);
    assert_eq!(is_seen(&mut played, "log=down"), [] as [&str; 0], "it was found down");
    let step = played.step(StepKind::Start, "app");
    played.acts(step);
    assert_eq!(is_seen(&mut played, "app=proven"), [] as [&str; 0]);
    assert_eq!(is_seen(&mut played, "app=down"), [] as [&str; 0], "it is on its way up");
    let mut played = wished(Wish::Stop, "app", "");
    played.goes_on(1);
    assert_eq!(is_seen(&mut played, "app=proven"), [] as [&str; 0]);
    assert_eq!(is_seen(&mut played, "app=down"), [] as [&str; 0], "it was taken down");
}

/// It has the patience of its start to come back, and is lost for good at that moment: then the step that brought it up has failed, or
/// the run holds for what it never touched.
#[rstest]
#[case::what_it_brought_up("app", 40)]
#[case::what_it_only_counts_on("db", 60)]
fn what_was_lost_has_its_patience_to_come_back(#[case] name: &str, #[case] seconds: u64) {
    let mut played = wished(Wish::Start, "app", "app=down");
    played.goes_on(1);
    assert_eq!(is_seen(&mut played, &format!("{name}=down")), [format!("lost h/{name}")]);
    let ends = played.run.now + Duration::from_secs(seconds);
    assert_eq!(played.run.run.next_deadline(), Some(ends));
    played.run.waits(seconds * 1000 - 1);
    played.given(Input::Tick);
    assert_eq!(played.run.run.hold_no(), None);
    played.run.waits(1);
    played.given(Input::Tick);
    let causes: Vec<HoldCause> = played.run.run.hold_causes().cloned().collect();
    match name {
        "app" => {
            assert_eq!(causes, [HoldCause::Step { step: StepId(1) }]);
            let reason = "it was proven, and is down since".to_owned();
            assert_eq!(played.run.run.step_now(StepId(1)).state, StepState::Failed { reason });
        }
        _ => assert_eq!(causes, [HoldCause::Lost { address: at(name) }]),
    }
}

/// What came back in time is told, and what holds for it goes on by itself once it does.
#[test]
fn what_comes_back_is_told() {
    let mut played = wished(Wish::Start, "app", "app=down");
    played.goes_on(1);
    is_seen(&mut played, "db=down");
    assert_eq!(is_seen(&mut played, "db=proven"), ["regained h/db"]);
    is_seen(&mut played, "db=down");
    played.run.waits(60_000);
    played.given(Input::Tick);
    assert!(played.run.run.hold_no().is_some());
    is_seen(&mut played, "db=proven");
    assert_eq!(played.run.run.hold_no(), None);
}

/// What a later line takes down on purpose has nothing to come back to.
#[rstest]
#[case::it_was_down_already(true)]
#[case::it_had_to_be_stopped(false)]
fn what_is_taken_down_on_purpose_is_not_awaited_any_more(#[case] is_down: bool) {
    let lines = ["start = [\"app\"]", "pause = \"1s\"", "stop = [\"app\"]", "work = [\"/bin/patch\"], on = \"h\", patience = \"10m\""];
    let mut played = Played::of(night("db, log", APP, &lines, "app=down"), "app=down");
    played.goes_on(1);
    let lost = is_seen(&mut played, if is_down { "app=down" } else { "app=ailing" });
    assert_eq!(lost, ["lost h/app"], "it is to be down later, and not yet");
    played.stands.extend(seen(if is_down { "app=down" } else { "app=ailing" }));
    played.run.waits(1_000);
    played.given(Input::Tick);
    let stop = played.step(StepKind::Stop, "app");
    if is_down {
        let stands = played.stands.clone();
        played.given(Input::FreshLooked { step: stop, seen: stands });
        assert_eq!(played.run.run.step_now(stop).state, StepState::Ended(StepEnd::Unneeded));
    } else {
        played.goes_on(1);
    }
    played.run.waits(60_000);
    played.given(Input::Tick);
    assert_eq!(played.run.run.hold_causes().count(), 0, "{:?}", played.run.run.hold_causes().collect::<Vec<_>>());
}

/// A run does not end while something of it is lost: it has its patience.
#[test]
fn a_run_does_not_end_over_what_it_lost() {
    let asks = |taken: &Taken| taken.orders.iter().any(|o| matches!(o, Order::FinalLook));
    let mut played = wished(Wish::Start, "app", "app=down");
    let step = played.step(StepKind::Start, "app");
    played.acts(step);
    is_seen(&mut played, "db=down");
    let taken = played.given(Input::RungLooked { step, attempt: 1, rung: 0, answer: Answer::holds("so"), logs: vec![] });
    let more: Vec<Taken> = (1..played.run.run.service(step).ladder_of(StepKind::Start).len() as u32)
        .map(|rung| played.given(Input::RungLooked { step, attempt: 1, rung, answer: Answer::holds("so"), logs: vec![] }))
        .collect();
    assert!(played.run.run.step_now(step).state.has_ended());
    assert!(!asks(&taken) && !more.iter().any(asks));
    let back = played.given(Input::Seen { address: at("db"), state: SeenState::Proven, says: "so".into() });
    assert!(asks(&back), "now it may");
}

/// Held by an operator it does not end either.
#[test]
fn a_held_run_does_not_end() {
    let mut played = wished(Wish::Stop, "app", "");
    let step = played.step(StepKind::Stop, "app");
    played.acts(step);
    played.given(Input::Decide(decision(DecisionKind::Hold, None)));
    played.ends(step, ActEnd::Sent);
    let hold = played.run.run.hold_no();
    let taken = played.given(Input::FinalLooked { seen: played.stands.clone() });
    assert!(taken.events.is_empty() && !played.run.run.has_ended());
    let taken = played.given(Input::Decide(decision(DecisionKind::Resume, hold)));
    assert!(taken.orders.iter().any(|o| matches!(o, Order::FinalLook)));
}

// ---- the last look of a way back ----

/// A run that is put back: stopped, and started again on the way back, up to its last look.
fn put_back(found: &str) -> Played {
    let mut played = Played::of(night("db, log", APP, &["stop = [\"app\"]", "pause = \"1h\""], found), found);
    played.goes_on(1);
    played.given(Input::Decide(decision(DecisionKind::PutBack, None)));
    played
}

/// What is done on the way back and fails after all, while the last look is taken, keeps the run from ending.
#[test]
fn what_fails_under_the_last_look_of_the_way_back_keeps_it_open() {
    let mut played = put_back("");
    let stands = played.stands.clone();
    played.given(Input::FinalLooked { seen: stands });
    played.goes_on(1);
    let start = played.run.run.steps().last().unwrap().0.id;
    played.given(Input::RungLooked { step: start, attempt: 1, rung: 0, answer: Answer::against("panic"), logs: vec![] });
    assert!(played.run.run.step_now(start).state.awaits_decision());
    let stands = played.stands.clone();
    let taken = played.given(Input::FinalLooked { seen: stands });
    assert!(taken.events.is_empty() && !played.run.run.has_ended(), "{:?}", taken.events);
}

/// Where nothing is left to put back, the look that shows so is the last.
#[test]
fn where_nothing_is_left_to_put_back_it_ends_by_that_look() {
    let mut played = put_back("");
    played.stands.extend(seen("app=proven"));
    let stands = played.stands.clone();
    let taken = played.given(Input::FinalLooked { seen: stands });
    let end = taken
        .events
        .iter()
        .find_map(|e| if let Event::Ended { end, differences, .. } = e { Some((*end, differences.len())) } else { None });
    assert_eq!(end, Some((RunEnd::PutBack, 0)));
}

/// What was found ailing is put back where it stands no worse; what was found proven is not, where it ails.
#[rstest]
#[case::found_ailing_and_proven_now("app=ailing", "app=proven", RunEnd::PutBack)]
#[case::found_ailing_and_so_again("app=ailing", "app=ailing", RunEnd::PutBack)]
#[case::found_proven_and_ailing_now("", "app=ailing", RunEnd::PutBackInPart)]
#[case::another_ails("", "log=ailing", RunEnd::PutBackInPart)]
fn what_was_found_ailing_is_put_back_no_worse_than_that(#[case] found: &str, #[case] last: &str, #[case] end: RunEnd) {
    let mut played = put_back(found);
    let stands = played.stands.clone();
    played.given(Input::FinalLooked { seen: stands });
    played.goes_on(1);
    played.stands.extend(seen(last));
    let stands = played.stands.clone();
    let taken = played.given(Input::FinalLooked { seen: stands });
    let ended = taken.events.iter().find_map(|e| if let Event::Ended { end, .. } = e { Some(*end) } else { None });
    assert_eq!(ended, Some(end), "{:?}", taken.events);
}

// ---- what has to stand so while work goes on ----

/// It is noted while the work goes on, once, and where it stands otherwise than it must: not before, and not of another service.
#[test]
fn what_stands_otherwise_beside_work_is_noted_once() {
    let lines = ["pause = \"1s\"", "work = [\"/bin/patch\"], on = \"h\", while_down = [\"log\"]"];
    let mut played = Played::of(night("db, log", APP, &lines, "log=down"), "log=down");
    let noted = |played: &mut Played, text: &str| {
        let mut noted = 0;
        for (address, state) in seen(text) {
            let taken = played.given(Input::Seen { address, state, says: "so".into() });
            noted += taken.events.iter().filter(|e| matches!(e, Event::StoodOtherwise { .. })).count();
        }
        noted
    };
    assert_eq!(noted(&mut played, "log=proven"), 0, "nobody works yet");
    assert_eq!(noted(&mut played, "log=down"), 0);
    played.run.waits(1_000);
    played.given(Input::Tick);
    played.acts(StepId(2));
    assert_eq!(noted(&mut played, "log=down"), 0, "as it must");
    assert_eq!(noted(&mut played, "log=unknown"), 0, "nobody can say");
    assert_eq!(noted(&mut played, "db=ailing"), 0, "another's affair");
    assert_eq!(noted(&mut played, "log=proven"), 1);
    assert_eq!(noted(&mut played, "log=ailing"), 0, "once is enough");
}
