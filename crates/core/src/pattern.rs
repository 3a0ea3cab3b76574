//! Patterns of names, in which `*` matches any characters.

use std::fmt;

use serde::{Deserialize, Serialize};

/// A name, or a pattern of names.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(transparent)]
pub struct NamePattern(String);

impl NamePattern {
    /// A pattern; without a `*` it is one name.
    pub fn new(pattern: impl Into<String>) -> Self {
        Self(pattern.into())
    }

    /// The pattern that every name fits.
    pub fn any() -> Self {
        Self("*".to_owned())
    }

    /// Its text.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// Whether every name fits it.
    pub fn is_any(&self) -> bool {
        !self.0.is_empty() && self.0.bytes().all(|letter| letter == b'*')
    }

    /// Whether the whole name matches.
    pub fn fits(&self, name: &str) -> bool {
        fits(&self.0, name)
    }
}

impl fmt::Display for NamePattern {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

/// Whether the whole name matches a pattern.
pub fn fits(pattern: &str, name: &str) -> bool {
    let mut parts = pattern.split('*');
    let Some(mut rest) = name.strip_prefix(parts.next().unwrap_or_default()) else { return false };
    let Some(last) = pattern.rsplit_once('*').map(|(_, last)| last) else { return rest.is_empty() };
    let Some(middle) = rest.strip_suffix(last) else { return false };
    rest = middle;
    let between: Vec<&str> = pattern.split('*').skip(1).collect();
    for part in &between[..between.len() - 1] {
        match rest.find(part) {
            Some(at) => rest = &rest[at + part.len()..],
            None => return false,
        }
    }
    true
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn patterns_fit_whole_names() {
        for (pattern, name) in
            [("level", "level"), ("*", "level"), ("l*", "level"), ("*el", "level"), ("l*v*l", "level"), ("*e*e*", "level"), ("a*a", "aa")]
        {
            assert!(fits(pattern, name), "{pattern} {name}");
        }
        for (pattern, name) in [("level", "levels"), ("l", "level"), ("*x*", "level"), ("l*x", "level"), ("a*a", "a"), ("*v*v*", "level")] {
            assert!(!fits(pattern, name), "{pattern} {name}");
        }
        assert!(NamePattern::any().is_any() && !NamePattern::new("").is_any() && !NamePattern::new("plant-*").is_any());
    }
}
