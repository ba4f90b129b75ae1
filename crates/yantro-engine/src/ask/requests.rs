//! What a run is asked to do: one request for every way to begin one.

use std::{
    collections::{BTreeMap, BTreeSet},
    num::NonZeroU32,
};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use yantro_core::{
    overrides::Overrides,
    plan::forecast::Prefer,
    run::AtLastMoment,
    words::{
        kinds::Wish,
        name::{Address, GroupName},
        time::Span,
    },
};

/// What a run is for.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub enum Doing {
    /// Services, or hosts, come to stand as they are wished to.
    Services {
        /// The wish.
        wish: Wish,
        /// Of what: addresses, names, globs, `group:`, `host:`, `reliant-on:`, `needed-by:`.
        of: Vec<String>,
        /// What is left out of it.
        #[serde(default)]
        except: Vec<String>,
        /// Only these, without what relies on them or what they need.
        #[serde(default)]
        alone: bool,
    },
    /// A procedure is carried out.
    Procedure {
        /// Its name.
        name: String,
        /// The answers to its questions, by name.
        #[serde(default)]
        answers: BTreeMap<String, String>,
        /// The line to begin at, from 1; those before it are vouched for, with the reason given (N54).
        #[serde(default)]
        from_line: Option<u32>,
        /// Services that are taken as the lines before left them, though a look says otherwise: named one by one (N54).
        #[serde(default)]
        vouched_for: BTreeSet<Address>,
    },
    /// Services carry out a further act by itself.
    Act {
        /// The act's name, as their descriptions have it; units have `re-read`, `at-boot-on` and `at-boot-off` besides.
        act: String,
        /// Of what: addresses, names, globs, `group:`, `host:` …
        of: Vec<String>,
    },
}

/// What a run is asked to do, and on which terms. The same request plans, rehearses and begins it.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct BeginRequest {
    /// What it is for.
    pub does: Doing,
    /// Services named one by one as standing on what is not proven (R3).
    #[serde(default)]
    pub left_standing: BTreeSet<Address>,
    /// Groups whose `keep_up` may be broken (R20).
    #[serde(default)]
    pub below_keep_up: BTreeSet<GroupName>,
    /// Units that a host's manager moves along with a service, named one by one as `host:unit` (R38).
    #[serde(default)]
    pub along: BTreeSet<String>,
    /// What this one run puts over the estate's settings.
    #[serde(default)]
    pub overrides: Overrides,
    /// How many services to work on at once, where that is to be fewer than the estate allows.
    #[serde(default)]
    pub at_once: Option<NonZeroU32>,
    /// Which of the allowed orders is taken.
    #[serde(default)]
    pub prefer: Prefer,
    /// Why.
    #[serde(default)]
    pub why: Option<String>,
    /// The number of the change it belongs to, as people keep it elsewhere.
    #[serde(default)]
    pub change: Option<String>,
    /// Change freezes that it is begun in all the same, by name; with a reason.
    #[serde(default)]
    pub in_freeze: BTreeSet<String>,
    /// How long it may be held before it is put back by itself; without, as the procedure says, or without end.
    #[serde(default)]
    pub held_at_most: Option<Span>,
    /// The window that it must fit, by name.
    #[serde(default)]
    pub window: Option<String>,
    /// What it does when putting back would no longer fit the window.
    #[serde(default)]
    pub at_last_moment: AtLastMoment,
    /// The digest of the plan that was shown: what would come out otherwise is refused, with the difference.
    #[serde(default)]
    pub shown: Option<String>,
    /// An identity of the asker's own: asked for twice under it, it is begun once.
    #[serde(default)]
    pub asked_as: Option<String>,
}

impl BeginRequest {
    /// A request on no terms of its own.
    pub fn new(does: Doing) -> Self {
        Self {
            does,
            left_standing: BTreeSet::new(),
            below_keep_up: BTreeSet::new(),
            along: BTreeSet::new(),
            overrides: Overrides::default(),
            at_once: None,
            prefer: Prefer::default(),
            why: None,
            change: None,
            in_freeze: BTreeSet::new(),
            held_at_most: None,
            window: None,
            at_last_moment: AtLastMoment::default(),
            shown: None,
            asked_as: None,
        }
    }

    /// A wish for what these words name.
    pub fn of_services(wish: Wish, of: impl IntoIterator<Item = impl Into<String>>) -> Self {
        let of = of.into_iter().map(Into::into).collect();
        Self::new(Doing::Services { wish, of, except: Vec::new(), alone: false })
    }

    /// A procedure, its questions answered by their defaults.
    pub fn of_procedure(name: impl Into<String>) -> Self {
        Self::new(Doing::Procedure { name: name.into(), answers: BTreeMap::new(), from_line: None, vouched_for: BTreeSet::new() })
    }

    /// How many services it works on at once.
    pub(crate) fn at_once(&self) -> Option<u32> {
        self.at_once.map(NonZeroU32::get)
    }

    /// Whether a reason is given.
    pub(crate) fn has_reason(&self) -> bool {
        self.why.as_deref().is_some_and(|w| !w.trim().is_empty())
    }
}
