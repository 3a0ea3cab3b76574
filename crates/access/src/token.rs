//! What a token allows, and its life.

use std::{fmt, net::IpAddr};

use fenetre_core::{pattern::NamePattern, time::Nanos, token_limits::TokenLimits, visibility::Visibility};
use ipnet::IpNet;
use serde::{Deserialize, Serialize};

use crate::{
    error::AccessError,
    grant::{Action, Grant, allow, allow_everywhere},
    secret::PREFIX,
};

/// Maximum length of a token's name, in characters.
const MAX_NAME: usize = 64;

/// A token as it is kept: everything but its secret.
#[derive(Clone, Debug, PartialEq)]
pub struct Token {
    /// Its id, which stays while names are used again.
    pub id: String,
    /// Its name, unique among those that are not revoked.
    pub name: String,
    /// What it allows.
    pub rights: Rights,
    /// When it was made.
    pub created: Nanos,
    /// Time at which it expires.
    pub expires: Option<Nanos>,
    /// Whether it works.
    pub state: TokenState,
}

/// What a token allows.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Rights {
    /// Actions on datasets.
    pub grants: Vec<Grant>,
    /// Only these metrics (default: all).
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub metrics: Vec<NamePattern>,
    /// Only from these networks (default: all).
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub networks: Vec<IpNet>,
    /// How much of it.
    #[serde(default, skip_serializing_if = "TokenLimits::is_none")]
    pub limits: TokenLimits,
}

/// State of a token.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum TokenState {
    /// It works until it expires.
    Active,
    /// It does not work until it is resumed.
    Suspended,
    /// It never works again.
    Revoked,
}

impl TokenState {
    /// Its name in records and JSON.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Active => "active",
            Self::Suspended => "suspended",
            Self::Revoked => "revoked",
        }
    }

    /// The state of a word.
    pub fn from_word(word: &str) -> Option<Self> {
        [Self::Active, Self::Suspended, Self::Revoked].into_iter().find(|state| state.as_str() == word)
    }
}

/// Why a secret that is known opens nothing.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Refusal {
    /// No token has it.
    Unknown,
    /// Its token was rotated, and the time of both is over.
    Rotated {
        /// The token's name.
        name: String,
    },
    /// Its time is over.
    Expired {
        /// The token's name.
        name: String,
    },
    /// It is suspended.
    Suspended {
        /// The token's name.
        name: String,
    },
    /// It was revoked.
    Revoked {
        /// The token's name.
        name: String,
    },
    /// It comes from an address that it may not come from.
    Network {
        /// The token's name.
        name: String,
        /// The address.
        address: IpAddr,
    },
}

impl fmt::Display for Refusal {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Unknown => f.write_str("no such token exists here: use one that `fenetre token create` has shown"),
            Self::Rotated { name } => write!(f, "the token `{name}` was rotated: use its new secret"),
            Self::Expired { name } => write!(f, "the token `{name}` has expired: an administrator can create another"),
            Self::Suspended { name } => write!(f, "the token `{name}` is suspended: an administrator can resume it"),
            Self::Revoked { name } => write!(f, "the token `{name}` was revoked: an administrator can create another"),
            Self::Network { name, address } => write!(f, "the token `{name}` may not be used from {address}"),
        }
    }
}

impl Rights {
    /// Whether there can be a token of these rights.
    ///
    /// # Errors
    /// [`AccessError::Invalid`], in a sentence.
    pub fn check(&self) -> Result<(), AccessError> {
        let invalid = |text: &str| Err(AccessError::Invalid(text.to_owned()));
        if self.grants.is_empty() {
            return invalid("a token needs a grant: name one with --grant, such as --grant read:velmar");
        }
        if self.metrics.iter().any(|pattern| pattern.as_str().is_empty()) {
            return invalid("a pattern of metrics is empty: write a name, or a pattern such as flow_*");
        }
        // Definitions, limits and deletions concern metrics that such a token cannot see.
        if !self.metrics.is_empty() && self.grants.iter().any(|grant| grant.action > Action::Read) {
            return invalid("a token for some metrics can only have the grants read and write: leave out the metrics, or the other grants");
        }
        match self.limits.named().into_iter().find(|(_, limit)| *limit == Some(0)) {
            Some((name, _)) => Err(AccessError::Invalid(format!("{name} is 0, which would allow nothing: leave it out, or suspend the token"))),
            None => Ok(()),
        }
    }

    /// Whether an action is allowed on a dataset, by any of the names that it has or had.
    pub fn allow<'n>(&self, action: Action, names: impl IntoIterator<Item = &'n str> + Clone) -> bool {
        allow(&self.grants, action, names)
    }

    /// Whether an action is allowed on every dataset and every metric.
    pub fn allow_everywhere(&self, action: Action) -> bool {
        self.metrics.is_empty() && allow_everywhere(&self.grants, action)
    }

    /// The visibility that an action grants.
    pub fn visibility(&self, action: Action) -> Visibility {
        let datasets = self.grants.iter().filter(|grant| grant.action.includes(action)).map(|grant| grant.datasets.clone()).collect();
        Visibility { datasets, metrics: self.metrics.clone() }
    }

    /// The datasets on which anything is allowed: those whose names are no secret.
    pub fn known(&self) -> Visibility {
        Visibility { datasets: self.grants.iter().map(|grant| grant.datasets.clone()).collect(), metrics: self.metrics.clone() }
    }

    /// Whether it may be used from an address.
    pub fn admit(&self, address: Option<IpAddr>) -> bool {
        let from = |address: IpAddr| self.networks.iter().any(|network| network.contains(&address.to_canonical()));
        self.networks.is_empty() || address.is_some_and(from)
    }
}

/// Checks the name of a token.
///
/// # Errors
/// [`AccessError::Invalid`], in a sentence.
pub fn check_token_name(name: &str) -> Result<(), AccessError> {
    let is_right = !name.is_empty()
        && name.len() <= MAX_NAME
        && name.bytes().all(|letter| letter.is_ascii_alphanumeric() || b"-_.@".contains(&letter))
        && name.as_bytes()[0].is_ascii_alphanumeric();
    if is_right {
        return Ok(());
    }
    // A secret in the place of a name must not come back in a message.
    let shown = if name.starts_with(PREFIX) || name.len() > MAX_NAME { String::new() } else { format!(" `{name}`") };
    Err(AccessError::Invalid(format!(
        "invalid token name{shown}: use up to {MAX_NAME} of a to z, A to Z, 0 to 9, `-`, `_`, `.` and `@`, starting with a letter or digit"
    )))
}

impl Token {
    /// Whether it opens anything, from an address, at an instant.
    ///
    /// # Errors
    /// [`Refusal`].
    pub fn admit(&self, address: Option<IpAddr>, now: Nanos) -> Result<(), Refusal> {
        let name = self.name.clone();
        match (self.state, address) {
            (TokenState::Revoked, _) => Err(Refusal::Revoked { name }),
            (TokenState::Suspended, _) => Err(Refusal::Suspended { name }),
            _ if self.has_expired(now) => Err(Refusal::Expired { name }),
            (_, Some(address)) if !self.rights.admit(Some(address)) => Err(Refusal::Network { name, address: address.to_canonical() }),
            (_, None) if !self.rights.admit(None) => Err(Refusal::Unknown),
            _ => Ok(()),
        }
    }

    /// Whether its time is over.
    pub fn has_expired(&self, now: Nanos) -> bool {
        self.expires.is_some_and(|end| end <= now)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn rights(text: &str) -> Rights {
        serde_json::from_str(text).unwrap()
    }

    fn token(rights_text: &str) -> Token {
        let rights = rights(rights_text);
        Token { id: "t1".to_owned(), name: "board".to_owned(), rights, created: 0, expires: Some(100), state: TokenState::Active }
    }

    #[test]
    fn rights_that_cannot_be_are_explained() {
        rights(r#"{"grants":["read:velmar","write"],"metrics":["flow_*"],"limits":{"query_seconds":5}}"#).check().unwrap();
        let faults = [
            r#"{"grants":[]}"#,
            r#"{"grants":["read"],"metrics":[""]}"#,
            r#"{"grants":["define:velmar"],"metrics":["level"]}"#,
            r#"{"grants":["read"],"limits":{"points_per_second":0}}"#,
        ];
        let mut messages: Vec<String> = faults.iter().map(|text| rights(text).check().unwrap_err().to_string()).collect();
        let names = ["", "-gate", "two words", &"x".repeat(65), "fenetre_0123"];
        messages.extend(names.iter().filter_map(|name| check_token_name(name).err()).map(|error| error.to_string()));
        insta::assert_snapshot!(messages.join("\n"));
        assert!(serde_json::from_str::<Rights>(r#"{"grants":["read"],"colour":1}"#).is_err());
    }

    #[test]
    fn a_token_opens_while_it_is_active_in_time_and_in_its_networks() {
        let here: IpAddr = "192.0.2.7".parse().unwrap();
        let mapped: IpAddr = "::ffff:192.0.2.7".parse().unwrap();
        let other: IpAddr = "198.51.100.1".parse().unwrap();
        let open = token(r#"{"grants":["read"]}"#);
        assert_eq!(open.admit(Some(other), 99), Ok(()));
        assert_eq!(open.admit(Some(other), 100), Err(Refusal::Expired { name: "board".to_owned() }));
        let narrow = token(r#"{"grants":["read"],"networks":["192.0.2.0/24"]}"#);
        assert_eq!((narrow.admit(Some(here), 1), narrow.admit(Some(mapped), 1)), (Ok(()), Ok(())));
        assert_eq!(narrow.admit(Some(other), 1), Err(Refusal::Network { name: "board".to_owned(), address: other }));
        assert_eq!(narrow.admit(None, 1), Err(Refusal::Unknown));
        for (state, refusal) in [
            (TokenState::Suspended, Refusal::Suspended { name: "board".to_owned() }),
            (TokenState::Revoked, Refusal::Revoked { name: "board".to_owned() }),
        ] {
            assert_eq!(Token { state, ..open.clone() }.admit(Some(here), 1), Err(refusal));
        }
    }

    #[test]
    fn what_may_be_seen_follows_from_the_grants() {
        let rights = rights(r#"{"grants":["read:velmar","write:gauges"]}"#);
        assert_eq!(rights.visibility(Action::Read).datasets, [NamePattern::new("velmar")]);
        assert_eq!(rights.known().datasets.len(), 2);
        assert!(!rights.allow_everywhere(Action::Read));
    }
}
