//! The small closed lists that the estate's text, its value and those who act on it share.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// How a host is reached.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Reach {
    /// The machine that Yantro itself runs on.
    Here,
    /// Over SSH, by the system's own client.
    Ssh,
    /// Not at all: it is played, with stated times and chances, for rehearsing and teaching.
    Simulated,
}

/// What is done as another account on a host.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Sudo {
    /// Everything: the outpost itself runs as root.
    Outpost,
    /// Only acts that take it: those of the host's service manager, and commands of a service with a `user`.
    Acts,
}

/// Whether a disruptive run may be begun inside a change freeze.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum FreezeBegin {
    /// Never.
    #[default]
    Refused,
    /// Where the freeze is named and a reason is given.
    WithReason,
    /// Where a second person agrees.
    SecondPerson,
}

/// Whether a service should be up.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Expected {
    /// It should be up.
    #[default]
    Up,
    /// It should be down.
    Down,
    /// Either is right.
    Either,
}

/// What users notice of an action.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum ImpactLevel {
    /// Nothing.
    #[default]
    None,
    /// A short interruption.
    Brief,
    /// They cannot work while it is down.
    Outage,
}

/// What an estate stands for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum StandsFor {
    /// People depend on it now.
    Production,
    /// As good as production, for trying things before they go there.
    Rehearsal,
    /// For testing.
    Test,
    /// For building.
    Development,
    /// For teaching and showing.
    Demonstration,
}

/// What the answer to a question is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum QuestionKind {
    /// Text on one line.
    #[default]
    Text,
    /// A whole number.
    Number,
    /// One of `choices`.
    Choice,
    /// The address of one service.
    Address,
    /// One or several services, as a selection.
    Selection,
    /// A reference to a secret: `env:NAME` or `file:PATH`. Only the environment of work may use it.
    Secret,
}

/// What a person answers.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum PersonKind {
    /// Yes goes on, no fails the step.
    #[default]
    YesNo,
    /// A text on one line, kept under the step's name.
    Value,
}

/// What an unanswered question means.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Unanswered {
    /// As if yes had been answered.
    Yes,
    /// As if no had been answered.
    No,
    /// The step failed.
    #[default]
    Failed,
}

/// Whether force may be used.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Force {
    /// Never: killing it may corrupt it.
    Never,
    /// Only when an operator says so in the moment.
    #[default]
    Ask,
    /// By itself, once the stop's patience has passed.
    Allow,
}

/// Signals by which a process is asked to do something.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "UPPERCASE")]
pub enum Signal {
    /// Terminate.
    Term,
    /// Interrupt.
    Int,
    /// Quit.
    Quit,
    /// Hang up.
    Hup,
    /// The program's first own signal.
    Usr1,
    /// The program's second own signal.
    Usr2,
    /// Window change: some programs stop gracefully on it.
    Winch,
}

impl Signal {
    /// The name as the system writes it.
    pub fn name(self) -> &'static str {
        match self {
            Signal::Term => "TERM",
            Signal::Int => "INT",
            Signal::Quit => "QUIT",
            Signal::Hup => "HUP",
            Signal::Usr1 => "USR1",
            Signal::Usr2 => "USR2",
            Signal::Winch => "WINCH",
        }
    }
}
