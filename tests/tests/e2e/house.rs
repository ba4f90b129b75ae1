//! The house: no two files import each other, directly or round a corner.

use std::{
    collections::{BTreeMap, BTreeSet, HashMap},
    path::{Path, PathBuf},
};

use petgraph::{algo::tarjan_scc, graph::DiGraph};
use syn::{Item, ItemUse, UseTree, Visibility, visit::Visit};

type Module = Vec<String>;

/// A file of a crate: what it defines, what it hands on, and every path that it names.
#[derive(Default)]
struct Source {
    path: PathBuf,
    /// Whether it only stands for its folder: what it hands on is taken from where it is.
    hands_on: bool,
    defines: BTreeSet<String>,
    /// By the name that it is handed on under: where it is from. `*` stands for all of it.
    handed_on: Vec<(String, Module)>,
    named: BTreeSet<Module>,
}

struct Names<'s> {
    module: &'s Module,
    source: &'s mut Source,
}

impl Names<'_> {
    /// A path from the crate's root, where it is one of the crate's own.
    fn absolute(&self, path: &[String]) -> Option<Module> {
        let (first, rest) = path.split_first()?;
        match first.as_str() {
            "crate" => Some(rest.to_vec()),
            "self" => Some([self.module.as_slice(), rest].concat()),
            "super" => {
                let mut at = self.module.clone();
                let mut rest = path;
                while rest.first().is_some_and(|s| s == "super") {
                    at.pop();
                    rest = &rest[1..];
                }
                Some([at.as_slice(), rest].concat())
            }
            // A module of its own, or a crate: whichever it is, is found out when all files are known.
            _ => Some([self.module.as_slice(), path].concat()),
        }
    }

    fn used(&mut self, tree: &UseTree, before: &[String], handed_on: bool) {
        let with = |name: &syn::Ident| [before, &[name.to_string()]].concat();
        let (path, name) = match tree {
            UseTree::Path(p) => return self.used(&p.tree, &with(&p.ident), handed_on),
            UseTree::Group(g) => return g.items.iter().for_each(|t| self.used(t, before, handed_on)),
            UseTree::Name(n) if n.ident == "self" => (before.to_vec(), before.last().cloned().unwrap_or_default()),
            UseTree::Name(n) => (with(&n.ident), n.ident.to_string()),
            UseTree::Rename(r) => (with(&r.ident), r.rename.to_string()),
            UseTree::Glob(_) => (before.to_vec(), "*".to_owned()),
        };
        let Some(path) = self.absolute(&path) else { return };
        if handed_on && self.source.hands_on {
            self.source.handed_on.push((name, path));
        } else {
            self.source.named.insert(path);
        }
    }
}

impl<'ast> Visit<'ast> for Names<'_> {
    fn visit_item(&mut self, item: &'ast Item) {
        let attributes = match item {
            Item::Mod(m) => &m.attrs,
            Item::Fn(f) => &f.attrs,
            _ => return syn::visit::visit_item(self, item),
        };
        // What only tests need is no part of the house.
        let is_test = |a: &syn::Attribute| a.path().is_ident("cfg") && a.parse_args::<syn::Ident>().is_ok_and(|i| i == "test");
        if !attributes.iter().any(is_test) {
            syn::visit::visit_item(self, item);
        }
    }

    fn visit_item_use(&mut self, item: &'ast ItemUse) {
        if item.leading_colon.is_none() {
            self.used(&item.tree, &[], !matches!(item.vis, Visibility::Inherited));
        }
    }

    fn visit_path(&mut self, path: &'ast syn::Path) {
        let names: Vec<String> = path.segments.iter().map(|s| s.ident.to_string()).collect();
        if names.len() > 1 && path.leading_colon.is_none() {
            self.source.named.extend(self.absolute(&names));
        }
        syn::visit::visit_path(self, path);
    }
}

fn rust_files(folder: &Path, into: &mut Vec<PathBuf>) {
    for entry in std::fs::read_dir(folder).into_iter().flatten().flatten() {
        let path = entry.path();
        if path.is_dir() {
            rust_files(&path, into);
        } else if path.extension().is_some_and(|e| e == "rs") {
            into.push(path);
        }
    }
}

fn sources(src: &Path) -> HashMap<Module, Source> {
    let mut files = Vec::new();
    rust_files(src, &mut files);
    let mut all = HashMap::new();
    for path in files {
        let text = std::fs::read_to_string(&path).unwrap();
        let parsed = syn::parse_file(&text).unwrap_or_else(|e| panic!("{}: {e}", path.display()));
        let stem = path.file_stem().unwrap().to_string_lossy().into_owned();
        let mut module: Module =
            path.strip_prefix(src).unwrap().with_extension("").iter().map(|p| p.to_string_lossy().into_owned()).collect();
        let hands_on = ["mod", "lib", "main"].contains(&stem.as_str());
        if hands_on {
            module.pop();
        }
        let mut source = Source { path, hands_on, ..Source::default() };
        for item in &parsed.items {
            source.defines.extend(match item {
                Item::Const(i) => Some(i.ident.to_string()),
                Item::Enum(i) => Some(i.ident.to_string()),
                Item::Fn(i) => Some(i.sig.ident.to_string()),
                Item::Static(i) => Some(i.ident.to_string()),
                Item::Struct(i) => Some(i.ident.to_string()),
                Item::Trait(i) => Some(i.ident.to_string()),
                Item::Type(i) => Some(i.ident.to_string()),
                _ => None,
            });
        }
        Names { module: &module, source: &mut source }.visit_file(&parsed);
        all.insert(module, source);
    }
    all
}

/// The file that a path leads to: through whatever hands it on, to where it is.
fn leads_to(all: &HashMap<Module, Source>, path: &[String], depth: u32) -> Option<Module> {
    let at = (0..=path.len()).rev().find(|n| all.contains_key(&path[..*n]))?;
    let (module, rest) = (path[..at].to_vec(), &path[at..]);
    let source = &all[&module];
    let Some(name) = rest.first().filter(|n| !source.defines.contains(*n) && depth < 12) else { return Some(module) };
    let from = |(as_name, of): &(String, Module)| match as_name.as_str() {
        "*" => leads_to(all, &[of.as_slice(), rest].concat(), depth + 1).filter(|found| all[found].defines.contains(name)),
        known if known == name => leads_to(all, &[of.as_slice(), &rest[1..]].concat(), depth + 1),
        _ => None,
    };
    // What is not to be found in it is of another crate, or of its own prelude.
    Some(source.handed_on.iter().find_map(from).unwrap_or(module))
}

fn circles(src: &Path) -> Vec<Vec<PathBuf>> {
    let all = sources(src);
    let mut graph = DiGraph::<&Module, ()>::new();
    let nodes: BTreeMap<&Module, _> = all.keys().map(|m| (m, graph.add_node(m))).collect();
    for (module, source) in &all {
        for path in &source.named {
            // A path that leads nowhere but to the root is of another crate.
            let is_own = path.len() > module.len() || !path.starts_with(module);
            let Some(target) = leads_to(&all, path, 0).filter(|t| is_own && t != module && !t.is_empty()) else { continue };
            graph.update_edge(nodes[module], nodes[&target], ());
        }
    }
    let circles = tarjan_scc(&graph).into_iter().filter(|c| c.len() > 1);
    circles.map(|c| c.into_iter().map(|n| all[graph[n]].path.clone()).collect()).collect()
}

#[test]
fn no_two_files_import_each_other() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).parent().unwrap();
    let mut crates: Vec<PathBuf> = std::fs::read_dir(root.join("crates")).unwrap().flatten().map(|e| e.path()).collect();
    crates.extend(["figures", "lab", "mutants", "outpost", "recorder", "stand-ins", "tests"].map(|c| root.join(c)));
    let found: Vec<Vec<PathBuf>> = crates.iter().flat_map(|c| circles(&c.join("src"))).collect();
    let says = |circle: &Vec<PathBuf>| {
        let mut names: Vec<String> = circle.iter().map(|p| p.strip_prefix(root).unwrap().display().to_string()).collect();
        names.sort();
        names.join(" ")
    };
    assert!(
        found.is_empty(),
        "circles of files; move what both need into a file below both:\n{}",
        found.iter().map(says).collect::<Vec<_>>().join("\n")
    );
}

#[test]
fn a_circle_is_found_round_a_corner() {
    let dir = tempfile::tempdir().unwrap();
    let put = |name: &str, text: &str| {
        let path = dir.path().join(name);
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::fs::write(path, text).unwrap();
    };
    put("lib.rs", "mod quay; mod pier; pub use quay::Gate;");
    put("quay/mod.rs", "mod gate; pub use gate::*;");
    put("quay/gate.rs", "pub struct Gate; pub fn opens() { crate::pier::rings(&Gate) }");
    put("pier.rs", "pub fn rings(_: &u8) {}");
    assert!(circles(dir.path()).is_empty());
    // By what another file hands on, and in a test of its own.
    put("pier.rs", "pub fn rings(_: &u8) {}\n#[cfg(test)]\nmod tests { use crate::quay::Gate; }");
    assert!(circles(dir.path()).is_empty(), "what only tests need is no part of it");
    put("pier.rs", "use crate::quay::Gate; pub fn rings(_: &Gate) {}");
    assert_eq!(circles(dir.path()).len(), 1);
}

/// Every test that docs/promises.md names is there, so that no promise is said to be kept by nothing.
#[test]
fn every_test_that_is_said_to_keep_a_promise_is_there() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).parent().unwrap();
    let mut functions = BTreeSet::new();
    let mut folders: Vec<PathBuf> = ["crates", "tests"].iter().map(|f| root.join(f)).collect();
    while let Some(folder) = folders.pop() {
        for entry in std::fs::read_dir(&folder).unwrap().flatten() {
            let path = entry.path();
            if path.is_dir() {
                folders.push(path);
            } else if path.extension().is_some_and(|e| e == "rs") {
                let text = std::fs::read_to_string(&path).unwrap();
                functions.extend(text.split("fn ").skip(1).filter_map(|rest| Some(rest.split(['(', '<']).next()?.to_owned())));
            }
        }
    }
    let promises = std::fs::read_to_string(root.join("docs/promises.md")).unwrap();
    let named: Vec<&str> = promises
        .split('`')
        .skip(1)
        .step_by(2)
        .filter(|n| n.chars().all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '_' || c == ':'))
        .collect();
    assert!(named.len() > 60, "{} tests are named", named.len());
    let missing: Vec<&&str> = named.iter().filter(|n| !functions.contains(n.rsplit("::").next().unwrap_or_default())).collect();
    assert!(missing.is_empty(), "docs/promises.md names tests that are not there: {missing:?}");
}
