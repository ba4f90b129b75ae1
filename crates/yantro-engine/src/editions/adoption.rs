//! Looking through hosts, and describing what was found there.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use yantro_core::{
    name::{HostName, did_you_mean},
    survey::Survey,
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
        Ok(HostSurvey { host: host.clone(), survey, toml })
    }

    /// Describes units of a host as services of the estate, in a new edition.
    pub async fn adopt(&self, host: &HostName, units: &[String], why: Option<String>, who: &str) -> Result<LoadOutcome, EngineError> {
        let found = self.survey(host, units).await?;
        let loaded = self.loaded().ok_or(EngineError::NoEstate)?;
        let text = format!("{}\n\n{}", loaded.text.trim_end(), found.toml.trim_start());
        self.load_adopted(LoadRequest { text, folder: loaded.folder.clone(), why, over_edits: true }, who).await
    }
}
