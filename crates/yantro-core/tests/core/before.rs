//! Just before an act: the pause that comes first, and what the fresh look leads to.

use std::{collections::BTreeMap, time::Duration};

use rstest::rstest;
use yantro_core::{
    plan::{Request, StepId},
    proof::Answer,
    run::{ActEnd, ActId, ActKind, Event, Input, Order, StepEnd, StepState, Taken},
    words::{kinds::Wish, name::Address},
};

use crate::{
    by_hand::{Began, began_so, begun_now},
    estates::{addresses, seen},
};

const FIRST: StepId = StepId(1);

/// A run that is about to do its first step.
fn about(wish: Wish, relations: &str, more: &str, chosen: &str, found: &str) -> Began {
    let mut run = began_so(relations, more, found, &Request::new(wish, addresses(chosen)));
    run.given(Input::Locked);
    let mut all = run.found();
    all.extend(seen(found));
    run.given(Input::FirstLooked { seen: all, rungs: BTreeMap::new(), processes: BTreeMap::new(), unconfirmed: vec![] });
    run
}

fn looked(run: &mut Began, found: &str) -> Taken {
    let mut all: BTreeMap<Address, _> = run.found();
    all.extend(seen(found));
    run.given(Input::FreshLooked { step: FIRST, seen: all })
}

/// What came of a look: an act, proving, an end, a failure with its reason, or that it is looked at again.
fn came(taken: &Taken) -> String {
    let of = |e: &Event| match e {
        Event::ActIntended { kind, .. } => Some(kind.word().to_owned()),
        Event::StepProving { .. } => Some("proving".to_owned()),
        Event::StepEnded { end: StepEnd::Unneeded, .. } => Some("unneeded".to_owned()),
        Event::StepFailed { reason, .. } => Some(reason.clone()),
        _ => None,
    };
    taken.events.iter().find_map(of).unwrap_or_else(|| "again".to_owned())
}

fn looks(taken: &Taken) -> bool {
    taken.orders.iter().any(|o| matches!(o, Order::FreshLook { step, .. } if *step == FIRST))
}

#[rstest]
#[case::all_is_as_it_must_be("app=down", "start")]
#[case::it_is_up("app=proven", "unneeded")]
#[case::it_comes_up("app=rising", "proving")]
#[case::it_goes_down("app=sinking", "again")]
#[case::nobody_can_say("app=unknown", "again")]
#[case::it_is_not_well("app=ailing", "h/app is ailing: it runs already, and is never started over")]
#[case::it_is_out_of_reach("app=out", "h/app is out of reach")]
// It was proven, and may come back by itself: it has its patience for that (R18).
#[case::what_it_relies_on_is_not_well("app=down db=ailing", "again")]
#[case::what_it_relies_on_is_down("app=down db=down", "again")]
#[case::what_it_relies_on_is_out_of_reach("app=down db=out", "again")]
#[case::what_it_relies_on_comes_up("app=down db=rising", "again")]
#[case::nobody_can_say_of_what_it_relies_on("app=down db=unknown", "again")]
#[case::its_rival_is_up("app=down rival=proven", "h/app must never be up with h/rival, which is proven")]
#[case::its_rival_is_not_well("app=down rival=ailing", "h/app must never be up with h/rival, which is ailing")]
#[case::nobody_can_say_of_its_rival("app=down rival=unknown", "again")]
fn what_the_look_before_a_start_leads_to(#[case] found: &str, #[case] expected: &str) {
    let more = "[service.app]\nlike = \"x\"\nladder = [{ rung = \"port\", port = 1 }]\nrelies_on = [\"db\"]\nnever_with = [\"rival\"]\n\
                [service.rival]\nlike = \"x\"\nexpected = \"down\"\nladder = [{ rung = \"port\", port = 2 }]\n";
    let mut run = about(Wish::Start, "db", more, "app", "app=down rival=down");
    let found = if found.contains("rival") { found.to_owned() } else { format!("{found} rival=down") };
    assert_eq!(came(&looked(&mut run, &found)), expected);
}

#[rstest]
#[case::it_is_up("db=proven app=down", "stop")]
#[case::it_is_not_well("db=ailing app=down", "stop")]
#[case::it_is_down("db=down app=down", "unneeded")]
#[case::nobody_can_say("db=unknown app=down", "again")]
#[case::it_is_out_of_reach("db=out app=down", "h/db is out of reach")]
#[case::what_relies_on_it_came_up("db=proven app=proven", "h/app is proven and relies on h/db")]
#[case::nobody_can_say_of_what_relies_on_it("db=proven app=unknown", "again")]
fn what_the_look_before_a_stop_leads_to(#[case] found: &str, #[case] expected: &str) {
    let mut run = about(Wish::Stop, "app -> db", "", "db", "app=down");
    let first = run.run.steps().find(|(s, _)| s.is_on(&"h/db".parse().unwrap())).map(|(s, _)| s.id);
    assert_eq!(first, Some(FIRST), "what is down is no step of a stop");
    let came = came(&looked(&mut run, found));
    assert!(came.contains(expected), "{came}");
}

/// A pause before an act is waited out before the look: what is looked at is how it stands then.
#[rstest]
#[case::a_start(Wish::Start, "start = { pause_before = \"4s\" }", "app=down")]
#[case::a_stop(Wish::Stop, "stop = { pause_before = \"4s\" }", "")]
#[case::a_reload(Wish::Reload, "reload = { pause_before = \"4s\" }", "")]
fn an_act_waits_for_the_pause_before_it(#[case] wish: Wish, #[case] said: &str, #[case] found: &str) {
    let more = format!("[service.app]\nlike = \"x\"\nladder = [{{ rung = \"port\", port = 1 }}]\n{said}\n");
    let mut run = about(wish, "zz", &more, "app", found);
    let until = run.now + Duration::from_secs(4);
    assert_eq!(run.run.step_now(FIRST).state, StepState::Pausing { until, after_act: false });
    assert_eq!(run.run.next_deadline(), Some(until));
    run.waits(3_999);
    assert!(!looks(&run.given(Input::Tick)), "it is not over yet");
    run.waits(1);
    assert!(looks(&run.given(Input::Tick)));
    assert_ne!(came(&looked(&mut run, found)), "again");
}

/// A pause after an act comes after its proof, and what waits on it waits for its end.
#[rstest]
#[case::a_start(Wish::Start, "start = { pause_after = \"4s\" }", "app=down")]
#[case::a_stop(Wish::Stop, "stop = { pause_after = \"4s\" }", "")]
#[case::a_reload(Wish::Reload, "reload = { pause_after = \"4s\" }", "")]
fn what_waits_on_an_act_waits_for_the_pause_after_it(#[case] wish: Wish, #[case] said: &str, #[case] found: &str) {
    let more = format!("[service.app]\nlike = \"x\"\nladder = [{{ rung = \"port\", port = 1 }}]\nsteady = \"0s\"\n{said}\n");
    let mut run = about(wish, "zz", &more, "app", found);
    looked(&mut run, found);
    run.given(Input::ActBegun { step: FIRST, act: ActId(1), begun: begun_now() });
    run.given(Input::ActEnded { step: FIRST, act: ActId(1), end: ActEnd::Sent });
    let kind = run.run.steps().next().unwrap().0.kind();
    for rung in 0..run.run.service(FIRST).ladder_of(kind).len() as u32 {
        run.given(Input::RungLooked { step: FIRST, attempt: 1, rung, answer: Answer::holds("so"), logs: vec![] });
    }
    let until = run.now + Duration::from_secs(4);
    assert_eq!(run.run.step_now(FIRST).state, StepState::Pausing { until, after_act: true });
    run.waits(3_999);
    run.given(Input::Tick);
    assert!(!run.run.step_now(FIRST).state.has_ended());
    run.waits(1);
    run.given(Input::Tick);
    assert_eq!(run.run.step_now(FIRST).state, StepState::Ended(StepEnd::Done));
}

/// What could not be looked at is looked at again a quarter of a second later, for as long as it has patience.
#[test]
fn what_cannot_be_said_is_looked_at_again() {
    let mut run = about(Wish::Start, "app -> db", "", "app", "app=down");
    assert_eq!(came(&looked(&mut run, "app=unknown")), "again");
    assert_eq!(run.run.next_deadline(), Some(run.now + Duration::from_millis(250)));
    run.waits(250);
    assert!(looks(&run.given(Input::Tick)));
    let started = looked(&mut run, "app=down");
    assert!(started.events.iter().any(|e| matches!(e, Event::ActIntended { kind: ActKind::Start, .. })));
}

/// A reload needs what runs, and what cannot be said is looked at again.
#[rstest]
#[case::it_is_up("app=proven", "reload")]
#[case::it_is_not_well("app=ailing", "reload")]
#[case::nobody_can_say("app=unknown", "again")]
#[case::it_is_down("app=down", "h/app is down, and only what runs can be reloaded")]
#[case::it_is_out_of_reach("app=out", "h/app is out of reach, and only what runs can be reloaded")]
fn what_the_look_before_a_reload_leads_to(#[case] found: &str, #[case] expected: &str) {
    let more = "[service.app]\nlike = \"x\"\nladder = [{ rung = \"port\", port = 1 }]\nreload = {}\n";
    let mut run = about(Wish::Reload, "zz", more, "app", "");
    assert_eq!(came(&looked(&mut run, found)), expected);
}

/// A further act needs what runs, but where it is about what the manager knows of it.
#[rstest]
#[case::it_is_up("drain", "app=proven", "act")]
#[case::it_is_not_well("drain", "app=ailing", "act")]
#[case::nobody_can_say("drain", "app=unknown", "again")]
#[case::it_is_down("drain", "app=down", "h/app is down, and only what runs can be acted on so")]
#[case::what_the_manager_knows_of_it("at-boot-off", "app=down", "act")]
#[case::what_the_manager_knows_and_nobody_reaches("at-boot-off", "app=out", "h/app is out of reach, and only what runs can be acted on so")]
fn what_the_look_before_a_further_act_leads_to(#[case] act: &str, #[case] found: &str, #[case] expected: &str) {
    let more =
        "[service.app]\nhost = \"h\"\nrun_by = \"systemd\"\n[service.app.acts.drain]\ncommand = [\"/bin/drain\"]\nchanges_nothing = true\n";
    let mut run = crate::played::night("zz", more, &[&format!("act = \"{act}\", of = [\"app\"]")], "");
    run.given(Input::Locked);
    let all = run.found();
    run.given(Input::FirstLooked { seen: all, rungs: BTreeMap::new(), processes: BTreeMap::new(), unconfirmed: vec![] });
    let answers: Vec<_> = run.run.begun.preflight.iter().map(|look| (look.clone(), Answer::holds("so"))).collect();
    if !answers.is_empty() {
        run.given(Input::Preflighted { answers });
    }
    assert_eq!(came(&looked(&mut run, found)), expected);
}
