//! The work of a step: its command, what it needs meanwhile, how it is proven.

use std::collections::{BTreeMap, BTreeSet};

use super::{Place, Vetting, code};
use crate::{
    graph::EstateGraph,
    model::{
        fill,
        task::{self, Task},
        *,
    },
    selection,
    text::file::*,
    words::{
        name::{Address, HostName},
        time::Span,
    },
};

impl Vetting<'_, '_> {
    /// The services of a selection that is known beforehand.
    pub(super) fn meanwhile(&mut self, at: &str, words: &[String], estate: &Estate, graph: &EstateGraph) -> BTreeSet<Address> {
        if words.is_empty() {
            return BTreeSet::new();
        }
        selection::resolve(estate, graph, words, &[]).unwrap_or_else(|error| {
            self.faults.error("selection", self.places.value(at), error.to_string(), error.hint());
            BTreeSet::new()
        })
    }

    pub(super) fn work(&mut self, at: &str, step: &StepFile, host: &HostName, estate: &Estate, graph: &EstateGraph) -> task::Work {
        let within = step.patience.unwrap_or(Span::secs(60));
        let (command, script) = self.command_of(at, step.work.as_ref(), step.script.as_ref());
        let dir = step.dir.as_ref().map_or_else(|| self.base_folder(), |d| self.path(d));
        let mut work = task::Work {
            host: host.clone(),
            command,
            script,
            dir,
            env: step.env.clone(),
            secrets: Default::default(),
            to_the_letter: Default::default(),
            user: step.user.clone(),
            within,
            accept_exits: step.accept_exits.clone().unwrap_or_else(|| vec![0]),
            keep: step.keep.clone(),
            changes_nothing: step.changes_nothing,
            while_down: self.meanwhile(&format!("{at}.while_down"), &step.while_down, estate, graph),
            while_up: self.meanwhile(&format!("{at}.while_up"), &step.while_up, estate, graph),
            counter: None,
        };
        if let Some(both) = work.while_down.intersection(&work.while_up).next() {
            let says = format!("{both} must be down and up while this works");
            self.faults.error("contradiction", self.places.key(&format!("{at}.while_up")), says, "take it out of one of the two");
        }
        for (name, pattern) in &step.keep {
            let groups = regex::Regex::new(pattern).map_or(0, |r| r.captures_len() - 1);
            if groups != 1 || !fill::is_name(name) {
                self.faults.error(
                    "bad-keep",
                    self.places.value(&format!("{at}.keep.{name}")),
                    format!("what is kept as \"{name}\" is one piece in round brackets, under a name in lower case"),
                    "write `keep = { version = \"now at ([0-9.]+)\" }`",
                );
            }
        }
        if let Some(counter) = &step.counter {
            let (command, script) = self.command_of(&format!("{at}.counter"), counter.work.as_ref(), counter.script.as_ref());
            let title = counter.title.clone().unwrap_or_else(|| {
                let what = step.title.clone().or_else(|| step.name.clone()).unwrap_or_else(|| Task::Work(work.clone()).says());
                format!("take back: {what}")
            });
            let back = task::Work {
                command,
                script,
                within: counter.patience.unwrap_or(within),
                accept_exits: counter.accept_exits.clone().unwrap_or_else(|| vec![0]),
                keep: BTreeMap::new(),
                changes_nothing: true,
                ..work.clone()
            };
            work.counter = Some(Box::new(task::Counter { title, work: back }));
        }
        if step.counter.is_some() && step.changes_nothing {
            self.faults.error(
                "contradiction",
                self.places.key(&format!("{at}.changes_nothing")),
                "work that changes nothing has no counter-step",
                "take one of the two away",
            );
        }
        work
    }

    pub(super) fn command_of(&mut self, at: &str, work: Option<&Vec<String>>, script: Option<&String>) -> (Vec<String>, Option<String>) {
        match (work, script) {
            (Some(words), None) => {
                if words.first().is_none_or(|p| p.trim().is_empty()) {
                    let place = self.places.value(&format!("{at}.work"));
                    self.faults.error(
                        "no-command",
                        place,
                        "this work names no command",
                        "write program and arguments as a list: [\"bin/patch\", \"--all\"]",
                    );
                }
                if words.first().is_some_and(|p| !fill::names(p).iter().all(|n| n == "dir")) {
                    let place = self.places.value(&format!("{at}.work"));
                    self.faults.error(
                        "value-as-program",
                        place,
                        "which program is run may not hang on an answer",
                        "name the program itself; values may be its arguments",
                    );
                }
                if let Some((code, name)) = code::with_value(words) {
                    let place = self.places.value(&format!("{at}.work"));
                    let mend = format!(
                        "write it as `script` and use \"${}\" there: values reach a script in its environment, where they can never become a command",
                        task::value_name(&name)
                    );
                    self.faults.error("value-in-code", place, format!("{{{name}}} stands in code that {code} reads"), mend);
                }
                (self.command(words), None)
            }
            (None, Some(script)) => {
                let used = fill::names(script);
                if let Some(name) = used.first() {
                    let place = self.places.value(&format!("{at}.script"));
                    let mend = format!(
                        "write \"${}\": values reach a script in its environment, where they can never become a command",
                        task::value_name(name)
                    );
                    self.faults.error("value-in-script", place, format!("{{{name}}} stands in the text of a script"), mend);
                }
                (vec!["/bin/sh".to_owned(), "-euc".to_owned()], Some(script.clone()))
            }
            _ => {
                let place = self.places.key(at);
                self.faults.error("one-deed", place, "this is neither work nor a script, or both", "give it one of: work, script");
                (Vec::new(), None)
            }
        }
    }

    /// Rungs that mean something only on a service's own ladder.
    pub(super) fn no_process(&mut self, rungs: &[RungFile], places: &[Place]) {
        for (rung, place) in rungs.iter().zip(places) {
            if matches!(rung, RungFile::Process {} | RungFile::File { since_start: true, .. }) {
                self.faults.error(
                    "stray-key",
                    place.clone(),
                    "this rung belongs to a service's start",
                    "look at a port, a page, a file or a command",
                );
            }
        }
    }
}
