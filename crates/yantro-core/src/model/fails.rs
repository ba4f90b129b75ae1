//! What happens when a step fails.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::words::name::ProcedureName;

/// What happens when a step fails (R28).
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum IfItFails {
    /// Begin nothing new and wait for the operator.
    #[default]
    Hold,
    /// Pass over every step that waits on the failed one, and go on with the rest.
    CarryOn,
    /// Put everything back as found.
    PutBack,
    /// Run a named procedure instead.
    Divert(ProcedureName),
}

impl IfItFails {
    /// As it is written and read.
    pub fn says(&self) -> String {
        match self {
            IfItFails::Hold => "hold".to_owned(),
            IfItFails::CarryOn => "carry on".to_owned(),
            IfItFails::PutBack => "put back".to_owned(),
            IfItFails::Divert(name) => format!("divert to {name}"),
        }
    }
}
