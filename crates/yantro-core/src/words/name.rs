//! Checked names. A name is parsed once, at the edge, and is a type of its own ever after.
//!
//! Names match without regard to case: the canonical form is lower case, and parsing makes it so. They are
//! shared, not copied: a sequence of ten thousand services names each of them many times.

use std::{cmp::Ordering, fmt, str::FromStr, sync::Arc};

use serde::{Deserialize, Serialize};

/// Why a piece of text is not a name.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum NameError {
    /// Nothing was given.
    #[error("a {what} cannot be empty")]
    Empty {
        /// Which kind of name was wanted.
        what: &'static str,
    },
    /// A character that names do not have.
    #[error("\"{text}\" is no {what}: it has {found:?}, and names are made of letters, digits, \"-\" and \"_\"")]
    Character {
        /// Which kind of name was wanted.
        what: &'static str,
        /// What was given.
        text: String,
        /// The first character that does not fit.
        found: char,
    },
    /// It begins as an option does.
    #[error("\"{text}\" is no {what}: it begins with a dash, as options do")]
    Dash {
        /// Which kind of name was wanted.
        what: &'static str,
        /// What was given.
        text: String,
    },
    /// It is longer than any name.
    #[error("a {what} of {length} characters is too long: names have up to {LONGEST}")]
    Long {
        /// Which kind of name was wanted.
        what: &'static str,
        /// How long it is.
        length: usize,
    },
    /// An address without the stroke that parts host from service.
    #[error("\"{0}\" is no address: an address is host/service, or host/service.copy")]
    NoStroke(String),
}

/// The longest name.
const LONGEST: usize = 100;

fn checked(what: &'static str, text: &str) -> Result<String, NameError> {
    let text = text.trim();
    if text.is_empty() {
        return Err(NameError::Empty { what });
    }
    let length = text.chars().count();
    if length > LONGEST {
        return Err(NameError::Long { what, length });
    }
    if text.starts_with('-') {
        return Err(NameError::Dash { what, text: text.to_owned() });
    }
    match text.chars().find(|c| !(c.is_ascii_alphanumeric() || *c == '-' || *c == '_')) {
        Some(found) => Err(NameError::Character { what, text: text.to_owned(), found }),
        None => Ok(text.to_ascii_lowercase()),
    }
}

macro_rules! name_type {
    ($(#[$doc:meta])* $name:ident, $what:literal) => {
        $(#[$doc])*
        #[derive(Clone, PartialEq, Eq, Hash, Serialize, Deserialize, schemars::JsonSchema)]
        #[serde(try_from = "String", into = "String")]
        #[schemars(with = "String")]
        pub struct $name(Arc<str>);

        impl Ord for $name {
            fn cmp(&self, other: &Self) -> Ordering {
                // Most often it is the same text, shared: no need to read it.
                if Arc::ptr_eq(&self.0, &other.0) { Ordering::Equal } else { self.0.cmp(&other.0) }
            }
        }
        impl PartialOrd for $name {
            fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
                Some(self.cmp(other))
            }
        }

        impl $name {
            /// The name as text, in its canonical lower case.
            pub fn as_str(&self) -> &str {
                &self.0
            }
        }
        impl FromStr for $name {
            type Err = NameError;
            fn from_str(text: &str) -> Result<Self, NameError> {
                checked($what, text).map(|name| Self(name.into()))
            }
        }
        impl TryFrom<String> for $name {
            type Error = NameError;
            fn try_from(text: String) -> Result<Self, NameError> {
                text.parse()
            }
        }
        impl From<$name> for String {
            fn from(name: $name) -> String {
                name.0.as_ref().to_owned()
            }
        }
        impl fmt::Display for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.pad(&self.0)
            }
        }
        impl fmt::Debug for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str(&self.0)
            }
        }
    };
}

name_type!(
    /// What a host is called in the estate.
    HostName, "host name"
);
name_type!(
    /// What a service is called, whichever host it runs on.
    ServiceName, "service name"
);
name_type!(
    /// What tells one copy of a service from another on the same host.
    CopyName, "copy name"
);
name_type!(
    /// What a group of services is called.
    GroupName, "group name"
);
name_type!(
    /// What a procedure is called.
    ProcedureName, "procedure name"
);

/// What a service copy is called: `host/service`, or `host/service.copy` where a host has several.
///
/// Ordered by host, then service, then copy; ties everywhere are broken by this order.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(try_from = "String", into = "String")]
#[schemars(with = "String")]
pub struct Address {
    /// The host it runs on.
    pub host: HostName,
    /// The service.
    pub service: ServiceName,
    /// Which copy, where the host has several.
    pub copy: Option<CopyName>,
}

/// The name under which a host itself is a thing of the estate.
pub const HOST: &str = "host";
/// The name under which the outlet that feeds a host is one.
pub const OUTLET: &str = "outlet";

impl Address {
    /// The host itself, as a thing that is shut down and powered on.
    pub fn of_host(host: &HostName) -> Self {
        Self { host: host.clone(), service: ServiceName(HOST.into()), copy: None }
    }
    /// The outlet that feeds a host.
    pub fn of_outlet(host: &HostName) -> Self {
        Self { host: host.clone(), service: ServiceName(OUTLET.into()), copy: None }
    }
    /// Whether it is a host itself: no service may be called so.
    pub fn is_host(&self) -> bool {
        self.service.as_str() == HOST
    }
    /// Whether it is the outlet that feeds a host.
    pub fn is_outlet(&self) -> bool {
        self.service.as_str() == OUTLET
    }
    /// Whether it is a host or what feeds one, rather than a service.
    pub fn is_power(&self) -> bool {
        self.is_host() || self.is_outlet()
    }
}

impl FromStr for Address {
    type Err = NameError;
    fn from_str(text: &str) -> Result<Self, NameError> {
        let (host, rest) = text.split_once('/').ok_or_else(|| NameError::NoStroke(text.to_owned()))?;
        let (service, copy) = match rest.split_once('.') {
            Some((service, copy)) => (service, Some(copy.parse()?)),
            None => (rest, None),
        };
        Ok(Self { host: host.parse()?, service: service.parse()?, copy })
    }
}

impl TryFrom<String> for Address {
    type Error = NameError;
    fn try_from(text: String) -> Result<Self, NameError> {
        text.parse()
    }
}

impl From<Address> for String {
    fn from(address: Address) -> String {
        address.to_string()
    }
}

impl fmt::Display for Address {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.copy {
            Some(copy) => f.pad(&format!("{}/{}.{copy}", self.host, self.service)),
            None => f.pad(&format!("{}/{}", self.host, self.service)),
        }
    }
}

impl fmt::Debug for Address {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, f)
    }
}

/// The known names nearest to what was typed, best first, at most three.
pub fn near_misses<'a>(typed: &str, known: impl IntoIterator<Item = &'a str>) -> Vec<&'a str> {
    let typed = typed.to_ascii_lowercase();
    let mut scored: Vec<(f64, &str)> = known
        .into_iter()
        .map(|name| (strsim::jaro_winkler(&typed, &name.to_ascii_lowercase()), name))
        .filter(|(score, _)| *score >= 0.82)
        .collect();
    scored.sort_by(|a, b| b.0.total_cmp(&a.0).then(a.1.cmp(b.1)));
    scored.into_iter().take(3).map(|(_, name)| name).collect()
}

/// "did you mean "x"?", or a list of what is known where nothing is near.
pub fn did_you_mean<'a>(typed: &str, known: impl IntoIterator<Item = &'a str> + Clone) -> String {
    let near = near_misses(typed, known.clone());
    if !near.is_empty() {
        let quoted: Vec<String> = near.iter().map(|n| format!("\"{n}\"")).collect();
        return format!("did you mean {}?", quoted.join(" or "));
    }
    let mut all: Vec<&str> = known.into_iter().collect();
    all.sort_unstable();
    all.dedup();
    let more = all.len().saturating_sub(12);
    all.truncate(12);
    match (all.is_empty(), more) {
        (true, _) => "there are none yet".to_owned(),
        (false, 0) => format!("known here: {}", all.join(", ")),
        (false, more) => format!("known here: {} and {more} more", all.join(", ")),
    }
}
