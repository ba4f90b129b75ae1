//! Estates in a short text notation, so that a test reads as a fact:
//! `boards -> sailings, sailings -> fares-db, boards ~> cache` (`~>`: yields to).

use std::collections::{BTreeMap, BTreeSet};

use yantro_core::{
    graph::EstateGraph,
    model::Estate,
    proof::{Facts, SeenState},
    text::vet,
    words::name::Address,
};

/// The TOML of an estate in which every service runs on host h, with one port rung each.
pub fn toml(text: &str, more: &str) -> String {
    let mut relies: BTreeMap<&str, (Vec<&str>, Vec<&str>)> = BTreeMap::new();
    for part in text.split(',').map(str::trim).filter(|p| !p.is_empty()) {
        if let Some((a, b)) = part.split_once("~>") {
            relies.entry(a.trim()).or_default().1.push(b.trim());
            relies.entry(b.trim()).or_default();
        } else if let Some((a, b)) = part.split_once("->") {
            relies.entry(a.trim()).or_default().0.push(b.trim());
            relies.entry(b.trim()).or_default();
        } else {
            relies.entry(part).or_default();
        }
    }
    let quoted = |list: &[&str]| list.iter().map(|s| format!("\"{s}\"")).collect::<Vec<_>>().join(", ");
    let mut out = String::from(
        "[estate]\nname = \"t\"\nstands_for = \"test\"\n[host.h]\nreach = \"here\"\n\
         [like.x]\nrun_by = \"process\"\nhost = \"h\"\nprocess = { program = \"/bin/x\", args = [\"{service}{copy}\"] }\n",
    );
    for (i, (name, (relies_on, yields_to))) in relies.iter().enumerate() {
        out += &format!(
            "[service.{name}]\nlike = \"x\"\nladder = [{{ rung = \"port\", port = {} }}]\nrelies_on = [{}]\nyields_to = [{}]\n",
            4000 + i,
            quoted(relies_on),
            quoted(yields_to)
        );
    }
    out + more
}

/// A vetted estate with its graph.
pub fn estate(text: &str, more: &str) -> (Estate, EstateGraph) {
    let vetted = vet(&toml(text, more), "/e");
    let estate = vetted.estate.unwrap_or_else(|| panic!("{:#?}", vetted.faults));
    let graph = EstateGraph::new(&estate);
    (estate, graph)
}

/// Addresses on host h.
pub fn addresses(names: &str) -> BTreeSet<Address> {
    names.split_whitespace().map(|n| format!("h/{n}").parse().unwrap()).collect()
}

/// How services on host h stand: `name=state`.
pub fn seen(text: &str) -> BTreeMap<Address, SeenState> {
    let state = |word: &str| match word {
        "proven" => SeenState::Proven,
        "down" => SeenState::Down,
        "ailing" => SeenState::Ailing,
        "rising" => SeenState::Rising,
        "sinking" => SeenState::Sinking,
        "unknown" => SeenState::Unknown,
        "out" => SeenState::OutOfReach,
        other => panic!("no state {other}"),
    };
    let of = |(name, word): (&str, &str)| (format!("h/{name}").parse().unwrap(), state(word));
    text.split_whitespace().map(|part| of(part.split_once('=').unwrap())).collect()
}

/// Everything proven but for those named: `name=state`.
pub fn facts(estate: &Estate, but: &str) -> Facts {
    let mut facts: Facts = estate.services.keys().map(|a| (a.clone(), SeenState::Proven)).collect();
    facts.0.extend(seen(but));
    facts
}
