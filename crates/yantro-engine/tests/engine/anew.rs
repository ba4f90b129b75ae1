//! A server that ends and is started anew on the same folder.

use std::time::Duration;

use tempfile::TempDir;
use tokio::runtime::{Builder, Runtime};
use yantro_core::{
    run::{Decision, DecisionKind, RunId, RunState},
    words::kinds::Wish,
};
use yantro_engine::{Engine, EngineError, LoadRequest};

use crate::world::{ESTATE, is_stored, request, started};

/// One life of a server: what happens in it, and then its end, at once.
fn life<T>(folder: &TempDir, looking_only: bool, happens: impl AsyncFnOnce(Engine) -> T) -> T {
    let runtime: Runtime = Builder::new_multi_thread().worker_threads(2).enable_all().build().unwrap();
    let came_to = runtime.block_on(async {
        let began = std::time::Instant::now();
        // The one before it lets go of the folder a moment after its end.
        let engine = loop {
            match started(folder, looking_only).await {
                Err(EngineError::Taken(_)) if began.elapsed() < Duration::from_secs(20) => {
                    tokio::time::sleep(Duration::from_millis(10)).await
                }
                other => break other.unwrap(),
            }
        };
        happens(engine).await
    });
    runtime.shutdown_timeout(Duration::from_secs(10));
    came_to
}

async fn is(engine: &Engine, run: RunId, state: RunState) {
    for _ in 0..6_000 {
        if engine.run(run).is_ok_and(|r| r.state == state && is_stored(engine, &r)) {
            return;
        }
        tokio::time::sleep(Duration::from_millis(10)).await;
    }
    panic!("run {run} never was {state:?}: {:?}", engine.run(run).map(|r| r.state));
}

async fn loaded(engine: &Engine) {
    engine.load(LoadRequest { text: ESTATE.to_owned(), folder: "/e".to_owned(), ..LoadRequest::default() }, "maren").await.unwrap();
}

/// What is held stays held over any number of ends, and is decided on in the end.
#[test]
fn a_held_run_is_still_held_after_the_server_was_started_anew() {
    let folder = tempfile::tempdir().unwrap();
    let run = life(&folder, false, async |engine| {
        loaded(&engine).await;
        let run = engine.begin(&request(Wish::Start, "drill"), "maren").await.unwrap();
        is(&engine, run, RunState::Held).await;
        run
    });
    let events = life(&folder, false, async |engine| {
        is(&engine, run, RunState::Held).await;
        assert_eq!(engine.loaded().unwrap().edition, 1);
        engine.reader().unwrap().events_of(run).unwrap()
    });
    life(&folder, false, async |engine| {
        let held = engine.run(run).unwrap();
        let why = Some("the drill is over".to_owned());
        engine.decide(run, Decision { kind: DecisionKind::GiveUp, hold: held.hold, who: "tove".into(), why }, None).await.unwrap();
        is(&engine, run, RunState::GivenUp).await;
        // What was written down before is untouched.
        let now = engine.reader().unwrap().events_of(run).unwrap();
        assert_eq!(now[..events.len()], events);
        assert!(now.len() > events.len());
    });
}

/// A run in the middle of its acts is picked up where it was, and gives none of them twice.
#[test]
fn a_run_that_was_cut_off_goes_on() {
    let folder = tempfile::tempdir().unwrap();
    let run = life(&folder, false, async |engine| {
        loaded(&engine).await;
        engine.begin(&request(Wish::Restart, "fares-db"), "maren").await.unwrap()
    });
    life(&folder, false, async |engine| {
        for _ in 0..6_000 {
            let now = engine.run(run).unwrap();
            // The play begins anew with the server: what was stopped in it is up again, and then it is asked about.
            if now.ended_at.is_some() || now.hold.is_some() {
                let acts: Vec<_> = now.steps.iter().flat_map(|s| s.now.acts.iter().map(|a| a.act)).collect();
                assert_eq!(acts.iter().collect::<std::collections::HashSet<_>>().len(), acts.len(), "{acts:?}");
                return;
            }
            tokio::time::sleep(Duration::from_millis(10)).await;
        }
        panic!("it never went on: {:?}", engine.run(run).unwrap().state);
    });
}

/// A server that may only look says so, and begins nothing (R36).
#[test]
fn a_server_that_only_looks_begins_nothing() {
    let folder = tempfile::tempdir().unwrap();
    life(&folder, false, async |engine| loaded(&engine).await);
    life(&folder, true, async |engine| {
        assert!(engine.board().standstill.is_some());
        let refused = engine.begin(&request(Wish::Restart, "boards"), "maren").await.unwrap_err();
        assert!(matches!(refused, EngineError::Standstill(_)) && !refused.hint().is_empty(), "{refused}");
        // Looking goes on.
        assert_eq!(engine.look_again().await.services.len(), 4);
    });
}
