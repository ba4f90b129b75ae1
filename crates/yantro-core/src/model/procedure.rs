//! Procedures as values: lines, what each does, and what is asked beforehand.

use std::collections::{BTreeMap, BTreeSet};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::{
    model::{fails::IfItFails, task::Task},
    words::{
        QuestionKind,
        kinds::Wish,
        name::{Address, GroupName, ProcedureName},
        time::Span,
    },
};

/// What a line of a procedure says for its own steps, over what their services say.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(default)]
pub struct Settings {
    /// What people call the step.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub title: Option<String>,
    /// Waited before it begins.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub pause_before: Option<Span>,
    /// Waited once it is through.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub pause_after: Option<Span>,
    /// How long it may take.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub patience: Option<Span>,
    /// How often it is tried.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub attempts: Option<u32>,
    /// The gap between attempts.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub gap: Option<Span>,
    /// What happens when it fails.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub if_it_fails: Option<IfItFails>,
    /// Groups that it may take below what they keep up.
    #[serde(skip_serializing_if = "BTreeSet::is_empty")]
    pub below_keep_up: BTreeSet<GroupName>,
    /// How long it usually takes, where nothing was seen yet.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub usually: Option<Span>,
    /// How many rungs prove it, where its service was found ailing: no rung worse than found (R31).
    #[serde(skip_serializing_if = "Option::is_none")]
    pub rungs: Option<u32>,
}

/// A procedure as it is meant.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Procedure {
    /// Its name.
    pub name: ProcedureName,
    /// What people call it.
    pub title: String,
    /// What it is for.
    pub purpose: Option<String>,
    /// What it asks before it begins, by name.
    pub questions: BTreeMap<String, Asks>,
    /// What happens when a step fails, where neither step nor service says.
    pub if_it_fails: Option<IfItFails>,
    /// How long a run of it may be held before it is put back by itself.
    pub held_at_most: Option<Span>,
    /// Its lines.
    pub lines: Vec<Line>,
    /// The estate's folder, known to its texts as `{dir}`.
    pub dir: String,
}

/// What earlier runs had found up, by the words that ask for it: `as-found-by:evening-off`.
pub type FoundBy = BTreeMap<String, BTreeSet<Address>>;

/// What asks for services that a run found up and took down, by its number or its procedure's name.
pub const AS_FOUND_BY: &str = "as-found-by:";

/// Words of a selection with what earlier runs had found up in the place of those that ask for it.
pub fn filled_with_found(words: &[String], found_by: &FoundBy) -> Vec<String> {
    let put = |word: &String| match found_by.get(word.trim()) {
        Some(found) => found.iter().map(ToString::to_string).collect(),
        None => vec![word.clone()],
    };
    words.iter().flat_map(put).collect()
}

impl Procedure {
    /// A further act of a selection, asked for by itself: a procedure of one line that nobody wrote.
    pub fn of_one_act(name: ProcedureName, act: &str, of: &[String]) -> Self {
        let does = Does::Act { act: act.to_owned(), of: of.to_vec() };
        Self {
            name,
            title: format!("{act} {}", of.join(", ")),
            purpose: None,
            questions: BTreeMap::new(),
            if_it_fails: None,
            held_at_most: None,
            lines: vec![Line { name: None, does, alongside: false, preflight: false, settings: Settings::default() }],
            // An act is run where its service says.
            dir: "/".to_owned(),
        }
    }

    /// The words in its lines that ask for what earlier runs had found up.
    pub fn found_words(&self) -> Vec<String> {
        let of = |line: &Line| match &line.does {
            Does::Services { selection, .. } => selection.clone(),
            _ => Vec::new(),
        };
        self.lines.iter().flat_map(of).filter(|word| word.trim().starts_with(AS_FOUND_BY)).collect()
    }

    /// The same with what earlier runs had found up in the place of the words that ask for it.
    pub fn with_found(mut self, found_by: &FoundBy) -> Self {
        for line in &mut self.lines {
            if let Does::Services { selection, .. } = &mut line.does {
                *selection = filled_with_found(selection, found_by);
            }
        }
        self
    }
}

/// A question asked before it begins.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Asks {
    /// The question, for people.
    pub asks: String,
    /// What the answer is.
    pub kind: QuestionKind,
    /// Taken where nothing is answered.
    pub default: Option<String>,
    /// A text must match this as a whole.
    pub allowed: Option<String>,
    /// The answers to choose from.
    pub choices: Vec<String>,
    /// The smallest number allowed.
    pub at_least: Option<i64>,
    /// The largest number allowed.
    pub at_most: Option<i64>,
}

/// One line of a procedure: what is written as one step.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Line {
    /// What later lines call it.
    pub name: Option<String>,
    /// What it does.
    pub does: Does,
    /// Whether it begins together with the line before it.
    pub alongside: bool,
    /// Whether it is a look taken before the first act.
    pub preflight: bool,
    /// What it says over its services' settings.
    pub settings: Settings,
}

/// What a line does.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(tag = "does", rename_all = "kebab-case")]
pub enum Does {
    /// A wish of a selection.
    Services {
        /// The wish.
        wish: Wish,
        /// Of what.
        selection: Vec<String>,
        /// What is left out of it.
        except: Vec<String>,
        /// Only these.
        alone: bool,
        /// Services, by address, that may stand on what is not proven.
        left_standing: Vec<String>,
    },
    /// A further act of services.
    Act {
        /// The act's name.
        act: String,
        /// Of what.
        of: Vec<String>,
    },
    /// Starts what earlier lines took down, as it was found.
    BringBack {
        /// The lines, by name; `all` is all of them.
        of: Vec<String>,
    },
    /// Something that is no service's.
    Task {
        /// What.
        task: Box<Task>,
    },
}

impl Line {
    /// What it does, in a few words: its title, or what follows from what is written.
    pub fn says(&self) -> String {
        if let Some(title) = &self.settings.title {
            return title.clone();
        }
        match &self.does {
            Does::Services { wish, selection, alone, .. } => {
                format!("{wish} {}{}", selection.join(", "), if *alone { " alone" } else { "" })
            }
            Does::Act { act, of } => format!("{act} {}", of.join(", ")),
            Does::BringBack { of } if of.iter().any(|o| o == "all") => "bring back as found".to_owned(),
            Does::BringBack { of } => format!("bring back as found: {}", of.join(", ")),
            Does::Task { task } => task.says(),
        }
    }

    /// The names of values that it uses.
    pub fn uses(&self) -> Vec<String> {
        let named = |texts: &[String]| texts.iter().flat_map(|t| crate::model::fill::names(t)).collect();
        match &self.does {
            Does::Services { selection, except, .. } => {
                let mut all: Vec<String> = named(selection);
                all.extend(named(except));
                all
            }
            Does::Act { of, .. } => named(of),
            Does::BringBack { .. } => Vec::new(),
            Does::Task { task } => task.uses(),
        }
    }

    /// The names of values that it makes known to later lines.
    pub fn keeps(&self) -> Vec<String> {
        match &self.does {
            Does::Task { task } => match task.as_ref() {
                Task::Work(work) => work.keep.keys().cloned().collect(),
                Task::Question(question) => question.keep.iter().cloned().collect(),
                _ => Vec::new(),
            },
            Does::Services { .. } | Does::Act { .. } | Does::BringBack { .. } => Vec::new(),
        }
    }
}
