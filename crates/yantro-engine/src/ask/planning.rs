//! Working out what a request comes to, from a fresh look.

use std::{
    collections::{BTreeMap, BTreeSet},
    sync::Arc,
    time::Duration,
};

use yantro_core::{
    estate::{Estate, vet_with},
    guards::again,
    name::{ProcedureName, did_you_mean},
    overrides::Overrides,
    procedure::{self, Asked, Does, Line, Procedure},
    proof::Facts,
    run::RunId,
    selection,
    sequence::{Plan, Request, Settings, Usual, plan, preflight},
};

use crate::{
    ask::requests::{ActRequest, BeginRequest, ProcedureRequest},
    engine::{Engine, read},
    error::EngineError,
    loaded::Loaded,
};

impl Engine {
    /// How long steps usually take. Reads the store, away from the threads that serve.
    pub(crate) async fn usual(&self, estate: &Estate) -> Usual {
        let engine = self.clone();
        let known = tokio::task::spawn_blocking(move || engine.times()).await;
        // The blocking pool only fails to answer when the runtime goes down.
        Usual::new(known.unwrap_or_default(), estate)
    }

    /// How long steps took. For threads that may block.
    pub(crate) fn times(&self) -> Vec<(String, String, Vec<Duration>)> {
        match self.reader().and_then(|r| Ok(r.times()?)) {
            Ok(known) => known,
            Err(error) => {
                tracing::warn!(%error, "no history to forecast from");
                Vec::new()
            }
        }
    }

    /// Works out what a request comes to, from a fresh look.
    pub async fn plan(&self, request: &BeginRequest) -> Result<(Plan, Arc<Loaded>), EngineError> {
        let loaded = as_one_run_sees_it(self.estate_loaded()?, &request.overrides)?;
        let selection = self.as_found(&request.selection).await?;
        let chosen = selection::resolve(&loaded.estate, &loaded.graph, &selection, &request.except)?;
        let seen = self.hands.look(loaded.estate.services.values().cloned().collect()).await;
        let facts: Facts = seen.into_iter().collect();
        let asked = Request {
            wish: request.wish,
            chosen,
            alone: request.alone,
            left_standing: request.left_standing.clone(),
            below_keep_up: request.below_keep_up.clone(),
        };
        let mut plan = plan(&loaded.estate, &loaded.graph, &facts, &self.usual(&loaded.estate).await, &asked);
        plan.prefer(request.prefer, &loaded.estate);
        plan.preflight = preflight(&loaded.estate, &plan.sequence.steps);
        plan.heed_freezes(&loaded.estate, self.hands.clock.now(), &request.in_freeze);
        self.heed_hosts(&mut plan, &loaded.estate, &request.along).await;
        Ok((plan, loaded))
    }

    /// Works out what a procedure comes to, from a fresh look.
    pub async fn plan_procedure(&self, name: &ProcedureName, request: &ProcedureRequest) -> Result<(Plan, Arc<Loaded>), EngineError> {
        let loaded = as_one_run_sees_it(self.estate_loaded()?, &request.overrides)?;
        let procedure = loaded.estate.procedures.get(name).ok_or_else(|| EngineError::NoProcedure {
            name: name.to_string(),
            near: did_you_mean(name.as_str(), loaded.estate.procedures.keys().map(ProcedureName::as_str)),
        })?;
        let procedure = self.with_as_found(procedure).await?;
        self.plan_lines(&procedure, request, loaded).await
    }

    /// Works out what a further act of services comes to: a procedure of one line that nobody wrote.
    pub async fn plan_act(&self, request: &ActRequest) -> Result<(Plan, Arc<Loaded>), EngineError> {
        let loaded = self.estate_loaded()?;
        let act = request.act.to_ascii_lowercase();
        let name = act.parse().map_err(|_| EngineError::NoAct(request.act.clone()))?;
        // That each name means something is told as of any selection.
        selection::resolve(&loaded.estate, &loaded.graph, &request.of, &[])?;
        let line = Line {
            name: None,
            does: Does::Act { act: act.clone(), of: request.of.clone() },
            alongside: false,
            preflight: false,
            settings: Settings::default(),
        };
        let procedure = Procedure {
            name,
            title: format!("{act} {}", request.of.join(", ")),
            purpose: None,
            questions: BTreeMap::new(),
            if_it_fails: None,
            held_at_most: None,
            lines: vec![line],
            dir: loaded.folder.clone(),
        };
        self.plan_lines(&procedure, &ProcedureRequest::default(), loaded).await
    }

    async fn plan_lines(
        &self,
        procedure: &Procedure,
        request: &ProcedureRequest,
        loaded: Arc<Loaded>,
    ) -> Result<(Plan, Arc<Loaded>), EngineError> {
        let values = procedure::settle(&loaded.estate, &loaded.graph, procedure, &request.answers).map_err(EngineError::Answers)?;
        if let Some(from) = request.from_line
            && (from == 0 || from as usize > procedure.lines.len())
        {
            return Err(EngineError::NoLine { line: from, lines: procedure.lines.len() });
        }
        let seen = self.hands.look(loaded.estate.services.values().cloned().collect()).await;
        let facts: Facts = seen.into_iter().collect();
        let asked = Asked {
            values,
            left_standing: request.left_standing.clone(),
            below_keep_up: request.below_keep_up.clone(),
            from_line: request.from_line.filter(|l| *l > 1),
            vouched_for: request.vouched_for.clone(),
            ..Asked::default()
        };
        let mut plan = procedure::plan(&loaded.estate, &loaded.graph, &facts, &self.usual(&loaded.estate).await, procedure, &asked);
        plan.prefer(request.prefer, &loaded.estate);
        plan.heed_freezes(&loaded.estate, self.hands.clock.now(), &request.in_freeze);
        self.heed_hosts(&mut plan, &loaded.estate, &request.along).await;
        Ok((plan, loaded))
    }

    /// What a run that holds since things changed would do now (R8): its plan worked out anew, from a fresh look and by the
    /// newest edition.
    pub async fn anew(&self, run: RunId) -> Result<(Plan, Arc<Loaded>), EngineError> {
        let begun = read(&self.shared.runs).get(&run).map(|r| r.begun.clone()).ok_or(EngineError::NoRun(run))?;
        let loaded = as_one_run_sees_it(self.estate_loaded()?, &begun.overrides)?;
        let seen = self.hands.look(loaded.estate.services.values().cloned().collect()).await;
        let facts: Facts = seen.into_iter().collect();
        let usual = self.usual(&loaded.estate).await;
        let mut plan = again(&loaded.newest(), &begun, &facts, &usual).ok_or_else(|| EngineError::NoProcedure {
            name: begun.sequence.of.word().to_owned(),
            near: "it is no longer in the estate: give this run up".to_owned(),
        })?;
        plan.heed_freezes(&loaded.estate, self.hands.clock.now(), &begun.in_freeze);
        self.heed_hosts(&mut plan, &loaded.estate, &BTreeSet::new()).await;
        Ok((plan, loaded))
    }
}

/// The estate with the settings in it that are written for one run.
fn as_one_run_sees_it(loaded: Arc<Loaded>, overrides: &Overrides) -> Result<Arc<Loaded>, EngineError> {
    let mut over = BTreeMap::new();
    for (address, one) in overrides.iter().filter(|(_, o)| o.written.is_some()) {
        if !loaded.estate.services.contains_key(address) {
            return Err(EngineError::StrayOverride(address.clone()));
        }
        over.insert(address.clone(), one.settings().map_err(|faults| EngineError::BadOverride { address: address.clone(), faults })?);
    }
    let Some(first) = over.keys().next().cloned() else { return Ok(loaded) };
    let vetted = vet_with(&loaded.text, &loaded.folder, &over);
    match vetted.estate {
        Some(estate) => Ok(Arc::new(Loaded::new(loaded.edition, loaded.text.clone(), loaded.folder.clone(), estate))),
        None => Err(EngineError::BadOverride { address: first, faults: vetted.faults }),
    }
}
