//! What takes over when a step fails: another procedure, with what it may know (R32).

use std::collections::BTreeMap;

use super::{
    event::{answerable, beside},
    input::Divert,
};
use crate::{
    estate::Estate,
    graph::EstateGraph,
    name::{ProcedureName, did_you_mean},
    procedure::{self, Asked},
    sequence::{Ask, Part, Usual},
    state::Facts,
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
        let asks = plan.asks.iter().map(|a| match a {
            Ask::LeftStanding { says, .. } | Ask::BelowKeepUp { says, .. } | Ask::InFreeze { says, .. } | Ask::UpWithout { says, .. } => {
                says.clone()
            }
        });
        let all: Vec<String> = plan.obstacles.iter().map(|o| o.why.clone()).chain(asks).collect();
        return Err(all.join("; "));
    }
    let steps = plan.sequence.steps;
    let all = answerable(estate, &steps);
    let beside = beside(estate, &steps, &all);
    let services = all.into_iter().filter_map(|a| Some((a.clone(), estate.services.get(&a)?.clone()))).collect();
    Ok(Divert { title: procedure.title.clone(), steps, services, beside, values })
}
