//! One copy of a service with all its settings: how it is carried, started, stopped and proven.

use std::collections::{BTreeMap, BTreeSet};

use super::{Draft, Place, Vetting};
use crate::{
    model::*,
    text::file::*,
    words::{
        Force, Reach, Signal,
        name::{Address, HostName, ServiceName, did_you_mean},
        time::Span,
    },
};

/// Kinds of units that are none of an estate's services.
const OTHER_KINDS: [&str; 6] = [".target", ".slice", ".scope", ".device", ".swap", ".automount"];
/// The kinds of units that can be a service of an estate.
const UNIT_KINDS: [&str; 5] = [".service", ".socket", ".timer", ".path", ".mount"];

impl Vetting<'_, '_> {
    pub(super) fn service(
        &mut self,
        draft: &Draft,
        hosts: &BTreeMap<HostName, Host>,
        by_service: &BTreeMap<ServiceName, Vec<Address>>,
        known: &BTreeSet<Address>,
    ) -> Service {
        let (s, address) = (&draft.settings, &draft.address);
        self.elsewhere = hosts[&address.host].reach != Reach::Here;
        if self.elsewhere {
            self.paths_elsewhere(draft);
        }
        let runner = self.runner(draft, &hosts[&address.host]);
        let mut relies_on: Vec<Relation> = Vec::new();
        for (i, relation) in s.relies_on.iter().enumerate() {
            if let Some(relation) = self.relation(draft, i, relation, by_service, known)
                && !relies_on.contains(&relation)
            {
                relies_on.push(relation);
            }
        }
        let yields_to = self.named(draft, "yields_to", &s.yields_to, by_service, known);
        let never_with = self.named(draft, "never_with", &s.never_with, by_service, known);
        for other in relies_on.iter().filter(|r| r.any_of.len() == r.at_least as usize).flat_map(|r| &r.any_of) {
            if never_with.contains(other) {
                self.faults.error(
                    "contradiction",
                    self.at(draft, "never_with"),
                    format!("{address} relies on {other} and must never be up with it"),
                    "take one of the two away",
                );
            }
        }
        let mut ladder = self.ladder(draft, &hosts[&address.host], &runner);
        let start = s.start.clone().unwrap_or_default();
        let stop = s.stop.clone().unwrap_or_default();
        let start_patterns = LogPatterns { must_see: start.must_see, must_not_see: start.must_not_see, overlook: start.overlook };
        let stop_patterns = LogPatterns { must_see: stop.must_see, must_not_see: stop.must_not_see, overlook: stop.overlook };
        let proves = !ladder.is_empty() || !start_patterns.must_see.is_empty();
        if !proves {
            self.faults.error(
                "no-proof",
                self.places.key(&draft.path),
                format!("nothing proves that {address} is up"),
                "add a ladder, such as `ladder = [{ rung = \"port\", port = 5432 }]`, or `must_see` to its start",
            );
        } else if matches!(ladder.as_slice(), [Rung { kind: RungKind::Manager, .. }]) && start_patterns.must_see.is_empty() {
            self.faults.warn(
                "weak-proof",
                self.places.key(&draft.path),
                format!("that its manager says so is all that proves {address}"),
                "add a rung that shows it really answers: port, web, or a `must_see` of its start",
            );
        } else if matches!(ladder.as_slice(), [Rung { kind: RungKind::Process, .. }]) && start_patterns.must_see.is_empty() {
            self.faults.warn(
                "weak-proof",
                self.at(draft, "ladder"),
                format!("that its process is there is all that proves {address}"),
                "add a rung that shows it really answers: port, web, or a `must_see` of its start",
            );
        }
        // Its process is the first thing that must be there, and that must be gone.
        if matches!(runner, ServiceRunner::Process(_)) && s.hands_off.is_none() && !ladder.iter().any(|r| r.kind == RungKind::Process) {
            ladder.insert(0, Rung { kind: RungKind::Process, gone_after_stop: true });
        }
        let force = stop.force.unwrap_or_default();
        if force == Force::Never && stop.patience.is_none() {
            self.faults.error(
                "no-stop-patience",
                self.at(draft, "stop.force"),
                format!("{address} may never be forced, and does not say how long its stop may take"),
                "add `patience = \"2m\"` to its stop block: after it the stop has failed",
            );
        }
        for path in ["start", "stop", "reload"] {
            let logs = match path {
                "start" => !start_patterns.is_empty(),
                "stop" => !stop_patterns.is_empty(),
                _ => s.reload.as_ref().is_some_and(|r| !r.must_see.is_empty() || !r.must_not_see.is_empty()),
            };
            if logs && s.logs.is_empty() && matches!(runner, ServiceRunner::Commands(_)) {
                self.faults.error(
                    "no-log",
                    self.at(draft, path),
                    format!("{address} has log patterns for its {path}, and no log to look in"),
                    "add `logs = [\"…\"]`",
                );
            }
        }
        let if_it_fails = self.if_it_fails(draft);
        let mut acts = self.acts(draft, &hosts[&address.host]);
        if let ServiceRunner::Systemd(spec) = &runner {
            for (name, act) in acts_of_manager(&spec.unit) {
                acts.entry(name.to_owned()).or_insert(act);
            }
        }
        if s.hands_off.as_deref().is_some_and(|r| r.trim().is_empty()) {
            self.faults.error(
                "missing-reason",
                self.at(draft, "hands_off"),
                format!("{address} is hands_off without a reason"),
                "say who looks after it, and why nobody should act on it here",
            );
        }
        if let Some(by) = &s.brought_back_by {
            let place = self.at(draft, "brought_back_by");
            if by.trim().is_empty() {
                let what = format!("{address} is brought back, and it is not said by what");
                self.faults.error("missing-reason", place.clone(), what, "say who or what starts it again");
            }
            if !matches!(runner, ServiceRunner::Process(_)) || s.hands_off.is_some() {
                let what = format!("{address} is brought back by {by}, and a new process of it could not be told from the old one");
                let mend = "describe it with `run_by = \"process\"`, its program and arguments, and without hands_off";
                self.faults.error("contradiction", place.clone(), what, mend);
            }
            if stop.attempts.is_some_and(|n| n > 1) {
                let what = format!("{address} would be stopped again once {by} has brought it back");
                self.faults.error("contradiction", place, what, "take `attempts` out of its stop");
            }
        }
        let is_unit = matches!(runner, ServiceRunner::Systemd(_));
        for (key, said) in [("unit", s.unit.is_some()), ("at_boot", s.at_boot.is_some())] {
            if said && !is_unit {
                let what = format!("{address} is not run by its host's manager, and `{key}` means nothing to it");
                self.faults.error("stray-key", self.at(draft, key), what, "write `run_by = \"systemd\"`, or take it out");
            }
        }
        let reload = self.reload(draft, &runner, start.patience.unwrap_or(Span::secs(60)));
        let service = Service {
            address: address.clone(),
            title: s.title.clone().unwrap_or_else(|| address.service.to_string()),
            groups: s.groups.iter().filter_map(|g| g.parse().ok()).collect(),
            relies_on,
            yields_to,
            never_with,
            expected: s.expected.unwrap_or_default(),
            impact: impact(s.impact.as_ref()),
            hands_off: s.hands_off.clone(),
            brought_back_by: s.brought_back_by.clone(),
            owner: s.owner.clone(),
            logs: s.logs.iter().map(|l| if l.starts_with("journal:") { l.clone() } else { self.path(l) }).collect(),
            configuration: s.configuration.iter().map(|l| self.path(l)).collect(),
            runner,
            start: StartBlock {
                pause_before: start.pause_before.unwrap_or_default(),
                pause_after: start.pause_after.unwrap_or_default(),
                patience: start.patience.unwrap_or(Span::secs(60)),
                usually: start.usually,
                attempts: start.attempts.unwrap_or(1),
                gap: start.gap.unwrap_or(Span::secs(5)),
                accept_exits: start.accept_exits.unwrap_or_else(|| vec![0]),
                patterns: start_patterns,
            },
            stop: StopBlock {
                pause_before: stop.pause_before.unwrap_or_default(),
                pause_after: stop.pause_after.unwrap_or_default(),
                patience: stop.patience.unwrap_or(Span::secs(30)),
                usually: stop.usually,
                attempts: stop.attempts.unwrap_or(1),
                gap: stop.gap.unwrap_or(Span::secs(5)),
                accept_exits: stop.accept_exits.unwrap_or_else(|| vec![0]),
                signal: stop.signal.unwrap_or(Signal::Term),
                force,
                evidence: stop.evidence.iter().map(|c| self.command(c)).collect(),
                patterns: stop_patterns,
            },
            reload,
            ladder,
            steady: s.steady.unwrap_or_default(),
            ailing_after: s.ailing_after.unwrap_or(2),
            look_every: s.look_every,
            if_it_fails,
            acts,
        };
        self.elsewhere = false;
        service
    }

    /// On another host there is no folder of the estate that a path could start from.
    fn paths_elsewhere(&mut self, draft: &Draft) {
        let s = &draft.settings;
        let mut paths: Vec<(String, &str)> = Vec::new();
        for (key, list) in [("logs", &s.logs), ("configuration", &s.configuration)] {
            paths.extend(list.iter().filter(|p| !p.starts_with("journal:")).map(|p| (key.to_owned(), p.as_str())));
        }
        if let Some(p) = &s.process {
            // A bare name is looked up in PATH there.
            paths.extend(p.program.as_deref().filter(|p| p.contains('/')).map(|p| ("process.program".to_owned(), p)));
            paths.extend(p.dir.as_deref().map(|d| ("process.dir".to_owned(), d)));
        }
        if let Some(c) = &s.commands {
            paths.extend(c.dir.as_deref().map(|d| ("commands.dir".to_owned(), d)));
            for (word, command) in [("start", &c.start), ("stop", &c.stop), ("force", &c.force), ("reload", &c.reload), ("state", &c.state)]
            {
                paths.extend(command.first().filter(|p| p.contains('/')).map(|p| (format!("commands.{word}"), p.as_str())));
            }
        }
        let relative: Vec<(String, String)> =
            paths.into_iter().filter(|(_, p)| !p.starts_with('/')).map(|(k, p)| (k, p.to_owned())).collect();
        for (key, path) in relative {
            self.faults.error(
                "relative-path",
                self.at(draft, &key),
                format!("\"{path}\" of {} is on another host, and does not say where", draft.address),
                "write it from the root: \"/opt/…\"",
            );
        }
    }

    pub(super) fn reload(&self, draft: &Draft, runner: &ServiceRunner, patience: Span) -> Option<ReloadBlock> {
        let can = match runner {
            ServiceRunner::Process(_) | ServiceRunner::Systemd(_) => draft.settings.reload.is_some(),
            ServiceRunner::Simulated(_) => draft.settings.reload.is_some(),
            ServiceRunner::Host(_) | ServiceRunner::Outlet(_) => false,
            ServiceRunner::Commands(c) => !c.reload.is_empty(),
        };
        let r = draft.settings.reload.clone().unwrap_or_default();
        can.then(|| ReloadBlock {
            signal: r.signal.unwrap_or(Signal::Hup),
            pause_before: r.pause_before.unwrap_or_default(),
            pause_after: r.pause_after.unwrap_or_default(),
            patience: r.patience.unwrap_or(patience),
            accept_exits: r.accept_exits.unwrap_or_else(|| vec![0]),
            patterns: LogPatterns { must_see: r.must_see, must_not_see: r.must_not_see, overlook: r.overlook },
        })
    }

    fn runner(&mut self, draft: &Draft, host: &Host) -> ServiceRunner {
        let (s, address) = (&draft.settings, &draft.address);
        if address.is_power() {
            return self.power_runner(address, host);
        }
        // On a simulated host everything is played, whatever carries it where it is real.
        if host.reach == Reach::Simulated {
            return ServiceRunner::Simulated(self.simulated(draft, s.simulated.as_ref()));
        }
        let missing = |what: &str| format!("{address} {what}");
        match s.run_by {
            Some(RunBy::Commands) => {
                let c = s.commands.clone().unwrap_or_default();
                for (word, given) in [("start", &c.start), ("stop", &c.stop), ("state", &c.state)] {
                    if given.is_empty() && s.hands_off.is_none() && !self.is_meant(draft, &format!("commands.{word}")) {
                        self.faults.error(
                            "missing-key",
                            self.at(draft, "commands"),
                            missing(&format!("is run by commands and has no {word} command")),
                            format!("add `{word} = [\"program\", \"argument\"]` to its commands block"),
                        );
                    }
                }
                ServiceRunner::Commands(CommandsSpec {
                    start: self.command(&c.start),
                    stop: self.command(&c.stop),
                    force: self.command(&c.force),
                    reload: self.command(&c.reload),
                    state: self.command(&c.state),
                    state_up: c.state_up.unwrap_or_else(|| vec![0]),
                    state_down: c.state_down.unwrap_or_else(|| vec![1, 3]),
                    dir: c.dir.map_or_else(|| self.base_folder(), |d| self.path(&d)),
                    env: c.env,
                    to_the_letter: Default::default(),
                    user: c.user,
                    umask: self.umask(draft, "commands", c.umask.as_deref()),
                    within: c.within.unwrap_or(Span::secs(60)),
                })
            }
            Some(RunBy::Systemd) => {
                let unit = s.unit.clone().unwrap_or_else(|| address.service.to_string());
                let whole = if UNIT_KINDS.iter().any(|k| unit.ends_with(k)) { unit.clone() } else { format!("{unit}.service") };
                // What systemd.unit(5) allows in a name.
                let fits = |c: char| c.is_ascii_alphanumeric() || ":-_.\\@".contains(c);
                if unit.is_empty() || unit.starts_with('-') || !unit.chars().all(fits) || whole.len() > 255 {
                    self.faults.error(
                        "bad-unit",
                        self.at(draft, "unit"),
                        format!("\"{unit}\" is no unit's name"),
                        "write it as the host's manager does: \"postgresql@15-main\"",
                    );
                } else if OTHER_KINDS.iter().any(|k| unit.ends_with(k)) {
                    self.faults.error(
                        "bad-unit",
                        self.at(draft, "unit"),
                        format!("\"{unit}\" is no unit that can be a service: starting or stopping it means something else"),
                        "name a unit of one of these kinds: .service, .socket, .timer, .path, .mount",
                    );
                }
                ServiceRunner::Systemd(SystemdSpec { unit: whole, at_boot: s.at_boot })
            }
            Some(RunBy::Simulated) => {
                self.faults.error(
                    "contradiction",
                    self.at(draft, "run_by"),
                    missing(&format!("is simulated, and {} is not", address.host)),
                    "put it on a host with `reach = \"simulated\"`, or say what carries it",
                );
                ServiceRunner::Simulated(self.simulated(draft, s.simulated.as_ref()))
            }
            Some(RunBy::Process) | None => {
                if s.run_by.is_none() && s.hands_off.is_none() && !self.is_meant(draft, "run_by") {
                    self.faults.error(
                        "missing-key",
                        self.places.key(&draft.path),
                        missing("does not say what carries it"),
                        "add `run_by = \"process\"` (Yantro starts it), `run_by = \"systemd\"` (the host's manager does) or `run_by = \"commands\"` (its own commands do)",
                    );
                }
                let p = s.process.clone().unwrap_or_default();
                let is_lacking = p.program.is_none() && s.run_by == Some(RunBy::Process) && s.hands_off.is_none();
                if is_lacking && !self.is_meant(draft, "process.program") {
                    self.faults.error(
                        "missing-key",
                        self.at(draft, "process"),
                        missing("is run as a process and names no program"),
                        "add a process block with `program = \"…\"`",
                    );
                }
                ServiceRunner::Process(ProcessSpec {
                    program: p.program.as_deref().map(|t| self.program(t)).unwrap_or_default(),
                    args: p.args,
                    dir: p.dir.map_or_else(|| self.base_folder(), |d| self.path(&d)),
                    env: p.env,
                    user: p.user,
                    umask: self.umask(draft, "process", p.umask.as_deref()),
                    apart: Default::default(),
                })
            }
        }
    }

    /// A mask as umask(2) has it: octal digits.
    fn umask(&mut self, draft: &Draft, block: &str, written: Option<&str>) -> Option<u32> {
        let written = written?;
        let read = u32::from_str_radix(written, 8).ok().filter(|m| *m <= 0o777 && !written.starts_with('+'));
        if read.is_none() {
            let says = format!("\"{written}\" is no mask of rights");
            let mend = "write three octal digits, each with the rights that are never given: \"022\", \"027\" or \"077\"";
            self.faults.error("bad-umask", self.at(draft, &format!("{block}.umask")), says, mend);
        }
        read
    }

    /// The nearest rule wins: the service's own, else that of its groups, which must agree (R28).
    pub(super) fn if_it_fails(&mut self, draft: &Draft) -> Option<IfItFails> {
        let s = &draft.settings;
        if let Some(said) = &s.if_it_fails {
            return self.rule(said, &self.at(draft, "if_it_fails"));
        }
        let of_groups: BTreeMap<String, IfItFailsFile> = s
            .groups
            .iter()
            .filter_map(|g| self.file.group.iter().find(|(n, _)| n.eq_ignore_ascii_case(g)))
            .filter_map(|(n, g)| Some((n.clone(), g.if_it_fails.clone()?)))
            .collect();
        let mut rules: Vec<&IfItFailsFile> = of_groups.values().collect();
        rules.dedup();
        if rules.len() > 1 {
            let names: Vec<&str> = of_groups.keys().map(String::as_str).collect();
            self.faults.error(
                "groups-disagree",
                self.at(draft, "groups"),
                format!("the groups of {} disagree about what happens if it fails: {}", draft.address, names.join(", ")),
                "say it on the service: `if_it_fails = \"hold\"`",
            );
        }
        let (name, rule) = of_groups.iter().next()?;
        self.rule(rule, &self.places.value(&format!("group.{name}.if_it_fails")))
    }

    /// A rule as it is meant: a procedure that takes over must be there.
    pub(super) fn rule(&mut self, said: &IfItFailsFile, place: &Place) -> Option<IfItFails> {
        Some(match said {
            IfItFailsFile::Rule(FailureRule::Hold) => IfItFails::Hold,
            IfItFailsFile::Rule(FailureRule::CarryOn) => IfItFails::CarryOn,
            IfItFailsFile::Rule(FailureRule::PutBack) => IfItFails::PutBack,
            IfItFailsFile::Divert(DivertFile { divert }) => {
                let known = self.file.procedure.keys().any(|n| n.eq_ignore_ascii_case(divert));
                if !known {
                    let names: Vec<String> = self.file.procedure.keys().cloned().collect();
                    self.faults.error(
                        "unknown-name",
                        place.clone(),
                        format!("it diverts to \"{divert}\", and there is no such procedure"),
                        did_you_mean(divert, names.iter().map(String::as_str)),
                    );
                }
                IfItFails::Divert(divert.parse().ok()?)
            }
        })
    }

    /// The further acts of a service.
    pub(super) fn acts(&mut self, draft: &Draft, host: &Host) -> BTreeMap<String, FurtherAct> {
        let mut acts = BTreeMap::new();
        for (name, act) in draft.settings.acts.clone() {
            let key = format!("acts.{name}");
            if act.command.first().is_none_or(|p| p.trim().is_empty()) {
                self.faults.error(
                    "no-command",
                    self.at(draft, &key),
                    format!("the act \"{name}\" of {} names no command", draft.address),
                    "write program and arguments as a list: `command = [\"bin/drain\", \"--all\"]`",
                );
            }
            let places: Vec<Place> = (0..act.ladder.len()).map(|i| self.at(draft, &format!("{key}.ladder.{i}"))).collect();
            let ladder = self.rungs(&act.ladder, &places, host);
            acts.insert(
                name.to_ascii_lowercase(),
                FurtherAct {
                    title: act.title.unwrap_or_else(|| name.clone()),
                    command: self.command(&act.command),
                    ladder,
                    patience: act.patience.unwrap_or(Span::secs(60)),
                    accept_exits: act.accept_exits.unwrap_or_else(|| vec![0]),
                    impact: impact(act.impact.as_ref()),
                    changes_nothing: act.changes_nothing,
                    taken_back_by: act.taken_back_by.map(|b| b.to_ascii_lowercase()),
                    at_rest: false,
                },
            );
        }
        let names: Vec<&str> = draft.settings.acts.keys().map(String::as_str).collect();
        for (name, act) in &draft.settings.acts {
            if let Some(back) = act.taken_back_by.as_ref().filter(|b| !names.iter().any(|n| n.eq_ignore_ascii_case(b))) {
                self.faults.error(
                    "unknown-name",
                    self.at(draft, &format!("acts.{name}.taken_back_by")),
                    format!("{} has no act \"{back}\"", draft.address),
                    did_you_mean(back, names.iter().copied()),
                );
            }
        }
        acts
    }
}

/// What every unit can have done besides, by the manager's public commands.
fn acts_of_manager(unit: &str) -> [(&'static str, FurtherAct); 3] {
    let words = |all: &[&str]| all.iter().map(|w| (*w).to_owned()).collect::<Vec<_>>();
    let asked = |script: &str| Rung {
        kind: RungKind::Command {
            command: words(&["/bin/sh", "-c", script, "look", unit]),
            holds: vec![0],
            not_yet: vec![1],
            within: Span::secs(10),
        },
        gone_after_stop: false,
    };
    let act = |title: &str, command: &[&str], rung: Rung, back: Option<&str>| FurtherAct {
        title: title.to_owned(),
        command: words(&[&["systemctl", "--no-ask-password"][..], command].concat()),
        ladder: vec![rung],
        patience: Span::secs(60),
        accept_exits: vec![0],
        impact: Impact::default(),
        changes_nothing: back.is_none(),
        taken_back_by: back.map(str::to_owned),
        at_rest: true,
    };
    // The unit is an argument of these scripts, never part of them.
    let read = "test \"$(systemctl show --property=NeedDaemonReload --value -- \"$1\")\" = no";
    let comes_up = "systemctl is-enabled --quiet -- \"$1\"";
    let stays_down = "! systemctl is-enabled --quiet -- \"$1\"";
    [
        (REREAD, act("The manager goes by the definition on disk", &["daemon-reload"], asked(read), None)),
        (AT_BOOT_ON, act("Comes up by itself at boot", &["enable", unit], asked(comes_up), Some(AT_BOOT_OFF))),
        (AT_BOOT_OFF, act("Stays down at boot", &["disable", unit], asked(stays_down), Some(AT_BOOT_ON))),
    ]
}

/// What users notice, as it is written.
pub(super) fn impact(said: Option<&ImpactFile>) -> Impact {
    match said {
        Some(ImpactFile::Level(level)) => Impact { level: *level, says: None },
        Some(ImpactFile::Told(told)) => Impact { level: told.level, says: Some(told.says.clone()) },
        None => Impact::default(),
    }
}
