//! All mutants of a file written into it at once, each asleep until it is woken by its number.

use std::{
    collections::{BTreeMap, BTreeSet},
    ops::Range,
};

use proc_macro2::{LineColumn, Span};
use serde::Deserialize;
use syn::{
    Arm, BinOp, Block, Expr, ExprBinary, ExprMatch, ExprStruct, ExprUnary, ImplItemFn, ItemFn, Pat, PatIdent, Signature, TraitItemFn,
    spanned::Spanned,
    visit::{self, Visit},
};

/// A place in a file, as cargo-mutants counts: from one, columns in characters.
#[derive(Clone, Copy, Debug, Deserialize, PartialEq, Eq, PartialOrd, Ord)]
pub struct Place {
    line: usize,
    column: usize,
}

impl From<LineColumn> for Place {
    fn from(at: LineColumn) -> Self {
        Place { line: at.line, column: at.column + 1 }
    }
}

/// Where something begins.
#[derive(Clone, Debug, Deserialize)]
struct Stretch {
    start: Place,
}

/// What `cargo mutants --list --json` says of one.
#[derive(Clone, Debug, Deserialize)]
pub struct Mutant {
    /// From the root of the workspace.
    pub file: String,
    /// What it is called: its place and what is changed.
    pub name: String,
    replacement: String,
    genre: String,
    span: Stretch,
}

/// A file with its mutants written in.
#[derive(Debug, Default)]
pub struct Written {
    /// The text.
    pub text: String,
    /// Where in it, in bytes, each mutant stands.
    pub stands: Vec<(Range<usize>, usize)>,
    /// Those that cannot be written in, and why.
    pub left: Vec<(usize, &'static str)>,
}

/// What kind of place it is: one character may be the first of several.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
enum Kind {
    Body,
    // What may be all of an arm's guard or of a field's value comes after these.
    Arm,
    Field,
    Operator,
    Sign,
}

impl Kind {
    fn of(genre: &str) -> Result<Self, String> {
        Ok(match genre {
            "FnValue" => Kind::Body,
            "BinaryOperator" => Kind::Operator,
            "UnaryOperator" => Kind::Sign,
            "MatchArm" | "MatchArmGuard" => Kind::Arm,
            "StructField" => Kind::Field,
            other => return Err(format!("no such change is known here: {other}")),
        })
    }
}

/// Where something may be written in, by how.
enum Site {
    /// Between the braces of a function's body; `is_opaque` where it gives back what only it knows the type of.
    Body { within: Range<usize>, is_opaque: bool },
    /// An operator between two operands.
    Operator { whole: Range<usize>, left: Range<usize>, op: Range<usize>, right: Range<usize> },
    /// An operator before its operand.
    Sign { whole: Range<usize>, operand: Range<usize> },
    /// An arm: its guard, or where one goes.
    Arm { guard: Option<Range<usize>>, arrow: usize },
    /// A field said beside a base that has it too.
    Field { value: Range<usize>, base: Range<usize>, named: String },
}

impl Site {
    /// What is written anew of it.
    fn whole(&self) -> Range<usize> {
        match self {
            Site::Body { within, is_opaque: true } => within.clone(),
            Site::Body { within, .. } => within.start..within.start,
            Site::Operator { whole, .. } | Site::Sign { whole, .. } => whole.clone(),
            Site::Arm { guard: Some(guard), .. } => guard.clone(),
            Site::Arm { guard: None, arrow } => *arrow..*arrow,
            Site::Field { value, .. } => value.clone(),
        }
    }
}

#[derive(Default)]
struct Found {
    sites: BTreeMap<(Kind, Place), Site>,
    guards: BTreeMap<Place, Place>,
    /// Arms of which every one is needed: no other takes what it takes.
    all_needed: BTreeSet<Place>,
    cannot: BTreeMap<(Kind, Place), &'static str>,
}

fn bytes(of: &impl Spanned) -> Range<usize> {
    of.span().byte_range()
}

fn place(span: Span) -> Place {
    span.start().into()
}

/// Whether a chain of conditions binds something: no part of it can be taken out of it then.
fn binds(expr: &Expr) -> bool {
    match expr {
        Expr::Let(_) => true,
        Expr::Binary(ExprBinary { left, op: BinOp::And(_), right, .. }) => binds(left) || binds(right),
        _ => false,
    }
}

/// Whether a pattern takes whatever comes. What begins with a capital is a value by its name.
fn is_any(pattern: &Pat) -> bool {
    match pattern {
        Pat::Wild(_) => true,
        Pat::Ident(PatIdent { ident, subpat: None, .. }) => ident.to_string().starts_with(|c: char| c.is_lowercase()),
        _ => false,
    }
}

impl Found {
    fn body(&mut self, of: &Signature, block: &Block) {
        let at = place(block.span());
        let braces = block.brace_token.span;
        let within = braces.open().byte_range().end..braces.close().byte_range().start;
        let is_opaque = matches!(&of.output, syn::ReturnType::Type(_, t) if matches!(**t, syn::Type::ImplTrait(_)));
        // It counts the first statement as the body's begin.
        let first = block.stmts.first().map_or(at, |s| place(s.span()));
        for at in [at, first] {
            let at = (Kind::Body, at);
            match of.constness {
                Some(_) => drop(self.cannot.insert(at, "it is worked out while the program is built")),
                None => drop(self.sites.entry(at).or_insert(Site::Body { within: within.clone(), is_opaque })),
            }
        }
    }
}

impl<'a> Visit<'a> for Found {
    fn visit_item_fn(&mut self, f: &'a ItemFn) {
        self.body(&f.sig, &f.block);
        visit::visit_item_fn(self, f);
    }

    fn visit_impl_item_fn(&mut self, f: &'a ImplItemFn) {
        self.body(&f.sig, &f.block);
        visit::visit_impl_item_fn(self, f);
    }

    fn visit_trait_item_fn(&mut self, f: &'a TraitItemFn) {
        if let Some(block) = &f.default {
            self.body(&f.sig, block);
        }
        visit::visit_trait_item_fn(self, f);
    }

    fn visit_expr_binary(&mut self, e: &'a ExprBinary) {
        let at = (Kind::Operator, place(e.op.span()));
        if binds(&e.left) || binds(&e.right) {
            self.cannot.insert(at, "it binds what follows");
        } else {
            let (left, op, right) = (bytes(&e.left), bytes(&e.op), bytes(&e.right));
            self.sites.insert(at, Site::Operator { whole: left.start..right.end, left, op, right });
        }
        visit::visit_expr_binary(self, e);
    }

    fn visit_expr_unary(&mut self, e: &'a ExprUnary) {
        let (op, operand) = (bytes(&e.op), bytes(&e.expr));
        self.sites.insert((Kind::Sign, place(e.op.span())), Site::Sign { whole: op.start..operand.end, operand });
        visit::visit_expr_unary(self, e);
    }

    fn visit_expr_match(&mut self, m: &'a ExprMatch) {
        let takes_all = |arm: &&Arm| arm.guard.is_none() && is_any(&arm.pat);
        if !m.arms.iter().any(|arm| takes_all(&arm)) {
            self.all_needed.extend(m.arms.iter().map(|arm| place(arm.span())));
        }
        visit::visit_expr_match(self, m);
    }

    fn visit_arm(&mut self, arm: &'a Arm) {
        let at = place(arm.span());
        let guard = arm.guard.as_ref().map(|(_, g)| g);
        if let Some(guard) = guard {
            self.guards.insert(place(guard.span()), at);
        }
        if guard.is_some_and(|g| binds(g)) {
            self.cannot.insert((Kind::Arm, at), "it binds what follows");
        } else {
            let arrow = bytes(&arm.fat_arrow_token).start;
            self.sites.insert((Kind::Arm, at), Site::Arm { guard: guard.map(bytes), arrow });
        }
        visit::visit_arm(self, arm);
    }

    fn visit_expr_struct(&mut self, e: &'a ExprStruct) {
        if let Some(base) = &e.rest {
            for field in &e.fields {
                let named = match &field.member {
                    syn::Member::Named(name) => name.to_string(),
                    syn::Member::Unnamed(index) => index.index.to_string(),
                };
                match field.colon_token {
                    Some(_) => {
                        let site = Site::Field { value: bytes(&field.expr), base: bytes(base), named };
                        self.sites.insert((Kind::Field, place(field.span())), site);
                    }
                    None => drop(self.cannot.insert((Kind::Field, place(field.span())), "it is said by its name alone")),
                }
            }
        }
        visit::visit_expr_struct(self, e);
    }
}

/// A mutant, by its number.
type Numbered<'a> = (usize, &'a Mutant);

struct Writer<'a> {
    source: &'a str,
    /// Each with its mutants, by where it begins; what holds another comes before it.
    sites: Vec<(&'a Site, Vec<Numbered<'a>>)>,
    to: Written,
}

impl Writer<'_> {
    fn said(&mut self, text: &str) {
        self.to.text += text;
    }

    /// What is there when the mutant is awake: `before` and its own text.
    fn awake(&mut self, number: usize, text: &str) {
        let begins = self.to.text.len();
        self.said(&format!("if crate::mutant::is({number}) {{ {text} }}"));
        self.to.stands.push((begins..self.to.text.len(), number));
    }

    /// A stretch of the source, with the sites `from` which on lie in it.
    fn stretch(&mut self, range: Range<usize>, mut from: usize) {
        let mut at = range.start;
        while let Some((site, _)) = self.sites.get(from) {
            let whole = site.whole();
            if whole.start >= range.end && !(whole.is_empty() && whole.start == range.end) {
                break;
            }
            if whole.start >= at && whole.end <= range.end {
                self.said(&self.source[at..whole.start]);
                self.site(from);
                at = whole.end;
            }
            from += 1;
        }
        self.said(&self.source[at..range.end]);
    }

    fn site(&mut self, index: usize) {
        let (site, mutants) = (self.sites[index].0, self.sites[index].1.clone());
        let source = self.source;
        match site {
            Site::Body { within, is_opaque: true } => {
                // What it gives back is all left out where the mutant gives back nothing.
                let kept: String = mutants.iter().map(|(number, _)| format!(".filter(|_| !crate::mutant::is({number}))")).collect();
                self.said(" let all = {");
                self.stretch(within.clone(), index + 1);
                let begins = self.to.text.len();
                self.said(&format!("}}; all{kept} "));
                let stands = begins..self.to.text.len();
                self.to.stands.extend(mutants.iter().map(|(number, _)| (stands.clone(), *number)));
            }
            Site::Body { .. } => {
                for (number, mutant) in mutants {
                    self.said(" ");
                    self.awake(number, &format!("return {};", mutant.replacement));
                }
            }
            Site::Operator { left, right, op, .. } => {
                let (l, r) = (&source[left.clone()], &source[right.clone()]);
                self.said("(");
                for (number, mutant) in mutants {
                    self.awake(number, &format!("({l}) {} ({r})", mutant.replacement));
                    self.said(" else ");
                }
                self.said("{ (");
                self.stretch(left.clone(), index + 1);
                self.said(&format!(") {} (", &source[op.clone()]));
                self.stretch(right.clone(), index + 1);
                self.said(") })");
            }
            Site::Sign { whole, operand } => {
                self.said("(");
                for (number, mutant) in mutants {
                    self.awake(number, &format!("{}{}", mutant.replacement, &source[operand.clone()]));
                    self.said(" else ");
                }
                self.said(&format!("{{ {}", &source[whole.start..operand.start]));
                self.stretch(operand.clone(), index + 1);
                self.said(" })");
            }
            Site::Arm { guard, .. } => {
                let begins = self.to.text.len();
                self.said(if guard.is_some() { "(" } else { "if " });
                let deleted = mutants.iter().filter(|(_, m)| m.genre == "MatchArm");
                let never: Vec<usize> = deleted.chain(mutants.iter().filter(|(_, m)| m.replacement == "false")).map(|(n, _)| *n).collect();
                for number in &never {
                    self.said(&format!("!crate::mutant::is({number}) && "));
                }
                if let Some(guard) = guard {
                    self.said("(");
                    for (number, _) in mutants.iter().filter(|(_, m)| m.replacement == "true") {
                        self.said(&format!("crate::mutant::is({number}) || "));
                    }
                    self.said("(");
                    self.stretch(guard.clone(), index + 1);
                    self.said(")))");
                } else {
                    self.said("true ");
                }
                let all = mutants.iter().map(|(number, _)| (begins..self.to.text.len(), *number)).collect::<Vec<_>>();
                self.to.stands.extend(all);
            }
            Site::Field { value, base, named } => {
                let base = &source[base.clone()];
                for (number, _) in mutants {
                    self.awake(number, &format!("({base}).{named}"));
                    self.said(" else ");
                }
                self.said("{ ");
                self.stretch(value.clone(), index + 1);
                self.said(" }");
            }
        }
    }
}

/// A file's text with these mutants in it.
///
/// # Errors
/// Where the source cannot be read, or a mutant is of no place in it.
pub fn write(source: &str, mutants: &[Numbered<'_>]) -> Result<Written, String> {
    let file = syn::parse_file(source).map_err(|e| format!("it cannot be read: {e}"))?;
    let mut found = Found::default();
    found.visit_file(&file);
    let mut by_site: BTreeMap<(Kind, Place), Vec<Numbered<'_>>> = BTreeMap::new();
    let mut left = Vec::new();
    for &(number, mutant) in mutants {
        let mut at = mutant.span.start;
        if mutant.genre == "MatchArmGuard" {
            at = *found.guards.get(&at).ok_or_else(|| format!("no guard at {at:?}: {}", mutant.name))?;
        }
        let at = (Kind::of(&mutant.genre)?, at);
        if mutant.genre == "MatchArm" && found.all_needed.contains(&at.1) {
            left.push((number, "no other arm takes what it takes"));
            continue;
        }
        if mutant.replacement.starts_with("::std::iter::once") && matches!(found.sites.get(&at), Some(Site::Body { is_opaque: true, .. })) {
            left.push((number, "it is of another type"));
            continue;
        }
        match (found.sites.contains_key(&at), found.cannot.get(&at)) {
            (true, _) => by_site.entry(at).or_default().push((number, mutant)),
            (false, Some(why)) => left.push((number, *why)),
            (false, None) => return Err(format!("nothing to change there: {}", mutant.name)),
        }
    }
    let mut sites: Vec<(&Site, Vec<Numbered<'_>>)> = by_site.into_iter().map(|(at, all)| (&found.sites[&at], all)).collect();
    sites.sort_by_key(|(site, _)| (site.whole().start, !site.whole().is_empty(), std::cmp::Reverse(site.whole().end)));
    let mut writer = Writer { source, sites, to: Written { left, ..Written::default() } };
    writer.stretch(0..source.len(), 0);
    Ok(writer.to)
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    const SOURCE: &str = "fn may(a: u32, b: u32) -> bool {\n    a < b && !is(a) || b == 7\n}\nconst fn one() -> u32 { 1 }\n\
                          fn word(n: u32) -> &'static str {\n    match n {\n        0 => \"none\",\n        n if n > 5 && n < 9 => \"some\",\n        \
                          _ => \"many\",\n    }\n}\n";

    fn mutant(genre: &str, line: usize, column: usize, replacement: &str) -> Mutant {
        let name = format!("{line}:{column} {replacement}");
        let said = json!({ "file": "x.rs", "name": name, "genre": genre, "replacement": replacement, "span": { "start": { "line": line, "column": column } } });
        serde_json::from_value(said).unwrap()
    }

    fn written(mutants: &[Mutant]) -> Written {
        let numbered: Vec<_> = mutants.iter().enumerate().collect();
        let written = write(SOURCE, &numbered).unwrap();
        syn::parse_file(&written.text).unwrap_or_else(|e| panic!("{e}: {}", written.text));
        for (at, number) in &written.stands {
            assert!(written.text[at.clone()].contains(&format!("is({number})")), "{number} stands elsewhere: {}", written.text);
        }
        written
    }

    #[test]
    fn each_stands_where_it_is_woken_and_leaves_the_rest_as_it_is() {
        let all = [
            mutant("FnValue", 2, 5, "true"),
            mutant("BinaryOperator", 2, 7, "<="),
            mutant("BinaryOperator", 2, 11, "||"),
            mutant("UnaryOperator", 2, 14, ""),
            mutant("BinaryOperator", 2, 21, "&&"),
            mutant("MatchArm", 7, 9, ""),
            mutant("MatchArmGuard", 8, 14, "true"),
            mutant("BinaryOperator", 8, 20, "||"),
        ];
        let written = written(&all);
        for has in [
            "fn may(a: u32, b: u32) -> bool { if crate::mutant::is(0) { return true; }",
            "(if crate::mutant::is(1) { (a) <= (b) } else { (a) < (b) })",
            "(if crate::mutant::is(3) { is(a) } else { !is(a) })",
            "if crate::mutant::is(4) { (a < b && !is(a)) && (b == 7) }",
            "0 if !crate::mutant::is(5) && true => \"none\"",
            "n if ((crate::mutant::is(6) || ((if crate::mutant::is(7)",
        ] {
            assert!(written.text.contains(has), "{has}\n{}", written.text);
        }
        assert_eq!(written.left, []);
    }

    #[test]
    fn what_is_worked_out_while_building_is_left() {
        assert_eq!(written(&[mutant("FnValue", 4, 25, "0")]).left.len(), 1);
    }

    #[test]
    fn a_place_where_nothing_can_be_changed_is_told() {
        let there = mutant("BinaryOperator", 1, 1, "==");
        assert!(write(SOURCE, &[(0, &there)]).unwrap_err().contains("1:1"));
    }
}
