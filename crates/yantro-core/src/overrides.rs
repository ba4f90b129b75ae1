//! Values that one single run puts over those of the estate, without changing the file (N3).

use std::{collections::BTreeMap, sync::Arc};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

use crate::{
    model::{Service, ServiceRunner},
    text::{Fault, Faults, structure},
    words::{name::Address, time::Span},
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
    /// Any other setting, written as under `[service.NAME]` in the estate file: `steady = "5s"`,
    /// `start.must_see = ["…"]`. Vetted with the whole estate when the run is planned.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub written: Option<String>,
}

/// What says which service it is and where: one run cannot put another in its place.
const FIXED: [&str; 6] = ["like", "host", "hosts", "copies", "on", "optional"];

impl Override {
    /// What it puts over its service's settings, one thing each.
    pub fn says(&self) -> Vec<String> {
        let mut says: Vec<String> = self.env.iter().map(|(name, value)| format!("{name}={value}")).collect();
        says.extend(self.args.as_ref().map(|args| format!("arguments {}", args.join(" "))));
        says.extend(self.start_patience.map(|p| format!("its start may take {p}")));
        says.extend(self.stop_patience.map(|p| format!("its stop may take {p}")));
        says.extend(self.written.iter().flat_map(|w| w.lines()).map(str::trim).filter(|l| !l.is_empty()).map(str::to_owned));
        says
    }

    /// The settings that are written, or what is wrong with them; places are those of the text.
    pub fn settings(&self) -> Result<Map<String, Value>, Vec<Fault>> {
        let Some(written) = &self.written else { return Ok(Map::new()) };
        const HEAD: &str = "[service.it]\n";
        let text = format!("{HEAD}{written}");
        let mut faults = Faults::new(&text);
        let (sound, places) = structure::read(&text, &mut faults);
        let stray = sound.as_object().into_iter().flat_map(|o| o.keys()).find(|k| *k != "service");
        if let Some(key) = stray {
            faults.error(
                "stray-key",
                places.key(key),
                format!("\"{key}\" is no setting of one service"),
                "write keys only, such as `steady = \"5s\"`",
            );
        }
        let all = sound["service"].as_object().cloned().unwrap_or_default();
        if let Some(other) = all.keys().find(|k| *k != "it") {
            let place = places.key(&format!("service.{other}"));
            faults.error(
                "stray-key",
                place,
                format!("this speaks of the service \"{other}\""),
                "write keys only, for the service it is given for",
            );
        }
        let settings = all.get("it").and_then(Value::as_object).cloned().unwrap_or_default();
        if let Some(fixed) = settings.keys().find(|k| FIXED.contains(&k.as_str())) {
            let place = places.key(&format!("service.it.{fixed}"));
            faults.error(
                "stray-key",
                place,
                format!("\"{fixed}\" says which service this is, and no run can change that"),
                "change the estate instead",
            );
        }
        if !faults.any_error() {
            return Ok(settings);
        }
        let mut told = faults.into_sorted();
        for fault in &mut told {
            fault.message = fault.message.replace("[service.it]", "a service");
            fault.line = fault.line.saturating_sub(1).max(1);
            fault.span = fault.span.start.saturating_sub(HEAD.len())..fault.span.end.saturating_sub(HEAD.len());
        }
        Err(told)
    }
}

/// Overrides by address.
pub type Overrides = BTreeMap<Address, Override>;

/// The service as one run sees it, but for what is written: that is vetted into the estate beforehand.
pub fn applied(as_loaded: &Arc<Service>, over: Option<&Override>) -> Arc<Service> {
    let mut shared = Arc::clone(as_loaded);
    let Some(over) = over else { return shared };
    let service = Arc::make_mut(&mut shared);
    match &mut service.runner {
        ServiceRunner::Process(p) => {
            p.env.extend(over.env.clone());
            if let Some(args) = &over.args {
                p.args = args.clone();
            }
        }
        ServiceRunner::Commands(c) => c.env.extend(over.env.clone()),
        // Its environment is its unit's; settings that would change it are refused where the run is asked for.
        ServiceRunner::Systemd(_) | ServiceRunner::Host(_) | ServiceRunner::Outlet(_) | ServiceRunner::Simulated(_) => {}
    }
    if let Some(patience) = over.start_patience {
        service.start.patience = patience;
    }
    if let Some(patience) = over.stop_patience {
        service.stop.patience = patience;
    }
    shared
}
