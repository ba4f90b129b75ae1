//! Beginning runs by what was shown.

use std::{collections::BTreeSet, sync::Arc, time::Duration};

use yantro_core::{
    model::ServiceRunner,
    plan::Plan,
    run::{AtLastMoment, Begun, Decision, Refusal, RunId, WindowTerms},
    words::name::{Address, did_you_mean},
};

use crate::{
    ask::requests::{BeginRequest, Doing},
    engine::{Engine, read},
    error::EngineError,
    loaded::Loaded,
    messages::Msg,
};

/// The longest identity that something is asked for under.
const LONGEST_IDENTITY: usize = 100;

impl Engine {
    // ---- changing ----

    /// Begins a run.
    pub async fn begin(&self, request: &BeginRequest, who: &str) -> Result<RunId, EngineError> {
        let (from_line, vouched_for) = match &request.does {
            Doing::Procedure { from_line, vouched_for, .. } => (from_line.filter(|l| *l > 1), vouched_for.clone()),
            Doing::Services { .. } | Doing::Act { .. } => (None, BTreeSet::new()),
        };
        if from_line.is_some() && !request.has_reason() {
            return Err(EngineError::NoReason("to vouch for the lines before"));
        }
        if let Some(run) = self.begun_already(request.asked_as.as_deref()).await? {
            return Ok(run);
        }
        let (plan, loaded) = self.plan_to_begin(request).await?;
        let begun = Begun { from_line, vouched_for, ..self.may_begin(plan, &loaded, request, who).await? };
        let asked_as = request.asked_as.clone();
        self.ask(|reply| Msg::Begin { begun: Box::new(begun), asked_as, reply }).await
    }

    /// The run that was begun under an identity, where one was: whoever asks twice is told twice.
    async fn begun_already(&self, asked_as: Option<&str>) -> Result<Option<RunId>, EngineError> {
        let Some(identity) = asked_as.map(str::to_owned) else { return Ok(None) };
        if identity.is_empty() || identity.len() > LONGEST_IDENTITY {
            return Err(EngineError::BadIdentity);
        }
        let engine = self.clone();
        let found = tokio::task::spawn_blocking(move || Ok::<_, EngineError>(engine.reader()?.asked_as(&identity)?)).await;
        found.unwrap_or(Err(EngineError::Busy))
    }

    /// How a run begins by a plan, where nothing stands in its way.
    async fn may_begin(&self, plan: Plan, loaded: &Arc<Loaded>, terms: &BeginRequest, who: &str) -> Result<Begun, EngineError> {
        if let Some(by) = read(&self.shared.standstill).clone() {
            return Err(EngineError::Standstill(by));
        }
        if !plan.can_begin() {
            return Err(EngineError::NotAsItIs(Box::new(plan)));
        }
        self.is_as_shown(&plan, loaded.edition, terms.shown.as_deref())?;
        let acted_on = plan.sequence.acted_on();
        if !terms.in_freeze.is_empty() && !terms.has_reason() {
            return Err(EngineError::NoReason("to begin inside a change freeze"));
        }
        let window = terms.window.as_deref().map(|name| self.window(loaded, name, terms.at_last_moment)).transpose()?;
        if let Some(stray) = terms.overrides.keys().find(|a| !acted_on.contains(*a)) {
            return Err(EngineError::StrayOverride(stray.clone()));
        }
        let is_unit = |a: &Address| loaded.estate.services.get(a).is_some_and(|s| matches!(s.runner, ServiceRunner::Systemd(_)));
        let of_unit = terms.overrides.iter().find(|(a, o)| is_unit(a) && (!o.env.is_empty() || o.args.is_some()));
        if let Some((address, _)) = of_unit {
            return Err(EngineError::UnitOverride(address.clone()));
        }
        let forecast = self.foretell(&plan, loaded, terms.at_once()).await?;
        let begun = Begun::of(plan, &loaded.estate, loaded.edition, who, &terms.overrides);
        Ok(Begun {
            forecast: Some(forecast),
            why: terms.why.clone(),
            change: terms.change.clone(),
            at_once: terms.at_once(),
            window,
            in_freeze: terms.in_freeze.clone(),
            held_at_most: terms.held_at_most.or(begun.held_at_most),
            ..begun
        })
    }

    /// The window of a name as it stands open now.
    pub(crate) fn window(&self, loaded: &Loaded, name: &str, at_last_moment: AtLastMoment) -> Result<WindowTerms, EngineError> {
        let names: Vec<&str> = loaded.estate.windows.keys().map(String::as_str).collect();
        let known = loaded.estate.windows.iter().find(|(n, _)| n.eq_ignore_ascii_case(name));
        let (_, window) =
            known.ok_or_else(|| EngineError::NoWindow { name: name.to_owned(), near: did_you_mean(name, names.iter().copied()) })?;
        let now = self.hands.clock.now();
        match window.hours.covering(now) {
            Some((_, ends_at)) => Ok(WindowTerms { title: window.title.clone(), ends_at, at_last_moment }),
            None => {
                let next = window.hours.next(now, Duration::from_secs(400 * 24 * 3600));
                let opens = next.map_or_else(|| "never again".to_owned(), |(from, _)| from.in_zone(&window.hours.zone));
                Err(EngineError::WindowShut { title: window.title.clone(), opens })
            }
        }
    }

    /// Goes on with a run that holds since things changed, by what was shown of it anew.
    pub(crate) async fn go_on_anew(&self, run: RunId, decision: Decision, shown: Option<&str>) -> Result<(), EngineError> {
        let Some(shown) = shown else { return Err(EngineError::Refused(Refusal::Changed { run: run.0 })) };
        let before = read(&self.shared.runs).get(&run).map(|r| r.begun.clone()).ok_or(EngineError::NoRun(run))?;
        let (plan, loaded) = self.anew(run).await?;
        if !plan.can_begin() {
            return Err(EngineError::NotAsItIs(Box::new(plan)));
        }
        self.is_as_shown(&plan, loaded.edition, Some(shown))?;
        let forecast = self.foretell(&plan, &loaded, before.at_once).await?;
        let begun = Begun {
            why: before.why,
            change: before.change,
            at_once: before.at_once,
            window: before.window,
            in_freeze: before.in_freeze,
            held_at_most: before.held_at_most,
            from_line: before.from_line,
            vouched_for: before.vouched_for,
            forecast: Some(forecast),
            ..Begun::of(plan, &loaded.estate, loaded.edition, &before.who, &before.overrides)
        };
        self.ask(|reply| Msg::Replan { run, begun: Box::new(begun), decision, reply }).await
    }
}
