//! What hosts have to do with a plan: their managers' terms, the ways to them, what else listens there, and what an
//! earlier run found up.

use std::collections::{BTreeMap, BTreeSet};

use yantro_core::{
    estate::Estate,
    name::{Address, HostName},
    procedure::{Does, Procedure},
    proof::SeenState,
    run::{Run, RunId},
    selection::AS_FOUND_BY,
    sequence::{For, Plan, StepKind},
};

use crate::{
    engine::{Engine, read},
    error::EngineError,
};

/// How many earlier runs are gone through for the last one of a procedure.
const GONE_THROUGH: u32 = 500;

impl Engine {
    /// Holds a plan against what its hosts say: their managers' terms (R38), the ways to them (R13), and, where hosts
    /// go down, what else would go with them (R37).
    pub(crate) async fn heed_hosts(&self, plan: &mut Plan, estate: &Estate, along: &BTreeSet<String>) {
        plan.heed_managers(estate, &self.hands.terms_of(plan, estate).await, along);
        let hosts = plan.hosts_acted_on();
        plan.heed_ways(&self.hands.hosts.ways(&estate.hosts, !hosts.is_empty()).await, estate);
        if hosts.is_empty() {
            return;
        }
        let downs = plan.sequence.steps.iter().filter_map(|s| s.service()).filter(|on| on.kind == StepKind::Stop);
        let downs: BTreeSet<HostName> = downs.filter(|on| on.address.is_host()).map(|on| on.address.host.clone()).collect();
        let asked = downs.into_iter().map(|host| async move {
            let survey = self.hands.hosts.survey(&host).await.ok()?;
            Some((host, survey))
        });
        let surveys: BTreeMap<HostName, _> = futures::future::join_all(asked).await.into_iter().flatten().collect();
        plan.remark_on_strangers(estate, &surveys);
    }

    /// Selections with what runs found up in the place of `as-found-by:` (R37).
    pub(crate) async fn as_found(&self, words: &[String]) -> Result<Vec<String>, EngineError> {
        let mut out = Vec::new();
        for word in words {
            match word.trim().strip_prefix(AS_FOUND_BY) {
                None => out.push(word.clone()),
                Some(of) => {
                    // Read from the store, away from the threads that serve.
                    let (engine, of) = (self.clone(), of.to_owned());
                    let found = tokio::task::spawn_blocking(move || engine.found_by(&of)).await;
                    out.extend(found.unwrap_or(Err(EngineError::Busy))?.iter().map(ToString::to_string));
                }
            }
        }
        Ok(out)
    }

    /// A procedure with the same put into its lines.
    pub(crate) async fn with_as_found(&self, procedure: &Procedure) -> Result<Procedure, EngineError> {
        let mut procedure = procedure.clone();
        for line in &mut procedure.lines {
            if let Does::Services { selection, .. } = &mut line.does {
                *selection = self.as_found(selection).await?;
            }
        }
        Ok(procedure)
    }

    /// What a run found up and took down.
    fn found_by(&self, of: &str) -> Result<BTreeSet<Address>, EngineError> {
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
