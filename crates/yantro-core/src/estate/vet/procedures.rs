//! Procedures: what their steps say, what their texts use, and whether every step has its place.

use std::collections::{BTreeMap, BTreeSet};

use super::{Place, Vetting, code};
use crate::{
    estate::{file::*, fill},
    graph::EstateGraph,
    model::*,
    name::{Address, HostName, ProcedureName, did_you_mean},
    procedure::{self, Asked, Asks, Does, Line, Procedure},
    proof::{Facts, SeenState},
    selection,
    sequence::{Ask, Settings, Task, Usual, Wish, meanwhile, task},
    time::Span,
    written::DEEDS,
};

/// Hosts, where a step says what is done to them by their bare names.
fn of_hosts(said: &Option<Vec<String>>) -> Option<Vec<String>> {
    said.as_ref().map(|words| words.iter().map(|w| selection::of_host(w)).collect())
}

/// Tells each piece of work which values are references to secrets: answers to questions that ask for one, unless a step keeps
/// something under the same name.
fn name_secrets(questions: &BTreeMap<String, Asks>, lines: &mut [Line]) {
    let kept: BTreeSet<String> = lines.iter().flat_map(Line::keeps).collect();
    let secret = questions.iter().filter(|(_, q)| q.kind == QuestionKind::Secret).map(|(n, _)| n);
    let secrets: BTreeSet<String> = secret.filter(|n| !kept.contains(*n)).cloned().collect();
    for line in lines {
        if let Does::Task { task } = &mut line.does
            && let Task::Work(work) = task.as_mut()
        {
            work.secrets.clone_from(&secrets);
            if let Some(counter) = &mut work.counter {
                counter.work.secrets.clone_from(&secrets);
            }
        }
    }
}

impl Vetting<'_, '_> {
    /// Every procedure of the file, read against the estate it works on.
    pub(super) fn procedures(&mut self, estate: &Estate) -> BTreeMap<ProcedureName, Procedure> {
        let mut procedures = BTreeMap::new();
        if self.file.procedure.is_empty() {
            return procedures;
        }
        let graph = EstateGraph::new(estate);
        for (text, file) in self.file.procedure.clone() {
            let path = format!("procedure.{text}");
            let Some(name) = self.name::<ProcedureName>(&text, &path) else { continue };
            let questions = self.questions(&path, &file, estate, &graph);
            let mut lines = Vec::new();
            for (i, step) in file.steps.iter().enumerate() {
                let at = format!("{path}.steps.{i}");
                let line = self.line(&at, step, estate, &graph);
                self.elsewhere = false;
                lines.extend(line);
            }
            if file.steps.is_empty() {
                self.faults.error(
                    "no-steps",
                    self.places.key(&path),
                    format!("procedure {name} has no steps"),
                    format!("add [[{path}.steps]] with something to do, such as `stop = [\"…\"]`"),
                );
            }
            name_secrets(&questions, &mut lines);
            let if_it_fails = file.if_it_fails.as_ref().and_then(|r| self.rule(r, &self.places.value(&format!("{path}.if_it_fails"))));
            let procedure = Procedure {
                title: file.title.clone().unwrap_or_else(|| name.to_string()),
                purpose: file.purpose.clone(),
                questions,
                if_it_fails,
                held_at_most: file.held_at_most,
                lines,
                dir: self.base_folder(),
                name: name.clone(),
            };
            if procedure.lines.len() == file.steps.len() {
                self.used_values(&path, &procedure);
                self.named_lines(&path, &procedure);
                self.in_their_places(&path, &procedure, estate, &graph);
            }
            if procedures.insert(name.clone(), procedure).is_some() {
                self.faults.error(
                    "duplicate",
                    self.places.key(&path),
                    format!("procedure {name} is there twice"),
                    "names match without regard to case; rename one",
                );
            }
        }
        procedures
    }

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

    fn questions(&mut self, path: &str, file: &ProcedureFile, estate: &Estate, graph: &EstateGraph) -> BTreeMap<String, Asks> {
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

    fn line(&mut self, at: &str, step: &StepFile, estate: &Estate, graph: &EstateGraph) -> Option<Line> {
        let said: Vec<&str> = DEEDS.into_iter().filter(|deed| self.places.has(&format!("{at}.{deed}"))).collect();
        let [deed] = said.as_slice() else {
            let (what, mend) = if said.is_empty() {
                ("this step does not say what it does".to_owned(), format!("give it one of: {}", DEEDS.join(", ")))
            } else {
                (
                    format!("this step does several things: {}", said.join(", ")),
                    "give each a step of its own; `alongside = true` begins them together".to_owned(),
                )
            };
            self.faults.error("one-deed", self.places.key(at), what, mend);
            return None;
        };
        let host = self.host_of_line(at, step, deed, estate)?;
        self.elsewhere = estate.hosts[&host].reach != Reach::Here;
        let program = step.work.as_ref().and_then(|w| w.first()).filter(|p| p.contains('/'));
        let paths = [("dir", step.dir.as_ref()), ("work", program)];
        for (key, path) in paths.into_iter().filter_map(|(k, p)| Some((k, p.filter(|p| !p.starts_with('/'))?))).filter(|_| self.elsewhere) {
            let place = self.places.value(&format!("{at}.{key}"));
            let what = format!("\"{path}\" is on another host, {host}, and does not say where");
            self.faults.error("relative-path", place, what, "write it from the root: \"/opt/…\"");
        }
        let services = |wish: Wish, selection: &Option<Vec<String>>| Does::Services {
            wish,
            selection: selection.clone().unwrap_or_default(),
            except: step.except.clone(),
            alone: step.alone,
            left_standing: step.left_standing.clone(),
        };
        let task = |task: Task| Does::Task { task: Box::new(task) };
        let does = match *deed {
            "stop" => services(Wish::Stop, &step.stop),
            "start" => services(Wish::Start, &step.start),
            "restart" => services(Wish::Restart, &step.restart),
            "reload" => services(Wish::Reload, &step.reload),
            "shut_down" => services(Wish::Stop, &of_hosts(&step.shut_down)),
            "power_on" => services(Wish::Start, &of_hosts(&step.power_on)),
            "reboot" => services(Wish::Restart, &of_hosts(&step.reboot)),
            "power_cycle" => services(Wish::PowerCycle, &of_hosts(&step.power_cycle)),
            "act" => {
                if step.of.is_empty() {
                    let mend = "add `of = [\"…\"]` with the services it is an act of";
                    self.faults.error("missing-key", self.places.value(at), "this act does not say of which service", mend);
                }
                Does::Act { act: step.act.clone()?.to_ascii_lowercase(), of: step.of.clone() }
            }
            "bring_back" => Does::BringBack { of: step.bring_back.clone()? },
            "work" | "script" => task(Task::Work(self.work(at, step, &host, estate, graph))),
            "pause" => task(Task::Pause { length: step.pause? }),
            "until" => {
                let places: Vec<Place> = (0..step.until.len()).map(|i| self.places.value(&format!("{at}.until.{i}"))).collect();
                self.no_process(&step.until, &places);
                let rungs = self.rungs(&step.until, &places, &estate.hosts[&host]);
                if rungs.is_empty() {
                    self.faults.error(
                        "missing-key",
                        self.places.value(&format!("{at}.until")),
                        "this wait waits for nothing",
                        "name at least one rung",
                    );
                }
                task(Task::Until { host, rungs })
            }
            "until_time" => {
                let time = step.until_time.clone()?;
                if chrono::NaiveTime::parse_from_str(&time, "%H:%M").is_err() {
                    let place = self.places.value(&format!("{at}.until_time"));
                    self.faults.error("bad-time", place, format!("\"{time}\" is no time of day"), "write it as \"02:30\"");
                }
                task(Task::UntilTime { time, zone: estate.time_zone.clone() })
            }
            "question" => task(Task::Question(self.person(at, step)?)),
            "look" => {
                let rung = step.look.clone()?;
                let place = self.places.value(&format!("{at}.look"));
                self.no_process(std::slice::from_ref(&rung), std::slice::from_ref(&place));
                let rung = self.rungs(&[rung], &[place], &estate.hosts[&host]).pop()?;
                task(Task::Look { host, rung })
            }
            _ => {
                let to = step.to.clone();
                if let Some(url) = to.as_ref().filter(|u| !(u.starts_with("http://") || u.starts_with("https://"))) {
                    let place = self.places.value(&format!("{at}.to"));
                    self.faults.error(
                        "bad-url",
                        place,
                        format!("\"{url}\" is no page"),
                        "write it whole: \"http://127.0.0.1:9400/events\"",
                    );
                }
                task(Task::Announce { says: step.announce.clone()?, to })
            }
        };
        self.stray_keys(at, step, deed);
        for (key, texts) in [("left_standing", &step.left_standing)] {
            for text in texts.iter().filter(|t| !t.parse().is_ok_and(|a| estate.services.contains_key(&a))) {
                let names: Vec<String> = estate.services.keys().map(ToString::to_string).collect();
                let place = self.places.value(&format!("{at}.{key}"));
                self.faults.error(
                    "unknown-name",
                    place,
                    format!("nothing has the address \"{text}\""),
                    did_you_mean(text, names.iter().map(String::as_str)),
                );
            }
        }
        self.selection(at, &does, deed, estate, graph);
        Some(Line {
            name: step.name.clone(),
            does,
            alongside: step.alongside,
            preflight: step.preflight,
            settings: Settings {
                title: step.title.clone(),
                pause_before: step.pause_before,
                pause_after: step.pause_after,
                patience: step.patience,
                attempts: step.attempts,
                gap: step.gap,
                if_it_fails: step.if_it_fails.as_ref().and_then(|r| self.rule(r, &self.places.value(&format!("{at}.if_it_fails")))),
                usually: step.usually,
                below_keep_up: self.groups_of_line(at, step, estate),
                rungs: None,
            },
        })
    }

    fn groups_of_line(&mut self, at: &str, step: &StepFile, estate: &Estate) -> BTreeSet<crate::name::GroupName> {
        let mut groups = BTreeSet::new();
        for text in &step.below_keep_up {
            match text.parse().ok().filter(|g| estate.groups.contains_key(g)) {
                Some(group) => drop(groups.insert(group)),
                None => {
                    let names: Vec<String> = estate.groups.keys().map(ToString::to_string).collect();
                    let place = self.places.value(&format!("{at}.below_keep_up"));
                    let mend = did_you_mean(text, names.iter().map(String::as_str));
                    self.faults.error("unknown-name", place, format!("there is no group \"{text}\""), mend);
                }
            }
        }
        groups
    }

    /// Keys that mean nothing beside what the step does.
    fn stray_keys(&mut self, at: &str, step: &StepFile, deed: &str) {
        let is_said = |key: &&&str| self.places.has(&format!("{at}.{key}"));
        let stray = MEAN_ONLY_BESIDE.iter().filter(|(_, deeds)| !deeds.concat().contains(&deed)).flat_map(|(keys, _)| keys.iter());
        let stray: Vec<&str> = stray.filter(is_said).copied().collect();
        for key in stray {
            self.faults.error(
                "stray-key",
                self.places.key(&format!("{at}.{key}")),
                format!("`{key}` means nothing in a step that says `{deed}`"),
                "take it out, or give it a step of its own",
            );
        }
        if step.preflight && step.alongside {
            let place = self.places.key(&format!("{at}.alongside"));
            self.faults.error("stray-key", place, "preflight looks are all taken before the first act", "take `alongside` out");
        }
    }

    fn host_of_line(&mut self, at: &str, step: &StepFile, deed: &str, estate: &Estate) -> Option<HostName> {
        match &step.on {
            None => {
                let here = estate.hosts.iter().find(|(_, h)| h.reach == Reach::Here).map(|(n, _)| n.clone());
                if here.is_none() && matches!(deed, "work" | "script" | "until" | "look") {
                    let what = "this step does not say on which host, and the machine that Yantro runs on is none of the estate's";
                    self.faults.error("missing-key", self.places.key(at), what, "add `on = \"…\"`");
                    return None;
                }
                // Whatever else it does takes place on no host of its own.
                here.or_else(|| estate.hosts.keys().next().cloned())
            }
            Some(text) => {
                let found = text.parse::<HostName>().ok().filter(|h| estate.hosts.contains_key(h));
                if found.is_none() {
                    let names: Vec<String> = estate.hosts.keys().map(ToString::to_string).collect();
                    let place = self.places.value(&format!("{at}.on"));
                    let mend = did_you_mean(text, names.iter().map(String::as_str));
                    self.faults.error("unknown-name", place, format!("there is no host \"{text}\""), mend);
                }
                found
            }
        }
    }

    /// The services of a selection that is known beforehand.
    fn meanwhile(&mut self, at: &str, words: &[String], estate: &Estate, graph: &EstateGraph) -> BTreeSet<Address> {
        if words.is_empty() {
            return BTreeSet::new();
        }
        selection::resolve(estate, graph, words, &[]).unwrap_or_else(|error| {
            self.faults.error("selection", self.places.value(at), error.to_string(), error.hint());
            BTreeSet::new()
        })
    }

    fn work(&mut self, at: &str, step: &StepFile, host: &HostName, estate: &Estate, graph: &EstateGraph) -> task::Work {
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

    fn command_of(&mut self, at: &str, work: Option<&Vec<String>>, script: Option<&String>) -> (Vec<String>, Option<String>) {
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
    fn no_process(&mut self, rungs: &[RungFile], places: &[Place]) {
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

    fn person(&mut self, at: &str, step: &StepFile) -> Option<crate::sequence::Question> {
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
        Some(crate::sequence::Question {
            asks: q.asks.unwrap_or_default(),
            look_at: q.look_at,
            who: q.who,
            answer,
            keep,
            limit: q.limit,
            unanswered: q.unanswered.unwrap_or_default(),
        })
    }

    /// A selection without values must name something now.
    fn selection(&mut self, at: &str, does: &Does, deed: &str, estate: &Estate, graph: &EstateGraph) {
        let (words, key): (&[String], &str) = match does {
            Does::Services { selection, .. } => (selection, deed),
            Does::Act { of, .. } => (of, "of"),
            Does::BringBack { .. } | Does::Task { .. } => return,
        };
        if words.iter().any(|w| !fill::names(w).is_empty()) {
            return;
        }
        // What a run found up is known when the time has come; that there is such a procedure is known now.
        let (as_found, words): (Vec<String>, Vec<String>) = words.iter().cloned().partition(|w| w.starts_with(selection::AS_FOUND_BY));
        let names: Vec<String> = self.file.procedure.keys().cloned().collect();
        for word in &as_found {
            let of = word.trim_start_matches(selection::AS_FOUND_BY);
            if of.parse::<u64>().is_err() && !names.iter().any(|n| n.eq_ignore_ascii_case(of)) {
                self.faults.error(
                    "unknown-name",
                    self.places.value(&format!("{at}.{key}")),
                    format!("there is no procedure \"{of}\" of which a run could have found anything"),
                    did_you_mean(of, names.iter().map(String::as_str)),
                );
            }
        }
        if words.is_empty() && !as_found.is_empty() {
            return;
        }
        match selection::resolve(estate, graph, &words, &[]) {
            Err(error) => self.faults.error("selection", self.places.value(&format!("{at}.{key}")), error.to_string(), error.hint()),
            Ok(chosen) => {
                let Does::Act { act, .. } = does else { return };
                for address in chosen.iter().filter(|a| !estate.services[*a].acts.contains_key(act)) {
                    let known: Vec<&str> = estate.services[address].acts.keys().map(String::as_str).collect();
                    let place = self.places.value(&format!("{at}.act"));
                    self.faults.error(
                        "unknown-name",
                        place,
                        format!("{address} has no act \"{act}\""),
                        did_you_mean(act, known.iter().copied()),
                    );
                }
            }
        }
    }

    /// Every value that a line uses must be known by then, and a secret may only go into an environment.
    fn used_values(&mut self, path: &str, procedure: &Procedure) {
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
    fn named_lines(&mut self, path: &str, procedure: &Procedure) {
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
    fn in_their_places(&mut self, path: &str, procedure: &Procedure, estate: &Estate, graph: &EstateGraph) {
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
