//! A metric that is kept for less long than its dataset loses its oldest points whole: no query sees half of it, a kill in the middle loses nothing, and
//! their rollups stay, also when the limit is raised again.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

mod support;

use fenetre_core::{
    answer::Lines,
    evaluate::{End, Source, evaluate},
    keeping::{ByteSize, LimitSettings, Scope},
    model::{DatasetId, PointRef, PointSink, RollupLevel, RollupPolicy, Value, ValueRef},
    plan::{Limits, plan},
    query::{Frame, parse},
    time::{Nanos, SECOND, Span, TimeRange},
};
use fenetre_store::{Store, StoreSource};
use support::{columns, copy, open, series};

const HOUR: Nanos = 3_600 * SECOND;
const DAY: Nanos = 24 * HOUR;
const DAYS: i64 = 40;

/// The midnight before now, since points that are older than is kept are seen by the clock on the wall.
fn midnight() -> Nanos {
    std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap().as_nanos() as Nanos / DAY * DAY
}

/// Forty days of two metrics, a point an hour each.
fn fill(store: &Store, now: Nanos) {
    let mut batch = store.begin("main").unwrap();
    for hour in 0..DAYS * 24 {
        for metric in ["flow", "level"] {
            let (time, value) = (now - DAYS * DAY + hour * HOUR, ValueRef::Number((hour % 7) as f64));
            batch.accept(PointRef { metric, tags: &[("lock", metric)], time, value }).unwrap();
        }
    }
    store.write(batch).unwrap();
    store.pack().unwrap();
}

fn main(store: &Store) -> DatasetId {
    store.with_catalogue(|catalogue| catalogue.dataset("main").unwrap().id)
}

fn flow(store: &Store) -> Scope {
    let metric = store.with_catalogue(|catalogue| catalogue.dataset("main").unwrap().metric("flow").unwrap().id);
    Scope::Metric(main(store), metric)
}

fn days(days: u32) -> LimitSettings {
    LimitSettings { keep_for: Some(Some(Span { days, ..Span::default() })), keep_under: None }
}

fn seen(source: &StoreSource<'_>, store: &Store, metric: &str) -> usize {
    let (dataset, series) = series(store, "lock", metric).unwrap();
    let found = columns(source, (dataset, series), TimeRange::ALL).unwrap();
    let first = source.outermost(dataset, &[series], TimeRange::ALL, End::Earliest).unwrap()[0];
    assert_eq!(first.map(|sample| sample.time), found.times.first().copied());
    found.len()
}

fn points(store: &Store, metric: &str) -> usize {
    seen(&store.source(), store, metric)
}

const ALL: usize = DAYS as usize * 24;
const LEFT: usize = 10 * 24;

#[test]
fn no_query_sees_half_of_a_trim_and_a_kill_meanwhile_loses_nothing() {
    let (folder, copied) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    let store = open(folder.path());
    let now = midnight();
    fill(&store, now);
    store.retention().set_limits(flow(&store), days(10), now).unwrap();
    {
        let before = store.source();
        // Waits for the query for a while, then leaves the points for the next time.
        store.retention().expire(now).unwrap();
        assert_eq!(seen(&before, &store, "flow"), ALL, "who asked before sees all of it");
        assert_eq!(points(&store, "flow"), LEFT, "who asks now sees none of it");
        assert!(store.bin().list().unwrap().is_empty(), "nothing was moved yet");
        // As a kill at this moment would leave it: noted, not moved.
        copy(folder.path(), copied.path());
    }
    store.retention().expire(now).unwrap();
    drop(store);
    for place in [folder.path(), copied.path()] {
        let store = open(place);
        assert_eq!((points(&store, "flow"), points(&store, "level")), (LEFT, ALL));
        store.retention().expire(now).unwrap();
        let bin = store.bin().list().unwrap();
        assert_eq!(bin.iter().map(|item| item.points.unwrap().points).collect::<Vec<_>>(), [(ALL - LEFT) as u64]);
        assert!(store.retention().expire(now).unwrap().steps.is_empty(), "once is enough");
        // It comes back whole, when it would not go again at once.
        let message = store.bin().expires_again(&bin[0].id, now).unwrap().unwrap();
        assert!(message.contains("`flow` is kept for less long") && message.contains("fenetre retention set main::flow"), "{message}");
        store.retention().set_limits(flow(&store), LimitSettings::default(), now).unwrap();
        assert_eq!(store.bin().expires_again(&bin[0].id, now).unwrap(), None);
        assert_eq!(points(&store, "flow"), LEFT);
        store.bin().restore(&bin[0].id, None).unwrap();
        assert_eq!(points(&store, "flow"), ALL);
        drop(store);
        assert_eq!(points(&open(place), "flow"), ALL);
    }
}

fn by_day(store: &Store, now: Nanos, from: &str) -> (Vec<Option<Value>>, Vec<String>) {
    let query = parse(&format!("show sum of flow over now - 39d to now per 1d{from}")).unwrap();
    let planned = store.with_catalogue(|catalogue| plan(&query, &Frame::default(), catalogue, "main", now, &Limits::default())).unwrap();
    let answer = evaluate(planned, &store.source(), &|| false).unwrap();
    let Lines::Windows(lines) = &answer.shows[0].lines else { unreachable!() };
    (lines[0].values.clone(), answer.notes)
}

#[test]
fn windows_of_trimmed_points_stay_after_raising_the_limit() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    let now = midnight();
    fill(&store, now);
    let levels = vec![RollupLevel { width: Span::parse("1d").unwrap(), keep_for: None }];
    let policy = RollupPolicy { metrics: vec![], condition: None, zone: None, levels, lateness: Span::exact(SECOND) };
    store.rollups().put("main", "all", &policy).unwrap();
    store.rollups().run(main(&store), now).unwrap();
    let (before, _) = by_day(&store, now, "");
    store.retention().set_limits(flow(&store), days(10), now).unwrap();
    store.retention().expire(now).unwrap();
    store.retention().set_limits(flow(&store), days(400), now).unwrap();
    // All windows of the metric are looked at again: those whose points have gone are not made of nothing.
    let mut definition = store.with_catalogue(|catalogue| catalogue.dataset("main").unwrap().metric("flow").unwrap().definition.clone());
    definition.stale_after = Some(Span::exact(77 * 60 * SECOND));
    store.definitions().put_metric("main", "flow", definition).unwrap();
    store.rollups().run(main(&store), now).unwrap();
    assert_eq!(by_day(&store, now, ""), (before.clone(), vec![]));
    let (raw, notes) = by_day(&store, now, " from raw");
    assert!(raw[..28].iter().all(Option::is_none) && raw[30].is_some(), "{raw:?}");
    assert!(notes[0].contains("no longer kept"), "{notes:?}");
    // Back again, they are what windows are made of.
    let id = store.bin().list().unwrap()[0].id.clone();
    store.bin().restore(&id, None).unwrap();
    store.rollups().run(main(&store), now).unwrap();
    assert_eq!(by_day(&store, now, " from raw"), (before, vec![]));
}

#[test]
fn past_a_metric_size_its_oldest_points_are_erased() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    let now = midnight();
    fill(&store, now);
    let bytes = store.inspect().metrics().unwrap().iter().find(|size| size.metric.as_deref() == Some("flow")).unwrap().bytes;
    store.retention().set_limits(flow(&store), LimitSettings { keep_for: None, keep_under: Some(Some(ByteSize(bytes / 2))) }, now).unwrap();
    store.retention().expire(now).unwrap();
    let left = points(&store, "flow");
    assert!(left < ALL && left > ALL / 4, "{left}");
    assert_eq!((store.bin().list().unwrap().len(), points(&store, "level")), (0, ALL));
    // That they are gone is known after the limit is lifted, and after a restart.
    store.retention().set_limits(flow(&store), LimitSettings::default(), now).unwrap();
    drop(store);
    let store = open(folder.path());
    assert!(by_day(&store, now, "").1[0].contains("no longer kept"));
    assert_eq!(points(&store, "flow"), left);
}

#[test]
fn points_that_arrive_for_trimmed_time_are_visible() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    let now = midnight();
    fill(&store, now);
    let bytes = store.inspect().metrics().unwrap().iter().find(|size| size.metric.as_deref() == Some("flow")).unwrap().bytes;
    // By size, nothing is too old to come; by age, once the limit was raised.
    for limit in [LimitSettings { keep_for: None, keep_under: Some(Some(ByteSize(bytes / 2))) }, days(10)] {
        store.retention().set_limits(flow(&store), limit, now).unwrap();
        store.retention().expire(now).unwrap();
    }
    store.retention().set_limits(flow(&store), LimitSettings::default(), now).unwrap();
    let left = points(&store, "flow");
    let mut batch = store.begin("main").unwrap();
    let time = now - 30 * DAY + 1;
    batch.accept(PointRef { metric: "flow", tags: &[("lock", "flow")], time, value: ValueRef::Number(7.0) }).unwrap();
    store.write(batch).unwrap();
    assert_eq!(points(&store, "flow"), left + 1, "in memory");
    store.pack().unwrap();
    assert_eq!(points(&store, "flow"), left + 1, "packed");
    drop(store);
    let store = open(folder.path());
    assert_eq!(points(&store, "flow"), left + 1, "after a restart");
    let (sums, notes) = by_day(&store, now, " from raw");
    assert_eq!(sums[9], Some(Value::Number(7.0)), "{sums:?}");
    assert!(notes[0].contains("no longer kept"), "{notes:?}");
}

#[test]
fn an_interrupted_trim_completes_after_the_limit_is_lifted() {
    let (folder, copied) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    let store = open(folder.path());
    let now = midnight();
    fill(&store, now);
    store.retention().set_limits(flow(&store), days(10), now).unwrap();
    {
        let _asks = store.source();
        store.retention().expire(now).unwrap();
        copy(folder.path(), copied.path());
    }
    drop(store);
    let store = open(copied.path());
    store.retention().set_limits(flow(&store), LimitSettings::default(), now).unwrap();
    assert_eq!(points(&store, "flow"), LEFT, "noted, so no query sees them");
    store.retention().expire(now).unwrap();
    let bin = store.bin().list().unwrap();
    assert_eq!(bin[0].points.unwrap().points, (ALL - LEFT) as u64);
    store.bin().restore(&bin[0].id, None).unwrap();
    assert_eq!(points(&store, "flow"), ALL);
}
