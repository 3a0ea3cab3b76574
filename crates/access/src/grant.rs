//! Grants: an action and the datasets that it is granted on, written `read:velmar`, `write:plant-*`, or `admin` for all of them.

use std::{fmt, str::FromStr};

use fenetre_core::{model::check_dataset_name, pattern::NamePattern, suggest::closest};
use serde::{Deserialize, Serialize};

/// What somebody may do.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Action {
    /// Push points, and import files. It does not include reading.
    Write,
    /// Ask, look, tail.
    Read,
    /// Metrics, tags, mappings, limits, rollups and deletions. It includes reading and writing.
    Define,
    /// Datasets, tokens, backups, storage. It includes everything.
    Admin,
}

impl Action {
    /// All of them.
    pub const ALL: [Self; 4] = [Self::Write, Self::Read, Self::Define, Self::Admin];

    /// Its name in records and JSON.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Write => "write",
            Self::Read => "read",
            Self::Define => "define",
            Self::Admin => "admin",
        }
    }

    /// Whether this action includes the other.
    pub fn includes(self, other: Self) -> bool {
        match self {
            Self::Write | Self::Read => self == other,
            Self::Define => other != Self::Admin,
            Self::Admin => true,
        }
    }
}

/// An action on some datasets.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct Grant {
    /// What.
    pub action: Action,
    /// On which datasets.
    pub datasets: NamePattern,
}

/// Why a text is no grant.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum GrantError {
    /// The action is unknown.
    #[error("unknown grant `{text}`{hint}: a grant is read, write, define or admin, alone or with a dataset, such as read:velmar")]
    Action {
        /// The text.
        text: String,
        /// What was probably meant, if anything was, in brackets.
        hint: String,
    },
    /// The name of the dataset is invalid.
    #[error("the grant `{text}` names no dataset: write a name or a pattern after the colon, such as read:velmar or read:plant-*")]
    Dataset {
        /// The text.
        text: String,
    },
}

impl Grant {
    /// A grant on all datasets.
    pub fn everywhere(action: Action) -> Self {
        Self { action, datasets: NamePattern::any() }
    }

    /// The one dataset that it names, if it names one.
    pub fn one_dataset(&self) -> Option<&str> {
        (!self.datasets.as_str().contains('*')).then(|| self.datasets.as_str())
    }
}

impl FromStr for Grant {
    type Err = GrantError;

    fn from_str(text: &str) -> Result<Self, GrantError> {
        let (word, datasets) = text.split_once(':').map_or((text, None), |(word, datasets)| (word, Some(datasets)));
        let Some(action) = Action::ALL.into_iter().find(|action| action.as_str() == word) else {
            let words = Action::ALL.map(Action::as_str);
            let hint = closest(word, words).map_or_else(String::new, |known| format!(" (did you mean `{known}`?)"));
            return Err(GrantError::Action { text: text.to_owned(), hint });
        };
        let Some(datasets) = datasets else { return Ok(Self::everywhere(action)) };
        // With letters in the place of its stars, a pattern must be a name.
        let is_right =
            datasets.bytes().all(|letter| letter == b'*') && !datasets.is_empty() || check_dataset_name(&datasets.replace('*', "x")).is_ok();
        if is_right { Ok(Self { action, datasets: NamePattern::new(datasets) }) } else { Err(GrantError::Dataset { text: text.to_owned() }) }
    }
}

impl TryFrom<String> for Grant {
    type Error = GrantError;

    fn try_from(text: String) -> Result<Self, GrantError> {
        text.parse()
    }
}

impl From<Grant> for String {
    fn from(grant: Grant) -> Self {
        grant.to_string()
    }
}

impl fmt::Display for Grant {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.action.as_str())?;
        if self.datasets.is_any() { Ok(()) } else { write!(f, ":{}", self.datasets) }
    }
}

/// Whether some of the grants allow an action on a dataset, by any of the names that it has or had.
pub fn allow<'n>(grants: &[Grant], action: Action, names: impl IntoIterator<Item = &'n str> + Clone) -> bool {
    let fits = |grant: &&Grant| grant.action.includes(action);
    grants.iter().filter(fits).any(|grant| names.clone().into_iter().any(|name| grant.datasets.fits(name)))
}

/// Whether some of the grants allow an action on every dataset.
pub fn allow_everywhere(grants: &[Grant], action: Action) -> bool {
    grants.iter().any(|grant| grant.action.includes(action) && grant.datasets.is_any())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn grants(texts: &[&str]) -> Vec<Grant> {
        texts.iter().map(|text| text.parse().unwrap()).collect()
    }

    #[test]
    fn grants_are_read_as_they_are_written() {
        for text in ["read", "write:velmar", "define:plant-*", "admin"] {
            assert_eq!(text.parse::<Grant>().unwrap().to_string(), text);
        }
        assert_eq!("read:*".parse::<Grant>().unwrap(), Grant::everywhere(Action::Read));
        let messages: Vec<String> = ["reed:velmar", "x", "", "read:", "read:Velmar", "read: velmar", "read:a:b"]
            .map(|text| text.parse::<Grant>().unwrap_err().to_string())
            .into();
        insta::assert_snapshot!(messages.join("\n"));
    }

    #[test]
    fn an_action_includes_the_smaller_ones() {
        let allowed = |granted: &str| {
            let granted = grants(&[granted]);
            Action::ALL.into_iter().filter(|action| allow(&granted, *action, ["velmar"])).map(Action::as_str).collect::<Vec<_>>()
        };
        assert_eq!(allowed("write:velmar"), ["write"]);
        assert_eq!(allowed("read:velmar"), ["read"]);
        assert_eq!(allowed("define:velmar"), ["write", "read", "define"]);
        assert_eq!(allowed("admin"), ["write", "read", "define", "admin"]);
        assert!(allowed("admin:plant-*").is_empty());
    }

    #[test]
    fn a_grant_on_an_old_name_still_holds() {
        let granted = grants(&["read:main"]);
        assert!(allow(&granted, Action::Read, ["velmar", "main"]) && !allow(&granted, Action::Read, ["velmar"]));
        assert!(!allow_everywhere(&granted, Action::Read) && allow_everywhere(&grants(&["define"]), Action::Read));
    }
}
