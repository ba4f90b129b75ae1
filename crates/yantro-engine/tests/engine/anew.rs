//! A server that ends and is started anew on the same folder.

use std::{
    io::{ErrorKind, Read, Write},
    net::{TcpListener, TcpStream},
    time::{Duration, Instant},
};

use tempfile::TempDir;
use tokio::runtime::{Builder, Runtime};
use yantro_core::{
    run::{Decision, DecisionKind, RunId, RunState},
    words::kinds::Wish,
};
use yantro_engine::{BeginRequest, Engine, EngineError, LoadRequest};
use yantro_store::Reader;

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

/// A life in which a run begins and comes so far.
fn a_first_life(folder: &TempDir, wish: Wish, of: &str, state: RunState) -> RunId {
    life(folder, false, async |engine| {
        loaded(&engine).await;
        let run = engine.begin(&request(wish, of), "maren").await.unwrap();
        is(&engine, run, state).await;
        run
    })
}

async fn loaded(engine: &Engine) {
    engine.load(LoadRequest { text: ESTATE.to_owned(), folder: "/e".to_owned(), ..LoadRequest::default() }, "maren").await.unwrap();
}

/// What is held stays held over any number of ends, and is decided on in the end.
#[test]
fn a_held_run_is_still_held_after_the_server_was_started_anew() {
    let folder = tempfile::tempdir().unwrap();
    let run = a_first_life(&folder, Wish::Start, "drill", RunState::Held);
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

/// N58: a note may come after the server was started anew, long after the end of its run.
#[test]
fn a_run_that_ended_before_can_be_noted_on() {
    let folder = tempfile::tempdir().unwrap();
    let run = a_first_life(&folder, Wish::Restart, "boards", RunState::Finished);
    life(&folder, false, async |engine| {
        engine.note(run, "maren", "the tide was late").await.unwrap();
        let notes = engine.run(run).unwrap().notes;
        assert_eq!(notes.iter().map(|n| n.text.as_str()).collect::<Vec<_>>(), ["the tide was late"]);
        assert_eq!(engine.run(run).unwrap().state, RunState::Finished);
    });
}

/// R35: a session that could not be stored at first is stored with the next that can be: a copy of the store is told by it.
#[test]
fn a_session_that_could_not_be_stored_at_first_is_stored_later() {
    let folder = tempfile::tempdir().unwrap();
    life(&folder, false, async |engine| loaded(&engine).await);
    let database = folder.path().join("data/yantro.db");
    let sessions = || Reader::open(&database).unwrap().sessions().unwrap().len();
    let before = sessions();
    // Somebody else writes for longer than is waited for.
    let other = rusqlite::Connection::open(&database).unwrap();
    other.execute_batch("BEGIN IMMEDIATE").unwrap();
    life(&folder, false, async |engine| {
        let became = async |trouble: bool| {
            let began = Instant::now();
            while engine.board().storage_trouble.is_some() != trouble {
                assert!(began.elapsed() < Duration::from_secs(60), "never: trouble {trouble}");
                tokio::time::sleep(Duration::from_millis(10)).await;
            }
        };
        became(true).await;
        assert_eq!(sessions(), before);
        other.execute_batch("ROLLBACK").unwrap();
        became(false).await;
        assert_eq!(sessions(), before + 1);
        let stored = Reader::open(&database).unwrap().newest_session().unwrap().unwrap();
        assert!(engine.here().to_string().starts_with(&stored), "it is this one's");
    });
}

/// A page that people are told on: what it was asked, and what it answers.
fn asked(page: &TcpListener) -> (TcpStream, serde_json::Value) {
    let began = Instant::now();
    page.set_nonblocking(true).unwrap();
    let mut stream = loop {
        match page.accept() {
            Ok((stream, _)) => break stream,
            Err(e) => assert!(e.kind() == ErrorKind::WouldBlock && began.elapsed() < Duration::from_secs(60), "nobody asks: {e}"),
        }
        std::thread::sleep(Duration::from_millis(5));
    };
    stream.set_nonblocking(false).unwrap();
    stream.set_read_timeout(Some(Duration::from_secs(60))).unwrap();
    let mut read = Vec::new();
    let mut piece = [0u8; 4096];
    loop {
        let n = stream.read(&mut piece).unwrap();
        read.extend_from_slice(&piece[..n]);
        let text = String::from_utf8_lossy(&read).into_owned();
        if let Some((_, body)) = text.split_once("\r\n\r\n")
            && let Ok(event) = serde_json::from_str(body)
        {
            return (stream, event);
        }
        assert!(n > 0, "cut off: {text}");
    }
}

fn answers(mut stream: TcpStream) {
    stream.write_all(b"HTTP/1.1 204 No Content\r\nconnection: close\r\n\r\n").unwrap();
}

/// R21: whoever was told, and could not say so before the server ended, is told again under the same identity; and not while it is held.
#[rstest::rstest]
#[case::going_on(false)]
#[case::held(true)]
fn what_was_told_when_the_server_ended_is_told_again_as_the_same(#[case] held: bool) {
    let folder = tempfile::tempdir().unwrap();
    let page = TcpListener::bind("127.0.0.1:0").unwrap();
    let to = format!("http://{}/said", page.local_addr().unwrap());
    let text = format!("{ESTATE}[procedure.call]\nsteps = [{{ announce = \"Boats are late\", to = \"{to}\" }}]\n");
    let (run, first, unanswered) = life(&folder, false, async |engine| {
        engine.load(LoadRequest { text, folder: "/e".to_owned(), ..LoadRequest::default() }, "maren").await.unwrap();
        let run = engine.begin(&BeginRequest::of_procedure("call"), "maren").await.unwrap();
        let page = page.try_clone().unwrap();
        let (stream, event) = tokio::task::spawn_blocking(move || asked(&page)).await.unwrap();
        if held {
            let hold = Decision { kind: DecisionKind::Hold, hold: None, who: "tove".into(), why: None };
            engine.decide(run, hold, None).await.unwrap();
        }
        (run, event, stream)
    });
    // It ended before it heard of it.
    drop(unanswered);
    assert_eq!((first["data"]["says"].as_str(), first["data"]["who"].as_str()), (Some("Boats are late"), Some("maren")));
    life(&folder, false, async |engine| {
        if held {
            is(&engine, run, RunState::Held).await;
            let at_rest =
                |e: &Engine| e.run(run).unwrap().steps.iter().all(|s| s.now.acts.iter().all(|a| a.end.is_some() || a.begun.is_none()));
            while !at_rest(&engine) {
                tokio::time::sleep(Duration::from_millis(10)).await;
            }
            assert!(page.accept().is_err(), "nobody is told while it is held");
            let view = engine.run(run).unwrap();
            let resume = Decision { kind: DecisionKind::Resume, hold: view.hold, who: "tove".into(), why: None };
            engine.decide(run, resume, None).await.unwrap();
        }
        let page = page.try_clone().unwrap();
        let (stream, again) = tokio::task::spawn_blocking(move || asked(&page)).await.unwrap();
        assert_eq!(again["data"]["says"], "Boats are late");
        assert_eq!(again["id"] == first["id"], !held, "{again} {first}");
        answers(stream);
        is(&engine, run, RunState::Finished).await;
    });
}

/// R7: a run keeps its locks over any number of ends: what would act on the same waits behind it.
#[test]
fn a_run_has_its_locks_after_the_server_was_started_anew() {
    let folder = tempfile::tempdir().unwrap();
    let run = a_first_life(&folder, Wish::Start, "drill", RunState::Held);
    life(&folder, false, async |engine| {
        let second = engine.begin(&request(Wish::Start, "drill"), "sindre").await.unwrap();
        let began = Instant::now();
        loop {
            let view = engine.run(second).unwrap();
            if view.queued_behind.iter().any(|behind| behind.starts_with(&format!("run {run} "))) {
                return;
            }
            assert!(
                view.state == RunState::Queued && began.elapsed() < Duration::from_secs(20),
                "{:?} {:?}",
                view.state,
                view.queued_behind
            );
            tokio::time::sleep(Duration::from_millis(10)).await;
        }
    });
}
