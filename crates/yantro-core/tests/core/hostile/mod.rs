//! A hostile world: several runs at once, in an estate drawn by lot, while services die and come back by others, looks cannot
//! look or come late, acts never begin or end unknown, hosts are cut off, operators decide whatever they may, editions tighten,
//! everything is held, freezes begin, the disk is full and the server is killed, each between any two steps.
//!
//! What must always hold is checked at every act (`always.rs`); that every run comes to an end once the world is calm, too.
//! Every world is drawn from one number: `YANTRO_WORLD=17 cargo test -p yantro-core-tests hostile` plays that one, and tells it.

mod always;
mod drawn;
mod world;

use rstest::rstest;

use world::Hostile;

/// So many worlds are played by each case.
const WORLDS: u64 = 150;

#[rstest]
#[case::first(0)]
#[case::second(1)]
#[case::third(2)]
#[case::fourth(3)]
fn whatever_comes_in_between_what_must_hold_holds(#[case] part: u64) {
    if let Some(number) = std::env::var("YANTRO_WORLD").ok().and_then(|n| n.parse().ok()) {
        return if part == 0 {
            Hostile::drawn(number).telling().play()
        };
    }
    let worlds = std::env::var("YANTRO_WORLDS").ok().and_then(|n| n.parse().ok()).unwrap_or(WORLDS);
    let mut came_to: std::collections::BTreeMap<&str, u32> = std::collections::BTreeMap::new();
    for number in (0..worlds).map(|n| n * 4 + part) {
        let played = std::panic::catch_unwind(|| {
            let mut world = Hostile::drawn(number);
            world.play();
            world.came_to()
        });
        match played {
            Ok(words) => words.into_iter().for_each(|w| *came_to.entry(w).or_default() += 1),
            Err(why) => {
                let why = why.downcast_ref::<String>().cloned().or_else(|| why.downcast_ref::<&str>().map(|s| (*s).to_owned()));
                panic!("YANTRO_WORLD={number}: {}", why.unwrap_or_default());
            }
        }
    }
    // A world in which nothing ever comes off shows nothing.
    for end in ["finished", "finished with exceptions", "put back", "given up", "held", "killed", "acts"] {
        assert!(came_to.get(end).is_some_and(|n| *n > 3), "too few worlds came to \"{end}\": {came_to:?}");
    }
}
