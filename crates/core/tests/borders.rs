//! Laws of where the windows of levels lie, in any zone, and of which level answers for which part of a query's time.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

use fenetre_core::{
    rollup::{Answers, Covered, Level, segments},
    time::{Nanos, SECOND, Span, TimeRange, zone},
};
use proptest::prelude::*;

const HOUR: Nanos = 3_600 * SECOND;
const DAY: Nanos = 24 * HOUR;
/// Some day in 2025; the tests reach two years around it.
const MIDDLE: Nanos = 20_300 * DAY;

const ZONES: [&str; 5] = ["UTC", "Europe/Lisbon", "America/New_York", "Asia/Kolkata", "Pacific/Chatham"];
const WIDTHS: [&str; 8] = ["30s", "5m", "7m", "1h", "6h", "1d", "1w", "1mo"];

fn level(width: &str, tz: &str) -> Level {
    Level::new(Span::parse(width).unwrap(), zone(tz).unwrap()).unwrap()
}

fn a_level() -> impl Strategy<Value = Level> {
    (prop::sample::select(WIDTHS.to_vec()), prop::sample::select(ZONES.to_vec())).prop_map(|(width, tz)| level(width, tz))
}

fn an_instant() -> impl Strategy<Value = Nanos> {
    (-365 * DAY..365 * DAY).prop_map(|off| MIDDLE + off)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(600))]

    #[test]
    fn borders_hold_every_instant_between_two(level in a_level(), at in an_instant()) {
        let (floor, ceil) = (level.floor(at), level.ceil(at));
        prop_assert!(floor <= at && at < level.after(floor), "{} {} {}", floor, at, level.after(floor));
        prop_assert!(level.is_border(floor) && level.is_border(ceil) && level.is_border(level.after(floor)));
        prop_assert_eq!(ceil, if floor == at { at } else { level.after(floor) });
        // A day of a zone has 23 to 25 hours, and a month 28 to 31 days.
        let length = (level.after(floor) - floor) as f64 / level.nominal() as f64;
        prop_assert!((0.9..1.1).contains(&length), "{}", length);
    }

    #[test]
    fn bounds_tile_a_range_and_whole_windows_lie_inside(level in a_level(), start in an_instant(), hours in 1i64..400) {
        let range = TimeRange { start, end: start + hours * HOUR };
        let bounds = level.bounds(range);
        prop_assert!(bounds.windows(2).all(|pair| pair[1] == level.after(pair[0])));
        prop_assert!(bounds[0] <= range.start && range.end <= bounds[bounds.len() - 1]);
        let inside = level.inside(range);
        prop_assert!(inside.is_empty() || (range.start <= inside.start && inside.end <= range.end && level.is_border(inside.start) && level.is_border(inside.end)));
        // No window more would fit on either side.
        if !inside.is_empty() {
            prop_assert!(level.floor(inside.start - 1) < range.start && level.after(inside.end) > range.end);
        }
    }

    #[test]
    fn every_border_of_a_level_is_one_of_the_level_below(at in an_instant(), widths in prop::sample::subsequence(vec!["30s", "5m", "1h", "6h", "1d", "1mo"], 2..6), tz in prop::sample::select(ZONES.to_vec())) {
        let levels: Vec<Level> = widths.iter().map(|width| level(width, tz)).collect();
        for pair in levels.windows(2) {
            pair[1].check_above(&pair[0]).unwrap();
            let border = pair[1].floor(at);
            // Windows of some hours begin with the epoch's days: in a zone, the days of its calendar need not.
            let is_of_calendar = pair[1].nominal() >= DAY && pair[0].nominal() < DAY && tz != "UTC";
            prop_assert!(pair[0].is_border(border) || is_of_calendar, "{:?}", pair);
        }
    }

    #[test]
    fn segments_tile_the_range_at_exact_borders(
        start in 0i64..2_000, minutes in 1i64..4_000, step in prop::sample::select(vec![5i64, 7, 15, 60, 180, 1_440]),
        reach in prop::collection::vec((0i64..3_000, 0i64..4_000), 3), holes in prop::collection::vec((0i64..4_000, 1i64..900), 0..4), only_dropped in any::<bool>(),
    ) {
        let minute = |at: i64| MIDDLE + at * 60 * SECOND;
        let range = TimeRange { start: minute(start), end: minute(start + minutes) };
        let bounds: Vec<Nanos> = (0..).map(|at| minute(at * step)).skip_while(|at| *at <= range.start).take_while(|at| *at < range.end).collect();
        // The coarsest first; each stands for a stretch on its own borders.
        let levels: Vec<Covered> = ["6h", "1h", "5m"].iter().zip(&reach).map(|(width, (from, length))| {
            let level = level(width, "UTC");
            let range = level.inside(TimeRange { start: minute(*from), end: minute(from + length) });
            Covered { level, range }
        }).collect();
        let mut dropped: Vec<TimeRange> = holes.iter().map(|(from, length)| TimeRange { start: minute(*from), end: minute(from + length) }).collect();
        dropped.sort_by_key(|range| range.start);
        dropped.dedup_by(|next, range| next.start <= range.end && { range.end = range.end.max(next.end); true });
        let found = segments(range, &bounds, &levels, &dropped, only_dropped);
        prop_assert!(found.first().unwrap().range.start == range.start && found.last().unwrap().range.end == range.end);
        prop_assert!(found.windows(2).all(|pair| pair[0].range.end == pair[1].range.start && !pair[0].range.is_empty()));
        let answers = |level: &Covered, part: TimeRange| {
            let within = TimeRange { start: part.start.max(level.range.start), end: part.end.min(level.range.end) };
            let whole = if within.is_empty() { within } else { level.level.inside(within) };
            let inner: Vec<Nanos> = bounds.iter().copied().filter(|border| whole.start < *border && *border < whole.end).collect();
            (!within.is_empty() && !whole.is_empty() && inner.iter().all(|border| level.level.is_border(*border))).then_some(whole)
        };
        let overlaps = |part: TimeRange| dropped.iter().any(|hole| hole.start < part.end && part.start < hole.end);
        for part in &found {
            match part.answers {
                Answers::Level(at) => prop_assert_eq!(answers(&levels[at], part.range), Some(part.range), "what a level answers for, it answers whole"),
                Answers::Points => prop_assert!(!overlaps(part.range), "all of its points are kept"),
                Answers::Nothing => prop_assert!(dropped.iter().any(|hole| hole.start <= part.range.start && part.range.end <= hole.end)),
            }
        }
        // No level would do for what lies between two segments of levels.
        for stretch in found.chunk_by(|one, next| !matches!(one.answers, Answers::Level(_)) && !matches!(next.answers, Answers::Level(_))) {
            let (first, last) = (stretch[0], stretch[stretch.len() - 1]);
            let range = TimeRange { start: first.range.start, end: last.range.end };
            let is_answered = matches!(first.answers, Answers::Level(_));
            prop_assert!(is_answered || only_dropped || levels.iter().all(|level| answers(level, range).is_none()));
        }
    }
}
