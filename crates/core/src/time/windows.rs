//! How a range of time is cut into windows: half-open spans that tile it without overlap.

use jiff::{Zoned, civil, tz::TimeZone};

use super::{Nanos, SECOND, Span, TimeRange, zoned};

/// How wide the windows of a frame are.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Width {
    /// One window over the whole range.
    Whole,
    /// Windows of one span.
    Of(Span),
    /// A round width that gives about 300 windows.
    Auto,
}

/// The windows of a frame, in order. Window `i` is `[bounds[i], bounds[i + 1])`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Windows {
    range: TimeRange,
    bounds: Vec<Nanos>,
    width: Option<Span>,
}

/// Why a range cannot be cut.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum WindowsError {
    /// Calendar and exact parts in one width.
    #[error("windows of `{0}`: a width is either of the calendar (d, w, mo, y) or exact (h and below), and months do not go with days")]
    Mixed(Span),
    /// More windows than allowed.
    #[error("windows of {width} cut this range into more than {limit}: make them wider, or the range shorter")]
    TooMany {
        /// The width asked for.
        width: Span,
        /// The most that are allowed.
        limit: usize,
    },
    /// Outside the years that an instant can hold.
    #[error("the range leaves the years 1677 to 2262")]
    OutOfRange,
}

const AUTO_WINDOWS: Nanos = 300;
/// Round widths for `per auto`, in seconds.
const ROUND: [i64; 17] = [1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 900, 1_800, 3_600, 7_200, 10_800, 21_600, 43_200];

impl Windows {
    /// Cuts `range`: fixed widths are aligned to the epoch, those of the calendar to the days, weeks (from Monday), months and
    /// years of `zone`. The first and the last window may reach over the range: they are partial.
    ///
    /// # Errors
    /// [`WindowsError`], for more than `limit` windows among others.
    pub fn cut(range: TimeRange, width: Width, zone: &TimeZone, limit: usize) -> Result<Self, WindowsError> {
        let width = match width {
            Width::Of(span) => span,
            Width::Auto => auto_width(range),
            Width::Whole => return Ok(Self { range, bounds: vec![range.start, range.end], width: None }),
        };
        let bounds = match width {
            Span { months: 0, days: 0, nanos } => fixed(range, nanos, limit),
            Span { months: 0, days, nanos: 0 } => calendar(range, zone, limit, |z| day_floor(z, days), jiff::Span::new().days(days)),
            Span { months, days: 0, nanos: 0 } => calendar(range, zone, limit, |z| month_floor(z, months), jiff::Span::new().months(months)),
            mixed => return Err(WindowsError::Mixed(mixed)),
        };
        match bounds {
            Cut::Bounds(bounds) => Ok(Self { range, bounds, width: Some(width) }),
            Cut::TooMany => Err(WindowsError::TooMany { width, limit }),
            Cut::OutOfRange => Err(WindowsError::OutOfRange),
        }
    }

    /// How many there are.
    pub fn len(&self) -> usize {
        self.bounds.len() - 1
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The range that was cut.
    pub fn range(&self) -> TimeRange {
        self.range
    }

    /// The width, unless the whole range is one window.
    pub fn width(&self) -> Option<Span> {
        self.width
    }

    /// Borders: one more than there are windows.
    pub fn bounds(&self) -> &[Nanos] {
        &self.bounds
    }

    /// Whether window `index` is cut by the range.
    pub fn is_partial(&self, index: usize) -> bool {
        self.bounds[index] < self.range.start || self.bounds[index + 1] > self.range.end
    }
}

enum Cut {
    Bounds(Vec<Nanos>),
    TooMany,
    OutOfRange,
}

fn auto_width(range: TimeRange) -> Span {
    let length = range.end.saturating_sub(range.start).max(1);
    let least = length / AUTO_WINDOWS;
    match ROUND.iter().find(|seconds| **seconds * SECOND >= least) {
        Some(seconds) => Span::exact(seconds * SECOND),
        None => Span { months: 0, days: u32::try_from(least / (86_400 * SECOND) + 1).unwrap_or(u32::MAX), nanos: 0 },
    }
}

fn fixed(range: TimeRange, width: Nanos, limit: usize) -> Cut {
    let Some(start) = range.start.checked_sub(range.start.rem_euclid(width)) else { return Cut::OutOfRange };
    let mut bounds = vec![start];
    let mut at = start;
    while at < range.end {
        if bounds.len() > limit {
            return Cut::TooMany;
        }
        let Some(next) = at.checked_add(width) else { return Cut::OutOfRange };
        at = next;
        bounds.push(at);
    }
    Cut::Bounds(bounds)
}

fn calendar(range: TimeRange, zone: &TimeZone, limit: usize, floor: impl Fn(&Zoned) -> Option<civil::Date>, step: jiff::Span) -> Cut {
    let Some(mut date) = floor(&zoned(range.start, zone)) else { return Cut::OutOfRange };
    let mut bounds = Vec::new();
    loop {
        let start = date.to_zoned(zone.clone()).and_then(|z| z.start_of_day());
        let Some(at) = start.ok().and_then(|z| Nanos::try_from(z.timestamp().as_nanosecond()).ok()) else { return Cut::OutOfRange };
        bounds.push(at);
        if at >= range.end && bounds.len() > 1 {
            return Cut::Bounds(bounds);
        }
        if bounds.len() > limit {
            return Cut::TooMany;
        }
        let Ok(next) = date.checked_add(step) else { return Cut::OutOfRange };
        date = next;
    }
}

/// The last border of a grid of `days` that is not after `z`. Whole weeks begin on a Monday, other grids on 1970-01-01.
fn day_floor(z: &Zoned, days: u32) -> Option<civil::Date> {
    let origin = if days.is_multiple_of(7) { civil::date(1970, 1, 5) } else { civil::date(1970, 1, 1) };
    let since = z.date().since((jiff::Unit::Day, origin)).ok()?.get_days();
    z.date().checked_sub(jiff::Span::new().days(i64::from(since).rem_euclid(i64::from(days)))).ok()
}

fn month_floor(z: &Zoned, months: u32) -> Option<civil::Date> {
    let first = z.date().first_of_month();
    let since = i64::from(first.year()) * 12 + i64::from(first.month()) - 1;
    first.checked_sub(jiff::Span::new().months(since.rem_euclid(i64::from(months)))).ok()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::time::{parse_rfc3339, zone};

    fn at(text: &str) -> Nanos {
        parse_rfc3339(text).unwrap()
    }

    fn hours(windows: &Windows) -> Vec<i64> {
        windows.bounds().windows(2).map(|pair| (pair[1] - pair[0]) / (3_600 * SECOND)).collect()
    }

    #[test]
    fn a_day_over_a_clock_change_is_one_window_of_23_or_25_hours() {
        let lisbon = zone("Europe/Lisbon").unwrap();
        let day = Width::Of(Span::parse("1d").unwrap());
        let spring = TimeRange { start: at("2026-03-28T00:00:00Z"), end: at("2026-03-31T00:00:00+01:00") };
        assert_eq!(hours(&Windows::cut(spring, day, &lisbon, 10).unwrap()), [24, 23, 24]);
        let autumn = TimeRange { start: at("2026-10-25T00:00:00+01:00"), end: at("2026-10-26T00:00:00Z") };
        assert_eq!(hours(&Windows::cut(autumn, day, &lisbon, 10).unwrap()), [25]);
    }

    #[test]
    fn windows_cut_by_the_range_are_partial() {
        let range = TimeRange { start: at("2026-05-01T09:07:00Z"), end: at("2026-05-01T09:45:00Z") };
        let windows = Windows::cut(range, Width::Of(Span::parse("15m").unwrap()), &TimeZone::UTC, 10).unwrap();
        assert_eq!((0..windows.len()).map(|i| windows.is_partial(i)).collect::<Vec<_>>(), [true, false, false]);
    }

    #[test]
    fn weeks_begin_on_monday_and_quarters_in_january() {
        let range = TimeRange { start: at("2026-05-01T09:00:00Z"), end: at("2026-05-02T09:00:00Z") };
        let week = Windows::cut(range, Width::Of(Span::parse("1w").unwrap()), &TimeZone::UTC, 10).unwrap();
        assert_eq!(week.bounds(), [at("2026-04-27T00:00:00Z"), at("2026-05-04T00:00:00Z")]);
        let quarter = Windows::cut(range, Width::Of(Span::parse("3mo").unwrap()), &TimeZone::UTC, 10).unwrap();
        assert_eq!(quarter.bounds(), [at("2026-04-01T00:00:00Z"), at("2026-07-01T00:00:00Z")]);
    }

    #[test]
    fn too_many_windows_are_refused_before_they_are_made() {
        let range = TimeRange { start: 0, end: 1_000_000 * SECOND };
        let refused = Windows::cut(range, Width::Of(Span::parse("1ms").unwrap()), &TimeZone::UTC, 1_000);
        assert!(matches!(refused, Err(WindowsError::TooMany { limit: 1_000, .. })));
    }

    #[test]
    fn mixed_widths_are_refused() {
        let range = TimeRange { start: 0, end: SECOND };
        let mixed = Width::Of(Span::parse("1d12h").unwrap());
        assert!(matches!(Windows::cut(range, mixed, &TimeZone::UTC, 10), Err(WindowsError::Mixed(_))));
    }

    #[test]
    fn auto_is_round_and_gives_at_most_300_windows() {
        for (hours, width) in [(1, "15s"), (24, "5m"), (24 * 7, "1h"), (24 * 14, "2h")] {
            let range = TimeRange { start: 0, end: hours * 3_600 * SECOND };
            let windows = Windows::cut(range, Width::Auto, &TimeZone::UTC, 400).unwrap();
            assert_eq!(windows.width().unwrap().to_string(), width);
            assert!(windows.len() <= 301);
        }
    }

    proptest! {
        #[test]
        fn windows_tile_the_range_in_any_zone(
            start in 1_740_000_000i64..1_790_000_000,
            length in 1i64..40_000_000,
            width in prop::sample::select(vec!["7m", "1h", "5h", "1d", "3d", "1w", "1mo", "1y"]),
            name in prop::sample::select(vec!["UTC", "Europe/Lisbon", "America/St_Johns", "Pacific/Chatham", "Africa/Cairo"]),
        ) {
            let range = TimeRange { start: start * SECOND, end: (start + length) * SECOND };
            let windows = Windows::cut(range, Width::Of(Span::parse(width).unwrap()), &zone(name).unwrap(), 1_000_000).unwrap();
            let bounds = windows.bounds();
            prop_assert!(bounds.windows(2).all(|pair| pair[0] < pair[1]));
            prop_assert!(bounds[0] <= range.start && bounds[1] > range.start);
            prop_assert!(bounds[bounds.len() - 1] >= range.end && bounds[bounds.len() - 2] < range.end);
        }
    }
}
