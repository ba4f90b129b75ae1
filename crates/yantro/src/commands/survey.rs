//! Looking through a host for what it runs.

use yantro_core::{text::survey::FoundPort, words::name::HostName};
use yantro_engine::{HostSurvey, LoadOutcome};
use yantro_server::wire::Adoption;

use crate::{
    Global,
    client::{Client, wait_for},
    exit::{Exit, Outcome},
    marks,
    say::{Say, Tint, tinted},
};

/// Look through a host: what runs there, and how it would be described.
#[derive(clap::Args)]
pub struct LookThrough {
    /// The host.
    host: HostName,
    /// The system's own plumbing too, and listeners of nobody's.
    #[arg(long)]
    everything: bool,
    /// Print how this unit would be described in the estate file; once for each.
    #[arg(long, value_name = "UNIT", conflicts_with = "adopt")]
    describe: Vec<String>,
    /// Describe this unit in a new edition of the estate; once for each.
    #[arg(long, value_name = "UNIT")]
    adopt: Vec<String>,
    /// Why, for the record.
    #[arg(long)]
    why: Option<String>,
}

/// A unit's whole name: a bare one is a service.
fn whole(unit: String) -> String {
    if unit.ends_with(".service") { unit } else { format!("{unit}.service") }
}

fn listens(ports: &[FoundPort]) -> String {
    let mut all: Vec<String> = ports.iter().map(|p| p.port.to_string()).collect();
    all.dedup();
    all.join(", ")
}

impl LookThrough {
    pub fn run(self, global: &Global, say: &Say) -> Outcome {
        let client = Client::find(global)?;
        if !self.adopt.is_empty() {
            let body = Adoption { host: self.host, units: self.adopt.into_iter().map(whole).collect(), why: self.why };
            let outcome: LoadOutcome = wait_for(client.post("/adoptions", &body))?;
            if say.is_json() {
                say.json(&outcome);
                return Ok(Exit::Good);
            }
            say.line(format!("Edition {}.", outcome.edition));
            for address in &outcome.added {
                say.line(format!("  new     {address}"));
            }
            for address in &outcome.altered {
                say.line(format!("  changed {address}"));
            }
            for remark in &outcome.remarks {
                say.line(tinted(Tint::Moving, format!("  {remark}")));
            }
            say.line("Your file does not have them yet: `yantro estate` prints the whole.");
            return Ok(Exit::Good);
        }
        let chosen: Vec<String> = self.describe.into_iter().map(whole).collect();
        let found: HostSurvey = wait_for(client.get(&format!("/found?on={}&describe={}", self.host, chosen.join(","))))?;
        if say.is_json() {
            say.json(&found);
            return Ok(Exit::Good);
        }
        if !chosen.is_empty() {
            say.text(found.toml.trim_start());
            found.left_out.iter().for_each(|l| say.talk(l));
            return Ok(Exit::Good);
        }
        let mut table = marks::table(&["UNIT", "WHAT IT IS", "STATE", "AT BOOT", "LISTENS ON", "IN THE ESTATE"]);
        let shown: Vec<_> = found.survey.units.iter().filter(|u| self.everything || !u.plumbing).collect();
        for unit in &shown {
            let known = unit.described_as.as_ref().map_or_else(|| tinted(Tint::Rest, "not yet"), ToString::to_string);
            table.add_row([unit.unit.clone(), unit.title.clone(), unit.state.clone(), unit.at_boot.clone(), listens(&unit.ports), known]);
        }
        say.line(marks::lines(&table));
        if self.everything {
            for port in &found.survey.others {
                let process = port.process.as_deref().unwrap_or("a process that cannot be seen");
                say.line(format!("  port {} on {}: {process}, of no unit", port.port, port.on));
            }
        }
        let left = found.survey.units.len() - shown.len();
        if left > 0 {
            say.line(tinted(Tint::Rest, format!("\n{left} of the system's own are left out; see them with --everything")));
        }
        if let Some(new) = shown.iter().find(|u| u.described_as.is_none()) {
            let name = new.unit.trim_end_matches(".service");
            say.line(format!("\nSee how one would be described:  yantro look-through {} --describe {name}", found.host));
            say.line(format!("Take it into the estate:         yantro look-through {} --adopt {name} --why …", found.host));
        }
        Ok(Exit::Good)
    }
}
