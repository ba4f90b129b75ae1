//! What nothing outside the loop can bring about at will.

use rstest::rstest;
use tempfile::TempDir;
use yantro_core::words::kinds::Wish;

use super::*;
use crate::{BeginRequest, LoadRequest, Options};

const ESTATE: &str = concat!(
    include_str!("../../tests/engine/played.toml"),
    "[procedure.dusk]\nsteps = [{ question = { asks = \"Is the last boat in?\" } }, { stop = [\"boards\"] }]\n"
);

async fn engine(folder: &TempDir) -> Engine {
    let options = Options { looking_only: false, host_records: folder.path().join("hosts") };
    let engine = Engine::start(&folder.path().join("data"), options).await.unwrap();
    engine.load(LoadRequest { text: ESTATE.to_owned(), folder: "/e".to_owned(), ..LoadRequest::default() }, "maren").await.unwrap();
    until(|| engine.board().services.iter().all(|r| r.seen.state != SeenState::Unknown)).await;
    engine
}

async fn until(so: impl Fn() -> bool) {
    let began = Instant::now();
    while !so() {
        assert!(began.elapsed() < Duration::from_secs(60), "never");
        tokio::time::sleep(Duration::from_millis(5)).await;
    }
}

/// A round waits for its slowest host: what it saw of the others before counts no more where they were looked at since (R18).
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_a_round_saw_a_while_ago_is_no_news() {
    let folder = tempfile::tempdir().unwrap();
    let engine = engine(&folder).await;
    let run = engine.begin(&BeginRequest::of_procedure("dusk"), "maren").await.unwrap();
    let event_count = || engine.run(run).unwrap().events;
    until(|| read(&engine.shared.runs)[&run].steps().any(|(_, now)| matches!(now.state, yantro_core::run::StepState::Asking { .. }))).await;
    let before = event_count();
    engine.send(Msg::Looked(vec![("quay-2/boards".parse().unwrap(), SeenState::Down, "seen a while ago".to_owned())]));
    // Answered after what was sent before it.
    let audit = |reply| Msg::Audit { who: "maren".into(), what: "note", about: String::new(), why: String::new(), reply };
    engine.ask(audit).await.unwrap();
    assert_eq!(event_count(), before, "{:?}", engine.run(run).unwrap().held_because);
}

/// Runs that ended are at hand for a while only; all others are in the store.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn runs_that_ended_long_ago_are_not_kept_at_hand() {
    let folder = tempfile::tempdir().unwrap();
    let engine = engine(&folder).await;
    for _ in 0..KEPT_RUNS + 3 {
        let run = engine.begin(&BeginRequest::of_services(Wish::Stop, ["drill"]), "maren").await.unwrap();
        until(|| engine.run(run).is_ok_and(|r| r.ended_at.is_some())).await;
    }
    until(|| read(&engine.shared.runs).len() == KEPT_RUNS).await;
    assert!(engine.run(RunId(1)).unwrap().ended_at.is_some());
}

#[rstest]
#[case::all_is_taken_in(false, Duration::ZERO, true)]
#[case::more_waits(true, Duration::ZERO, false)]
#[case::and_still_waits(true, TICK_ANYWAY - Duration::from_millis(1), false)]
#[case::for_too_long(true, TICK_ANYWAY, true)]
fn deadlines_wait_for_what_came_in_but_not_for_ever(#[case] more_waits: bool, #[case] since_last: Duration, #[case] is_time: bool) {
    assert_eq!(is_time_to_tick(more_waits, since_last), is_time);
}
