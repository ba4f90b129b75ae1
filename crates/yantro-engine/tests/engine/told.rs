//! What is told: the board by what is new, the stream of events, and a run's report in every form.

use std::time::SystemTime;

use rstest::rstest;
use yantro_core::{
    run::RunState,
    words::{kinds::Wish, time::Timestamp},
};

use crate::world::{ESTATE, World};

/// Whoever knows a version of the board is told only what is new since; and what was told adds up to the whole.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_board_is_told_by_what_is_new() {
    let world = World::begun().await;
    let mut known = world.engine.board_since(None);
    assert!(known.whole && known.services.len() == 4);
    let run = world.begin(Wish::Restart, "boards").await;
    world.is(run, &[RunState::Finished]).await;
    let news = world
        .until("something is new", |e| {
            let news = e.board_since(Some(known.version));
            news.services.iter().any(|r| r.address.to_string() == "quay-2/boards").then_some(news)
        })
        .await;
    assert!(!news.whole && news.services.iter().all(|r| r.address.to_string() != "quay-1/fares-db"), "{:?}", news.services);
    for row in news.services {
        let at = known.services.iter().position(|r| r.address == row.address).unwrap();
        known.services[at] = row;
    }
    let states = |rows: &[yantro_engine::BoardRow]| rows.iter().map(|r| (r.address.clone(), r.seen.state)).collect::<Vec<_>>();
    world.until("it adds up to the whole", |e| (states(&e.board().services) == states(&known.services)).then_some(())).await;
    // Nobody has that version yet.
    assert!(world.engine.board_since(Some(u64::MAX)).whole);
}

/// Every event of a run is told once it is stored, in order.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn events_are_told_as_they_are_stored() {
    let world = World::begun().await;
    let mut told = world.engine.listen();
    let run = world.begin(Wish::Restart, "boards").await;
    world.is(run, &[RunState::Finished]).await;
    let mut ids = Vec::new();
    while let Ok(one) = told.try_recv() {
        ids.extend(one.id);
    }
    let stored = world.engine.reader().unwrap().events_of(run).unwrap().len();
    assert!(ids.windows(2).all(|w| w[0] < w[1]), "{ids:?}");
    // The last may be on its way still.
    assert!(ids.len() <= stored && ids.len() + 1 >= stored, "{} of {stored}", ids.len());
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn of_a_long_run_only_the_steps_that_changed_are_told() {
    let world = World::begun().await;
    let run = world.plays(Wish::Restart, "fares-db").await;
    assert!(run.whole && run.steps.len() == 4);
    let nothing = world.engine.run_since(run.id, Some(run.events)).unwrap();
    assert!(!nothing.whole && nothing.steps.is_empty());
    assert_eq!(nothing.steps_in_all, [4, 4]);
    assert_eq!(world.engine.run_since(run.id, Some(0)).unwrap().steps.len(), 4);
}

/// One report in three forms, each with every step.
#[rstest]
#[case::to_read(|r: &yantro_engine::Report| r.markdown(), "# ", 4)]
#[case::for_a_table(|r: &yantro_engine::Report| r.csv(), "step,", 4)]
#[case::for_a_pipeline(|r: &yantro_engine::Report| r.junit(), "<testsuites", 4)]
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_report_has_every_step(#[case] form: fn(&yantro_engine::Report) -> String, #[case] begins: &str, #[case] steps: usize) {
    let world = World::begun().await;
    let run = world.plays(Wish::Restart, "fares-db").await;
    let report = world.engine.report(run.id).unwrap();
    assert_eq!((report.steps.len(), report.state), (steps, RunState::Finished));
    let text = form(&report);
    assert!(text.contains(begins), "{text}");
    for says in ["stop quay-2/bookings", "stop quay-1/fares-db", "start quay-1/fares-db", "start quay-2/bookings"] {
        assert!(text.contains(says), "{says} is missing:\n{text}");
    }
}

/// What people wrote stays text, whatever opens the report.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_people_wrote_is_no_formula_and_no_markup_of_a_report() {
    let world = World::begun().await;
    let run = world.plays(Wish::Restart, "fares-db").await;
    let mut report = world.engine.report(run.id).unwrap();
    report.why = Some("so\n## Finished\n<script>x</script>".into());
    report.steps[0].why = Some("=cmd|' /C calc'!A0".into());
    let (markdown, csv) = (report.markdown(), report.csv());
    assert!(markdown.contains("- why: so ## Finished &lt;script>"), "{markdown}");
    assert!(!markdown.contains("\n## Finished"), "{markdown}");
    assert!(csv.contains("'=cmd|") && !csv.contains(",=cmd"), "{csv}");
}

/// A forecast follows a run, and is told again while it holds.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_run_that_goes_on_is_forecast() {
    let world = World::begun().await;
    let held = world.plays(Wish::Start, "drill").await;
    let forecast = world.engine.forecast(held.id).unwrap();
    assert_eq!(forecast.slow.len(), 0);
    assert!(forecast.now.late_ms >= forecast.now.likely_ms);
    let missing = world.engine.forecast(yantro_core::run::RunId(77));
    assert!(missing.is_err());
}

/// Before the first round of looks has ended, how old all is is told by the looks there are.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_board_is_never_older_than_its_server() {
    let before = Timestamp::from_ms(SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).unwrap().as_millis().try_into().unwrap());
    let world = World::bare().await;
    assert!(world.engine.board().looked_at >= before, "{}", world.engine.board().looked_at);
    world.load(ESTATE).await.unwrap();
    let board = world.engine.board();
    assert!(board.looked_at >= before && board.services.len() == 4, "{}", board.looked_at);
}
