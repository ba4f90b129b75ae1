//! Several services of a kind: a group of which enough stay up while its members go down and come back in turn (R20), and services of
//! which only some are relied on.

use rstest::rstest;
use yantro_core::{
    plan::Request,
    run::{ActEnd, ActId, Event, Input, Order, StepEnd, StepState, Taken},
    words::kinds::{StepKind, Wish},
};

use crate::{
    by_hand::{began_as_planned, began_so, begun_now},
    estates::{addresses, seen},
    played::{Played, night},
};

/// Three members, of which one and another of these limits; `one` relies on `db`.
fn three(group: &str) -> String {
    let member = |name: &str, port: u32, relies: &str| {
        format!(
            "[service.{name}]\nlike = \"x\"\nsteady = \"0s\"\nladder = [{{ rung = \"port\", port = {port} }}]\ngroups = [\"trio\"]\n{relies}\n"
        )
    };
    let (one, two, three) = (member("one", 1, "relies_on = [\"db\"]"), member("two", 2, ""), member("three", 3, ""));
    let db = "[service.db]\nlike = \"x\"\nsteady = \"0s\"\nladder = [{ rung = \"port\", port = 5 }]\n";
    format!("[group.trio]\n{group}\n{one}{two}{three}{db}")
}

/// A member counts from its stop until it is back, also while what it relies on comes back first: no other goes down meanwhile.
#[test]
fn of_a_rolling_group_no_more_are_away_than_may_be() {
    let more = three("keep_up = 1\nat_once = 1");
    let mut rolling = Played::of(began_so("zz", &more, "", &Request::new(Wish::Restart, addresses("one two three db"))), "");
    assert_eq!(rolling.under_way(), ["stop h/one"]);
    rolling.does(StepKind::Stop, "one");
    assert_eq!(rolling.under_way(), ["stop h/db"], "one is away, and neither of the others goes");
    rolling.does(StepKind::Stop, "db");
    rolling.does(StepKind::Start, "db");
    assert_eq!(rolling.under_way(), ["start h/one"]);
    rolling.does(StepKind::Start, "one");
    assert_eq!(rolling.under_way().len(), 1, "now the next: {:?}", rolling.under_way());
    let next = if rolling.under_way()[0].contains("two") { "two" } else { "three" };
    rolling.does(StepKind::Stop, next);
    assert_eq!(rolling.under_way(), [format!("start h/{next}")]);
}

#[test]
fn as_many_of_a_rolling_group_go_together_as_may_be_away() {
    let more = three("keep_up = 1\nat_once = 2");
    let rolling = Played::of(began_so("zz", &more, "", &Request::new(Wish::Restart, addresses("one two three"))), "");
    assert_eq!(rolling.under_way().len(), 2, "{:?}", rolling.under_way());
}

/// What has no limit of how many may be away has only the one that enough stay up.
#[test]
fn a_group_without_a_limit_goes_as_far_as_enough_stay_up() {
    let more = three("keep_up = 1");
    let mut rolling = Played::of(began_so("zz", &more, "", &Request::new(Wish::Restart, addresses("one two three"))), "");
    assert_eq!(rolling.under_way().len(), 3);
    assert!(!acts(&rolling.looks(StepKind::Stop, "one")), "the other two are looked at to be stopped, and may both be");
    assert!(acts(&rolling.looks(StepKind::Stop, "two")), "one waits, and stays");
    assert!(acts(&rolling.looks(StepKind::Stop, "three")));
    rolling.run.waits(250);
    rolling.given(Input::Tick);
    assert!(!acts(&rolling.looks(StepKind::Stop, "one")), "both are away");
}

fn acts(taken: &Taken) -> bool {
    taken.orders.iter().any(|o| matches!(o, Order::Act { .. }))
}

/// What a line leaves down is not on its way back: the others need not wait for it, whatever a later line brings up.
#[test]
fn what_a_line_leaves_down_is_not_waited_for() {
    let lines = ["stop = [\"three\"]", "restart = [\"two\"]", "start = [\"three\"]"];
    let mut rolling = Played::of(night("zz", &three("keep_up = 1\nat_once = 1"), &lines, ""), "");
    rolling.does(StepKind::Stop, "three");
    assert_eq!(rolling.under_way(), ["stop h/two"]);
    rolling.does(StepKind::Stop, "two");
    rolling.does(StepKind::Start, "two");
    assert_eq!(rolling.under_way(), ["start h/three"]);
}

// ---- what the look before a stop makes of a group ----

/// A stop goes ahead where as many others of the group are proven as it keeps up; what is no more proven itself takes nothing away.
#[rstest]
#[case::all_are_proven("", None)]
#[case::one_other_is_proven("three=down", Some("group trio keeps 2 up, and only 1 besides h/one are proven"))]
#[case::others_are_not_well("two=ailing three=rising", Some("group trio keeps 2 up, and only 0 besides h/one are proven"))]
#[case::it_is_not_well_itself("one=ailing three=down", None)]
#[case::another_group_is_no_concern("away=down far=down", None)]
fn a_stop_leaves_enough_of_its_group(#[case] but: &str, #[case] fails: Option<&str>) {
    let other = |name: &str, port: u32| {
        format!("[service.{name}]\nlike = \"x\"\ngroups = [\"others\"]\nladder = [{{ rung = \"port\", port = {port} }}]\n")
    };
    let more = format!("{}[group.others]\nkeep_up = 1\n{}{}", three("keep_up = 2"), other("away", 8), other("far", 9));
    let mut rolling = Played::of(began_so("zz", &more, "", &Request::new(Wish::Restart, addresses("one"))), "");
    rolling.stands.extend(seen(but));
    let taken = rolling.looks(StepKind::Stop, "one");
    assert_eq!(acts(&taken), fails.is_none());
    let why = taken.events.iter().find_map(|e| if let Event::StepFailed { reason, .. } = e { Some(reason.as_str()) } else { None });
    assert_eq!(why, fails);
}

/// Whoever named a group that falls below what it keeps up has said so of that group, and of no other.
#[rstest]
#[case::it_was_named("trio", true)]
#[case::another_was_named("others", false)]
fn what_was_named_may_fall_below_what_it_keeps_up(#[case] named: &str, #[case] goes: bool) {
    let more = three("keep_up = 2") + "[group.others]\nkeep_up = 1\n";
    let line = format!("stop = [\"one\"], below_keep_up = [\"{named}\"]");
    let mut rolling = Played::of(night("zz", &more, &[&line], ""), "");
    rolling.stands.extend(seen("three=down"));
    assert_eq!(acts(&rolling.looks(StepKind::Stop, "one")), goes);
}

// ---- relations that some of several meet ----

const COPIES: &str = "[service.gate]\nlike = \"x\"\nladder = [{ rung = \"port\", port = \"{port}\" }]\nvalues = { port = 1 }\n\
    copies = { a = { values = { port = 1 } }, b = { values = { port = 2 } }, c = { values = { port = 3 } } }\n\
    [service.hall]\nlike = \"x\"\nrelies_on = [{ service = \"gate\", copies = 2 }]\nladder = [{ rung = \"port\", port = 9 }]\n";

/// A dependent loses what it relies on where it had enough before and has not after; what could not be looked at is not enough.
#[rstest]
#[case::enough_stay("", true)]
#[case::one_too_few_stays("gate.b=down", false)]
#[case::one_too_few_is_well("gate.b=ailing", false)]
#[case::it_had_too_few_before("gate.b=down gate.c=down", true)]
#[case::what_stops_is_not_well("gate.a=ailing gate.b=down", true)]
#[case::what_stops_is_not_well_and_enough_stay("gate.a=ailing", true)]
#[case::it_is_down_itself("gate.b=down hall=down", true)]
#[case::it_is_not_well_itself("gate.b=down hall=ailing", false)]
fn a_stop_takes_from_nobody_what_they_have(#[case] but: &str, #[case] goes: bool) {
    let mut rolling = Played::of(began_as_planned("zz", COPIES, "", &Request::new(Wish::Restart, addresses("gate.a"))), "");
    rolling.stands.extend(seen("gate.b=proven gate.c=proven hall=proven"));
    rolling.stands.extend(seen(but));
    assert_eq!(acts(&rolling.looks(StepKind::Stop, "gate.a")), goes);
}

/// What could not be looked at stands for nobody, though it was proven when it was last seen.
#[test]
fn what_could_not_be_looked_at_is_not_what_stays() {
    let mut rolling = Played::of(began_as_planned("zz", COPIES, "", &Request::new(Wish::Restart, addresses("gate.a"))), "");
    rolling.stands.extend(seen("gate.b=unknown gate.c=proven hall=proven"));
    assert!(!acts(&rolling.looks(StepKind::Stop, "gate.a")));
}

/// A start needs as many as it relies on, and no more.
#[rstest]
#[case::all("gate.a=proven gate.b=proven gate.c=proven", true)]
#[case::enough("gate.a=proven gate.b=proven gate.c=down", true)]
#[case::too_few("gate.a=proven gate.b=down gate.c=down", false)]
#[case::too_few_are_well("gate.a=proven gate.b=ailing gate.c=down", false)]
fn a_start_needs_as_many_as_it_relies_on(#[case] stands: &str, #[case] goes: bool) {
    let request = Request::new(Wish::Start, addresses("hall"));
    let mut rolling = Played::of(began_as_planned("zz", COPIES, "hall=down", &request), "hall=down");
    rolling.stands.extend(seen(stands));
    rolling.stands.extend(seen("hall=down"));
    assert_eq!(acts(&rolling.looks(StepKind::Start, "hall")), goes);
}

/// A stop that is tried again and finds its service down has done it, and not found it so.
#[rstest]
#[case::its_first_look(false, StepEnd::Unneeded)]
#[case::tried_again(true, StepEnd::Done)]
fn a_stop_that_finds_it_down(#[case] tried: bool, #[case] end: StepEnd) {
    let more =
        "[service.db]\nlike = \"x\"\nladder = [{ rung = \"port\", port = 5 }]\nstop = { attempts = 2, gap = \"1s\", patience = \"30s\" }\n";
    let mut rolling = Played::of(began_so("zz", more, "", &Request::new(Wish::Stop, addresses("db"))), "");
    let step = rolling.step(StepKind::Stop, "db");
    if tried {
        rolling.looks(StepKind::Stop, "db");
        rolling.given(Input::ActBegun { step, act: ActId(1), begun: begun_now() });
        rolling.given(Input::ActEnded { step, act: ActId(1), end: ActEnd::TimedOut { output: String::new() } });
        rolling.run.waits(1_000);
        rolling.given(Input::Tick);
    }
    rolling.stands.extend(seen("db=down"));
    rolling.looks(StepKind::Stop, "db");
    assert_eq!(rolling.run.run.step_now(step).state, StepState::Ended(end));
}

/// Whoever set aside what a group keeps up need not wait until each is back.
#[test]
fn what_was_set_aside_is_not_rolled() {
    let more = three("keep_up = 1\nat_once = 1");
    let below_keep_up = ["trio".parse().unwrap()].into();
    let request = Request { below_keep_up, ..Request::new(Wish::Restart, addresses("one two three db")) };
    let mut rolling = Played::of(began_so("zz", &more, "", &request), "");
    rolling.does(StepKind::Stop, "one");
    assert!(rolling.under_way().iter().any(|s| s == "stop h/two"), "{:?}", rolling.under_way());
}

/// Nothing is stopped under what stands on it, unless that was named, or vouched for.
#[rstest]
#[case::named(true, false, true)]
#[case::vouched_for(false, true, true)]
#[case::neither(false, false, false)]
fn what_was_named_may_be_left_standing(#[case] named: bool, #[case] vouched: bool, #[case] goes: bool) {
    let left_standing = if named { addresses("app") } else { Default::default() };
    let chosen = if named { "db" } else { "app db" };
    let request = Request { alone: named, left_standing, ..Request::new(Wish::Stop, addresses(chosen)) };
    let mut played = Played::of(began_so("app -> db", "", "", &request), "");
    if !named {
        let app = played.step(StepKind::Stop, "app");
        if vouched {
            played.given(Input::FreshLooked { step: app, seen: seen("app=out db=proven") });
            let hold = played.run.run.hold_no();
            played.given(Input::Decide(crate::by_hand::decision(yantro_core::run::DecisionKind::Vouch { step: app }, hold)));
        } else {
            played.does(StepKind::Stop, "app");
        }
        played.stands.extend(seen("app=proven"));
    }
    assert_eq!(acts(&played.looks(StepKind::Stop, "db")), goes);
}
