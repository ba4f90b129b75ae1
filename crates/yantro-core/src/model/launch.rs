//! What a service will really be started with, and where each value comes from (N3, N4).

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::Value;

use super::{Estate, ServiceRunner};
use crate::{model::secrecy, words::name::Address};

/// What a service is started with. Secrets stand as references.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Launch {
    /// The service.
    pub address: Address,
    /// Program and arguments.
    pub command: Vec<Sourced>,
    /// The working folder.
    pub dir: Sourced,
    /// The account; without one, the server's own.
    pub user: Option<Sourced>,
    /// The environment that it is given besides, by name.
    pub env: BTreeMap<String, Sourced>,
}

/// A value, and the part of the estate file that says it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Sourced {
    /// The value, placeholders filled in.
    pub value: String,
    /// Where it is written: `[service.fares.process]`, `[like.app.process]`, "the estate's folder".
    pub from: String,
}

/// What a service of an estate is started with; `text` is the file that the estate was read from.
pub fn launch(estate: &Estate, text: &str, address: &Address) -> Option<Launch> {
    let service = estate.services.get(address)?;
    let file: Value = toml::from_str::<Value>(text).ok()?;
    let layers = Layers::of(&file, address);
    let (block, command, dir, user, env) = match &service.runner {
        ServiceRunner::Process(p) => {
            let words: Vec<(String, &str)> =
                std::iter::once((p.program.clone(), "program")).chain(p.args.iter().map(|a| (a.clone(), "args"))).collect();
            ("process", words, &p.dir, &p.user, &p.env)
        }
        // What its unit says is the manager's.
        ServiceRunner::Systemd(_) | ServiceRunner::Host(_) | ServiceRunner::Outlet(_) | ServiceRunner::Simulated(_) => return None,
        ServiceRunner::Commands(c) => ("commands", c.start.iter().map(|w| (w.clone(), "start")).collect(), &c.dir, &c.user, &c.env),
    };
    let from = |key: &str| layers.said_at(&[block, key]);
    Some(Launch {
        address: address.clone(),
        command: command
            .into_iter()
            .map(|(value, key)| Sourced {
                value: secrecy::without_passwords(&value),
                from: from(key).unwrap_or_else(|| "not said".to_owned()),
            })
            .collect(),
        dir: Sourced { value: dir.clone(), from: from("dir").unwrap_or_else(|| "the estate's folder".to_owned()) },
        user: user.as_ref().map(|u| Sourced { value: u.clone(), from: from("user").unwrap_or_default() }),
        env: env
            .iter()
            .map(|(name, value)| {
                // A copy writes its environment without a block.
                let from = layers.said_by_copy(&["env", name]).or_else(|| layers.said_at(&[block, "env", name])).unwrap_or_default();
                (name.clone(), Sourced { value: secrecy::shown(name, value), from })
            })
            .collect(),
    })
}

/// The parts of the file that a copy's settings are made of, what wins first.
struct Layers<'f> {
    copies: Vec<(String, &'f Value)>,
    blocks: Vec<(String, &'f Value)>,
}

fn child<'f>(table: &'f Value, name: &str) -> Option<(&'f str, &'f Value)> {
    let found = table.as_object()?.iter().find(|(k, _)| k.eq_ignore_ascii_case(name))?;
    Some((found.0, found.1))
}

impl<'f> Layers<'f> {
    fn of(file: &'f Value, address: &Address) -> Self {
        let mut layers = Self { copies: Vec::new(), blocks: Vec::new() };
        let mut at =
            file.get("service").and_then(|s| child(s, address.service.as_str())).map(|(name, block)| (format!("service.{name}"), block));
        let mut seen = 0;
        while let Some((path, block)) = at.take() {
            let copy = address.copy.as_ref().and_then(|c| child(block.get("copies")?, c.as_str()));
            layers.copies.extend(copy.map(|(name, table)| (format!("{path}.copies.{name}"), table)));
            let on = block.get("on").and_then(|on| child(on, address.host.as_str()));
            layers.copies.extend(on.map(|(name, table)| (format!("{path}.on.{name}"), table)));
            seen += 1;
            // Vetting refuses circles; a file that was not vetted ends here.
            if seen < 64
                && let Some(like) = block.get("like").and_then(Value::as_str)
                && let Some((name, next)) = file.get("like").and_then(|l| child(l, like))
            {
                at = Some((format!("like.{name}"), next));
            }
            layers.blocks.push((path, block));
        }
        layers
    }

    fn said_at(&self, keys: &[&str]) -> Option<String> {
        first(&self.blocks, keys)
    }

    fn said_by_copy(&self, keys: &[&str]) -> Option<String> {
        first(&self.copies, keys)
    }
}

fn first(layers: &[(String, &Value)], keys: &[&str]) -> Option<String> {
    layers.iter().find_map(|(path, block)| {
        let mut at = *block;
        for key in keys {
            at = at.get(*key)?;
        }
        let block: Vec<&str> = keys[..keys.len() - 1].iter().copied().filter(|k| *k != "env").collect();
        Some(if block.is_empty() { format!("[{path}]") } else { format!("[{path}.{}]", block.join(".")) })
    })
}
