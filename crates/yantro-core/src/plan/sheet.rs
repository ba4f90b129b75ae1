//! A sequence on paper: in order, with commands and proofs, to work by hand when Yantro itself is down (N59).

use std::{collections::BTreeMap, fmt::Write};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{Plan, Step, StepId};
use crate::{
    model::{Estate, PowerDeed, RungKind, Service, ServiceRunner, task::Task},
    words::{kinds::StepKind, time::Timestamp},
};

/// What a step would do, exactly: secrets stand as references.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct StepCommand {
    /// The step.
    pub step: StepId,
    /// The host it is given on.
    pub host: Option<String>,
    /// The command, as program and arguments; or what is done instead.
    pub command: Vec<String>,
    /// The working folder.
    pub dir: Option<String>,
    /// The account, where not the server's.
    pub user: Option<String>,
    /// The environment that it is given besides.
    pub env: Vec<String>,
    /// What proves it, in order.
    pub proof: Vec<String>,
}

/// What a step would do, exactly, with what is known filled in.
pub fn command_of(step: &Step, estate: &Estate, plan: &Plan) -> StepCommand {
    let mut out = StepCommand {
        step: step.id,
        host: step.host().map(ToString::to_string),
        command: Vec::new(),
        dir: None,
        user: None,
        env: Vec::new(),
        proof: Vec::new(),
    };
    let service = step.address().and_then(|a| estate.services.get(a));
    match (step.service(), step.task(), service) {
        (Some(on), _, Some(service)) => {
            let service = &on.acts_on(service);
            if !on.is_awaited() {
                out.command = service_command(service, on.kind);
            }
            out.proof = service
                .ladder_of(on.kind)
                .iter()
                .map(|r| if on.kind == StepKind::Stop { format!("gone: {}", r.kind.says()) } else { r.kind.says() })
                .collect();
            if on.is_awaited() {
                let how = match &service.brought_back_by {
                    Some(by) => format!("{by} starts it again, as a new process"),
                    None => "it comes up by itself, in a new boot".to_owned(),
                };
                out.proof.insert(0, how);
            } else if matches!(on.kind, StepKind::Start | StepKind::Reload | StepKind::Stop) {
                out.carried(service, on.kind);
            }
        }
        (None, Some(task), _) => {
            let task = task.filled(&plan.values).unwrap_or_else(|_| task.clone());
            match &task {
                Task::Work(work) => {
                    out.command.clone_from(&work.command);
                    out.command.extend(work.script.clone());
                    out.dir = Some(work.dir.clone());
                    out.user.clone_from(&work.user);
                    out.env = work.env.iter().map(|(k, v)| format!("{k}={v}")).collect();
                    let exits: Vec<String> = work.accept_exits.iter().map(ToString::to_string).collect();
                    out.proof.push(format!("exit code {}", exits.join(" or ")));
                    out.proof.extend(super::meanwhile(work).map(|(a, must)| format!("{a} is {must} before and after")));
                    out.proof.extend(work.keep.iter().map(|(n, p)| format!("its output has {n}: {p}")));
                }
                Task::Act { act, .. } => {
                    if let Some(further) = service.and_then(|s| s.acts.get(act)) {
                        out.command.clone_from(&further.command);
                        out.proof = further.ladder.iter().map(|r| r.kind.says()).collect();
                    }
                    if let Some(service) = service {
                        out.carried(service, StepKind::Act);
                    }
                }
                Task::Until { rungs, .. } => out.proof = rungs.iter().map(|r| r.kind.says()).collect(),
                Task::Look { rung, .. } => out.proof.push(rung.kind.says()),
                Task::Announce { says, to } => {
                    out.command = vec!["tell people:".to_owned(), says.clone()];
                    out.host.clone_from(to);
                }
                Task::Question(question) => out.command = vec!["ask:".to_owned(), question.asks.clone()],
                Task::Pause { .. } | Task::UntilTime { .. } | Task::ByHand { .. } => {}
            }
        }
        _ => {}
    }
    out
}

impl StepCommand {
    fn carried(&mut self, service: &Service, kind: StepKind) {
        let (dir, env, user) = match &service.runner {
            // A signal is sent: folder and environment have nothing to do with it.
            ServiceRunner::Systemd(_) | ServiceRunner::Host(_) | ServiceRunner::Outlet(_) | ServiceRunner::Simulated(_) => return,
            ServiceRunner::Process(_) if matches!(kind, StepKind::Stop | StepKind::Reload) => return,
            ServiceRunner::Process(p) => (&p.dir, &p.env, &p.user),
            ServiceRunner::Commands(c) => (&c.dir, &c.env, &c.user),
        };
        self.dir = Some(dir.clone());
        self.user.clone_from(user);
        self.env = env.iter().map(|(k, v)| format!("{k}={v}")).collect();
    }
}

/// How the host's manager is asked for something: its own public command, so that the record has what anyone could type.
pub fn manager_command(deed: &str, unit: &str) -> Vec<String> {
    ["systemctl", "--no-ask-password", deed, "--", unit].map(str::to_owned).to_vec()
}

/// The manager's own command that kills what is left of a unit.
pub fn manager_kill(unit: &str) -> Vec<String> {
    ["systemctl", "--no-ask-password", "kill", "--signal=KILL", "--", unit].map(str::to_owned).to_vec()
}

fn service_command(service: &Service, kind: StepKind) -> Vec<String> {
    match (&service.runner, kind) {
        (ServiceRunner::Process(p), StepKind::Start) => std::iter::once(p.program.clone()).chain(p.args.iter().cloned()).collect(),
        (ServiceRunner::Process(_), StepKind::Stop) => vec![format!("send {} to its process", service.stop.signal.name())],
        (ServiceRunner::Process(_), StepKind::Reload) => {
            let signal = service.reload.as_ref().map_or("HUP", |r| r.signal.name());
            vec![format!("send {signal} to its process")]
        }
        (ServiceRunner::Commands(c), StepKind::Start) => c.start.clone(),
        (ServiceRunner::Commands(c), StepKind::Stop) => c.stop.clone(),
        (ServiceRunner::Commands(c), StepKind::Reload) => c.reload.clone(),
        (ServiceRunner::Systemd(s), StepKind::Start) => manager_command("start", &s.unit),
        (ServiceRunner::Systemd(s), StepKind::Stop) => manager_command("stop", &s.unit),
        (ServiceRunner::Systemd(s), StepKind::Reload) => manager_command("reload", &s.unit),
        (ServiceRunner::Host(h), StepKind::Stop) if h.reboots => h.reboot.clone(),
        (ServiceRunner::Host(h), StepKind::Stop) if !h.shut_down.is_empty() => h.shut_down.clone(),
        (ServiceRunner::Host(h), StepKind::Stop) => power_command(h.power.command(PowerDeed::ShutDown)),
        (ServiceRunner::Host(h), StepKind::Start) => power_command(h.power.command(PowerDeed::On)),
        (ServiceRunner::Outlet(c), StepKind::Stop) => c.command(PowerDeed::Off),
        (ServiceRunner::Outlet(c), StepKind::Start) => c.command(PowerDeed::On),
        (ServiceRunner::Simulated(_), StepKind::Start | StepKind::Stop | StepKind::Reload) => {
            vec!["nothing: it is simulated".to_owned()]
        }
        (_, _) => vec!["wait for it; it is not acted on".to_owned()],
    }
}

fn power_command(command: Option<(Vec<String>, BTreeMap<String, String>)>) -> Vec<String> {
    command.map_or_else(|| vec!["press its button: nothing here can".to_owned()], |(words, _)| words)
}

/// A command as a shell would take it, for people to copy.
fn quoted(words: &[String]) -> String {
    let plain = |w: &String| !w.is_empty() && w.chars().all(|c| c.is_ascii_alphanumeric() || "-_./:=,@%+".contains(c));
    words.iter().map(|w| if plain(w) { w.clone() } else { format!("'{}'", w.replace('\'', "'\\''")) }).collect::<Vec<_>>().join(" ")
}

/// The plan as plain text, a box to tick for each step.
pub fn sheet(plan: &Plan, estate: &Estate, edition: u64, at: Timestamp) -> String {
    let mut out = String::new();
    let sequence = &plan.sequence;
    let when = at.to_chrono().format("%Y-%m-%d %H:%M UTC");
    let _ = writeln!(out, "{} · {}", sequence.of.says(), estate.name);
    let _ = writeln!(out, "To be worked by hand. Worked out {when} from edition {edition}, from how things stood then.");
    let _ = writeln!(out, "Steps on one line of numbers may go side by side; each waits for the steps it names.");
    for (name, value) in plan.values.iter().filter(|(n, _)| n.as_str() != "dir") {
        let _ = writeln!(out, "  {name} = {value}");
    }
    if !plan.preflight.is_empty() {
        let _ = writeln!(out, "\nBefore the first act");
        // Whoever works by hand has rights and paper of their own.
        let of_ours =
            |k: &RungKind| matches!(k, RungKind::Rights { .. } | RungKind::Signals { .. } | RungKind::Records { .. } | RungKind::Outlives);
        for look in plan.preflight.iter().filter(|l| !of_ours(&l.rung.kind)) {
            let _ = writeln!(out, "  [ ] {} (on {})", look.says, look.host);
        }
    }
    let mut rank = None;
    for step in &sequence.steps {
        if rank.replace(step.rank) != Some(step.rank) {
            let _ = writeln!(out, "\nRank {}", step.rank + 1);
        }
        let command = command_of(step, estate, plan);
        let waits: Vec<String> = step.waits.iter().map(|w| w.step.to_string()).collect();
        let after = match waits.len() {
            0 => String::new(),
            1..=8 => format!("   after {}", waits.join(", ")),
            n => format!("   after {} and {} more", waits[..8].join(", "), n - 8),
        };
        let usually = if step.usual_ms == 0 { String::new() } else { format!("   usually {}", length(step.usual_ms)) };
        let _ = writeln!(out, "  [ ] {:>3}. {}{after}{usually}", step.id, step.says());
        if !command.command.is_empty() {
            let is_words = step.service().is_none_or(|on| on.kind == StepKind::Start)
                && !matches!(step.kind(), StepKind::Announce | StepKind::Question);
            let text = if is_words { quoted(&command.command) } else { command.command.join(" ") };
            for line in text.lines() {
                let _ = writeln!(out, "            {line}");
            }
        }
        let mut place: Vec<String> = Vec::new();
        place.extend(command.host.map(|h| format!("on {h}")));
        place.extend(command.dir.map(|d| format!("in {d}")));
        place.extend(command.user.map(|u| format!("as {u}")));
        if !command.env.is_empty() {
            place.push(format!("with {}", command.env.join(" ")));
        }
        if !place.is_empty() {
            let _ = writeln!(out, "            {}", place.join(", "));
        }
        if !command.proof.is_empty() {
            let _ = writeln!(out, "            proof: {}", command.proof.join(" · "));
        }
    }
    for left in &plan.left_alone {
        let _ = writeln!(out, "\nLeave alone: {} {}", left.address, left.why);
    }
    out
}

fn length(ms: u64) -> String {
    match ms {
        0..1_000 => format!("{ms} ms"),
        1_000..120_000 => format!("{} s", ms.div_ceil(1000)),
        _ => format!("{} min", ms.div_ceil(60_000)),
    }
}
