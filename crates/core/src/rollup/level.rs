//! Where the windows of a level lie: aligned to the epoch, or to the calendar of a zone, as a query's are.

use jiff::tz::TimeZone;

use crate::time::{Grid, Nanos, Span, TimeRange, Width, Windows};

/// Ranges that [`Level::runs`] gives at most.
pub const MAX_RUNS: usize = 64;

/// Windows of one width.
#[derive(Clone, Debug, PartialEq)]
pub struct Level {
    width: Span,
    zone: TimeZone,
}

/// Why there can be no such level.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum LevelError {
    /// A width of mixed parts, or of many months.
    #[error("invalid level width `{0}`: use an exact span, such as 5m or 1h, or one calendar unit: 1d, 1w, 1mo or 1y")]
    Width(Span),
    /// Widths that do not nest.
    #[error("{coarse} is not a multiple of {fine}: each level must be a multiple of the one before it")]
    Nesting {
        /// The finer one.
        fine: Span,
        /// The coarser one.
        coarse: Span,
    },
}

const DAY: Nanos = 86_400_000_000_000;

impl Level {
    /// Windows that some instants, in order, fall into, neighbours as one range; if there are more than [`MAX_RUNS`], the nearest are joined.
    pub fn runs(&self, times: &[Nanos]) -> Vec<TimeRange> {
        let mut ranges: Vec<TimeRange> = Vec::new();
        let mut at = 0;
        while at < times.len() {
            let start = self.floor(times[at]);
            let end = self.after(start);
            match ranges.last_mut() {
                Some(last) if last.end >= start => last.end = end,
                _ => ranges.push(TimeRange { start, end }),
            }
            at += times[at..].partition_point(|time| *time < end).max(1);
        }
        let mut apart = self.nominal();
        while ranges.len() > MAX_RUNS {
            apart = apart.saturating_mul(2);
            ranges = ranges.into_iter().fold(Vec::new(), |mut joined: Vec<TimeRange>, range| {
                match joined.last_mut() {
                    Some(last) if range.start.saturating_sub(last.end) <= apart => last.end = range.end,
                    _ => joined.push(range),
                }
                joined
            });
        }
        ranges
    }

    /// A level of some width; a zone matters to those of the calendar.
    ///
    /// # Errors
    /// [`LevelError::Width`].
    pub fn new(width: Span, zone: TimeZone) -> Result<Self, LevelError> {
        let is_one = matches!(
            width,
            Span { months: 0, days: 0, nanos: 1_000_000.., .. }
                | Span { months: 0, days: 1, nanos: 0, .. }
                | Span { months: 0, days: 7, nanos: 0, in_weeks: true }
                | Span { months: 1 | 12, days: 0, nanos: 0, .. }
        );
        if is_one { Ok(Self { width, zone }) } else { Err(LevelError::Width(width)) }
    }

    /// How wide.
    pub fn width(&self) -> Span {
        self.width
    }

    /// About how long a window is, in nanoseconds.
    pub fn nominal(&self) -> Nanos {
        self.width.nanos + i64::from(self.width.days) * DAY + i64::from(self.width.months) * 30 * DAY
    }

    /// Whether its windows are made of whole windows of a finer one.
    ///
    /// # Errors
    /// [`LevelError::Nesting`] if they do not nest in any zone.
    pub fn check_above(&self, fine: &Self) -> Result<(), LevelError> {
        let (long, short) = (self.width, fine.width);
        let nests = match (long, short) {
            (Span { months: 0, days: 0, nanos: long, .. }, Span { months: 0, days: 0, nanos: short, .. }) => long > short && long % short == 0,
            (_, Span { months: 0, days: 0, nanos: short, .. }) => DAY % short == 0,
            (Span { months: 0, .. }, Span { months: 0, .. }) => long.days > short.days && long.days % short.days == 0,
            (Span { months: long, .. }, Span { months: 0, days: 1, .. }) => long > 0,
            (Span { months: long, .. }, Span { months: short, .. }) => short > 0 && long > short && long % short == 0,
        };
        if nests { Ok(()) } else { Err(LevelError::Nesting { fine: short, coarse: long }) }
    }

    /// The windows that meet a range, as bounds; none where that leaves the years that an instant can hold, or where there are very many.
    pub fn bounds(&self, range: TimeRange) -> Vec<Nanos> {
        const MAX_POINTS: usize = 2_000_000;
        let grid = Grid { width: Width::Of(self.width), stepping: None, starting: None };
        if range.is_empty() {
            return Vec::new();
        }
        Windows::cut(range, grid, &self.zone, MAX_POINTS).map_or_else(|_| Vec::new(), |windows| windows.bounds().to_vec())
    }

    /// The last border at or before an instant.
    pub fn floor(&self, at: Nanos) -> Nanos {
        match self.width {
            Span { months: 0, days: 0, nanos, .. } => at.checked_sub(at.rem_euclid(nanos)).unwrap_or(Nanos::MIN),
            _ => self.bounds(TimeRange { start: at, end: at.saturating_add(1) }).first().copied().unwrap_or(Nanos::MIN),
        }
    }

    /// The first border at or after an instant.
    pub fn ceil(&self, at: Nanos) -> Nanos {
        let floor = self.floor(at);
        if floor == at { at } else { self.after(floor) }
    }

    /// The border after one.
    pub fn after(&self, border: Nanos) -> Nanos {
        match self.width {
            Span { months: 0, days: 0, nanos, .. } => border.saturating_add(nanos),
            _ => self.bounds(TimeRange { start: border, end: border.saturating_add(1) }).get(1).copied().unwrap_or(Nanos::MAX),
        }
    }

    /// Whether an instant is a border of two windows.
    pub fn is_border(&self, at: Nanos) -> bool {
        self.floor(at) == at
    }

    /// The longest run of whole windows inside a range; empty where there is none.
    pub fn inside(&self, range: TimeRange) -> TimeRange {
        let (start, end) = (self.ceil(range.start), self.floor(range.end));
        TimeRange { start, end: end.max(start) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::time::{format_utc, parse_rfc3339, zone};

    fn level(text: &str, tz: &str) -> Level {
        Level::new(Span::parse(text).unwrap(), zone(tz).unwrap()).unwrap()
    }

    #[test]
    fn levels_nest_or_are_refused() {
        let nests = |coarse: &str, fine: &str| level(coarse, "UTC").check_above(&level(fine, "UTC"));
        for (coarse, fine) in [("1h", "5m"), ("1d", "1h"), ("1w", "1d"), ("1mo", "1d"), ("1y", "1mo"), ("1w", "6h")] {
            nests(coarse, fine).unwrap();
        }
        for (coarse, fine) in [("1h", "7m"), ("1d", "7h"), ("1mo", "1w"), ("1h", "1h"), ("1h", "1d")] {
            assert!(nests(coarse, fine).is_err(), "{coarse} {fine}");
        }
        for text in ["2d", "3mo", "1d12h"] {
            assert!(Level::new(Span::parse(text).unwrap(), TimeZone::UTC).is_err(), "{text}");
        }
    }

    #[test]
    fn borders_follow_the_calendar_of_the_zone() {
        let day = level("1d", "Europe/Lisbon");
        let at = |text: &str| parse_rfc3339(text).unwrap();
        // The day of the summer time change has 23 hours.
        let noon = at("2026-03-29T12:00:00Z");
        assert_eq!([day.floor(noon), day.ceil(noon)].map(format_utc), ["2026-03-29T00:00:00Z", "2026-03-29T23:00:00Z"]);
        assert!(day.is_border(at("2026-07-01T23:00:00Z")) && !day.is_border(at("2026-07-01T00:00:00Z")));
        let hour = level("1h", "UTC");
        assert_eq!(
            hour.inside(TimeRange { start: 1, end: 3 * 3_600_000_000_000 + 5 }),
            TimeRange { start: 3_600_000_000_000, end: 3 * 3_600_000_000_000 }
        );
        assert!(hour.inside(TimeRange { start: 1, end: 5 }).is_empty());
    }

    #[test]
    fn instants_become_few_ranges_of_whole_windows() {
        const SECOND: Nanos = 1_000_000_000;
        let level = Level::new(Span::exact(60 * SECOND), TimeZone::UTC).unwrap();
        let minute = |from: i64, to: i64| TimeRange { start: from * 60 * SECOND, end: to * 60 * SECOND };
        assert_eq!(level.runs(&[1, 61 * SECOND, 62 * SECOND, 300 * SECOND]), [minute(0, 2), minute(5, 6)]);
        let scattered: Vec<Nanos> = (0..10_000).map(|at| at * 7_200 * SECOND).collect();
        let ranges = level.runs(&scattered);
        assert!(ranges.len() <= MAX_RUNS && scattered.iter().all(|at| ranges.iter().any(|range| range.contains(*at))));
    }
}
