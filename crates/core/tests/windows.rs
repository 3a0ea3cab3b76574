//! The laws of windows, in any zone and over both clock changes: cells tile the range without overlap, shifts keep their hours of the wall,
//! windows that step are made of whole cells, and the same windows earlier are as many.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

use fenetre_core::time::{Grid, LocalTime, Nanos, SECOND, Span, TimeRange, Width, Windows, zone, zoned};
use jiff::tz::TimeZone;
use proptest::prelude::*;

const ZONES: [&str; 6] = ["UTC", "Europe/Lisbon", "America/St_Johns", "Pacific/Chatham", "Africa/Cairo", "Australia/Lord_Howe"];

fn a_range() -> impl Strategy<Value = TimeRange> {
    (1_740_000_000i64..1_790_000_000, 60i64..3_000_000)
        .prop_map(|(start, length)| TimeRange { start: start * SECOND, end: (start + length) * SECOND })
}

fn a_zone() -> impl Strategy<Value = TimeZone> {
    prop::sample::select(ZONES.to_vec()).prop_map(|name| zone(name).unwrap())
}

fn tiles(windows: &Windows, range: TimeRange) -> Result<(), TestCaseError> {
    let bounds = windows.bounds();
    prop_assert!(bounds.windows(2).all(|pair| pair[0] < pair[1]), "ascending");
    prop_assert!(bounds[0] <= range.start && bounds[bounds.len() - 1] >= range.end, "they cover the range");
    prop_assert!(windows.end(0) > range.start && windows.start(windows.len() - 1) < range.end, "and none lies outside");
    Ok(())
}

fn span(text: &str) -> Span {
    Span::parse(text).unwrap()
}

proptest! {
    #[test]
    fn shifts_begin_at_local_hours(range in a_range(), tz in a_zone(), width in prop::sample::select(vec!["1h", "6h", "8h", "12h", "1d"]), start in 0u16..24, half in any::<bool>()) {
        let clock = format!("{start:02}:{}", if half { "30" } else { "00" });
        let grid = Grid { width: Width::Of(span(width)), stepping: None, starting: LocalTime::parse(&clock) };
        let windows = Windows::cut(range, grid, &tz, 100_000).unwrap();
        tiles(&windows, range)?;
        let minutes = |at: Nanos| {
            let time = zoned(at, &tz).time();
            i64::from(time.hour()) * 60 + i64::from(time.minute())
        };
        let each = if width == "1d" { 1_440 } else { span(width).nanos / SECOND / 60 };
        let wanted = (i64::from(start) * 60 + if half { 30 } else { 0 }) % each;
        // A time of the wall that a change leaves out gives way to the one after it: at most once in a change, by at most an hour.
        let odd = windows.bounds().iter().filter(|at| minutes(**at) % each != wanted).count();
        let changes = 1 + windows.bounds().windows(2).filter(|pair| tz.to_offset(zoned(pair[0], &tz).timestamp()) != tz.to_offset(zoned(pair[1], &tz).timestamp())).count();
        prop_assert!(odd <= changes, "{} odd borders over {} changes", odd, changes);
    }

    #[test]
    fn stepping_windows_are_made_of_whole_cells(range in a_range(), tz in a_zone(), pair in prop::sample::select(vec![("1h", "10m"), ("30m", "30m"), ("6h", "1h"), ("1w", "1d"), ("3mo", "1mo")])) {
        let (width, step) = (span(pair.0), span(pair.1));
        let grid = Grid { width: Width::Of(width), stepping: Some(step), starting: None };
        let windows = Windows::cut(range, grid, &tz, 100_000).unwrap();
        let plain = Windows::cut(range, Grid { width: Width::Of(step), stepping: None, starting: None }, &tz, 100_000).unwrap();
        tiles(&windows, range)?;
        // One window ends with each step that meets the range.
        prop_assert_eq!(windows.len(), plain.len());
        for at in 0..windows.len() {
            prop_assert_eq!(windows.end(at), plain.end(at));
            prop_assert!(windows.start(at) < windows.end(at));
            prop_assert_eq!(windows.is_partial(at, Nanos::MAX), windows.start(at) < range.start || windows.end(at) > range.end);
        }
    }

    #[test]
    fn earlier_windows_match_in_number_and_order(range in a_range(), tz in a_zone(), width in prop::sample::select(vec!["20m", "1h", "1d"]), back in prop::sample::select(vec!["1h", "1d", "1w", "1mo", "1y"])) {
        let windows = Windows::cut(range, Grid { width: Width::Of(span(width)), stepping: None, starting: None }, &tz, 100_000).unwrap();
        let earlier = windows.earlier(span(back), &tz);
        prop_assert_eq!(earlier.len(), windows.len());
        prop_assert!(earlier.bounds().windows(2).all(|pair| pair[0] <= pair[1]));
        prop_assert!(earlier.bounds().iter().zip(windows.bounds()).all(|(then, now)| then < now));
        let inside = earlier.range();
        prop_assert!(earlier.bounds()[0] <= inside.start && inside.end <= earlier.bounds()[earlier.len()]);
        if span(back).is_calendar() && width == "1d" {
            // A day stays a day, however many hours it has. A day that begins with the change may begin an hour after midnight.
            let midnights = earlier.bounds().iter().filter(|at| zoned(**at, &tz).time() == jiff::civil::Time::midnight()).count();
            prop_assert!(midnights + 3 >= earlier.bounds().len());
        }
    }

    #[test]
    fn the_elapsed_part_of_a_window_ends_now(range in a_range(), tz in a_zone(), part in 0.0f64..1.2) {
        let windows = Windows::cut(range, Grid { width: Width::Of(span("1h")), stepping: None, starting: None }, &tz, 100_000).unwrap();
        let now = range.start + ((range.end - range.start) as f64 * part) as i64;
        for at in 0..windows.len() {
            let passed = windows.passed(at, now);
            prop_assert!(passed.start >= windows.start(at) && passed.end <= windows.end(at).min(now));
            prop_assert!(passed.is_empty() || (passed.start >= range.start && passed.end <= range.end));
            prop_assert_eq!(windows.is_partial(at, now), windows.start(at) < range.start || windows.end(at) > range.end.min(now));
        }
    }
}

#[test]
fn invalid_windows_are_refused() {
    let range = TimeRange { start: 0, end: 86_400 * SECOND };
    let cut = |width: Width, stepping: Option<&str>, starting: Option<&str>| {
        let grid = Grid { width, stepping: stepping.map(span), starting: starting.and_then(LocalTime::parse) };
        Windows::cut(range, grid, &TimeZone::UTC, 100).map_or_else(|error| error.to_string(), |windows| format!("{} windows", windows.len()))
    };
    let rendered = [
        cut(Width::Of(span("1h")), None, None),
        cut(Width::Of(span("1m")), None, None),
        cut(Width::Of(span("1d1h")), None, None),
        cut(Width::Of(span("1h")), Some("7m"), None),
        cut(Width::Of(span("1d")), Some("1h"), None),
        cut(Width::Whole, Some("1h"), None),
        cut(Width::Whole, None, Some("06:00")),
        cut(Width::Of(span("7h")), None, Some("06:00")),
        cut(Width::Of(span("90s")), None, Some("06:00")),
        cut(Width::Of(span("8h")), Some("4h"), Some("06:00")),
    ];
    insta::assert_snapshot!(rendered.join("\n"));
    assert_eq!(
        ["06:00", "6:00", "24:00", "12:60", "noon"].map(|text| LocalTime::parse(text).map(|time| time.to_string())),
        [Some("06:00".into()), None, None, None, None]
    );
}
