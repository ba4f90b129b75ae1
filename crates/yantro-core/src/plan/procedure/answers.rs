//! Answers to what a procedure asks before it begins: checked once, and used as values from then on.

use std::collections::BTreeMap;

use regex::Regex;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::{
    graph::EstateGraph,
    model::{
        Estate,
        procedure::{Asks, Procedure},
    },
    selection,
    words::{QuestionKind, name::did_you_mean},
};

/// Why an answer cannot be taken.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct AnswerFault {
    /// The question's name.
    pub question: String,
    /// What is wrong.
    pub why: String,
    /// How to mend it.
    pub mend: String,
}

/// Settles every question: what was answered where it is allowed, else the default. All faults are told.
pub fn settle(
    estate: &Estate,
    graph: &EstateGraph,
    procedure: &Procedure,
    given: &BTreeMap<String, String>,
) -> Result<BTreeMap<String, String>, Vec<AnswerFault>> {
    let mut values = BTreeMap::from([("dir".to_owned(), procedure.dir.clone())]);
    let mut faults = Vec::new();
    for name in given.keys().filter(|n| !procedure.questions.contains_key(*n)) {
        let known: Vec<&str> = procedure.questions.keys().map(String::as_str).collect();
        faults.push(AnswerFault {
            question: name.clone(),
            why: format!("{} does not ask \"{name}\"", procedure.name),
            mend: did_you_mean(name, known.iter().copied()),
        });
    }
    for (name, asks) in &procedure.questions {
        let answer = given.get(name).filter(|a| !a.is_empty()).or(asks.default.as_ref());
        let Some(answer) = answer else {
            let mend = format!("answer \"{}\": {name}=…{}", asks.asks, asks.hint());
            faults.push(AnswerFault { question: name.clone(), why: format!("\"{name}\" is not answered"), mend });
            continue;
        };
        match asks.check(estate, graph, answer) {
            Ok(()) => {
                values.insert(name.clone(), answer.clone());
            }
            Err((why, mend)) => faults.push(AnswerFault { question: name.clone(), why, mend }),
        }
    }
    if faults.is_empty() { Ok(values) } else { Err(faults) }
}

impl Asks {
    /// What may be answered, in brackets; empty where anything may.
    pub fn hint(&self) -> String {
        match self.kind {
            QuestionKind::Choice => format!(" ({})", self.choices.join(", ")),
            QuestionKind::Number => match (self.at_least, self.at_most) {
                (Some(low), Some(high)) => format!(" ({low} to {high})"),
                (Some(low), None) => format!(" ({low} or more)"),
                (None, Some(high)) => format!(" ({high} or less)"),
                (None, None) => " (a whole number)".to_owned(),
            },
            QuestionKind::Secret => " (env:NAME or file:PATH)".to_owned(),
            QuestionKind::Address => " (an address)".to_owned(),
            QuestionKind::Selection => " (a selection)".to_owned(),
            QuestionKind::Text => self.allowed.as_ref().map_or_else(String::new, |a| format!(" (matching {a})")),
        }
    }

    /// Whether an answer may be given; else why not, and how to mend it.
    ///
    /// A value is an argument of its own wherever it is used, and is never read by a shell. One that would
    /// be taken for an option, or breaks a line, is refused all the same.
    pub fn check(&self, estate: &Estate, graph: &EstateGraph, answer: &str) -> Result<(), (String, String)> {
        if let Some(odd) = answer.chars().find(|c| c.is_control()) {
            return Err((format!("the answer has {odd:?} in it"), "answer on one line, in plain text".to_owned()));
        }
        let own = |what: &str| (format!("\"{answer}\" is {what}"), format!("answer{}", self.hint()));
        match self.kind {
            QuestionKind::Text => {
                if let Some(allowed) = &self.allowed {
                    let whole = Regex::new(&format!("^(?:{allowed})$")).map_err(|e| (e.to_string(), "mend the pattern".to_owned()))?;
                    return if whole.is_match(answer) { Ok(()) } else { Err(own("not allowed")) };
                }
                if answer.starts_with('-') {
                    return Err((
                        format!("\"{answer}\" would be taken for an option"),
                        "answer without \"-\" in front, or say what is `allowed` in the procedure".to_owned(),
                    ));
                }
                Ok(())
            }
            QuestionKind::Number => match answer.parse::<i64>() {
                Err(_) => Err(own("no whole number")),
                Ok(n) if self.at_least.is_some_and(|low| n < low) => Err(own("too small")),
                Ok(n) if self.at_most.is_some_and(|high| n > high) => Err(own("too large")),
                Ok(_) => Ok(()),
            },
            QuestionKind::Choice if self.choices.iter().any(|c| c == answer) => Ok(()),
            QuestionKind::Choice => Err(own("none of the choices")),
            QuestionKind::Address => {
                let found = selection::resolve(estate, graph, &[answer.to_owned()], &[]).map_err(|e| (e.to_string(), e.hint()))?;
                if found.len() == 1 { Ok(()) } else { Err(own("more than one service")) }
            }
            QuestionKind::Selection => {
                let words: Vec<String> = answer.split_whitespace().map(str::to_owned).collect();
                selection::resolve(estate, graph, &words, &[]).map(drop).map_err(|e| (e.to_string(), e.hint()))
            }
            QuestionKind::Secret if answer.starts_with("env:") || answer.starts_with("file:") => Ok(()),
            QuestionKind::Secret => {
                Err(("a secret is never answered itself".to_owned(), "answer where it is found: env:NAME or file:PATH".to_owned()))
            }
        }
    }
}
