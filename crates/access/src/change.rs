//! The record of changes: caller, address, object, and the values before and after.

use std::net::IpAddr;

use fenetre_core::time::Nanos;
use serde_json::Value;

/// Declares words that are stored: variant, word.
macro_rules! words {
    ($(#[$about:meta])* $name:ident { $($(#[$doc:meta])* $variant:ident = $word:literal,)* }) => {
        $(#[$about])*
        #[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
        pub enum $name {
            $($(#[$doc])* $variant,)*
        }

        impl $name {
            /// All of them.
            pub const ALL: &[Self] = &[$(Self::$variant,)*];

            /// Its name in records and JSON.
            pub fn as_str(self) -> &'static str {
                match self {
                    $(Self::$variant => $word,)*
                }
            }

            /// The variant with this name.
            pub fn from_word(word: &str) -> Option<Self> {
                Self::ALL.iter().copied().find(|known| known.as_str() == word)
            }
        }
    };
}

words! {
    /// What was changed.
    Subject {
        /// A dataset.
        Dataset = "dataset",
        /// A metric.
        Metric = "metric",
        /// A tag.
        Tag = "tag",
        /// Limits of what is kept.
        Retention = "retention",
        /// A rollup policy.
        Rollup = "rollup",
        /// A mapping.
        Mapping = "mapping",
        /// Stored points.
        Points = "points",
        /// An item of the bin.
        Bin = "bin",
        /// An imported file.
        Import = "import",
        /// Files of the store.
        Storage = "storage",
        /// A backup.
        Backup = "backup",
        /// The configuration file, or what is in force of it.
        Configuration = "configuration",
        /// A source.
        Source = "source",
        /// A sink.
        Sink = "sink",
        /// A secret of the store; never its value.
        Secret = "secret",
        /// A token.
        Token = "token",
        /// A session of the console.
        Session = "session",
        /// A call.
        Call = "call",
    }
}

words! {
    /// What was done with it.
    Act {
        /// Made, or given another definition.
        Defined = "defined",
        /// Given another name.
        Renamed = "renamed",
        /// Its old name was given up.
        Forgotten = "forgotten",
        /// Moved to the bin.
        Deleted = "deleted",
        /// Taken from the bin.
        Restored = "restored",
        /// Gone for good.
        Erased = "erased",
        /// Taken out, without a bin.
        Removed = "removed",
        /// Set to another value.
        Set = "set",
        /// Filled anew.
        Filled = "filled",
        /// Started.
        Started = "started",
        /// Stopped.
        Stopped = "stopped",
        /// Merged, packed or written anew.
        Compacted = "compacted",
        /// A loss was accepted.
        Accepted = "accepted",
        /// Written to a file.
        Written = "written",
        /// Created.
        Created = "created",
        /// Given a new secret.
        Rotated = "rotated",
        /// Made to rest.
        Suspended = "suspended",
        /// Working again.
        Resumed = "resumed",
        /// Ended for good.
        Revoked = "revoked",
        /// Signed in.
        Begun = "begun",
        /// Signed out.
        Ended = "ended",
        /// Refused.
        Refused = "refused",
    }
}

/// Who did something.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Who {
    /// Somebody on the machine of the service, without a token.
    Machine,
    /// Somebody with a token.
    Token {
        /// Its id.
        id: String,
        /// Its name at that time.
        name: String,
    },
    /// Somebody without a valid token.
    Nobody,
    /// The service itself.
    Service,
}

/// What the record calls somebody on the machine of the service.
pub const THIS_MACHINE: &str = "this machine";
const NOBODY: &str = "nobody";
const SERVICE: &str = "the service";

impl Who {
    /// Its name: that of the token, or words with a space, which no token has.
    pub fn name(&self) -> &str {
        match self {
            Self::Machine => THIS_MACHINE,
            Self::Token { name, .. } => name,
            Self::Nobody => NOBODY,
            Self::Service => SERVICE,
        }
    }

    /// The id of the token.
    pub fn token_id(&self) -> Option<&str> {
        match self {
            Self::Token { id, .. } => Some(id),
            Self::Machine | Self::Nobody | Self::Service => None,
        }
    }

    /// The caller with this name and id; none if they are invalid.
    pub fn from_record(name: String, id: Option<String>) -> Option<Self> {
        match (name.as_str(), id) {
            (_, Some(id)) => Some(Self::Token { id, name }),
            (THIS_MACHINE, None) => Some(Self::Machine),
            (NOBODY, None) => Some(Self::Nobody),
            (SERVICE, None) => Some(Self::Service),
            _ => None,
        }
    }
}

/// One change.
#[derive(Clone, Debug, PartialEq)]
pub struct Change {
    /// When.
    pub at: Nanos,
    /// Who.
    pub who: Who,
    /// From where.
    pub address: Option<IpAddr>,
    /// What was changed.
    pub subject: Subject,
    /// What was done with it.
    pub act: Act,
    /// The dataset that it belongs to, by the name that it had then.
    pub dataset: Option<String>,
    /// Its name.
    pub object: String,
    /// What it was, where that is more than nothing.
    pub before: Option<Value>,
    /// What it is now.
    pub after: Option<Value>,
}

/// Which changes are asked for.
#[derive(Clone, Debug, Default)]
pub struct ChangeFilter {
    /// By the name of the caller.
    pub who: Option<String>,
    /// Of a subject.
    pub subject: Option<Subject>,
    /// From this instant on.
    pub since: Option<Nanos>,
    /// Before this number, to go on after a page.
    pub before: Option<i64>,
    /// Maximum number of rows.
    pub limit: usize,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_lead_back_to_what_they_name() {
        assert!(Subject::ALL.iter().all(|subject| Subject::from_word(subject.as_str()) == Some(*subject)));
        assert!(Act::ALL.iter().all(|act| Act::from_word(act.as_str()) == Some(*act)));
        let token = Who::Token { id: "t1".to_owned(), name: "nobody".to_owned() };
        for who in [Who::Machine, Who::Nobody, Who::Service, token] {
            assert_eq!(Who::from_record(who.name().to_owned(), who.token_id().map(str::to_owned)), Some(who));
        }
        assert_eq!(Who::from_record("somebody".to_owned(), None), None);
    }
}
