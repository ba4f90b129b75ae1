//! What takes over from a run: another procedure, worked out from a fresh look (R32).

use yantro_core::{
    proof::{Facts, Verdict},
    run::{Divert, RunId, plan_divert},
    words::name::ProcedureName,
};

use crate::engine::{Engine, read};

impl Engine {
    /// Works out the procedure that takes over, from a fresh look (R32).
    pub(crate) async fn divert_from_now(&self, id: RunId, name: &ProcedureName, known: [&str; 2]) -> Result<Divert, String> {
        let loaded = self.with_found(&self.loaded().ok_or("no estate is loaded")?).await;
        let facts: Facts = self.hands.look(loaded.estate.services.values().cloned().collect()).await.into_iter().collect();
        let (after, in_freeze, along) = read(&self.shared.runs).get(&id).map_or_else(Default::default, |r| {
            (r.begun.sequence.steps.len() as u32, r.begun.in_freeze.clone(), r.begun.asked_with.along.clone())
        });
        let usual = self.usual(&loaded.estate).await;
        let divert = plan_divert(&loaded.estate, &loaded.graph, &facts, &usual, name, known, after)?;
        // What a begin is asked, a divert is asked too, the looks before with it.
        let mut plan = divert.as_plan(name, &loaded.estate);
        plan.asked_with.along = along;
        self.guard(&mut plan, &loaded.estate, &in_freeze).await;
        if !plan.can_begin() {
            return Err(plan.refusals().join("; "));
        }
        let answers = self.hands.preflight(divert.preflight.clone()).await;
        let against: Vec<String> = answers
            .iter()
            .filter(|(_, a)| a.verdict != Verdict::Holds)
            .map(|(look, answer)| format!("{}: {}", look.says, answer.says))
            .collect();
        if against.is_empty() { Ok(divert) } else { Err(against.join("; ")) }
    }
}
