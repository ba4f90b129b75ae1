//! Hosts, and how they are come to.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::{
    model::power::Power,
    words::{Reach, Sudo, time::Span},
};

/// A host.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Host {
    /// What people call it, if anything else than its name.
    pub title: Option<String>,
    /// How it is reached.
    pub reach: Reach,
    /// Its network address.
    pub address: String,
    /// How many steps at once, here.
    pub at_once: Option<u32>,
    /// How the SSH client reaches it, where it does.
    #[serde(default)]
    pub ssh: Option<SshSpec>,
    /// What gives it power, where it can be acted on itself.
    #[serde(default)]
    pub power: Option<Power>,
    /// How it behaves itself, where it is simulated.
    #[serde(default)]
    pub simulated: Option<Simulated>,
}

/// How something behaves that is played. Times are those of the clock, the simulation's speed taken in.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Simulated {
    /// How long it takes to come up, half the time.
    pub starts: Span,
    /// How long it takes to go down, half the time.
    pub stops: Span,
    /// The spread of the logarithm of these times, in thousandths.
    pub spread: u32,
    /// How many starts in a thousand come to nothing.
    pub fails: u32,
    /// How many stops in a thousand are not heeded.
    pub clings: u32,
    /// Whether it is down to begin with.
    pub begins_down: bool,
    /// What chance is drawn from.
    pub seed: u64,
}

/// A host as a thing that is shut down, powered on and rebooted.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct HostSpec {
    /// What gives it power.
    pub power: Power,
    /// What shuts it down, run on it; empty where its controller asks it to.
    pub shut_down: Vec<String>,
    /// What reboots it, run on it.
    pub reboot: Vec<String>,
    /// What a stop is just now: a reboot, from which it comes back by itself.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub reboots: bool,
}

/// How OpenSSH reaches a host; what is `None` is as its own configuration has it.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct SshSpec {
    /// What it is told to connect to, where that is not the host's address.
    pub to: Option<String>,
    /// The account there.
    pub account: Option<String>,
    /// The port.
    pub port: Option<u16>,
    /// The file of the private key.
    pub key: Option<String>,
    /// The file of known host keys.
    pub known_hosts: Option<String>,
    /// The client's configuration file.
    pub config: Option<String>,
    /// What is done as another account there.
    pub sudo: Option<Sudo>,
    /// Where an outpost is installed there.
    pub outpost: Option<String>,
}
