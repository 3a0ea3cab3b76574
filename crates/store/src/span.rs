//! Which span of time a partition holds: a week; a day where a week would make too large a file; up to ten years where points are few.
//!
//! Each length is a multiple of the one below, and spans begin at multiples of their length from the epoch: so two of them never cross.

use std::ops::RangeInclusive;

use fenetre_core::time::{Nanos, SECOND, TimeRange, format_day, parse_rfc3339};

pub const DAY: Nanos = 86_400 * SECOND;
const WEEK_DAYS: i64 = 7;
/// Days of the spans for few points, the longest first: eight weeks, and eight times as long each.
const LONG: [i64; 3] = [3_584, 448, 56];
/// From so many points a day on, a day is a partition: a week of them would be half a gigabyte.
const BUSY_DAY: f64 = 50e6;
/// A span longer than a week is for as many points at the most, as far as anybody can tell beforehand: a file of four small pages, and of a
/// thousand for all of them.
pub const FEW_POINTS: u64 = 65_536;
/// With more points than these, a partition of more than a week is split.
pub const MANY_POINTS: u64 = 16 * FEW_POINTS;

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

    /// Whether a span of more than a week is not too long for it.
    pub fn is_few(self, span: Span) -> bool {
        self.points_a_day() * span.days as f64 <= FEW_POINTS as f64
    }
}

/// The span of a partition.
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

    /// The spans of more than a week that hold an instant, and are not longer than a bound in days, the longest first.
    pub fn long_of(at: Nanos, longest: i64) -> impl Iterator<Item = Self> {
        LONG.into_iter().filter(move |days| *days <= longest).map(move |days| Self::of(at, days))
    }

    fn of(at: Nanos, days: i64) -> Self {
        // The first span of all begins where the range of instants does.
        Self { start: at.checked_sub(at.rem_euclid(days * DAY)).unwrap_or(Nanos::MIN), days }
    }

    /// The length of the longest span that is right for points that are kept for some time: these go span by span, and should not stay much longer
    /// than they must. A week is never too long.
    pub fn longest_for(keep_for: Option<Nanos>) -> i64 {
        let bound = keep_for.map_or(LONG[0], |kept| kept / DAY / 8);
        LONG.into_iter().find(|days| *days <= bound).unwrap_or(WEEK_DAYS)
    }

    /// The span for a new partition around an instant, for a dataset to which points come at a rate; not one of those for few points.
    pub fn for_rate(at: Nanos, rate: Rate) -> Self {
        if rate.points_a_day() > BUSY_DAY { Self::day_of(at) } else { Self::week_of(at) }
    }

    /// How many days it is long.
    pub fn days(self) -> i64 {
        self.days
    }

    /// Whether it is longer than a week.
    pub fn is_long(self) -> bool {
        self.days > WEEK_DAYS
    }

    /// The parts of which it is made, each of the next shorter length or of a bound in days, whichever is shorter; those that hold an instant of a range.
    pub fn parts(self, longest: i64, range: RangeInclusive<Nanos>) -> impl Iterator<Item = Self> {
        let shorter = LONG.into_iter().chain([WEEK_DAYS]).find(|days| *days < self.days && *days <= longest).unwrap_or(WEEK_DAYS);
        let (first, last) = ((*range.start()).max(self.start), (*range.end()).min(self.last()));
        let mut next = (first <= last).then(|| Self::of(first, shorter));
        std::iter::from_fn(move || {
            let part = next?;
            next = part.last().checked_add(1).filter(|at| *at <= last).map(|at| Self::of(at, shorter));
            Some(part)
        })
    }

    /// The page size of a new partition's file. Blocks of a few kilobytes leave the ends of small pages empty, and a file has four pages
    /// at least, which are a waste where there are few points.
    pub fn page_size(self, rate: Rate) -> u32 {
        let points = rate.points_a_day() * self.days as f64;
        if points < 100_000.0 || self.is_long() {
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

    /// From the first instant to the one after the last.
    pub fn range(self) -> TimeRange {
        TimeRange { start: self.start, end: self.last().saturating_add(1) }
    }

    /// Whether it holds an instant.
    pub fn holds(self, at: Nanos) -> bool {
        self.start <= at && at <= self.last()
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
        let days = length.strip_suffix("d.db").filter(|days| !days.starts_with('0'))?.parse().ok()?;
        if !LONG.into_iter().chain([WEEK_DAYS, 1]).any(|known| known == days) {
            return None;
        }
        // The first span of all begins within its first day, where the range of instants does.
        Some(parse_rfc3339(&format!("{date}T00:00:00Z")).map_or(Self { start: Nanos::MIN, days }, |at| Self::of(at, days)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const LENGTHS: [i64; 5] = [1, 7, 56, 448, 3_584];

    #[test]
    fn spans_tile_time_and_are_named_after_their_first_day() {
        for at in [0, 1, -1, 1_790_000_000 * SECOND, Nanos::MIN + 8 * DAY, Nanos::MIN, Nanos::MAX] {
            for span in LENGTHS.map(|days| Span::of(at, days)) {
                assert!(span.holds(at), "{at}");
                assert_eq!(Span::of(span.last(), span.days), span);
                assert_eq!(Span::of_file_name(&span.file_name()), Some(span), "{}", span.file_name());
            }
        }
        assert_eq!(Span::week_of(1_790_000_000 * SECOND).file_name(), "2026-09-17_7d.db");
        for name in ["2026-09-17_3d.db", "2026-09-17_07d.db", "2026-09-17_7d", "2026-09-17.db", "LOCK"] {
            assert_eq!(Span::of_file_name(name), None, "{name}");
        }
    }

    #[test]
    fn longer_spans_consist_of_whole_shorter_ones() {
        for pair in LENGTHS.windows(2) {
            let long = Span::of(1_790_000_000 * SECOND, pair[1]);
            let parts: Vec<Span> = if long.is_long() { long.parts(pair[0], Nanos::MIN..=Nanos::MAX).collect() } else { continue };
            assert_eq!((parts[0].start, parts[parts.len() - 1].last()), (long.start, long.last()));
            assert!(parts.windows(2).all(|two| two[0].last() + 1 == two[1].start && two[0].days == pair[0]));
        }
        let decade = Span::of(0, 3_584);
        assert_eq!(decade.parts(3_584, 5 * DAY..=6 * DAY).collect::<Vec<_>>(), [Span::of(0, 448)]);
        assert_eq!(decade.parts(7, 5 * DAY..=13 * DAY).collect::<Vec<_>>(), [Span::of(0, 7), Span::of(7 * DAY, 7)]);
        assert_eq!(decade.parts(7, -5 * DAY..=-3 * DAY).count(), 0);
    }

    #[test]
    fn a_busy_dataset_gets_daily_partitions_and_a_quiet_one_small_pages() {
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

    #[test]
    fn sparse_points_get_long_spans_unless_they_expire_soon() {
        let longest = |points: usize, covered: Nanos| Span::long_of(0, 3_584).find(|span| Rate { points, covered }.is_few(*span)).map(Span::days);
        // A point a week, one in ten minutes, one in three minutes, one a minute.
        assert_eq!(longest(500, 3_500 * DAY), Some(3_584));
        assert_eq!(longest(144 * 400, 400 * DAY), Some(448));
        assert_eq!(longest(480 * 100, 100 * DAY), Some(56));
        assert_eq!(longest(1_440 * 100, 100 * DAY), None);
        let kept = |days: i64| Span::longest_for(Some(days * DAY));
        assert_eq!([kept(1), kept(100), kept(448), kept(3_650), kept(36_500), Span::longest_for(None)], [7, 7, 56, 448, 3_584, 3_584]);
    }
}
