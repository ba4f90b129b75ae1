//! What relies on what, as a graph over dense numbers.
//!
//! An edge points from a service to what it relies on: "booking relies on fares-db". Cycles are
//! faults of the estate; everything else here may count on there being none. Numbers follow the
//! order of addresses, so that ties broken by number are ties broken by address.

use std::collections::{BTreeSet, VecDeque};

use petgraph::{algo::tarjan_scc, graph::DiGraph};

use crate::{model::Estate, words::name::Address};

/// Which way to follow relations.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Toward {
    /// To what a service relies on.
    Needed,
    /// To what relies on a service.
    Reliant,
}

/// A relation by numbers.
#[derive(Debug, Clone)]
pub(crate) struct Rel {
    pub any_of: Vec<u32>,
    pub at_least: u32,
}

/// The relations of an estate.
#[derive(Debug, Clone)]
pub struct EstateGraph {
    addresses: Vec<Address>,
    pub(crate) relies_on: Vec<Vec<Rel>>,
    /// Who relies on a service, each with the number of the relation among its own.
    pub(crate) reliant: Vec<Vec<(u32, u32)>>,
    pub(crate) yields_to: Vec<Vec<u32>>,
    pub(crate) never_with: Vec<Vec<u32>>,
}

impl EstateGraph {
    /// The graph of an estate.
    pub fn new(estate: &Estate) -> Self {
        let addresses: Vec<Address> = estate.services.keys().cloned().collect();
        let number = |a: &Address| addresses.binary_search(a).ok().map(|i| i as u32);
        let n = addresses.len();
        let (mut relies_on, mut reliant, mut yields_to) = (Vec::with_capacity(n), vec![Vec::new(); n], Vec::with_capacity(n));
        let never_with = estate.services.values().map(|s| s.never_with.iter().filter_map(number).collect()).collect();
        for (i, service) in estate.services.values().enumerate() {
            let rels: Vec<Rel> = service
                .relies_on
                .iter()
                .map(|r| Rel { any_of: r.any_of.iter().filter_map(number).collect(), at_least: r.at_least })
                .collect();
            for (k, rel) in rels.iter().enumerate() {
                for &j in &rel.any_of {
                    reliant[j as usize].push((i as u32, k as u32));
                }
            }
            relies_on.push(rels);
            yields_to.push(service.yields_to.iter().filter_map(number).collect());
        }
        Self { addresses, relies_on, reliant, yields_to, never_with }
    }

    /// How many services there are.
    pub fn len(&self) -> usize {
        self.addresses.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.addresses.is_empty()
    }

    /// The addresses, in the order of their numbers.
    pub(crate) fn addresses(&self) -> &[Address] {
        &self.addresses
    }

    /// The number of an address.
    pub fn number(&self, address: &Address) -> Option<u32> {
        self.addresses.binary_search(address).ok().map(|i| i as u32)
    }

    /// The address with a number.
    pub fn address(&self, number: u32) -> &Address {
        &self.addresses[number as usize]
    }

    /// Everything that can be reached from `from` along relations, `from` itself left out.
    pub fn all(&self, from: &Address, toward: Toward) -> BTreeSet<Address> {
        let Some(start) = self.number(from) else { return BTreeSet::new() };
        let mut seen = vec![false; self.len()];
        seen[start as usize] = true;
        let mut queue = VecDeque::from([start]);
        let mut out = BTreeSet::new();
        while let Some(at) = queue.pop_front() {
            for next in self.next(at, toward) {
                if !std::mem::replace(&mut seen[next as usize], true) {
                    out.insert(self.address(next).clone());
                    queue.push_back(next);
                }
            }
        }
        out
    }

    /// What is one relation away, by address.
    pub fn beside(&self, of: &Address, toward: Toward) -> BTreeSet<Address> {
        self.number(of).map(|n| self.next(n, toward).into_iter().map(|i| self.address(i).clone()).collect()).unwrap_or_default()
    }

    fn next(&self, at: u32, toward: Toward) -> Vec<u32> {
        match toward {
            Toward::Needed => self.relies_on[at as usize].iter().flat_map(|r| r.any_of.iter().copied()).collect(),
            Toward::Reliant => self.reliant[at as usize].iter().map(|(d, _)| *d).collect(),
        }
    }

    /// Every loop of `relies_on` and `yields_to`, each as its members in the order in which they
    /// point at each other, beginning with the first by address. One loop is told for each knot.
    pub fn cycles(&self) -> Vec<Vec<Address>> {
        let mut graph = DiGraph::<u32, ()>::with_capacity(self.len(), self.len() * 2);
        let nodes: Vec<_> = (0..self.len() as u32).map(|i| graph.add_node(i)).collect();
        for i in 0..self.len() {
            for j in self.points_at(i as u32) {
                graph.add_edge(nodes[i], nodes[j as usize], ());
            }
        }
        let mut cycles: Vec<Vec<Address>> = tarjan_scc(&graph)
            .into_iter()
            .map(|knot| knot.into_iter().map(|n| graph[n]).collect::<BTreeSet<u32>>())
            .filter(|knot| knot.len() > 1 || knot.iter().any(|&i| self.points_at(i).contains(&i)))
            .map(|knot| self.loop_in(&knot).into_iter().map(|i| self.address(i).clone()).collect())
            .collect();
        cycles.sort();
        cycles
    }

    fn points_at(&self, i: u32) -> BTreeSet<u32> {
        let needed = self.relies_on[i as usize].iter().flat_map(|r| r.any_of.iter().copied());
        needed.chain(self.yields_to[i as usize].iter().copied()).collect()
    }

    /// The shortest loop through the first member of a knot.
    fn loop_in(&self, knot: &BTreeSet<u32>) -> Vec<u32> {
        let start = *knot.first().expect("a knot has members");
        let mut from = std::collections::BTreeMap::new();
        let mut queue = VecDeque::from([start]);
        while let Some(at) = queue.pop_front() {
            for next in self.points_at(at).into_iter().filter(|n| knot.contains(n)) {
                if next == start {
                    let mut path = vec![at];
                    while let Some(&before) = from.get(path.last().expect("never empty")) {
                        path.push(before);
                    }
                    path.reverse();
                    return path;
                }
                if next != start && !from.contains_key(&next) {
                    from.insert(next, at);
                    queue.push_back(next);
                }
            }
        }
        vec![start]
    }
}

/// A loop drawn in one line: `a → b → a`.
pub fn loop_of(members: &[Address]) -> String {
    members.iter().chain(members.first()).map(ToString::to_string).collect::<Vec<_>>().join(" → ")
}
