//! What can only be judged over the whole estate: ports and logs that are shared, circles.

use std::collections::BTreeMap;

use super::{Place, Vetting};
use crate::{
    graph::{self, EstateGraph},
    model::*,
    words::name::Address,
};

/// A fault, told once all are found: place, kind, message, mend, other places.
type Found = (Place, &'static str, String, String, Vec<(Place, String)>);

impl Vetting<'_, '_> {
    /// What can only be judged over the whole estate.
    pub(super) fn whole(&mut self, estate: &Estate) {
        let place = |a: &Address| self.places.key(&format!("service.{}", self.written(a)));
        let mut ports: BTreeMap<(String, u16), &Address> = BTreeMap::new();
        let mut found: Vec<Found> = Vec::new();
        for service in estate.services.values().filter(|s| !self.stand_ins.contains(&s.address)) {
            for rung in &service.ladder {
                let RungKind::Port { port, on, held_by_any: false } = &rung.kind else { continue };
                let key = (on.clone().unwrap_or_default(), *port);
                match ports.get(&key) {
                    // Services that are never up together may share a port.
                    Some(other) if *other != &service.address && !service.never_with.contains(*other) => found.push((
                        place(&service.address),
                        "port-twice",
                        format!("{} and {other} both listen on port {port} of {}", service.address, key.0),
                        "give one of them another port, or say never_with if only one is ever up".to_owned(),
                        vec![(place(other), "the other".to_owned())],
                    )),
                    Some(_) => {}
                    None => {
                        ports.insert(key, &service.address);
                    }
                }
            }
        }
        // Copies that share a log file must have patterns that tell whose line it is (R17).
        let mut shared: BTreeMap<(&str, &str), &Address> = BTreeMap::new();
        for service in estate.services.values().filter(|s| !self.stand_ins.contains(&s.address)) {
            let patterns = [&service.start.patterns, &service.stop.patterns];
            for (log, pattern) in service
                .logs
                .iter()
                .flat_map(|l| patterns.iter().flat_map(|p| p.must_see.iter().chain(&p.must_not_see)).map(move |p| (l.as_str(), p.as_str())))
            {
                match shared.get(&(log, pattern)) {
                    Some(other) if *other != &service.address => found.push((
                        place(&service.address),
                        "shared-log",
                        format!(
                            "{} and {other} share the log {log}, and the pattern \"{pattern}\" does not tell whose line it is",
                            service.address
                        ),
                        "put what differs into the pattern, such as {copy} or {host}, or give each a log of its own".to_owned(),
                        Vec::new(),
                    )),
                    Some(_) => {}
                    None => {
                        shared.insert((log, pattern), &service.address);
                    }
                }
            }
        }
        let graph = EstateGraph::new(estate);
        for cycle in graph.cycles() {
            let drawn = graph::loop_of(&cycle);
            found.push((
                place(&cycle[0]),
                "cycle",
                format!("these services rely on or yield to each other in a circle: {drawn}"),
                "take one of these `relies_on` or `yields_to` away".to_owned(),
                cycle.iter().skip(1).map(|a| (place(a), "in the circle".to_owned())).collect(),
            ));
        }
        for (span, kind, message, mend, also) in found {
            self.faults.error_also(kind, span, message, mend, also);
        }
    }
}
