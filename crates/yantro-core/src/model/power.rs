//! What gives hosts power.

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// What gives a host power and takes it away.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(tag = "by", rename_all = "kebab-case")]
pub enum Power {
    /// A controller that speaks Redfish.
    Redfish(Controller),
    /// A Wake-on-LAN packet.
    Wake {
        /// The hardware address.
        mac: String,
        /// Where it is sent.
        broadcast: String,
        /// To which port.
        port: u16,
    },
    /// Commands, run where Yantro runs.
    Commands {
        /// Gives it power.
        on: Vec<String>,
        /// Takes it away.
        off: Vec<String>,
        /// Says whether it has power.
        state: Vec<String>,
        /// Their environment; values may be references.
        env: BTreeMap<String, String>,
    },
    /// Nothing that could be reached.
    Nobody,
}

/// A part of a power controller that speaks Redfish (DMTF DSP0266).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Controller {
    /// Where it answers.
    pub controller: String,
    /// The computer system or the outlet there, as a path.
    pub part: String,
    /// The account.
    pub account: Option<String>,
    /// Its password, as a reference.
    pub password: Option<String>,
    /// The file of certificates it is believed by.
    pub believes: Option<String>,
}

/// What is asked of a host's power.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum PowerDeed {
    /// Give it power.
    On,
    /// Take it away, whatever the host does.
    Off,
    /// Ask the host to shut down.
    ShutDown,
}

impl PowerDeed {
    /// The word of the command line.
    pub fn word(self) -> &'static str {
        match self {
            PowerDeed::On => "on",
            PowerDeed::Off => "off",
            PowerDeed::ShutDown => "shut-down",
        }
    }
}

/// The environment variable in which a controller's password reaches the command that asks it.
pub const POWER_PASSWORD: &str = "YANTRO_POWER_PASSWORD";

impl Controller {
    /// The command by which something is asked of it; the first word is this program.
    pub fn command(&self, deed: PowerDeed) -> Vec<String> {
        let mut words: Vec<String> =
            ["yantro", "power", deed.word(), "--controller", &self.controller, "--part", &self.part].map(str::to_owned).to_vec();
        for (option, value) in [("--account", &self.account), ("--believes", &self.believes)] {
            words.extend(value.iter().flat_map(|v| [option.to_owned(), v.clone()]));
        }
        words
    }
    /// What that command needs in its environment, as references.
    pub fn env(&self) -> BTreeMap<String, String> {
        self.password.iter().map(|p| (POWER_PASSWORD.to_owned(), p.clone())).collect()
    }
}

impl Power {
    /// The command by which something is asked of it, with its environment; none where it cannot do that. It is run where Yantro
    /// runs.
    pub fn command(&self, deed: PowerDeed) -> Option<(Vec<String>, BTreeMap<String, String>)> {
        match (self, deed) {
            (Power::Redfish(c), _) => Some((c.command(deed), c.env())),
            (Power::Wake { mac, broadcast, port }, PowerDeed::On) => {
                let words = ["yantro", "power", "wake", mac, "--to", broadcast, "--port", &port.to_string()].map(str::to_owned);
                Some((words.to_vec(), BTreeMap::new()))
            }
            (Power::Commands { on, env, .. }, PowerDeed::On) => Some((on.clone(), env.clone())),
            (Power::Commands { off, env, .. }, PowerDeed::Off) => Some((off.clone(), env.clone())),
            (Power::Commands { .. }, PowerDeed::ShutDown) => None,
            (Power::Wake { .. } | Power::Nobody, _) => None,
        }
        .filter(|(words, _)| !words.is_empty())
    }
    /// Whether it can be asked how things stand.
    pub fn tells(&self) -> bool {
        match self {
            Power::Redfish(_) => true,
            Power::Commands { state, .. } => !state.is_empty(),
            Power::Wake { .. } | Power::Nobody => false,
        }
    }
}
