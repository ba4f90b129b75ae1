//! From what a person typed to addresses: addresses, bare names, globs, `group:`, `host:`, `power:`,
//! `reliant-on:`, `needed-by:`, and `except`.

use std::collections::BTreeSet;

use globset::GlobBuilder;

use crate::{
    graph::{EstateGraph, Toward},
    model::Estate,
    words::name::{Address, GroupName, HostName, ServiceName, did_you_mean},
};

/// Why a selection cannot be resolved.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum SelectionError {
    /// Nothing was chosen.
    #[error("nothing is chosen")]
    Empty,
    /// A bare name with several copies (R2).
    #[error("\"{name}\" has several copies: {}", list(.copies))]
    SeveralCopies {
        /// What was typed.
        name: String,
        /// The copies.
        copies: Vec<Address>,
    },
    /// Nothing has this name.
    #[error("nothing is called \"{typed}\"")]
    Unknown {
        /// What was typed.
        typed: String,
        /// What could have been meant.
        near: String,
    },
    /// A host of which the estate does not say what gives it power.
    #[error("host {host} cannot be acted on itself: the estate does not say what gives it power")]
    NoPower {
        /// The host.
        host: HostName,
    },
    /// What a run found up, where no runs are known.
    #[error("\"{typed}\" needs a server, which knows its runs")]
    AsFound {
        /// What was typed.
        typed: String,
    },
    /// A glob that matches nothing, or is none.
    #[error("\"{typed}\" matches nothing")]
    NoMatch {
        /// What was typed.
        typed: String,
    },
}

pub use crate::model::procedure::AS_FOUND_BY;

/// What a host's bare name means where it can only be a host: the host itself.
pub fn of_host(word: &str) -> String {
    let is_bare = !word.contains([':', '/', '{']);
    if is_bare { format!("power:{word}") } else { word.to_owned() }
}

fn list(addresses: &[Address]) -> String {
    addresses.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ")
}

impl SelectionError {
    /// How to mend it.
    pub fn hint(&self) -> String {
        match self {
            SelectionError::Empty => "name services, such as quay-1/fares-db, gate-*, group:gates or host:quay-1".to_owned(),
            SelectionError::SeveralCopies { name, .. } => format!("name one of them, or write \"{name}*\" for all"),
            SelectionError::Unknown { near, .. } => near.clone(),
            SelectionError::NoPower { host } => format!("add `power = {{ by = … }}` to [host.{host}]; see docs/hosts.md"),
            SelectionError::AsFound { .. } => "ask the server instead of a file".to_owned(),
            SelectionError::NoMatch { .. } => "a glob is matched against addresses and service names; * stands for anything".to_owned(),
        }
    }
}

/// Resolves what was typed, leaving out what `except` names.
pub fn resolve(estate: &Estate, graph: &EstateGraph, wanted: &[String], except: &[String]) -> Result<BTreeSet<Address>, SelectionError> {
    let mut chosen = BTreeSet::new();
    for word in wanted {
        chosen.extend(one(estate, graph, word)?);
    }
    for word in except {
        // To leave out is harmless: a bare name may mean all its copies here.
        let out = match one(estate, graph, word) {
            Err(SelectionError::SeveralCopies { copies, .. }) => copies.into_iter().collect(),
            other => other?,
        };
        chosen.retain(|a| !out.contains(a));
    }
    if chosen.is_empty() { Err(SelectionError::Empty) } else { Ok(chosen) }
}

fn one(estate: &Estate, graph: &EstateGraph, word: &str) -> Result<BTreeSet<Address>, SelectionError> {
    let word = word.trim();
    if let Some((kind, rest)) = word.split_once(':') {
        return prefixed(estate, graph, word, kind, rest);
    }
    if word.contains(['*', '?', '[']) {
        return glob(estate, word);
    }
    exact(estate, word).map(|a| BTreeSet::from([a]))
}

fn prefixed(estate: &Estate, graph: &EstateGraph, word: &str, kind: &str, rest: &str) -> Result<BTreeSet<Address>, SelectionError> {
    match kind {
        "group" => {
            let found = rest.parse::<GroupName>().ok().and_then(|g| estate.groups.get(&g));
            found.map(|g| g.members.clone()).ok_or_else(|| unknown(rest, estate.groups.keys().map(ToString::to_string)))
        }
        "host" => {
            let host = rest.parse::<HostName>().ok().filter(|h| estate.hosts.contains_key(h));
            let host = host.ok_or_else(|| unknown(rest, estate.hosts.keys().map(ToString::to_string)))?;
            // The host itself is a thing of its own: `harbour/host`.
            Ok(estate.services.keys().filter(|a| a.host == host && !a.is_power()).cloned().collect())
        }
        "power" => powers(estate, word, rest),
        // Known to the server, which puts the addresses in: offline there are no runs.
        "as-found-by" => Err(SelectionError::AsFound { typed: word.to_owned() }),
        "reliant-on" => Ok(graph.all(&exact(estate, rest)?, Toward::Reliant)),
        "needed-by" => Ok(graph.all(&exact(estate, rest)?, Toward::Needed)),
        _ => Err(unknown(word, ["group:", "host:", "power:", "reliant-on:", "needed-by:", "as-found-by:"].map(str::to_owned).into_iter())),
    }
}

/// Hosts themselves, as things that are shut down and powered on, by name or glob.
fn powers(estate: &Estate, word: &str, rest: &str) -> Result<BTreeSet<Address>, SelectionError> {
    let all = || estate.services.keys().filter(|a| a.is_host());
    let found: BTreeSet<Address> = if rest.contains(['*', '?', '[']) {
        let none = |_| SelectionError::NoMatch { typed: word.to_owned() };
        let matcher = GlobBuilder::new(rest).case_insensitive(true).build().map_err(none)?.compile_matcher();
        all().filter(|a| matcher.is_match(a.host.as_str())).cloned().collect()
    } else {
        all().filter(|a| a.host.as_str().eq_ignore_ascii_case(rest)).cloned().collect()
    };
    if !found.is_empty() {
        return Ok(found);
    }
    let known: BTreeSet<String> = all().map(|a| a.host.to_string()).collect();
    Err(match estate.hosts.keys().find(|h| h.as_str().eq_ignore_ascii_case(rest)) {
        Some(host) => SelectionError::NoPower { host: host.clone() },
        None => SelectionError::Unknown { typed: word.to_owned(), near: did_you_mean(rest, known.iter().map(String::as_str)) },
    })
}

fn glob(estate: &Estate, word: &str) -> Result<BTreeSet<Address>, SelectionError> {
    let none = || SelectionError::NoMatch { typed: word.to_owned() };
    let matcher = GlobBuilder::new(word).case_insensitive(true).build().map_err(|_| none())?.compile_matcher();
    let whole = word.contains('/');
    // A host is never meant by what stands for anything: its name has to be said.
    let power = word.rsplit_once('/').map(|(_, rest)| rest.to_ascii_lowercase());
    let found: BTreeSet<Address> = estate
        .services
        .keys()
        .filter(|a| !a.is_power() || power.as_deref() == Some(a.service.as_str()))
        .filter(|a| {
            let text = a.to_string();
            if whole { matcher.is_match(&text) } else { matcher.is_match(text.split_once('/').map_or("", |(_, rest)| rest)) }
        })
        .cloned()
        .collect();
    if found.is_empty() { Err(none()) } else { Ok(found) }
}

fn exact(estate: &Estate, word: &str) -> Result<Address, SelectionError> {
    if word.contains('/') {
        let found = word.parse::<Address>().ok().filter(|a| estate.services.contains_key(a));
        return found.ok_or_else(|| unknown(word, estate.services.keys().map(ToString::to_string)));
    }
    let (service, copy) = word.split_once('.').map_or((word, None), |(s, c)| (s, Some(c)));
    let name: Option<ServiceName> = service.parse().ok();
    let copies: Vec<Address> = estate
        .services
        .keys()
        .filter(|a| Some(&a.service) == name.as_ref())
        .filter(|a| copy.is_none_or(|c| a.copy.as_ref().is_some_and(|have| have.as_str().eq_ignore_ascii_case(c))))
        .cloned()
        .collect();
    match copies.as_slice() {
        [] => Err(unknown(word, estate.services.keys().map(|a| a.service.to_string()))),
        [one] => Ok(one.clone()),
        _ => Err(SelectionError::SeveralCopies { name: word.to_owned(), copies }),
    }
}

fn unknown(typed: &str, known: impl Iterator<Item = String>) -> SelectionError {
    let known: BTreeSet<String> = known.collect();
    SelectionError::Unknown { typed: typed.to_owned(), near: did_you_mean(typed, known.iter().map(String::as_str)) }
}
