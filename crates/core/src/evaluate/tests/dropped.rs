//! What answers say of time whose points were dropped: nothing is joined, held or drawn across it, and what lacks something is marked.

use super::{super::*, NOW, memory::Memory, memory::RolledUp};
use crate::{
    catalogue::Catalogue,
    model::{DatasetDefinition, Kind, MetricDefinition, MetricId, MetricTraits, RollupLevel, RollupPolicy, Shape, Temporality, Value},
    plan::{Limits, plan},
    query::{Frame, parse},
    rollup::Rules,
    time::{Nanos, SECOND, Span, TimeRange, format_utc},
};

const MINUTE: Nanos = 60 * SECOND;
const HOUR: Nanos = 60 * MINUTE;

/// Noon of the day before.
fn noon() -> Nanos {
    NOW - NOW.rem_euclid(24 * HOUR) - 12 * HOUR
}

/// A counter that grows by one each ten minutes from 06:00 to 18:00, and a level beside it that is 100, and 200 from noon on. `dropped` are the
/// hours whose points are no longer kept; windows of an hour cover `covered`.
fn store(shape: Shape, dropped: &[(i64, i64)], covered: (i64, i64)) -> (Catalogue, Memory) {
    let (mut catalogue, mut memory) = (Catalogue::default(), Memory::default());
    catalogue.put_dataset(DatasetId(1), "velmar", "velmar", DatasetDefinition::default());
    let dataset = catalogue.dataset_mut("velmar").unwrap();
    dataset.put_metric(MetricId(1), "boats", MetricDefinition { kind: Kind::Counter, ..MetricDefinition::default() });
    dataset.put_metric(MetricId(2), "level", MetricDefinition { shape, ..MetricDefinition::default() });
    dataset.put_series(SeriesId(1), "boats", [("lock", "osier")].into_iter(), None);
    dataset.put_series(SeriesId(2), "level", [("lock", "osier")].into_iter(), None);
    if covered.0 < covered.1 {
        let levels = vec![RollupLevel { width: Span::exact(HOUR), keep_for: None }];
        let policy = RollupPolicy { metrics: vec![], condition: None, zone: None, levels, lateness: Span::exact(SECOND) };
        dataset.rollups.insert("all".to_owned(), policy);
    }
    let hours = |(from, to): &(i64, i64)| TimeRange { start: noon() + (from - 12) * HOUR, end: noon() + (to - 12) * HOUR };
    let dropped: Vec<TimeRange> = dropped.iter().map(hours).collect();
    let (mut boats, mut level) = (Columns::default(), Columns::default());
    for step in 0..72 {
        let time = noon() - 6 * HOUR + step * 10 * MINUTE;
        boats.push(time, step as f64, 0);
        level.push(time, if time < noon() { 100.0 } else { 200.0 }, 0);
    }
    let all = [(SeriesId(1), boats), (SeriesId(2), level)];
    for (id, columns) in &all {
        let mut kept = Columns::default();
        for at in (0..columns.len()).filter(|at| !dropped.iter().any(|range| range.contains(columns.times[*at]))) {
            kept.push(columns.times[at], columns.values[at], 0);
        }
        memory.runs.insert(*id, vec![(true, kept)]);
    }
    memory.counters.push(SeriesId(1));
    let kind = Kind::Counter;
    let facts = MetricTraits { metric: "".into(), kind, shape, temporality: Temporality::Cumulative, stale_after: None, interval: None };
    let points = all.into_iter().collect();
    memory.rolled = Some(RolledUp { range: hours(&covered), rules: Rules::of(&facts, false), points, dropped, dirty: vec![] });
    (catalogue, memory)
}

/// The values of the only line, those that lack something with a star, and the notes.
fn ask(store: &(Catalogue, Memory), show: &str, frame: &str) -> (String, String) {
    let text = format!("show {show} {}", frame.replace('@', &format_utc(noon())[..11]));
    let query = parse(&text).map_err(|error| error.render(&text)).unwrap();
    let planned = plan(&query, &Frame::default(), &store.0, "velmar", NOW, &Limits::default()).unwrap();
    let answer = evaluate(planned, &store.1, &|| false).unwrap();
    let values = match &answer.shows[0].lines {
        Lines::Windows(lines) | Lines::Moments(lines) => {
            let value = |(at, value): (usize, &Option<Value>)| {
                let star = if lines[0].partial.contains(&at) { "*" } else { "" };
                format!("{star}{}", value.as_ref().map_or("-".to_owned(), ToString::to_string))
            };
            lines[0].values.iter().enumerate().map(value).collect::<Vec<_>>().join(" ")
        }
        Lines::Points(lines) => lines.iter().map(|line| line.values.len().to_string()).collect(),
    };
    (values, answer.notes.join("\n").replace(&format_utc(noon())[..11], "@"))
}

#[test]
fn growth_is_not_joined_across_unanswered_time() {
    let store = store(Shape::Linear, &[(0, 24)], (0, 24));
    let (values, notes) = ask(&store, "growth of boats", "over @12:05:00Z to @16:00:00Z per 1h");
    assert_eq!(values, "*- 6 6 6");
    assert_eq!(notes, "growth of boats: points from @12:05:00Z to @13:00:00Z are no longer kept, and no rollup answers there");
    assert_eq!(ask(&store, "growth of boats", "over @12:00:00Z to @16:00:00Z per 1h"), ("6 6 6 6".to_owned(), String::new()));
}

#[test]
fn growth_after_uncovered_points_lacks_its_first_step() {
    let store = store(Shape::Linear, &[(0, 9)], (0, 0));
    let (values, notes) = ask(&store, "growth of boats", "over @07:00:00Z to @12:00:00Z per 1h");
    assert_eq!(values, "*- *- *5 6 6");
    assert_eq!(notes, "growth of boats: points from @07:00:00Z to @09:00:00Z are no longer kept, and no rollup answers there");
    // The range begins where the points do: the one before was dropped all the same.
    let (values, notes) = ask(&store, "growth of boats", "over @09:00:00Z to @11:00:00Z per 1h");
    assert_eq!(values, "*5 6");
    assert_eq!(notes, "growth of boats: points from @00:00:00Z to @09:00:00Z are no longer kept, and values beside them are partial");
}

#[test]
fn time_weighted_means_do_not_cross_a_gap() {
    let frame = "over @10:00:00Z to @14:00:00Z per 1h";
    // Points of 11:00 to 13:00 were dropped: between them the level rose.
    let linear = store(Shape::Linear, &[(11, 13)], (0, 0));
    assert_eq!(ask(&linear, "time_mean of level", frame).0, "*100 *- *- 200");
    assert_eq!(ask(&linear, "area of level", frame).0, "*300000 *- *- 720000");
    let stepped = store(Shape::Stepped, &[(11, 13)], (0, 0));
    assert_eq!(ask(&stepped, "time_mean of level", frame).0, "100 *- *- 200");
    // A first point some time after the hole: what was held until it came is not known.
    assert_eq!(ask(&stepped, "area of level", "over @12:55:00Z to @14:00:00Z per 1h").0, "*- 720000");
}

#[test]
fn windows_keep_points_beside_a_gap_at_the_range_border() {
    let store = store(Shape::Linear, &[(0, 24)], (0, 24));
    // The last point before 13:00 and the first after 15:00 are in the windows of the hours that the range cuts.
    assert_eq!(ask(&store, "time_mean of level", "over @12:30:00Z to @15:30:00Z per 1h").0, "*- 200 200 *-");
    assert_eq!(ask(&store, "growth of boats", "over @12:30:00Z to @15:30:00Z per 1h").0, "*- 6 6 *-");
}

#[test]
fn a_forced_level_reads_only_its_own_windows() {
    let store = store(Shape::Linear, &[], (0, 14));
    let (values, notes) = ask(&store, "growth of boats", "over @12:05:00Z to @16:00:00Z per 1h from 1h");
    assert_eq!(values, "*- 6 *- *-");
    assert_eq!(notes, "growth of boats: the 1h rollup answers from @13:00:00Z to @14:00:00Z; the rest of the range was not read");
    let (values, notes) = ask(&store, "mean of level", "over @15:00:00Z to @16:00:00Z per 1h from 1h");
    assert_eq!((values.as_str(), notes.as_str()), ("*-", "mean of level: the 1h rollup has no window in this range, so nothing was read"));
}

#[test]
fn empty_windows_are_not_filled_across_a_hole() {
    let store = store(Shape::Linear, &[(11, 13)], (0, 0));
    for gaps in ["hold", "line", "0"] {
        let (values, _) = ask(&store, "mean of level", &format!("over @10:00:00Z to @15:00:00Z per 30m gaps {gaps}"));
        assert_eq!(values, "100 100 *- *- *- *- 200 200 200 200", "{gaps}");
    }
}

#[test]
fn results_of_partial_windows_are_partial() {
    let store = store(Shape::Linear, &[(11, 13)], (0, 0));
    let frame = "over @10:00:00Z to @17:00:00Z per 1h";
    assert_eq!(ask(&store, "running(count of level)", frame).0, "6 *- *- *12 *18 *24 *30");
    assert_eq!(ask(&store, "smooth(count of level, 2)", frame).0, "6 *- *- *6 6 6 6");
    assert_eq!(ask(&store, "change(count of level)", frame).0, "- *- *- *- 0 0 0");
    assert_eq!(ask(&store, "count of level + count of boats", frame).0, "12 *- *- 12 12 12 12");
    assert_eq!(ask(&store, "max of (count of level) overall", frame).0, "6 *- *- 6 6 6 6");
    assert_eq!(ask(&store, "count of level 4h earlier", "over @14:00:00Z to @18:00:00Z per 1h").0, "6 *- *- 6");
}

#[test]
fn a_moment_does_not_look_past_dropped_points() {
    let linear = store(Shape::Linear, &[(11, 13)], (0, 0));
    let dropped = |count: &str| format!("level: {count} no value at that instant: points from @11:00:00Z to @13:00:00Z are no longer kept");
    for taking in ["natural", "before", "after", "nearest", "line", "exact"] {
        let (value, notes) = ask(&linear, "level", &format!("at @12:00:00Z taking {taking}"));
        assert_eq!((value.as_str(), notes), ("*-", dropped("1 series has")), "{taking}");
    }
    // Just before the hole: what the point after it would be is not known, nor is it needed by the others.
    for (taking, value) in [("natural", "*-"), ("before", "100"), ("after", "*-"), ("nearest", "100"), ("line", "*-"), ("exact", "-")] {
        assert_eq!(ask(&linear, "level", &format!("at @10:52:00Z taking {taking}")).0, value, "{taking}");
    }
    // A point at the moment itself answers; what is nearer than the hole too.
    assert_eq!(ask(&linear, "level", "at @10:50:00Z"), ("100".to_owned(), String::new()));
    assert_eq!(ask(&linear, "level", "at @13:01:00Z taking nearest").0, "200");
    assert_eq!(ask(&linear, "level", "at @13:09:00Z").0, "200");
    let stepped = store(Shape::Stepped, &[(0, 13)], (0, 0));
    assert_eq!(ask(&stepped, "level", "at @12:59:00Z taking after").0, "*-");
}

#[test]
fn expired_points_are_noted() {
    let store = store(Shape::Linear, &[(0, 13)], (0, 24));
    let (points, notes) = ask(&store, "points of level", "over @12:00:00Z to @14:00:00Z");
    assert_eq!(
        (points.as_str(), notes.as_str()),
        ("6", "level: points from @12:00:00Z to @13:00:00Z are no longer kept, and no rollup answers there")
    );
    assert_eq!(ask(&store, "points of level", "over @13:00:00Z to @14:00:00Z"), ("6".to_owned(), String::new()));
}
