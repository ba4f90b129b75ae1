//! What a host's service manager says of a unit, what that comes to, and the terms on which it acts (R38).
//!
//! The words are systemd's public interface: org.freedesktop.systemd1(5) for the properties, systemd.exec(5) for the exit
//! codes by which it says why a process could not be begun.

use std::collections::BTreeSet;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::{
    proof::answer::Answer,
    words::time::{Span, Timestamp},
};

/// What the manager says of a unit: the first of two witnesses, beside the service's own ladder.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct UnitWord {
    /// The unit.
    pub unit: String,
    /// Whether its definition could be loaded: `loaded`, `not-found`, `masked`, `bad-setting`, `error`.
    pub load: String,
    /// `active`, `reloading`, `inactive`, `failed`, `activating`, `deactivating`.
    pub active: String,
    /// The finer state, such as `running` or `auto-restart`.
    pub sub: String,
    /// How it ended the last time: `success`, `exit-code`, `signal`, `timeout`, …
    pub result: String,
    /// The exit code of its main process, where that ended by itself.
    pub exit_code: Option<i32>,
    /// The signal that ended its main process.
    pub signal: Option<i32>,
    /// Its main process.
    pub main_pid: Option<u32>,
    /// Since when it is in this state.
    pub since: Option<Timestamp>,
    /// How often the manager has started it again by itself since it was started.
    pub restarts: u32,
    /// Which of its runs this is.
    pub invocation: String,
    /// Whether it comes up at boot: `enabled`, `disabled`, `static`, `masked`, …
    pub at_boot: String,
    /// Its definition on disk is newer than what the manager goes by.
    pub reread_due: bool,
    /// A condition in its definition was not met when it was last to be started.
    pub condition_unmet: bool,
    /// Whether processes of it are left.
    pub has_processes: bool,
}

/// On what terms the manager acts on a unit.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct UnitTerms {
    /// How long it lets a start take; without end where nothing is said.
    pub start_within: Option<Span>,
    /// How long it lets a stop take; without end where nothing is said.
    pub stop_within: Option<Span>,
    /// Whether it kills what has not stopped by then.
    pub kills: bool,
    /// Units that are up and that it would stop along with it.
    pub stops_too: BTreeSet<String>,
    /// Units that are down and that it would start along with it.
    pub starts_too: BTreeSet<String>,
    /// Units that are up and start it again when somebody calls: sockets, timers, paths.
    pub woken_by: BTreeSet<String>,
    /// The unit that Yantro's own processes there hang on, where that is this one, by whatever name, or would stop along with it
    /// (R13).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hung_on: Option<String>,
}

impl UnitWord {
    /// Whether something of it runs: the graver of what is said and of what is there (R16).
    pub fn runs(&self) -> bool {
        matches!(self.active.as_str(), "active" | "reloading" | "activating" | "deactivating") || self.has_processes
    }

    /// Its state in one piece: `active (running)`.
    pub fn state(&self) -> String {
        if self.sub.is_empty() { self.active.clone() } else { format!("{} ({})", self.active, self.sub) }
    }

    /// The same for a row: with how often the manager started it again by itself.
    pub fn standing(&self) -> String {
        if self.restarts == 0 { self.state() } else { format!("{}, started again {} by its manager", self.state(), times(self.restarts)) }
    }

    /// How its main process ended, in words with the mend.
    pub fn failure(&self) -> (String, &'static str) {
        match self.load.as_str() {
            "not-found" => return (format!("the manager knows no unit {}", self.unit), "install it, or correct `unit` in the estate"),
            "masked" => return (format!("{} is masked: it cannot be started", self.unit), "unmask it on the host, if it is meant to run"),
            "bad-setting" | "error" => {
                return (
                    format!("the definition of {} cannot be loaded", self.unit),
                    "see `systemctl status` on the host, mend it and have it re-read",
                );
            }
            _ => {}
        }
        let code = self.exit_code.unwrap_or_default();
        let by_code = match (self.result.as_str(), code) {
            ("exit-code", 200) => {
                Some(("its working folder cannot be entered", "make the folder, or correct WorkingDirectory= in its unit"))
            }
            ("exit-code", 203) => {
                Some(("its program cannot be run: it is missing, or may not be run", "install it, or correct ExecStart= in its unit"))
            }
            ("exit-code", 208) => Some(("its standard input cannot be opened", "see StandardInput= in its unit")),
            ("exit-code", 209) => Some(("its standard output cannot be opened", "see StandardOutput= in its unit")),
            ("exit-code", 210) => Some(("its root folder cannot be entered", "see RootDirectory= in its unit")),
            ("exit-code", 216) => Some(("its group is missing", "make the group, or correct Group= in its unit")),
            ("exit-code", 217) => Some(("its account is missing", "make the account, or correct User= in its unit")),
            ("exit-code", 226) => {
                Some(("its own view of the files cannot be made", "see the folders named in its unit: each must be there"))
            }
            ("exit-code", 233..=243) => {
                Some(("one of its folders cannot be made", "see the folders named in its unit, and the room left on the disk"))
            }
            ("exit-code", 200..=243) => {
                Some(("the manager could not prepare its process", "see systemd.exec(5) for the code, and the journal"))
            }
            ("timeout", _) => Some((
                "the manager's own time limit came first",
                "give it more time in its unit (TimeoutStartSec=, TimeoutStopSec=), or see why it takes so long",
            )),
            ("start-limit-hit", _) => Some((
                "it was started too often in a short time, and the manager starts it no more",
                "see why it ends; then `systemctl reset-failed` on the host",
            )),
            ("resources", _) => Some(("the manager had not what it takes to start it", "see the journal, and the unit's limits")),
            ("protocol", _) => Some(("it did not say that it is ready as its unit promises", "see Type= and PIDFile= in its unit")),
            ("watchdog", _) => Some(("it did not report to the manager in time", "see WatchdogSec= in its unit, and why it hung")),
            ("oom-kill", _) => Some(("the kernel ended it for want of memory", "see the memory that the host has left, and its limits")),
            _ => None,
        };
        if let Some((why, mend)) = by_code {
            let told = if code == 0 { String::new() } else { format!(" (exit code {code})") };
            return (format!("{why}{told}"), mend);
        }
        match (self.result.as_str(), self.exit_code, self.signal) {
            ("signal" | "core-dump", _, Some(signal)) => (format!("signal {signal} ended it"), "see its journal for why"),
            (_, Some(code), _) => (format!("it ended with exit code {code}"), "see its journal for why"),
            (result, ..) => (format!("its result is \"{result}\""), "see its journal for why"),
        }
    }

    /// The rung that a start climbs, and the board looks at. `before` is the run of it that an act found: what that one
    /// ended as says nothing of the new one. `since` is when the act was given, where there was one.
    pub fn answer(&self, before: Option<&str>, proves_a_start: bool) -> Answer {
        let is_old = before.is_some_and(|b| b == self.invocation);
        if self.load != "loaded" {
            let (why, mend) = self.failure();
            return Answer::against(format!("{why}; {mend}"));
        }
        match self.active.as_str() {
            "active" | "reloading" if is_old && proves_a_start => {
                Answer::not_yet(format!("still the run from before the act, {}", self.state()))
            }
            "active" | "reloading" if proves_a_start && self.restarts > 0 => {
                Answer::against(format!("a crash loop: the manager has started it again {}, and may at any moment", times(self.restarts)))
            }
            "active" | "reloading" => {
                let process = self.main_pid.map(|p| format!(", process {p}")).unwrap_or_default();
                let again =
                    if self.restarts > 0 { format!(", started again {} by the manager", times(self.restarts)) } else { String::new() };
                Answer::holds(format!("{}{process}{again}", self.state()))
            }
            "activating" if self.sub.starts_with("auto-restart") => {
                let (why, mend) = self.failure();
                Answer::against(format!("a crash loop: {why}, and the manager is about to start it again; {mend}"))
            }
            "failed" if is_old => Answer::not_yet("failed before the act"),
            "failed" => {
                let (why, mend) = self.failure();
                Answer::against(format!("failed: {why}; {mend}"))
            }
            "inactive" if self.condition_unmet && proves_a_start => {
                Answer::against("a condition in its unit is not met, and the manager left it down; see Condition…= in its unit".to_owned())
            }
            _ => Answer::not_yet(self.state()),
        }
    }

    /// The same rung after a stop: down, and nothing of it left.
    pub fn stopped(&self) -> Answer {
        match self.active.as_str() {
            "inactive" | "failed" if self.has_processes => Answer::not_yet(format!("{}, and processes of it are left", self.state())),
            "inactive" => Answer::holds(self.state()),
            "failed" => {
                let (why, _) = self.failure();
                Answer::holds(format!("{}: {why}", self.state()))
            }
            _ => Answer::not_yet(self.state()),
        }
    }

    /// Whether it comes up by itself at boot; `None` where it can be neither switched on nor off.
    pub fn comes_up_at_boot(&self) -> Option<bool> {
        match self.at_boot.as_str() {
            "enabled" | "enabled-runtime" => Some(true),
            "disabled" | "masked" | "masked-runtime" => Some(false),
            _ => None,
        }
    }
}

/// So many times, in words.
pub(crate) fn times(n: u32) -> String {
    if n == 1 { "once".to_owned() } else { format!("{n} times") }
}
