//! Patterns of names with levels, such as the topics of a broker or the browse paths of a device: `velmar/{lock}/{metric}`.

use std::fmt;

use fenetre_core::model::check_name;
use serde::{Deserialize, Deserializer, Serialize, Serializer, de};

/// A pattern with levels separated by `/`. A level is a text, `+` for any one level, `#` at the end for any further levels, or contains a
/// `{name}`, which matches one or more characters.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct LevelPattern {
    text: String,
    levels: Vec<Level>,
}

#[derive(Clone, Debug, PartialEq, Eq, Hash)]
enum Level {
    Text(String),
    Any,
    Rest,
    Named { before: String, name: String, after: String },
}

impl LevelPattern {
    /// Reads a pattern.
    ///
    /// # Errors
    /// What is wrong, in a sentence.
    pub fn parse(text: &str) -> Result<Self, String> {
        let count = text.split('/').count();
        let levels = text.split('/').enumerate().map(|(at, level)| Level::parse(level, at + 1 == count)).collect::<Result<Vec<_>, _>>();
        let levels = levels.map_err(|reason| format!("`{text}`: {reason}"))?;
        if text.is_empty() {
            return Err("a pattern is empty: write one such as velmar/{lock}/{metric}".to_owned());
        }
        let pattern = Self { text: text.to_owned(), levels };
        let mut names: Vec<&str> = pattern.names().collect();
        names.sort_unstable();
        match names.windows(2).find(|pair| pair[0] == pair[1]) {
            Some(pair) => Err(format!("`{text}`: the name {{{}}} is there twice", pair[0])),
            None => Ok(pattern),
        }
    }

    /// The pattern as an MQTT topic filter (MQTT 5.0, 4.7), which matches at least as much.
    pub fn filter(&self) -> String {
        let part = |level: &Level| match level {
            Level::Text(text) => text.clone(),
            Level::Any | Level::Named { .. } => "+".to_owned(),
            Level::Rest => "#".to_owned(),
        };
        self.levels.iter().map(part).collect::<Vec<_>>().join("/")
    }

    /// Whether it has no wildcards, so that it makes one path.
    pub fn is_single(&self) -> bool {
        !self.levels.iter().any(|level| matches!(level, Level::Any | Level::Rest))
    }

    /// The path with these texts in place of the names.
    ///
    /// # Errors
    /// The first name without a text, or whose text cannot be a level (MQTT 5.0, 4.7).
    pub fn path<'t>(&self, text_of: impl Fn(&str) -> Option<&'t str>) -> Result<String, String> {
        let mut path = String::new();
        for (at, level) in self.levels.iter().enumerate() {
            if at > 0 {
                path.push('/');
            }
            match level {
                Level::Text(text) => path.push_str(text),
                Level::Any => path.push('+'),
                Level::Rest => path.push('#'),
                Level::Named { before, name, after } => {
                    let text = text_of(name).ok_or_else(|| format!("it has no {{{name}}}"))?;
                    if text.is_empty() || text.contains(['/', '+', '#', '\0']) {
                        return Err(format!("{{{name}}} is `{text}`, which cannot be a level of a topic"));
                    }
                    path.push_str(before);
                    path.push_str(text);
                    path.push_str(after);
                }
            }
        }
        Ok(path)
    }

    /// Its names, in order.
    pub fn names(&self) -> impl Iterator<Item = &str> {
        self.levels.iter().filter_map(|level| if let Level::Named { name, .. } = level { Some(name.as_str()) } else { None })
    }

    /// Whether a path fits; `found` then has each name with its text.
    pub fn find<'t>(&'t self, path: &'t str, found: &mut Vec<(&'t str, &'t str)>) -> bool {
        found.clear();
        let mut parts = path.split('/');
        for level in &self.levels {
            if *level == Level::Rest {
                return true;
            }
            let Some(part) = parts.next() else { return false };
            match level {
                Level::Text(text) if text == part => {}
                Level::Any => {}
                Level::Named { before, name, after } => {
                    let inner = part.strip_prefix(before.as_str()).and_then(|rest| rest.strip_suffix(after.as_str()));
                    let Some(inner) = inner.filter(|inner| !inner.is_empty()) else { return false };
                    found.push((name, inner));
                }
                Level::Text(_) | Level::Rest => return false,
            }
        }
        parts.next().is_none()
    }

    /// Whether a path that begins with these levels may fit, for walking a tree.
    pub fn may_begin(&self, levels: &[String]) -> bool {
        levels.iter().enumerate().all(|(at, part)| match self.levels.get(at) {
            None => matches!(self.levels.last(), Some(Level::Rest)),
            Some(Level::Text(text)) => text == part,
            Some(Level::Named { before, after, .. }) => part.len() > before.len() + after.len() && part.starts_with(before) && part.ends_with(after),
            Some(Level::Any | Level::Rest) => true,
        })
    }
}

impl Level {
    fn parse(text: &str, is_last: bool) -> Result<Self, String> {
        match text {
            "+" => return Ok(Self::Any),
            "#" if is_last => return Ok(Self::Rest),
            "#" => return Err("`#` must be the last level".to_owned()),
            _ => {}
        }
        if let Some((before, rest)) = text.split_once('{') {
            let Some((name, after)) = rest.split_once('}') else { return Err("`{` has no `}`".to_owned()) };
            if before.contains('}') || after.contains(['{', '}']) {
                return Err("a level has at most one {name}".to_owned());
            }
            check_name(name).map_err(|error| format!("the name {{{name}}} {error}"))?;
            return Ok(Self::Named { before: before.to_owned(), name: name.to_owned(), after: after.to_owned() });
        }
        if text.contains(['+', '#', '}']) {
            return Err(format!("the level `{text}` contains `+`, `#` or `}}`: `+` and `#` fill a whole level, and a name is written {{name}}"));
        }
        Ok(Self::Text(text.to_owned()))
    }
}

impl fmt::Display for LevelPattern {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)
    }
}

impl Serialize for LevelPattern {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(&self.text)
    }
}

impl<'de> Deserialize<'de> for LevelPattern {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        Self::parse(&String::deserialize(deserializer)?).map_err(de::Error::custom)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn found(pattern: &str, path: &str) -> Option<String> {
        let pattern = LevelPattern::parse(pattern).unwrap();
        let mut names = Vec::new();
        pattern.find(path, &mut names).then(|| names.iter().map(|(name, text)| format!("{name}={text}")).collect::<Vec<_>>().join(" "))
    }

    #[test]
    fn a_path_that_fits_fills_the_names() {
        let cases = [
            ("velmar/{lock}/{metric}", "velmar/osier/level", Some("lock=osier metric=level")),
            ("velmar/{lock}/{metric}", "velmar/osier", None),
            ("velmar/{lock}/{metric}", "velmar/osier/level/raw", None),
            ("velmar/{lock}/{metric}", "other/osier/level", None),
            ("velmar/{lock}/{metric}", "velmar//level", None),
            ("velmar/+/{metric}/#", "velmar/osier/level", Some("metric=level")),
            ("velmar/+/{metric}/#", "velmar/osier/level/raw/x", Some("metric=level")),
            ("velmar/lock-{lock}.v1/level", "velmar/lock-osier.v1/level", Some("lock=osier")),
            ("velmar/lock-{lock}.v1/level", "velmar/lock-.v1/level", None),
            ("#", "a/b", Some("")),
        ];
        for (pattern, path, wanted) in cases {
            assert_eq!(found(pattern, path).as_deref(), wanted, "{pattern} {path}");
        }
        assert_eq!(LevelPattern::parse("velmar/lock-{lock}/+/#").unwrap().filter(), "velmar/+/+/#");
    }

    #[test]
    fn a_tree_is_walked_only_where_something_may_fit() {
        let begins =
            |pattern: &str, path: &str| LevelPattern::parse(pattern).unwrap().may_begin(&path.split('/').map(str::to_owned).collect::<Vec<_>>());
        assert!(begins("Locks/{lock}/{metric}", "Locks") && begins("Locks/{lock}/{metric}", "Locks/Osier") && begins("#", "a/b/c"));
        assert!(!begins("Locks/{lock}/{metric}", "Server") && !begins("Locks/{lock}", "Locks/a/b") && begins("Locks/#", "Locks/a/b"));
    }

    #[test]
    fn mistakes_are_reported() {
        let wrong = ["", "a/#/b", "a/b+", "{a", "{a}{b}", "{}", "{a}/{a}", "a}"];
        let messages: Vec<String> = wrong.iter().map(|text| LevelPattern::parse(text).unwrap_err()).collect();
        insta::assert_snapshot!(messages.join("\n"));
    }
}
