//! What a disruptive deed would do, shown before it is agreed to; and that what is done is no more than what was shown.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use yantro_core::{
    plan::Shown,
    run::{Decision, DecisionKind, Refusal, RunId},
    words::name::HostName,
};

use crate::{
    engine::{Engine, read},
    error::EngineError,
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
            Deed::Decision { run, decision, hold } => {
                let stands = read(&self.shared.runs).get(run).map(yantro_core::run::Run::hold_no);
                let Some(stands) = stands else {
                    let ended = self.run(*run)?;
                    return Err(EngineError::Refused(Refusal::Ended { run: run.0, word: ended.state.word() }));
                };
                let hold = hold.or(stands);
                // A reason that is still to be given keeps nobody from seeing what it is given for.
                let decision = Decision { kind: decision.clone(), hold, who: who.to_owned(), why: Some("…".to_owned()) };
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
            // A reason that is given with the decision is not known when it is shown, and changes nothing of what is done.
            let known = read(&self.shared.runs).get(&id).map(|r| r.failed_and_why("{reason}")).ok_or(EngineError::NoRun(id))?;
            let [failed, reason] = &known;
            let divert = self.divert_from_now(id, procedure, [failed, reason]).await;
            let divert = divert.map_err(|why| EngineError::CannotDivert { procedure: procedure.clone(), why })?;
            let loaded = self.loaded().ok_or(EngineError::NoEstate)?;
            let then = Shown::of(&divert.as_plan(procedure, &loaded.estate), loaded.edition).steps;
            // What it is told is known by now.
            let told = |says: String| says.replace("{failed}", failed).replace("{reason}", reason);
            shown.steps.extend(then.into_iter().map(|says| format!("then {}", told(says))));
        }
        Ok(shown)
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
}
