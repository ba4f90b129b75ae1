//! Hosts and what gives them power, as they are written.

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{kinds::*, rung::*, service::*, simulated::*};
use crate::words::{Expected, Reach, Sudo, time::Span};

/// `[host.NAME]`
#[derive(Debug, Clone, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct HostFile {
    /// What people call it.
    pub title: Option<String>,
    /// How it is reached.
    pub reach: Option<Reach>,
    /// Its network address. For `reach = "here"`, a loopback address.
    pub address: Option<String>,
    /// What the SSH client needs besides the address, for `reach = "ssh"`. What is left out is as people's own
    /// configuration of OpenSSH has it.
    pub ssh: Option<SshFile>,
    /// How many steps may act or prove at once on this host.
    #[schemars(range(min = 1))]
    pub at_once: Option<u32>,
    /// Optional services that are on here.
    pub turns_on: Vec<String>,
    /// Its power, where the host itself is to be shut down, powered on and rebooted. What follows is about the host
    /// as such a thing, and takes this.
    pub power: Option<PowerFile>,
    /// Hosts that it cannot work without: powered on before it, shut down after it.
    pub relies_on: Vec<String>,
    /// Order only, where both are in play: powered on after these hosts, shut down before them.
    pub yields_to: Vec<String>,
    /// Whether the host should be on (default "either").
    pub expected: Option<Expected>,
    /// What users notice while it is off.
    pub impact: Option<ImpactFile>,
    /// The host itself is watched, never acted on, for this reason.
    pub hands_off: Option<String>,
    /// Who owns it.
    pub owner: Option<String>,
    /// How it is powered on; its patience is that of the way up to the last rung.
    pub start: Option<StartFile>,
    /// How it is shut down. Its `force` says whether its power may be cut when it does not go down by itself.
    pub stop: Option<StopFile>,
    /// Its checks, in order (default: ping, reached, booted).
    pub ladder: Vec<RungFile>,
    /// How long it must stay on the last rung (default "0s").
    pub steady: Option<Span>,
    /// How many contrary looks in a row make it ailing (default 2).
    #[schemars(range(min = 1, max = 100))]
    pub ailing_after: Option<u32>,
    /// What happens when a step on it fails.
    pub if_it_fails: Option<IfItFailsFile>,
    /// How the host itself behaves, for `reach = "simulated"`.
    pub simulated: Option<SimulatedFile>,
}

/// `[host.NAME.power]`: what gives a host power and takes it away.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct PowerFile {
    /// What it is done by.
    pub by: Option<PowerBy>,
    /// Where the power controller answers, for `by = "redfish"`: "https://10.0.9.2".
    pub controller: Option<String>,
    /// The host's computer system there, for `by = "redfish"`: "/redfish/v1/Systems/1".
    pub system: Option<String>,
    /// The outlet that feeds it, where the controller switches that too: "/redfish/v1/PowerEquipment/RackPDUs/1/Outlets/A1".
    /// It becomes a thing of its own, switched off only once the host is seen to be off.
    pub outlet: Option<String>,
    /// The account at the controller.
    pub account: Option<String>,
    /// Its password: a reference "env:NAME" or "file:PATH", never the password itself.
    pub password: Option<String>,
    /// A file of certificates, PEM, by which the controller is believed (default: the system's).
    pub believes: Option<String>,
    /// The hardware address that is woken, for `by = "wake"`: "02:00:5e:10:00:01".
    pub mac: Option<String>,
    /// Where the packet is sent, for `by = "wake"`: the network's broadcast address.
    pub broadcast: Option<String>,
    /// The port it is sent to, for `by = "wake"` (default 9).
    #[schemars(range(min = 1))]
    pub port: Option<u16>,
    /// The command that gives it power, for `by = "commands"`; run where Yantro runs.
    pub on: Vec<String>,
    /// The command that takes it away.
    pub off: Vec<String>,
    /// The command that says whether it has power: exit code 0 is on, 1 is off, all else is no answer.
    pub state: Vec<String>,
    /// The environment of these commands; a value "env:NAME" or "file:PATH" is a reference.
    pub env: BTreeMap<String, String>,
    /// What shuts the host down, run on it (default: its manager's own command).
    pub shut_down: Vec<String>,
    /// What reboots the host, run on it (default: its manager's own command).
    pub reboot: Vec<String>,
    /// The controller asks it to shut down, instead of a command run on it.
    pub asked_by_controller: bool,
}

/// What gives a host power.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum PowerBy {
    /// A power controller that speaks Redfish.
    Redfish,
    /// A Wake-on-LAN packet; it can only be woken so.
    Wake,
    /// Commands of your own.
    Commands,
    /// Nothing that Yantro could reach: it can be rebooted and shut down, and somebody has to press its button.
    Nobody,
}

/// `[host.NAME.ssh]`: how OpenSSH reaches a host.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct SshFile {
    /// What the client is told to connect to: a name that its configuration knows, say (default: the host's address).
    pub to: Option<String>,
    /// The account there.
    pub account: Option<String>,
    /// The port of its SSH server.
    #[schemars(range(min = 1))]
    pub port: Option<u16>,
    /// The file of the private key. The key itself is never in the estate.
    pub key: Option<String>,
    /// The file of known host keys. Host keys are always checked.
    pub known_hosts: Option<String>,
    /// The client's configuration file.
    pub config: Option<String>,
    /// What is done as another account there, by `sudo -n` (default: nothing).
    pub sudo: Option<Sudo>,
    /// Where an outpost is installed there (default: /usr/local/lib/yantro/outpost). Where there is none, this
    /// server's own is carried into the account's cache folder.
    pub outpost: Option<String>,
}
