//! What a procedure asks: its questions, and what its steps ask of a person.

use std::collections::BTreeMap;

use super::Vetting;
use crate::{
    graph::EstateGraph,
    model::{fill, procedure::Asks, *},
    text::file::*,
    words::{PersonKind, QuestionKind, Unanswered},
};

impl Vetting<'_, '_> {
    pub(super) fn questions(&mut self, path: &str, file: &ProcedureFile, estate: &Estate, graph: &EstateGraph) -> BTreeMap<String, Asks> {
        let mut questions = BTreeMap::new();
        for (name, q) in &file.questions {
            let at = format!("{path}.questions.{name}");
            if !fill::is_name(name) || name == "dir" {
                self.faults.error(
                    "bad-name",
                    self.places.key(&at),
                    format!("\"{name}\" cannot be the name of a question"),
                    "begin with a lower-case letter and go on with those, digits, \"-\" and \"_\"; \"dir\" is the estate's folder",
                );
            }
            let kind = q.kind.unwrap_or_default();
            if kind == QuestionKind::Choice && q.choices.is_empty() {
                self.faults.error(
                    "no-choices",
                    self.places.key(&at),
                    format!("the question \"{name}\" is a choice, and has nothing to choose from"),
                    "add `choices = [\"…\", \"…\"]`",
                );
            }
            if let Some(allowed) = &q.allowed
                && let Err(error) = regex::Regex::new(allowed)
            {
                self.faults.error(
                    "bad-pattern",
                    self.places.value(&format!("{at}.allowed")),
                    format!("this is no pattern: {error}"),
                    "see docs/estate.md for patterns",
                );
                continue;
            }
            if let (Some(least), Some(most)) = (q.at_least, q.at_most)
                && least > most
            {
                self.faults.error(
                    "contradiction",
                    self.nearest(&format!("{at}.at_least")),
                    format!("no answer to \"{name}\" is at least {least} and at most {most}"),
                    "turn the two round, or take one away",
                );
            }
            let default = q.default.as_ref().map(|d| match d {
                ValueFile::Text(text) => text.clone(),
                ValueFile::Number(n) => n.to_string(),
            });
            let asks = Asks {
                asks: q.asks.clone().unwrap_or_else(|| format!("{name}?")),
                kind,
                default,
                allowed: q.allowed.clone(),
                choices: q.choices.clone(),
                at_least: q.at_least,
                at_most: q.at_most,
            };
            if let Some(default) = asks.default.as_ref().filter(|d| !d.is_empty())
                && let Err((why, mend)) = asks.check(estate, graph, default)
            {
                self.faults.error(
                    "bad-default",
                    self.places.value(&format!("{at}.default")),
                    format!("the default of \"{name}\": {why}"),
                    mend,
                );
            }
            questions.insert(name.clone(), asks);
        }
        questions
    }

    pub(super) fn person(&mut self, at: &str, step: &StepFile) -> Option<crate::model::task::Question> {
        let q = step.question.clone()?;
        let answer = q.kind.unwrap_or_default();
        if q.asks.as_deref().is_none_or(|a| a.trim().is_empty()) {
            self.faults.error(
                "missing-key",
                self.places.value(&format!("{at}.question")),
                "this question asks nothing",
                "add `asks = \"…?\"`",
            );
        }
        let keep = step.name.clone().filter(|_| answer == PersonKind::Value);
        if answer == PersonKind::Value && !keep.as_deref().is_some_and(fill::is_name) {
            self.faults.error(
                "missing-key",
                self.places.value(&format!("{at}.question")),
                "the answer is a value, and the step has no name to keep it under",
                "add `name = \"…\"` to the step, in lower case",
            );
        }
        if answer == PersonKind::Value && matches!(q.unanswered, Some(Unanswered::Yes | Unanswered::No)) {
            self.faults.error(
                "contradiction",
                self.places.value(&format!("{at}.question")),
                "a value is asked for, and \"yes\" or \"no\" would be taken where none is given",
                "leave `unanswered` out: the step fails then",
            );
        }
        Some(crate::model::task::Question {
            asks: q.asks.unwrap_or_default(),
            look_at: q.look_at,
            who: q.who,
            answer,
            keep,
            limit: q.limit,
            unanswered: q.unanswered.unwrap_or_default(),
        })
    }
}
