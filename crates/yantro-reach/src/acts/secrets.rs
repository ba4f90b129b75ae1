//! References to secrets: resolved only at the act, masked in whatever is kept (R26).

use std::{
    collections::{BTreeMap, BTreeSet},
    fs,
};

use crate::looks::hung;

/// Secret values known to this server, each with the reference that stands for it.
#[derive(Debug, Clone, Default)]
pub struct Secrets {
    /// Longest first, so that a secret inside another is not left half bare.
    known: Vec<(String, String)>,
    /// References that were looked up once to be masked.
    learnt: BTreeSet<String>,
}

/// Values shorter than this are not masked: they would hide ordinary text.
const SHORTEST: usize = 4;

impl Secrets {
    /// Resolves an environment. References are replaced by what they stand for and remembered; what is to be taken to the
    /// letter is no reference, whatever it looks like.
    pub fn resolve(
        &mut self,
        env: &BTreeMap<String, String>,
        to_the_letter: &BTreeSet<String>,
    ) -> Result<BTreeMap<String, String>, String> {
        let one = |(key, value): (&String, &String)| {
            let resolved = if to_the_letter.contains(key) { value.clone() } else { self.one(key, value)? };
            Ok((key.clone(), resolved))
        };
        env.iter().map(one).collect()
    }

    /// Learns what an environment refers to, so that it is masked though nothing was given with it since this program started.
    /// What cannot be resolved now is not known now.
    pub fn learn(&mut self, env: &BTreeMap<String, String>) {
        for (key, value) in env {
            let reference = value.starts_with("env:") || value.starts_with("file:");
            if reference && self.learnt.insert(value.clone()) && self.one(key, value).is_err() {
                self.learnt.remove(value);
            }
        }
    }

    fn one(&mut self, key: &str, value: &str) -> Result<String, String> {
        let resolved = if let Some(name) = value.strip_prefix("env:") {
            std::env::var(name).map_err(|_| format!("{key} refers to {value}, and the server's environment has no {name}"))?
        } else if let Some(path) = value.strip_prefix("file:") {
            let of = path.to_owned();
            let text = hung::blocking(&format!("the file {path}"), hung::WITHIN, move || fs::read_to_string(of))
                .map_err(|why| format!("{key} refers to {value}: {why}"))?
                .map_err(|e| format!("{key} refers to {value}, which cannot be read: {e}"))?;
            text.trim_end_matches(['\n', '\r']).to_owned()
        } else {
            return Ok(value.to_owned());
        };
        self.remember(&resolved, value);
        Ok(resolved)
    }

    /// A secret of several lines is known line by line, too: that is how logs and outputs are read.
    fn remember(&mut self, secret: &str, reference: &str) {
        let lines = secret.lines().map(str::trim).filter(|_| secret.contains('\n'));
        for piece in std::iter::once(secret).chain(lines) {
            if piece.len() >= SHORTEST && !self.known.iter().any(|(s, _)| s == piece) {
                self.known.push((piece.to_owned(), format!("[{reference}]")));
            }
        }
        self.known.sort_by_key(|(s, _)| std::cmp::Reverse(s.len()));
    }

    /// Every secret that is known with what stands for it, the longest first: for who masks beside the act.
    pub fn pairs(&self) -> &[(String, String)] {
        &self.known
    }

    /// The text with every known secret replaced by its reference.
    pub fn mask(&self, text: &str) -> String {
        let mut text = text.to_owned();
        for (secret, reference) in &self.known {
            if text.contains(secret.as_str()) {
                text = text.replace(secret.as_str(), reference);
            }
        }
        text
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_reference_is_resolved_and_its_value_masked() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("key");
        fs::write(&path, "tide-and-time\n").unwrap();
        let reference = format!("file:{}", path.display());
        let mut secrets = Secrets::default();
        let env = secrets.resolve(&BTreeMap::from([("KEY".to_owned(), reference.clone())]), &BTreeSet::new()).unwrap();
        assert_eq!(env["KEY"], "tide-and-time");
        assert_eq!(secrets.mask("login with tide-and-time"), format!("login with [{reference}]"));
    }

    #[test]
    fn what_came_from_outside_is_no_reference() {
        let env = BTreeMap::from([("PACKAGE".to_owned(), "file:/etc/hostname".to_owned())]);
        let given = Secrets::default().resolve(&env, &BTreeSet::from(["PACKAGE".to_owned()])).unwrap();
        assert_eq!(given["PACKAGE"], "file:/etc/hostname");
    }

    #[test]
    fn a_secret_of_several_lines_is_masked_line_by_line() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("key");
        fs::write(&path, "-----BEGIN KEY-----\ndGlkZS1hbmQtdGltZQ\n-----END KEY-----\n").unwrap();
        let reference = format!("file:{}", path.display());
        let mut secrets = Secrets::default();
        secrets.learn(&BTreeMap::from([("KEY".to_owned(), reference.clone())]));
        assert_eq!(secrets.mask("10:02 read dGlkZS1hbmQtdGltZQ, good"), format!("10:02 read [{reference}], good"));
    }

    #[test]
    fn a_reference_to_nothing_says_so() {
        let env = BTreeMap::from([("KEY".to_owned(), "file:/nowhere/at/all".to_owned())]);
        assert!(Secrets::default().resolve(&env, &BTreeSet::new()).unwrap_err().starts_with("KEY refers to file:/nowhere/at/all"));
    }
}
