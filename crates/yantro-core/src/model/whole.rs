//! The estate as a value: everything that is looked after, and how.

use std::{collections::BTreeMap, sync::Arc};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::{
    calendar::{Freeze, Window},
    model::{
        hosts::Host,
        procedure::Procedure,
        service::{Group, Service},
    },
    words::{
        StandsFor,
        name::{Address, GroupName, HostName, ProcedureName, ServiceName},
    },
};

/// An estate without faults.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Estate {
    /// What it is called.
    pub name: String,
    /// What it stands for.
    pub stands_for: StandsFor,
    /// IANA time zone in which hours are shown.
    pub time_zone: String,
    /// Limits over everything.
    pub limits: Limits,
    /// Its hosts.
    pub hosts: BTreeMap<HostName, Host>,
    /// Its groups.
    pub groups: BTreeMap<GroupName, Group>,
    /// Every copy of every service.
    pub services: BTreeMap<Address, Arc<Service>>,
    /// Hours in which disruptive runs are refused, by name.
    #[serde(default)]
    pub freezes: BTreeMap<String, Freeze>,
    /// Hours for which a run must fit, by name.
    #[serde(default)]
    pub windows: BTreeMap<String, Window>,
    /// Its written procedures.
    #[serde(default)]
    pub procedures: BTreeMap<ProcedureName, Procedure>,
}

/// How much may be acted on at once. `None` is no limit.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Limits {
    /// Over everything.
    pub at_once: Option<u32>,
    /// On any one host.
    pub per_host: Option<u32>,
}

impl Estate {
    /// All copies of a service, by address.
    pub fn copies_of<'e>(&'e self, name: &'e ServiceName) -> impl Iterator<Item = &'e Address> + 'e {
        self.services.keys().filter(move |a| &a.service == name)
    }
}
