//! What the plain shell itself hangs on: its units, and those that would take one of them along (R13).

use std::collections::{BTreeMap, BTreeSet};

use yantro_core::proof::UnitTerms;

use super::channel::Sh;
use crate::{links::quoting::shell_word, looks::own::unit_in};

/// The control groups of the shell and of those that it descends from, a line each.
const LINE: &str = "line() { p=$$; while [ \"${p:-0}\" -gt 1 ] && [ -r /proc/$p/status ]; do \
    sed -n 's/^0:://p; s/^[0-9]*:name=systemd://p' /proc/$p/cgroup; p=$(sed -n 's/^PPid:[^0-9]*//p' /proc/$p/status); done; }; ";

/// The units that the shell is in.
pub(super) async fn units(sh: &Sh) -> BTreeSet<String> {
    let (_, said) = sh.run(&format!("{LINE}line")).await;
    said.lines().filter_map(|path| unit_in(&format!("0::{path}"))).collect()
}

/// The unit that the shell hangs on, where it is this one, by whatever name, or would be stopped along with it.
pub(super) async fn hung_on(sh: &Sh, unit: &str) -> Option<String> {
    let script = format!(
        "{LINE}all=$(line); for u in {unit} $(systemctl show --value -p RequiredBy -p BoundBy -p ConsistsOf -p RequisiteOf {unit} 2>/dev/null); do \
         g=$(systemctl show --value -p ControlGroup \"$u\" 2>/dev/null); [ -n \"$g\" ] && [ \"$g\" != / ] || continue; \
         for c in $all; do case \"$c/\" in \"$g\"/*) echo \"$u\"; exit 0;; esac; done; done",
        unit = shell_word(unit)
    );
    let (_, said) = sh.run(&script).await;
    Some(said.trim().to_owned()).filter(|unit| !unit.is_empty())
}

/// Of the managers' terms, what is known of units here: whether the shell hangs on them.
pub(super) async fn terms(sh: &Sh, units: &[String]) -> BTreeMap<String, UnitTerms> {
    let mut known = BTreeMap::new();
    for unit in units {
        if let Some(hung_on) = hung_on(sh, unit).await {
            known.insert(unit.clone(), UnitTerms { hung_on: Some(hung_on), ..UnitTerms::default() });
        }
    }
    known
}
