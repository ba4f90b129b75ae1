//! What a run is asked to do.

use std::{
    collections::{BTreeMap, BTreeSet},
    num::NonZeroU32,
};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use yantro_core::{
    name::{Address, GroupName},
    overrides::Overrides,
    run::AtLastMoment,
    sequence::{Prefer, Wish},
    time::Span,
};

/// What a run is asked to do.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct BeginRequest {
    /// The wish.
    pub wish: Wish,
    /// Of what: addresses, names, globs, `group:`, `host:`, `reliant-on:`, `needed-by:`.
    pub selection: Vec<String>,
    /// What is left out of it.
    #[serde(default)]
    pub except: Vec<String>,
    /// Only these, without what relies on them or what they need.
    #[serde(default)]
    pub alone: bool,
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

/// What a run of a procedure is asked to do.
#[derive(Debug, Clone, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ProcedureRequest {
    /// The answers to its questions, by name.
    #[serde(default)]
    pub answers: BTreeMap<String, String>,
    /// The line to begin at, from 1; those before it are vouched for, with the reason given (N54).
    #[serde(default)]
    pub from_line: Option<u32>,
    /// Services that are taken as the lines before left them, though a look says otherwise: named one by one (N54).
    #[serde(default)]
    pub vouched_for: BTreeSet<Address>,
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
    /// The number of the change it belongs to.
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

/// A further act of services that is asked for by itself.
#[derive(Debug, Clone, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ActRequest {
    /// The act's name, as their descriptions have it; units have `re-read`, `at-boot-on` and `at-boot-off` besides.
    pub act: String,
    /// Of what: addresses, names, globs, `group:`, `host:` …
    pub of: Vec<String>,
    /// Why.
    #[serde(default)]
    pub why: Option<String>,
    /// The digest of the plan that was shown: what would come out otherwise is refused, with the difference.
    #[serde(default)]
    pub shown: Option<String>,
    /// An identity of the asker's own: asked for twice under it, it is begun once.
    #[serde(default)]
    pub asked_as: Option<String>,
}

/// What both kinds of request say about how a run is to go.
pub(crate) struct Terms<'r> {
    pub shown: Option<&'r str>,
    pub overrides: &'r Overrides,
    pub at_once: Option<u32>,
    pub why: Option<&'r str>,
    pub in_freeze: &'r BTreeSet<String>,
    pub held_at_most: Option<Span>,
    pub window: Option<&'r str>,
    pub at_last_moment: AtLastMoment,
}

impl BeginRequest {
    pub(crate) fn terms(&self) -> Terms<'_> {
        Terms {
            shown: self.shown.as_deref(),
            overrides: &self.overrides,
            at_once: self.at_once.map(NonZeroU32::get),
            why: self.why.as_deref(),
            in_freeze: &self.in_freeze,
            held_at_most: self.held_at_most,
            window: self.window.as_deref(),
            at_last_moment: self.at_last_moment,
        }
    }
}

impl ProcedureRequest {
    pub(crate) fn terms(&self) -> Terms<'_> {
        Terms {
            shown: self.shown.as_deref(),
            overrides: &self.overrides,
            at_once: self.at_once.map(NonZeroU32::get),
            why: self.why.as_deref(),
            in_freeze: &self.in_freeze,
            held_at_most: self.held_at_most,
            window: self.window.as_deref(),
            at_last_moment: self.at_last_moment,
        }
    }
}
