//! Any sequence of writes, late writes, replacements, packings, compactions, kills and restarts reads back as a plain map would: each
//! acknowledged point once, the later arrival winning at one instant, and every snapshot as the map of its moment. Guards against points
//! lost or doubled on their way through journal, head and partitions.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

mod support;

use std::{collections::BTreeMap, time::Duration};

use fenetre_core::{
    model::{DatasetDefinition, Histogram, Kind, MetricDefinition, PointRef, PointSink, Value, ValueRef},
    time::{Nanos, SECOND, TimeRange},
};
use fenetre_store::{Durability, Options, Store, StoreError};
use proptest::prelude::*;
use support::{START, copy, open, quiet, read, read_from, try_open, values, write};

#[derive(Clone, Debug)]
enum Step {
    Write(Vec<(u8, i64, i32)>),
    Reopen,
    /// The files as they stand are all that is left.
    Kill,
    Pack,
    Compact,
    /// A snapshot is taken, and read at the end.
    Look,
}

fn a_step() -> impl Strategy<Value = Step> {
    // Instants over three weeks, so over several partitions, and dense enough for replacements.
    let near = (0u8..3, 0i64..200, any::<i32>());
    let far = (0u8..3, (0i64..20).prop_map(|day| day * 86_400), any::<i32>());
    prop_oneof![
        6 => prop::collection::vec(near, 1..60).prop_map(Step::Write),
        3 => prop::collection::vec(far, 1..20).prop_map(Step::Write),
        1 => Just(Step::Reopen),
        1 => Just(Step::Kill),
        3 => Just(Step::Pack),
        2 => Just(Step::Compact),
        1 => Just(Step::Look),
    ]
}

type Map = BTreeMap<(u8, Nanos), f64>;

fn of_lock(map: &Map, lock: u8, range: TimeRange) -> Vec<(Nanos, f64)> {
    map.iter().filter(|((l, at), _)| *l == lock && range.contains(*at)).map(|((_, at), value)| (*at, *value)).collect()
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 40, ..ProptestConfig::default() })]
    #[test]
    fn the_store_equals_a_map(steps in prop::collection::vec(a_step(), 1..20)) {
        let folder = tempfile::tempdir().unwrap();
        let mut path = folder.path().join("0");
        let mut store = open(&path);
        let mut map = Map::new();
        let ranges = [TimeRange::ALL, TimeRange { start: START + 30 * SECOND, end: START + 150 * SECOND }];
        let mut life = 0;
        let mut steps = steps.into_iter().peekable();
        while steps.peek().is_some() {
            // Snapshots belong to one life of the store.
            let mut looks = Vec::new();
            for step in steps.by_ref() {
                match step {
                    Step::Write(points) => {
                        let points: Vec<_> = points.into_iter().map(|(lock, at, value)| (lock, START + at * SECOND, f64::from(value))).collect();
                        // A retry of the same batch changes nothing.
                        write(&store, &points);
                        write(&store, &points);
                        map.extend(points.iter().map(|(lock, at, value)| ((*lock, *at), *value)));
                    }
                    Step::Pack => store.pack().unwrap(),
                    Step::Compact => store.inspect().compact_all().unwrap(),
                    Step::Look => looks.push((store.source(), map.clone())),
                    Step::Reopen => break,
                    Step::Kill => {
                        life += 1;
                        let left = folder.path().join(life.to_string());
                        copy(&path, &left);
                        path = left;
                        break;
                    }
                }
            }
            for (source, map) in &looks {
                for (lock, range) in (0..3).flat_map(|lock| ranges.map(|range| (lock, range))) {
                    prop_assert_eq!(read_from(source, &store, lock, range), of_lock(map, lock, range));
                }
            }
            drop(looks);
            drop(store);
            store = open(&path);
        }
        for (lock, range) in (0..3).flat_map(|lock| ranges.map(|range| (lock, range))) {
            prop_assert_eq!(read(&store, lock, range), of_lock(&map, lock, range));
        }
        let dataset = store.with_catalogue(|catalogue| catalogue.dataset("main").unwrap().id);
        // The second time from what was kept of the first.
        for _ in 0..2 {
            let counted: u64 = store.inspect().counts(dataset).unwrap().values().map(|count| count.points).sum();
            prop_assert_eq!(counted as usize, map.len());
        }
        let all: Vec<_> = store.with_catalogue(|catalogue| catalogue.dataset("main").unwrap().all_series().cloned().collect());
        for series in all {
            let lock: u8 = series.tags.get("lock").unwrap().1.strip_prefix("lock-").unwrap().parse().unwrap();
            let wanted = map.iter().rfind(|((l, _), _)| *l == lock).map(|((_, at), value)| (*at, Value::Number(*value)));
            let latest = store.inspect().latest(dataset, &series, Nanos::MAX).unwrap().map(|latest| (latest.time, latest.value));
            prop_assert_eq!(latest, wanted);
        }
        // Whatever came before, compaction leaves no block that overlaps another.
        store.pack().unwrap();
        store.inspect().compact_all().unwrap();
        let report = store.inspect().report(0).unwrap();
        let (points, blocks) = report.datasets[0].partitions.iter().fold((0, 0), |(points, blocks), one| (points + one.points, blocks + one.blocks));
        prop_assert_eq!(points as usize, map.len());
        prop_assert!(blocks <= 3 * report.datasets[0].partitions.len() as u64);
    }
}

#[test]
fn many_points_become_few_full_blocks() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    for part in 0..5 {
        let points: Vec<_> = (0..700).map(|i| (0, START + (part * 700 + i) * SECOND, i as f64)).collect();
        write(&store, &points);
        store.pack().unwrap();
    }
    let blocks = |store: &Store| {
        let report = store.inspect().report(0).unwrap();
        let partition = &report.datasets[0].partitions[0];
        assert!(partition.points == 3_500 && partition.bytes > 0 && report.catalogue_bytes > 0);
        partition.blocks
    };
    assert_eq!(blocks(&store), 5);
    let before = read(&store, 0, TimeRange::ALL);
    store.inspect().compact_all().unwrap();
    assert_eq!(blocks(&store), 5, "blocks of 700 points are left alone");
    // Ten late points lie over all of them.
    let late: Vec<_> = (0..10).map(|i| (0, START + i * 350 * SECOND + SECOND / 2, -1.0)).collect();
    write(&store, &late);
    store.pack().unwrap();
    store.inspect().compact_all().unwrap();
    let report = store.inspect().report(0).unwrap();
    assert_eq!((report.datasets[0].partitions[0].points, report.datasets[0].partitions[0].blocks), (3_510, 2));
    assert_eq!(read(&store, 0, TimeRange::ALL).len(), before.len() + 10);
}

#[test]
fn a_busy_dataset_gets_daily_partitions_and_is_read_across_them() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    let (day, step, half) = (86_400 * SECOND, SECOND / 1_000, 1_100_000);
    // A million points in eighteen minutes, which would be more than fifty millions a day, then a few on the days around them.
    for lock in 0..2 {
        write(&store, &(0..half).map(|i| (lock, START + i * step, (i % 100) as f64)).collect::<Vec<_>>());
    }
    store.pack().unwrap();
    write(&store, &[(0, START - day, 1.0), (0, START + day, 2.0), (0, START + 20 * day, 3.0)]);
    store.pack().unwrap();
    drop(store);
    let store = open(folder.path());
    let report = store.inspect().report(0).unwrap();
    let names: Vec<_> = report.datasets[0].partitions.iter().map(|one| one.path.file_name().unwrap().to_str().unwrap().to_owned()).collect();
    assert_eq!(names, ["2026-09-20_1d.db", "2026-09-21_1d.db", "2026-09-22_1d.db", "2026-10-08_7d.db"]);
    assert_eq!(report.datasets[0].partitions.iter().map(|one| one.points).sum::<u64>(), 2 * half as u64 + 3);
    assert_eq!(read(&store, 0, TimeRange::ALL).len() as i64, half + 3);
    assert_eq!(read(&store, 0, TimeRange { start: START + day, end: START + 21 * day }).len(), 2);
}

#[test]
fn points_are_packed_when_they_are_many_or_old_and_partitions_compacted_when_quiet() {
    let folder = tempfile::tempdir().unwrap();
    let options = Options { pack_points: 100, compact_after: Duration::from_millis(10), ..Options::default() };
    let store = Store::open(folder.path(), options).unwrap();
    let wait = |what: &str, is_so: &dyn Fn() -> bool| {
        (0..1_000)
            .find(|_| {
                is_so() || {
                    std::thread::sleep(Duration::from_millis(10));
                    false
                }
            })
            .unwrap_or_else(|| panic!("not {what} in time"));
    };
    for part in 0..4 {
        write(&store, &(0..100).map(|i| (0, START + (part * 100 + i) * SECOND, i as f64)).collect::<Vec<_>>());
        wait("packed", &|| store.inspect().report(0).unwrap().journal.points == 0);
    }
    wait("compacted", &|| store.inspect().report(0).unwrap().datasets[0].partitions[0].blocks == 1);
    drop(store);
    let store = try_open(folder.path(), Options { pack_after: Duration::ZERO, ..quiet() }).unwrap();
    write(&store, &[(0, START, 1.0)]);
    wait("packed", &|| store.inspect().report(0).unwrap().journal.points == 0);
}

#[test]
fn words_keep_their_codes_over_restarts() {
    let folder = tempfile::tempdir().unwrap();
    let put = |store: &Store, lock: &str, words: &[&str]| {
        let mut batch = store.begin("main").unwrap();
        for (i, word) in words.iter().enumerate() {
            batch.accept(PointRef { metric: "gate", tags: &[("lock", lock)], time: START + i as i64, value: ValueRef::Word(word) }).unwrap();
        }
        store.write(batch).unwrap();
    };
    let store = open(folder.path());
    put(&store, "osier", &["open", "closed"]);
    put(&store, "marl", &["closed", "moving"]);
    put(&store, "marl", &["jammed", "open"]);
    drop(store);
    let store = open(folder.path());
    store.with_catalogue(|catalogue| {
        let dataset = catalogue.dataset("main").unwrap();
        let latest: Vec<_> =
            dataset.all_series().map(|series| store.inspect().latest(dataset.id, series, Nanos::MAX).unwrap().unwrap().value).collect();
        assert_eq!(latest, [Value::Word("closed".into()), Value::Word("open".into())]);
    })
}

#[test]
fn integers_of_64_bits_and_special_doubles_round_trip() {
    let folder = tempfile::tempdir().unwrap();
    let integers = [i128::from(i64::MAX), i128::from(i64::MIN), i128::from(u64::MAX), (1 << 53) + 1, -((1 << 53) + 1), 7];
    let doubles = [-0.0, 5e-324, f64::MIN_POSITIVE / 3.0, f64::MAX, 0.1 + 0.2];
    let mut store = open(folder.path());
    let mut batch = store.begin("main").unwrap();
    for (i, integer) in integers.into_iter().enumerate() {
        batch.accept(PointRef { metric: "turns", tags: &[("of", "integers")], time: START + i as i64, value: ValueRef::Integer(integer) }).unwrap();
    }
    for (i, double) in doubles.into_iter().enumerate() {
        batch.accept(PointRef { metric: "turns", tags: &[("of", "doubles")], time: START + i as i64, value: ValueRef::Number(double) }).unwrap();
    }
    store.write(batch).unwrap();
    for _ in 0..2 {
        let message: Vec<String> = values(&store, "of", "integers").iter().map(Value::to_string).collect();
        assert_eq!(message, integers.map(|integer| integer.to_string()));
        let found = values(&store, "of", "doubles");
        assert!(found.iter().zip(doubles).all(|(found, wanted)| found.number().unwrap().to_bits() == wanted.to_bits()), "{found:?}");
        store.pack().unwrap();
        drop(store);
        store = open(folder.path());
    }
}

#[test]
fn a_histogram_is_one_value_through_layouts_replacements_and_restarts() {
    let folder = tempfile::tempdir().unwrap();
    let histogram = |bounds: &[f64], counts: &[u64], sum: f64| Histogram { bounds: bounds.to_vec(), counts: counts.to_vec(), sum };
    let put = |store: &Store, time: Nanos, histogram: &Histogram| {
        let mut batch = store.begin("main").unwrap();
        batch.accept(PointRef { metric: "lockage_time", tags: &[("lock", "osier")], time, value: ValueRef::Histogram(histogram) }).unwrap();
        store.write(batch).unwrap();
    };
    let (narrow, wide) = (histogram(&[5.0], &[1, u64::MAX], 9.5), histogram(&[5.0, 10.0], &[1, 2, 3], 60.25));
    let mut store = open(folder.path());
    put(&store, START, &narrow);
    put(&store, START + 1, &narrow);
    store.pack().unwrap();
    // Another layout at the same instant replaces all of the first.
    put(&store, START + 1, &wide);
    for packed in [false, true] {
        if packed {
            store.pack().unwrap();
            store.inspect().compact_all().unwrap();
        }
        drop(store);
        store = open(folder.path());
        store.with_catalogue(|catalogue| {
            let dataset = catalogue.dataset("main").unwrap();
            let series = dataset.all_series().next().unwrap();
            let latest = store.inspect().latest(dataset.id, series, Nanos::MAX).unwrap().unwrap();
            assert_eq!((series.kind(dataset), latest.value, series.layouts().len()), (Kind::Histogram, Value::Histogram(wide.clone().into()), 2));
            let counted = store.inspect().counts(dataset.id).unwrap();
            assert_eq!((counted.len(), counted[&series.id].points), (1, 2), "a histogram is one point");
        })
    }
}

#[test]
fn invalid_points_are_refused_naming_the_field() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    store.definitions().put_metric("main", "gate", MetricDefinition { kind: fenetre_core::model::Kind::State, ..Default::default() }).unwrap();
    let mut batch = store.begin("main").unwrap();
    let long = "x".repeat(2_000);
    let many: Vec<String> = (0..65).map(|i| format!("tag{i}")).collect();
    let many: Vec<(&str, &str)> = many.iter().map(|key| (key.as_str(), "x")).collect();
    let mut message = String::new();
    let mut attempt = |metric: &str, tags: &[(&str, &str)], value: ValueRef<'_>| {
        let taken = batch.accept(PointRef { metric, tags, time: START, value });
        message += &taken.map_or_else(|refusal| format!("{}: {}\n", refusal.field.unwrap_or_default(), refusal.reason), |()| "taken\n".to_owned());
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
    let histogram = |counts: &[u64]| Histogram { bounds: vec![5.0, 10.0], counts: counts.to_vec(), sum: 9.0 };
    attempt("lockage_time", &[], ValueRef::Histogram(&histogram(&[1, 2])));
    attempt("level", &[], ValueRef::Histogram(&histogram(&[1, 2, 3])));
    attempt("gate", &[], ValueRef::Histogram(&histogram(&[1, 2, 3])));
    attempt("lockage_time", &[], ValueRef::Number(1.0));
    insta::assert_snapshot!(message);
    assert_eq!((batch.len(), batch.new_series()), (1, 1));
}

#[test]
fn a_store_has_one_owner_and_bad_definitions_are_refused() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    assert!(matches!(Store::open(folder.path(), Options::default()), Err(StoreError::InUse { .. })));
    write(&store, &[(0, START, 1.0)]);
    let state = MetricDefinition { kind: fenetre_core::model::Kind::State, ..Default::default() };
    let refused = store.definitions().put_metric("main", "level", state).unwrap_err().to_string();
    assert_eq!(
        refused,
        "`level` is a gauge with 1 series, and a definition cannot make it a state. Convert its points: `fenetre metrics define level --kind state --convert`"
    );
    assert!(store.definitions().put_dataset("../up", &DatasetDefinition::default()).is_err());
    assert!(store.definitions().put_dataset("up", &DatasetDefinition { zone: "Nowhere".into(), ..Default::default() }).is_err());
    assert!(matches!(store.begin("nowhere"), Err(StoreError::NoDataset { .. })));
}

#[test]
fn a_later_format_and_a_damaged_file_are_named() {
    let folder = tempfile::tempdir().unwrap();
    drop(open(folder.path()));
    let catalogue = folder.path().join("catalogue.db");
    let connection = rusqlite::Connection::open(&catalogue).unwrap();
    connection.pragma_update(None, "user_version", 99).unwrap();
    drop(connection);
    let refused = try_open(folder.path(), Options::default()).err().unwrap().to_string();
    assert!(refused.contains("written by a later version"), "{refused}");
    std::fs::write(&catalogue, b"not a database, but long enough to be looked at").unwrap();
    let refused = try_open(folder.path(), Options::default()).err().unwrap().to_string();
    assert!(refused.contains("catalogue.db is damaged"), "{refused}");
}

#[test]
fn a_lagging_store_reports_it_and_keeps_its_points() {
    let folder = tempfile::tempdir().unwrap();
    let store = Store::open(folder.path(), Options { memory: 400, ..quiet() }).unwrap();
    // The first is taken whatever it weighs; while it waits to be packed, no other is.
    let refused = (0..200).find_map(|i| {
        let mut batch = store.begin("main").unwrap();
        batch.accept(PointRef { metric: "level", tags: &[("lock", "lock-0")], time: START + i, value: ValueRef::Number(1.0) }).unwrap();
        store.write(batch).err().map(|error| (i, error))
    });
    let (taken, error) = refused.unwrap();
    assert!(matches!(error, StoreError::Busy { bytes } if bytes >= 300), "{error}");
    assert_eq!(read(&store, 0, TimeRange::ALL).len() as i64, taken);
    store.pack().unwrap();
    write(&store, &[(0, START + 1_000, 1.0)]);
}

#[test]
fn batches_at_an_interval_survive_the_service() {
    let folder = tempfile::tempdir().unwrap();
    let options = Options { durability: Durability::Interval(Duration::from_millis(5)), ..quiet() };
    let path = folder.path().join("live");
    let store = Store::open(&path, options.clone()).unwrap();
    write(&store, &[(0, START, 1.0)]);
    std::thread::sleep(Duration::from_millis(50));
    write(&store, &[(0, START + 1, 2.0)]);
    let left = folder.path().join("left");
    copy(&path, &left);
    assert_eq!(read(&Store::open(&left, options).unwrap(), 0, TimeRange::ALL).len(), 2);
    store.pack().unwrap();
    assert_eq!(read(&store, 0, TimeRange::ALL).len(), 2);
}
