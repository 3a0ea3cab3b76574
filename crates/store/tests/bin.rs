//! Deleting and the way back, replacements, and thinning: what a reader sees before and after, packed or not, over a restart.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

mod support;

use std::collections::BTreeMap;

use fenetre_core::{
    model::{Histogram, Kind, MetricDefinition, PointRef, PointSink, Thinning, ValueRef},
    time::{Nanos, SECOND, TimeRange},
};
use fenetre_store::{Selection, Store};
use proptest::prelude::*;
use support::{START, columns, open, series, write};

const WEEK: Nanos = 7 * 86_400 * SECOND;

fn points(store: &Store, lock: u8) -> BTreeMap<Nanos, f64> {
    let Some(found) = series(store, "lock", &format!("lock-{lock}")) else { return BTreeMap::new() };
    let columns = columns(&store.source(), found, TimeRange::ALL).unwrap();
    columns.times.into_iter().zip(columns.values).collect()
}

fn selection(store: &Store, locks: &[u8], range: TimeRange) -> Selection {
    let found: Vec<_> = locks.iter().filter_map(|lock| series(store, "lock", &format!("lock-{lock}"))).collect();
    Selection { dataset: found[0].0, series: found.into_iter().map(|(_, id)| id).collect(), range }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    #[test]
    fn a_deleted_span_is_restored_unchanged(
        batches in prop::collection::vec(prop::collection::vec((0u8..3, 0i64..60, 0f64..9.0), 1..30), 1..5), start in 0i64..60, length in 1i64..60, later in prop::collection::vec((0u8..3, 0i64..60, 10f64..19.0), 0..10),
    ) {
        let folder = tempfile::tempdir().unwrap();
        let store = open(folder.path());
        let at = |i: i64| START + i * WEEK / 20;
        let mut wanted: [BTreeMap<Nanos, f64>; 3] = Default::default();
        for batch in &batches {
            let batch: Vec<(u8, Nanos, f64)> = batch.iter().map(|(lock, i, value)| (*lock, at(*i), *value)).collect();
            write(&store, &batch);
            for (lock, time, value) in batch { wanted[lock as usize].insert(time, value); }
        }
        write(&store, &[(0, at(0), 0.5)]);
        wanted[0].insert(at(0), 0.5);
        let range = TimeRange { start: at(start), end: at(start + length) };
        let chosen = selection(&store, &[0, 1], range);
        let gone: u64 = wanted[..2].iter().map(|points| points.range(range.start..range.end).count() as u64).sum();
        prop_assert_eq!(store.bin().measure(&chosen).unwrap().points >= gone, true, "blocks may hold an instant twice until they are merged");
        let binned = store.bin().delete_points(&chosen, "some", 5_000_000).unwrap();
        let mut left = wanted.clone();
        for points in &mut left[..2] { points.retain(|at, _| !range.contains(*at)); }
        // What comes meanwhile counts, also after the others are back.
        write(&store, &later.iter().map(|(lock, i, value)| (*lock, at(*i), *value)).collect::<Vec<_>>());
        for (lock, i, value) in &later { left[*lock as usize].insert(at(*i), *value); wanted[*lock as usize].insert(at(*i), *value); }
        for lock in 0..3u8 { prop_assert_eq!(&points(&store, lock), &left[lock as usize]); }
        drop(store);
        let store = open(folder.path());
        prop_assert_eq!(store.bin().list().unwrap(), vec![binned.clone()]);
        store.bin().restore(&binned.id, None).unwrap();
        for lock in 0..3u8 { prop_assert_eq!(&points(&store, lock), &wanted[lock as usize]); }
        store.inspect().compact_all().unwrap();
        for lock in 0..3u8 { prop_assert_eq!(&points(&store, lock), &wanted[lock as usize]); }
        prop_assert!(store.bin().list().unwrap().is_empty() && store.bin().restore(&binned.id, None).is_err());
    }
}

#[test]
fn a_deleted_metric_can_be_restored_or_erased() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    write(&store, &[(1, START, 1.0), (2, START + 1, 2.0)]);
    store.bin().delete_metric("main", "level", 7).unwrap();
    assert!(store.bin().delete_metric("main", "level", 7).is_err());
    assert!(store.with_catalogue(|catalogue| catalogue.dataset("main").unwrap().metric("level").is_none()));
    // Another metric may have the name meanwhile.
    write(&store, &[(1, START, 9.0)]);
    let id = store.bin().list().unwrap()[0].id.clone();
    assert!(store.bin().restore(&id, None).unwrap_err().to_string().contains("another name"));
    store.bin().restore(&id, Some("old_level")).unwrap();
    drop(store);
    let store = open(folder.path());
    let names: Vec<(String, u64)> = store.with_catalogue(|catalogue| {
        catalogue.dataset("main").unwrap().metrics().map(|metric| (metric.name.to_string(), metric.series_count())).collect()
    });
    assert_eq!(names, [("level".to_owned(), 1), ("old_level".to_owned(), 2)]);
    store.bin().delete_metric("main", "old_level", 8).unwrap();
    store.bin().erase(&store.bin().list().unwrap()[0].id).unwrap();
    assert!(store.bin().list().unwrap().is_empty());
    let dataset = store.with_catalogue(|catalogue| catalogue.dataset("main").unwrap().id);
    assert_eq!(store.inspect().counts(dataset).unwrap().values().map(|count| count.points).sum::<u64>(), 1);
    let blocks: u64 =
        store.inspect().report(0).unwrap().datasets.iter().flat_map(|dataset| &dataset.partitions).map(|partition| partition.blocks).sum();
    assert_eq!(blocks, 1, "nothing of it is left on the disk");
}

#[test]
fn a_histogram_is_deleted_with_its_parts() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    let mut batch = store.begin("main").unwrap();
    for i in 0..3 {
        let histogram = Histogram { bounds: vec![1.0], counts: vec![i, 2], sum: 3.0 };
        batch
            .accept(PointRef { metric: "wait", tags: &[("lock", "lock-1")], time: START + i as i64, value: ValueRef::Histogram(&histogram) })
            .unwrap();
    }
    store.write(batch).unwrap();
    let (dataset, id) = series(&store, "lock", "lock-1").unwrap();
    let parts: Vec<_> = {
        store.with_catalogue(|catalogue| {
            let of = catalogue.dataset("main").unwrap().series(id).unwrap();
            std::iter::once(id).chain(of.layouts().iter().flat_map(|layout| layout.parts())).collect()
        })
    };
    let chosen = Selection { dataset, series: parts, range: TimeRange { start: START + 1, end: START + 3 } };
    assert_eq!(store.bin().measure(&chosen).unwrap().points, 2);
    let binned = store.bin().delete_points(&chosen, "wait", 1_000_000).unwrap();
    assert_eq!(binned.points.unwrap().points, 2);
    let latest = |store: &Store| {
        let of = store.with_catalogue(|catalogue| catalogue.dataset("main").unwrap().series(id).unwrap().clone());
        store.inspect().latest(dataset, &of, Nanos::MAX).unwrap().unwrap()
    };
    assert_eq!(latest(&store).time, START);
    store.bin().restore(&binned.id, None).unwrap();
    assert_eq!(latest(&store).value.to_string(), Histogram { bounds: vec![1.0], counts: vec![2, 2], sum: 3.0 }.to_string());
}

#[test]
fn replacements_are_counted_wherever_the_others_are() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    let put = |points: &[(u8, Nanos)]| {
        let mut batch = store.begin("main").unwrap();
        for (lock, time) in points {
            let lock = format!("lock-{lock}");
            batch.accept(PointRef { metric: "level", tags: &[("lock", &lock)], time: START + *time, value: ValueRef::Number(1.0) }).unwrap();
        }
        store.write(batch).unwrap()
    };
    let all: Vec<(u8, Nanos)> = (0..200).map(|i| ((i % 2) as u8, i * SECOND)).collect();
    assert_eq!(put(&all), Some(0));
    assert_eq!(put(&all), Some(200), "in memory");
    store.pack().unwrap();
    assert_eq!(put(&all), Some(200), "in a partition");
    assert_eq!(put(&[(0, 0), (0, 0), (1, 0), (0, 500 * SECOND)]), Some(2), "twice in the batch, and once in both of the others");
    assert_eq!(put(&[(0, 700 * SECOND), (3, 0)]), Some(0));
    // More series and partitions than are looked at.
    let many: Vec<(u8, Nanos)> = (0..3_000).map(|i| ((i % 250) as u8, i / 250 * WEEK)).collect();
    put(&many);
    store.pack().unwrap();
    assert_eq!(put(&many), None);
}

#[test]
fn thinning_omits_redundant_points_and_counts_them() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    let thinning = Thinning { line_tolerance: Some(0.1), ..Thinning::default() };
    store.definitions().put_metric("main", "level", MetricDefinition { thinning: Some(thinning), ..Default::default() }).unwrap();
    assert!(
        store
            .definitions()
            .put_metric("main", "gate", MetricDefinition { kind: Kind::State, thinning: Some(thinning), ..Default::default() })
            .is_err()
    );
    let line: Vec<(u8, Nanos, f64)> = (0..1_000).map(|i| (1, START + i * SECOND, if i < 500 { i as f64 } else { 1_000.0 - i as f64 })).collect();
    write(&store, &line);
    assert_eq!(points(&store, 1).len(), 1_000, "nothing is lost before it is packed");
    store.pack().unwrap();
    let kept = points(&store, 1);
    assert!(kept.len() <= 4 && kept.contains_key(&START) && kept.contains_key(&(START + 999 * SECOND)), "{kept:?}");
    let savings = store.definitions().savings().unwrap();
    assert_eq!(savings.values().collect::<Vec<_>>(), [&(1_000, kept.len() as u64)]);
}

#[test]
fn an_incremental_backup_records_deleted_points() {
    let folder = tempfile::tempdir().unwrap();
    let path = |name: &str| folder.path().join(name);
    let store = open(&path("store"));
    write(&store, &[(1, START, 1.0), (1, START + 1, 2.0), (1, START + WEEK, 3.0)]);
    store.backup(&path("first"), None, &mut |_| true).unwrap();
    let binned = store.bin().delete_points(&selection(&store, &[1], TimeRange { start: START, end: START + 1 }), "one", 3_000_000).unwrap();
    let second = store.backup(&path("second"), Some(path("first").as_path()), &mut |_| true).unwrap();
    assert_eq!((second.points, second.kept), (2, 1), "the partition that was touched is copied, the other is not");
    store.bin().restore(&binned.id, None).unwrap();
    assert_eq!(store.backup(&path("third"), Some(path("second").as_path()), &mut |_| true).unwrap().points, 3);
    drop(store);
    fenetre_store::restore(&path("second"), &path("again"), &mut |_| true).unwrap();
    assert_eq!(points(&open(&path("again")), 1).len(), 2);
}
