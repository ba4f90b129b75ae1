//! What a plan is held against: freezes, managers' terms, the ways to hosts, who else acts there, what else listens there; and what
//! an earlier run found up.

use std::{
    collections::{BTreeMap, BTreeSet},
    sync::Arc,
};

use yantro_core::{
    guards::Around,
    model::{
        Estate,
        procedure::{FoundBy, Procedure},
    },
    plan::{For, Plan},
    proof::SeenState,
    run::{Run, RunId},
    selection::AS_FOUND_BY,
    words::{
        kinds::StepKind,
        name::{Address, HostName},
    },
};

use crate::{
    engine::{Engine, read},
    error::EngineError,
    loaded::Loaded,
};

/// How many earlier runs are gone through for the last one of a procedure.
const GONE_THROUGH: u32 = 500;

impl Engine {
    /// Holds a plan against everything that may refuse it, as all that stands now.
    pub(crate) async fn guard(&self, plan: &mut Plan, estate: &Estate, in_freeze: &BTreeSet<String>) {
        let hosts = plan.hosts_acted_on();
        let downs = plan.sequence.steps.iter().filter_map(|s| s.service()).filter(|on| on.kind == StepKind::Stop);
        let downs: BTreeSet<HostName> = downs.filter(|on| on.address.is_host()).map(|on| on.address.host.clone()).collect();
        let surveyed = downs.into_iter().map(|host| async move {
            let survey = self.hands.hosts.survey(&host).await.ok()?;
            Some((host, survey))
        });
        let (terms, ways, kept, surveys) = futures::join!(
            self.hands.terms_of(plan, estate),
            self.hands.hosts.ways(&estate.hosts, !hosts.is_empty()),
            self.kept_by_others(plan, estate),
            futures::future::join_all(surveyed)
        );
        let surveys = surveys.into_iter().flatten().collect();
        let (now, standstill) = (self.hands.clock.now(), read(&self.shared.standstill).clone());
        plan.guard(&Around { estate, now, standstill, in_freeze, terms, ways, kept, surveys });
    }

    /// The hosts of a plan that are not this server's to act on. Asked now: another server may have come to act there since the
    /// last round.
    async fn kept_by_others(&self, plan: &Plan, estate: &Estate) -> BTreeMap<HostName, String> {
        let hosts = plan.hosts_worked_on();
        let described = hosts.iter().filter_map(|h| Some((h.clone(), estate.hosts.get(h)?.clone())));
        self.hands.ask_keepers(&described.collect()).await;
        hosts.into_iter().filter_map(|h| Some((h.clone(), self.hands.kept(&h)?))).collect()
    }

    /// What runs found up, by the words of a selection that ask for it (R37).
    pub(crate) async fn found_by(&self, words: &[String]) -> Result<FoundBy, EngineError> {
        let mut found_by = FoundBy::new();
        for word in words.iter().map(|w| w.trim()) {
            let Some(of) = word.strip_prefix(AS_FOUND_BY) else { continue };
            // Read from the store, away from the threads that serve.
            let (engine, of) = (self.clone(), of.to_owned());
            let found = tokio::task::spawn_blocking(move || engine.found_up(&of)).await;
            found_by.insert(word.to_owned(), found.unwrap_or(Err(EngineError::Busy))?);
        }
        Ok(found_by)
    }

    /// The same of a procedure's lines.
    pub(crate) async fn found_by_of(&self, procedure: &Procedure) -> Result<FoundBy, EngineError> {
        self.found_by(&procedure.found_words()).await
    }

    /// An estate in whose procedures what runs found up stands, where it is known: for what is worked out from it later.
    pub(crate) async fn with_found(&self, estate: &Arc<Loaded>) -> Arc<Loaded> {
        let asking: Vec<&Procedure> = estate.estate.procedures.values().filter(|p| !p.found_words().is_empty()).collect();
        let mut filled = Vec::new();
        for procedure in asking {
            if let Ok(found_by) = self.found_by_of(procedure).await {
                filled.push(procedure.clone().with_found(&found_by));
            }
        }
        if filled.is_empty() {
            return Arc::clone(estate);
        }
        let mut known = estate.estate.clone();
        known.procedures.extend(filled.into_iter().map(|p| (p.name.clone(), p)));
        Arc::new(Loaded::new(estate.edition, estate.text.clone(), estate.folder.clone(), known))
    }

    /// What a run found up and took down.
    fn found_up(&self, of: &str) -> Result<BTreeSet<Address>, EngineError> {
        let run = match of.parse::<u64>() {
            Ok(id) => self.whole_run(RunId(id))?,
            Err(_) => self.last_run_of(of)?,
        };
        let down = run.steps().filter_map(|(s, n)| s.service().filter(|on| on.kind == StepKind::Stop && n.began_at.is_some()));
        let up = |a: &&Address| matches!(run.begun.as_found.get(*a), Some(SeenState::Proven | SeenState::Ailing | SeenState::Rising));
        let found: BTreeSet<Address> = down.map(|on| &on.address).filter(up).cloned().collect();
        let known = self.loaded().map(|l| found.iter().filter(|a| l.estate.services.contains_key(*a)).cloned().collect());
        let known: BTreeSet<Address> = known.unwrap_or_default();
        if known.is_empty() {
            return Err(EngineError::AsFound(format!(
                "run {} took nothing down that it had found up and that is still in the estate",
                run.id
            )));
        }
        Ok(known)
    }

    fn last_run_of(&self, name: &str) -> Result<Run, EngineError> {
        let none = || EngineError::AsFound(format!("no run of procedure \"{name}\" has ended, of which anything could be brought back"));
        let rows = self.reader()?.runs(None, GONE_THROUGH)?;
        for row in rows.into_iter().filter(|r| r.ended_at.is_some()) {
            let run = self.whole_run(row.id)?;
            let is_of = matches!(&run.begun.sequence.of, For::Procedure { procedure, .. } if procedure.as_str().eq_ignore_ascii_case(name));
            if is_of && run.acts_given() > 0 {
                return Ok(run);
            }
        }
        Err(none())
    }

    fn whole_run(&self, id: RunId) -> Result<Run, EngineError> {
        if let Some(run) = read(&self.shared.runs).get(&id) {
            return Ok(run.clone());
        }
        let events = self.reader()?.events_of(id)?;
        Run::replay(id, events.into_iter().map(|e| (e.at, e.event))).ok_or(EngineError::NoRun(id))
    }
}
