//! Instants, spans and windows.
//!
//! Inside Fenetre an instant is a signed count of nanoseconds from 1970-01-01T00:00:00Z ([`Nanos`]); it reaches from 1677 to
//! 2262. People never see that number: everything that leaves is RFC 3339 or words.

mod instant;
mod local;
mod period;
mod reading;
mod span;
mod windows;

pub use instant::{TimeError, format_day, format_in_zone, format_utc, parse_instant, parse_rfc3339, zone, zoned};
pub use jiff::tz::TimeZone;
pub use local::LocalTime;
pub use period::Period;
pub use reading::{ClockChange, EpochUnit, TimeFormat, TimeRule, from_epoch, seconds};
pub use span::{Span, SpanError};
pub use windows::{Grid, Width, Windows, WindowsError};

/// Nanoseconds since 1970-01-01T00:00:00Z.
pub type Nanos = i64;

/// Nanoseconds in a second.
pub const SECOND: Nanos = 1_000_000_000;

/// A half-open range of time: `start` belongs to it, `end` does not.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct TimeRange {
    /// First instant inside.
    pub start: Nanos,
    /// First instant after.
    pub end: Nanos,
}

impl TimeRange {
    /// Everything that an instant can say.
    pub const ALL: Self = Self { start: Nanos::MIN, end: Nanos::MAX };

    /// Whether no instant lies inside.
    pub fn is_empty(self) -> bool {
        self.start >= self.end
    }

    /// Whether `at` lies inside.
    pub fn contains(self, at: Nanos) -> bool {
        self.start <= at && at < self.end
    }

    /// Whether the closed span from `first` to `last` has an instant in common with this range.
    pub fn meets(self, first: Nanos, last: Nanos) -> bool {
        first < self.end && last >= self.start
    }
}
