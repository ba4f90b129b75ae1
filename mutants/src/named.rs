//! Mutants that no test can notice, each with the reason: they are named in `mutants/named.toml`.

use std::{
    collections::{BTreeMap, BTreeSet},
    fs,
    path::Path,
};

use serde::Deserialize;

use crate::came::Came;

/// All that are named.
#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Named {
    #[serde(default)]
    mutant: Vec<One>,
}

/// Those of one change in one function.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
struct One {
    /// The file, from `src/` on.
    file: String,
    /// What is changed where, as it is told without its place: `replace > with >= in Turn<'_>::look_again`.
    change: String,
    /// What its line holds, where the same is done at several places of that function.
    #[serde(default)]
    line: String,
    /// Which of them on that line, from 1, where there are several.
    nth: Option<usize>,
    /// Why no test can notice.
    why: String,
}

/// What became of those that are named, of one crate.
#[derive(Debug, Default)]
pub struct Told {
    names: BTreeSet<String>,
    /// Named, and not what it was named for: noticed by now, or no longer there.
    amiss: Vec<String>,
}

impl Named {
    /// Reads them.
    ///
    /// # Errors
    /// Where the file cannot be read, or one of them has no reason.
    pub fn read(at: &Path) -> Result<Self, String> {
        let text = fs::read_to_string(at).map_err(|e| format!("{}: {e}", at.display()))?;
        let named: Self = toml::from_str(&text).map_err(|e| format!("{}: {e}", at.display()))?;
        match named.mutant.iter().find(|one| one.why.trim().is_empty()) {
            Some(one) => Err(format!("{}: no reason is given for {} in {}", at.display(), one.change, one.file)),
            None => Ok(named),
        }
    }

    /// Those of a crate, of all that there are; what was not tried this time is none of these.
    pub fn of<'m>(&self, folder: &str, all: impl Iterator<Item = &'m str> + Clone, came: &BTreeMap<String, Came>) -> Told {
        let mut told = Told::default();
        let mut lines: BTreeMap<String, Vec<String>> = BTreeMap::new();
        for one in self.mutant.iter().filter(|one| Path::new(folder).join("src").join(&one.file).exists()) {
            let file = format!("{folder}/src/{}", one.file);
            let text = lines
                .entry(file.clone())
                .or_insert_with(|| fs::read_to_string(&file).unwrap_or_default().lines().map(str::to_owned).collect());
            let is_meant = |name: &str| {
                let mut parts = name.splitn(4, ':');
                let (of, line, _, change) = (parts.next(), parts.next(), parts.next(), parts.next());
                let line = line.and_then(|n| n.parse::<usize>().ok()).and_then(|n| text.get(n.checked_sub(1)?));
                of == Some(&file) && change.is_some_and(|c| c.trim() == one.change) && line.is_some_and(|l| l.contains(&one.line))
            };
            let mut meant: Vec<&str> = all.clone().filter(|name| is_meant(name)).collect();
            meant.sort_by_key(|name| place(name));
            if let Some(nth) = one.nth {
                meant = meant.into_iter().skip(nth.saturating_sub(1)).take(1).collect();
            }
            if meant.is_empty() {
                told.amiss.push(format!("named, and not there: {}: {}", one.file, one.change));
            }
            for name in meant {
                match came.get(name) {
                    Some(Came::Noticed { .. } | Came::Hung) => told.amiss.push(format!("named, and noticed: {name}")),
                    Some(Came::Survived | Came::Untouched | Came::NotBuilt) => drop(told.names.insert(name.to_owned())),
                    None => {}
                }
            }
        }
        told
    }
}

impl Told {
    /// Whether this one is named.
    pub fn has(&self, name: &str) -> bool {
        self.names.contains(name)
    }

    /// Whether each is what it was named for.
    pub fn holds(&self) -> bool {
        self.amiss.is_empty()
    }

    /// How many are.
    pub fn count(&self) -> usize {
        self.names.len()
    }

    /// What is amiss with them, a line each.
    pub fn says(&self) -> String {
        self.amiss.iter().map(|line| format!("{line}\n")).collect()
    }
}

/// How many came to what, and the names of those that no test notices, unless they are named with their reason.
pub fn summed(came: &BTreeMap<String, Came>, named: &Told) -> String {
    let count = |is: fn(&Came) -> bool| came.values().filter(|c| is(c)).count();
    let mut text: String = came
        .iter()
        .filter(|(name, _)| !named.has(name))
        .filter_map(|(name, c)| match c {
            Came::Survived => Some(format!("survived   {name}\n")),
            Came::Untouched => Some(format!("untouched  {name}\n")),
            _ => None,
        })
        .collect();
    text += &named.says();
    text += &format!(
        "{} mutants: {} noticed, {} hung, {} survived, {} untouched by any test, {} cannot be built; {} of them are named with their reason\n",
        came.len(),
        count(|c| matches!(c, Came::Noticed { .. })),
        count(|c| *c == Came::Hung),
        count(|c| *c == Came::Survived),
        count(|c| *c == Came::Untouched),
        count(|c| *c == Came::NotBuilt),
        named.count(),
    );
    text
}

/// The line and column that a mutant's name begins with.
fn place(name: &str) -> (usize, usize) {
    let mut numbers = name.split(':').skip(1).map(|n| n.parse().unwrap_or_default());
    (numbers.next().unwrap_or_default(), numbers.next().unwrap_or_default())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn came(all: &[(&str, Came)]) -> BTreeMap<String, Came> {
        all.iter().map(|(name, came)| ((*name).to_owned(), came.clone())).collect()
    }

    fn names(all: &BTreeMap<String, Came>) -> impl Iterator<Item = &str> + Clone {
        all.keys().map(String::as_str)
    }

    #[test]
    fn only_what_survives_at_its_line_is_named() {
        let folder = std::env::temp_dir().join(format!("named-{}", std::process::id()));
        fs::create_dir_all(folder.join("src")).unwrap();
        fs::write(folder.join("src/a.rs"), "one > two\nthree > four\n").unwrap();
        let at = folder.to_str().unwrap();
        let one =
            |line: &str, change: &str| One { file: "a.rs".into(), change: change.into(), line: line.into(), nth: None, why: "so".into() };
        let (first, second) = (format!("{at}/src/a.rs:1:5: replace > with >= in f"), format!("{at}/src/a.rs:2:7: replace > with >= in f"));
        let all = came(&[(&first, Came::Survived), (&second, Came::Noticed { by: "t".into() })]);
        let told = Named { mutant: vec![one("one", "replace > with >= in f")] }.of(at, names(&all), &all);
        assert!(told.has(&first) && !told.has(&second) && told.holds());
        let told = Named { mutant: vec![one("", "replace > with >= in f")] }.of(at, names(&all), &all);
        assert!(!told.holds(), "one of both is noticed");
        let first_of_all = One { nth: Some(1), ..one("", "replace > with >= in f") };
        assert!(Named { mutant: vec![first_of_all] }.of(at, names(&all), &all).holds());
        let told = Named { mutant: vec![one("", "replace > with < in f")] }.of(at, names(&all), &all);
        assert!(told.says().starts_with("named, and not there"), "{}", told.says());
        // Where only a share is tried, the others are there all the same.
        let told = Named { mutant: vec![one("one", "replace > with >= in f")] }.of(at, names(&all), &BTreeMap::new());
        assert!(told.holds() && told.count() == 0);
        fs::remove_dir_all(&folder).unwrap();
    }

    #[test]
    fn what_is_named_has_its_reason() {
        let named = Named::read(Path::new("named.toml")).unwrap();
        assert!(named.mutant.iter().all(|one| one.why.len() > 20));
    }
}
