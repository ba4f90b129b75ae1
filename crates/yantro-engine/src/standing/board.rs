//! The board: how everything stands now, as looked at and as runs see it.

use std::collections::{BTreeMap, BTreeSet};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use yantro_core::{
    model::{AT_BOOT_OFF, AT_BOOT_ON, Estate, Host, Impact, REREAD, Service, ServiceRunner},
    plan::{Step, StepId},
    proof::{Seen, SeenState, standing::Watched},
    run::{Run, RunId, StepNow, StepState},
    words::{
        Expected, Reach, StandsFor,
        kinds::StepKind,
        name::{Address, HostName},
        time::Timestamp,
    },
};
use yantro_reach::Link;
use yantro_store::{IntendedDown, StartedAs};

use crate::hands::Hands;

/// One service on the board.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct BoardRow {
    /// The service.
    pub address: Address,
    /// What people call it.
    pub title: String,
    /// The groups it is in.
    pub groups: BTreeSet<String>,
    /// What it is seen to be.
    pub seen: Seen,
    /// What it should be.
    pub expected: Expected,
    /// Whether the two part.
    pub differs: bool,
    /// Watched, never acted on, for this reason.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hands_off: Option<String>,
    /// What users notice while it is down.
    pub impact: Impact,
    /// The run that acts on it now.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub in_run: Option<RunId>,
    /// Why its step in that run awaits a decision, where one does.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub failed_in_run: Option<String>,
    /// It was taken down on purpose, by whom and why (R33).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub intended_down: Option<String>,
    /// Its restart is owed.
    pub restart_owed: bool,
    /// Why: the edition changed how it is started since it was, or its program, a library or its configuration is
    /// newer than its start.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub owed_because: Option<String>,
    /// What its host's manager has otherwise than the estate: whether it comes up at boot, a definition not re-read.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub notes: Vec<String>,
    /// Acts that would put right what its notes say, by name.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub acts: Vec<String>,
    /// The rungs of its ladder, in words.
    pub ladder: Vec<String>,
    /// What it relies on, one relation away.
    pub relies_on: BTreeSet<Address>,
    /// What can be done with it now.
    pub can: Vec<String>,
    /// Why nothing can be done with it now.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cannot: Option<String>,
    /// Who owns it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub owner: Option<String>,
    /// Its logs.
    pub logs: Vec<String>,
}

/// One host on the board.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct HostRow {
    /// The host.
    pub name: HostName,
    /// Its network address.
    pub address: String,
    /// What people call it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub title: Option<String>,
    /// Why this server must not act on it, where that is so (R35).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub kept: Option<String>,
    /// How it is reached.
    pub reach: Reach,
    /// How the link to it stands; nothing for the machine that the server runs on.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub link: Option<HostLink>,
    /// How the host itself is seen, where it can be acted on: down is off.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub itself: Option<SeenState>,
}

/// The link to a host.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct HostLink {
    /// Whether it stands.
    pub up: bool,
    /// Since when it is so.
    pub since: Timestamp,
    /// Why it does not stand.
    pub why: Option<String>,
    /// How to mend that.
    pub mend: Option<String>,
    /// How often it was tried in vain.
    pub tries: u32,
    /// What the host calls itself.
    pub calls_itself: Option<String>,
    /// The account that acts there.
    pub account: Option<String>,
    /// Its processor and system.
    pub system: Option<String>,
    /// Which boot it is in.
    pub boot: Option<String>,
    /// A line there and back, in microseconds.
    pub round_trip_us: Option<u64>,
    /// No outpost can run there: what its plain shell cannot do.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub plain_shell: Option<String>,
    /// By how much its clock is ahead of the server's, in milliseconds; behind where it is negative.
    pub clock_ahead_ms: Option<i64>,
}

impl From<Link> for HostLink {
    fn from(link: Link) -> Self {
        let hello = link.hello.as_ref();
        Self {
            up: link.up,
            since: link.since,
            calls_itself: hello.map(|h| h.host.clone()),
            account: hello.map(|h| h.account.clone()),
            system: hello.map(|h| h.system.clone()),
            plain_shell: hello.filter(|h| h.plain_shell).map(|h| {
                let cannot = "looks at pages, connections and logs, processes that Yantro itself starts, and looking through it";
                format!("by its plain shell only, for no outpost runs on {}: {cannot} take one", h.system)
            }),
            boot: hello.map(|h| h.boot.clone()),
            why: link.why,
            mend: link.mend,
            tries: link.tries,
            round_trip_us: link.round_trip_us,
            clock_ahead_ms: link.clock_ahead_ms,
        }
    }
}

/// Everything.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct BoardView {
    /// What the estate is called.
    pub estate: String,
    /// What it stands for.
    pub stands_for: Option<StandsFor>,
    /// The edition; 0 where none is loaded.
    pub edition: u64,
    /// When this was put together.
    pub as_of: Timestamp,
    /// Every service was looked at since then, and its row is as it was seen: but for those that are `behind`, and those whose state
    /// says that nobody could look.
    pub looked_at: Timestamp,
    /// Services that were last looked at before that, each with when: their host is slow to answer, or they are looked at less often.
    #[serde(default)]
    pub behind: BTreeMap<Address, Timestamp>,
    /// Ask with it as `since` to be told only what is new.
    pub version: u64,
    /// Whether all hosts and services are here; else only those that changed since the version asked with.
    pub whole: bool,
    /// Whether everything is at a standstill, by whom.
    pub standstill: Option<String>,
    /// Why events cannot be stored, where that is so.
    pub storage_trouble: Option<String>,
    /// The hosts.
    pub hosts: Vec<HostRow>,
    /// The services, by address.
    pub services: Vec<BoardRow>,
    /// Runs that have not ended.
    pub open_runs: Vec<yantro_core::run::RunSummary>,
}

/// A run with those of its steps that are about one service.
pub(crate) struct InRun<'r> {
    run: &'r Run,
    steps: Vec<StepId>,
}

impl InRun<'_> {
    fn steps(&self) -> impl DoubleEndedIterator<Item = (&Step, &StepNow)> {
        self.steps.iter().map(|id| (self.run.begun.sequence.step(*id), self.run.step_now(*id)))
    }
}

/// Which run acts on which service now.
pub(crate) fn acted_on<'r>(runs: impl Iterator<Item = &'r Run>) -> BTreeMap<&'r Address, InRun<'r>> {
    let mut acted_on: BTreeMap<&Address, InRun<'_>> = BTreeMap::new();
    for run in runs {
        for step in &run.begun.sequence.steps {
            let Some(address) = step.address().filter(|a| !run.is_released(a)) else { continue };
            let known = acted_on.entry(address).or_insert_with(|| InRun { run, steps: Vec::new() });
            if known.run.id != run.id {
                *known = InRun { run, steps: Vec::new() };
            }
            known.steps.push(step.id);
        }
    }
    acted_on
}

/// What a run makes of a service it works on right now.
fn seen_by_run(in_run: &InRun<'_>, address: &Address, seen: &mut Seen) {
    // What a run makes of it does not bring its host back (R19).
    if seen.state == SeenState::OutOfReach {
        return;
    }
    for (step, now) in in_run.steps() {
        let (climbed, proving) = match &now.state {
            StepState::Proving { climbed, .. } => (*climbed, true),
            StepState::Acting { .. } => (0, false),
            _ => continue,
        };
        match step.kind() {
            StepKind::Start | StepKind::Reload | StepKind::Await => {
                seen.state = SeenState::Rising;
                seen.rungs_climbed = climbed.min(seen.rungs);
            }
            StepKind::Stop => {
                seen.state = SeenState::Sinking;
                let rungs = in_run.run.begun.services[address].ladder_of(StepKind::Stop).len() as u32;
                seen.rungs_climbed = if proving { rungs.saturating_sub(climbed).min(seen.rungs) } else { seen.rungs };
            }
            // A further act leaves it as it is.
            _ => continue,
        }
        seen.rung_against = None;
        if let Some((_, answer)) = now.last_answer() {
            seen.says = answer.says.clone();
        } else if let Some(rung) = now.acts.last().and_then(|a| a.rungs.last()) {
            seen.says = rung.says.clone();
        }
    }
}

/// Why a run's step on a service awaits a decision.
fn failure(in_run: &InRun<'_>) -> Option<String> {
    in_run.steps().find_map(|(_, now)| match &now.state {
        StepState::Failed { reason } | StepState::OutcomeUnknown { reason } | StepState::Asking { reason, .. } => Some(reason.clone()),
        _ => None,
    })
}

/// What is kept of a service besides what was seen of it.
pub(crate) struct KeptOf<'k> {
    /// What it was last started as.
    pub started: Option<&'k StartedAs>,
    /// That it was taken down on purpose.
    pub intended_down: Option<&'k IntendedDown>,
    /// Why a restart is owed by what lies on disk.
    pub owed_by_files: Option<String>,
}

/// Puts a row together.
pub(crate) fn row(
    estate: &Estate,
    address: &Address,
    watched: Option<&Watched>,
    in_run: Option<&InRun<'_>>,
    kept: KeptOf<'_>,
    now: Timestamp,
) -> BoardRow {
    let KeptOf { started, intended_down, owed_by_files } = kept;
    let service = &estate.services[address];
    let mut seen = watched.map_or_else(|| Watched::unknown(service.ladder.len(), now).seen, |w| w.seen.clone());
    if let Some(in_run) = in_run {
        seen_by_run(in_run, address, &mut seen);
    }
    let differs = match (service.expected, seen.state) {
        (_, SeenState::Unknown | SeenState::OutOfReach) | (Expected::Either, _) => false,
        (Expected::Up, state) => state != SeenState::Proven,
        (Expected::Down, state) => state != SeenState::Down,
    };
    let cannot = match (&service.hands_off, in_run.map(|i| i.run)) {
        (Some(reason), _) => Some(format!("hands-off: {reason}")),
        (None, Some(run)) => Some(format!("run {} acts on it", run.id)),
        (None, None) => match seen.state {
            SeenState::Unknown => Some("not looked at yet".to_owned()),
            SeenState::OutOfReach => Some("its host does not answer".to_owned()),
            _ => None,
        },
    };
    let mut can: Vec<String> = Vec::new();
    if cannot.is_none() {
        let words: &[&str] = match seen.state {
            SeenState::Proven | SeenState::Ailing | SeenState::Rising => &["restart", "stop"],
            SeenState::Sinking => &["stop"],
            SeenState::Down => &["start"],
            SeenState::Unknown | SeenState::OutOfReach => &[],
        };
        can.extend(words.iter().map(|w| (*w).to_owned()));
        if service.reload.is_some() && matches!(seen.state, SeenState::Proven | SeenState::Ailing) {
            can.push("reload".to_owned());
        }
    }
    let notes = notes(service, &seen);
    let described = started.filter(|s| seen.state.is_up() && !s.service.runner.starts_as(&service.runner));
    let owed_because = described
        .map(|s| format!("it runs as edition {} described it, and that changed", s.edition))
        .or_else(|| owed_by_files.filter(|_| seen.state.is_up()));
    BoardRow {
        address: address.clone(),
        title: service.title.clone(),
        groups: service.groups.iter().map(ToString::to_string).collect(),
        expected: service.expected,
        differs,
        hands_off: service.hands_off.clone(),
        impact: service.impact.clone(),
        in_run: in_run.map(|i| i.run.id),
        failed_in_run: in_run.and_then(failure),
        intended_down: intended_down.filter(|_| !seen.state.is_up()).map(|IntendedDown { run, who, why }| {
            // While that run goes on it stands beside it, and says why itself.
            let why = why.as_ref().filter(|_| in_run.is_none_or(|i| i.run.id != *run));
            let why = why.map(|why| format!(": {why}")).unwrap_or_default();
            format!("taken down by {who} in run {run}{why}")
        }),
        restart_owed: owed_because.is_some(),
        owed_because,
        acts: if cannot.is_some() { Vec::new() } else { notes.iter().map(|(_, act)| (*act).to_owned()).collect() },
        notes: notes.into_iter().map(|(says, _)| says).collect(),
        ladder: service.ladder.iter().map(|r| r.kind.says()).collect(),
        relies_on: service.relies_on_any().cloned().collect(),
        can,
        cannot,
        owner: service.owner.clone(),
        logs: service.logs.clone(),
        seen,
    }
}

/// What a host's manager has otherwise than the estate says, each with the act that puts it right.
fn notes(service: &Service, seen: &Seen) -> Vec<(String, &'static str)> {
    let (ServiceRunner::Systemd(spec), Some(word)) = (&service.runner, &seen.manager) else { return Vec::new() };
    let mut notes = Vec::new();
    match (spec.at_boot, word.comes_up_at_boot()) {
        (Some(true), Some(false)) => notes.push((format!("should come up at boot, and will not ({})", word.at_boot), AT_BOOT_ON)),
        (Some(false), Some(true)) => notes.push(("comes up at boot, and should not".to_owned(), AT_BOOT_OFF)),
        _ => {}
    }
    if word.reread_due {
        notes.push(("its definition on disk is newer than what the manager goes by: have it re-read".to_owned(), REREAD));
    }
    notes
}

/// The hosts of an estate.
pub(crate) fn hosts(estate: &Estate, hands: &Hands) -> Vec<HostRow> {
    let row = |(name, h): (&HostName, &Host)| HostRow {
        name: name.clone(),
        address: h.address.clone(),
        title: h.title.clone(),
        kept: hands.kept(name),
        reach: h.reach,
        link: hands.hosts.link(name).map(HostLink::from),
        itself: h.power.as_ref().and_then(|_| Some(hands.watched(&Address::of_host(name))?.seen.state)),
    };
    estate.hosts.iter().map(row).collect()
}
