//! Looks that are taken before it comes to an act: which step is looked at when, whose room that takes, and when such a look is none.

use std::collections::BTreeMap;

use rstest::rstest;
use yantro_core::{
    plan::{Request, StepId},
    proof::{Answer, SeenState},
    run::{DecisionKind, Event, HoldCause, Input, Order, StepEnd, StepState, Taken},
    words::{
        kinds::{StepKind, Wish},
        name::Address,
    },
};

use crate::{
    by_hand::{began_so, decision},
    estates::{addresses, seen},
    played::{Played, night},
};

/// Services of which each has to stay steady for two seconds: `third` relies on `second`, that on `first`, `both` on `first` and `other`.
const STEADY: &str = "[like.s]\nlike = \"x\"\nsteady = \"2s\"\n\
    [service.first]\nlike = \"s\"\nladder = [{ rung = \"port\", port = 1 }]\n\
    [service.second]\nlike = \"s\"\nladder = [{ rung = \"port\", port = 2 }]\nrelies_on = [\"first\"]\n\
    [service.third]\nlike = \"s\"\nladder = [{ rung = \"port\", port = 3 }]\nrelies_on = [\"second\"]\n\
    [service.other]\nlike = \"s\"\nladder = [{ rung = \"port\", port = 4 }]\n\
    [service.both]\nlike = \"s\"\nladder = [{ rung = \"port\", port = 5 }]\nrelies_on = [\"first\", \"other\"]\n";

/// A run that starts these, with all of them down.
fn starts(names: &str) -> Played {
    let found = names.split_whitespace().map(|n| format!("{n}=down ")).collect::<String>();
    Played::of(began_so("zz", STEADY, &found, &Request::new(Wish::Start, addresses(names))), &found)
}

/// Starts it, and climbs its ladder: it only has to stay steady.
fn climbs(played: &mut Played, name: &str) -> StepId {
    let step = played.step(StepKind::Start, name);
    played.acts(step);
    for rung in 0..played.run.run.service(step).ladder_of(StepKind::Start).len() as u32 {
        played.given(Input::RungLooked { step, attempt: 1, rung, answer: Answer::holds("so"), logs: vec![] });
    }
    played.stands.insert(format!("h/{name}").parse::<Address>().unwrap(), SeenState::Rising);
    step
}

fn ticks(played: &mut Played, ms: u64) -> Taken {
    played.run.waits(ms);
    played.given(Input::Tick)
}

fn looks(taken: &Taken, played: &Played) -> Vec<String> {
    let of = |o: &Order| if let Order::FreshLook { step, .. } = o { Some(played.run.run.begun.sequence.step(*step).says()) } else { None };
    taken.orders.iter().filter_map(of).collect()
}

fn acts(taken: &Taken) -> usize {
    taken.orders.iter().filter(|o| matches!(o, Order::Act { .. })).count()
}

/// Only who waits for nothing else is looked at ahead, and only while the run goes on and the first still stands.
#[rstest]
#[case::it_waits_for_it_alone("first second", "", &["start h/second"])]
#[case::it_waits_for_another_too("first other both", "", &[])]
#[case::the_run_is_held("first second", "held", &[])]
#[case::the_first_came_off_its_rung("first second", "lost", &[])]
#[case::the_way_is_left("first second", "left", &[])]
fn who_is_looked_at_ahead(#[case] names: &str, #[case] meanwhile: &str, #[case] expected: &[&str]) {
    let mut played = starts(names);
    let first = climbs(&mut played, "first");
    match meanwhile {
        "held" => drop(played.given(Input::Hold(HoldCause::Operator { who: "tove".into() }))),
        "lost" => drop(played.given(Input::RungLooked { step: first, attempt: 1, rung: 0, answer: Answer::not_yet("gone"), logs: vec![] })),
        "left" => drop(played.given(Input::Decide(decision(DecisionKind::PutBack, None)))),
        _ => {}
    }
    let taken = ticks(&mut played, 1_900);
    let looked: Vec<String> = looks(&taken, &played).into_iter().filter(|says| !says.contains("other")).collect();
    assert_eq!(looked, expected);
}

/// Work that comes next is not begun by a look of a service's, and none is taken for it.
#[test]
fn nobody_looks_ahead_for_work() {
    let lines = ["start = [\"first\"]", "work = [\"/bin/patch\"], on = \"h\", while_down = [\"other\"]"];
    let mut played = Played::of(night("zz", STEADY, &lines, "first=down other=down"), "first=down other=down");
    climbs(&mut played, "first");
    let taken = ticks(&mut played, 1_900);
    assert_eq!(looks(&taken, &played), [] as [&str; 0]);
}

/// A look is one just before the act for a quarter of a second, and no longer.
#[rstest]
#[case::to_the_end_of_that(250, 1)]
#[case::longer(251, 0)]
fn a_look_ahead_is_good_for_a_quarter_of_a_second(#[case] after: u64, #[case] given: usize) {
    let mut played = starts("first second");
    climbs(&mut played, "first");
    ticks(&mut played, 1_900);
    let (step, stands) = (played.step(StepKind::Start, "second"), played.stands.clone());
    played.given(Input::FreshLooked { step, seen: stands });
    let taken = ticks(&mut played, after);
    assert_eq!(acts(&taken), given);
    assert_eq!(looks(&taken, &played).len(), 1 - given);
}

/// What climbed while the look was taken is as good as proven once it is; what else only climbs is not, whatever it was before.
#[test]
fn only_what_was_proven_since_is_taken_for_proven() {
    let mut played = starts("first other both");
    let other = climbs(&mut played, "other");
    ticks(&mut played, 2_000);
    assert_eq!(played.run.run.step_now(other).state, StepState::Ended(StepEnd::Done));
    played.stands.extend(seen("other=proven"));
    climbs(&mut played, "first");
    let taken = ticks(&mut played, 1_900);
    assert_eq!(
        looks(&taken, &played),
        ["start h/both"],
        "{:?}",
        played.run.run.steps().map(|(s, n)| (s.says(), n.state.clone())).collect::<Vec<_>>()
    );
    let both = played.step(StepKind::Start, "both");
    played.given(Input::FreshLooked { step: both, seen: seen("both=down first=rising other=rising") });
    let taken = ticks(&mut played, 100);
    assert_eq!(acts(&taken), 0, "the other came off its rungs");
    assert_eq!(looks(&taken, &played), ["start h/both"]);
}

/// Where that look shows that nothing is to be done, whoever waited for it is looked at in the same turn.
#[test]
fn what_needs_nothing_lets_the_next_go_on_at_once() {
    let mut played = starts("first second third");
    climbs(&mut played, "first");
    ticks(&mut played, 1_900);
    let second = played.step(StepKind::Start, "second");
    played.given(Input::FreshLooked { step: second, seen: seen("second=proven first=rising") });
    // Whatever is known of it says the same.
    played.given(Input::Seen { address: "h/second".parse().unwrap(), state: SeenState::Proven, says: "so".into() });
    let taken = ticks(&mut played, 100);
    assert_eq!(played.run.run.step_now(second).state, StepState::Ended(StepEnd::Unneeded));
    assert_eq!(looks(&taken, &played), ["start h/third"]);
}

/// What is only awaited is proven by its ladder, from the begin on: no look at it is asked for before.
#[test]
fn what_is_awaited_is_climbed_at_once() {
    let request = Request::new(Wish::Start, addresses("second"));
    let theirs = STEADY.replace("[service.first]\n", "[service.first]\nhands_off = \"theirs\"\n");
    let mut run = began_so("zz", &theirs, "first=rising second=down", &request);
    run.given(Input::Locked);
    let seen = seen("first=rising second=down");
    let taken = run.given(Input::FirstLooked { seen, rungs: BTreeMap::new(), processes: BTreeMap::new(), unconfirmed: vec![] });
    let awaits = run.run.steps().find(|(s, _)| s.kind() == StepKind::Await).expect("it is hands-off, and on its way up").0.id;
    assert!(taken.orders.iter().any(|o| matches!(o, Order::Climb { step, .. } if *step == awaits)), "{:?}", taken.orders);
    assert!(!taken.orders.iter().any(|o| matches!(o, Order::FreshLook { .. })));
}

/// A pause takes up no room: it begins whatever else is under way.
#[test]
fn a_pause_needs_no_room() {
    let lines = ["stop = [\"third\"]", "pause = \"1s\", alongside = true"];
    let mut run = night("zz", STEADY, &lines, "");
    run.run.begun.at_once = Some(1);
    let played = Played::of(run, "");
    let words: Vec<&str> = played.run.run.steps().map(|(_, n)| n.state.word()).collect();
    assert_eq!((words, played.asked.len()), (vec!["waiting", "pausing"], 1));
}

/// What a stop is looked at with: itself, who relies on it, and its group as far as that is kept up.
#[rstest]
#[case::kept_up("keep_up = 1", &["h/gate", "h/hall", "h/twin"])]
#[case::not_kept_up("at_once = 1", &["h/gate", "h/hall"])]
#[case::set_aside("keep_up = 1\nat_once = 1", &["h/gate", "h/hall"])]
fn what_a_stop_is_looked_at_with(#[case] group: &str, #[case] expected: &[&str]) {
    let of = |name: &str, port: u32, more: &str| {
        format!("[service.{name}]\nlike = \"x\"\nladder = [{{ rung = \"port\", port = {port} }}]\n{more}\n")
    };
    let more = format!(
        "[group.pair]\n{group}\n[group.far]\nkeep_up = 1\n{}{}{}{}{}{}",
        of("gate", 1, "groups = [\"pair\"]"),
        of("twin", 2, "groups = [\"pair\"]"),
        of("hall", 3, "relies_on = [\"gate\", \"spare\"]"),
        of("spare", 4, ""),
        of("one", 5, "groups = [\"far\"]"),
        of("two", 6, "groups = [\"far\"]")
    );
    let below_keep_up = group.contains("keep_up = 1\nat_once").then(|| "pair".parse().unwrap()).into_iter().collect();
    let request = Request { below_keep_up, ..Request::new(Wish::Restart, addresses("gate hall")) };
    let mut run = began_so("zz", &more, "", &request);
    run.given(Input::Locked);
    let seen = run.found();
    run.given(Input::FirstLooked { seen: seen.clone(), rungs: BTreeMap::new(), processes: BTreeMap::new(), unconfirmed: vec![] });
    let of = |kind: StepKind, name: &str| run.run.steps().find(|(s, _)| s.kind() == kind && s.says().contains(name)).unwrap().0.id;
    let (hall, gate) = (of(StepKind::Stop, "hall"), of(StepKind::Stop, "gate"));
    let mut played = Played { stands: seen, run, asked: [hall].into() };
    played.acts(hall);
    let act = played.act(hall);
    played.given(Input::ActEnded { step: hall, act, end: yantro_core::run::ActEnd::Sent });
    let mut taken = Taken::default();
    for rung in 0..played.run.run.service(hall).ladder_of(StepKind::Stop).len() as u32 {
        taken = played.given(Input::RungLooked { step: hall, attempt: 1, rung, answer: Answer::holds("so"), logs: vec![] });
    }
    let asked = taken.orders.iter().find_map(|o| match o {
        Order::FreshLook { step, addresses } if *step == gate => Some(addresses.iter().map(ToString::to_string).collect::<Vec<_>>()),
        _ => None,
    });
    assert_eq!(asked.unwrap(), expected);
}

// ---- what a start makes of its look ----

const RESTARTED: &str = "[service.app]\nlike = \"x\"\nsteady = \"0s\"\nladder = [{ rung = \"port\", port = 1 }]\nrelies_on = [\"db\"]\n\
    stop = { patience = \"30s\" }\n";

/// What the run took down and something else brought up since is proven like a start of its own; what it did not have to take down, or
/// brought up itself already, needs nothing.
#[rstest]
#[case::taken_down(&["restart = [\"app\"]"], "", 1, "proving")]
#[case::found_down_by_the_look(&["restart = [\"app\"]"], "app=down", 1, "unneeded")]
#[case::brought_up_already(&["start = [\"app\"]", "start = [\"app\"]"], "", 1, "unneeded")]
fn what_is_up_already_when_it_is_to_be_started(#[case] lines: &[&str], #[case] looked: &str, #[case] steps: usize, #[case] word: &str) {
    let found = if lines[0].starts_with("start") { "app=down" } else { "" };
    let mut played = Played::of(night("db", RESTARTED, lines, found), found);
    if looked.is_empty() {
        played.goes_on(steps);
    } else {
        let step = *played.asked.first().unwrap();
        played.stands.extend(seen(looked));
        let stands = played.stands.clone();
        played.given(Input::FreshLooked { step, seen: stands });
    }
    let step = played.step(StepKind::Start, "app");
    played.stands.extend(seen("app=proven"));
    let stands = played.stands.clone();
    played.given(Input::FreshLooked { step, seen: stands });
    assert_eq!(played.run.run.step_now(step).state.word(), word);
}

/// What it relies on and is missing is told by name and state, and nothing of what is there.
#[test]
fn what_a_start_lacks_is_told() {
    let more = "[service.app]\nlike = \"x\"\nladder = [{ rung = \"port\", port = 1 }]\nrelies_on = [\"db\", \"log\"]\n";
    let mut run = began_so("db, log", more, "app=down", &Request::new(Wish::Start, addresses("app")));
    run.given(Input::Locked);
    let found = seen("app=down db=ailing log=proven");
    run.given(Input::FirstLooked { seen: found.clone(), rungs: BTreeMap::new(), processes: BTreeMap::new(), unconfirmed: vec![] });
    run.given(Input::FreshLooked { step: StepId(1), seen: found });
    let reason = "h/app relies on h/db, which is ailing".to_owned();
    assert_eq!(run.run.step_now(StepId(1)).state, StepState::Failed { reason });
}

/// On the way back, what was asked to stop and runs on is proven by its ladder; on the way there what ails is never started over.
#[rstest]
#[case::on_the_way_back(true, "proving")]
#[case::on_the_way_there(false, "failed")]
fn what_ails_already_when_it_is_to_be_started(#[case] back: bool, #[case] word: &str) {
    let mut played = Played::of(night("db", RESTARTED, &["stop = [\"app\"]", "pause = \"1s\"", "start = [\"app\"]"], ""), "");
    played.goes_on(1);
    played.stands.extend(seen("app=ailing"));
    if back {
        played.given(Input::Decide(decision(DecisionKind::PutBack, None)));
        let stands = played.stands.clone();
        played.given(Input::FinalLooked { seen: stands });
    } else {
        ticks(&mut played, 1_000);
    }
    let step = *played.asked.first().unwrap();
    let stands = played.stands.clone();
    played.given(Input::FreshLooked { step, seen: stands });
    assert_eq!(played.run.run.step_now(step).state.word(), word);
}

/// What something else brings back is never started by us: it is seen to have come back where it was stopped, and needs nothing where
/// it was not.
#[rstest]
#[case::it_was_stopped(true, "app=proven", "proving")]
#[case::it_was_not(false, "app=proven", "unneeded")]
#[case::it_was_not_and_is_down(false, "app=down", "proving")]
fn what_something_else_brings_back_is_awaited(#[case] stopped: bool, #[case] stands: &str, #[case] word: &str) {
    let more = "[service.app]\nlike = \"x\"\nsteady = \"0s\"\nladder = [{ rung = \"port\", port = 1 }]\nbrought_back_by = \"a watchdog\"\n";
    let mut played = Played::of(night("db", more, &["restart = [\"app\"]"], ""), "");
    let stop = played.step(StepKind::Stop, "app");
    if stopped {
        played.goes_on(1);
    } else {
        played.given(Input::FreshLooked { step: stop, seen: seen("app=down") });
    }
    let Some((step, _)) = played.run.run.steps().find(|(s, _)| s.kind() == StepKind::Start) else { panic!("no start") };
    let step = step.id;
    played.given(Input::FreshLooked { step, seen: seen(stands) });
    assert_eq!(played.run.run.step_now(step).state.word(), word);
    let taken: Vec<bool> = played.run.stored.iter().map(|(_, e)| matches!(e, Event::ActIntended { step: s, .. } if *s == step)).collect();
    assert!(!taken.contains(&true), "it is never started by us");
}
