//! What the loop and the store keep, whatever comes in between.

use std::process::Command;

use rstest::rstest;
use tempfile::TempDir;
use tokio::runtime::Builder;
use yantro_core::{
    proof::SeenState,
    run::{DecisionKind, Event, RunId, RunState, StepEnd, StepState},
    words::{kinds::Wish, time::Timestamp},
};
use yantro_engine::{BeginRequest, Engine, EngineError, LoadRequest, RunView};
use yantro_store::{Batch, Edition, Writer};

use crate::world::{ESTATE, World, is_stored, request, started};

/// R27: what was decided and could not be stored was not decided, and whoever asked is told so.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_cannot_be_stored_was_never_begun() {
    let world = World::begun().await;
    let before = world.begin(Wish::Restart, "boards").await;
    world.is(before, &[RunState::Finished]).await;
    world.engine.limit_storage(Some(0));
    let refused = world.engine.begin(&request(Wish::Restart, "fares-db"), "maren").await.unwrap_err();
    assert!(matches!(refused, EngineError::NotStored(_)), "{refused}");
    assert!(world.engine.board().open_runs.is_empty(), "a run is shown that is nowhere stored");
    let standstill = world.engine.standstill(true, "tove", None).await.unwrap_err();
    assert!(matches!(standstill, EngineError::NotStored(_)), "{standstill}");
    assert!(world.engine.board().standstill.is_none(), "it is said to be at a standstill, and would not be after a restart");
    world.engine.limit_storage(None);
    world.until("there is room again", |e| e.board().storage_trouble.is_none().then_some(())).await;
    // Nothing of what was refused comes later.
    let next = world.plays(Wish::Restart, "fares-db").await;
    assert_eq!((next.id, next.state), (RunId(before.0 + 1), RunState::Finished));
}

/// R27: acts in flight keep their outcomes; an intention that was never stored is decided anew, and given once.
#[rstest]
#[case::at_once(0)]
#[case::in_the_middle(9)]
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_run_whose_storing_failed_goes_on_from_what_is_stored(#[case] events: u64) {
    let world = World::begun().await;
    let run = world.begin(Wish::Restart, "fares-db").await;
    world.until("it is so far", |e| e.run(run).ok().filter(|r| r.events >= events)).await;
    for _ in 0..3 {
        world.engine.limit_storage(Some(0));
        world
            .until("it is said", |e| {
                e.board().storage_trouble.or_else(|| e.run(run).ok().filter(|r| r.ended_at.is_some()).map(|_| String::new()))
            })
            .await;
        world.engine.limit_storage(None);
        world.until("there is room again", |e| e.board().storage_trouble.is_none().then_some(())).await;
    }
    let view = world.is(run, &[RunState::Finished, RunState::Held]).await;
    assert_eq!(view.state, RunState::Finished, "{:?}", view.held_because);
    let stored = world.engine.reader().unwrap().events_of(run).unwrap();
    assert!(stored.windows(2).all(|w| w[1].no == w[0].no + 1), "none is missing, and none stands twice");
    let mut intended: Vec<u32> =
        stored.iter().filter_map(|e| if let Event::ActIntended { act, .. } = &e.event { Some(act.0) } else { None }).collect();
    let all = intended.len();
    intended.dedup();
    assert_eq!(intended.len(), all, "an act was intended twice");
}

/// The same of what would have ended it: a run whose end could not be stored is open, and may be decided on again.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_end_that_cannot_be_stored_is_none() {
    let world = World::bare().await;
    // So many differences from as found that the end takes room which is not there; a decision alone does not.
    let many: String =
        (0..200).map(|n| format!("[service.gangway-at-the-far-end-of-the-quay-{n}]\nlike = \"played\"\nhost = \"quay-1\"\n")).collect();
    world.load(&format!("{ESTATE}{many}")).await.unwrap();
    world.until("all is looked at", |e| e.board().services.iter().all(|r| r.seen.state != SeenState::Unknown).then_some(())).await;
    let chosen: Vec<String> = (0..200).map(|n| format!("gangway-at-the-far-end-of-the-quay-{n}")).collect();
    let run = world.begin(Wish::Stop, &chosen.join(" ")).await;
    let stopped = |e: &Engine| {
        e.run(run).ok().filter(|r| r.steps.iter().filter(|s| matches!(s.now.state, StepState::Ended(StepEnd::Done))).count() > 100)
    };
    let view = world.until("much of it is stopped", stopped).await;
    world.decide(&view, DecisionKind::Hold, None).await.unwrap();
    let nothing_goes_on = |e: &Engine| {
        let rests = |r: &RunView| {
            r.steps.iter().all(|s| s.now.acts.iter().all(|a| a.end.is_some()) && !matches!(s.now.state, StepState::Proving { .. }))
        };
        e.run(run).ok().filter(|r| r.state == RunState::Held && rests(r))
    };
    world.until("it is held, and nothing is in flight", nothing_goes_on).await;
    let room_again = async || {
        world.engine.limit_storage(None);
        world.until("there is room again", |e| e.board().storage_trouble.is_none().then_some(())).await;
        world.is(run, &[RunState::Held]).await
    };
    loop {
        let held = room_again().await;
        world.engine.limit_storage(Some(0));
        match world.decide(&held, DecisionKind::GiveUp, Some("fog")).await {
            Ok(()) => break,
            Err(refused) => assert!(matches!(refused, EngineError::NotStored(_)), "{refused}"),
        }
    }
    world.until("its end is not stored", |e| e.board().storage_trouble).await;
    let shown = world.engine.run(run).unwrap();
    assert_eq!(shown.ended_at, None, "it is shown as {:?}, and would not be after a restart", shown.state);
    assert!(world.engine.board().open_runs.iter().any(|r| r.id == run));
    world.engine.limit_storage(None);
    let ended = world.is(run, &[RunState::GivenUp]).await;
    assert!(ended.ended_at.is_some() && is_stored(&world.engine, &ended));
}

fn edition(folder: &TempDir, no: u64, text: &str) {
    std::fs::create_dir_all(folder.path().join("data")).unwrap();
    let mut writer = Writer::open(&folder.path().join("data/yantro.db")).unwrap();
    let (at, who, folder) = (Timestamp::from_ms(1), "maren".to_owned(), "/e".to_owned());
    let edition = Edition { no, at, who, why: None, text: text.to_owned(), folder, edited: None };
    writer.commit(&Batch { edition: Some(edition), ..Batch::default() }).unwrap();
}

async fn load(engine: &Engine) -> u64 {
    let request = LoadRequest { text: ESTATE.to_owned(), folder: "/e".to_owned(), over_edits: true, ..LoadRequest::default() };
    engine.load(request, "maren").await.unwrap().edition
}

/// A newer version is stricter: what an older one took is no estate any more.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_estate_that_no_longer_vets_is_said_so_and_the_next_has_the_next_number() {
    let folder = tempfile::tempdir().unwrap();
    edition(&folder, 1, ESTATE);
    edition(&folder, 2, "[estate]\nname = \"Brannock Sound\"\nstands_for = \"a test of old\"\n");
    let engine = started(&folder, false).await.unwrap();
    let refused = engine.begin(&request(Wish::Stop, "fares-db"), "maren").await.unwrap_err();
    assert!(matches!(&refused, EngineError::EstateUnusable { edition: 2, why } if !why.is_empty()), "{refused}");
    assert!(refused.hint().contains("yantro vet"));
    assert_eq!(load(&engine).await, 3);
    assert!(engine.board().storage_trouble.is_none());
    engine.begin(&request(Wish::Stop, "fares-db"), "maren").await.unwrap();
}

/// One run that cannot be read back keeps nobody from seeing all else; and nothing begins before somebody knows of it.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_event_that_cannot_be_read_keeps_no_server_from_starting() {
    let folder = tempfile::tempdir().unwrap();
    edition(&folder, 1, ESTATE);
    let store = rusqlite::Connection::open(folder.path().join("data/yantro.db")).unwrap();
    store
        .execute_batch(
            "INSERT INTO run (id, state, title, who, began_at, steps, steps_ended) VALUES (1, 'running', 'restart fares-db', 'maren', 1, 2, 0);
             INSERT INTO event (run, no, at, body) VALUES (1, 1, 1, '{\"event\":\"told-by-a-later-version\"}');",
        )
        .unwrap();
    drop(store);
    let engine = started(&folder, false).await.unwrap();
    let standstill = engine.board().standstill.unwrap_or_default();
    assert!(standstill.contains("run 1 cannot be read back"), "{standstill}");
    assert_eq!(engine.board().services.len(), 4, "all else is seen");
    let refused = engine.begin(&request(Wish::Stop, "fares-db"), "maren").await.unwrap_err();
    assert!(matches!(refused, EngineError::Standstill(_)), "{refused}");
    engine.standstill(false, "maren", None).await.unwrap();
    let run = engine.begin(&request(Wish::Stop, "fares-db"), "maren").await.unwrap();
    assert_eq!(run, RunId(2), "and its number is nobody else's");
}

/// Not in this process: see the test below.
#[test]
#[ignore = "played by the test below, in a process of its own"]
fn panics_in_a_task() {
    yantro_engine::end_on_panic();
    let runtime = Builder::new_multi_thread().worker_threads(2).enable_all().build().unwrap();
    runtime.block_on(async {
        let lost: Vec<u32> = Vec::new();
        tokio::spawn(async move { assert!(lost[0] > 0) });
        std::future::pending::<()>().await;
    });
}

/// A task that panicked would leave a server that answers and never acts again: the process ends, with its reason.
#[test]
fn a_panic_in_any_task_ends_the_process_with_its_reason() {
    let ended = Command::new(std::env::current_exe().unwrap())
        .args(["--exact", "promises::panics_in_a_task", "--ignored", "--nocapture"])
        .output()
        .unwrap();
    assert_eq!(ended.status.code(), Some(yantro_engine::ENDED), "{ended:?}");
    let said = String::from_utf8_lossy(&ended.stderr);
    assert!(said.contains("index out of bounds") && said.contains("picks everything up when it is started again"), "{said}");
}

/// An ended run with a window is nothing to wake up for: its last moment is past, and stays so.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_loop_with_nothing_to_do_rests() {
    let folder = tempfile::tempdir().unwrap();
    let engine = started(&folder, false).await.unwrap();
    let windows =
        "[window.night]\ntitle = \"The night\"\nfrom = \"2020-01-01T00:00\"\nlength = \"24h\"\nrule = \"FREQ=DAILY\"\nzone = \"UTC\"\n";
    let text = format!("{ESTATE}{windows}");
    engine.load(LoadRequest { text, folder: "/e".to_owned(), ..LoadRequest::default() }, "maren").await.unwrap();
    let mut asked = request(Wish::Restart, "boards");
    asked.window = Some("night".to_owned());
    let run = engine.begin(&asked, "maren").await.unwrap();
    while engine.run(run).unwrap().ended_at.is_none() {
        tokio::time::sleep(std::time::Duration::from_millis(10)).await;
    }
    let ended = engine.run(run).unwrap();
    assert_eq!(ended.state, RunState::Finished, "{:?}", ended.held_because);
    assert!(engine.next_wake().is_none(), "it wants waking for a run that ended");
}

/// R33: what is down on purpose is known of any service, with who and why, until it is up again.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_was_taken_down_on_purpose_is_known_with_its_reason() {
    let world = World::begun().await;
    let said = |e: &Engine, of: &str| e.board().services.into_iter().find(|r| r.address.service.as_str() == of).unwrap().intended_down;
    let why = |of: &str, wish, why: &str| BeginRequest { why: Some(why.to_owned()), ..request(wish, of) };
    // Nothing of these was ever started by Yantro.
    let run = world.engine.begin(&why("boards", Wish::Stop, "new screens"), "tove").await.unwrap();
    world.is(run, &[RunState::Finished]).await;
    let found_down = world.engine.begin(&why("drill", Wish::Stop, "it stays so"), "tove").await.unwrap();
    world.is(found_down, &[RunState::Finished]).await;
    let taken_down = |why: &str, run: RunId| Some(format!("taken down by tove in run {run}: {why}"));
    assert_eq!(said(&world.engine, "boards"), taken_down("new screens", run));
    assert_eq!(said(&world.engine, "drill"), taken_down("it stays so", found_down));
    assert_eq!(said(&world.engine, "fares-db"), None);
    let kept = world.engine.reader().unwrap().intended_down().unwrap();
    assert_eq!(kept.len(), 2, "{kept:?}");
    world.plays(Wish::Start, "boards").await;
    assert_eq!(said(&world.engine, "boards"), None);
    let kept = world.engine.reader().unwrap().intended_down().unwrap();
    assert_eq!(kept.len(), 1, "{kept:?}");
}

/// R25: a change freeze of a new edition holds the very next stop, and not the one after that.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_freeze_in_a_new_edition_holds_from_the_moment_it_is_loaded() {
    let world = World::bare().await;
    let text = chain();
    world.load(&text).await.unwrap();
    world.until("all is looked at", |e| e.board().services.iter().all(|r| r.seen.state == SeenState::Proven).then_some(())).await;
    let run = world.begin(Wish::Stop, "link-0").await;
    world.until("it is at work", |e| (acts(e, run) > 1).then_some(())).await;
    world.load(&frozen(&text)).await.unwrap();
    let intended = acts(&world.engine, run);
    let view = world.is(run, &[RunState::Held, RunState::Finished]).await;
    assert_eq!((view.state, acts(&world.engine, run)), (RunState::Held, intended), "{:?}", view.held_because);
    assert!(intended < 12, "it was through before");
}

/// R25: a change freeze that came while a run waited for its turn holds its first stop, though nobody could be asked about it when the
/// run was planned.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_run_that_begins_after_a_wait_stops_nothing_in_a_freeze_that_came_meanwhile() {
    let world = World::bare().await;
    let text = chain();
    world.load(&text).await.unwrap();
    world.until("all is looked at", |e| e.board().services.iter().all(|r| r.seen.state == SeenState::Proven).then_some(())).await;
    let before = world.begin(Wish::Stop, "link-0").await;
    world.until("it is at work", |e| (acts(e, before) > 1).then_some(())).await;
    let waiting = world.begin(Wish::Restart, "link-2").await;
    assert_eq!(world.engine.run(waiting).unwrap().state, RunState::Queued);
    world.load(&frozen(&text)).await.unwrap();
    world.is(before, &[RunState::Held]).await;
    let in_flight = |s: &StepState| matches!(s, StepState::Acting { .. } | StepState::Proving { .. });
    let at_rest = |e: &Engine| e.run(before).ok().filter(|r| !r.steps.iter().any(|s| in_flight(&s.now.state)));
    let held = world.until("nothing is in flight", at_rest).await;
    world.decide(&held, DecisionKind::GiveUp, Some("the ball goes on")).await.unwrap();
    let view = world.is(waiting, &[RunState::Held, RunState::Finished]).await;
    assert_eq!((view.state, acts(&world.engine, waiting)), (RunState::Held, 0), "{:?}", view.held_because);
    assert!(view.held_because.iter().any(|why| why.contains("is a change freeze until")), "{:?}", view.held_because);
}

/// Twelve services, each of which relies on the one before it.
fn chain() -> String {
    let links: String = (0..12)
        .map(|n| {
            let relies_on = if n == 0 { String::new() } else { format!("relies_on = [\"link-{}\"]\n", n - 1) };
            format!("[service.link-{n}]\nlike = \"played\"\nhost = \"quay-1\"\n{relies_on}")
        })
        .collect();
    let (text, _) = ESTATE.split_once("[service.fares-db]").unwrap();
    format!("{text}{links}")
}

/// The same estate, with a change freeze that is on.
fn frozen(text: &str) -> String {
    format!("{text}[freeze.ball]\nfrom = \"{}\"\nlength = \"30h\"\nimpact = \"none\"\n", crate::world::today())
}

/// How many acts of a run were intended.
fn acts(engine: &Engine, run: RunId) -> usize {
    let events = engine.reader().unwrap().events_of(run).unwrap();
    events.iter().filter(|e| matches!(e.event, Event::ActIntended { .. })).count()
}
