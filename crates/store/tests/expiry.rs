//! What must go goes whole, is seen by nobody half gone, and comes back as it was; also where the store ends in the middle of it.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

mod support;

use std::fs;

use fenetre_core::{
    keeping::{ByteSize, LimitSettings, Reserve, Scope, Step},
    model::{DatasetId, PointRef, PointSink, ValueRef},
    time::{Nanos, SECOND, Span, TimeRange},
};
use fenetre_store::{BinItemKind, Options, Store, StoreError};
use support::{open, quiet, read, read_from, try_open, write};

const DAY: Nanos = 86_400 * SECOND;
const WEEK: Nanos = 7 * DAY;
/// The middle of a week.
const NOW: Nanos = 2_960 * WEEK + 3 * DAY;

/// Six weeks with a point an hour of two locks.
fn fill(store: &Store) {
    let points: Vec<(u8, Nanos, f64)> =
        (0..6 * 7 * 24).flat_map(|hour| [(0, NOW - hour * 3_600 * SECOND, hour as f64), (1, NOW - hour * 3_600 * SECOND, 7.0)]).collect();
    write(store, &points);
    store.pack().unwrap();
}

fn days(days: u32) -> LimitSettings {
    LimitSettings { keep_for: Some(Some(Span { days, ..Span::default() })), keep_under: None }
}

fn main(store: &Store) -> DatasetId {
    store.with_catalogue(|catalogue| catalogue.dataset("main").unwrap().id)
}

fn all(store: &Store, lock: u8) -> usize {
    read(store, lock, TimeRange::ALL).len()
}

#[test]
fn expired_partitions_are_binned_and_restored_whole() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    fill(&store);
    let before = read(&store, 0, TimeRange::ALL);
    store.retention().set_limits(Scope::Dataset(main(&store)), days(14), NOW).unwrap();
    let plan = store.retention().plan(&store.retention().policies(), NOW).unwrap();
    assert_eq!(plan.steps.len(), 4, "{plan:?}");
    assert_eq!(all(&store, 0), before.len(), "a plan changes nothing");
    assert_eq!(store.retention().expire(NOW).unwrap(), plan);
    // Whole weeks: two days more than a fortnight are left, and nothing younger has gone.
    let left = read(&store, 0, TimeRange::ALL);
    assert_eq!(left, before.iter().copied().filter(|(at, _)| *at >= 2_958 * WEEK).collect::<Vec<_>>());
    assert!(store.retention().expire(NOW).unwrap().steps.is_empty());
    let bin = store.bin().list().unwrap();
    assert_eq!(bin.iter().map(|item| (item.kind, item.points.unwrap().points)).filter(|item| item.0 == BinItemKind::Partition).count(), 4);
    assert!(store.bin().expires_again(&bin[0].id, NOW).unwrap().unwrap().contains("keeps 14d"));
    store.retention().set_limits(Scope::Dataset(main(&store)), LimitSettings::default(), NOW).unwrap();
    assert_eq!(store.bin().expires_again(&bin[0].id, NOW).unwrap(), None);
    // One of them into a span where points came meanwhile: what came later counts.
    write(&store, &[(0, bin[0].points.unwrap().span.unwrap().0, -1.0)]);
    store.pack().unwrap();
    for item in &bin {
        store.bin().restore(&item.id, None).unwrap();
    }
    let mut wanted = before;
    wanted[0].1 = -1.0;
    assert_eq!(read(&store, 0, TimeRange::ALL), wanted);
    assert!(store.bin().list().unwrap().is_empty());
    drop(store);
    assert_eq!(read(&open(folder.path()), 0, TimeRange::ALL), wanted);
}

#[test]
fn a_running_query_still_sees_dropped_points_and_a_kill_loses_nothing() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    fill(&store);
    let count = all(&store, 0);
    store.retention().set_limits(Scope::Store, days(14), NOW).unwrap();
    let copy = tempfile::tempdir().unwrap();
    {
        let source = store.source();
        // Waits for the query for a while, then leaves the files for the next time.
        store.retention().expire(NOW).unwrap();
        assert_eq!(read_from(&source, &store, 0, TimeRange::ALL).len(), count);
        assert!(all(&store, 0) < count, "who asks now sees none of it");
        // As a kill at this moment would leave it: recorded, not moved.
        support::copy(folder.path(), copy.path());
        let id = store.bin().list().unwrap()[0].id.clone();
        assert!(matches!(store.bin().restore(&id, None), Err(StoreError::Definition(text)) if text.contains("still being read")));
    }
    let left = all(&store, 0);
    store.retention().expire(NOW).unwrap();
    assert_eq!(
        fs::read_dir(folder.path().join("data/main"))
            .unwrap()
            .filter(|entry| entry.as_ref().unwrap().path().extension().is_some_and(|end| end == "db"))
            .count(),
        3
    );
    let opened = open(copy.path());
    assert_eq!(all(&opened, 0), left);
    opened.retention().set_limits(Scope::Store, LimitSettings::default(), NOW).unwrap();
    for item in opened.bin().list().unwrap() {
        opened.bin().restore(&item.id, None).unwrap();
    }
    assert_eq!(all(&opened, 0), count);
}

#[test]
fn a_metric_limit_trims_only_its_points() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    fill(&store);
    let mut batch = store.begin("main").unwrap();
    for hour in 0..6 * 7 * 24 {
        batch
            .accept(PointRef { metric: "flow", tags: &[("lock", "flow")], time: NOW - hour * 3_600 * SECOND, value: ValueRef::Number(1.0) })
            .unwrap();
    }
    store.write(batch).unwrap();
    store.pack().unwrap();
    let metric = store.with_catalogue(|catalogue| catalogue.dataset("main").unwrap().metric("flow").unwrap().id);
    let levels = all(&store, 0);
    store.retention().set_limits(Scope::Metric(main(&store), metric), days(10), NOW).unwrap();
    let plan = store.retention().expire(NOW).unwrap();
    assert!(matches!(plan.steps[..], [Step::Trim { .. }]), "{plan:?}");
    let flow = || {
        let series = support::series(&store, "lock", "flow").unwrap();
        support::columns(&store.source(), series, TimeRange::ALL).unwrap().times
    };
    assert_eq!(flow()[0], NOW - 10 * DAY, "to the day");
    assert_eq!(all(&store, 0), levels);
    assert!(store.retention().expire(NOW).unwrap().steps.is_empty());
    let item = store.bin().list().unwrap().remove(0);
    assert_eq!(item.kind, BinItemKind::Points);
    store.retention().set_limits(Scope::Metric(main(&store), metric), LimitSettings::default(), NOW).unwrap();
    store.bin().restore(&item.id, None).unwrap();
    assert_eq!(flow().len(), 6 * 7 * 24);
}

#[test]
fn past_a_size_the_oldest_partitions_are_erased() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    fill(&store);
    let bytes = store.inspect().report(NOW).unwrap().datasets[0].partitions.iter().map(|partition| partition.bytes).sum::<u64>();
    let stated = LimitSettings { keep_for: None, keep_under: Some(Some(ByteSize(bytes / 2))) };
    store.retention().set_limits(Scope::Dataset(main(&store)), stated, NOW).unwrap();
    let killed = tempfile::tempdir().unwrap();
    {
        let _somebody_asks = store.source();
        store.retention().expire(NOW).unwrap();
        // As a kill at this moment would leave it: recorded, not removed.
        support::copy(folder.path(), killed.path());
    }
    store.retention().expire(NOW).unwrap();
    let left = all(&store, 0);
    drop(store);
    for place in [folder.path(), killed.path()] {
        let store = open(place);
        let held = store.inspect().report(NOW).unwrap();
        assert!(held.datasets[0].partitions.iter().map(|partition| partition.bytes).sum::<u64>() <= bytes / 2);
        assert_eq!((held.bin_bytes, store.bin().list().unwrap().len(), all(&store, 0)), (0, 0, left));
        assert!(!held.datasets[0].partitions.is_empty());
        let files =
            fs::read_dir(place.join("data/main")).unwrap().filter(|entry| entry.as_ref().unwrap().path().extension().is_some_and(|end| end == "db"));
        assert_eq!(files.count(), held.datasets[0].partitions.len(), "no file is left behind");
    }
}

#[test]
fn points_past_retention_are_refused_with_a_remedy() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    fill(&store);
    store.retention().set_limits(Scope::Dataset(main(&store)), days(14), NOW).unwrap();
    let mut batch = store.begin("main").unwrap();
    batch.refuse_before(store.retention().horizons(main(&store), NOW));
    let at = |time: Nanos| PointRef { metric: "level", tags: &[("lock", "lock-0")], time, value: ValueRef::Number(1.0) };
    let refusal = batch.accept(at(NOW - 15 * DAY)).unwrap_err();
    assert!(refusal.reason.contains("is before the retention limit") && refusal.reason.contains("fenetre retention set"), "{refusal:?}");
    batch.accept(at(NOW - 13 * DAY)).unwrap();
}

#[test]
fn below_the_reserve_points_are_refused_and_nothing_is_dropped_in_vain() {
    let folder = tempfile::tempdir().unwrap();
    let more_than_there_is = Reserve::Bytes(ByteSize(1 << 59));
    {
        let store = open(folder.path());
        fill(&store);
    }
    let store = try_open(folder.path(), Options { reserve: Some(more_than_there_is), ..quiet() }).unwrap();
    let plan = store.retention().expire(NOW).unwrap();
    assert!(plan.is_full && plan.steps.is_empty());
    let mut batch = store.begin("main").unwrap();
    batch.accept(PointRef { metric: "level", tags: &[("lock", "lock-0")], time: NOW, value: ValueRef::Number(1.0) }).unwrap();
    let refused = store.write(batch).unwrap_err();
    assert!(matches!(refused, StoreError::Reserve { .. }), "{refused}");
}

#[test]
fn sizes_add_up_and_every_block_is_verified() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    fill(&store);
    let report = store.inspect().report(NOW).unwrap();
    let files: u64 = report.datasets[0].partitions.iter().map(|partition| partition.bytes).sum();
    let sizes = store.inspect().metrics().unwrap();
    let all: u64 = sizes.iter().map(|size| size.bytes).sum();
    assert!(all <= files && all + 100 > files, "{all} of {files}");
    assert_eq!(sizes[0].points, 2 * 6 * 7 * 24);
    let growth = report.datasets[0].growth;
    assert!((growth.points_a_day - 48.0).abs() < 1.0, "{growth:?}");
    assert_eq!(report.datasets[0].written[0].0, 2 * 6 * 7 * 24);
    for partition in &report.datasets[0].partitions {
        let file = partition.path.strip_prefix(folder.path()).unwrap().to_str().unwrap();
        let found = store.inspect().verify(file).unwrap();
        assert_eq!((found.points, found.faulty), (partition.points, 0), "{:?}", found.faults);
    }
    // A summary that is not that of its points.
    let partition = &report.datasets[0].partitions[2];
    drop(store);
    let connection = rusqlite::Connection::open(&partition.path).unwrap();
    let other: Vec<u8> = connection.query_row("SELECT summary FROM block ORDER BY id DESC LIMIT 1", [], |row| row.get(0)).unwrap();
    connection.execute("UPDATE block SET summary = ?1 WHERE id = (SELECT min(id) FROM block)", [other]).unwrap();
    drop(connection);
    let store = open(folder.path());
    let found = store.inspect().verify(partition.path.strip_prefix(folder.path()).unwrap().to_str().unwrap()).unwrap();
    assert_eq!(found.faulty, 1, "{:?}", found.faults);
    assert!(found.faults[0].contains("its summary is not that of its points"));
}
