//! How a range of time is cut into windows: half-open spans that tile it without overlap.

use jiff::{ZonedDateTime, civil, tz::TimeZone};

use super::{LocalTime, Nanos, SECOND, Span, TimeRange, instant::instant_of, local::wall_instant, zoned};

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

/// How a range is cut.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Grid {
    /// How wide its windows are.
    pub width: Width,
    /// A window begins each such span, not each width: they overlap.
    pub stepping: Option<Span>,
    /// The grid begins anew at that time of each local day.
    pub starting: Option<LocalTime>,
}

/// The windows of a frame, in order: the grid's cells lie between each two bounds, and window `i` is made of `cells_each` cells from cell `i` on.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Windows {
    range: TimeRange,
    bounds: Vec<Nanos>,
    cells_each: usize,
    width: Option<Span>,
    stepping: Option<Span>,
}

/// Why a range cannot be cut.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum WindowsError {
    /// Calendar and exact parts in one width.
    #[error("invalid width `{0}`: use calendar units (d, w, mo, y) or exact units (h and shorter), not both, and months not with days")]
    Mixed(Span),
    /// Days that make whole weeks, and may be meant so.
    #[error(
        "windows of {width} can begin on Mondays, or be counted from 1970-01-01: write {weeks} for weeks from Monday on, or {hours} for hours since then"
    )]
    DaysOrWeeks {
        /// The width asked for.
        width: Span,
        /// The same in weeks.
        weeks: Span,
        /// The same in hours.
        hours: Span,
    },
    /// More windows than allowed.
    #[error("this range has more than {limit} windows of {width}: use wider windows or a shorter range")]
    TooMany {
        /// The width asked for.
        width: Span,
        /// The most that are allowed.
        limit: usize,
    },
    /// Steps that do not tile the width.
    #[error("windows of {width} cannot step by {step}: the width must be a multiple of the step, both exact (h and shorter) or both calendar units")]
    Step {
        /// The width asked for.
        width: Span,
        /// The step asked for.
        step: Span,
    },
    /// Steps without a width.
    #[error("`stepping` needs a width: write `per 1h stepping 10m`")]
    StepOfNothing,
    /// A width that does not tile a day.
    #[error("windows of {0} cannot begin at a time of the day: the width must divide 24 h into whole minutes, such as 8h or 1d")]
    Starting(Span),
    /// A time of the day without a width.
    #[error("`starting` needs a width: write `per 8h starting 06:00`")]
    StartingNothing,
    /// Both at once.
    #[error("`stepping` and `starting` cannot be combined")]
    SteppingAndStarting,
    /// Outside the years that an instant can hold.
    #[error("the range leaves the years 1677 to 2262")]
    OutOfRange,
}

const AUTO_WINDOWS: Nanos = 300;
const MINUTES_A_DAY: u16 = 24 * 60;
/// Round widths for `per auto`, in seconds.
const ROUND: [i64; 17] = [1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 900, 1_800, 3_600, 7_200, 10_800, 21_600, 43_200];

impl Windows {
    /// Cuts `range`: fixed widths are aligned to the epoch, those of the calendar to the days, weeks (from Monday), months and
    /// years of `zone`. The first and the last window may reach over the range: they are partial. With steps, a window ends with each step
    /// that meets the range.
    ///
    /// # Errors
    /// [`WindowsError`], for more than `limit` windows among others.
    pub fn cut(range: TimeRange, grid: Grid, zone: &TimeZone, limit: usize) -> Result<Self, WindowsError> {
        let width = match (grid.width, grid.stepping, grid.starting) {
            (Width::Whole, Some(_), _) | (Width::Auto, Some(_), _) => return Err(WindowsError::StepOfNothing),
            (Width::Whole, _, Some(_)) | (Width::Auto, _, Some(_)) => return Err(WindowsError::StartingNothing),
            (_, Some(_), Some(_)) => return Err(WindowsError::SteppingAndStarting),
            (Width::Of(span), ..) => span,
            (Width::Auto, ..) => auto_width(range),
            (Width::Whole, ..) => return Ok(Self { range, bounds: vec![range.start, range.end], cells_each: 1, width: None, stepping: None }),
        };
        let made = |cut: Cut, cells_each| match cut {
            Cut::Bounds(bounds) => Ok(Self { range, bounds, cells_each, width: Some(width), stepping: grid.stepping }),
            Cut::TooMany => Err(WindowsError::TooMany { width, limit }),
            Cut::OutOfRange => Err(WindowsError::OutOfRange),
        };
        if let Some(start) = grid.starting {
            let minutes = minutes_of_a_day(width).ok_or(WindowsError::Starting(width))?;
            return made(wall_clock(range, zone, limit, start, minutes), 1);
        }
        let Some(step) = grid.stepping else { return made(tile(range, width, zone, limit)?, 1) };
        let cells_each = times_into(step, width).ok_or(WindowsError::Step { width, step })?;
        if cells_each > limit {
            return Err(WindowsError::TooMany { width: step, limit });
        }
        let Cut::Bounds(bounds) = tile(range, step, zone, limit)? else { return Err(WindowsError::TooMany { width: step, limit }) };
        // The first window ends with the first step.
        let back = step.times(cells_each as u32 - 1);
        let start = bounds.first().map_or(range.start, |first| back.before(*first, zone));
        made(tile(TimeRange { start, end: range.end }, step, zone, limit)?, cells_each)
    }

    /// Number of windows.
    pub fn len(&self) -> usize {
        self.bounds.len().saturating_sub(self.cells_each)
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

    /// The step, where windows overlap.
    pub fn stepping(&self) -> Option<Span> {
        self.stepping
    }

    /// Borders of the cells: one more than there are cells.
    pub fn bounds(&self) -> &[Nanos] {
        &self.bounds
    }

    /// How many cells a window is made of.
    pub fn cells_each(&self) -> usize {
        self.cells_each
    }

    /// First instant of window `index`.
    pub fn start(&self, index: usize) -> Nanos {
        self.bounds[index]
    }

    /// First instant after window `index`.
    pub fn end(&self, index: usize) -> Nanos {
        self.bounds[index + self.cells_each]
    }

    /// The part of window `index` that lies in the range and has passed.
    pub fn passed(&self, index: usize, now: Nanos) -> TimeRange {
        TimeRange { start: self.start(index).max(self.range.start), end: self.end(index).min(self.range.end).min(now) }
    }

    /// Whether window `index` is cut by the range, or not over yet.
    pub fn is_partial(&self, index: usize, now: Nanos) -> bool {
        self.start(index) < self.range.start || self.end(index) > self.range.end.min(now)
    }

    /// The same windows that much earlier, by the calendar of `zone`.
    pub fn earlier(&self, span: Span, zone: &TimeZone) -> Self {
        let before = |at: Nanos| span.before(at, zone);
        let range = TimeRange { start: before(self.range.start), end: before(self.range.end) };
        let mut bounds: Vec<Nanos> = self.bounds.iter().map(|at| before(*at)).collect();
        // Over a clock change two borders may fall together, or a border of the clock behind one of the calendar.
        for at in 1..bounds.len() {
            bounds[at] = bounds[at].max(bounds[at - 1]);
        }
        let range = TimeRange { start: range.start.max(bounds[0]), end: range.end.min(bounds[bounds.len() - 1]) };
        Self { range, bounds, ..self.clone() }
    }
}

enum Cut {
    Bounds(Vec<Nanos>),
    TooMany,
    OutOfRange,
}

/// Cells of one width.
fn tile(range: TimeRange, width: Span, zone: &TimeZone, limit: usize) -> Result<Cut, WindowsError> {
    Ok(match width {
        Span { months: 0, days: 0, nanos, .. } => fixed(range, nanos, limit),
        Span { months: 0, days, nanos: 0, in_weeks: false } if days.is_multiple_of(7) => {
            let hours = Span::exact(Nanos::from(days) * 24 * 3_600 * SECOND);
            return Err(WindowsError::DaysOrWeeks { width, weeks: Span::weeks(days / 7), hours });
        }
        Span { months: 0, days, nanos: 0, .. } => calendar(range, zone, limit, |z| day_floor(z, days), jiff::Span::new().days(days)),
        Span { months, days: 0, nanos: 0, .. } => calendar(range, zone, limit, |z| month_floor(z, months), jiff::Span::new().months(months)),
        mixed => return Err(WindowsError::Mixed(mixed)),
    })
}

/// How many times a step goes into a width, where it does so without rest.
fn times_into(step: Span, width: Span) -> Option<usize> {
    let times = |step: i64, width: i64| (step > 0 && width % step == 0).then_some((width / step) as usize);
    match (step, width) {
        (Span { months: 0, days: 0, nanos: step, .. }, Span { months: 0, days: 0, nanos: width, .. }) => times(step, width),
        (Span { months: 0, days: step, nanos: 0, .. }, Span { months: 0, days: width, nanos: 0, .. }) => times(step.into(), width.into()),
        (Span { months: step, days: 0, nanos: 0, .. }, Span { months: width, days: 0, nanos: 0, .. }) => times(step.into(), width.into()),
        _ => None,
    }
    .filter(|times| *times > 0)
}

/// A width in minutes, where it divides a day.
fn minutes_of_a_day(width: Span) -> Option<u16> {
    let minute = 60 * SECOND;
    match width {
        Span { months: 0, days: 1, nanos: 0, .. } => Some(MINUTES_A_DAY),
        Span { months: 0, days: 0, nanos, .. } if nanos % minute == 0 => {
            u16::try_from(nanos / minute).ok().filter(|minutes| *minutes <= MINUTES_A_DAY && MINUTES_A_DAY.is_multiple_of(*minutes))
        }
        _ => None,
    }
}

/// Cells of so many minutes by the clock on the wall, from a time of each day on.
fn wall_clock(range: TimeRange, zone: &TimeZone, limit: usize, start: LocalTime, minutes: u16) -> Cut {
    let mut bounds: Vec<Nanos> = Vec::new();
    let Ok(mut date) = zoned(range.start, zone).date().checked_sub(jiff::Span::new().days(1)) else { return Cut::OutOfRange };
    loop {
        // Times past midnight belong to the next date; the grid of each begins anew with its own.
        let mut of_day = start.minutes() % minutes;
        while of_day < MINUTES_A_DAY {
            let Some(at) = wall_instant(date, of_day, zone) else { return Cut::OutOfRange };
            if at <= range.start {
                bounds.clear();
            }
            if bounds.last().is_none_or(|last| *last < at) {
                bounds.push(at);
            }
            if at >= range.end && bounds.len() > 1 {
                return Cut::Bounds(bounds);
            }
            if bounds.len() > limit {
                return Cut::TooMany;
            }
            of_day += minutes;
        }
        let Ok(next) = date.tomorrow() else { return Cut::OutOfRange };
        date = next;
    }
}

fn auto_width(range: TimeRange) -> Span {
    let length = range.end.saturating_sub(range.start).max(1);
    let least = length / AUTO_WINDOWS;
    match ROUND.iter().find(|seconds| **seconds * SECOND >= least) {
        Some(seconds) => Span::exact(seconds * SECOND),
        None => {
            let days = u32::try_from(least / (86_400 * SECOND) + 1).unwrap_or(u32::MAX);
            if days.is_multiple_of(7) { Span::weeks(days / 7) } else { Span { days, ..Span::default() } }
        }
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

fn calendar(range: TimeRange, zone: &TimeZone, limit: usize, floor: impl Fn(&ZonedDateTime) -> Option<civil::Date>, step: jiff::Span) -> Cut {
    let Some(mut date) = floor(&zoned(range.start, zone)) else { return Cut::OutOfRange };
    let mut bounds = Vec::new();
    loop {
        let start = date.to_zoned_datetime(zone.clone()).and_then(|z| z.start_of_day());
        let Some(at) = start.ok().and_then(|start| instant_of(&start)) else { return Cut::OutOfRange };
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
fn day_floor(z: &ZonedDateTime, days: u32) -> Option<civil::Date> {
    let origin = if days.is_multiple_of(7) { civil::date(1970, 1, 5) } else { civil::date(1970, 1, 1) };
    let since = z.date().since((jiff::Unit::Day, origin)).ok()?.get_days();
    z.date().checked_sub(jiff::Span::new().days(i64::from(since).rem_euclid(i64::from(days)))).ok()
}

fn month_floor(z: &ZonedDateTime, months: u32) -> Option<civil::Date> {
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

    fn plain(width: Width) -> Grid {
        Grid { width, stepping: None, starting: None }
    }

    fn hours(windows: &Windows) -> Vec<i64> {
        windows.bounds().windows(2).map(|pair| (pair[1] - pair[0]) / (3_600 * SECOND)).collect()
    }

    #[test]
    fn a_day_over_a_clock_change_is_one_window_of_23_or_25_hours() {
        let lisbon = zone("Europe/Lisbon").unwrap();
        let day = Width::Of(Span::parse("1d").unwrap());
        let spring = TimeRange { start: at("2026-03-28T00:00:00Z"), end: at("2026-03-31T00:00:00+01:00") };
        assert_eq!(hours(&Windows::cut(spring, plain(day), &lisbon, 10).unwrap()), [24, 23, 24]);
        let autumn = TimeRange { start: at("2026-10-25T00:00:00+01:00"), end: at("2026-10-26T00:00:00Z") };
        assert_eq!(hours(&Windows::cut(autumn, plain(day), &lisbon, 10).unwrap()), [25]);
    }

    #[test]
    fn windows_cut_by_the_range_are_partial() {
        let range = TimeRange { start: at("2026-05-01T09:07:00Z"), end: at("2026-05-01T09:45:00Z") };
        let windows = Windows::cut(range, plain(Width::Of(Span::parse("15m").unwrap())), &TimeZone::UTC, 10).unwrap();
        assert_eq!((0..windows.len()).map(|i| windows.is_partial(i, Nanos::MAX)).collect::<Vec<_>>(), [true, false, false]);
    }

    #[test]
    fn weeks_begin_on_monday_and_quarters_in_january() {
        let range = TimeRange { start: at("2026-05-01T09:00:00Z"), end: at("2026-05-02T09:00:00Z") };
        let week = Windows::cut(range, plain(Width::Of(Span::parse("1w").unwrap())), &TimeZone::UTC, 10).unwrap();
        assert_eq!(week.bounds(), [at("2026-04-27T00:00:00Z"), at("2026-05-04T00:00:00Z")]);
        let quarter = Windows::cut(range, plain(Width::Of(Span::parse("3mo").unwrap())), &TimeZone::UTC, 10).unwrap();
        assert_eq!(quarter.bounds(), [at("2026-04-01T00:00:00Z"), at("2026-07-01T00:00:00Z")]);
    }

    #[test]
    fn day_counts_that_make_weeks_are_refused_as_ambiguous() {
        let range = TimeRange { start: at("2026-05-01T09:00:00Z"), end: at("2026-06-02T09:00:00Z") };
        let cut = |width: &str, stepping: Option<&str>| {
            let stepping = stepping.map(|step| Span::parse(step).unwrap());
            Windows::cut(range, Grid { stepping, ..plain(Width::Of(Span::parse(width).unwrap())) }, &TimeZone::UTC, 100)
        };
        let message =
            "windows of 14d can begin on Mondays, or be counted from 1970-01-01: write 2w for weeks from Monday on, or 336h for hours since then";
        assert_eq!(cut("14d", None).unwrap_err().to_string(), message);
        assert!(cut("28d", Some("7d")).unwrap_err().to_string().contains("write 1w for weeks"));
        // Seven days to each day, or hours since the epoch, have one meaning.
        assert_eq!(cut("7d", Some("1d")).unwrap().end(0), at("2026-05-02T00:00:00Z"));
        assert_eq!(cut("168h", None).unwrap().start(0), at("2026-04-30T00:00:00Z"));
        assert_eq!(cut("2w", None).unwrap().start(0), at("2026-04-27T00:00:00Z"));
    }

    #[test]
    fn too_many_windows_are_refused_before_they_are_made() {
        let range = TimeRange { start: 0, end: 1_000_000 * SECOND };
        let refused = Windows::cut(range, plain(Width::Of(Span::parse("1ms").unwrap())), &TimeZone::UTC, 1_000);
        assert!(matches!(refused, Err(WindowsError::TooMany { limit: 1_000, .. })));
    }

    #[test]
    fn mixed_widths_are_refused() {
        let range = TimeRange { start: 0, end: SECOND };
        let mixed = Width::Of(Span::parse("1d12h").unwrap());
        assert!(matches!(Windows::cut(range, plain(mixed), &TimeZone::UTC, 10), Err(WindowsError::Mixed(_))));
    }

    #[test]
    fn auto_windows_are_round_and_at_most_300() {
        for (hours, width) in [(1, "15s"), (24, "5m"), (24 * 7, "1h"), (24 * 14, "2h")] {
            let range = TimeRange { start: 0, end: hours * 3_600 * SECOND };
            let windows = Windows::cut(range, plain(Width::Auto), &TimeZone::UTC, 400).unwrap();
            assert_eq!(windows.width().unwrap().to_string(), width);
            assert!(windows.len() <= 301);
        }
    }

    #[test]
    fn shifts_keep_their_local_hours_over_a_clock_change() {
        let lisbon = zone("Europe/Lisbon").unwrap();
        let grid = Grid { starting: LocalTime::parse("06:00"), ..plain(Width::Of(Span::parse("8h").unwrap())) };
        let spring = TimeRange { start: at("2026-03-28T08:00:00Z"), end: at("2026-03-29T16:00:00+01:00") };
        let windows = Windows::cut(spring, grid, &lisbon, 10).unwrap();
        assert_eq!(hours(&windows), [8, 8, 7, 8, 8]);
        assert_eq!(windows.start(0), at("2026-03-28T06:00:00Z"));
        let autumn = TimeRange { start: at("2026-10-24T22:00:00+01:00"), end: at("2026-10-25T06:00:00Z") };
        assert_eq!(hours(&Windows::cut(autumn, grid, &lisbon, 10).unwrap()), [9]);
        let seven = Grid { starting: LocalTime::parse("06:00"), ..plain(Width::Of(Span::parse("7h").unwrap())) };
        assert!(matches!(Windows::cut(autumn, seven, &lisbon, 10), Err(WindowsError::Starting(_))));
    }

    #[test]
    fn stepping_windows_overlap() {
        let range = TimeRange { start: at("2026-05-01T09:00:00Z"), end: at("2026-05-01T09:30:00Z") };
        let grid = Grid { stepping: Some(Span::parse("10m").unwrap()), ..plain(Width::Of(Span::parse("30m").unwrap())) };
        let windows = Windows::cut(range, grid, &TimeZone::UTC, 10).unwrap();
        assert_eq!((windows.len(), windows.start(0), windows.end(0)), (3, at("2026-05-01T08:40:00Z"), at("2026-05-01T09:10:00Z")));
        assert_eq!((0..3).map(|i| windows.is_partial(i, Nanos::MAX)).collect::<Vec<_>>(), [true, true, false]);
        let odd = Grid { stepping: Some(Span::parse("7m").unwrap()), ..grid };
        assert!(matches!(Windows::cut(range, odd, &TimeZone::UTC, 10), Err(WindowsError::Step { .. })));
    }

    #[test]
    fn earlier_windows_follow_the_calendar() {
        let lisbon = zone("Europe/Lisbon").unwrap();
        let range = TimeRange { start: at("2026-04-02T00:00:00+01:00"), end: at("2026-04-03T00:00:00+01:00") };
        let windows = Windows::cut(range, plain(Width::Of(Span::parse("1d").unwrap())), &lisbon, 10).unwrap();
        assert_eq!(windows.earlier(Span::parse("1w").unwrap(), &lisbon).bounds(), [at("2026-03-26T00:00:00Z"), at("2026-03-27T00:00:00Z")]);
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
            let windows = Windows::cut(range, plain(Width::Of(Span::parse(width).unwrap())), &zone(name).unwrap(), 1_000_000).unwrap();
            let bounds = windows.bounds();
            prop_assert!(bounds.windows(2).all(|pair| pair[0] < pair[1]));
            prop_assert!(bounds[0] <= range.start && bounds[1] > range.start);
            prop_assert!(bounds[bounds.len() - 1] >= range.end && bounds[bounds.len() - 2] < range.end);
        }
    }
}
