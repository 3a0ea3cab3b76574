//! Any sequence of writes, packings and restarts reads back as a plain map would: each acknowledged point once, the later arrival
//! winning at one instant. Guards against points lost or doubled on their way through journal, head and partitions.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

use std::{collections::BTreeMap, path::Path, time::Duration};

use fenetre_core::{
    block::Columns,
    evaluate::{Run, Source},
    model::{MetricDefinition, PointRef, PointSink, Value, ValueRef},
    time::{Nanos, SECOND, TimeRange},
};
use fenetre_store::{Options, Store, StoreError};
use proptest::prelude::*;

const START: Nanos = 1_790_000_000 * SECOND;

fn open(path: &Path, pack_points: usize) -> Store {
    Store::open(path, Options { pack_points, ..Options::default() }).unwrap()
}

fn write(store: &Store, points: &[(u8, Nanos, f64)]) {
    let mut batch = store.begin("main").unwrap();
    for (lock, time, value) in points {
        let lock = format!("lock-{lock}");
        batch.accept(PointRef { metric: "level", tags: &[("lock", &lock), ("side", "up")], time: *time, value: ValueRef::Number(*value) }).unwrap();
    }
    store.write(batch).unwrap();
}

/// All points of a lock inside a range, through the source that queries use.
fn read(store: &Store, lock: u8, range: TimeRange) -> Vec<(Nanos, f64)> {
    let (dataset, series) = {
        let catalogue = store.catalogue();
        let dataset = catalogue.dataset("main").unwrap();
        let lock = format!("lock-{lock}");
        let Some(series) = dataset.all_series().find(|series| &*series.tags["lock"] == lock.as_str()) else { return vec![] };
        (dataset.id, series.id)
    };
    let mut found = Columns::default();
    let scanned = store.source().scan(dataset, series, range, &mut |run| {
        match run {
            Run::Block(block) => {
                let before = found.len();
                block.decode(&mut found)?;
                assert_eq!(block.summary().count as usize, found.len() - before);
            }
            Run::Points(times, values) => {
                found.times.extend(times);
                found.values.extend(values);
            }
        }
        Ok(())
    });
    scanned.unwrap();
    found.times.into_iter().zip(found.values).filter(|(at, _)| range.contains(*at)).collect()
}

#[derive(Clone, Debug)]
enum Step {
    Write(Vec<(u8, i64, i32)>),
    Reopen,
    /// Everything is packed, by writing until it is.
    Pack,
}

fn a_step() -> impl Strategy<Value = Step> {
    // Instants over three weeks, so over several partitions, and dense enough for replacements.
    let near = (0u8..3, 0i64..200, any::<i32>());
    let far = (0u8..3, (0i64..20).prop_map(|day| day * 86_400), any::<i32>());
    prop_oneof![
        6 => prop::collection::vec(near, 1..60).prop_map(Step::Write),
        3 => prop::collection::vec(far, 1..20).prop_map(Step::Write),
        1 => Just(Step::Reopen),
        1 => Just(Step::Pack),
    ]
}

fn wait_until_packed(store: &Store) {
    for _ in 0..400 {
        if store.storage().unwrap().journal.points == 0 {
            return;
        }
        std::thread::sleep(Duration::from_millis(10));
    }
    panic!("not packed in time");
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 24, ..ProptestConfig::default() })]
    #[test]
    fn the_store_reads_as_a_map(steps in prop::collection::vec(a_step(), 1..12)) {
        let folder = tempfile::tempdir().unwrap();
        let mut store = open(folder.path(), 50);
        let mut map: BTreeMap<(u8, Nanos), f64> = BTreeMap::new();
        for step in steps {
            match step {
                Step::Write(points) => {
                    let points: Vec<_> = points.into_iter().map(|(lock, at, value)| (lock, START + at * SECOND, f64::from(value))).collect();
                    // A retry of the same batch changes nothing.
                    write(&store, &points);
                    write(&store, &points);
                    map.extend(points.iter().map(|(lock, at, value)| ((*lock, *at), *value)));
                }
                Step::Reopen => {
                    drop(store);
                    store = open(folder.path(), 50);
                }
                Step::Pack => {
                    drop(store);
                    store = open(folder.path(), 1);
                    wait_until_packed(&store);
                    drop(store);
                    store = open(folder.path(), 50);
                }
            }
        }
        for lock in 0..3 {
            for range in [TimeRange::ALL, TimeRange { start: START + 30 * SECOND, end: START + 150 * SECOND }] {
                let wanted: Vec<(Nanos, f64)> = map.iter().filter(|((l, at), _)| *l == lock && range.contains(*at)).map(|((_, at), v)| (*at, *v)).collect();
                prop_assert_eq!(read(&store, lock, range), wanted);
            }
        }
        let dataset = store.catalogue().dataset("main").unwrap().id;
        let counted: u64 = store.counts(dataset).unwrap().values().map(|count| count.points).sum();
        prop_assert_eq!(counted as usize, map.len());
        let catalogue = store.catalogue();
        let dataset = catalogue.dataset("main").unwrap();
        for series in dataset.all_series() {
            let lock: u8 = series.tags["lock"].strip_prefix("lock-").unwrap().parse().unwrap();
            let wanted = map.iter().rfind(|((l, _), _)| *l == lock).map(|((_, at), value)| (*at, Value::Number(*value)));
            let latest = store.latest(dataset, series.id).unwrap().map(|latest| (latest.time, latest.value));
            prop_assert_eq!(latest, wanted);
        }
    }
}

#[test]
fn many_points_become_few_full_blocks() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path(), 700);
    for part in 0..5 {
        let points: Vec<_> = (0..700).map(|i| (0, START + (part * 700 + i) * SECOND, i as f64)).collect();
        write(&store, &points);
        wait_until_packed(&store);
    }
    let report = store.storage().unwrap();
    let partition = &report.datasets[0].partitions[0];
    assert_eq!(partition.points, 3_500);
    assert!(partition.blocks <= 5, "{} blocks", partition.blocks);
    assert!(partition.bytes > 0 && report.catalogue_bytes > 0);
}

#[test]
fn words_keep_their_meaning_over_restarts_and_batches() {
    let folder = tempfile::tempdir().unwrap();
    let put = |store: &Store, lock: &str, words: &[&str]| {
        let mut batch = store.begin("main").unwrap();
        for (i, word) in words.iter().enumerate() {
            batch.accept(PointRef { metric: "gate", tags: &[("lock", lock)], time: START + i as i64, value: ValueRef::Word(word) }).unwrap();
        }
        store.write(batch).unwrap();
    };
    let store = open(folder.path(), 1_000);
    put(&store, "osier", &["open", "closed"]);
    put(&store, "marl", &["closed", "moving"]);
    put(&store, "marl", &["jammed", "open"]);
    drop(store);
    let store = open(folder.path(), 1_000);
    let catalogue = store.catalogue();
    let dataset = catalogue.dataset("main").unwrap();
    let latest: Vec<_> = dataset.all_series().map(|series| store.latest(dataset, series.id).unwrap().unwrap().value).collect();
    assert_eq!(latest, [Value::Word("closed".into()), Value::Word("open".into())]);
}

#[test]
fn what_a_batch_may_not_hold_is_refused_with_its_field() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path(), 1_000);
    store.put_metric("main", "gate", MetricDefinition { kind: fenetre_core::model::Kind::State, ..Default::default() }).unwrap();
    let mut batch = store.begin("main").unwrap();
    let long = "x".repeat(2_000);
    let many: Vec<String> = (0..65).map(|i| format!("tag{i}")).collect();
    let many: Vec<(&str, &str)> = many.iter().map(|key| (key.as_str(), "x")).collect();
    let mut told = String::new();
    let mut attempt = |metric: &str, tags: &[(&str, &str)], value: ValueRef<'_>| {
        let taken = batch.accept(PointRef { metric, tags, time: START, value });
        told += &taken.map_or_else(|refusal| format!("{}: {}\n", refusal.field.unwrap_or_default(), refusal.reason), |()| "taken\n".to_owned());
    };
    attempt("level", &[], ValueRef::Number(1.0));
    attempt("level", &[], ValueRef::Word("high"));
    attempt("gate", &[], ValueRef::Number(1.0));
    attempt("gate", &[], ValueRef::Word(""));
    attempt("", &[], ValueRef::Number(1.0));
    attempt("level", &[], ValueRef::Number(f64::NAN));
    attempt("level", &[], ValueRef::Number(f64::INFINITY));
    attempt("level", &[("", "x")], ValueRef::Number(1.0));
    attempt("level", &[("lock", "")], ValueRef::Number(1.0));
    attempt("level", &[("lock", "a\u{0}b")], ValueRef::Number(1.0));
    attempt("level", &[("lock", &long)], ValueRef::Number(1.0));
    attempt("level", &[("lock", "a"), ("lock", "b")], ValueRef::Number(1.0));
    attempt("level", &many, ValueRef::Number(1.0));
    insta::assert_snapshot!(told);
    assert_eq!((batch.len(), batch.new_series()), (1, 1));
}

#[test]
fn a_store_has_one_owner_and_bad_definitions_are_refused() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path(), 1_000);
    assert!(matches!(Store::open(folder.path(), Options::default()), Err(StoreError::InUse { .. })));
    write(&store, &[(0, START, 1.0)]);
    let state = MetricDefinition { kind: fenetre_core::model::Kind::State, ..Default::default() };
    let refused = store.put_metric("main", "level", state).unwrap_err().to_string();
    assert_eq!(refused, "`level` is a gauge and has 1 series: it cannot become a state, whose values are of another sort");
    assert!(store.put_dataset("../up", "UTC", "").is_err());
    assert!(store.put_dataset("up", "Nowhere", "").is_err());
    assert!(matches!(store.begin("nowhere"), Err(StoreError::NoDataset { .. })));
}

#[test]
fn a_later_format_and_a_damaged_file_are_named() {
    let folder = tempfile::tempdir().unwrap();
    drop(open(folder.path(), 1_000));
    let catalogue = folder.path().join("catalogue.db");
    let connection = rusqlite::Connection::open(&catalogue).unwrap();
    connection.pragma_update(None, "user_version", 99).unwrap();
    drop(connection);
    let refused = Store::open(folder.path(), Options::default()).err().unwrap().to_string();
    assert!(refused.contains("written by a later version"), "{refused}");
    std::fs::write(&catalogue, b"not a database, but long enough to be looked at").unwrap();
    let refused = Store::open(folder.path(), Options::default()).err().unwrap().to_string();
    assert!(refused.contains("catalogue.db is damaged"), "{refused}");
}

#[test]
fn a_store_that_is_behind_says_so_and_keeps_what_it_has() {
    let folder = tempfile::tempdir().unwrap();
    let store = Store::open(folder.path(), Options { most_points: 3, ..Options::default() }).unwrap();
    write(&store, &[(0, START, 1.0), (0, START + 1, 1.0), (0, START + 2, 1.0)]);
    let mut batch = store.begin("main").unwrap();
    batch.accept(PointRef { metric: "level", tags: &[], time: START, value: ValueRef::Number(1.0) }).unwrap();
    assert!(matches!(store.write(batch), Err(StoreError::Busy { waiting: 3 })));
    assert_eq!(read(&store, 0, TimeRange::ALL).len(), 3);
}
