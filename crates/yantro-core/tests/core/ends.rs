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
    estates::addresses,
    promises::seen,
};

/// A run that has done its one step, up to its last look.
fn done(wish: Wish, chosen: &str, found: &str) -> Began {
    let more = "[service.app]\nlike = \"x\"\nsteady = \"0s\"\nladder = [{ rung = \"port\", port = 1 }]\nrelies_on = [\"db\"]\n";
    let mut run = began_so("db, log", more, found, &Request::new(wish, addresses(chosen)));
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
