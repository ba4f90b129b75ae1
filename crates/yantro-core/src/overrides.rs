//! Values that one single run puts over those of the estate, without changing the file (N3).

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::{
    estate::{Service, ServiceRunner},
    name::Address,
    time::Span,
};

/// What a run may put over the settings of one service.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct Override {
    /// Environment, key by key.
    pub env: BTreeMap<String, String>,
    /// Arguments, whole; only for what Yantro starts itself.
    pub args: Option<Vec<String>>,
    /// How long its start may take.
    pub start_patience: Option<Span>,
    /// How long its stop may take.
    pub stop_patience: Option<Span>,
}

/// Overrides by address.
pub type Overrides = BTreeMap<Address, Override>;

/// The service as one run sees it.
pub fn applied(service: &Service, over: Option<&Override>) -> Service {
    let mut service = service.clone();
    let Some(over) = over else { return service };
    match &mut service.runner {
        ServiceRunner::Process(p) => {
            p.env.extend(over.env.clone());
            if let Some(args) = &over.args {
                p.args = args.clone();
            }
        }
        ServiceRunner::Commands(c) => c.env.extend(over.env.clone()),
    }
    if let Some(patience) = over.start_patience {
        service.start.patience = patience;
    }
    if let Some(patience) = over.stop_patience {
        service.stop.patience = patience;
    }
    service
}
