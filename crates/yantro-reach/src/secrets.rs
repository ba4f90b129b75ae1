//! References to secrets: resolved only at the act, masked in whatever is kept (R26).

use std::{collections::BTreeMap, fs};

/// Secret values known to this server, each with the reference that stands for it.
#[derive(Debug, Clone, Default)]
pub struct Secrets {
    /// Longest first, so that a secret inside another is not left half bare.
    known: Vec<(String, String)>,
}

/// Values shorter than this are not masked: they would hide ordinary text.
const SHORTEST: usize = 4;

impl Secrets {
    /// Resolves an environment. References are replaced by what they stand for and remembered.
    pub fn resolve(&mut self, env: &BTreeMap<String, String>) -> Result<BTreeMap<String, String>, String> {
        env.iter().map(|(key, value)| Ok((key.clone(), self.one(key, value)?))).collect()
    }

    fn one(&mut self, key: &str, value: &str) -> Result<String, String> {
        let resolved = if let Some(name) = value.strip_prefix("env:") {
            std::env::var(name).map_err(|_| format!("{key} refers to {value}, and the server's environment has no {name}"))?
        } else if let Some(path) = value.strip_prefix("file:") {
            let text = fs::read_to_string(path).map_err(|e| format!("{key} refers to {value}, which cannot be read: {e}"))?;
            text.trim_end_matches(['\n', '\r']).to_owned()
        } else {
            return Ok(value.to_owned());
        };
        self.remember(&resolved, value);
        Ok(resolved)
    }

    fn remember(&mut self, secret: &str, reference: &str) {
        if secret.len() >= SHORTEST && !self.known.iter().any(|(s, _)| s == secret) {
            self.known.push((secret.to_owned(), format!("[{reference}]")));
            self.known.sort_by_key(|(s, _)| std::cmp::Reverse(s.len()));
        }
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
        let env = secrets.resolve(&BTreeMap::from([("KEY".to_owned(), reference.clone())])).unwrap();
        assert_eq!(env["KEY"], "tide-and-time");
        assert_eq!(secrets.mask("login with tide-and-time"), format!("login with [{reference}]"));
    }

    #[test]
    fn a_reference_to_nothing_says_so() {
        let env = BTreeMap::from([("KEY".to_owned(), "file:/nowhere/at/all".to_owned())]);
        assert!(Secrets::default().resolve(&env).unwrap_err().starts_with("KEY refers to file:/nowhere/at/all"));
    }
}
