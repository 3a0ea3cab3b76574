//! Tags of series and of lines.

use std::{collections::BTreeMap, fmt, sync::Arc};

/// The tags of a series, in order of their keys. A list and not a map, since a million of them must fit into memory.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Tags(Arc<[(Arc<str>, Arc<str>)]>);

/// Tags that tell lines apart.
pub type LineTags = BTreeMap<Arc<str>, Arc<str>>;

impl Tags {
    /// From tags in order of their keys, each key once.
    pub fn new(tags: Vec<(Arc<str>, Arc<str>)>) -> Self {
        debug_assert!(tags.is_sorted_by(|a, b| a.0 < b.0));
        Self(tags.into())
    }

    /// Keys and values, in order of the keys.
    pub fn iter(&self) -> impl Iterator<Item = (&str, &str)> {
        self.0.iter().map(|(key, value)| (&**key, &**value))
    }

    /// Key and value of that key.
    pub fn get(&self, key: &str) -> Option<&(Arc<str>, Arc<str>)> {
        self.0.iter().find(|(known, _)| **known == *key)
    }

    /// All of them, as those of a line.
    pub fn to_line(&self) -> LineTags {
        self.0.iter().cloned().collect()
    }
}

impl fmt::Display for Tags {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write_tags(f, self.iter())
    }
}

/// Tags as people write them: `lock=osier side=up`.
pub struct TagsDisplay<'a>(pub &'a LineTags);

impl fmt::Display for TagsDisplay<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write_tags(f, self.0.iter().map(|(key, value)| (&**key, &**value)))
    }
}

fn write_tags<'a>(f: &mut fmt::Formatter<'_>, tags: impl Iterator<Item = (&'a str, &'a str)>) -> fmt::Result {
    for (i, (key, value)) in tags.enumerate() {
        if i > 0 {
            f.write_str(" ")?;
        }
        write!(f, "{key}={value}")?;
    }
    Ok(())
}
