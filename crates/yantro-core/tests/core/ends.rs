//! How a run ends: what it is called, what differs from as found, and what stands otherwise than it was to be left.

use std::collections::BTreeMap;

use rstest::rstest;
use yantro_core::{
    plan::{Request, StepId},
    proof::Answer,
    run::{ActEnd, ActId, DecisionKind, Event, Input, Order, RunEnd},
    words::{kinds::Wish, name::Address},
};

use crate::{
    by_hand::{Began, began_so, begun_now, decision},
    estates::{addresses, seen},
    played::{Played, night},
};

const APP: &str = "[service.app]\nlike = \"x\"\nsteady = \"0s\"\nladder = [{ rung = \"port\", port = 1 }]\nrelies_on = [\"db\"]\n";

/// A run that has done its one step, up to its last look.
fn done(wish: Wish, chosen: &str, found: &str) -> Began {
    let mut run = began_so("db, log", APP, found, &Request::new(wish, addresses(chosen)));
    run.given(Input::Locked);
    let mut all: BTreeMap<Address, _> = run.found();
    all.extend(seen(found));
    run.given(Input::FirstLooked { seen: all.clone(), rungs: BTreeMap::new(), processes: BTreeMap::new(), unconfirmed: vec![] });
    let step = run.run.steps().find(|(s, _)| s.is_on(&"h/app".parse().unwrap())).map_or(StepId(1), |(s, _)| s.id);
    run.given(Input::FreshLooked { step, seen: all });
    run.given(Input::ActBegun { step, act: ActId(1), begun: begun_now() });
    run.given(Input::ActEnded { step, act: ActId(1), end: ActEnd::Sent });
    let kind = run.run.begun.sequence.step(step).kind();
    for rung in 0..run.run.service(step).ladder_of(kind).len() as u32 {
        run.given(Input::RungLooked { step, attempt: 1, rung, answer: Answer::holds("so"), logs: vec![] });
    }
    run
}

type Ended = (RunEnd, Vec<String>, Vec<String>);

fn ended(run: &mut Began, last: &str) -> Option<Ended> {
    let mut all: BTreeMap<Address, _> = run.found();
    all.extend(seen(last));
    let taken = run.given(Input::FinalLooked { seen: all });
    taken.events.into_iter().find_map(|e| match e {
        Event::Ended { end, differences, otherwise } => Some((
            end,
            differences.into_iter().map(|d| format!("{} {} {}", d.address, d.found, d.now)).collect(),
            otherwise.into_iter().map(|o| o.says()).collect(),
        )),
        _ => None,
    })
}

/// A stop leaves its service down: where it is up again by the last look, the run is not called finished.
#[rstest]
#[case::it_is_down("app=down", RunEnd::Finished, &["h/app proven down"], &[])]
#[case::it_is_up_again("", RunEnd::FinishedWithExceptions, &[], &["h/app is proven, and was to be down"])]
#[case::nobody_can_say(
    "app=unknown", RunEnd::FinishedWithExceptions, &["h/app proven unknown"], &["h/app was found proven and is left unknown; it was to be down"])]
fn a_stop_is_finished_once_its_service_is_seen_down(
    #[case] last: &str,
    #[case] end: RunEnd,
    #[case] differences: &[&str],
    #[case] otherwise: &[&str],
) {
    let mut run = done(Wish::Stop, "app", "");
    let told = ended(&mut run, last).unwrap();
    let own = |all: &[&str]| all.iter().map(|t| (*t).to_owned()).collect::<Vec<_>>();
    assert_eq!(told, (end, own(differences), own(otherwise)));
}

/// What a start brought up, and what it only needed, is to be proven by the last look: what left that has its patience first.
#[rstest]
#[case::all_is_proven("", Some((RunEnd::Finished, vec!["h/app down proven".to_owned()], vec![])))]
#[case::it_is_lost("app=down", None)]
#[case::what_it_needs_is_lost("db=ailing", None)]
#[case::what_it_has_nothing_to_do_with_is_lost("log=out", None)]
fn a_start_is_finished_once_all_that_it_answers_for_is_proven(#[case] last: &str, #[case] expected: Option<Ended>) {
    let mut run = done(Wish::Start, "app", "app=down");
    assert_eq!(ended(&mut run, last), expected);
    assert_eq!(run.run.has_ended(), expected.is_some());
}

/// Given up, a run says all that differs from as found, and is called given up whatever that is.
#[test]
fn a_run_that_is_given_up_lists_what_differs() {
    let mut run = done(Wish::Start, "app", "app=down");
    let given_up = run.given(Input::Decide(decision(DecisionKind::GiveUp, None)));
    assert!(given_up.orders.iter().all(|o| !matches!(o, Order::Act { .. })));
    let (end, differences, _) = ended(&mut run, "db=down").unwrap();
    assert_eq!((end, differences), (RunEnd::GivenUp, vec!["h/app down proven".to_owned(), "h/db proven down".to_owned()]));
}

/// A last look that nobody asked for ends nothing.
#[test]
fn a_last_look_counts_only_at_the_end() {
    let mut run = began_so("app -> db", "", "", &Request::new(Wish::Stop, addresses("app")));
    run.first_looks(&[]);
    assert_eq!(ended(&mut run, ""), None);
}

/// What stands otherwise than it was to be left, by the last of its steps that took it up or down; what was left out took nothing.
#[rstest]
#[case::a_start_that_did_its_work(&["start = [\"app\"]", "pause = \"1h\""], "app=down", 1, "app=ailing", &["h/app is ailing, and was to be proven"])]
#[case::a_stop_that_was_left_out(&["pause = \"1h\"", "stop = [\"app\"]"], "", 0, "", &[])]
#[case::what_is_not_touched(&["pause = \"1h\"", "stop = [\"app\"]"], "", 0, "log=down", &["h/log was found proven and is left down; it was to be proven"])]
#[case::what_was_found_so(&["pause = \"1h\"", "stop = [\"app\"]"], "log=ailing", 0, "log=ailing", &[])]
fn what_stands_otherwise_than_it_was_to_be_left(
    #[case] lines: &[&str],
    #[case] found: &str,
    #[case] steps: usize,
    #[case] last: &str,
    #[case] expected: &[&str],
) {
    let mut played = Played::of(night("db, log", APP, lines, found), found);
    played.goes_on(steps);
    played.given(Input::Decide(decision(DecisionKind::GiveUp, None)));
    played.stands.extend(seen(last));
    assert_eq!(otherwise(&mut played).1, expected);
}

fn otherwise(played: &mut Played) -> (RunEnd, Vec<String>) {
    let seen = played.stands.clone();
    let taken = played.given(Input::FinalLooked { seen });
    let ended = taken.events.into_iter().find_map(|e| match e {
        Event::Ended { end, otherwise, .. } => Some((end, otherwise.iter().map(|o| o.says()).collect())),
        _ => None,
    });
    ended.expect("it ends")
}

/// Put back, a run set out to leave everything as it was found: what it took down on its way is to be up, whoever brought it up.
#[rstest]
#[case::it_came_up_by_itself("app=proven", RunEnd::PutBack, &[])]
#[case::it_did_not("app=down", RunEnd::PutBackInPart, &["h/app was found proven and is left down; it was to be proven"])]
fn what_is_put_back_is_to_stand_as_it_was_found(#[case] last: &str, #[case] end: RunEnd, #[case] expected: &[&str]) {
    let mut played = Played::of(night("db, log", APP, &["stop = [\"app\"]", "pause = \"1h\""], ""), "");
    played.goes_on(1);
    played.given(Input::Decide(decision(DecisionKind::PutBack, None)));
    if last == "app=down" {
        let stands = played.stands.clone();
        played.given(Input::FinalLooked { seen: stands });
        played.goes_on(1);
    }
    played.stands.extend(seen(last));
    let own: Vec<String> = expected.iter().map(|t| (*t).to_owned()).collect();
    assert_eq!(otherwise(&mut played), (end, own));
}

/// Does the first step, is put back, and does the first of the way back.
fn goes_and_comes_back(played: &mut Played) {
    played.goes_on(1);
    played.given(Input::Decide(decision(DecisionKind::PutBack, None)));
    let seen = played.stands.clone();
    played.given(Input::FinalLooked { seen });
    played.goes_on(1);
}

/// What was brought up and is taken down again on the way back is to be down.
#[test]
fn what_is_taken_down_on_the_way_back_is_to_be_down() {
    let mut played = Played::of(night("db, log", APP, &["start = [\"app\"]", "pause = \"1h\""], "app=down"), "app=down");
    goes_and_comes_back(&mut played);
    played.stands.extend(seen("app=proven"));
    assert_eq!(otherwise(&mut played), (RunEnd::PutBackInPart, vec!["h/app is proven, and was to be down".to_owned()]));
}

/// What something else brings back was not to be left down by whoever stopped it.
#[test]
fn what_something_else_brings_back_is_not_to_be_down() {
    let more = APP.replace("steady", "brought_back_by = \"a watchdog\"\nsteady");
    let mut played = Played::of(night("db, log", &more, &["stop = [\"app\"]", "pause = \"1h\""], ""), "");
    played.goes_on(1);
    played.stands.extend(seen("app=proven"));
    played.given(Input::Decide(decision(DecisionKind::GiveUp, None)));
    assert_eq!(otherwise(&mut played).1, [] as [&str; 0]);
}

/// What was found ailing and is put back is to stand no worse, which is judged by what differs.
#[test]
fn what_was_found_ailing_is_not_to_be_proven_on_the_way_back() {
    let mut played = Played::of(night("db, log", APP, &["stop = [\"app\"]", "pause = \"1h\""], "app=ailing"), "app=ailing");
    goes_and_comes_back(&mut played);
    played.stands.extend(seen("app=ailing"));
    assert_eq!(otherwise(&mut played), (RunEnd::PutBack, vec![]));
}

/// What was found proven and is not any more comes first.
#[test]
fn what_was_lost_to_its_users_comes_first() {
    let mut played = Played::of(night("db, log", APP, &["start = [\"app\"]", "pause = \"1h\""], "app=down"), "app=down");
    played.goes_on(1);
    played.given(Input::Decide(decision(DecisionKind::GiveUp, None)));
    played.stands.extend(seen("app=ailing log=down"));
    let told = otherwise(&mut played).1;
    assert_eq!(told, ["h/log was found proven and is left down; it was to be proven", "h/app is ailing, and was to be proven"]);
}
