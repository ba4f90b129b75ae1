//! Hosts that stop and start, played in a made-up world: what must always hold of them, whatever goes wrong.

use std::{
    collections::{BTreeMap, BTreeSet},
    fmt::Write as _,
};

use proptest::prelude::*;
use rstest::rstest;
use yantro_core::{
    graph::EstateGraph,
    model::Estate,
    plan::Request,
    proof::{Facts, SeenState},
    run::{ActKind, Run, RunState, StepEnd, StepState},
    selection::resolve,
    text::vet,
    words::{kinds::Wish, name::Address},
};

use crate::world::{Fault, Operator, World, told};

/// A generated coast: hosts that rely on earlier ones, services spread over them, what is wrong and what is done.
#[derive(Debug, Clone)]
struct Coast {
    /// Of each host: who gives it power, and which hosts it relies on.
    hosts: Vec<(u8, Vec<usize>)>,
    /// Of each service: its host, and which services it relies on.
    services: Vec<(usize, Vec<usize>)>,
    /// Which of them are down at first.
    down: BTreeSet<usize>,
    /// What is wrong with a host (below 100) or a service.
    faults: Vec<(usize, u8)>,
    chosen: BTreeSet<usize>,
    wish: u8,
    operator: u8,
    kills: BTreeSet<usize>,
}

fn coasts() -> impl Strategy<Value = Coast> {
    (2usize..5, 1usize..7).prop_flat_map(|(hosts, services)| {
        let earlier = |i: usize| {
            prop::collection::btree_set(0..i.max(1), 0..=i.min(2)).prop_map(move |s| s.into_iter().filter(|j| *j < i).collect::<Vec<_>>())
        };
        let of_hosts: Vec<_> = (0..hosts).map(|i| (0u8..3, earlier(i))).collect();
        let of_services: Vec<_> = (0..services).map(|i| (0..hosts, earlier(i))).collect();
        (
            of_hosts,
            of_services,
            prop::collection::btree_set(0..services, 0..2),
            prop::collection::vec((0..(hosts + services), 0u8..4), 0..3),
            prop::collection::btree_set(0..hosts, 1..=hosts.min(2)),
            0u8..4,
            0u8..4,
            prop::collection::btree_set(1usize..80, 0..3),
        )
            .prop_map(|(hosts, services, down, faults, chosen, wish, operator, kills)| Coast {
                hosts,
                services,
                down,
                faults,
                chosen,
                wish,
                operator,
                kills,
            })
    })
}

fn host(i: usize) -> Address {
    format!("quay{i}/host").parse().unwrap()
}

fn service(coast: &Coast, i: usize) -> Address {
    format!("quay{}/s{i}", coast.services[i].0).parse().unwrap()
}

fn estate_of(coast: &Coast) -> Estate {
    let mut text =
        "[estate]\nname = \"Coast\"\nstands_for = \"test\"\n[like.unit]\nrun_by = \"systemd\"\nstop = { patience = \"9s\" }\n".to_owned();
    for (i, (power, relies)) in coast.hosts.iter().enumerate() {
        let power = match power {
            0 => format!("by = \"redfish\", controller = \"https://10.0.9.1\", system = \"/redfish/v1/Systems/{i}\""),
            1 => format!("by = \"wake\", mac = \"02:00:5e:10:00:0{i}\", broadcast = \"10.0.0.255\""),
            _ => "by = \"commands\", on = [\"/opt/on\"], off = [\"/opt/off\"], state = [\"/opt/state\"]".to_owned(),
        };
        let relies: Vec<String> = relies.iter().map(|j| format!("\"quay{j}\"")).collect();
        let _ = writeln!(
            text,
            "[host.quay{i}]\nreach = \"ssh\"\naddress = \"10.0.0.{}\"\npower = {{ {power} }}\nrelies_on = [{}]",
            i + 1,
            relies.join(", ")
        );
    }
    for (i, (on, relies)) in coast.services.iter().enumerate() {
        let relies: Vec<String> = relies.iter().map(|j| format!("\"s{j}\"")).collect();
        let _ = writeln!(
            text,
            "[service.s{i}]\nlike = \"unit\"\nhost = \"quay{on}\"\nladder = [{{ rung = \"port\", port = {} }}]\nrelies_on = [{}]",
            100 + i,
            relies.join(", ")
        );
    }
    let vetted = vet(&text, "/e");
    vetted.estate.unwrap_or_else(|| panic!("{:#?}\n{text}", vetted.faults))
}

/// All that is wished for, in a world where it may go wrong.
fn built(coast: &Coast) -> (World, Request, Operator) {
    let estate = estate_of(coast);
    let graph = EstateGraph::new(&estate);
    let words: Vec<String> = coast.chosen.iter().map(|h| format!("power:quay{h}")).collect();
    let chosen = resolve(&estate, &graph, &words, &[]).unwrap();
    let mut facts: Facts = estate.services.keys().map(|a| (a.clone(), SeenState::Proven)).collect();
    // What relies on what is down is down as well.
    let mut down: BTreeSet<usize> = coast.down.clone();
    for i in 0..coast.services.len() {
        if coast.services[i].1.iter().any(|j| down.contains(j)) {
            down.insert(i);
        }
    }
    for i in &down {
        facts.0.insert(service(coast, *i), SeenState::Down);
    }
    let fault = |kind: u8| match kind {
        0 => Fault::StartEnds(1),
        1 => Fault::NeverReady(1),
        2 => Fault::IgnoresStop,
        _ => Fault::None,
    };
    let faults: BTreeMap<Address, Fault> = coast
        .faults
        .iter()
        .map(|(of, kind)| (if *of < coast.hosts.len() { host(*of) } else { service(coast, of - coast.hosts.len()) }, fault(*kind)))
        .collect();
    let mut world = World::new(estate, &facts, faults);
    world.kill_at.clone_from(&coast.kills);
    let wish = [Wish::Stop, Wish::Restart, Wish::PowerCycle, Wish::Start][coast.wish as usize];
    let operator = [Operator::TriesAgain, Operator::PassesOver, Operator::PutsBack, Operator::GivesUp][coast.operator as usize];
    (world, Request::new(wish, chosen), operator)
}

/// The hosts that a run has off at each moment, from its acts in order.
fn on_at_each_act(world: &World) -> Vec<(ActKind, Address, BTreeSet<Address>)> {
    let mut off = BTreeSet::new();
    let mut all = Vec::new();
    for (kind, address) in &world.acts {
        all.push((*kind, address.clone(), off.clone()));
        match kind {
            ActKind::Stop | ActKind::Force if address.is_host() && world.state(address) != SeenState::Proven => {
                off.insert(address.clone());
            }
            ActKind::Start if address.is_host() => {
                off.remove(address);
            }
            _ => {}
        }
    }
    all
}

fn without_faults(coast: &Coast) -> bool {
    coast.faults.iter().all(|(_, kind)| *kind == 3)
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 400, ..ProptestConfig::default() })]

    /// Design §4, checked inside the world at every act, with hosts among what stops and starts, and the server killed
    /// at any turn: no host goes down under what runs on it or relies on it, nothing starts on one that is not proven.
    #[test]
    fn hosts_go_down_and_come_up_by_the_same_rules(coast in coasts()) {
        let (mut first, request, operator) = built(&coast);
        let Some(run) = first.play(&request, operator) else { return Ok(()) };
        let (mut second, ..) = built(&coast);
        let again = second.play(&request, operator).unwrap();
        prop_assert_eq!(&first.acts, &second.acts);
        prop_assert_eq!(told(&run), told(&again));
        let replayed = Run::replay(run.id, first.events.clone()).unwrap();
        prop_assert_eq!(told(&replayed), told(&run));
        for (kind, address, off) in on_at_each_act(&first) {
            let on = Address::of_host(&address.host);
            prop_assert!(address.is_power() || !off.contains(&on), "{:?} {} while its host is off", kind, address);
        }
    }

    /// Where nothing goes wrong: a shutdown leaves all down that was to go down, and a reboot or a power cycle brings
    /// back what was up, and nothing else.
    #[test]
    fn what_went_down_with_its_host_comes_back_with_it(coast in coasts().prop_filter("nothing wrong", without_faults)) {
        let (mut world, request, operator) = built(&coast);
        let before: BTreeMap<Address, SeenState> = world.estate.services.keys().map(|a| (a.clone(), world.state(a))).collect();
        let Some(run) = world.play(&request, operator) else { return Ok(()) };
        prop_assert_eq!(run.state(), RunState::Finished);
        match request.wish {
            Wish::Stop => {
                for address in &request.chosen {
                    prop_assert_eq!(world.state(address), SeenState::Down, "{}", address);
                    for (other, state) in &before {
                        prop_assert!(other.host != address.host || *state == SeenState::Down || world.state(other) == SeenState::Down);
                    }
                }
            }
            Wish::Restart | Wish::PowerCycle => {
                for (address, state) in &before {
                    prop_assert_eq!(world.state(address), *state, "{}", address);
                }
                // Each host's boot was ended once, and by nobody but itself.
                for address in &request.chosen {
                    let stops = world.acts.iter().filter(|a| **a == (ActKind::Stop, address.clone())).count();
                    let forced = world.acts.iter().filter(|(k, a)| *k == ActKind::Force && a == address).count();
                    prop_assert_eq!((stops, forced), (1, 0), "{}", address);
                }
            }
            _ => prop_assert!(world.acts.iter().all(|(kind, _)| *kind == ActKind::Start)),
        }
    }
}

fn two_quays() -> Coast {
    Coast {
        hosts: vec![(0, vec![]), (0, vec![])],
        services: vec![(0, vec![]), (1, vec![0])],
        down: BTreeSet::new(),
        faults: Vec::new(),
        chosen: BTreeSet::from([0]),
        wish: 0,
        operator: 3,
        kills: BTreeSet::new(),
    }
}

fn acts(world: &World) -> Vec<String> {
    world.acts.iter().map(|(kind, address)| format!("{} {address}", kind.word())).collect()
}

#[rstest]
#[case::shut_down(0, &["stop quay1/s1", "stop quay0/s0", "stop quay0/host"])]
#[case::reboot(1, &["stop quay1/s1", "stop quay0/s0", "stop quay0/host", "start quay0/s0", "start quay1/s1"])]
#[case::power_cycle(2, &["stop quay1/s1", "stop quay0/s0", "stop quay0/host", "start quay0/host", "start quay0/s0", "start quay1/s1"])]
fn what_each_wish_of_a_host_comes_to(#[case] wish: u8, #[case] wanted: &[&str]) {
    let (mut world, request, operator) = built(&Coast { wish, ..two_quays() });
    let run = world.play(&request, operator).unwrap();
    assert_eq!((run.state(), acts(&world)), (RunState::Finished, wanted.iter().map(|w| (*w).to_owned()).collect()));
}

#[test]
fn a_host_that_will_not_go_down_holds_the_run_and_keeps_its_power() {
    let (mut world, request, operator) = built(&Coast { faults: vec![(0, 2)], wish: 2, ..two_quays() });
    let run = world.play(&request, operator).unwrap();
    assert_eq!(run.state(), RunState::GivenUp);
    assert!(!world.acts.iter().any(|(kind, _)| *kind == ActKind::Force), "force is asked for: {:?}", acts(&world));
    assert!(run.steps().any(|(s, n)| s.is_on(&host(0)) && matches!(n.state, StepState::Ended(StepEnd::PassedOver { .. }))));
}

#[test]
fn a_host_that_does_not_come_up_keeps_what_needs_it_down() {
    let (mut world, request, operator) = built(&Coast { faults: vec![(0, 0)], wish: 2, ..two_quays() });
    let run = world.play(&request, operator).unwrap();
    assert_eq!(run.state(), RunState::GivenUp);
    assert!(!acts(&world).iter().any(|a| a.starts_with("start quay0/s0") || a.starts_with("start quay1")), "{:?}", acts(&world));
    let (_, _, differences) = run.end().unwrap();
    assert_eq!(differences.len(), 3, "the host and both services are not as found: {differences:?}");
}

#[test]
fn put_back_raises_a_host_that_was_shut_down_for_nothing() {
    // The second host will not go down: what was done to the first is put back.
    let coast = Coast { chosen: BTreeSet::from([0, 1]), faults: vec![(0, 2)], operator: 2, ..two_quays() };
    let (mut world, request, operator) = built(&coast);
    let run = world.play(&request, operator).unwrap();
    assert!(matches!(run.state(), RunState::PutBack | RunState::PutBackInPart), "{:?}", run.state());
    for address in [host(0), host(1), service(&coast, 0), service(&coast, 1)] {
        assert_eq!(world.state(&address), SeenState::Proven, "{address}");
    }
}
