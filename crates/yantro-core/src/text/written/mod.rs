//! The estate's text, changed where people keep it: comments and layout stay as they were written.
//!
//! A procedure is edited as a *piece*: the part of the estate file that describes it. [`piece`] takes it out,
//! [`edited`] changes it, [`with_piece`] puts it back, [`difference`] shows what that comes to.

mod difference;
mod edit;
mod in_value;
mod relations;
mod steps;

use std::borrow::Cow;

use toml_edit::{DocumentMut, Item, Table};

use crate::words::name::ProcedureName;

pub use difference::{DiffLine, Difference, Side, difference};
pub(crate) use edit::DEEDS;
pub use edit::{Edit, edited};
pub use relations::related;
pub use steps::{StepChange, StepDifference, procedure_of, steps_difference};

/// Why a text cannot be edited.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{what}")]
pub struct EditFault {
    /// What is in the way.
    pub what: String,
    /// How to mend it.
    pub mend: String,
}

impl EditFault {
    fn new(what: impl Into<String>, mend: impl Into<String>) -> Self {
        Self { what: what.into(), mend: mend.into() }
    }
}

/// Room for positions between any two tables of a document.
const APART: isize = 1 << 24;

/// What some editors put before a text in UTF-8.
const MARK: char = '\u{feff}';

/// A text as it is edited: with the ends of lines that TOML's own reader keeps, and without a mark before it.
fn plain(text: &str) -> Cow<'_, str> {
    let text = text.strip_prefix(MARK).unwrap_or(text);
    if text.contains("\r\n") { Cow::Owned(text.replace("\r\n", "\n")) } else { Cow::Borrowed(text) }
}

/// An edited text with everything around what was edited as it was written, to the byte, and what was edited with the ends
/// of lines that most of it has.
fn as_written(written: &str, edited: &str) -> String {
    if *plain(written) == *written {
        return edited.to_owned();
    }
    let (mark, body) = written.strip_prefix(MARK).map_or(("", written), |body| (&written[..MARK.len_utf8()], body));
    let (old, new): (Vec<&str>, Vec<&str>) = (body.split_inclusive('\n').collect(), edited.split_inclusive('\n').collect());
    let same =
        |(a, b): &(&&str, &&str)| a.trim_end_matches(['\r', '\n']) == b.trim_end_matches('\n') && a.ends_with('\n') == b.ends_with('\n');
    let above = old.iter().zip(&new).take_while(same).count();
    let below = old[above..].iter().rev().zip(new[above..].iter().rev()).take_while(same).count();
    let most = old.iter().filter(|l| l.ends_with("\r\n")).count() * 2 >= old.len();
    let between = new[above..new.len() - below].iter().map(|line| match line.strip_suffix('\n') {
        Some(line) if most => format!("{line}\r\n"),
        _ => (*line).to_owned(),
    });
    std::iter::once(mark.to_owned())
        .chain(old[..above].iter().map(|l| (*l).to_owned()))
        .chain(between)
        .chain(old[old.len() - below..].iter().map(|l| (*l).to_owned()))
        .collect()
}

fn read(text: &str) -> Result<DocumentMut, EditFault> {
    let text = &*plain(text);
    text.parse().map_err(|e: toml_edit::TomlError| {
        let line = e.span().map_or(1, |s| text[..s.start.min(text.len())].matches('\n').count() + 1);
        EditFault::new(format!("line {line} is not TOML: {}", e.message().trim()), "mend it in the text first")
    })
}

/// The key under which a procedure is written: names match without regard to case.
fn key_of(procedures: &Table, name: &ProcedureName) -> Option<String> {
    procedures.iter().map(|(key, _)| key).find(|key| key.eq_ignore_ascii_case(name.as_str())).map(str::to_owned)
}

fn procedures(document: &DocumentMut) -> Result<Option<&Table>, EditFault> {
    match document.get("procedure") {
        None => Ok(None),
        Some(Item::Table(table)) => Ok(Some(table)),
        Some(_) => Err(inline()),
    }
}

fn inline() -> EditFault {
    EditFault::new("procedures are written inline in this file", "write each under a head of its own: [procedure.NAME]")
}

/// Calls for a table and each table within it, in no order that matters.
fn each_table(table: &mut Table, call: &mut impl FnMut(&mut Table)) {
    call(table);
    for (_, item) in table.iter_mut() {
        match item {
            Item::Table(inner) => each_table(inner, call),
            Item::ArrayOfTables(all) => all.iter_mut().for_each(|inner| each_table(inner, call)),
            Item::None | Item::Value(_) => {}
        }
    }
}

/// Where the first and the last table of an item stand in their document.
fn extent(table: &mut Table) -> Option<(isize, isize)> {
    let mut found: Option<(isize, isize)> = None;
    each_table(table, &mut |t| {
        if let Some(at) = t.position().filter(|_| is_shown(t)) {
            let (first, last) = found.unwrap_or((at, at));
            found = Some((first.min(at), last.max(at)));
        }
    });
    found
}

/// Whether a table has a head in the text. One that only holds others has none.
fn is_shown(table: &Table) -> bool {
    !table.is_implicit() && !table.is_dotted()
}

/// The table with a head at a position.
fn at_position(table: &mut Table, at: isize) -> Option<&mut Table> {
    if table.position() == Some(at) && is_shown(table) {
        return Some(table);
    }
    table.iter_mut().find_map(|(_, item)| match item {
        Item::Table(inner) => at_position(inner, at),
        Item::ArrayOfTables(all) => all.iter_mut().find_map(|inner| at_position(inner, at)),
        Item::None | Item::Value(_) => None,
    })
}

fn prefix_of(table: &Table) -> String {
    table.decor().prefix().and_then(|p| p.as_str()).unwrap_or_default().to_owned()
}

/// What stands before a head, parted: what is set apart by an empty line, such as the title of a whole
/// section, and the comment on the head itself.
fn parted(prefix: &str) -> (&str, &str) {
    let cut = prefix.rfind("\n\n").map_or_else(|| usize::from(prefix.starts_with('\n')), |at| at + 2);
    prefix.split_at(cut)
}

/// The part of an estate's text that describes a procedure; nothing where there is none of the name.
pub fn piece(estate: &str, name: &ProcedureName) -> Result<Option<String>, EditFault> {
    let mut document = read(estate)?;
    let Some(key) = procedures(&document)?.and_then(|p| key_of(p, name)) else { return Ok(None) };
    document.retain(|top, _| top == "procedure");
    document.set_trailing("");
    let all = document["procedure"].as_table_mut().ok_or_else(inline)?;
    all.retain(|other, _| other == key);
    all.set_implicit(true);
    let table = all[&key].as_table_mut().ok_or_else(inline)?;
    if let Some((first, _)) = extent(table)
        && let Some(head) = at_position(table, first)
    {
        let own = parted(&prefix_of(head)).1.to_owned();
        head.decor_mut().set_prefix(own);
    }
    Ok(Some(document.to_string()))
}

/// An estate's text with another piece in the place of a procedure; without a piece, with the procedure taken out.
///
/// Everything else stays as it is, to the byte.
pub fn with_piece(estate: &str, name: &ProcedureName, piece: Option<&str>) -> Result<String, EditFault> {
    Ok(as_written(estate, &in_plain(&plain(estate), name, piece)?))
}

fn in_plain(estate: &str, name: &ProcedureName, piece: Option<&str>) -> Result<String, EditFault> {
    let mut document = read(estate)?;
    procedures(&document)?;
    let mut last = 0;
    each_table(document.as_table_mut(), &mut |t| {
        if let Some(at) = t.position() {
            t.set_position(Some(at * APART));
            last = last.max(at * APART);
        }
    });
    let all = document.entry("procedure").or_insert_with(|| {
        let mut table = Table::new();
        table.set_implicit(true);
        Item::Table(table)
    });
    let all = all.as_table_mut().ok_or_else(inline)?;
    let old = key_of(all, name).and_then(|key| Some((all.remove(&key)?, key)));
    let mut apart = "\n".to_owned();
    let mut at = last + APART;
    if let Some((Item::Table(mut table), _)) = old {
        if let Some((first, _)) = extent(&mut table) {
            at = first;
            apart = at_position(&mut table, first).map_or(apart, |head| parted(&prefix_of(head)).0.to_owned());
        }
    } else if last == 0 && estate.is_empty() {
        apart.clear();
    }
    let mut after = String::new();
    if let Some(text) = piece {
        let mut new = read(text)?;
        let (key, mut table) = only_one(&mut new, name)?;
        let first = extent(&mut table).map_or(0, |(first, _)| first);
        if let Some(head) = at_position(&mut table, first) {
            let prefix = format!("{apart}{}", prefix_of(head).trim_start_matches('\n'));
            head.decor_mut().set_prefix(prefix);
        }
        each_table(&mut table, &mut |t| t.set_position(t.position().map(|p| at + p - first)));
        all.insert(&key, Item::Table(table));
        // A comment at the very end belongs to no table: it goes before what follows.
        let rest = new.trailing().as_str().unwrap_or_default();
        if !rest.trim().is_empty() {
            after = format!("{rest}{}", if rest.ends_with('\n') { "" } else { "\n" });
        }
    } else if apart.contains('#') {
        after = apart;
    }
    if !after.is_empty() {
        let mut next: Option<isize> = None;
        each_table(document.as_table_mut(), &mut |t| {
            if let Some(p) = t.position().filter(|p| *p >= at + if piece.is_some() { APART } else { 0 } && is_shown(t)) {
                next = Some(next.map_or(p, |n| n.min(p)));
            }
        });
        match next.and_then(|n| at_position(document.as_table_mut(), n)) {
            Some(head) => {
                let prefix = format!("{after}{}", prefix_of(head));
                head.decor_mut().set_prefix(prefix);
            }
            None => {
                let trailing = format!("{after}{}", document.trailing().as_str().unwrap_or_default());
                document.set_trailing(trailing);
            }
        }
    }
    Ok(document.to_string())
}

/// The one procedure that a piece describes, taken out of it.
fn only_one(piece: &mut DocumentMut, name: &ProcedureName) -> Result<(String, Table), EditFault> {
    let stray =
        |what: &str| EditFault::new(format!("this text speaks of {what} too"), format!("keep it to [procedure.{name}] and its steps"));
    if let Some((other, _)) = piece.iter().find(|(key, _)| *key != "procedure") {
        return Err(stray(&format!("\"{other}\"")));
    }
    let none = || EditFault::new(format!("this text has no procedure {name}"), format!("begin it with [procedure.{name}]"));
    let all = piece.get_mut("procedure").ok_or_else(none)?.as_table_mut().ok_or_else(inline)?;
    let key = key_of(all, name).ok_or_else(none)?;
    if let Some((other, _)) = all.iter().find(|(other, _)| *other != key) {
        return Err(stray(&format!("the procedure \"{other}\"")));
    }
    match all.remove(&key) {
        Some(Item::Table(table)) => Ok((key, table)),
        _ => Err(inline()),
    }
}

/// A piece under another name: a copy to be changed.
pub fn renamed(piece: &str, from: &ProcedureName, to: &ProcedureName) -> Result<String, EditFault> {
    let mut document = read(piece)?;
    let (_, table) = only_one(&mut document, from)?;
    let all = document["procedure"].as_table_mut().ok_or_else(inline)?;
    all.insert(to.as_str(), Item::Table(table));
    Ok(document.to_string())
}

/// The text of a procedure that has nothing yet but a title.
pub fn blank(name: &ProcedureName, title: &str) -> String {
    let mut document = DocumentMut::new();
    let mut table = Table::new();
    table.insert("title", toml_edit::value(title));
    table.set_position(Some(0));
    let mut all = Table::new();
    all.set_implicit(true);
    all.insert(name.as_str(), Item::Table(table));
    document.insert("procedure", Item::Table(all));
    document.to_string()
}
