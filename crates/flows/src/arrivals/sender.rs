//! Senders of points (callers, imports and sources), and the counts of each.

use std::collections::BTreeMap;

use fenetre_core::{
    model::Cause,
    time::{Nanos, SECOND},
};
use fenetre_formats::Tally;

use super::seconds::Seconds;

/// A sender of points.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Sender {
    /// A caller that pushes: the name of its token; none on the machine of the service.
    Push(Option<String>),
    /// A caller that exports with OTLP, likewise.
    Otlp(Option<String>),
    /// Imports of files.
    Import,
    /// A source.
    Source(String),
}

impl Sender {
    /// Names that are reserved for senders other than sources.
    pub const RESERVED: [&str; 3] = ["push", "otlp", "import"];

    /// Value of the tag `source`: the name of the source, or `push`, `otlp` or `import`.
    pub fn source(&self) -> &str {
        match self {
            Self::Push(_) => "push",
            Self::Otlp(_) => "otlp",
            Self::Import => "import",
            Self::Source(name) => name,
        }
    }

    /// The name of the caller's token, if it has one.
    pub fn token(&self) -> Option<&str> {
        match self {
            Self::Push(token) | Self::Otlp(token) => token.as_deref(),
            Self::Import | Self::Source(_) => None,
        }
    }
}

/// Rejects of one reason.
#[derive(Clone, Debug, Default)]
pub struct Refused {
    /// Points and rows.
    pub count: u64,
    /// When it came, in seconds since the epoch.
    pub second: i64,
    /// Its line, field and reason.
    pub example: String,
}

/// Period of the current rate, in seconds.
const RECENT: i64 = 60;

/// Counts of a dataset and sender since the start.
#[derive(Clone, Debug, Default)]
pub struct Sent {
    /// Accepted points.
    pub accepted: u64,
    /// Rejected points and rows.
    pub rejected: u64,
    /// Rejects by reason.
    pub causes: BTreeMap<Cause, Refused>,
    /// Time of the first and of the latest body.
    span: Option<(Nanos, Nanos)>,
    /// One more, because the current second is not over.
    recent: Seconds<{ RECENT + 1 }>,
}

impl Sent {
    /// Counts a body.
    pub fn count(&mut self, now: Nanos, tally: &Tally) {
        self.accepted += tally.accepted;
        self.rejected += tally.rejected;
        self.span = Some((self.span.map_or(now, |(first, _)| first), now));
        self.recent.count(now, tally.accepted, tally.rejected);
        for (cause, count) in &tally.causes {
            let known = self.causes.entry(*cause).or_default();
            known.count += count;
            known.second = now.div_euclid(SECOND);
            if let Some(reject) = tally.rejects.iter().rfind(|reject| reject.cause == *cause) {
                known.example = format!("{}: {}", reject.place(), reject.reason);
            }
        }
    }

    /// Time of the latest body.
    pub fn last(&self) -> Option<Nanos> {
        self.span.map(|(_, last)| last)
    }

    /// Accepted points per second over the last minute, or since the first body if that is later.
    pub fn rate(&self, now: Nanos) -> f64 {
        let Some((first, _)) = self.span else { return 0.0 };
        let second = now.div_euclid(SECOND);
        let since = (second - RECENT).max(first.div_euclid(SECOND));
        let points: u64 = self.recent.of(since..second).map(|counted| counted.accepted).sum();
        points as f64 / (second - since).max(1) as f64
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn tally(accepted: u64, rejected: u64) -> Tally {
        let mut tally = Tally::default();
        (tally.accepted, tally.rejected) = (accepted, rejected);
        tally
    }

    #[test]
    fn the_rate_is_that_of_the_last_minute() {
        let mut sent = Sent::default();
        assert!(sent.rate(0).abs() < 1e-9);
        (0..300).for_each(|second| sent.count(second * SECOND, &tally(4, 1)));
        assert!(sent.rate(10 * SECOND).abs() < 1e-9, "figures older than a minute are not kept");
        assert!((sent.rate(300 * SECOND) - 4.0).abs() < 1e-9);
        assert!((sent.rate(330 * SECOND) - 2.0).abs() < 1e-9);
        assert_eq!((sent.accepted, sent.rejected, sent.last()), (1_200, 300, Some(299 * SECOND)));
        let mut young = Sent::default();
        (0..6).for_each(|second| young.count(second * SECOND, &tally(10, 0)));
        assert!((young.rate(5 * SECOND) - 10.0).abs() < 1e-9, "over the seconds since it began");
    }
}
