//! Which span of time a partition holds: a week, or a day where a week would make too large a file.

use fenetre_core::time::{Nanos, SECOND, TimeRange, format_day, parse_rfc3339};

const DAY: Nanos = 86_400 * SECOND;
const WEEK_DAYS: i64 = 7;
/// From so many points a day on, a day is a partition: a week of them would be half a gigabyte.
const BUSY_DAY: f64 = 50e6;

/// How many points came over how many nanoseconds.
#[derive(Clone, Copy, Debug, Default)]
pub struct Rate {
    pub points: usize,
    pub covered: Nanos,
}

impl Rate {
    fn points_a_day(self) -> f64 {
        // Less than ten minutes say little of a day. More must not be asked for: a million points are packed however little time they cover.
        self.points as f64 / (self.covered as f64 / DAY as f64).max(1.0 / 144.0)
    }
}

/// The span of a partition. Spans begin at multiples of their length from the epoch, so that weeks and days never cross.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Span {
    /// First instant.
    pub start: Nanos,
    days: i64,
}

impl Span {
    /// The week that holds an instant.
    pub fn week_of(at: Nanos) -> Self {
        Self::of(at, WEEK_DAYS)
    }

    /// The day that holds an instant.
    pub fn day_of(at: Nanos) -> Self {
        Self::of(at, 1)
    }

    fn of(at: Nanos, days: i64) -> Self {
        // The first span of all begins where the range of instants does.
        Self { start: at.checked_sub(at.rem_euclid(days * DAY)).unwrap_or(Nanos::MIN), days }
    }

    /// The span for a new partition around an instant, for a dataset to which points come at a rate.
    pub fn for_rate(at: Nanos, rate: Rate) -> Self {
        if rate.points_a_day() > BUSY_DAY { Self::day_of(at) } else { Self::week_of(at) }
    }

    /// The page size of a new partition's file. Blocks of a few kilobytes leave the ends of small pages empty, and a file has four pages
    /// at least, which are a waste where there are few points.
    pub fn page_size(self, rate: Rate) -> u32 {
        let points = rate.points_a_day() * self.days as f64;
        if points < 100_000.0 {
            4_096
        } else if points < 3e6 {
            16_384
        } else {
            65_536
        }
    }

    /// Last instant.
    pub fn last(self) -> Nanos {
        let length = self.days * DAY;
        // Counted from the instant itself, so that the first span of all, which the range of instants cuts, ends where it should.
        self.start.saturating_add(length - 1 - self.start.rem_euclid(length))
    }

    /// Whether it shares an instant with a range.
    pub fn meets(self, range: TimeRange) -> bool {
        range.meets(self.start, self.last())
    }

    /// `2026-05-07_7d.db`, after its first day.
    pub fn file_name(self) -> String {
        format!("{}_{}d.db", format_day(self.start), self.days)
    }

    /// The span that a file's name tells.
    pub fn of_file_name(name: &str) -> Option<Self> {
        let (date, length) = name.split_once('_')?;
        let days = match length {
            "7d.db" => WEEK_DAYS,
            "1d.db" => 1,
            _ => return None,
        };
        // The first span of all begins within its first day, where the range of instants does.
        Some(parse_rfc3339(&format!("{date}T00:00:00Z")).map_or(Self { start: Nanos::MIN, days }, |at| Self::of(at, days)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn spans_tile_time_and_are_named_after_their_first_day() {
        for at in [0, 1, -1, 1_790_000_000 * SECOND, Nanos::MIN + 8 * DAY, Nanos::MIN, Nanos::MAX] {
            for span in [Span::week_of(at), Span::day_of(at)] {
                assert!(span.start <= at && at <= span.last(), "{at}");
                assert_eq!(Span::of(span.last(), span.days), span);
                assert_eq!(Span::of_file_name(&span.file_name()), Some(span), "{}", span.file_name());
            }
        }
        assert_eq!(Span::week_of(1_790_000_000 * SECOND).file_name(), "2026-09-17_7d.db");
        assert_eq!(Span::of_file_name("2026-09-17_3d.db"), None);
    }

    #[test]
    fn a_busy_dataset_gets_a_partition_a_day_and_a_quiet_one_small_pages() {
        let chosen = |points: usize, covered: Nanos| {
            let rate = Rate { points, covered };
            let span = Span::for_rate(0, rate);
            (span.days, span.page_size(rate))
        };
        assert_eq!(chosen(10, 0), (7, 4_096));
        assert_eq!(chosen(5_000, DAY / 24), (7, 16_384));
        assert_eq!(chosen(10_000_000, 7 * DAY), (7, 65_536));
        assert_eq!(chosen(60_000_000, DAY), (1, 65_536));
    }
}
