//! What a turn of the loop does beside the run itself: what is held against a service, the trail, the rows of the list, what a new
//! edition and the clock change, and what a batch that could not be stored leaves behind.

use std::{
    path::Path,
    time::{Duration, Instant, SystemTime},
};

use rstest::rstest;
use yantro_core::{
    plan::{Part, Shown},
    proof::{LogAgainst, SeenState},
    run::{Decision, DecisionKind, Event, RunState, StepEnd},
    words::{kinds::Wish, time::Timestamp},
};
use yantro_engine::{BeginRequest, EngineError};

use crate::world::{ESTATE, World, request, today, with_dusk};

impl World {
    fn against(&self, service: &str) -> Option<LogAgainst> {
        let board = self.engine.board();
        board.services.into_iter().find(|r| r.address.service.as_str() == service)?.seen.log_against
    }

    /// The trail as who, what, about and why, the first first.
    fn trail(&self) -> Vec<(String, String, String, String)> {
        let mut rows = self.engine.reader().unwrap().audit(100).unwrap();
        rows.reverse();
        rows.into_iter().map(|r| (r.who, r.what, r.about, r.why.unwrap_or_default())).collect()
    }
}

/// A service of commands that says these lines into its log, at its start and at its stop.
fn that_says(folder: &Path, lines: &[&str]) -> String {
    let at = folder.display();
    let said: String = lines.iter().map(|line| format!("echo {line} >> {at}/radar.log; ")).collect();
    format!(
        "[estate]\nname = \"Brannock Sound, said\"\nstands_for = \"test\"\n[host.quay]\nreach = \"here\"\naddress = \"127.0.0.1\"\n\
         [service.radar]\nhost = \"quay\"\nrun_by = \"commands\"\nexpected = \"down\"\nlogs = [\"{at}/radar.log\"]\nsteady = \"0s\"\n\
         start = {{ patience = \"2s\", must_see = [\"ready to sweep\"], must_not_see = [\"dish stuck\"] }}\n\
         stop = {{ patience = \"2s\", must_not_see = [\"dish stuck\"] }}\n\
         commands = {{ dir = \"{at}\", start = [\"/bin/sh\", \"-c\", \"{said}touch {at}/up\"], \
         stop = [\"/bin/sh\", \"-c\", \"{said}rm {at}/up\"], state = [\"/bin/sh\", \"-c\", \"test -e {at}/up\"] }}\n"
    )
}

/// R17: what its log said against it is held against a service, and so is what it did not say: of its start, not of its stop.
#[rstest]
#[case::all_is_said(Wish::Start, &["ready to sweep"], None)]
#[case::a_forbidden_line(Wish::Start, &["ready to sweep", "dish stuck"], Some(("dish stuck", false)))]
#[case::the_last(Wish::Start, &["dish stuck", "ready to sweep", "still dish stuck", "calm"], Some(("still dish stuck", false)))]
#[case::a_line_is_missing(Wish::Start, &["warming up"], Some(("\"ready to sweep\"", true)))]
#[case::of_a_stop(Wish::Stop, &["dish stuck"], None)]
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_its_log_says_of_its_start_is_held_against_a_service(
    #[case] wish: Wish,
    #[case] says: &[&str],
    #[case] told: Option<(&str, bool)>,
) {
    let folder = tempfile::tempdir().unwrap();
    std::fs::write(folder.path().join("radar.log"), "").unwrap();
    if wish == Wish::Stop {
        std::fs::write(folder.path().join("up"), "").unwrap();
    }
    let world = World::of(&that_says(folder.path(), says)).await;
    let run = world.plays(wish, "radar").await;
    let against = world.against("radar");
    assert_eq!(against.as_ref().map(|a| (a.line.as_str(), a.missing)), told, "{:?} {:?}", run.state, run.held_because);
    assert_eq!(world.engine.reader().unwrap().log_against().unwrap().len(), usize::from(told.is_some()), "and that is kept");
    if let Some(against) = against {
        assert!(against.run == run.id.0 && against.source.ends_with("radar.log"), "{against:?}");
        // Who vouches for it knows of that: it counts no longer.
        let failed = run.steps.iter().find(|s| s.now.state.awaits_decision()).unwrap().planned.id;
        world.decide(&run, DecisionKind::Vouch { step: failed }, Some("seen from the bridge")).await.unwrap();
        world.until("it counts no longer", |_| world.against("radar").is_none().then_some(())).await;
        assert_eq!(world.engine.reader().unwrap().log_against().unwrap(), []);
        assert_eq!(
            world.trail().last().unwrap(),
            &("tove".to_owned(), "vouch".to_owned(), format!("run {}, step {failed}", run.id), "seen from the bridge".to_owned())
        );
    }
}

/// N48: everything that somebody does is in the trail, with who, what, to what, and why.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_people_do_is_in_the_trail() {
    let world = World::begun().await;
    let held = world.plays(Wish::Start, "drill").await;
    world.engine.note(held.id, "maren", "the tide was late").await.unwrap();
    world.engine.take_on(held.id, "sindre").await.unwrap();
    let held = world.engine.run(held.id).unwrap();
    world.decide(&held, DecisionKind::GiveUp, Some("it was a drill")).await.unwrap();
    let row = |who: &str, what: &str, why: &str| (who.to_owned(), what.to_owned(), format!("run {}", held.id), why.to_owned());
    let trail = world.trail();
    let of_run: Vec<_> = trail.into_iter().filter(|r| r.2 == format!("run {}", held.id)).collect();
    assert_eq!(of_run, [row("maren", "note", "the tide was late"), row("sindre", "take on", ""), row("tove", "give up", "it was a drill")]);
}

/// R32: what a service's rule has take over takes over by itself, with the locks that it needs.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_divert_that_a_rule_asks_for_is_worked_out_and_done() {
    let text = ESTATE.replace("simulated = { fails = 1.0 }", "simulated = { fails = 1.0 }\nif_it_fails = { divert = \"dusk\" }");
    let world = World::of(&format!("{text}[procedure.dusk]\nsteps = [{{ stop = [\"boards\"] }}]\n")).await;
    let run = world.begin(Wish::Start, "drill").await;
    let ended = world.until("it is over", |e| e.run(run).ok().filter(|r| r.ended_at.is_some())).await;
    let diverted: Vec<&str> = ended.steps.iter().filter(|s| s.planned.part == Part::Divert).map(|s| s.says.as_str()).collect();
    assert_eq!((diverted, world.state("quay-2/boards")), (vec!["stop quay-2/boards"], SeenState::Down), "{:?}", ended.state);
}

/// What takes over needs what another run has: it says behind whom, and does nothing of it.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_divert_that_needs_what_another_has_is_not_done() {
    let slow = "[service.slow]\nlike = \"played\"\nhost = \"quay-2\"\nsimulated = { fails = 1.0 }\nexpected = \"down\"\n";
    let text = ESTATE.replace("expected = \"down\"\n[proc", "expected = \"down\"\nif_it_fails = { divert = \"dusk\" }\n[proc");
    let world = World::of(&format!("{text}{slow}[procedure.dusk]\nsteps = [{{ stop = [\"slow\"] }}]\n")).await;
    let has = world.plays(Wish::Start, "slow").await;
    assert_eq!(has.state, RunState::Held);
    let run = world.begin(Wish::Start, "drill").await;
    let says = format!("it needs services that run {} has", has.id);
    world.until("it says why", |e| e.run(run).ok().filter(|r| r.held_because.iter().any(|w| w.contains(&says)))).await;
}

/// What several runs come to in one turn is in the list for each.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_list_has_each_run_as_it_is_after_a_turn_that_changed_several() {
    let text = format!(
        "{ESTATE}[procedure.one]\nsteps = [{{ question = {{ asks = \"One?\" }} }}]\n[procedure.other]\nsteps = [{{ question = {{ asks = \"Other?\" }} }}]\n"
    );
    let world = World::of(&text).await;
    let mut runs = Vec::new();
    for name in ["one", "other"] {
        runs.push(world.asking(name).await.id);
    }
    world.engine.standstill(true, "tove", None).await.unwrap();
    let listed = world.engine.reader().unwrap().runs(None, 10).unwrap();
    let of = |run| listed.iter().find(|r| r.id == run).map(|r| r.state.as_str());
    assert_eq!(runs.iter().map(|r| of(*r)).collect::<Vec<_>>(), [Some("held"); 2], "{listed:?}");
}

/// R8: what was planned before a wait and is otherwise by now is held, worked out anew, and gone on with as shown.
#[rstest]
#[case::as_shown(false)]
#[case::of_an_edition_that_came_meanwhile(true)]
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_run_that_things_changed_for_goes_on_by_what_was_worked_out_anew(#[case] edition: bool) {
    let text = with_dusk("{ start = [\"bookings\"] }");
    let world = World::of(&text).await;
    assert_eq!(world.plays(Wish::Stop, "bookings").await.state, RunState::Finished);
    let asking = world.asking("dusk").await;
    let run = world.begin(Wish::Restart, "fares-db").await;
    world.until("it waits", |e| e.run(run).ok().filter(|r| r.state == RunState::Queued)).await;
    world.answers(&asking).await;
    world.is(asking.id, &[RunState::Finished]).await;
    let held = world.is(run, &[RunState::Held]).await;
    assert!(held.held_because.iter().any(|w| w.contains("changed")), "{:?}", held.held_because);
    let (plan, loaded) = world.engine.anew(run).await.unwrap();
    let digest = world.engine.shows(Shown::of(&plan, loaded.edition));
    let decision = Decision { kind: DecisionKind::Resume, hold: held.hold, who: "tove".into(), why: None };
    if edition {
        world.load(&format!("{text}[service.kiosk]\nlike = \"played\"\nhost = \"quay-1\"\n")).await.unwrap();
        let refused = world.engine.decide(run, decision, Some(&digest)).await.unwrap_err();
        assert!(matches!(refused, EngineError::Otherwise { .. }), "{refused}");
        assert_eq!(world.engine.run(run).unwrap().state, RunState::Held);
        return;
    }
    world.engine.decide(run, decision, Some(&digest)).await.unwrap();
    let ended = world.is(run, &[RunState::Finished, RunState::Held]).await;
    assert_eq!(ended.state, RunState::Finished, "{:?}", ended.held_because);
    let says: Vec<&str> = ended.steps.iter().map(|s| s.says.as_str()).collect();
    assert_eq!(says, ["stop quay-2/bookings", "stop quay-1/fares-db", "start quay-1/fares-db", "start quay-2/bookings"]);
    assert_eq!(world.state("quay-2/bookings"), SeenState::Proven);
}

/// R25: what a new edition keeps from being acted on is not acted on by a run that was begun under the one before.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_run_under_way_holds_before_what_a_new_edition_takes_from_it() {
    let text = with_dusk("{ stop = [\"boards\"] }");
    let world = World::of(&text).await;
    let asking = world.asking("dusk").await;
    let tight = text.replace("[procedure.dusk]\nsteps", "[procedure.dusk]\nsteps = [{ pause = \"1s\" }]\n[procedure.old]\nsteps");
    let tight = tight.replace(", { stop = [\"boards\"] }]", "]").replace("{ start = [\"boards\"] }", "{ pause = \"1s\" }");
    let tight = tight.replace("[service.boards]\n", "[service.boards]\nhands_off = \"the yard works on it\"\n");
    world.load(&tight).await.unwrap();
    world.answers(&asking).await;
    let held = world.is(asking.id, &[RunState::Held, RunState::Finished]).await;
    assert_eq!((held.state, world.state("quay-2/boards")), (RunState::Held, SeenState::Proven), "{:?}", held.held_because);
    assert!(held.held_because.iter().any(|w| w.contains("the yard works on it")), "{:?}", held.held_because);
}

/// R25: a change freeze that is over lets go of what it held, without anybody doing anything.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_change_freeze_that_is_over_holds_no_longer() {
    let text = with_dusk("{ stop = [\"boards\"] }");
    let world = World::of(&text).await;
    let asking = world.asking("dusk").await;
    let since_midnight = SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).unwrap().as_secs() % 86_400;
    let freeze =
        format!("[freeze.ball]\nfrom = \"{}\"\nzone = \"UTC\"\nlength = \"{}s\"\nimpact = \"none\"\n", today(), since_midnight + 4);
    world.load(&format!("{text}{freeze}")).await.unwrap();
    world.answers(&asking).await;
    world
        .until("the freeze holds it", |e| e.run(asking.id).ok().filter(|r| r.held_because.iter().any(|w| w.contains("change freeze"))))
        .await;
    world.is(asking.id, &[RunState::Finished]).await;
    assert_eq!(world.state("quay-2/boards"), SeenState::Down);
}

/// Deadlines are judged when they are there, while nothing else comes in that would wake the loop.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_deadline_is_judged_in_its_time() {
    let world = World::of(&format!("{ESTATE}[procedure.wait]\nsteps = [{{ pause = \"1s\" }}]\n")).await;
    let began = Instant::now();
    let run = world.engine.begin(&BeginRequest::of_procedure("wait"), "maren").await.unwrap();
    world.is(run, &[RunState::Finished]).await;
    let took = began.elapsed();
    assert!(took >= Duration::from_secs(1) && took < Duration::from_secs(5), "{took:?}");
}

/// R27: an identity that a run was to begin under, and that was never stored, stands for none; those of others stand as before.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_identity_under_which_nothing_was_begun_stands_for_nothing() {
    let world = World::begun().await;
    let under = |identity: &str, of: &str| BeginRequest { asked_as: Some(identity.to_owned()), ..request(Wish::Restart, of) };
    let first = world.engine.begin(&under("one", "boards"), "maren").await.unwrap();
    world.is(first, &[RunState::Finished]).await;
    world.engine.limit_storage(Some(0));
    let refused = world.engine.begin(&under("other", "fares-db"), "maren").await.unwrap_err();
    assert!(matches!(refused, EngineError::NotStored(_)), "{refused}");
    world.engine.limit_storage(None);
    world.until("there is room again", |e| e.board().storage_trouble.is_none().then_some(())).await;
    assert_eq!(world.engine.begin(&under("one", "boards"), "maren").await.unwrap(), first, "asked twice, told twice");
    let second = world.engine.begin(&under("other", "fares-db"), "maren").await.unwrap();
    let played = world.is(second, &[RunState::Finished, RunState::Held]).await;
    assert_eq!((played.state, played.steps.len()), (RunState::Finished, 4), "{:?}", played.held_because);
    assert_eq!(world.engine.begin(&under("other", "fares-db"), "maren").await.unwrap(), second);
}

/// R8: the plan of a begin goes by what was looked at a moment ago for whoever was shown it; what came since is found by the run's own
/// first look, before anything is done.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_came_between_the_look_for_a_plan_and_its_begin_is_found_before_anything_is_done() {
    let folder = tempfile::tempdir().unwrap();
    let at = folder.path().display();
    let service = |name: &str, more: &str| {
        format!(
            "[service.{name}]\nhost = \"quay\"\nrun_by = \"commands\"\nlook_every = \"1h\"\n{more}\
             commands = {{ dir = \"{at}\", start = [\"/bin/touch\", \"{at}/{name}\"], stop = [\"/bin/rm\", \"{at}/{name}\"], state = [\"/usr/bin/test\", \"-e\", \"{at}/{name}\"] }}\n"
        )
    };
    let text = format!(
        "[estate]\nname = \"Brannock Sound, between\"\nstands_for = \"test\"\n[host.quay]\nreach = \"here\"\naddress = \"127.0.0.1\"\n{}{}",
        service("lock", ""),
        service("gate", "relies_on = [\"lock\"]\nexpected = \"either\"\n")
    );
    std::fs::write(folder.path().join("lock"), "").unwrap();
    let world = World::of(&text).await;
    let asked = request(Wish::Stop, "lock");
    let (plan, loaded) = world.engine.plan(&asked).await.unwrap();
    let digest = world.engine.shows(Shown::of(&plan, loaded.edition));
    std::fs::write(folder.path().join("gate"), "").unwrap();
    let stands = || ["lock", "gate"].map(|name| folder.path().join(name).exists());
    match world.engine.begin(&BeginRequest { shown: Some(digest), ..asked }, "maren").await {
        // A moment had passed: it was looked at again.
        Err(refused) => assert!(matches!(refused, EngineError::Otherwise { .. } | EngineError::NotAsItIs(_)), "{refused}"),
        Ok(run) => {
            let held = world.is(run, &[RunState::Held, RunState::Finished]).await;
            assert!(held.held_because.iter().any(|w| w.contains("changed")), "{:?} {:?}", held.state, held.held_because);
        }
    }
    assert_eq!(stands(), [true; 2], "what relies on it runs, and nobody confirmed that");
}

/// R7: limits hold over all runs together, those that ended not counted, and by the newest edition.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn limits_hold_over_all_runs_by_the_newest_edition() {
    let more: String = (0..4).map(|n| format!("[service.lamp-{n}]\nlike = \"played\"\nhost = \"quay-1\"\n")).collect();
    let text = format!("{ESTATE}{more}");
    let world = World::of(&text).await;
    // How many steps of all these runs were in work at the same time.
    let at_once = async |chosen: [&str; 2]| -> usize {
        let mut runs = Vec::new();
        for of in chosen {
            runs.push(world.begin(Wish::Restart, of).await);
        }
        let mut changes: Vec<(Timestamp, i64)> = Vec::new();
        for run in runs {
            assert_eq!(world.is(run, &[RunState::Finished, RunState::Held]).await.state, RunState::Finished);
            for event in world.engine.reader().unwrap().events_of(run).unwrap() {
                match event.event {
                    Event::ActIntended { .. } => changes.push((event.at, 1)),
                    Event::StepEnded { end: StepEnd::Done, .. } => changes.push((event.at, -1)),
                    _ => {}
                }
            }
        }
        // What ends and what begins by that may be of one instant.
        changes.sort_by_key(|(at, by)| (*at, *by));
        let sums = changes.iter().scan(0, |now, (_, by)| {
            *now += by;
            Some(*now)
        });
        sums.max().unwrap() as usize
    };
    let chosen = ["lamp-0 lamp-1", "lamp-2 lamp-3"];
    assert!(at_once(chosen).await > 1, "nothing limits them");
    world.load(&format!("{text}[limits]\nat_once = 1\n")).await.unwrap();
    assert_eq!(at_once(chosen).await, 1);
    world.load(&text).await.unwrap();
    assert!(at_once(chosen).await > 1, "nothing limits them any more");
}

/// R25: a change freeze that begins while a run waits holds its next stop, without anybody asking.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_change_freeze_that_begins_meanwhile_holds() {
    let text = with_dusk("{ stop = [\"boards\"] }");
    let world = World::of(&text).await;
    let asking = world.asking("dusk").await;
    let day = 86_400;
    let since_midnight = SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).unwrap().as_secs() % day;
    let at = (since_midnight + 5) % day;
    let rule = format!("FREQ=DAILY;BYHOUR={};BYMINUTE={};BYSECOND={}", at / 3600, at / 60 % 60, at % 60);
    let freeze = format!("[freeze.ball]\nfrom = \"{}\"\nrule = \"{rule}\"\nzone = \"UTC\"\nlength = \"1h\"\nimpact = \"none\"\n", today());
    world.load(&format!("{text}{freeze}")).await.unwrap();
    let begins = world.engine.clock().now() + Duration::from_secs(5);
    world.until("it began", |e| (e.clock().now() > begins + Duration::from_millis(1500)).then_some(())).await;
    world.answers(&asking).await;
    let held = world.is(asking.id, &[RunState::Held, RunState::Finished]).await;
    assert!(held.held_because.iter().any(|w| w.contains("change freeze")), "{:?} {:?}", held.state, held.held_because);
    assert_eq!(world.state("quay-2/boards"), SeenState::Proven);
}

/// R27: whoever asks for something just as nothing can be stored any more is told so: nobody waits for ever, and nothing comes of it.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn whoever_asks_as_storing_fails_is_told_so() {
    let world = World::begun().await;
    world.engine.limit_storage(Some(0));
    let asked = ["boards", "fares-db", "bookings"].iter().cycle().take(60).map(|of| {
        let engine = world.engine.clone();
        tokio::spawn(async move { engine.begin(&request(Wish::Restart, of), "maren").await })
    });
    let mut begun = 0;
    for asked in asked.collect::<Vec<_>>() {
        match asked.await.unwrap() {
            // What the store has room for already.
            Ok(_) => begun += 1,
            // With what the system says of it: that is what somebody has to mend.
            Err(refused) => assert!(matches!(&refused, EngineError::NotStored(why) if why.contains("no room left")), "{refused}"),
        }
    }
    assert!(begun < 60);
    world.engine.limit_storage(None);
    world.until("there is room again", |e| e.board().storage_trouble.is_none().then_some(())).await;
    assert_eq!(world.begin(Wish::Restart, "boards").await.0, begun + 1, "none of those was begun");
}
