//! Rehearsals and forecasts: what a plan comes to, played and looked at, with nothing touched.

use std::{
    collections::VecDeque,
    hash::{DefaultHasher, Hash, Hasher},
    sync::{Arc, PoisonError},
    time::Instant,
};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use yantro_core::{
    model::Estate,
    plan::{
        Plan, Release, Shown, Step, StepCommand, StepId, command_of,
        forecast::plays::{Forecast, Limits, Standing, play, play_all},
        sheet,
    },
    proof::Facts,
    rehearsal::{WhatIf, what_if},
    run::{Run, RunId, StepState},
    words::time::Timestamp,
};

use crate::{
    ask::requests::BeginRequest,
    engine::{Engine, read},
    error::EngineError,
    loaded::Loaded,
    told::forecast::{KeptForecast, RunForecast, SlowStep, WindowView},
    told::view::PreflightView,
};

/// A plan rehearsed: with its forecast, the looks before the first act taken, and what each step would do.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
pub struct Rehearsal {
    /// The plan.
    pub plan: Plan,
    /// The digest of what is agreed to by beginning it; none where nothing can be begun by it.
    #[serde(default)]
    pub digest: String,
    /// Whether it could be begun now.
    pub can_begin: bool,
    /// What would refuse it, in sentences.
    pub refused: Vec<String>,
    /// How long it takes.
    pub forecast: Forecast,
    /// The window that it must fit, and how likely it does.
    pub window: Option<WindowView>,
    /// The looks before the first act, taken now.
    pub preflight: Vec<PreflightView>,
    /// What each step would do, exactly.
    pub commands: Vec<StepCommand>,
    /// The same on paper.
    pub sheet: String,
    /// What if one step failed, by rule; where that was asked.
    pub what_if: Vec<WhatIf>,
}

impl Engine {
    /// Rehearses what is asked for; `fails` is a step to play as failing.
    pub async fn rehearse(&self, request: &BeginRequest, fails: Option<StepId>) -> Result<Rehearsal, EngineError> {
        let (plan, loaded) = self.plan(request).await?;
        let (at_once, window) = (request.at_once(), request.window.as_deref());
        if let Some(step) = fails.filter(|s| s.0 == 0 || s.0 as usize > plan.sequence.steps.len()) {
            return Err(EngineError::NoStep { step, steps: plan.sequence.steps.len() });
        }
        let answers = self.hands.preflight(plan.preflight.clone()).await;
        let preflight: Vec<PreflightView> = answers.into_iter().map(PreflightView::from).collect();
        let mut refused: Vec<String> = plan.obstacles.iter().map(|o| o.why.clone()).collect();
        refused.extend(self.locked_by_others(&plan));
        refused.extend(preflight.iter().filter(|p| !p.holds()).map(|p| format!("{}: {}", p.says, p.answer.says)));
        let facts: Facts = loaded.estate.services.keys().filter_map(|a| Some((a.clone(), self.hands.watched(a)?.seen.state))).collect();
        let now = self.hands.clock.now();
        let window = match window.map(|name| self.window(&loaded, name, Default::default())) {
            Some(Ok(window)) => Some(window),
            Some(Err(error)) => {
                refused.push(format!("{error}; {}", error.hint()));
                None
            }
            None => None,
        };
        let digest = self.shows(Shown::of(&plan, loaded.edition));
        let filled = self.with_found(&loaded).await;
        let mut rehearsal = rehearse(plan, &filled.estate, loaded.edition, &facts, at_once, fails, refused, preflight, now);
        rehearsal.digest = digest;
        rehearsal.window = window.map(|w| WindowView {
            chance: rehearsal.forecast.chance_by(w.ends_at.since(now).as_millis() as u64),
            title: w.title,
            ends_at: w.ends_at,
        });
        Ok(rehearsal)
    }

    /// Who holds services that a plan would act on, in sentences.
    fn locked_by_others(&self, plan: &Plan) -> Vec<String> {
        let acted_on = plan.sequence.acted_on();
        let runs = read(&self.shared.runs);
        let open = runs.values().filter(|r| r.has_locks());
        open.filter_map(|run| {
            let meets = run.answerable().find(|a| acted_on.contains(*a))?;
            Some(format!("run {} ({}, {}) has {meets}: this would wait behind it", run.id, crate::told::view::title_of(run), run.begun.who))
        })
        .collect()
    }

    /// How long steps of which none has begun take. For threads that may block. What was played for somebody who was shown a plan
    /// is not played again for its begin: ten thousand services take seconds.
    pub fn foretold(&self, steps: &[Step], loaded: &Loaded, at_once: Option<u32>) -> Forecast {
        let played = key_of(steps, loaded.edition, at_once);
        let known = |all: &VecDeque<(u64, Arc<Forecast>)>| all.iter().find(|(key, _)| *key == played).map(|(_, f)| Arc::clone(f));
        if let Some(forecast) = known(&self.shared.foretold.lock().unwrap_or_else(PoisonError::into_inner)) {
            return (*forecast).clone();
        }
        let forecast = Arc::new(play_all(steps, &loaded.estate, at_once));
        let mut all = self.shared.foretold.lock().unwrap_or_else(PoisonError::into_inner);
        all.push_back((played, Arc::clone(&forecast)));
        while all.len() > FORETOLD_KEPT {
            all.pop_front();
        }
        (*forecast).clone()
    }

    /// The same, away from the threads that serve.
    pub(crate) async fn foretell(&self, plan: &Plan, loaded: &Arc<Loaded>, at_once: Option<u32>) -> Result<Forecast, EngineError> {
        let (engine, loaded, steps) = (self.clone(), Arc::clone(loaded), plan.sequence.steps.clone());
        tokio::task::spawn_blocking(move || engine.foretold(&steps, &loaded, at_once)).await.map_err(|_| EngineError::Busy)
    }

    /// How a run is forecast to go on. For threads that may block.
    ///
    /// A large run is not played for each of many who ask: they are told the same, and for a while again.
    pub fn forecast(&self, id: RunId) -> Result<Arc<RunForecast>, EngineError> {
        let mut kept = self.shared.forecasts.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(known) = kept.get(&id).filter(|k| k.made.elapsed() < k.took * FOR_TIMES) {
            return Ok(Arc::clone(&known.forecast));
        }
        let began = Instant::now();
        let forecast = Arc::new(self.forecast_now(id)?);
        kept.retain(|_, k| k.made.elapsed() < k.took * FOR_TIMES);
        kept.insert(id, KeptForecast { made: Instant::now(), took: began.elapsed(), forecast: Arc::clone(&forecast) });
        Ok(forecast)
    }

    fn forecast_now(&self, id: RunId) -> Result<RunForecast, EngineError> {
        let loaded = self.loaded().ok_or(EngineError::NoEstate)?;
        let now = self.hands.clock.now();
        let ask = |run: &Run| Asked::of(run, &loaded.estate, now);
        // What is played is copied, not the run: others wait for that.
        let known = read(&self.shared.runs).get(&id).map(ask);
        let Asked { steps, standing, limits, mut forecast } = match known {
            Some(asked) => asked,
            None => {
                let events = self.reader()?.events_of(id)?;
                ask(&Run::replay(id, events.into_iter().map(|e| (e.at, e.event))).ok_or(EngineError::NoRun(id))?)
            }
        };
        forecast.now = play(&steps, &limits, &standing);
        if let Some(window) = &mut forecast.window {
            window.chance = forecast.now.chance_by(window.ends_at.since(now).as_millis() as u64);
        }
        Ok(forecast)
    }
}

/// So many forecasts of plans are kept, for whoever begins what was shown.
const FORETOLD_KEPT: usize = 8;

/// What a forecast of a plan hangs on, in one number.
fn key_of(steps: &[Step], edition: u64, at_once: Option<u32>) -> u64 {
    let mut hasher = DefaultHasher::new();
    (edition, at_once, steps.len()).hash(&mut hasher);
    for step in steps {
        (step.id.0, step.usual_ms, step.slow_ms, step.kind().word(), step.row()).hash(&mut hasher);
        step.waits.iter().for_each(|w| (w.step.0, w.release == Release::WhenGood).hash(&mut hasher));
    }
    hasher.finish()
}

/// A forecast holds for so many times as long as it took to work out.
const FOR_TIMES: u32 = 9;

/// What a run is forecast from, and all of the forecast but the plays.
struct Asked {
    steps: Vec<Step>,
    standing: Vec<Standing>,
    limits: Limits,
    forecast: RunForecast,
}

impl Asked {
    fn of(run: &Run, estate: &Estate, now: Timestamp) -> Self {
        let steps = &run.begun.sequence.steps;
        let standing: Vec<Standing> = run
            .steps()
            .map(|(_, n)| match (&n.state, n.began_at) {
                (state, _) if state.has_ended() => Standing::Ended(n.ended_at.map_or(0, |at| now.since(at).as_millis() as u64)),
                (StepState::Waiting, _) | (_, None) => Standing::Waits,
                (_, Some(at)) => Standing::GoesOn(now.since(at).as_millis() as u64),
            })
            .collect();
        let slow = run.steps().zip(&standing).filter_map(|((step, state), standing)| match standing {
            Standing::GoesOn(ms) if *ms > step.slow_ms.max(1_000) && step.usual_ms > 0 && !state.state.awaits_decision() => {
                let times = *ms as f64 / step.usual_ms as f64;
                let says = format!("{} takes {times:.1} times as long as usual", step.says());
                Some(SlowStep { step: step.id, so_far_ms: *ms, usual_ms: step.usual_ms, says })
            }
            _ => None,
        });
        let forecast = RunForecast {
            as_of: now,
            now: Forecast::default(),
            begun_by: run.begun.forecast.clone(),
            window: run.begun.window.as_ref().map(|w| WindowView { title: w.title.clone(), ends_at: w.ends_at, chance: 0 }),
            last_moment: run.last_moment().filter(|_| !run.has_ended()),
            way_back_ms: if run.has_ended() { 0 } else { run.way_back_ms() },
            slow: slow.collect(),
        };
        Self { limits: Limits::new(estate, steps, run.begun.at_once), steps: steps.clone(), standing, forecast }
    }
}

/// Puts a rehearsal together, from a plan and facts; it looks at nothing.
#[allow(clippy::too_many_arguments, reason = "the parts of a rehearsal, put together once")]
pub fn rehearse(
    plan: Plan,
    estate: &Estate,
    edition: u64,
    facts: &Facts,
    at_once: Option<u32>,
    fails: Option<StepId>,
    refused: Vec<String>,
    preflight: Vec<PreflightView>,
    now: Timestamp,
) -> Rehearsal {
    let graph = yantro_core::graph::EstateGraph::new(estate);
    Rehearsal {
        digest: String::new(),
        can_begin: plan.can_begin() && refused.is_empty(),
        forecast: play_all(&plan.sequence.steps, estate, at_once),
        commands: plan.sequence.steps.iter().map(|s| command_of(s, estate, &plan)).collect(),
        sheet: sheet(&plan, estate, edition, now),
        what_if: fails.map(|step| what_if(estate, &graph, facts, &plan, edition, step)).unwrap_or_default(),
        refused,
        window: None,
        preflight,
        plan,
    }
}
