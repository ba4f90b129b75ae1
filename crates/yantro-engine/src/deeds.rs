//! What a disruptive deed would do, shown before it is agreed to; and that what is done is no more than what was shown.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use yantro_core::{
    name::HostName,
    run::{Decision, DecisionKind, Refusal, RunId},
    sequence::Shown,
};

use crate::{
    EngineError,
    engine::{Engine, read},
    orders::divert_from_now,
    work::Work,
};

/// A deed that disrupts something, and begins no run.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
#[serde(tag = "deed", rename_all = "kebab-case")]
pub enum Deed {
    /// A decision on a run.
    Decision {
        /// The run.
        run: RunId,
        /// What is decided.
        decision: DecisionKind,
        /// The hold it answers; without, whichever stands.
        #[serde(default)]
        hold: Option<u32>,
        /// Why, where that goes on to what is done: the procedure that takes over is told it.
        #[serde(default)]
        why: Option<String>,
    },
    /// Everything goes on after a standstill.
    LiftStandstill,
    /// This server acts on a host from then on.
    TakeOver {
        /// The host.
        host: HostName,
    },
}

/// What a deed would do now.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
pub struct Consequences {
    /// A sentence each, in order.
    pub does: Vec<String>,
    /// The hold that it answers, where it answers one.
    pub hold: Option<u32>,
    /// The digest of what is agreed to: sent with the deed as `shown`, no more is done than this.
    pub digest: String,
}

impl Engine {
    /// What a deed would do if it were done now.
    pub async fn consequences(&self, deed: &Deed, who: &str) -> Result<Consequences, EngineError> {
        let (shown, hold) = match deed {
            Deed::Decision { run, decision, hold, why } => {
                let stands = read(&self.shared.runs).get(run).map(yantro_core::run::Run::hold_no);
                let Some(stands) = stands else {
                    let ended = self.run(*run)?;
                    return Err(EngineError::Refused(Refusal::Ended { run: run.0, word: ended.state.word() }));
                };
                let hold = hold.or(stands);
                // A reason that is still to be given keeps nobody from seeing what it is given for.
                let why = why.clone().filter(|w| !w.trim().is_empty()).unwrap_or_else(|| "…".to_owned());
                let decision = Decision { kind: decision.clone(), hold, who: who.to_owned(), why: Some(why) };
                (self.would(*run, &decision).await?, hold)
            }
            Deed::LiftStandstill => (self.would_lift(), None),
            Deed::TakeOver { host } => (self.would_take_over(host)?, None),
        };
        Ok(Consequences { does: shown.steps.clone(), hold, digest: self.shows(shown) })
    }

    /// What a decision would do, what takes over by it included.
    pub(crate) async fn would(&self, id: RunId, decision: &Decision) -> Result<Shown, EngineError> {
        let mut shown = self.would_at_once(id, decision)?;
        if let DecisionKind::Divert { procedure } = &decision.kind {
            let why = decision.why.clone().unwrap_or_default();
            let known = read(&self.shared.runs).get(&id).map(|r| r.failed_and_why(&why)).ok_or(EngineError::NoRun(id))?;
            let [failed, reason] = &known;
            let divert = divert_from_now(self, id, procedure, [failed, reason]).await;
            let divert = divert.map_err(|why| EngineError::CannotDivert { procedure: procedure.clone(), why })?;
            let loaded = self.loaded().ok_or(EngineError::NoEstate)?;
            let then = Shown::of(&divert.as_plan(procedure, &loaded.estate), loaded.edition).steps;
            // What it is told is known by now.
            let told = |says: String| says.replace("{failed}", failed).replace("{reason}", reason);
            shown.steps.extend(then.into_iter().map(|says| format!("then {}", told(says))));
        }
        Ok(shown)
    }

    /// What a decision would do to the run itself.
    fn would_at_once(&self, id: RunId, decision: &Decision) -> Result<Shown, EngineError> {
        let edition = self.loaded().map_or(0, |l| l.edition);
        let now = self.hands.clock.now();
        Ok(read(&self.shared.runs).get(&id).ok_or(EngineError::NoRun(id))?.would(decision, edition, now)?)
    }

    fn would_lift(&self) -> Shown {
        let now = self.hands.clock.now();
        let edition = self.loaded().map_or(0, |l| l.edition);
        let runs = read(&self.shared.runs);
        let does = runs.values().filter(|r| !r.has_ended()).flat_map(|r| r.would_go_on(now)).collect();
        let by = read(&self.shared.standstill).clone();
        Shown::deed(format!("lift the standstill of {by:?}"), edition, does)
    }

    pub(crate) fn would_take_over(&self, host: &HostName) -> Result<Shown, EngineError> {
        let loaded = self.loaded().ok_or(EngineError::NoEstate)?;
        if !loaded.estate.hosts.contains_key(host) {
            return Err(EngineError::NoHost(host.clone()));
        }
        let mut does = vec![format!("this server acts on {host} from then on, and whichever did before acts there no more")];
        does.extend(self.hands.kept(host).map(|kept| format!("though {kept}")));
        does.extend(loaded.estate.services.values().filter(|s| s.is_on(host)).map(|s| format!("{} is acted on from here", s.address)));
        Ok(Shown::deed(format!("take over {host}"), loaded.edition, does))
    }

    /// What was shown under a digest.
    pub(crate) fn was_shown(&self, digest: &str) -> Result<Shown, EngineError> {
        let all = self.shared.shown.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        let known = all.iter().find(|(known, _)| known == digest).map(|(_, shown)| shown.clone());
        let difference = || vec!["what was shown is not known here any more".to_owned()];
        known.ok_or_else(|| EngineError::DoneOtherwise { difference: difference() })
    }
}

impl Work {
    /// Whether a decision does no more, by now, than what was shown of it. What takes over was asked about before.
    pub(crate) fn does_no_more(&self, id: RunId, decision: &Decision, shown: Option<&Shown>) -> Result<(), EngineError> {
        match shown {
            Some(shown) => no_more(shown, &self.engine.would_at_once(id, decision)?),
            None => Ok(()),
        }
    }

    /// The same of lifting the standstill.
    pub(crate) fn lifts_no_more(&self, shown: Option<&Shown>) -> Result<(), EngineError> {
        shown.map_or(Ok(()), |shown| no_more(shown, &self.engine.would_lift()))
    }
}

/// Whether what would be done now is no more than what was shown; else how it differs.
pub(crate) fn no_more(shown: &Shown, now: &Shown) -> Result<(), EngineError> {
    if shown.covers(now) {
        return Ok(());
    }
    let mut difference = shown.difference(now);
    difference.retain(|d| !d.starts_with("no longer: "));
    if difference.is_empty() {
        difference.push("it is about something else than what was shown".to_owned());
    }
    Err(EngineError::DoneOtherwise { difference })
}
