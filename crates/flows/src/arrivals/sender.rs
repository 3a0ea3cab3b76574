//! Who sends points: callers, imports and sources, each with figures.

use std::collections::VecDeque;

use fenetre_core::time::{Nanos, SECOND};

/// Who sends points.
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
    /// Names that no source may have, because others go by them.
    pub const RESERVED: [&str; 3] = ["push", "otlp", "import"];

    /// The name by which figures are grouped: that of the source, or `push`, `otlp` or `import`.
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

/// Whole seconds over which the current rate is taken.
const RECENT: i64 = 60;

/// What a sender sent to a dataset since the start.
#[derive(Clone, Debug, Default)]
pub struct Sent {
    /// Accepted points.
    pub accepted: u64,
    /// Rejected points and rows.
    pub rejected: u64,
    /// When it began, and when it sent last.
    span: Option<(Nanos, Nanos)>,
    /// Accepted points of recent seconds.
    recent: VecDeque<(i64, u64)>,
}

impl Sent {
    /// Counts a body.
    pub fn count(&mut self, now: Nanos, accepted: u64, rejected: u64) {
        self.accepted += accepted;
        self.rejected += rejected;
        self.span = Some((self.span.map_or(now, |(first, _)| first), now));
        let second = now.div_euclid(SECOND);
        match self.recent.back_mut() {
            // A clock that steps back counts into the latest second.
            Some((last, points)) if *last >= second => *points += accepted,
            _ => self.recent.push_back((second, accepted)),
        }
        while self.recent.front().is_some_and(|(first, _)| *first < second - RECENT) {
            self.recent.pop_front();
        }
    }

    /// When it sent last.
    pub fn last(&self) -> Option<Nanos> {
        self.span.map(|(_, last)| last)
    }

    /// Accepted points per second over the last minute, or since it began if that is less.
    pub fn rate(&self, now: Nanos) -> f64 {
        let Some((first, _)) = self.span else { return 0.0 };
        let second = now.div_euclid(SECOND);
        let since = (second - RECENT).max(first.div_euclid(SECOND));
        let points: u64 = self.recent.iter().filter(|(at, _)| (since..second).contains(at)).map(|(_, points)| points).sum();
        points as f64 / (second - since).max(1) as f64
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_rate_is_that_of_the_last_minute() {
        let mut sent = Sent::default();
        assert!(sent.rate(0).abs() < 1e-9);
        (0..300).for_each(|second| sent.count(second * SECOND, 4, 1));
        assert!((sent.rate(10 * SECOND) - 0.0).abs() < 1e-9, "what is older than a minute is not kept");
        assert!((sent.rate(300 * SECOND) - 4.0).abs() < 1e-9);
        assert!((sent.rate(330 * SECOND) - 2.0).abs() < 1e-9);
        assert_eq!((sent.accepted, sent.rejected, sent.last()), (1_200, 300, Some(299 * SECOND)));
        let mut young = Sent::default();
        (0..6).for_each(|second| young.count(second * SECOND, 10, 0));
        assert!((young.rate(5 * SECOND) - 10.0).abs() < 1e-9, "over the seconds since it began");
    }
}
