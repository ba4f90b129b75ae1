//! Working out what a request comes to, from a fresh look.

use std::{collections::BTreeMap, sync::Arc, time::Duration};

use yantro_core::{
    guards::again,
    model::{
        Estate,
        procedure::{Procedure, filled_with_found},
    },
    overrides::Overrides,
    plan::{
        Plan, Preflight, Request,
        forecast::Usual,
        plan, preflight,
        procedure::{self, Asked},
    },
    proof::{Facts, Verdict},
    run::RunId,
    selection,
    text::vet_with,
    words::{
        name::{ProcedureName, did_you_mean},
        time::Timestamp,
    },
};

use crate::{
    ask::requests::{BeginRequest, Doing},
    engine::{Engine, read},
    error::EngineError,
    loaded::Loaded,
};

/// How long a reader of a plan waits for what its preflight would find.
const SHOWN_WITHIN: Duration = Duration::from_secs(3);
/// A look for a plan is good for the begin of that plan for so long.
const A_MOMENT: Duration = Duration::from_secs(1);

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
        self.plan_by(request, self.hands.clock.now()).await
    }

    /// The same for its begin: what was looked at a moment ago, for whoever was shown the plan, is not looked at again, since the run
    /// looks at all of it first of all, and holds where something is otherwise (R8).
    pub(crate) async fn plan_to_begin(&self, request: &BeginRequest) -> Result<(Plan, Arc<Loaded>), EngineError> {
        self.plan_by(request, self.hands.clock.now() - A_MOMENT).await
    }

    /// Works out what a request comes to, from looks that began no sooner than `looked_since`.
    async fn plan_by(&self, request: &BeginRequest, looked_since: Timestamp) -> Result<(Plan, Arc<Loaded>), EngineError> {
        let loaded = as_one_run_sees_it(self.estate_loaded()?, &request.overrides)?;
        let mut plan = match &request.does {
            Doing::Services { wish, of, except, alone } => {
                let selection = filled_with_found(of, &self.found_by(of).await?);
                let chosen = selection::resolve(&loaded.estate, &loaded.graph, &selection, except)?;
                let asked = Request {
                    wish: *wish,
                    chosen,
                    alone: *alone,
                    left_standing: request.left_standing.clone(),
                    below_keep_up: request.below_keep_up.clone(),
                };
                let (facts, usual) = (self.facts(&loaded, looked_since).await, self.usual(&loaded.estate).await);
                let mut plan = plan(&loaded.estate, &loaded.graph, &facts, &usual, &asked);
                plan.preflight = preflight(&loaded.estate, &plan.sequence.steps);
                plan
            }
            Doing::Procedure { name, answers, from_line, vouched_for } => {
                let procedure = procedure_of(&loaded.estate, name)?.clone();
                let found_by = self.found_by_of(&procedure).await?;
                let procedure = procedure.with_found(&found_by);
                let asked = Asked { from_line: *from_line, vouched_for: vouched_for.clone(), found_by, ..Asked::default() };
                self.plan_lines(&procedure, request, answers, asked, &loaded, looked_since).await?
            }
            Doing::Act { act, of } => {
                let procedure = of_one_act(&loaded, act, of)?;
                let asked = Asked { by_itself: true, ..Asked::default() };
                self.plan_lines(&procedure, request, &BTreeMap::new(), asked, &loaded, looked_since).await?
            }
        };
        plan.prefer(request.prefer, &loaded.estate);
        plan.asked_with.along.clone_from(&request.along);
        self.guard(&mut plan, &loaded.estate, &request.in_freeze).await;
        Ok((plan, loaded))
    }

    /// Works out what a request comes to for somebody who reads it: with what its preflight would find now.
    pub async fn plan_to_show(&self, request: &BeginRequest) -> Result<(Plan, Arc<Loaded>), EngineError> {
        let (mut plan, loaded) = self.plan(request).await?;
        self.look_before(&mut plan).await;
        Ok((plan, loaded))
    }

    /// Takes the looks of a preflight that go without saying, and says of each that would refuse the run what is in its way. It is
    /// looked again before the first act; what was asked for in so many words may take long, and is looked at then.
    async fn look_before(&self, plan: &mut Plan) {
        let obvious: Vec<Preflight> = plan.preflight.iter().filter(|l| l.line.is_none()).cloned().collect();
        match tokio::time::timeout(SHOWN_WITHIN, self.hands.preflight(obvious)).await {
            Ok(answers) => {
                let against = answers.into_iter().filter(|(_, answer)| answer.verdict != Verdict::Holds);
                plan.refused_now.extend(against.map(|(look, answer)| {
                    let word = if answer.verdict == Verdict::CouldNotLook { "cannot be said" } else { "not so" };
                    format!("{} – {word}: {}", look.says, answer.says)
                }));
            }
            Err(_) => {
                plan.remarks.push("what its preflight looks at did not answer in time; it is looked at before the first act".to_owned())
            }
        }
    }

    /// How everything stands, by looks that began no sooner than then.
    async fn facts(&self, loaded: &Loaded, looked_since: Timestamp) -> Facts {
        let all = loaded.estate.services.values().cloned().collect();
        self.hands.look_unless_since(all, looked_since).await.into_iter().collect()
    }

    async fn plan_lines(
        &self,
        procedure: &Procedure,
        request: &BeginRequest,
        answers: &BTreeMap<String, String>,
        asked: Asked,
        loaded: &Loaded,
        looked_since: Timestamp,
    ) -> Result<Plan, EngineError> {
        let values = procedure::settle(&loaded.estate, &loaded.graph, procedure, answers).map_err(EngineError::Answers)?;
        if let Some(from) = asked.from_line
            && (from == 0 || from as usize > procedure.lines.len())
        {
            return Err(EngineError::NoLine { line: from, lines: procedure.lines.len() });
        }
        let asked = Asked {
            values,
            left_standing: request.left_standing.clone(),
            below_keep_up: request.below_keep_up.clone(),
            from_line: asked.from_line.filter(|l| *l > 1),
            ..asked
        };
        let (facts, usual) = (self.facts(loaded, looked_since).await, self.usual(&loaded.estate).await);
        Ok(procedure::plan(&loaded.estate, &loaded.graph, &facts, &usual, procedure, &asked))
    }

    /// What a run that holds since things changed would do now (R8): its plan worked out anew, from a fresh look and by the
    /// newest edition.
    pub async fn anew(&self, run: RunId) -> Result<(Plan, Arc<Loaded>), EngineError> {
        let begun = read(&self.shared.runs).get(&run).map(|r| r.begun.clone()).ok_or(EngineError::NoRun(run))?;
        let loaded = as_one_run_sees_it(self.estate_loaded()?, &begun.overrides)?;
        let (facts, usual) = (self.facts(&loaded, self.hands.clock.now()).await, self.usual(&loaded.estate).await);
        let mut plan = again(&loaded.newest(), &begun, &facts, &usual).ok_or_else(|| EngineError::NoProcedure {
            name: begun.sequence.of.word().to_owned(),
            near: "it is no longer in the estate: give this run up".to_owned(),
        })?;
        self.guard(&mut plan, &loaded.estate, &begun.in_freeze).await;
        Ok((plan, loaded))
    }
}

/// The procedure of a name as it was typed.
fn procedure_of<'e>(estate: &'e Estate, name: &str) -> Result<&'e Procedure, EngineError> {
    let known = name.parse::<ProcedureName>().ok().and_then(|n| estate.procedures.get(&n));
    known.ok_or_else(|| EngineError::NoProcedure {
        name: name.to_owned(),
        near: did_you_mean(name, estate.procedures.keys().map(ProcedureName::as_str)),
    })
}

/// A further act of services: a procedure of one line that nobody wrote.
fn of_one_act(loaded: &Loaded, act: &str, of: &[String]) -> Result<Procedure, EngineError> {
    let name = act.to_ascii_lowercase().parse().map_err(|_| EngineError::NoAct(act.to_owned()))?;
    let act = act.to_ascii_lowercase();
    // That each name means something is told as of any selection.
    selection::resolve(&loaded.estate, &loaded.graph, of, &[])?;
    Ok(Procedure::of_one_act(name, &act, of))
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
