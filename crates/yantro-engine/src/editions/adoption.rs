//! Looking through hosts, and describing what was found there.

use std::collections::BTreeSet;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use yantro_core::{
    model::Estate,
    text::{survey::Survey, vet, written::related},
    words::name::{Address, HostName, did_you_mean},
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

/// Whether an estate is what it was before but for one relation: no other copy that is described along with it took that on, and
/// none that was taken from a common block is lost by it.
fn adds_only(before: &Estate, after: &Estate, address: &Address, on: &Address) -> bool {
    type Relations<'e> = BTreeSet<(&'e BTreeSet<Address>, u32)>;
    fn relies<'e>(estate: &'e Estate, of: &Address) -> Relations<'e> {
        estate.services.get(of).into_iter().flat_map(|s| &s.relies_on).map(|r| (&r.any_of, r.at_least)).collect()
    }
    let added = BTreeSet::from([on.clone()]);
    before.services.keys().all(|a| {
        let mut wanted = relies(before, a);
        wanted.extend((a == address).then_some((&added, 1)));
        relies(after, a) == wanted
    })
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
        if let Some(mut estate) = vet(&text, &loaded.folder).estate {
            for (address, on) in found.survey.known_in(&estate, host).now_related(&loaded.estate) {
                let with = related(&text, &address.service, &on).and_then(|with| Some((vet(&with, &loaded.folder).estate?, with)));
                match with.filter(|(after, _)| adds_only(&estate, after, &address, &on)) {
                    Some((after, with)) => {
                        (estate, text) = (after, with);
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

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    /// What is written into one description must say nothing of another, and take nothing away.
    #[rstest]
    #[case::one("[service.app]\nlike = \"x\"\nhost = \"quay\"\nvalues = { port = 3 }\n", true)]
    #[case::with_a_list_of_its_own("[service.app]\nlike = \"y\"\nhost = \"quay\"\nvalues = { port = 3 }\nrelies_on = [\"old\"]\n", true)]
    #[case::that_takes_its_list_from_elsewhere("[service.app]\nlike = \"y\"\nhost = \"quay\"\nvalues = { port = 3 }\n", false)]
    #[case::on_two_hosts("[service.app]\nlike = \"x\"\nhosts = [\"quay\", \"pier\"]\nvalues = { port = 3 }\n", false)]
    #[case::that_the_other_relies_on("relies_on = [\"app\"]\n[service.app]\nlike = \"x\"\nhost = \"quay\"\nvalues = { port = 3 }\n", false)]
    fn a_relation_is_added_where_it_adds_nothing_else(#[case] rest: &str, #[case] adds: bool) {
        let text = format!(
            "[estate]\nname = \"T\"\nstands_for = \"test\"\n[host.quay]\nreach = \"here\"\n\
             [host.pier]\nreach = \"here\"\naddress = \"127.0.0.2\"\n\
             [like.x]\nrun_by = \"systemd\"\nladder = [{{ rung = \"port\", port = \"{{port}}\" }}]\n\
             [like.y]\nlike = \"x\"\nrelies_on = [\"old\"]\n\
             [service.old]\nlike = \"x\"\nhost = \"quay\"\nvalues = {{ port = 2 }}\n\
             [service.db]\nlike = \"x\"\nhost = \"quay\"\nvalues = {{ port = 1 }}\n{rest}"
        );
        let before = vet(&text, "/e");
        let before = before.estate.unwrap_or_else(|| panic!("{:?}", before.faults));
        let (address, on): (Address, Address) = ("quay/app".parse().unwrap(), "quay/db".parse().unwrap());
        let with = related(&text, &address.service, &on).unwrap();
        assert_eq!(vet(&with, "/e").estate.is_some_and(|after| adds_only(&before, &after, &address, &on)), adds, "{with}");
    }
}
