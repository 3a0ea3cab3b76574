//! Warnings: limits that are nearly reached, files that need attention, the clock. Each is logged once, when it begins.

use std::{collections::BTreeSet, fmt};

use fenetre_core::{
    keeping::ByteSize,
    time::{Nanos, format_utc},
};
use parking_lot::Mutex;

/// A warning.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Warning {
    /// A place has nearly reached its size limit.
    NearLimit {
        /// Its name.
        place: String,
        /// Of the limit, in percent.
        percent: u64,
        /// The limit.
        limit: ByteSize,
    },
    /// The reserve of the volume is used: no more points are accepted.
    NoSpace,
    /// The volume is nearly full.
    LittleSpace {
        /// Free bytes.
        free: ByteSize,
        /// Bytes that always stay free.
        reserve: ByteSize,
    },
    /// A token ends soon, or has ended.
    Token {
        /// Its name.
        name: String,
        /// Its end.
        expires: Nanos,
        /// Whether it has ended.
        is_over: bool,
    },
    /// The clock, in a sentence.
    Clock(String),
    /// A lost or damaged file, in a sentence.
    Fault(String),
}

impl Warning {
    /// Its identity, which stays while its numbers change.
    fn subject(&self) -> String {
        match self {
            Self::NearLimit { place, .. } => format!("limit {place}"),
            Self::NoSpace => "no space".to_owned(),
            Self::LittleSpace { .. } => "little space".to_owned(),
            Self::Token { name, is_over, .. } => format!("token {name} {is_over}"),
            Self::Clock(_) => "clock".to_owned(),
            Self::Fault(text) => text.clone(),
        }
    }
}

impl fmt::Display for Warning {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::NearLimit { place, percent, limit } => {
                write!(f, "{place} uses {percent}% of its limit of {limit}. Above the limit, the oldest data is deleted")
            }
            Self::NoSpace => f.write_str("the volume has less free space than its reserve: no more points are accepted until there is space again"),
            Self::LittleSpace { free, reserve } => {
                let (free, reserve) = (free.words(), reserve.words());
                write!(f, "the volume has {free} free, of which {reserve} are the reserve. Before the reserve is used, the oldest data is deleted")
            }
            Self::Token { name, expires, is_over: false } => {
                write!(f, "the token `{name}` expires at {}: create another one in time, and revoke this one", format_utc(*expires))
            }
            Self::Token { name, expires, is_over: true } => {
                write!(f, "the token `{name}` expired at {}: create another one, or revoke it", format_utc(*expires))
            }
            Self::Clock(text) | Self::Fault(text) => f.write_str(text),
        }
    }
}

/// Warnings that were written to the log.
#[derive(Default)]
pub struct Warnings {
    known: Mutex<BTreeSet<String>>,
}

impl Warnings {
    /// Logs the new ones.
    pub fn report(&self, now: &[Warning]) {
        let mut known = self.known.lock();
        now.iter().filter(|warning| !known.contains(&warning.subject())).for_each(|warning| tracing::warn!("{warning}"));
        *known = now.iter().map(Warning::subject).collect();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_warning_keeps_its_identity_while_its_numbers_change() {
        let warning = |percent| Warning::NearLimit { place: "velmar".to_owned(), percent, limit: ByteSize(1_000) };
        assert_eq!(warning(80).subject(), warning(90).subject());
        let warnings = Warnings::default();
        warnings.report(&[warning(80)]);
        warnings.report(&[warning(90), Warning::NoSpace]);
        assert_eq!(warnings.known.lock().iter().map(String::as_str).collect::<Vec<_>>(), ["limit velmar", "no space"]);
        warnings.report(&[]);
        assert!(warnings.known.lock().is_empty());
    }
}
