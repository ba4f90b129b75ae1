//! Runs from their begin to their end, and what people decide meanwhile.

use rstest::rstest;
use yantro_core::{
    plan::forecast::Basis,
    proof::SeenState,
    run::{DecisionKind, RunState},
    words::kinds::Wish,
};
use yantro_engine::{BeginRequest, EngineError};

use crate::world::{World, request};

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_restart_takes_what_relies_on_it_along_and_proves_all() {
    let world = World::begun().await;
    let run = world.plays(Wish::Restart, "fares-db").await;
    assert_eq!(run.state, RunState::Finished, "{:?}", run.held_because);
    let steps: Vec<String> = run.steps.iter().map(|s| s.says.clone()).collect();
    assert_eq!(steps, ["stop quay-2/bookings", "stop quay-1/fares-db", "start quay-1/fares-db", "start quay-2/bookings"]);
    assert_eq!((world.state("quay-1/fares-db"), world.state("quay-2/bookings")), (SeenState::Proven, SeenState::Proven));
    assert_eq!(world.engine.runs(None, 10).unwrap().iter().map(|r| (r.id, r.steps_ended)).collect::<Vec<_>>(), [(run.id, 4)]);
}

#[rstest]
#[case::nothing_of_that_name("gangway", "gangway")]
#[case::no_such_group("group:night", "night")]
#[tokio::test]
async fn what_cannot_be_chosen_is_refused(#[case] of: &str, #[case] says: &str) {
    let world = World::begun().await;
    let refused = world.engine.begin(&request(Wish::Restart, of), "maren").await.unwrap_err();
    assert!(refused.to_string().contains(says) && !refused.hint().is_empty(), "{refused}");
    assert!(world.engine.runs(None, 10).unwrap().is_empty(), "nothing was begun");
}

#[tokio::test]
async fn without_an_estate_nothing_is_begun() {
    let world = World::bare().await;
    let refused = world.engine.begin(&request(Wish::Stop, "fares-db"), "maren").await.unwrap_err();
    assert!(matches!(refused, EngineError::NoEstate), "{refused}");
    assert!(world.engine.board().services.is_empty());
}

/// A start that ends at once holds its run; whoever decides is named, and nobody decides twice.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_held_run_is_decided_on_once() {
    let world = World::begun().await;
    let run = world.plays(Wish::Start, "drill").await;
    assert_eq!(run.state, RunState::Held);
    assert!(run.held_because[0].contains("drill"), "{:?}", run.held_because);
    let without = world.decide(&run, DecisionKind::GiveUp, None).await.unwrap_err();
    assert!(without.to_string().contains("needs a reason"), "{without}");
    world.decide(&run, DecisionKind::GiveUp, Some("it was a drill")).await.unwrap();
    let late = world.decide(&run, DecisionKind::Resume, None).await.unwrap_err();
    assert!(matches!(late, EngineError::Refused(_)), "{late}");
    let ended = world.is(run.id, &[RunState::GivenUp]).await;
    assert!(ended.ended_at.is_some());
    let report = world.engine.report(run.id).unwrap();
    let decided = &report.decisions[0];
    assert_eq!((decided.who.as_str(), decided.why.as_deref()), ("tove", Some("it was a drill")));
}

/// Two runs on one service: the second queues, says behind whom, and goes on once the first is through.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_second_run_queues_behind_the_first() {
    let world = World::begun().await;
    let held = world.plays(Wish::Start, "drill").await;
    let second = world.begin(Wish::Start, "drill").await;
    let queued = world.until("it queues", |e| e.run(second).ok().filter(|r| !r.queued_behind.is_empty())).await;
    assert!(queued.queued_behind[0].contains(&format!("run {}", held.id)), "{:?}", queued.queued_behind);
    world.decide(&held, DecisionKind::GiveUp, Some("another has it")).await.unwrap();
    world.is(second, &[RunState::Held]).await;
    assert!(world.engine.run(second).unwrap().queued_behind.is_empty());
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn at_a_standstill_nothing_goes_on_until_it_is_lifted() {
    let world = World::begun().await;
    world.engine.standstill(true, "tove", None).await.unwrap();
    assert_eq!(world.engine.board().standstill.as_deref(), Some("tove"));
    let refused = world.engine.begin(&request(Wish::Restart, "boards"), "maren").await.unwrap_err();
    assert!(matches!(refused, EngineError::Standstill(ref who) if who == "tove"), "{refused}");
    world.engine.standstill(false, "tove", None).await.unwrap();
    assert_eq!(world.plays(Wish::Restart, "boards").await.state, RunState::Finished);
}

/// Where nothing can be stored no act is given (R27); with room again the run goes on from where it was.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn without_room_for_events_a_run_holds_and_goes_on_with_room() {
    let world = World::begun().await;
    let run = world.begin(Wish::Restart, "fares-db").await;
    world.engine.limit_storage(Some(0));
    world.until("it is said", |e| e.board().storage_trouble).await;
    let held = world.engine.run(run).unwrap();
    assert!(held.hold.is_some(), "{:?}", held.state);
    world.engine.limit_storage(None);
    assert_eq!(world.is(run, &[RunState::Finished]).await.steps.len(), 4);
    assert!(world.engine.board().storage_trouble.is_none());
    let stored = world.engine.reader().unwrap().events_of(run).unwrap();
    assert!(stored.windows(2).all(|w| w[1].no == w[0].no + 1), "none is missing, and none stands twice");
}

/// Notes may come long after the end, and who has a run may change.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn people_note_and_take_on() {
    let world = World::begun().await;
    let run = world.plays(Wish::Restart, "boards").await.id;
    assert!(matches!(world.engine.note(run, "maren", "  ").await, Err(EngineError::NoReason(_))));
    world.engine.note(run, "maren", " the tide was late ").await.unwrap();
    let missing = world.engine.note(yantro_core::run::RunId(99), "maren", "of what?").await.unwrap_err();
    assert!(matches!(missing, EngineError::NoRun(_)), "{missing}");
    let held = world.plays(Wish::Start, "drill").await.id;
    world.engine.take_on(held, "tove").await.unwrap();
    assert_eq!(world.engine.run(held).unwrap().taken_by, "tove");
    let notes = world.engine.run(run).unwrap().notes;
    assert_eq!(notes.iter().map(|n| (n.who.as_str(), n.text.as_str())).collect::<Vec<_>>(), [("maren", "the tide was late")]);
}

/// How long steps took is known to the next forecast, and the two runs can be held beside each other.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_a_run_took_is_what_the_next_is_forecast_by() {
    let world = World::begun().await;
    let first = world.plays(Wish::Restart, "boards").await;
    let second = world.plays(Wish::Restart, "boards").await;
    let basis = |run: &yantro_engine::RunView| run.steps.iter().map(|s| s.planned.basis).collect::<Vec<_>>();
    assert!(basis(&first).iter().all(|b| *b != Basis::History), "{:?}", basis(&first));
    assert_eq!(basis(&second), [Basis::History, Basis::History]);
    let beside = world.engine.compare(second.id, None).unwrap();
    let text = serde_json::to_string(&beside).unwrap();
    assert!(text.contains("quay-2/boards"), "{text}");
}

/// A rehearsal plays the machine itself, and gives nothing.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_rehearsal_of_a_procedure_changes_nothing() {
    let world = World::begun().await;
    let dawn = BeginRequest::of_procedure("dawn");
    let rehearsed = world.engine.rehearse(&dawn, None).await.unwrap();
    let text = serde_json::to_string(&rehearsed).unwrap();
    assert!(text.contains("quay-1/fares-db"), "{text}");
    assert!(world.engine.runs(None, 10).unwrap().is_empty());
    assert_eq!(world.state("quay-1/fares-db"), SeenState::Proven);
    let run = world.engine.begin(&dawn, "maren").await.unwrap();
    let played = world.is(run, &[RunState::Finished, RunState::Held]).await;
    assert_eq!(played.state, RunState::Finished, "{:?}", played.held_because);
    let missing = world.engine.begin(&BeginRequest::of_procedure("dusk"), "maren").await.unwrap_err();
    assert!(matches!(missing, EngineError::NoProcedure { ref name, .. } if name == "dusk"), "{missing}");
}
