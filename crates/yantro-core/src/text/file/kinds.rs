//! Groups, relations and the words that several tables share, as they are written.

use crate::words::ImpactLevel;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// `[group.NAME]`
#[derive(Debug, Clone, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct GroupFile {
    /// What people call it.
    pub title: Option<String>,
    /// How many members must stay proven while a run works on the others.
    #[schemars(range(min = 1))]
    pub keep_up: Option<u32>,
    /// How many members may be acted on at once.
    #[schemars(range(min = 1))]
    pub at_once: Option<u32>,
    /// What happens when a step on a member fails, where the member does not say.
    pub if_it_fails: Option<IfItFailsFile>,
}

/// What happens when a step fails: a rule, or `{ divert = "procedure" }`.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(untagged)]
pub enum IfItFailsFile {
    /// One of the rules that need nothing more.
    Rule(FailureRule),
    /// Run a named procedure instead.
    Divert(DivertFile),
}

/// What happens when a step fails, where no procedure takes over.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum FailureRule {
    /// Begin nothing new and wait for the operator.
    Hold,
    /// Pass over every step that waits on the failed one, and go on with the rest.
    CarryOn,
    /// Put everything back as found.
    PutBack,
}

/// The procedure that takes over when a step fails.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct DivertFile {
    /// Its name. It may use `{failed}`, the address or the title of what failed, and `{reason}`.
    pub divert: String,
}

/// What carries a service.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum RunBy {
    /// Yantro starts it itself, detached, and knows it again.
    Process,
    /// Its own start, stop and state commands.
    Commands,
    /// The host's own service manager.
    Systemd,
    /// Nothing: it is played, with stated times and chances.
    Simulated,
}

/// What users notice: `impact = "brief"`, or with a sentence.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(untagged)]
pub enum ImpactFile {
    /// Only how much.
    Level(ImpactLevel),
    /// How much, and what it is that they notice.
    Told(ImpactTold),
}

/// How much users notice, and what.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ImpactTold {
    /// How much.
    pub level: ImpactLevel,
    /// A sentence for people: "No tickets can be sold."
    pub says: String,
}

/// Something a service relies on: an address or a bare name, or with how many copies it takes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(untagged)]
pub enum RelationFile {
    /// One address, or the bare name of a service that has one copy.
    One(String),
    /// Several copies could satisfy it.
    Some(RelationSome),
}

/// A relation that several copies of a service could satisfy.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct RelationSome {
    /// The service relied on.
    pub service: String,
    /// Which copies, or how many of them, it takes.
    pub copies: CopiesNeeded,
}

/// Which copies of a service satisfy a relation.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(untagged)]
pub enum CopiesNeeded {
    /// Named: all of them, or those on the same host.
    Which(WhichCopies),
    /// At least so many.
    AtLeast(u32),
}

/// Which copies, by name.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum WhichCopies {
    /// Every copy.
    All,
    /// The copies on the host of the service that relies on them.
    SameHost,
}
