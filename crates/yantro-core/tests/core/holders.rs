//! Who may act where, over all runs.

use std::collections::BTreeSet;

use proptest::prelude::*;
use rstest::rstest;
use yantro_core::{
    holders::{Locks, Wants},
    plan::{Request, StepId},
    run::{DecisionKind, Input, RunId},
    words::{kinds::Wish, name::Address},
};

use crate::{
    by_hand::{began_as_planned, decision},
    estates::addresses,
};

fn at(names: &str) -> BTreeSet<Address> {
    names.split_whitespace().map(|n| format!("h/{n}").parse().unwrap()).collect()
}

fn wants(acting: &str, leaning: &str) -> Wants {
    Wants::new(at(acting), at(leaning))
}

/// Served in this order: who has what they want after each.
fn served(locks: &mut Locks, all: &[(u64, Wants)]) -> Vec<(u64, bool)> {
    let of = |run: RunId| all.iter().find(|(id, _)| *id == run.0).map(|(_, w)| w.clone());
    locks.serve(of).into_iter().map(|(run, outcome)| (run.0, outcome.is_ok())).collect()
}

#[rstest]
#[case::who_acts_excludes_who_acts(("db", ""), ("db", ""), true)]
#[case::who_acts_excludes_who_leans(("db", ""), ("app", "db"), true)]
#[case::who_leans_excludes_who_acts(("app", "db"), ("db", ""), true)]
#[case::who_leans_shares(("app", "db"), ("desk", "db"), false)]
#[case::others_are_no_matter(("db", ""), ("queue", "disk"), false)]
fn what_two_want(#[case] one: (&str, &str), #[case] other: (&str, &str), #[case] excluded: bool) {
    let (one, other) = (wants(one.0, one.1), wants(other.0, other.1));
    assert_eq!(one.excludes(&other), excluded);
    let mut locks = Locks::default();
    locks.take(RunId(1), &one).unwrap();
    assert_eq!(locks.take(RunId(2), &other), if excluded { Err([RunId(1)].into()) } else { Ok(()) });
    // What was refused took nothing: gone, the first leaves no trace.
    locks.release(RunId(1));
    locks.take(RunId(2), &other).unwrap();
}

#[test]
fn nobody_overtakes_those_he_would_block_and_who_only_leans_is_not_held_up_by_who_leans() {
    let all = [(1, wants("db", "")), (2, wants("app", "db")), (3, wants("app", "")), (4, wants("desk", "db")), (5, wants("queue", ""))];
    let mut locks = Locks::default();
    locks.take(RunId(1), &all[0].1).unwrap();
    for run in 2..=5 {
        locks.wait(RunId(run));
        locks.wait(RunId(run));
    }
    // 2 and 4 wait for the database; 3 would block 2, and waits though nobody has what it wants; 5 has nothing to do with any.
    assert_eq!(served(&mut locks, &all), [(2, false), (3, false), (4, false), (5, true)]);
    locks.release(RunId(1));
    assert_eq!(served(&mut locks, &all), [(2, true), (3, false), (4, true)], "both lean on the database, at once");
    locks.release(RunId(2));
    assert_eq!(served(&mut locks, &all), [(3, true)]);
    assert_eq!(served(&mut locks, &all), []);
}

#[test]
fn who_is_gone_waits_no_more_and_one_service_can_be_given_back() {
    let all = [(1, wants("db app", "")), (2, wants("app", "")), (3, wants("db", ""))];
    let mut locks = Locks::default();
    locks.take(RunId(1), &all[0].1).unwrap();
    locks.wait(RunId(2));
    locks.wait(RunId(3));
    locks.wait(RunId(9));
    assert_eq!(served(&mut locks, &all), [(2, false), (3, false)]);
    locks.release(RunId(2));
    locks.release_one(RunId(1), &"h/db".parse().unwrap());
    assert_eq!(served(&mut locks, &all), [(3, true)]);
    locks.release_one(RunId(1), &"h/app".parse().unwrap());
    locks.take(RunId(4), &wants("app", "")).unwrap();
}

/// What was taken for steps that were never stored gives way, and what all had without it they have as before.
#[test]
fn locks_are_given_anew_by_what_runs_want() {
    let mut locks = Locks::default();
    locks.take(RunId(1), &wants("db queue", "disk")).unwrap();
    locks.take(RunId(2), &wants("app", "disk")).unwrap();
    assert_eq!(locks.give_anew(vec![(RunId(1), wants("db", "disk")), (RunId(2), wants("app", "disk"))]), []);
    assert_eq!(locks.take(RunId(3), &wants("db", "")), Err([RunId(1)].into()), "it has what it wants");
    assert_eq!(locks.take(RunId(3), &wants("disk", "")), Err([RunId(1), RunId(2)].into()));
    locks.take(RunId(3), &wants("queue", "")).unwrap();
    // One that others have meanwhile is not taken from them.
    let without = locks.give_anew(vec![(RunId(1), wants("db queue", "")), (RunId(2), wants("app", ""))]);
    assert_eq!(without, [(RunId(1), [RunId(3)].into())]);
    locks.take(RunId(3), &wants("db", "")).unwrap();
}

/// Before it has its locks it waits for them, and with its end it has given them back.
#[test]
fn a_run_has_locks_from_their_being_given_to_its_end() {
    let mut run = began_as_planned("app -> db", "", "", &Request::new(Wish::Stop, addresses("app")));
    assert!(!run.run.has_locks());
    run.first_looks(&[]);
    assert!(run.run.has_locks());
    run.given(Input::Decide(decision(DecisionKind::Hold, None)));
    assert!(run.run.has_locks(), "held it keeps them");
    run.given(Input::Decide(decision(DecisionKind::GiveUp, run.run.hold_no())));
    assert!(run.run.has_locks(), "it is not over before the last look");
    run.given(Input::FinalLooked { seen: run.found() });
    assert!(run.run.has_ended() && !run.run.has_locks());
}

#[test]
fn a_host_that_is_acted_on_takes_all_there_with_it() {
    let host: Address = "h/host".parse().unwrap();
    let all = Wants::new([host].into(), at("db app"));
    assert!(all.excludes(&wants("queue", "db")), "what is on it is acted on too");
    assert!(!wants("queue", "db").excludes(&wants("desk", "db")));
}

/// R5, R20: what must not run beside it, and the members that are counted on, are another's to act on only when it is done.
#[rstest]
#[case::never_with("never_with = [\"new\"]", "", Wish::Start, "old", "new")]
#[case::and_the_other_way_round("never_with = [\"new\"]", "", Wish::Start, "new", "old")]
#[case::members_counted_on("groups = [\"gates\"]", "[group.gates]\nkeep_up = 1\n", Wish::Restart, "old", "new")]
fn what_a_run_counts_on_is_not_acted_on_by_another(
    #[case] of_old: &str,
    #[case] more: &str,
    #[case] wish: Wish,
    #[case] one: &str,
    #[case] other: &str,
) {
    let port = |n: u32| format!("like = \"x\"\nladder = [{{ rung = \"port\", port = {n} }}]");
    let of_new = if of_old.starts_with("groups") { of_old } else { "" };
    let more = format!("[service.old]\n{}\n{of_old}\n[service.new]\n{}\n{of_new}\n{more}", port(8), port(9));
    let found = if wish == Wish::Start { "old=down new=down" } else { "" };
    let of = |name: &str| began_as_planned("zz", &more, found, &Request::new(wish, addresses(name))).run;
    let (one, other) = (of(one), of(other));
    assert!(one.begun.sequence.acted_on().len() == 1 && other.begun.sequence.acted_on().len() == 1);
    assert!(one.wants().excludes(&other.wants()) && other.wants().excludes(&one.wants()));
}

#[test]
fn who_only_starts_a_member_waits_for_nobody_who_starts_another() {
    let member = |name: &str, port: u32| {
        format!("[service.{name}]\nlike = \"x\"\nladder = [{{ rung = \"port\", port = {port} }}]\ngroups = [\"gates\"]\n")
    };
    let more = format!("{}{}[group.gates]\nkeep_up = 1\n", member("old", 8), member("new", 9));
    let of = |name: &str| began_as_planned("zz", &more, "old=down new=down", &Request::new(Wish::Start, addresses(name))).run;
    assert!(!of("old").wants().excludes(&of("new").wants()));
}

/// Its own way back may start what must never run beside another (R6): the other is nobody else's to act on meanwhile.
#[test]
fn who_stops_a_service_keeps_what_must_never_run_beside_it_from_others() {
    let more = format!(
        "[service.old]\n{}\nnever_with = [\"new\"]\n[service.new]\n{}\n",
        "like = \"x\"\nladder = [{ rung = \"port\", port = 8 }]", "like = \"x\"\nladder = [{ rung = \"port\", port = 9 }]"
    );
    let stop = |name: &str| began_as_planned("zz", &more, "", &Request::new(Wish::Stop, addresses(name))).run;
    assert!(stop("old").wants().excludes(&stop("new").wants()), "both may be started by their ways back");
}

/// What it let go of is others' by then.
#[test]
fn what_was_released_is_not_locked_again_after_a_restart() {
    let mut run = began_as_planned("app -> db", "", "", &Request::new(Wish::Restart, addresses("app")));
    run.first_looks(&[]);
    run.given(Input::Decide(decision(DecisionKind::Hold, None)));
    let hold = run.run.hold_no();
    let app: Address = "h/app".parse().unwrap();
    run.given(Input::FreshLooked { step: StepId(1), seen: run.found() });
    let other = began_as_planned("app -> db", "", "", &Request::new(Wish::Restart, addresses("app"))).run;
    assert!(run.run.wants().excludes(&other.wants()));
    run.given(Input::Decide(decision(DecisionKind::Release { address: app }, hold)));
    run.is_read_back();
    assert!(!run.run.wants().excludes(&other.wants()), "it would take back what another has");
}

proptest! {
    /// Whatever comes and goes: no two that exclude each other have their locks at once, and who waits alone gets them.
    #[test]
    fn no_two_that_exclude_each_other_have_their_locks_at_once(
        turns in proptest::collection::vec((0u64..6, any::<bool>()), 1..40),
        sets in proptest::collection::vec((proptest::collection::btree_set(0u8..5, 1..3), proptest::collection::btree_set(0u8..5, 0..3)), 6),
    ) {
        let names = |set: &BTreeSet<u8>| set.iter().map(|n| format!("s{n}")).collect::<Vec<_>>().join(" ");
        let all: Vec<(u64, Wants)> = sets.iter().enumerate().map(|(i, (a, l))| (i as u64, wants(&names(a), &names(l)))).collect();
        let mut locks = Locks::default();
        let mut have: BTreeSet<u64> = BTreeSet::new();
        for (run, comes) in turns {
            if comes && !have.contains(&run) {
                locks.wait(RunId(run));
            } else if !comes && have.remove(&run) {
                locks.release(RunId(run));
            }
            have.extend(served(&mut locks, &all).into_iter().filter(|(_, got)| *got).map(|(r, _)| r));
            for one in &have {
                for other in have.iter().filter(|o| *o > one) {
                    prop_assert!(!all[*one as usize].1.excludes(&all[*other as usize].1), "{one} and {other}");
                }
            }
        }
        for run in have {
            locks.release(RunId(run));
        }
        let first = served(&mut locks, &all).first().copied();
        prop_assert!(first.is_none_or(|(_, got)| got), "with nobody before it, the first in the queue waits");
    }
}
