//! What must always hold (design §4, R1 to R38), checked at every act and at every end.

use std::collections::BTreeSet;

use yantro_core::{
    holders::Room,
    plan::{Part, StepId},
    proof::SeenState,
    run::{ActKind, DecisionKind, Event, Restriction, Run, RunState, StepEnd, StepState},
    words::{Force, kinds::StepKind, name::Address},
};

use super::world::{Hostile, Real};

impl Hostile {
    /// At every act.
    pub fn always(&self, i: usize, run: &Run, step: StepId, kind: ActKind) {
        let played = &self.runs[i];
        let planned = run.begun.sequence.step(step);
        let says = format!("run {i}: {kind:?} of step {step} ({})", planned.says());
        let by_force = matches!(kind, ActKind::Force | ActKind::Evidence(_));
        let decided = || {
            let mut back = played.events.iter().rev();
            back.any(|(_, e)| matches!(e, Event::Decided { decision } if decision.kind == DecisionKind::Force { step }))
        };
        // R29, R36.
        assert!(!played.was_still || run.hold_no().is_none(), "{says} at a standstill");
        assert!(run.hold_no().is_none() || !played.was_held || (by_force && decided()), "{says} while held");
        assert!(run.has_locks(), "{says} without locks");
        // R7.
        assert!(run.begun.at_once.is_none_or(|limit| run.rooms_taken().count() <= limit as usize), "{says}: more at once than asked for");
        let taken: Vec<_> = self.runs.iter().filter(|r| !r.run.has_ended()).flat_map(|r| r.run.rooms_taken()).collect();
        assert!(
            self.estate.limits.at_once.is_none_or(|limit| taken.len() <= limit as usize),
            "{says}: more at once than the estate allows"
        );
        let host = planned.host().filter(|_| planned.address().is_some() || kind == ActKind::Work);
        if let Some((host, limit)) = host.and_then(|h| Some((h, self.estate.hosts[h].at_once.or(self.estate.limits.per_host)?))) {
            let there = taken.iter().filter(|room| match room {
                Room::Service(address) => address.host == *host,
                Room::Host(name) => name == host,
            });
            assert!(there.count() <= limit as usize, "{says}: more at once on {host} than the estate allows");
        }
        let told = |a: &Address| played.told.get(a).copied().unwrap_or_default();
        if kind == ActKind::Work {
            for (beside, must) in planned.meanwhile() {
                assert_eq!(told(beside), must, "{says} beside {beside}");
            }
        }
        let Some(address) = planned.address() else { return };
        let service = &run.begun.services[address];
        // Nothing else, and nobody else's.
        assert!(run.begun.sequence.acted_on().contains(address), "{says} is outside the sequence");
        assert!(service.hands_off.is_none(), "{says}, which is hands-off");
        assert!(!run.is_released(address), "{says}, which was let go of");
        for (j, other) in self.runs.iter().enumerate().filter(|(j, r)| *j != i && r.run.has_locks()) {
            let theirs: BTreeSet<Address> = other.run.begun.sequence.acted_on();
            let has = theirs.contains(address) && !other.run.is_released(address);
            assert!(!has, "{says}, which run {j} acts on");
        }
        // R25.
        match played.restricted.get(address) {
            Some(Restriction::Acts { why }) => panic!("{says}, which the newest edition restricts: {why}"),
            Some(Restriction::Force) => assert!(kind != ActKind::Force, "{says}, which the newest edition never allows"),
            None => {}
        }
        let named = |a: &Address| run.vouched().contains(a) || run.begun.sequence.left_standing.contains(a);
        match kind {
            ActKind::Start => {
                assert_eq!(told(address), SeenState::Down, "{says}, which was not seen down");
                assert!(service.brought_back_by.is_none(), "{says}, which something else brings back");
                for relation in &service.relies_on {
                    let good = relation.any_of.iter().filter(|a| told(a) == SeenState::Proven || run.vouched().contains(*a)).count();
                    let standing = run.begun.sequence.left_standing.contains(address);
                    let stands: Vec<_> = relation.any_of.iter().map(|a| (a.to_string(), told(a))).collect();
                    assert!(good >= relation.at_least as usize || standing, "{says}, and what it relies on is {stands:?}");
                }
                for other in &service.never_with {
                    assert_eq!(told(other), SeenState::Down, "{says} beside {other}");
                }
            }
            ActKind::Stop => {
                assert!(!self.frozen_for(run) || planned.part != Part::Forward, "{says} in a change freeze");
                for other in self.estate.services.values().filter(|o| !named(&o.address) && o.address != *address) {
                    for relation in other.relies_on.iter().filter(|r| r.any_of.contains(address)) {
                        let stays = relation.any_of.iter().filter(|a| *a != address && told(a) == SeenState::Proven).count();
                        let had = stays + usize::from(told(address) == SeenState::Proven);
                        let (needs, is) = (relation.at_least as usize, told(&other.address));
                        assert!(stays >= needs || had < needs || is == SeenState::Down, "{says} under {}, which is {is}", other.address);
                    }
                }
                for (name, group) in &run.begun.keep_up {
                    if group.keep_up == 0 || !group.members.contains(address) || told(address) != SeenState::Proven {
                        continue;
                    }
                    let aside = planned.set(|s| s.below_keep_up.iter().find(|g| *g == name).cloned()).is_some();
                    let stays = group.members.iter().filter(|m| *m != address && told(m) == SeenState::Proven).count();
                    assert!(aside || stays >= group.keep_up as usize, "{says}: {name} keeps {} up, and {stays} stay", group.keep_up);
                }
            }
            ActKind::Force => {
                assert!(service.stop.force != Force::Never, "{says}, which is never allowed");
                assert!(service.stop.force == Force::Allow || decided(), "{says}, and nobody was asked");
            }
            ActKind::Clear | ActKind::Reload | ActKind::Evidence(_) | ActKind::Further | ActKind::Work | ActKind::Announce => {}
        }
    }

    /// A service is started only where it was down when it was looked at, unless others came in between.
    pub fn started_once(&self, i: usize, step: StepId, address: &Address) {
        let looked = self.runs[i].asked.get(&step).copied();
        let others = self.outside.get(address).is_some_and(|at| looked.is_none_or(|l| *at >= l));
        let real = self.real(address);
        assert!(real == Real::Down || others, "run {i} starts {address} a second time: it is {real:?}");
    }

    /// What a run says at its end is so, by the look it took.
    pub fn ended_truly(&self, i: usize) {
        let played = &self.runs[i];
        let run = &played.run;
        assert_eq!(played.events.iter().filter(|(_, e)| matches!(e, Event::Ended { .. })).count(), 1, "run {i} ends once");
        assert!(run.in_flight().next().is_none(), "run {i} ended with something in flight");
        let replayed = Run::replay(run.id, played.events.clone()).expect("it was begun");
        same(run, &replayed);
        let told = |a: &Address| played.told.get(a).copied().unwrap_or_default();
        match run.state() {
            RunState::Finished => {
                for (planned, now) in run.steps() {
                    let good = matches!(now.state, StepState::Ended(StepEnd::Done | StepEnd::Unneeded));
                    assert!(good, "run {i} finished, and step {} ({}) {:?}", planned.id, planned.says(), now.state);
                }
                for address in run.begun.sequence.acted_on().iter().filter(|a| !run.is_released(a)) {
                    let last = run.steps_on(address).rfind(|(s, _)| s.service().is_some()).map(|(s, _)| s.kind());
                    let meant = match last {
                        Some(StepKind::Stop) if run.begun.services[address].brought_back_by.is_some() => continue,
                        Some(StepKind::Stop) => SeenState::Down,
                        Some(_) => SeenState::Proven,
                        None => continue,
                    };
                    assert_eq!(told(address), meant, "run {i} finished, and {address}");
                }
            }
            RunState::PutBack => {
                for (address, found) in &run.begun.as_found {
                    let is = told(address);
                    let as_good = *found == SeenState::Ailing && is == SeenState::Proven;
                    assert!(
                        is == *found || as_good || run.is_released(address),
                        "run {i} was put back, and {address} is {is}, found {found}"
                    );
                }
            }
            _ => {}
        }
    }

    fn frozen_for(&self, run: &Run) -> bool {
        // What it was told last.
        let last = self.runs[run.id.0 as usize - 1].events.iter().rev().find_map(|(_, e)| match e {
            Event::Frozen { freezes } => Some(!freezes.is_empty()),
            _ => None,
        });
        last.unwrap_or(false)
    }
}

/// Replaying the events gives the same state.
pub fn same(run: &Run, replayed: &Run) {
    let (is, was) = (replayed.lasting(), run.lasting());
    if is != was {
        let (is, was) = (format!("{is:#?}"), format!("{was:#?}"));
        let differs: Vec<String> =
            is.lines().zip(was.lines()).filter(|(a, b)| a != b).take(6).map(|(a, b)| format!("{a} | was {b}")).collect();
        panic!("replaying gives another state: {}", differs.join("\n"));
    }
}
