//! Procedures as wholes: what their texts use, whom they name, whether every step has its place.

use std::collections::{BTreeMap, BTreeSet};

use super::Vetting;
use crate::{
    graph::EstateGraph,
    model::{
        procedure::{Asks, Does, Line, Procedure},
        task::Task,
        *,
    },
    plan::{
        Ask,
        forecast::Usual,
        meanwhile,
        procedure::{self, Asked},
    },
    proof::{Facts, SeenState},
    selection,
    text::file::*,
    words::{
        Expected, QuestionKind,
        name::{ProcedureName, did_you_mean},
    },
};

impl Vetting<'_, '_> {
    /// What takes over must not ask for what nobody is there to answer: only `failed` and `reason` are given.
    pub(super) fn diverts(&mut self, procedures: &BTreeMap<ProcedureName, Procedure>) {
        let named = |r: &Option<IfItFailsFile>| match r {
            Some(IfItFailsFile::Divert(d)) => d.divert.parse::<ProcedureName>().ok(),
            _ => None,
        };
        let mut said: BTreeMap<ProcedureName, String> = BTreeMap::new();
        for (n, s) in self.file.service.iter().chain(&self.file.like) {
            said.extend(named(&s.if_it_fails).map(|p| (p, format!("service.{n}.if_it_fails"))));
        }
        for (n, g) in &self.file.group {
            said.extend(named(&g.if_it_fails).map(|p| (p, format!("group.{n}.if_it_fails"))));
        }
        for (n, p) in &self.file.procedure {
            said.extend(named(&p.if_it_fails).map(|d| (d, format!("procedure.{n}.if_it_fails"))));
            for (i, step) in p.steps.iter().enumerate() {
                said.extend(named(&step.if_it_fails).map(|d| (d, format!("procedure.{n}.steps.{i}.if_it_fails"))));
            }
        }
        for (n, p) in &self.file.procedure {
            let itself = |r: &Option<IfItFailsFile>| named(r).is_some_and(|d| d.as_str().eq_ignore_ascii_case(n));
            let steps = p.steps.iter().enumerate().filter(|(_, s)| itself(&s.if_it_fails));
            let mut at: Vec<String> = steps.map(|(i, _)| format!("procedure.{n}.steps.{i}.if_it_fails")).collect();
            at.extend(itself(&p.if_it_fails).then(|| format!("procedure.{n}.if_it_fails")));
            for at in at {
                let place = self.places.value(&at);
                let says = format!("procedure {n} diverts to itself, where the same step would fail again");
                self.faults.error("contradiction", place, says, "name another procedure, or \"hold\", \"put-back\"");
            }
        }
        for (name, at) in said {
            let Some(procedure) = procedures.get(&name) else { continue };
            let open = |(n, q): &(&String, &Asks)| !matches!(n.as_str(), "failed" | "reason") && q.default.is_none();
            if let Some((question, _)) = procedure.questions.iter().find(open) {
                self.faults.error(
                    "unanswered",
                    self.places.value(&at),
                    format!("it diverts to {name}, which asks \"{question}\", and nobody is there to answer"),
                    "give the question a default; only `failed` and `reason` are answered by themselves",
                );
            }
        }
    }

    /// Every value that a line uses must be known by then, and a secret may only go into an environment.
    pub(super) fn used_values(&mut self, path: &str, procedure: &Procedure) {
        let mut known: BTreeSet<String> = procedure.questions.keys().cloned().collect();
        known.insert("dir".to_owned());
        let secret = |name: &str| procedure.questions.get(name).is_some_and(|q| q.kind == QuestionKind::Secret);
        for (i, line) in procedure.lines.iter().enumerate() {
            let place = self.places.key(&format!("{path}.steps.{i}"));
            for name in line.uses() {
                let at_begin = matches!(line.does, Does::Services { .. } | Does::Act { .. }) || line.preflight;
                let asked = name == "dir" || procedure.questions.contains_key(&name);
                if !known.contains(&name) {
                    let names: Vec<&str> = known.iter().map(String::as_str).collect();
                    let mend = format!("{}; or write {{{{{name}}}}} if the braces are meant", did_you_mean(&name, names.iter().copied()));
                    self.faults.error(
                        "unknown-value",
                        place.clone(),
                        format!("step {} uses {{{name}}}, which is not known there", i + 1),
                        mend,
                    );
                } else if at_begin && !asked {
                    self.faults.error(
                        "value-too-late",
                        place.clone(),
                        format!("step {} hangs on {{{name}}}, which is only known while the run goes on", i + 1),
                        "ask for it before the begin, in the procedure's questions",
                    );
                }
                let in_env = matches!(&line.does, Does::Task { task } if matches!(task.as_ref(), Task::Work(w) if w.env.values().any(|v| *v == format!("{{{name}}}"))));
                if secret(&name) && !in_env {
                    self.faults.error(
                        "secret-shown",
                        place.clone(),
                        format!("step {} uses the secret {{{name}}} where it would be seen", i + 1),
                        format!("give it to work in its environment: `env = {{ PASSWORD = \"{{{name}}}\" }}`"),
                    );
                }
            }
            known.extend(line.keeps());
        }
    }

    /// Names of lines are used once, and what brings back names lines before it.
    pub(super) fn named_lines(&mut self, path: &str, procedure: &Procedure) {
        let mut names: BTreeSet<&str> = BTreeSet::new();
        for (i, line) in procedure.lines.iter().enumerate() {
            let at = format!("{path}.steps.{i}");
            if let Does::BringBack { of } = &line.does {
                for wanted in of.iter().filter(|w| *w != "all" && !names.contains(w.as_str())) {
                    let mend = did_you_mean(wanted, names.iter().copied());
                    self.faults.error(
                        "unknown-name",
                        self.places.value(&format!("{at}.bring_back")),
                        format!("no step before this one is called \"{wanted}\""),
                        mend,
                    );
                }
            }
            if let Some(name) = &line.name
                && !names.insert(name)
            {
                self.faults.error(
                    "duplicate",
                    self.places.value(&format!("{at}.name")),
                    format!("two steps are called \"{name}\""),
                    "rename one",
                );
            }
        }
    }

    /// Plays it with everything as expected: a step whose place breaks a relation is told, with the relation.
    pub(super) fn in_their_places(&mut self, path: &str, procedure: &Procedure, estate: &Estate, graph: &EstateGraph) {
        let mut facts: Facts = estate
            .services
            .iter()
            .map(|(a, s)| (a.clone(), if s.expected == Expected::Down { SeenState::Down } else { SeenState::Proven }))
            .collect();
        // It may be meant for when something is down already: the first that says so tells how it finds it.
        for line in procedure.lines.iter().rev() {
            if let Does::Task { task } = &line.does
                && let Task::Work(work) = task.as_ref()
            {
                facts.0.extend(meanwhile(work).map(|(a, must)| (a.clone(), must)));
            }
        }
        let mut values: BTreeMap<String, String> =
            procedure.questions.iter().filter_map(|(n, q)| Some((n.clone(), q.default.clone().filter(|d| !d.is_empty())?))).collect();
        values.insert("dir".to_owned(), procedure.dir.clone());
        // Lines whose selection hangs on an answer can only be judged once it is given.
        let as_found = |line: &Line| matches!(&line.does, Does::Services { selection, .. } if selection.iter().any(|w| w.starts_with(selection::AS_FOUND_BY)));
        let judged = |line: &Line| {
            if as_found(line) {
                return false; // What a run will have found is known then.
            }
            !matches!(line.does, Does::Services { .. } | Does::Act { .. }) || line.uses().iter().all(|n| values.contains_key(n))
        };
        if self.faults.any_error() || !procedure.lines.iter().all(judged) {
            return;
        }
        let asked = Asked { values: values.clone(), ..Asked::default() };
        let (plan, ask_lines) = procedure::plan_by_line(estate, graph, &facts, &Usual::default(), procedure, &asked);
        for obstacle in plan.obstacles {
            let line = obstacle.line.unwrap_or(1);
            let place = self.places.key(&format!("{path}.steps.{}", line - 1));
            self.faults.error("out-of-place", place, format!("step {line}: {}", obstacle.why), obstacle.mend);
        }
        for (ask, line) in plan.asks.iter().zip(ask_lines) {
            let (says, mend) = match ask {
                Ask::LeftStanding { addresses, says } => {
                    let named: Vec<String> = addresses.iter().map(|a| format!("\"{a}\"")).collect();
                    (says, format!("move the step, let it take along what relies on it, or write `left_standing = [{}]`", named.join(", ")))
                }
                Ask::BelowKeepUp { group, says } => {
                    (says, format!("do it in batches, or write `below_keep_up = [\"{group}\"]` on the step"))
                }
                Ask::UpWithout { .. } | Ask::InFreeze { .. } | Ask::AgainstVouch { .. } => continue,
            };
            let place = self.places.key(&format!("{path}.steps.{}", line - 1));
            self.faults.error("out-of-place", place, format!("step {line}: {says}"), mend);
        }
    }
}
