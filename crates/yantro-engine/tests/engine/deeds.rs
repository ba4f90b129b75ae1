//! What somebody agreed to is what is done, and no more.

use rstest::rstest;
use yantro_core::{
    run::{DecisionKind, RunId, RunState, StepState},
    words::kinds::Wish,
};
use yantro_engine::{Consequences, Deed, EngineError, RunView};

use crate::world::{ESTATE, World};

fn decided(run: RunId, decision: DecisionKind) -> Deed {
    Deed::Decision { run, decision, hold: None }
}

impl World {
    async fn would(&self, deed: &Deed) -> Consequences {
        self.engine.consequences(deed, "tove").await.unwrap()
    }

    /// Decides what was shown under a digest.
    async fn as_shown(&self, run: &RunView, kind: DecisionKind, digest: &str) -> Result<(), EngineError> {
        let why = Some("agreed to".to_owned());
        let decision = yantro_core::run::Decision { kind, hold: run.hold, who: "tove".to_owned(), why };
        self.engine.decide(run.id, decision, Some(digest)).await
    }

    /// A stop of the database, held while its step of this number acts, and nothing of it under way any more.
    async fn held_in_step(&self, run: RunId, step: u32) -> RunView {
        let acts = |v: &RunView| v.steps.iter().any(|s| s.planned.id.0 == step && matches!(s.now.state, StepState::Acting { .. }));
        let going = self.until("it acts", |e| e.run(run).ok().filter(acts)).await;
        self.decide(&going, DecisionKind::Hold, None).await.unwrap();
        let rests = |v: &RunView| {
            v.state == RunState::Held
                && v.steps.iter().all(|s| !matches!(s.now.state, StepState::Acting { .. } | StepState::Proving { .. }))
        };
        self.until("it is held, and nothing is under way", |e| e.run(run).ok().filter(rests)).await
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_put_back_that_would_do_more_than_was_shown_is_refused_with_the_difference() {
    let world = World::begun().await;
    let run = world.begin(Wish::Stop, "fares-db").await;
    let first = world.held_in_step(run, 1).await;
    let shown = world.would(&decided(run, DecisionKind::PutBack)).await;
    assert_eq!(shown.does, ["leave out step 2: stop quay-1/fares-db", "then start quay-2/bookings"]);
    assert_eq!(shown.hold, first.hold);
    assert_eq!(world.engine.run(run).unwrap().events, first.events, "to be shown it changes nothing");
    world.decide(&first, DecisionKind::Resume, None).await.unwrap();
    let later = world.held_in_step(run, 2).await;
    let refused = world.as_shown(&later, DecisionKind::PutBack, &shown.digest).await.unwrap_err();
    assert!(refused.to_string().contains("new: then start quay-1/fares-db"), "{refused}");
    assert_eq!(world.engine.run(run).unwrap().state, RunState::Held, "nothing is done of what was refused");
    // Shown again, it is that.
    let shown = world.would(&decided(run, DecisionKind::PutBack)).await;
    world.as_shown(&later, DecisionKind::PutBack, &shown.digest).await.unwrap();
    let end = world.is(run, &[RunState::PutBack]).await;
    let back = end.steps.iter().filter(|s| s.planned.part == yantro_core::plan::Part::PutBack);
    let back: Vec<String> = back.map(|s| format!("then {}", s.says)).collect();
    assert_eq!(back, shown.does, "what was done is what was shown");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_give_up_of_which_some_was_done_meanwhile_is_what_was_shown() {
    let world = World::begun().await;
    let run = world.begin(Wish::Restart, "fares-db").await;
    let first = world.held_in_step(run, 1).await;
    let shown = world.would(&decided(run, DecisionKind::GiveUp)).await;
    assert_eq!(shown.does.len(), 3, "{:?}", shown.does);
    world.decide(&first, DecisionKind::Resume, None).await.unwrap();
    let later = world.held_in_step(run, 2).await;
    world.as_shown(&later, DecisionKind::GiveUp, &shown.digest).await.unwrap();
    assert_eq!(world.is(run, &[RunState::GivenUp]).await.state, RunState::GivenUp);
}

#[rstest]
#[case::put_back(DecisionKind::PutBack)]
#[case::give_up(DecisionKind::GiveUp)]
#[case::release(DecisionKind::Release { address: "quay-1/fares-db".parse().unwrap() })]
#[case::divert(DecisionKind::Divert { procedure: "dawn".parse().unwrap() })]
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_was_shown_under_another_edition_is_shown_again(#[case] kind: DecisionKind) {
    let world = World::begun().await;
    let run = world.begin(Wish::Stop, "fares-db").await;
    let held = world.held_in_step(run, 1).await;
    let shown = world.would(&decided(run, kind.clone())).await;
    world.load(&format!("{ESTATE}\n[service.kiosk]\nlike = \"played\"\nhost = \"quay-1\"\n")).await.unwrap();
    let refused = world.as_shown(&held, kind.clone(), &shown.digest).await.unwrap_err();
    assert!(matches!(refused, EngineError::DoneOtherwise { .. }) && refused.to_string().contains("edition 2 now"), "{refused}");
    let stray = world.as_shown(&held, kind.clone(), "0123456789abcdef0123456789abcdef").await.unwrap_err();
    assert!(stray.to_string().contains("not known here"), "{stray}");
    let shown = world.would(&decided(run, kind.clone())).await;
    world.as_shown(&held, kind, &shown.digest).await.unwrap();
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_divert_shows_what_takes_over_and_is_refused_where_that_would_do_more() {
    let world = World::begun().await;
    let run = world.begin(Wish::Stop, "fares-db").await;
    let held = world.held_in_step(run, 1).await;
    let divert = DecisionKind::Divert { procedure: "dawn".parse().unwrap() };
    let shown = world.would(&decided(run, divert.clone())).await;
    assert_eq!(shown.does[0], "leave out step 2: stop quay-1/fares-db");
    assert!(shown.does.iter().any(|d| d == "then stop quay-1/fares-db"), "{:?}", shown.does);
    // The procedure is changed meanwhile.
    world.load(&ESTATE.replace("{ start = [\"boards\"] }", "{ stop = [\"boards\"] }, { start = [\"boards\"] }")).await.unwrap();
    let refused = world.as_shown(&held, divert, &shown.digest).await.unwrap_err();
    assert!(refused.to_string().contains("new: then stop quay-2/boards"), "{refused}");
    let none = Deed::Decision { run, decision: DecisionKind::Divert { procedure: "dusk".parse().unwrap() }, hold: None };
    let missing = world.engine.consequences(&none, "tove").await.unwrap_err();
    assert!(matches!(missing, EngineError::CannotDivert { .. }), "{missing}");
}

/// The reason is written after it was shown, and what takes over is told it.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_reason_given_with_a_divert_makes_it_no_other_deed_and_another_procedure_does() {
    let world = World::begun().await;
    let told = "[procedure.desk]\nquestions = { reason = { asks = \"Why?\", default = \"none\" } }\nsteps = [{ announce = \"{reason}\" }]\n\
                [procedure.quiet]\nsteps = [{ announce = \"nothing\" }]\n";
    world.load(&format!("{ESTATE}{told}")).await.unwrap();
    let run = world.begin(Wish::Stop, "fares-db").await;
    let held = world.held_in_step(run, 1).await;
    let to = |name: &str| DecisionKind::Divert { procedure: name.parse().unwrap() };
    let shown = world.would(&decided(run, to("desk"))).await;
    let refused = world.as_shown(&held, to("quiet"), &shown.digest).await.unwrap_err();
    assert!(matches!(refused, EngineError::DoneOtherwise { .. }), "{refused}");
    world.as_shown(&held, to("desk"), &shown.digest).await.unwrap();
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn holding_everything_is_never_refused() {
    let world = World::begun().await;
    world.engine.standstill(true, "tove", Some("0123456789abcdef0123456789abcdef")).await.unwrap();
    assert!(world.engine.board().standstill.is_some());
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn lifting_a_standstill_lets_no_more_go_on_than_was_shown() {
    let world = World::begun().await;
    let run = world.begin(Wish::Stop, "fares-db").await;
    world.held_in_step(run, 1).await;
    world.engine.standstill(true, "tove", None).await.unwrap();
    let shown = world.would(&Deed::LiftStandstill).await;
    assert!(shown.does[0].ends_with("stays as it is, held by tove"), "{:?}", shown.does);
    // The operator's own hold is answered meanwhile: lifted, the run would go on now.
    let now = world.engine.run(run).unwrap();
    world.decide(&now, DecisionKind::Resume, None).await.unwrap();
    let refused = world.engine.standstill(false, "tove", Some(&shown.digest)).await.unwrap_err();
    assert!(refused.to_string().contains("goes on, next step 2: stop quay-1/fares-db"), "{refused}");
    assert!(world.engine.board().standstill.is_some(), "it stands as before");
    let shown = world.would(&Deed::LiftStandstill).await;
    world.engine.standstill(false, "tove", Some(&shown.digest)).await.unwrap();
    world.is(run, &[RunState::Finished]).await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_cannot_be_done_is_said_before_anybody_agrees_to_it() {
    let world = World::begun().await;
    let run = world.begin(Wish::Stop, "fares-db").await;
    let held = world.held_in_step(run, 1).await;
    let refused =
        world.engine.consequences(&decided(run, DecisionKind::Force { step: held.steps[0].planned.id }), "tove").await.unwrap_err();
    assert!(refused.to_string().contains("step 1 is"), "{refused}");
    let no_host = Deed::TakeOver { host: "quay-9".parse().unwrap() };
    assert!(matches!(world.engine.consequences(&no_host, "tove").await.unwrap_err(), EngineError::NoHost(_)));
}
