//! A run that is given its inputs by hand, one after another: for what comes in between any two of them.

use std::collections::BTreeMap;

use yantro_core::{
    holders::Rooms,
    plan::Request,
    proof::SeenState,
    run::{ActBegun, Begun, Decision, DecisionKind, Event, Input, Refusal, Run, RunId, Taken},
    words::{kinds::Wish, name::Address, time::Timestamp},
};

use crate::{
    estates::{addresses, estate, facts},
    world::told,
};

/// A run of a restart, given its inputs by hand.
pub struct Began {
    pub run: Run,
    pub rooms: Rooms,
    pub now: Timestamp,
    /// Everything that happened, as it is stored.
    pub stored: Vec<(Timestamp, Event)>,
}

pub fn began(relations: &str, chosen: &str) -> Began {
    began_so(relations, "", "", &Request::new(Wish::Restart, addresses(chosen)))
}

/// Answerable for all of its estate.
pub fn began_so(relations: &str, more: &str, found: &str, request: &Request) -> Began {
    let (estate, _) = estate(relations, more);
    let planned = began_as_planned(relations, more, found, request);
    begun_by(Begun { services: estate.services.clone(), ..planned.run.begun })
}

/// Answerable for what its plan makes it, and for no more.
pub fn began_as_planned(relations: &str, more: &str, found: &str, request: &Request) -> Began {
    let (estate, graph) = estate(relations, more);
    let plan = yantro_core::plan::plan(&estate, &graph, &facts(&estate, found), &Default::default(), request);
    begun_by(Begun::of(plan, &estate, 1, "maren", &BTreeMap::new()))
}

pub fn begun_by(begun: Begun) -> Began {
    let now = Timestamp::from_ms(1_000);
    let stored = vec![(now, Event::Begun(Box::new(begun.clone())))];
    Began { run: Run::begin(RunId(1), now, begun), rooms: Rooms::unlimited(), now, stored }
}

impl Began {
    pub fn found(&self) -> BTreeMap<Address, SeenState> {
        self.run.begun.services.keys().map(|a| (a.clone(), SeenState::Proven)).collect()
    }
    pub fn given(&mut self, input: Input) -> Taken {
        let taken = self.run.take(input, self.now, &mut self.rooms).unwrap();
        // Room is kept account of from input to input: whoever counts it anew comes to the same.
        if !self.run.has_ended() {
            assert_eq!(format!("{:?}", self.rooms), format!("{:?}", self.counted()), "room is taken and given back by those who work");
        }
        self.stored.extend(taken.events.iter().map(|e| (self.now, e.clone())));
        taken
    }
    /// The room that is taken, counted anew.
    fn counted(&self) -> Rooms {
        let mut rooms = Rooms::unlimited();
        self.run.rooms_taken().for_each(|room| rooms.take(&room));
        rooms
    }
    /// The server ends and is started anew: the run is what is stored of it.
    pub fn is_read_back(&mut self) {
        self.run = Run::replay(self.run.id, self.stored.iter().cloned()).unwrap();
        self.rooms = self.counted();
    }
    pub fn waits(&mut self, ms: u64) {
        self.now = self.now + std::time::Duration::from_millis(ms);
    }
    pub fn first_looks(&mut self, unconfirmed: &[&str]) {
        self.given(Input::Locked);
        let (seen, unconfirmed) = (self.found(), unconfirmed.iter().map(|s| (*s).to_owned()).collect());
        self.given(Input::FirstLooked { seen, rungs: BTreeMap::new(), processes: BTreeMap::new(), unconfirmed });
    }
    pub fn refused(&mut self, input: Input) -> Refusal {
        let before = told(&self.run);
        let refusal = self.run.take(input, self.now, &mut self.rooms).unwrap_err();
        assert_eq!(told(&self.run), before, "what is refused changes nothing");
        refusal
    }
}

pub fn decision(kind: DecisionKind, hold: Option<u32>) -> Decision {
    Decision { kind, hold, who: "maren".into(), why: Some("for the test".into()) }
}

/// How an act begins here.
pub fn begun_now() -> ActBegun {
    ActBegun { command: vec!["/bin/x".into()], dir: "/".into(), user: "x".into(), pid: Some(7), started: Some(7), ..ActBegun::default() }
}
