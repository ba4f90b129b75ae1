//! What takes over when a step fails: another procedure, with what it may know (R32).

use std::collections::{BTreeMap, BTreeSet};

use crate::{
    graph::EstateGraph,
    model::Estate,
    plan::{
        AskedWith, For, Part, Plan, Sequence,
        forecast::Usual,
        procedure::{self, Asked},
    },
    proof::Facts,
    run::{Divert, answerable, beside},
    words::name::{ProcedureName, did_you_mean},
};

/// Works out the procedure that takes over from the facts; an error says why it cannot. `failed` and `reason` answer
/// its questions of these names, on one line; `after` is the number of the run's last step.
pub fn plan_divert(
    estate: &Estate,
    graph: &EstateGraph,
    facts: &Facts,
    usual: &Usual,
    name: &ProcedureName,
    [failed, reason]: [&str; 2],
    after: u32,
) -> Result<Divert, String> {
    let procedure = estate.procedures.get(name).ok_or_else(|| {
        let near = did_you_mean(name.as_str(), estate.procedures.keys().map(ProcedureName::as_str));
        format!("there is no procedure {name} in the estate any longer; {near}")
    })?;
    let one_line = |text: &str| text.chars().map(|c| if c.is_control() { ' ' } else { c }).collect::<String>();
    let known = [("failed", failed), ("reason", reason)].into_iter().filter(|(n, _)| procedure.questions.contains_key(*n));
    let given: BTreeMap<String, String> = known.map(|(n, v)| (n.to_owned(), one_line(v))).collect();
    let values = procedure::settle(estate, graph, procedure, &given)
        .map_err(|faults| faults.into_iter().map(|f| f.why).collect::<Vec<_>>().join("; "))?;
    let asked = Asked { values: values.clone(), part: Part::Divert, after, ..Asked::default() };
    let plan = procedure::plan(estate, graph, facts, usual, procedure, &asked);
    if !plan.can_begin() {
        // Nobody is there to say anything in so many words.
        return Err(plan.refusals().join("; "));
    }
    let preflight = plan.preflight;
    let steps = plan.sequence.steps;
    let all = answerable(estate, &steps);
    let beside = beside(estate, &steps, &all);
    let services: BTreeMap<_, _> = all.into_iter().filter_map(|a| Some((a.clone(), estate.services.get(&a)?.clone()))).collect();
    let found = services.keys().map(|a| (a.clone(), facts.of(a))).collect();
    Ok(Divert { title: procedure.title.clone(), steps, services, beside, values, found, preflight })
}

impl Divert {
    /// The same as a plan, to be asked what every plan is asked before it begins.
    pub fn as_plan(&self, name: &ProcedureName, estate: &Estate) -> Plan {
        Plan {
            sequence: Sequence {
                of: For::Procedure { procedure: name.clone(), title: self.title.clone() },
                steps: self.steps.clone(),
                below_keep_up: BTreeSet::new(),
                left_standing: BTreeSet::new(),
                usual_ms: 0,
            },
            obstacles: Vec::new(),
            asks: Vec::new(),
            left_alone: Vec::new(),
            hits: crate::plan::hits(estate, &self.steps),
            preflight: self.preflight.clone(),
            values: self.values.clone(),
            remarks: Vec::new(),
            refused_now: Vec::new(),
            vouched: BTreeSet::new(),
            felt: None,
            asked_with: AskedWith::default(),
        }
    }
}
