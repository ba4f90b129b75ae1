//! Services of this machine, and what the loop hears of them by itself.

use std::{collections::BTreeMap, path::Path};

use yantro_core::{
    proof::SeenState,
    run::{Event, RunState},
    words::kinds::Wish,
};
use yantro_engine::EngineError;

use crate::world::{World, request};

/// A service that runs until its file is taken away, and one of commands whose ladder has a second rung.
fn estate(at: &Path) -> String {
    let at = at.display();
    format!(
        "[estate]\nname = \"Brannock Sound, here\"\nstands_for = \"test\"\n[host.quay]\nreach = \"here\"\naddress = \"127.0.9.7\"\n\
         [service.pump]\nhost = \"quay\"\nrun_by = \"process\"\nlook_every = \"1h\"\nexpected = \"down\"\nsteady = \"0s\"\nladder = [{{ rung = \"process\" }}]\n\
         process = {{ dir = \"/\", program = \"/bin/sh\", args = [\"-c\", \"while [ -e {at}/pump ]; do sleep 0.02; done\"] }}\n\
         [service.sluice]\nhost = \"quay\"\nrun_by = \"commands\"\nexpected = \"either\"\nsteady = \"0s\"\n\
         ladder = [{{ rung = \"file\", path = \"{at}/open\" }}, {{ rung = \"file\", path = \"{at}/locked\" }}]\n\
         commands = {{ dir = \"/\", start = [\"/bin/touch\", \"{at}/open\", \"{at}/locked\"], stop = [\"/bin/rm\", \"-f\", \"{at}/open\", \"{at}/locked\"], \
         state = [\"/usr/bin/test\", \"-e\", \"{at}/open\"] }}\n\
         [procedure.watch]\nsteps = [{{ start = [\"pump\"] }}, {{ question = {{ asks = \"Is the dock dry?\" }} }}]\n"
    )
}

/// R18: what a run started and that ends by itself is heard of at once, and by the run, though no round looks at it for an hour.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_ends_by_itself_is_heard_of_at_once() {
    let folder = tempfile::tempdir().unwrap();
    std::fs::write(folder.path().join("pump"), "").unwrap();
    let world = World::of(&estate(folder.path())).await;
    let asking = world.asking("watch").await;
    assert_eq!(world.state("quay/pump"), SeenState::Proven);
    std::fs::remove_file(folder.path().join("pump")).unwrap();
    world.until("the board says so", |_| (world.state("quay/pump") == SeenState::Down).then_some(())).await;
    let lost = |event: &Event| matches!(event, Event::ServiceLost { address, state, .. } if address.to_string() == "quay/pump" && *state == SeenState::Down);
    world
        .until("the run has heard of it", |e| {
            e.reader().unwrap().events_of(asking.id).unwrap().iter().any(|e| lost(&e.event)).then_some(())
        })
        .await;
}

/// R30: how far what was found ailing had come is kept, for the way back; of nothing else.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn how_far_what_was_found_ailing_had_come_is_kept() {
    let folder = tempfile::tempdir().unwrap();
    let world = World::of(&estate(folder.path())).await;
    assert_eq!(world.plays(Wish::Start, "sluice").await.state, RunState::Finished);
    std::fs::remove_file(folder.path().join("locked")).unwrap();
    world.until("it ails", |_| (world.state("quay/sluice") == SeenState::Ailing).then_some(())).await;
    let run = world.plays(Wish::Restart, "sluice").await;
    assert_eq!(run.state, RunState::Finished, "{:?}", run.held_because);
    let events = world.engine.reader().unwrap().events_of(run.id).unwrap();
    let found = events.iter().find_map(|e| if let Event::FirstLooked { rungs, .. } = &e.event { Some(rungs.clone()) } else { None });
    assert_eq!(found.unwrap(), BTreeMap::from([("quay/sluice".parse().unwrap(), 2)]));
    // Proven now, it had come all the way, and there is no way back to keep that for.
    let run = world.plays(Wish::Restart, "sluice").await;
    let events = world.engine.reader().unwrap().events_of(run.id).unwrap();
    assert!(events.iter().any(|e| matches!(&e.event, Event::FirstLooked { rungs, .. } if rungs.is_empty())));
}

/// R35: a host's record of who acts there goes by its address, which other servers know it by, and not by its name in one estate.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_hosts_record_goes_by_its_address() {
    let folder = tempfile::tempdir().unwrap();
    let world = World::of(&estate(folder.path())).await;
    assert_eq!(world.plays(Wish::Start, "sluice").await.state, RunState::Finished);
    let kept: Vec<String> = world.records().into_iter().filter(|name| name.ends_with(".json")).collect();
    assert_eq!(kept, ["127.0.9.7.json"]);
}

/// What is given back to the file system when it is full is there from the first, and again once there was room again (R27); and a server
/// that rests writes nothing: how long it was there is written once a minute (R34).
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn room_is_kept_and_rest_is_kept() {
    let world = World::begun().await;
    let reserve = || world.in_data("reserve").and_then(|meta| (meta.len() == 4 * 1024 * 1024).then_some(()));
    world.until("room is kept", |_| reserve()).await;
    let alive_at = || world.engine.reader().unwrap().setting("alive_at").unwrap();
    let first = world.until("it was said", |_| alive_at()).await;
    // Some rounds, each a turn or more, none of which has anything to store.
    for _ in 0..3 {
        let before = world.engine.board().looked_at;
        world.until("a round later", |e| (e.board().looked_at > before).then_some(())).await;
    }
    assert_eq!(alive_at(), Some(first));
    world.engine.limit_storage(Some(0));
    // The first may find room in what the store has already.
    let refused = loop {
        let begun = world.engine.begin(&request(Wish::Restart, "boards"), "maren").await;
        if let Err(refused) = begun {
            break refused;
        }
    };
    assert!(matches!(refused, EngineError::NotStored(_)), "{refused}");
    assert!(reserve().is_none(), "it was given back");
    world.engine.limit_storage(None);
    world.until("there is room again", |e| e.board().storage_trouble.is_none().then_some(())).await;
    world.until("room is kept again", |_| reserve()).await;
}
