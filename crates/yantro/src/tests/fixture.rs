//! The demo's estate as it might stand, without anything running.

use std::collections::BTreeMap;

use serde_json::json;
use yantro_core::{
    graph::EstateGraph,
    model::Estate,
    plan::{
        Request,
        forecast::{Usual, plays::play_all},
        plan,
    },
    proof::{Facts, Seen, SeenState},
    selection,
    text::vet,
    words::{Expected, kinds::Wish, name::Address, time::Timestamp},
};
use yantro_engine::{BoardRow, BoardView, HostRow, StepView};
use yantro_server::wire::{PlanView, plan_says};

pub struct Demo {
    estate: Estate,
    graph: EstateGraph,
    states: BTreeMap<Address, SeenState>,
}

impl Demo {
    /// All as expected.
    pub fn up() -> Self {
        Self::with(&[])
    }

    /// All as expected, but for these.
    pub fn with(states: &[(&str, SeenState)]) -> Self {
        // Times are told where the terminal is; here that is nowhere in particular.
        unsafe { std::env::set_var("TZ", "UTC") };
        let text = include_str!("../../../../demo/estate.toml");
        let estate = vet(text, "/srv/ferries").estate.expect("the demo's estate is sound");
        let mut all: BTreeMap<Address, SeenState> = estate
            .services
            .values()
            .map(|s| (s.address.clone(), if s.expected == Expected::Down { SeenState::Down } else { SeenState::Proven }))
            .collect();
        for (address, state) in states {
            let known = all.insert(address.parse().unwrap(), *state);
            assert!(known.is_some(), "the demo has no {address}");
        }
        Self { graph: EstateGraph::new(&estate), estate, states: all }
    }

    pub fn plan(&self, wish: Wish, of: &[&str], alone: bool) -> PlanView {
        let words: Vec<String> = of.iter().map(|w| (*w).to_owned()).collect();
        let chosen = selection::resolve(&self.estate, &self.graph, &words, &[]).unwrap();
        let request = Request { alone, ..Request::new(wish, chosen) };
        let plan = plan(&self.estate, &self.graph, &Facts(self.states.clone()), &Usual::default(), &request);
        let forecast = play_all(&plan.sequence.steps, &self.estate, None);
        PlanView { digest: String::new(), can_begin: plan.can_begin(), says: plan_says(&plan), plan, forecast }
    }

    pub fn seen(&self, address: &str, state: SeenState) -> Seen {
        let rungs = self.estate.services[&address.parse::<Address>().unwrap()].ladder.len() as u32;
        let at = Timestamp::from_ms(1_000_000);
        let (climbed, says) = match state {
            SeenState::Proven => (rungs, "process 48121 listens on 7412"),
            SeenState::Ailing | SeenState::Rising => (1, "503: \"still starting\""),
            _ => (0, ""),
        };
        Seen {
            state,
            as_of: at,
            since: at,
            rungs_climbed: climbed,
            rungs,
            rung_against: None,
            says: says.into(),
            pid: None,
            manager: None,
            last_known: None,
            log_against: None,
        }
    }

    pub fn board(&self) -> BoardView {
        let row = |(address, state): (&Address, &SeenState)| {
            let service = &self.estate.services[address];
            let up = *state == SeenState::Proven;
            BoardRow {
                notes: Vec::new(),
                address: address.clone(),
                title: service.title.clone(),
                groups: service.groups.iter().map(ToString::to_string).collect(),
                seen: self.seen(&address.to_string(), *state),
                expected: service.expected,
                differs: (service.expected == Expected::Up && !up && *state != SeenState::OutOfReach)
                    || (service.expected == Expected::Down && up),
                hands_off: service.hands_off.clone(),
                impact: service.impact.clone(),
                in_run: None,
                failed_in_run: None,
                intended_down: None,
                restart_owed: false,
                owed_because: None,
                ladder: service.ladder.iter().map(|r| r.kind.says()).collect(),
                acts: vec![],
                relies_on: service.relies_on_any().cloned().collect(),
                can: vec![],
                cannot: None,
                owner: None,
                logs: vec![],
            }
        };
        let host = |(name, h): (&yantro_core::words::name::HostName, &yantro_core::model::Host)| HostRow {
            reach: h.reach,
            link: None,
            name: name.clone(),
            address: h.address.clone(),
            title: h.title.clone(),
            kept: None,
            itself: None,
        };
        BoardView {
            estate: self.estate.name.clone(),
            stands_for: Some(self.estate.stands_for),
            edition: 4,
            as_of: Timestamp::from_ms(1_003_000),
            looked_at: Timestamp::from_ms(1_000_000),
            behind: Default::default(),
            version: 1,
            whole: true,
            standstill: None,
            storage_trouble: None,
            hosts: self.estate.hosts.iter().map(host).collect(),
            services: self.states.iter().map(row).collect(),
            open_runs: vec![],
        }
    }
}

/// A start that failed by a forbidden line, as the API gives it.
pub fn step_with_evidence() -> StepView {
    unsafe { std::env::set_var("TZ", "UTC") };
    serde_json::from_value(json!({
        "planned": {
            "id": 14, "address": "pier-north/gate.1", "kind": "start", "why": { "kind": "relies-on", "of": "quay-1/fares-db" },
            "found": "proven", "waits": [], "rank": 5, "usual_ms": 4000, "tail_ms": 4000, "critical": true
        },
        "now": {
            "state": "failed", "reason": "forbidden line in logs/gate1.log: \"ERROR manifest refused\"",
            "attempts": 1, "began_at": "2026-11-23T02:41:07Z", "ended_at": null, "rungs": [],
            "acts": [{
                "act": 9, "kind": "start", "attempt": 1, "intended_at": "2026-11-23T02:41:07Z",
                "begun": { "command": ["bin/stand-in", "--name", "gate 1"], "dir": "/srv/ferries", "user": "ferries", "pid": 48121, "marks": {} },
                "end": ["2026-11-23T02:41:09Z", { "how": "exited", "code": 3, "output": "giving up\n" }],
                "rungs": [{ "rung": 0, "at": "2026-11-23T02:41:07Z", "climbed": true, "says": "process 48121" }],
                "logs": [{
                    "source": "/srv/ferries/logs/gate1.log", "complete": true,
                    "count": { "lines": 6, "bytes": 412, "wanted": [0], "forbidden": [1, 0], "overlooked": 0 },
                    "hits": [{
                        "meaning": "forbidden", "pattern": "ERROR", "line": 5, "text": "02:41:09 ERROR manifest refused",
                        "before": ["02:41:08 connected to fares-db"], "after": ["02:41:09 giving up"]
                    }]
                }],
                "failed": ["2026-11-23T02:41:09Z", "forbidden line in logs/gate1.log: \"ERROR manifest refused\""]
            }]
        },
        "says": "start pier-north/gate.1", "row": "pier-north/gate.1", "if_it_fails": "hold",
        "title": "Gate 1, North pier", "rungs": ["process", "port 7412", "log"]
    }))
    .expect("the API gives it like this")
}
