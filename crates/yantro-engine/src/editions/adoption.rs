//! Looking through hosts, and describing what was found there.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use yantro_core::{
    estate::vet,
    name::{HostName, did_you_mean},
    survey::Survey,
    written::related,
};

use crate::{
    editions::{LoadOutcome, LoadRequest},
    engine::Engine,
    error::EngineError,
};

/// What was found on a host.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
pub struct HostSurvey {
    /// The host.
    pub host: HostName,
    /// What runs there.
    pub survey: Survey,
    /// The chosen units, as a piece of an estate file.
    pub toml: String,
    /// What they need that no service describes yet, in sentences.
    #[serde(default)]
    pub left_out: Vec<String>,
}

impl Engine {
    /// Looks through a host for what could be described, and says how the chosen would be.
    pub async fn survey(&self, host: &HostName, chosen: &[String]) -> Result<HostSurvey, EngineError> {
        let loaded = self.loaded().ok_or(EngineError::NoEstate)?;
        if !loaded.estate.hosts.contains_key(host) {
            return Err(EngineError::NoHost(host.clone()));
        }
        let found = self.hands.hosts.survey(host).await.map_err(|why| EngineError::NoSurvey { host: host.clone(), why })?;
        let survey = found.known_in(&loaded.estate, host);
        if let Some(stray) = chosen.iter().find(|c| !survey.units.iter().any(|u| &u.unit == *c)) {
            let units: Vec<&str> = survey.units.iter().map(|u| u.unit.as_str()).collect();
            return Err(EngineError::NoUnit { unit: stray.clone(), hint: did_you_mean(stray, units) });
        }
        let toml = survey.describe(&loaded.estate, host, chosen);
        let left_out = survey.left_out(chosen).into_iter();
        let left_out = left_out.map(|(unit, need)| format!("{unit} needs {need}, which no service describes: take that in too")).collect();
        Ok(HostSurvey { host: host.clone(), survey, toml, left_out })
    }

    /// Describes units of a host as services of the estate, in a new edition.
    pub async fn adopt(&self, host: &HostName, units: &[String], why: Option<String>, who: &str) -> Result<LoadOutcome, EngineError> {
        let found = self.survey(host, units).await?;
        let loaded = self.loaded().ok_or(EngineError::NoEstate)?;
        let mut text = format!("{}\n\n{}", loaded.text.trim_end(), found.toml.trim_start());
        let mut remarks = found.left_out;
        // Whoever was described before what it needs relies on it from now on.
        if let Some(estate) = vet(&text, &loaded.folder).estate {
            for (address, on) in found.survey.known_in(&estate, host).now_related(&loaded.estate) {
                match related(&text, &address.service, &on).filter(|_| address.copy.is_none()) {
                    Some(with) => {
                        text = with;
                        remarks.push(format!("{address} relies on {on} from now on, as its unit says"));
                    }
                    None => remarks.push(format!("the unit of {address} needs {on}: write that into its relies_on")),
                }
            }
        }
        let request = LoadRequest { text, folder: loaded.folder.clone(), why, over_edits: true };
        let outcome = self.load_adopted(request, who).await?;
        Ok(LoadOutcome { remarks, ..outcome })
    }
}
