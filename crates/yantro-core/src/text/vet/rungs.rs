//! Ladders: the rungs that a runner has by itself, and those that are written.

use super::{Draft, Place, Vetting};
use crate::{model::*, text::file::*, words::time::Span};

impl Vetting<'_, '_> {
    pub(super) fn ladder(&mut self, draft: &Draft, host: &Host, runner: &ServiceRunner) -> Vec<Rung> {
        let mut rungs = Vec::new();
        if matches!(runner, ServiceRunner::Commands(c) if !c.state.is_empty()) {
            rungs.push(Rung { kind: RungKind::State, gone_after_stop: true });
        }
        if matches!(runner, ServiceRunner::Systemd(_)) {
            rungs.push(Rung { kind: RungKind::Manager, gone_after_stop: true });
        }
        if matches!(runner, ServiceRunner::Simulated(_)) {
            rungs.push(Rung { kind: RungKind::State, gone_after_stop: true });
        }
        let tells = match runner {
            ServiceRunner::Host(h) => h.power.tells(),
            ServiceRunner::Outlet(_) => true,
            _ => false,
        };
        if tells {
            rungs.push(Rung { kind: RungKind::Power, gone_after_stop: true });
        }
        let places: Vec<Place> = (0..draft.settings.ladder.len()).map(|i| self.at(draft, &format!("ladder.{i}"))).collect();
        rungs.extend(self.rungs_of(&draft.settings.ladder, &places, host, draft.address.is_host()));
        rungs
    }

    /// Rungs as they are meant, on a host; `places` are where each is written.
    pub(super) fn rungs(&mut self, written: &[RungFile], places: &[Place], host: &Host) -> Vec<Rung> {
        self.rungs_of(written, places, host, false)
    }

    /// The same, for a host itself or for what is on one.
    pub(super) fn rungs_of(&mut self, written: &[RungFile], places: &[Place], host: &Host, of_host: bool) -> Vec<Rung> {
        let mut rungs = Vec::new();
        for (rung, place) in written.iter().zip(places) {
            let mut port_of = |port: &PortFile| {
                match port {
                    PortFile::Number(n) if *n > 0 => Some(*n),
                    PortFile::Number(_) => None,
                    PortFile::Text(text) => text.parse::<u16>().ok().filter(|n| *n > 0),
                }
                .or_else(|| {
                    let said = match port {
                        PortFile::Number(n) => n.to_string(),
                        PortFile::Text(text) => text.clone(),
                    };
                    self.faults.error("bad-port", place.clone(), format!("{said} is no port"), "a port is a number from 1 to 65535");
                    None
                })
            };
            let (kind, gone_after_stop) = match rung {
                RungFile::Process {} => (RungKind::Process, true),
                RungFile::Port { port, on, held_by_any } => {
                    let Some(port) = port_of(port) else { continue };
                    (RungKind::Port { port, on: on.clone().or_else(|| Some(host.address.clone())), held_by_any: *held_by_any }, true)
                }
                RungFile::Connect { port, to } => {
                    let Some(port) = port_of(port) else { continue };
                    // Stop proof never connects (R15).
                    (RungKind::Connect { port, to: to.clone().unwrap_or_else(|| host.address.clone()) }, false)
                }
                // A host that was shut down answers no more; a service's ping is its host's.
                RungFile::Ping { to } => (RungKind::Ping { to: to.clone().unwrap_or_else(|| host.address.clone()) }, of_host),
                RungFile::Reached {} => (RungKind::Reached, true),
                RungFile::Booted {} => (RungKind::Booted, false),
                RungFile::Web { url, status, contains, not_yet, pointer, equals, verify_tls, within, gone_after_stop } => {
                    if !(url.starts_with("http://") || url.starts_with("https://")) {
                        self.faults.error(
                            "bad-url",
                            place.clone(),
                            format!("\"{url}\" is no page"),
                            "write it whole: \"http://127.0.2.1:8080/health\"",
                        );
                    }
                    let kind = RungKind::Web {
                        url: url.clone(),
                        status: status.clone(),
                        contains: contains.clone(),
                        not_yet: not_yet.clone(),
                        pointer: pointer.clone(),
                        equals: equals.clone(),
                        verify_tls: *verify_tls,
                        within: within.unwrap_or(Span::secs(5)),
                    };
                    (kind, *gone_after_stop)
                }
                RungFile::Command { command, holds, not_yet, within, gone_after_stop } => {
                    if command.first().is_none_or(|program| program.trim().is_empty()) {
                        let mend = "write program and arguments as a list: [\"/usr/local/bin/fares-answers\", \"--quick\"]";
                        self.faults.error("no-command", place.clone(), "this rung names no command".to_owned(), mend);
                    }
                    let kind = RungKind::Command {
                        command: self.command(command),
                        holds: holds.clone().unwrap_or_else(|| vec![0]),
                        not_yet: not_yet.clone().unwrap_or_else(|| vec![1]),
                        within: within.unwrap_or(Span::secs(10)),
                    };
                    (kind, *gone_after_stop)
                }
                RungFile::File { path, since_start, newer_than, at_least, gone_after_stop } => {
                    let (since_start, newer_than, at_least) = (*since_start, *newer_than, *at_least);
                    (RungKind::File { path: self.path(path), since_start, newer_than, at_least }, *gone_after_stop)
                }
                RungFile::Mount { path, gone_after_stop } => (RungKind::Mount { path: self.path(path) }, *gone_after_stop),
                RungFile::Room { path, bytes } => (RungKind::Room { path: self.path(path), bytes: *bytes }, false),
                RungFile::Account { account } => (RungKind::Account { account: account.clone() }, false),
                RungFile::Owner { path, account } => (RungKind::Owner { path: self.path(path), account: account.clone() }, false),
                RungFile::PortFree { port, on } => {
                    let Some(port) = port_of(port) else { continue };
                    (RungKind::PortFree { port, on: on.clone().or_else(|| Some(host.address.clone())) }, false)
                }
                RungFile::Program { program } => (RungKind::Program { program: self.program(program) }, false),
            };
            rungs.push(Rung { kind, gone_after_stop });
        }
        rungs
    }
}
