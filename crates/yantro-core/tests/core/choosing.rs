//! Choosing services, following relations, keeping to limits, and what one run puts over the estate.

use std::{collections::BTreeSet, sync::Arc, time::Duration};

use proptest::prelude::*;
use rstest::rstest;
use yantro_core::{
    graph::{EstateGraph, Toward, loop_of},
    holders::{Room, Rooms},
    model::{Service, ServiceRunner},
    overrides::{Override, applied},
    selection::resolve,
    text::vet_with,
    words::name::Address,
};

use crate::estates::{addresses, estate, toml};

/// Two hosts, a service with copies, groups.
const FERRIES: &str = "[host.pier]\nreach = \"here\"\naddress = \"127.0.0.2\"\n[group.gates]\n\
    [service.gate]\nlike = \"x\"\nhost = \"pier\"\ncopies = { left = {}, right = {} }\ngroups = [\"gates\"]\nrelies_on = [\"booking\"]\n\
    ladder = [{ rung = \"process\" }]\n\
    [service.kiosk]\nlike = \"x\"\nhost = \"pier\"\nladder = [{ rung = \"process\" }]\nrelies_on = [\"fares\"]\n";

fn ferries() -> (yantro_core::model::Estate, EstateGraph) {
    estate("booking -> fares, fares -> db, sailings -> db", FERRIES)
}

#[rstest]
#[case::an_address(&["h/db"], &[], "h/db")]
#[case::a_bare_name(&["db"], &[], "h/db")]
#[case::whatever_its_case(&["H/DB"], &[], "h/db")]
#[case::a_copy(&["pier/gate.left"], &[], "pier/gate.left")]
#[case::a_glob_of_names(&["gate*"], &[], "pier/gate.left pier/gate.right")]
#[case::a_glob_of_addresses(&["pier/*"], &[], "pier/gate.left pier/gate.right pier/kiosk")]
#[case::everything(&["*"], &["pier/*", "sailings"], "h/booking h/db h/fares")]
#[case::a_group(&["group:gates"], &[], "pier/gate.left pier/gate.right")]
#[case::a_host(&["host:pier"], &["kiosk"], "pier/gate.left pier/gate.right")]
#[case::what_relies_on_it(&["reliant-on:fares"], &[], "h/booking pier/gate.left pier/gate.right pier/kiosk")]
#[case::what_it_needs(&["needed-by:booking"], &[], "h/db h/fares")]
#[case::several_at_once(&["db", "kiosk", "db"], &[], "h/db pier/kiosk")]
#[case::but_for_those(&["group:gates"], &["pier/gate.left"], "pier/gate.right")]
fn what_is_typed_becomes_addresses(#[case] words: &[&str], #[case] except: &[&str], #[case] chosen: &str) {
    let (estate, graph) = ferries();
    let own = |list: &[&str]| list.iter().map(|w| (*w).to_owned()).collect::<Vec<_>>();
    let found = resolve(&estate, &graph, &own(words), &own(except)).unwrap();
    let found: Vec<String> = found.iter().map(ToString::to_string).collect();
    assert_eq!(found.join(" "), chosen);
}

#[rstest]
#[case::nothing(&[], "nothing is chosen", "name services")]
#[case::a_name_of_several(&["gate"], "has several copies: pier/gate.left, pier/gate.right", "gate*")]
#[case::a_slip(&["fare"], "nothing is called \"fare\"", "fares")]
#[case::no_such_group(&["group:gate"], "nothing is called", "gates")]
#[case::no_such_host(&["host:peer"], "nothing is called", "pier")]
#[case::a_glob_of_nothing(&["boat*"], "matches nothing", "*")]
fn what_cannot_be_meant_is_told_with_what_could(#[case] words: &[&str], #[case] says: &str, #[case] hint: &str) {
    let (estate, graph) = ferries();
    let words: Vec<String> = words.iter().map(|w| (*w).to_owned()).collect();
    let error = resolve(&estate, &graph, &words, &[]).unwrap_err();
    assert!(error.to_string().contains(says), "{error}");
    assert!(error.hint().contains(hint), "{}", error.hint());
}

#[test]
fn relations_are_followed_both_ways_near_and_far() {
    let (_, graph) = ferries();
    let of = |name: &str, toward: Toward, far: bool| -> String {
        let address: Address = name.parse().unwrap();
        let found = if far { graph.all(&address, toward) } else { graph.beside(&address, toward) };
        found.iter().map(ToString::to_string).collect::<Vec<_>>().join(" ")
    };
    assert_eq!(of("h/booking", Toward::Needed, false), "h/fares");
    assert_eq!(of("h/booking", Toward::Needed, true), "h/db h/fares");
    assert_eq!(of("h/db", Toward::Reliant, false), "h/fares h/sailings");
    assert_eq!(of("h/db", Toward::Reliant, true), "h/booking h/fares h/sailings pier/gate.left pier/gate.right pier/kiosk");
    assert_eq!(of("h/nothing", Toward::Reliant, true), "", "who is not there has nobody");
    assert_eq!(loop_of(&[]), "");
}

proptest! {
    /// Whatever relies on it, directly or not, is exactly what needs it, seen from the other side.
    #[test]
    fn both_ways_tell_the_same(relations in prop::collection::vec((1usize..9, 0usize..8), 0..16)) {
        let text: Vec<String> = relations.iter().filter(|(a, b)| b < a).map(|(a, b)| format!("s{a} -> s{b}")).collect();
        let (estate, graph) = estate(&format!("s0, {}", text.join(", ")), "");
        for a in estate.services.keys() {
            for b in graph.all(a, Toward::Needed) {
                prop_assert!(graph.all(&b, Toward::Reliant).contains(a));
            }
            prop_assert!(!graph.all(a, Toward::Needed).contains(a), "nobody needs himself");
        }
        prop_assert!(graph.cycles().is_empty());
    }
}

fn limited(limits: &str) -> (yantro_core::model::Estate, Rooms) {
    let groups = "[group.pair]\nat_once = 1\n[service.left]\nlike = \"x\"\nladder = [{ rung = \"process\" }]\ngroups = [\"pair\"]\n\
                  [service.right]\nlike = \"x\"\nladder = [{ rung = \"process\" }]\ngroups = [\"pair\"]\n";
    let (estate, _) = estate("a, b, c", &format!("{limits}{groups}"));
    let rooms = Rooms::new(&estate);
    (estate, rooms)
}

#[rstest]
#[case::overall("[limits]\nat_once = 2\n", 2)]
#[case::per_host("[limits]\nper_host = 1\n", 1)]
#[case::none("", 3)]
fn limits_hold_over_all_runs(#[case] limits: &str, #[case] fit: usize) {
    let (_, mut rooms) = limited(limits);
    let mut taken = Vec::new();
    for room in addresses("a b c").into_iter().map(Room::Service) {
        if rooms.has_room(&room) {
            rooms.take(&room);
            taken.push(room);
        }
    }
    assert_eq!(taken.len(), fit);
    rooms.give_back(&taken[0]);
    assert!(rooms.has_room(&taken[0]), "what is given back is there for the next");
}

#[test]
fn a_group_has_a_limit_of_its_own() {
    let (_, mut rooms) = limited("");
    let [left, right, other] = ["h/left", "h/right", "h/a"].map(|a| Room::Service(a.parse().unwrap()));
    rooms.take(&left);
    assert!(!rooms.has_room(&right) && rooms.has_room(&other));
    rooms.give_back(&left);
    assert!(rooms.has_room(&right));
    assert!(Rooms::unlimited().has_room(&right));
}

fn plain() -> Arc<Service> {
    let (estate, _) = estate("db", "");
    estate.services.into_values().next().unwrap()
}

#[test]
fn what_one_run_puts_over_the_estate_leaves_the_rest_as_it_is() {
    let service = plain();
    let over = Override {
        env: [("LANE".to_owned(), "3".to_owned())].into(),
        args: Some(vec!["--slow".to_owned()]),
        start_patience: Some("90s".parse().unwrap()),
        stop_patience: None,
        written: None,
    };
    let seen = applied(&service, Some(&over));
    let ServiceRunner::Process(runner) = &seen.runner else { panic!("it is run as a process") };
    assert_eq!((runner.env["LANE"].as_str(), runner.args.as_slice()), ("3", ["--slow".to_owned()].as_slice()));
    assert_eq!(seen.start.patience.0, Duration::from_secs(90));
    assert_eq!(seen.stop, service.stop);
    assert_eq!((&seen.ladder, &seen.relies_on, &seen.address), (&service.ladder, &service.relies_on, &service.address));
    assert_eq!(applied(&service, None), service);
    assert_eq!(applied(&service, Some(&Override::default())), service, "nothing said changes nothing");
}

/// A later value wins over an earlier one, key by key.
#[test]
fn an_environment_is_put_over_key_by_key() {
    let over = |value: &str| Override { env: [("LANE".to_owned(), value.to_owned())].into(), ..Override::default() };
    let twice = applied(&applied(&plain(), Some(&over("1"))), Some(&over("2")));
    let ServiceRunner::Process(runner) = &twice.runner else { panic!("it is run as a process") };
    let keys: BTreeSet<&str> = runner.env.keys().map(String::as_str).collect();
    assert_eq!((runner.env["LANE"].as_str(), keys.contains("LANE")), ("2", true));
}

/// Any setting can be put over for one run, as the estate file writes it; only that service changes.
#[test]
fn what_is_written_for_one_run_is_vetted_into_the_estate() {
    let text = toml("app -> db", "");
    let over = |written: &str| Override { written: Some(written.to_owned()), ..Override::default() };
    let settings = over("steady = \"5s\"\nstart.must_see = [\"ready\"]\nladder = [{ rung = \"port\", port = 4999 }]\nlogs = [\"x.log\"]")
        .settings()
        .unwrap();
    let seen = vet_with(&text, "/e", &[("h/db".parse().unwrap(), settings)].into()).estate.unwrap();
    let (plain, _) = estate("app -> db", "");
    let db = &seen.services[&"h/db".parse::<Address>().unwrap()];
    assert_eq!((db.steady.0, db.start.patterns.must_see.as_slice()), (Duration::from_secs(5), ["ready".to_owned()].as_slice()));
    assert_eq!(db.ladder[1].kind.says(), "port 4999");
    let app = "h/app".parse::<Address>().unwrap();
    assert_eq!(seen.services[&app], plain.services[&app]);
}

#[rstest]
#[case::unknown_key("steadyy = \"5s\"", "\"steadyy\" is no key")]
#[case::wrong_type("steady = 5", "steady")]
#[case::which_service_it_is("host = \"quay\"", "\"host\" says which service this is")]
#[case::another_service("[service.other]\nsteady = \"1s\"", "the service \"other\"")]
#[case::the_whole_estate("[limits]\nat_once = 1", "\"limits\" is no setting of one service")]
#[case::no_toml("steady =", "this is not TOML")]
fn what_is_no_setting_of_one_service_is_refused(#[case] written: &str, #[case] says: &str) {
    let faults = Override { written: Some(written.to_owned()), ..Override::default() }.settings().unwrap_err();
    assert!(faults.iter().any(|f| f.message.contains(says)), "{faults:?}");
    assert!(faults.iter().all(|f| !f.mend.is_empty()));
}
