//! What estimates are made from, and which order is taken.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::words::time::Span;

/// What an estimate is made from.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Basis {
    /// What it took before.
    History,
    /// What the members of its group took.
    Group,
    /// What the estate declares.
    Declared,
    /// Nothing is known: a stated default.
    #[default]
    Default,
}

/// Which of the allowed orders is taken.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Prefer {
    /// The one that ends soonest.
    #[default]
    Soonest,
    /// The one that users feel least: what they need goes down last.
    LeastFelt,
}

/// What an order that users feel least comes to, beside the one that ends soonest.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Felt {
    /// Milliseconds, summed over services, that users are without them in the order that ends soonest.
    pub soonest_away_ms: u64,
    /// The same in this order.
    pub away_ms: u64,
    /// How many milliseconds longer it takes.
    pub longer_ms: u64,
}

impl Felt {
    /// In a sentence.
    pub fn says(&self) -> String {
        let spared = Span::millis(self.soonest_away_ms.saturating_sub(self.away_ms));
        match (self.away_ms < self.soonest_away_ms, self.longer_ms) {
            (false, _) => "no allowed order is felt less than the one that ends soonest".to_owned(),
            (true, 0) => format!("users are without services {spared} less in all, and it takes no longer"),
            (true, longer) => format!("users are without services {spared} less in all, and it takes {} longer", Span::millis(longer)),
        }
    }
}
