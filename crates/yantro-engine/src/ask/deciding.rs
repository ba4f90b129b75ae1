//! Decisions of people, notes, and the one switch.

use yantro_core::{
    run::{Decision, DecisionKind, HoldCause, Input, Run, RunId},
    words::name::{Address, HostName},
};

use crate::{
    agreed::no_more,
    engine::{Engine, read},
    error::EngineError,
    messages::Msg,
};

impl Engine {
    /// Writes a note on a run, ended or not (N58).
    pub async fn note(&self, run: RunId, who: &str, text: &str) -> Result<(), EngineError> {
        if text.trim().is_empty() {
            return Err(EngineError::NoReason("a note"));
        }
        self.remark(run, Input::Note { who: who.to_owned(), text: text.trim().to_owned() }).await
    }

    /// Says who has a run from now on (N58).
    pub async fn take_on(&self, run: RunId, who: &str) -> Result<(), EngineError> {
        self.remark(run, Input::TakeOn { who: who.to_owned() }).await
    }

    async fn remark(&self, run: RunId, input: Input) -> Result<(), EngineError> {
        self.ask(|reply| Msg::Remark { run, input, reply }).await
    }

    /// Takes an operator's decision. `shown` is the digest of what it was shown to do: no more is done. To go on with a run that
    /// things changed for, it is needed, and is that of what was worked out anew.
    pub async fn decide(&self, run: RunId, decision: Decision, shown: Option<&str>) -> Result<(), EngineError> {
        let changed = |r: &Run| r.awaiting().next().is_none() && r.hold_causes().any(|c| matches!(c, HoldCause::Changed { .. }));
        if decision.kind == DecisionKind::Resume && read(&self.shared.runs).get(&run).is_some_and(changed) {
            return self.go_on_anew(run, decision, shown).await;
        }
        if matches!(&decision.kind, DecisionKind::TryAgain { change: Some(change), .. } if change.written.is_some()) {
            return Err(EngineError::NoWrittenChange);
        }
        let shown = shown.map(|digest| self.was_shown(digest)).transpose()?;
        if let (Some(shown), DecisionKind::Divert { .. }) = (&shown, &decision.kind) {
            // What takes over is worked out from a look, which the loop does not wait for.
            no_more(shown, &self.would(run, &decision).await?)?;
        }
        self.ask(|reply| Msg::Decide { run, decision, shown, reply }).await
    }

    /// Acknowledges the forbidden line that is held against a service, with a reason (R17).
    pub async fn acknowledge(&self, address: Address, who: &str, why: &str) -> Result<(), EngineError> {
        if why.trim().is_empty() {
            return Err(EngineError::NoReason("to acknowledge"));
        }
        let about = address.clone();
        self.ask(|reply| Msg::Acknowledge { address: about, who: who.to_owned(), why: why.to_owned(), reply }).await?;
        let service = self.loaded().and_then(|l| l.estate.services.get(&address).cloned());
        self.hands.look(service.into_iter().collect()).await;
        Ok(())
    }

    /// Takes a host over from the server that acted on it before (R35).
    pub async fn take_over(&self, host: &HostName, who: &str, why: &str, shown: Option<&str>) -> Result<(), EngineError> {
        if why.trim().is_empty() {
            return Err(EngineError::NoReason("to take a host over"));
        }
        let loaded = self.loaded().ok_or(EngineError::NoEstate)?;
        let described = loaded.estate.hosts.get(host).ok_or_else(|| EngineError::NoHost(host.clone()))?;
        if let Some(digest) = shown {
            no_more(&self.was_shown(digest)?, &self.would_take_over(host)?)?;
        }
        let about = format!("host {host}");
        self.ask(|reply| Msg::Audit { who: who.to_owned(), what: "take over", about, why: why.to_owned(), reply }).await?;
        self.hands.take_over(host, described).await.map_err(|why| EngineError::HostKept { host: host.clone(), why })
    }

    /// Holds every run and all reviving, or lets them go on (R36). `shown` is the digest of what lifting it was shown to do.
    pub async fn standstill(&self, on: bool, who: &str, shown: Option<&str>) -> Result<(), EngineError> {
        // Holding everything is never refused.
        let shown = shown.filter(|_| !on).map(|digest| self.was_shown(digest)).transpose()?;
        self.ask(|reply| Msg::Standstill { on, who: who.to_owned(), shown, reply }).await
    }

    /// Ends every process that this data folder's runs started, and awaits their ends: for a demo that
    /// cleans up after itself. No run does this; it goes past sequence and record.
    pub async fn end_all_started(&self) {
        // Where that cannot be stored there is nothing under way that it would hold.
        let _ = self.standstill(true, "the demo ends", None).await;
        self.hands.end_all().await;
    }
}
