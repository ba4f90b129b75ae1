//! Runs played in a made-up world: what must always hold, whatever goes wrong.

use std::collections::{BTreeMap, BTreeSet};

use proptest::prelude::*;
use rstest::rstest;
use yantro_core::{
    plan::{Request, StepId, forecast::Prefer},
    proof::{Answer, SeenState},
    run::{ActEnd, ActKind, Begun, Decision, DecisionKind, Event, Input, Order, Refusal, Run, RunState, StepEnd, StepState, Taken},
    words::{kinds::Wish, name::Address, time::Timestamp},
};

use crate::{
    by_hand::{Began, began, began_so, begun_now, decision},
    estates::{addresses, estate, facts},
    world::{Fault, Operator, World, told},
};

fn world(relations: &str, more: &str, found: &str, faults: &[(&str, Fault)]) -> World {
    let (estate, _) = estate(relations, more);
    let facts = facts(&estate, found);
    let faults = faults.iter().map(|(n, f)| (format!("h/{n}").parse().unwrap(), *f)).collect();
    World::new(estate, &facts, faults)
}

fn at(name: &str) -> Address {
    format!("h/{name}").parse().unwrap()
}

#[test]
fn a_restart_stops_backwards_and_starts_forwards() {
    let mut world = world("app -> db, front -> app", "", "", &[]);
    let run = world.play(&Request::new(Wish::Restart, addresses("db")), Operator::GivesUp).unwrap();
    assert_eq!(run.state(), RunState::Finished);
    let acts: Vec<String> = world.acts.iter().map(|(k, a)| format!("{} {}", k.word(), a.service)).collect();
    assert_eq!(acts, ["stop front", "stop app", "stop db", "start db", "start app", "start front"]);
}

#[test]
fn a_failed_start_holds_and_nothing_that_waits_on_it_begins() {
    let mut world = world("app -> db, front -> app", "", "", &[("app", Fault::StartEnds(99))]);
    let run = world.play(&Request::new(Wish::Restart, addresses("db")), Operator::GivesUp).unwrap();
    assert_eq!(run.state(), RunState::GivenUp);
    assert!(!world.acts.contains(&(ActKind::Start, at("front"))));
    let (_, _, differences) = run.end().unwrap();
    let differ: Vec<String> = differences.iter().map(|d| d.address.to_string()).collect();
    assert_eq!(differ, ["h/app", "h/front"], "every difference from as found is listed");
}

#[rstest]
#[case::once(Fault::StartEnds(1))]
#[case::left_hanging(Fault::NeverReady(1))]
fn tried_again_it_goes_on_once_the_earlier_attempt_is_gone(#[case] fault: Fault) {
    let mut world = world("app -> db", "", "", &[("app", fault)]);
    let run = world.play(&Request::new(Wish::Restart, addresses("db")), Operator::TriesAgain).unwrap();
    assert_eq!(run.state(), RunState::Finished);
    let starts = world.acts.iter().filter(|a| **a == (ActKind::Start, at("app"))).count();
    let clears = world.acts.iter().filter(|a| **a == (ActKind::Clear, at("app"))).count();
    assert_eq!((starts, clears), (2, usize::from(matches!(fault, Fault::NeverReady(_)))));
}

#[test]
fn attempts_are_made_by_themselves_up_to_their_number() {
    let more = "[service.flaky]\nlike = \"x\"\nladder = [{ rung = \"port\", port = 9 }]\nstart = { attempts = 3, gap = \"1s\" }\n";
    let mut world = world("db", more, "flaky=down", &[("flaky", Fault::StartEnds(2))]);
    let run = world.play(&Request::new(Wish::Start, addresses("flaky")), Operator::GivesUp).unwrap();
    assert_eq!((run.state(), world.acts.len()), (RunState::Finished, 3));
}

#[test]
fn carry_on_passes_over_what_waits_and_finishes_the_rest() {
    let more = "[service.side]\nlike = \"x\"\nladder = [{ rung = \"port\", port = 9 }]\nrelies_on = [\"db\"]\nif_it_fails = \"carry-on\"\n\
                [service.above]\nlike = \"x\"\nladder = [{ rung = \"port\", port = 8 }]\nrelies_on = [\"side\"]\n";
    let mut world = world("app -> db", more, "", &[("side", Fault::StartEnds(99))]);
    let run = world.play(&Request::new(Wish::Restart, addresses("db")), Operator::GivesUp).unwrap();
    assert_eq!(run.state(), RunState::FinishedWithExceptions);
    assert_eq!(world.state(&at("app")), SeenState::Proven);
    let passed = run.steps().filter(|(_, n)| matches!(n.state, StepState::Ended(StepEnd::PassedOver { .. }))).count();
    assert_eq!(passed, 2);
}

#[rstest]
#[case::allowed("allow", true)]
#[case::never("never", false)]
fn force_is_used_only_where_it_may_be(#[case] force: &str, #[case] used: bool) {
    let more = format!(
        "[service.stuck]\nlike = \"x\"\nladder = [{{ rung = \"port\", port = 9 }}]\nstop = {{ force = \"{force}\", patience = \"5s\" }}\n"
    );
    let mut world = world("db", &more, "", &[("stuck", Fault::IgnoresStop)]);
    world.play(&Request::new(Wish::Stop, addresses("stuck")), Operator::GivesUp).unwrap();
    assert_eq!(world.acts.contains(&(ActKind::Force, at("stuck"))), used);
}

#[test]
fn asked_and_allowed_it_is_forced() {
    let more = "[service.stuck]\nlike = \"x\"\nladder = [{ rung = \"port\", port = 9 }]\nstop = { force = \"ask\", patience = \"5s\" }\n";
    let mut world = world("db", more, "", &[("stuck", Fault::IgnoresStop)]);
    let run = world.play(&Request::new(Wish::Stop, addresses("stuck")), Operator::TriesAgain).unwrap();
    assert_eq!((run.state(), world.state(&at("stuck"))), (RunState::Finished, SeenState::Down));
}

#[test]
fn a_released_service_is_left_to_others_and_the_rest_goes_on() {
    let mut world = world("app -> db, front -> app, side -> db", "", "", &[("app", Fault::StartEnds(99))]);
    let run = world.play(&Request::new(Wish::Restart, addresses("db")), Operator::Releases).unwrap();
    assert_eq!(run.state(), RunState::FinishedWithExceptions);
    assert!(run.is_released(&at("app")) && world.unlocked.contains(&at("app")));
    assert!(!run.answerable().any(|a| *a == at("app")), "it is answerable for it no longer");
    assert_eq!(world.state(&at("side")), SeenState::Proven, "what does not wait on it goes on");
    assert!(!world.acts.contains(&(ActKind::Start, at("front"))), "what waits on it is passed over");
    let replayed = Run::replay(run.id, world.events.clone()).unwrap();
    assert!(replayed.is_released(&at("app")));
}

#[rstest]
#[case::a_service_it_has_nothing_of("elsewhere", "does not hold")]
#[case::one_that_is_worked_on("app", "is acting")]
fn what_cannot_be_released_is_refused(#[case] name: &str, #[case] says: &str) {
    let mut run = began("app -> db", "db");
    run.first_looks(&[]);
    let seen = run.found();
    run.given(Input::FreshLooked { step: StepId(1), seen });
    run.given(Input::Decide(decision(DecisionKind::Hold, None)));
    let hold = run.run.hold_no();
    let refused = run.refused(Input::Decide(decision(DecisionKind::Release { address: at(name) }, hold)));
    assert!(refused.to_string().contains(says), "{refused}");
    assert!(!refused.hint().is_empty());
}

#[test]
fn a_service_is_released_only_from_a_held_run() {
    let mut run = began("app -> db", "db");
    run.first_looks(&[]);
    let refused = run.refused(Input::Decide(decision(DecisionKind::Release { address: at("db") }, None)));
    assert_eq!(refused, Refusal::NotHeld { run: 1 });
    assert!(!run.run.allowed().iter().any(|a| matches!(a.kind, DecisionKind::Release { .. })));
}

#[rstest]
#[case::one_by_one(1)]
#[case::two(2)]
#[case::no_limit(99)]
fn a_run_works_on_no_more_at_once_than_it_was_asked_to(#[case] limit: u32) {
    let mut world = world("a, b, c, d, e", "", "a=down b=down c=down d=down e=down", &[]);
    world.at_once = Some(limit);
    let run = world.play(&Request::new(Wish::Start, addresses("a b c d e")), Operator::GivesUp).unwrap();
    assert_eq!(run.state(), RunState::Finished);
    let most = most_at_once(&world.events);
    assert_eq!(most, limit.min(5) as usize);
}

/// How many steps were under way at once, at most.
fn most_at_once(events: &[(Timestamp, Event)]) -> usize {
    let mut under_way: BTreeSet<StepId> = BTreeSet::new();
    let mut most = 0;
    for (_, event) in events {
        match event {
            Event::ActIntended { step, .. } => drop(under_way.insert(*step)),
            Event::StepEnded { step, .. } => drop(under_way.remove(step)),
            _ => {}
        }
        most = most.max(under_way.len());
    }
    most
}

/// A decision that does not fit is refused, and says what it would take.
#[rstest]
#[case::without_a_reason(Decision { why: None, ..decision(DecisionKind::GiveUp, None) }, "needs a reason")]
#[case::an_empty_reason(Decision { why: Some("  ".into()), ..decision(DecisionKind::GiveUp, None) }, "needs a reason")]
#[case::no_such_step(decision(DecisionKind::PassOver { step: StepId(77) }, None), "has no step 77")]
#[case::not_held(decision(DecisionKind::Resume, None), "not held")]
#[case::another_hold(decision(DecisionKind::Resume, Some(4)), "not held")]
#[case::a_step_that_awaits_nothing(decision(DecisionKind::Vouch { step: StepId(1) }, None), "not held")]
fn decisions_that_do_not_fit_are_refused(#[case] wrong: Decision, #[case] says: &str) {
    let mut run = began("app -> db", "db");
    run.first_looks(&[]);
    let seen = run.found();
    run.given(Input::FreshLooked { step: StepId(1), seen });
    let refused = run.refused(Input::Decide(wrong));
    assert!(refused.to_string().contains(says), "{refused}");
    assert!(!refused.hint().is_empty());
}

/// Two people answer the same hold: the first counts, the second is told.
#[test]
fn of_two_decisions_on_one_hold_the_first_counts() {
    let mut run = began("app -> db", "db");
    run.first_looks(&[]);
    run.given(Input::Decide(decision(DecisionKind::Hold, None)));
    let hold = run.run.hold_no();
    assert_eq!(hold, Some(1));
    run.given(Input::Decide(decision(DecisionKind::Resume, hold)));
    let refused = run.refused(Input::Decide(Decision { who: "tove".into(), ..decision(DecisionKind::Resume, hold) }));
    assert_eq!(refused, Refusal::Stale { by: "maren decided: resume".into() });
}

/// A service with another on it, the first of which has climbed its ladder and only has to stay steady.
fn steady(steady: &str, pause: &str) -> Began {
    let more = format!(
        "[service.db]\nlike = \"x\"\nsteady = \"{steady}\"\nladder = [{{ rung = \"port\", port = 9 }}]\nstart = {{ pause_after = \"{pause}\" }}\n\
         [service.app]\nlike = \"x\"\nladder = [{{ rung = \"port\", port = 8 }}]\nrelies_on = [\"db\"]\n"
    );
    let request = Request::new(Wish::Start, addresses("db app"));
    let mut run = began_so("zz", &more, "db=down app=down", &request);
    run.given(Input::Locked);
    let down = looked("db=down app=down");
    run.given(Input::FirstLooked { seen: down, rungs: BTreeMap::new(), processes: BTreeMap::new(), unconfirmed: vec![] });
    run.given(Input::FreshLooked { step: StepId(1), seen: looked("db=down") });
    let act = run.run.step_now(StepId(1)).acts[0].act;
    run.given(Input::ActBegun { step: StepId(1), act, begun: begun_now() });
    run
}

fn looked(text: &str) -> BTreeMap<Address, SeenState> {
    let (estate, _) = estate("zz", "[service.db]\nlike = \"x\"\nladder = [{ rung = \"port\", port = 9 }]\n");
    facts(&estate, text).0.into_iter().filter(|(a, _)| text.contains(&format!("{}=", a.service))).collect()
}

/// The steps that looks are asked for, and those whose acts are given.
fn looks_and_acts(taken: &Taken) -> (Vec<u32>, Vec<u32>) {
    let looks = taken.orders.iter().filter_map(|o| if let Order::FreshLook { step, .. } = o { Some(step.0) } else { None });
    let acts = taken.orders.iter().filter_map(|o| if let Order::Act { step, .. } = o { Some(step.0) } else { None });
    (looks.collect(), acts.collect())
}

fn climbed(run: &mut Began) -> Taken {
    run.given(Input::RungLooked { step: StepId(1), attempt: 1, rung: 1, answer: Answer::holds("so"), logs: vec![] })
}

/// R14: who could not look says nothing for it and nothing against it.
#[test]
fn a_look_that_could_not_look_neither_loses_a_steady_rung_nor_proves_it() {
    let answer = |run: &mut Began, answer: Answer| {
        run.given(Input::RungLooked { step: StepId(1), attempt: 1, rung: 0, answer, logs: vec![] });
    };
    let climbed_of = |run: &Began| match run.run.step_now(StepId(1)).state {
        StepState::Proving { climbed, steady_until: Some(_), .. } => Some(climbed),
        _ => None,
    };
    let mut run = steady("2s", "0s");
    run.given(Input::RungLooked { step: StepId(1), attempt: 1, rung: 0, answer: Answer::holds("so"), logs: vec![] });
    climbed(&mut run);
    let all = climbed_of(&run).unwrap();
    answer(&mut run, Answer::could_not("the table cannot be read"));
    assert_eq!(climbed_of(&run), Some(all), "the rung is lost");
    // Its time is over, and nobody has seen whether it still holds.
    run.waits(2_500);
    run.given(Input::Tick);
    assert_eq!(climbed_of(&run), Some(all), "it is proven though nobody could look");
    // Seen again, it has to be seen steady.
    answer(&mut run, Answer::holds("so"));
    run.waits(1_900);
    run.given(Input::Tick);
    assert_eq!(climbed_of(&run), Some(all));
    run.waits(200);
    run.given(Input::Tick);
    assert!(matches!(run.run.step_now(StepId(1)).state, StepState::Ended(StepEnd::Done)), "{:?}", run.run.step_now(StepId(1)).state);
}

#[test]
fn who_cannot_look_until_its_patience_is_over_holds_and_starts_nothing_anew() {
    let mut run = steady("2s", "0s");
    run.given(Input::RungLooked { step: StepId(1), attempt: 1, rung: 0, answer: Answer::holds("so"), logs: vec![] });
    climbed(&mut run);
    let answer = Answer::could_not("the table cannot be read");
    run.given(Input::RungLooked { step: StepId(1), attempt: 1, rung: 0, answer, logs: vec![] });
    let mut acts = 0;
    for _ in 0..400 {
        run.waits(500);
        acts += looks_and_acts(&run.given(Input::Tick)).1.len();
        if run.run.hold_no().is_some() {
            break;
        }
    }
    let StepState::Failed { reason } = &run.run.step_now(StepId(1)).state else { panic!("{:?}", run.run.step_now(StepId(1)).state) };
    assert!(reason.contains("could not be looked at"), "{reason}");
    assert_eq!(acts, 0);
}

/// R18: what was judged once is not judged again by a server that was started anew.
#[rstest]
#[case::as_it_was(false)]
#[case::read_back(true)]
fn a_loss_that_was_vouched_for_does_not_open_its_step_again(#[case] read_back: bool) {
    let mut run = steady("1s", "0s");
    run.given(Input::RungLooked { step: StepId(1), attempt: 1, rung: 0, answer: Answer::holds("so"), logs: vec![] });
    climbed(&mut run);
    run.waits(1_000);
    run.given(Input::Tick);
    run.given(Input::FreshLooked { step: StepId(2), seen: looked("db=proven app=down") });
    run.given(Input::Seen { address: "h/db".parse().unwrap(), state: SeenState::Down, says: "nothing runs".into() });
    run.waits(600_000);
    run.given(Input::Tick);
    let StepState::Failed { reason } = &run.run.step_now(StepId(1)).state else { panic!("{:?}", run.run.step_now(StepId(1)).state) };
    assert!(reason.contains("it was proven, and is down since"), "{reason}");
    let hold = run.run.hold_no();
    run.given(Input::Decide(decision(DecisionKind::Vouch { step: StepId(1) }, hold)));
    if read_back {
        run.is_read_back();
    }
    for _ in 0..3 {
        run.waits(1_000);
        run.given(Input::Tick);
    }
    let state = &run.run.step_now(StepId(1)).state;
    assert!(matches!(state, StepState::Ended(StepEnd::Vouched { .. })), "it opens again: {state:?}");
}

/// R28: what is under way comes up by itself; it is proven or not, and never left alone.
#[test]
fn passing_over_awaits_what_is_under_way_and_waits_on_it() {
    let mut run = steady("1s", "0s");
    run.given(Input::RungLooked { step: StepId(1), attempt: 1, rung: 0, answer: Answer::holds("so"), logs: vec![] });
    climbed(&mut run);
    run.waits(1_000);
    run.given(Input::Tick);
    run.given(Input::FreshLooked { step: StepId(2), seen: looked("db=proven app=down") });
    assert!(matches!(run.run.step_now(StepId(2)).state, StepState::Acting { .. }), "{:?}", run.run.step_now(StepId(2)).state);
    // The first is lost while the second starts, and is passed over.
    let against = Answer::against("a forbidden line");
    run.given(Input::RungLooked { step: StepId(1), attempt: 1, rung: 1, answer: against, logs: vec![] });
    let hold = run.run.hold_no();
    let taken = run.given(Input::Decide(decision(DecisionKind::PassOver { step: StepId(1) }, hold)));
    assert!(matches!(run.run.step_now(StepId(2)).state, StepState::Acting { .. }), "{:?}", run.run.step_now(StepId(2)).state);
    assert!(!taken.orders.iter().any(|o| matches!(o, Order::Release)), "it lets go of what comes up");
}

/// Whoever waits for the last that only has to stay steady is looked at meanwhile: its act follows the proof at once, and
/// both are stored together.
#[rstest]
#[case::short("60ms", 0, 60)]
#[case::long("5s", 4_900, 100)]
fn an_act_follows_the_proof_at_once(#[case] stays: &str, #[case] ahead_after: u64, #[case] then: u64) {
    let mut run = steady(stays, "0s");
    run.given(Input::RungLooked { step: StepId(1), attempt: 1, rung: 0, answer: Answer::holds("so"), logs: vec![] });
    let mut taken = climbed(&mut run);
    if ahead_after > 0 {
        assert_eq!(looks_and_acts(&taken), (vec![], vec![]), "it is too early to look");
        assert_eq!(run.run.next_deadline(), Some(run.now + std::time::Duration::from_millis(ahead_after)));
        run.waits(ahead_after);
        taken = run.given(Input::Tick);
    }
    assert_eq!(looks_and_acts(&taken), (vec![2], vec![]));
    let taken = run.given(Input::FreshLooked { step: StepId(2), seen: looked("db=rising app=down") });
    assert_eq!(looks_and_acts(&taken), (vec![], vec![]), "nothing is proven yet");
    run.waits(then);
    let taken = run.given(Input::Tick);
    assert_eq!(looks_and_acts(&taken), (vec![], vec![2]));
    let kinds: Vec<bool> = taken.events.iter().map(|e| matches!(e, Event::ActIntended { .. })).collect();
    assert_eq!(kinds, [false, true], "{:?}", taken.events);
}

/// A look that was taken ahead is one just before the act, or another is taken.
#[rstest]
#[case::its_answer_comes_late("", 60, "db=rising app=down", vec![])]
#[case::it_is_an_old_one("db=rising app=down", 400, "db=proven app=down", vec![2])]
fn a_look_ahead_counts_only_just_before_the_act(#[case] soon: &str, #[case] after: u64, #[case] late: &str, #[case] again: Vec<u32>) {
    let mut run = steady("60ms", "0s");
    run.given(Input::RungLooked { step: StepId(1), attempt: 1, rung: 0, answer: Answer::holds("so"), logs: vec![] });
    climbed(&mut run);
    if !soon.is_empty() {
        run.given(Input::FreshLooked { step: StepId(2), seen: looked(soon) });
    }
    run.waits(after);
    assert_eq!(looks_and_acts(&run.given(Input::Tick)), (again, vec![]));
    let taken = run.given(Input::FreshLooked { step: StepId(2), seen: looked(late) });
    assert_eq!(looks_and_acts(&taken).1, [2]);
}

/// Where it still pauses before the act, a look ahead would be an old one.
#[test]
fn nobody_looks_ahead_over_a_pause() {
    let mut run = steady("60ms", "1s");
    run.given(Input::RungLooked { step: StepId(1), attempt: 1, rung: 0, answer: Answer::holds("so"), logs: vec![] });
    let taken = climbed(&mut run);
    assert!(taken.events.iter().any(|e| matches!(e, Event::SteadyBegan { .. })));
    assert_eq!(looks_and_acts(&taken), (vec![], vec![]));
}

/// What was lost after the look ahead has to be looked at again, and the act waits for it.
#[test]
fn what_is_lost_after_the_look_ahead_is_looked_at_again() {
    let mut run = steady("60ms", "0s");
    run.given(Input::RungLooked { step: StepId(1), attempt: 1, rung: 0, answer: Answer::holds("so"), logs: vec![] });
    climbed(&mut run);
    run.given(Input::FreshLooked { step: StepId(2), seen: looked("db=rising app=down") });
    run.given(Input::Decide(decision(DecisionKind::Hold, None)));
    run.waits(60);
    assert_eq!(looks_and_acts(&run.given(Input::Tick)), (vec![], vec![]), "held, nothing begins");
    run.given(Input::Seen { address: at("db"), state: SeenState::Ailing, says: "its port is gone".into() });
    let hold = run.run.hold_no();
    let taken = run.given(Input::Decide(decision(DecisionKind::Resume, hold)));
    assert_eq!(looks_and_acts(&taken), (vec![2], vec![]));
    let taken = run.given(Input::FreshLooked { step: StepId(2), seen: looked("db=ailing app=down") });
    assert_eq!(looks_and_acts(&taken), (vec![], vec![]));
}

/// Whatever is known of it by now: a look ahead that says otherwise is none.
#[rstest]
#[case::what_it_relies_on_is_gone("db", SeenState::Down)]
#[case::it_is_up_already("app", SeenState::Proven)]
fn news_that_differ_from_the_look_ahead_are_looked_at(#[case] name: &str, #[case] state: SeenState) {
    let mut run = steady("60ms", "0s");
    run.given(Input::RungLooked { step: StepId(1), attempt: 1, rung: 0, answer: Answer::holds("so"), logs: vec![] });
    climbed(&mut run);
    run.given(Input::FreshLooked { step: StepId(2), seen: looked("db=rising app=down") });
    // Held, so that the news come between the proof and the act.
    run.given(Input::Decide(decision(DecisionKind::Hold, None)));
    run.waits(60);
    run.given(Input::Tick);
    run.given(Input::Seen { address: at(name), state, says: "somebody else was there".into() });
    let hold = run.run.hold_no();
    let taken = run.given(Input::Decide(decision(DecisionKind::Resume, hold)));
    assert_eq!(looks_and_acts(&taken), (vec![2], vec![]));
}

/// A generated case: relations among up to seven services, how they are found, what is wrong.
#[derive(Debug, Clone)]
struct Case {
    relations: Vec<Vec<usize>>,
    found: Vec<u8>,
    faults: Vec<u8>,
    forces: Vec<u8>,
    rules: Vec<bool>,
    /// Which are brought back by something else (0), and what users notice of each.
    kinds: Vec<u8>,
    least_felt: bool,
    held_at_most: bool,
    chosen: usize,
    wish: u8,
    operator: u8,
    at_once: u32,
    kills: BTreeSet<usize>,
}

fn cases() -> impl Strategy<Value = Case> {
    (2usize..8).prop_flat_map(|n| {
        let relations = (0..n)
            .map(|i| prop::collection::btree_set(0..i.max(1), 0..=i.min(3)).prop_map(move |s| s.into_iter().filter(|j| *j < i).collect()))
            .collect::<Vec<_>>();
        let per = move |max: u8| prop::collection::vec(0..max, n);
        (
            relations,
            per(6),
            per(8),
            per(3),
            (prop::collection::vec(any::<bool>(), n), per(9), any::<bool>(), any::<bool>()),
            0..n,
            0u8..3,
            0u8..6,
            1u32..5,
            prop::collection::btree_set(1usize..80, 0..4),
        )
            .prop_map(
                |(relations, found, faults, forces, (rules, kinds, least_felt, held_at_most), chosen, wish, operator, at_once, kills)| {
                    Case {
                        relations,
                        found,
                        faults,
                        forces,
                        rules,
                        kinds,
                        least_felt,
                        held_at_most,
                        chosen,
                        wish,
                        operator,
                        at_once,
                        kills,
                    }
                },
            )
    })
}

fn built(case: &Case) -> (World, Request, Operator) {
    let mut more = format!("[limits]\nat_once = {}\n", case.at_once);
    for (i, relies) in case.relations.iter().enumerate() {
        let list: Vec<String> = relies.iter().map(|j| format!("\"s{j}\"")).collect();
        let force = ["never", "ask", "allow"][case.forces[i] as usize];
        let rule = if case.rules[i] { "hold" } else { "carry-on" };
        let kind = match case.kinds[i] {
            0 => "brought_back_by = \"the keeper\"",
            1 | 2 => "impact = \"outage\"",
            3 => "impact = \"brief\"",
            _ => "",
        };
        let steady = ["0s", "50ms", "300ms", "2s"][(case.faults[i] + case.kinds[i]) as usize % 4];
        more += &format!(
            "[service.s{i}]\nlike = \"x\"\n{kind}\nsteady = \"{steady}\"\nladder = [{{ rung = \"port\", port = {} }}]\nrelies_on = [{}]\nif_it_fails = \"{rule}\"\nstart = {{ attempts = {} }}\nstop = {{ force = \"{force}\", patience = \"9s\" }}\n",
            100 + i,
            list.join(", "),
            1 + i % 2,
        );
    }
    let found: Vec<String> =
        case.found.iter().enumerate().filter(|(_, f)| **f < 2).map(|(i, f)| format!("s{i}={}", ["down", "ailing"][*f as usize])).collect();
    let faults: BTreeMap<Address, Fault> = case
        .faults
        .iter()
        .enumerate()
        .map(|(i, f)| {
            (
                at(&format!("s{i}")),
                match f {
                    0 => Fault::StartEnds(1),
                    1 => Fault::NeverReady(1),
                    2 => Fault::StartEnds(99),
                    3 => Fault::IgnoresStop,
                    _ => Fault::None,
                },
            )
        })
        .collect();
    let (estate, _) = estate("zz", &more);
    let facts = facts(&estate, &found.join(" "));
    let mut world = World::new(estate, &facts, faults);
    world.kill_at.clone_from(&case.kills);
    world.prefer = if case.least_felt { Prefer::LeastFelt } else { Prefer::Soonest };
    world.held_at_most = case.held_at_most.then(|| "3m".parse().unwrap());
    let wish = [Wish::Start, Wish::Stop, Wish::Restart][case.wish as usize];
    let operator =
        [Operator::TriesAgain, Operator::PassesOver, Operator::Vouches, Operator::Releases, Operator::PutsBack, Operator::GivesUp]
            [case.operator as usize];
    (world, Request::new(wish, addresses(&format!("s{}", case.chosen))), operator)
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 600, ..ProptestConfig::default() })]

    /// Design §4: 1, 3, 4, 6, 7 and 9, checked at every act inside the world, with the server killed
    /// at any turn and every run coming to an end.
    #[test]
    fn what_must_always_hold_does(case in cases()) {
        let (mut first, request, operator) = built(&case);
        let Some(run) = first.play(&request, operator) else { return Ok(()) };
        // Same estate, facts, events: same orders.
        let (mut second, ..) = built(&case);
        let again = second.play(&request, operator).unwrap();
        prop_assert_eq!(&first.acts, &second.acts);
        prop_assert_eq!(told(&run), told(&again));
        // The state is the fold of its events.
        let replayed = yantro_core::run::Run::replay(run.id, first.events.clone()).unwrap();
        prop_assert_eq!(told(&replayed), told(&run));
        prop_assert_eq!(replayed.event_count(), run.event_count());
        // A finished run has every chosen service as wished for.
        if run.state() == RunState::Finished {
            let wanted = if request.wish == Wish::Stop { SeenState::Down } else { SeenState::Proven };
            let comes_back = |a: &Address| first.estate.services[a].brought_back_by.is_some();
            for address in request.chosen.iter().filter(|a| request.wish != Wish::Stop || !comes_back(a)) {
                prop_assert_eq!(first.state(address), wanted);
            }
        }
        // Every act has its record.
        let recorded: usize = run.steps().map(|(_, n)| n.acts.len()).sum();
        prop_assert_eq!(recorded, first.acts.len());
    }

    /// Design §4.2: every start edge is a stop edge turned round.
    #[test]
    fn the_stop_order_is_the_start_order_turned_round(case in cases()) {
        let (world, ..) = built(&case);
        let graph = yantro_core::graph::EstateGraph::new(&world.estate);
        let all: BTreeSet<Address> = world.estate.services.keys().cloned().collect();
        let edges = |wish: Wish, state: SeenState| {
            let found = all.iter().map(|a| (a.clone(), state)).collect();
            let plan = yantro_core::plan::plan(&world.estate, &graph, &found, &Default::default(), &Request::new(wish, all.clone()));
            let s = plan.sequence;
            s.steps.iter().flat_map(|a| a.waits.iter().map(|w| (a.row(), s.step(w.step).row())).collect::<Vec<_>>()).collect::<BTreeSet<_>>()
        };
        let starts = edges(Wish::Start, SeenState::Down);
        let stops: BTreeSet<(String, String)> = edges(Wish::Stop, SeenState::Proven).into_iter().map(|(a, b)| (b, a)).collect();
        prop_assert_eq!(starts, stops);
    }
}

/// Deadlines are by a clock of our own: setting the system's moves none, and is written down (R34).
#[test]
fn a_clock_that_is_set_moves_no_deadline() {
    let mut run = began("app -> db", "db");
    run.first_looks(&[]);
    let seen = run.found();
    run.given(Input::FreshLooked { step: StepId(1), seen });
    let (before, events) = (run.run.next_deadline(), run.run.event_count());
    run.given(Input::ClockStepped { by_ms: 3_600_000 });
    assert_eq!((run.run.next_deadline(), run.run.event_count()), (before, events + 1));
}

/// Of thousands of steps outcomes wait to be taken in: whether one is late is judged once nothing waits any longer.
#[rstest]
#[case::it_waited(true)]
#[case::there_was_none(false)]
fn an_outcome_that_only_waited_to_be_taken_in_is_not_late(#[case] waited: bool) {
    let mut run = began("app -> db", "db");
    run.first_looks(&[]);
    let seen = run.found();
    run.given(Input::FreshLooked { step: StepId(1), seen });
    let act = run.run.step_now(StepId(1)).acts[0].act;
    run.now = run.run.next_deadline().unwrap() + std::time::Duration::from_secs(60);
    // News of others come first, and judge nothing.
    run.given(Input::Seen { address: at("db"), state: SeenState::Proven, says: String::new() });
    assert_eq!(run.run.step_now(StepId(1)).state.word(), "acting");
    if waited {
        run.given(Input::ActEnded { step: StepId(1), act, end: ActEnd::Sent });
    }
    run.given(Input::Tick);
    let unheard_of = run.stored.iter().any(|(_, e)| matches!(e, Event::ActUnknown { .. }));
    assert_eq!((run.run.step_now(StepId(1)).state.word(), unheard_of), ("proving", !waited));
}

/// Being away does move them, by as much; and longer than five minutes holds the run first.
#[rstest]
#[case::a_moment(20_000, false)]
#[case::five_minutes(300_000, false)]
#[case::longer(300_001, true)]
fn open_deadlines_move_by_the_time_the_server_was_away(#[case] for_ms: u64, #[case] held: bool) {
    let mut run = began("app -> db", "db");
    run.first_looks(&[]);
    let seen = run.found();
    run.given(Input::FreshLooked { step: StepId(1), seen });
    let before = run.run.next_deadline().unwrap();
    run.given(Input::Away { for_ms });
    let moved = run.run.next_deadline().unwrap();
    assert_eq!(moved, before + std::time::Duration::from_millis(for_ms));
    assert_eq!(run.run.hold_no().is_some(), held);
}

const KEPT: &str = "[service.lamp]\nlike = \"x\"\nladder = [{ rung = \"port\", port = 9 }]\nrelies_on = [\"db\"]\nbrought_back_by = \"the keeper\"\n\
                    [service.beam]\nlike = \"x\"\nladder = [{ rung = \"port\", port = 8 }]\nrelies_on = [\"lamp\"]\n";

/// R11: what something else brings back is stopped, never started, and must be seen to have come back.
#[test]
fn what_something_else_brings_back_is_recycled() {
    let mut world = world("db", KEPT, "", &[]);
    let run = world.play(&Request::new(Wish::Restart, addresses("lamp")), Operator::GivesUp).unwrap();
    assert_eq!(run.state(), RunState::Finished);
    let acts: Vec<String> = world.acts.iter().map(|(k, a)| format!("{} {}", k.word(), a.service)).collect();
    assert_eq!(acts, ["stop beam", "stop lamp", "start beam"]);
    let back = run.steps().find(|(s, _)| s.says() == "await the return of h/lamp").expect("it is awaited").1;
    assert_eq!(back.state, StepState::Ended(StepEnd::Done));
    assert!(back.acts.is_empty() && back.began_at.is_some(), "proven, and no act given");
}

#[test]
fn what_does_not_come_back_in_time_holds_and_is_never_started() {
    let mut world = world("db", KEPT, "lamp=down beam=down", &[]);
    let run = world.play(&Request::new(Wish::Start, addresses("beam lamp")), Operator::GivesUp).unwrap();
    assert_eq!(run.state(), RunState::GivenUp);
    assert!(world.acts.iter().all(|(_, a)| *a != at("lamp") && *a != at("beam")), "{:?}", world.acts);
}

#[rstest]
#[case::nobody_decides(Some("20m"), RunState::PutBack)]
#[case::without_end(None, RunState::GivenUp)]
fn a_hold_that_lasts_too_long_becomes_a_put_back_where_that_was_said(#[case] at_most: Option<&str>, #[case] end: RunState) {
    let mut world = world("app -> db", "", "", &[("app", Fault::StartEnds(1))]);
    let (estate, graph) = estate("app -> db", "");
    let plan =
        yantro_core::plan::plan(&estate, &graph, &facts(&estate, ""), &Default::default(), &Request::new(Wish::Restart, addresses("db")));
    let held_at_most = at_most.map(|t| t.parse().unwrap());
    let begun = Begun { held_at_most, ..Begun::of(plan, &estate, 1, "maren", &BTreeMap::new()) };
    let run = world.run(begun, Operator::GivesUp).unwrap();
    assert_eq!(run.state(), end);
    if at_most.is_some() {
        assert_eq!((world.state(&at("app")), world.state(&at("db"))), (SeenState::Proven, SeenState::Proven));
        let why = world
            .events
            .iter()
            .find_map(|(_, e)| if let Event::PutBackBegan { by, why } = e { Some(format!("{by}: {why}")) } else { None });
        assert_eq!(why.unwrap(), "the hold's patience: it was held for 20m, and nobody decided");
    }
}
