//! Procedures: what their steps say, what their texts use, and whether every step has its place.

use std::collections::{BTreeMap, BTreeSet};

use super::{Place, Vetting};
use crate::{
    graph::EstateGraph,
    model::{
        fill,
        procedure::{Asks, Does, Line, Procedure, Settings},
        task::Task,
        *,
    },
    selection,
    text::{file::*, written::DEEDS},
    words::{
        QuestionKind, Reach,
        kinds::Wish,
        name::{HostName, ProcedureName, did_you_mean},
    },
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

    fn line(&mut self, at: &str, step: &StepFile, estate: &Estate, graph: &EstateGraph) -> Option<Line> {
        let said: Vec<&str> = DEEDS.into_iter().filter(|deed| self.places.has(&format!("{at}.{deed}"))).collect();
        let [deed] = said.as_slice() else {
            if said.is_empty() && DEEDS.iter().any(|deed| self.places.is_meant(&format!("{at}.{deed}"))) {
                return None; // What is misspelt is blamed.
            }
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
        let known = self.host_of_line(at, step, deed, estate);
        self.elsewhere = known.as_ref().is_some_and(|host| estate.hosts[host].reach != Reach::Here);
        // On a host that is not there everything else of it is looked at all the same.
        let host = known.or_else(|| estate.hosts.keys().next().cloned())?;
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
                    self.lacks(&[format!("{at}.of")], self.places.value(at), "this act does not say of which service", mend);
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

    fn groups_of_line(&mut self, at: &str, step: &StepFile, estate: &Estate) -> BTreeSet<crate::words::name::GroupName> {
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
                    self.lacks(&[format!("{at}.on")], self.places.key(at), what, "add `on = \"…\"`");
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
}
