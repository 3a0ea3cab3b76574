//! Few points over a long time: few files, whatever they came like, and nothing lost when spans change.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

mod support;

use std::{collections::BTreeMap, fs, path::Path, time::Duration};

use fenetre_core::{
    keeping::{LimitSettings, Scope},
    model::{DatasetId, PointRef, PointSink, ValueRef},
    time::{Nanos, SECOND, Span, TimeRange},
};
use fenetre_store::{Document, DocumentKind, Options, Store};
use proptest::prelude::*;
use serde::{Deserialize, Serialize};
use support::{START, columns, series, try_open};

const DAY: Nanos = 86_400 * SECOND;

fn options() -> Options {
    Options { compact_after: Duration::from_secs(3_600), ..Options::default() }
}

/// Options under which a store makes a file of each week, as stores did once.
fn by_week() -> Options {
    Options { longest_span_days: 7, ..options() }
}

fn put(store: &Store, points: &[(Nanos, f64)]) {
    let mut batch = store.begin("main").unwrap();
    for (time, value) in points {
        batch.accept(PointRef { metric: "level", tags: &[("lock", "osier")], time: *time, value: ValueRef::Number(*value) }).unwrap();
    }
    store.write(batch).unwrap();
}

fn held(store: &Store) -> Vec<(Nanos, f64)> {
    let Some(found) = series(store, "lock", "osier") else { return Vec::new() };
    let columns = columns(&store.source(), found, TimeRange::ALL).unwrap();
    columns.times.iter().copied().zip(columns.values.iter().copied()).collect()
}

/// The partition files of a store, and their bytes.
fn files(folder: &Path) -> BTreeMap<String, u64> {
    let entries = fs::read_dir(folder.join("data/main")).unwrap().map(Result::unwrap);
    // Companions of files come and go meanwhile.
    let partitions = entries.filter_map(|entry| Some((entry.file_name().into_string().unwrap(), entry.metadata().ok()?.len())));
    partitions.filter(|(name, _)| name.ends_with(".db")).collect()
}

fn lengths(folder: &Path) -> Vec<String> {
    files(folder).keys().map(|name| name.split('_').nth(1).unwrap().trim_end_matches(".db").to_owned()).collect()
}

/// Waits until no file of a week is there: a thread of the store may be removing the old ones just now.
fn settle(folder: &Path) {
    for _ in 0..600 {
        if lengths(folder).iter().all(|length| length == "3584d") {
            return;
        }
        std::thread::sleep(Duration::from_millis(50));
    }
}

/// A point a week, for 43 years.
fn weekly() -> Vec<(Nanos, f64)> {
    (0..2_225).map(|week| (START - week * 7 * DAY, week as f64)).rev().collect()
}

#[test]
fn weekly_points_of_decades_take_less_than_100_bytes_each() {
    let folder = tempfile::tempdir().unwrap();
    let store = try_open(folder.path(), options()).unwrap();
    put(&store, &weekly());
    store.pack().unwrap();
    assert_eq!(held(&store), weekly());
    let files = files(folder.path());
    assert!(files.len() <= 6 && files.values().sum::<u64>() < 2_225 * 100, "{files:?}");
}

#[test]
fn compaction_merges_sparse_weekly_files() {
    let folder = tempfile::tempdir().unwrap();
    let store = try_open(folder.path(), by_week()).unwrap();
    let points: Vec<(Nanos, f64)> = weekly().into_iter().rev().take(300).collect();
    put(&store, &points);
    store.pack().unwrap();
    assert_eq!(files(folder.path()).len(), 300);
    let before = held(&store);
    drop(store);
    let store = try_open(folder.path(), options()).unwrap();
    let reader = store.source();
    store.inspect().compact_all().unwrap();
    // Who asked before still reads the old files; they go when it has ended.
    let (home, id) = series(&store, "lock", "osier").unwrap();
    assert_eq!(columns(&reader, (home, id), TimeRange::ALL).unwrap().len(), 300);
    assert!(files(folder.path()).len() > 300);
    drop(reader);
    assert_eq!(held(&store), before);
    store.inspect().compact_all().unwrap();
    settle(folder.path());
    assert_eq!(lengths(folder.path()), ["3584d"]);
    assert!(!folder.path().join("data/main/new").exists() || fs::read_dir(folder.path().join("data/main/new")).unwrap().next().is_none());
    drop(store);
    assert_eq!(held(&try_open(folder.path(), options()).unwrap()), before);
}

/// The record of an exchange of files, as the store keeps it.
#[derive(Serialize, Deserialize)]
struct Exchange {
    old: Vec<String>,
    new: Vec<String>,
}

impl Document for Exchange {
    const KIND: DocumentKind = DocumentKind::ReplacedPartitions;
}

#[test]
fn changing_spans_survives_a_kill_between_any_two_steps() {
    let folder = tempfile::tempdir().unwrap();
    let points: Vec<(Nanos, f64)> = weekly().into_iter().rev().take(20).collect();
    let store = try_open(folder.path(), by_week()).unwrap();
    put(&store, &points);
    store.pack().unwrap();
    drop(store);
    let mended = tempfile::tempdir().unwrap();
    support::copy(folder.path(), mended.path());
    let store = try_open(mended.path(), options()).unwrap();
    store.inspect().compact_all().unwrap();
    drop(store);
    let (old, new) = (files(folder.path()), files(mended.path()));
    assert_eq!((old.len(), new.len()), (20, 1));
    let below = |files: &BTreeMap<String, u64>| files.keys().map(|name| format!("data/main/{name}")).collect::<Vec<_>>();
    let record = Exchange { old: below(&old), new: below(&new) };
    let name = new.keys().next().unwrap();
    // Where the new file lies, whether there is a record, and how many of the old files are there still.
    for (place, is_recorded, left) in [("new", false, 20), ("new", true, 20), ("", true, 20), ("", true, 7), ("", true, 0)] {
        let killed = tempfile::tempdir().unwrap();
        support::copy(folder.path(), killed.path());
        let store = try_open(killed.path(), by_week()).unwrap();
        if is_recorded {
            store.documents().put("1-1", &record, 0).unwrap();
        }
        drop(store);
        let data = killed.path().join("data/main");
        fs::create_dir_all(data.join(place)).unwrap();
        fs::copy(mended.path().join("data/main").join(name), data.join(place).join(name)).unwrap();
        old.keys().skip(left).for_each(|name| fs::remove_file(data.join(name)).unwrap());
        let store = try_open(killed.path(), options()).unwrap();
        assert_eq!(
            held(&store),
            points.iter().rev().copied().collect::<BTreeMap<_, _>>().into_iter().collect::<Vec<_>>(),
            "{place} {is_recorded} {left}"
        );
        assert_eq!(files(killed.path()).len(), if is_recorded { 1 } else { 20 });
        assert!(!data.join("new").exists() && store.documents().all::<Exchange>().unwrap().is_empty());
    }
}

#[test]
fn points_that_become_many_split_their_partition() {
    let folder = tempfile::tempdir().unwrap();
    let store = try_open(folder.path(), options()).unwrap();
    let old = [(START - 2_000 * DAY, 1.0), (START, 2.0)];
    put(&store, &old);
    store.pack().unwrap();
    assert!(lengths(folder.path()).iter().all(|length| length == "3584d"), "{:?}", files(folder.path()));
    // A busy series begins: its first million fills the long partition, the next must not.
    let step = SECOND / 2;
    for part in 1..=3 {
        let points: Vec<(Nanos, f64)> = (0..400_000).map(|i| (START + (part * 400_000 + i) * step, i as f64)).collect();
        put(&store, &points);
        store.pack().unwrap();
    }
    assert_eq!(held(&store).len(), 1_200_002);
    let lengths = lengths(folder.path());
    assert!(lengths.contains(&"7d".to_owned()), "{lengths:?}");
    assert_eq!(held(&store)[..2], old[..2]);
}

#[test]
fn compaction_splits_and_drops_metrics_with_shorter_limits() {
    let folder = tempfile::tempdir().unwrap();
    let store = try_open(folder.path(), options()).unwrap();
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap().as_nanos() as Nanos;
    let points: Vec<(Nanos, f64)> = (0..200).map(|week| (now - week * 7 * DAY, week as f64)).rev().collect();
    put(&store, &points);
    store.pack().unwrap();
    assert!(lengths(folder.path()).iter().all(|length| length == "3584d"));
    let keep_for = |days: u32| LimitSettings { keep_for: Some(Some(Span { days, ..Span::default() })), keep_under: None };
    store.retention().set_limits(Scope::Dataset(DatasetId(1)), keep_for(70), now).unwrap();
    let planned = store.retention().plan(&store.retention().policies(), now).unwrap().steps.len();
    assert!((185..=191).contains(&planned), "{planned} weeks of 200 are older than ten");
    store.retention().expire(now).unwrap();
    let left = held(&store);
    assert!((10..=12).contains(&left.len()) && left.iter().all(|point| point.0 >= now - 78 * DAY), "{left:?}");
    assert_eq!(store.bin().list().unwrap().len(), planned);
    // And all of it comes back.
    store.retention().set_limits(Scope::Dataset(DatasetId(1)), LimitSettings { keep_for: Some(None), keep_under: None }, now).unwrap();
    store.inspect().compact_all().unwrap();
    for item in store.bin().list().unwrap() {
        store.bin().restore(&item.id, None).unwrap();
    }
    assert_eq!(held(&store), points);
    store.inspect().compact_all().unwrap();
    store.inspect().compact_all().unwrap();
    settle(folder.path());
    assert!(lengths(folder.path()).iter().all(|length| length == "3584d"), "{:?}", files(folder.path()));
    assert_eq!(held(&store), points);
}

#[derive(Clone, Debug)]
enum Act {
    /// Points from some day on, at intervals of some hours.
    Put(i64, u32, u16),
    Pack,
    Compact,
    /// Reopened with a maximum length of partitions in days.
    Open(usize),
    /// As after a kill, files as they are.
    Kill(usize),
}

fn an_act() -> impl Strategy<Value = Act> {
    prop_oneof![
        4 => (-3_000i64..3_000, 1u32..600, 1u16..80).prop_map(|(day, hours, count)| Act::Put(day, hours, count)),
        3 => Just(Act::Pack),
        3 => Just(Act::Compact),
        1 => (0usize..4).prop_map(Act::Open),
        1 => (0usize..4).prop_map(Act::Kill),
    ]
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]
    #[test]
    fn points_are_the_same_under_any_spans(acts in prop::collection::vec(an_act(), 1..14)) {
        let with = |longest: usize| Options { longest_span_days: [7, 56, 448, 3_584][longest], ..options() };
        let mut folders = vec![tempfile::tempdir().unwrap()];
        let mut store = Some(try_open(folders[0].path(), with(3)).unwrap());
        let mut expected: BTreeMap<Nanos, f64> = BTreeMap::new();
        for (turn, act) in acts.into_iter().enumerate() {
            let current = store.as_ref().unwrap();
            match act {
                Act::Put(day, hours, count) => {
                    let points: Vec<(Nanos, f64)> = (0..i64::from(count)).map(|i| (START + day * DAY + i * i64::from(hours) * 3_600 * SECOND, turn as f64 + i as f64)).collect();
                    put(current, &points);
                    expected.extend(points);
                }
                Act::Pack => current.pack().unwrap(),
                Act::Compact => current.inspect().compact_all().unwrap(),
                Act::Open(longest) => {
                    drop(store.take());
                    store = Some(try_open(folders.last().unwrap().path(), with(longest)).unwrap());
                }
                Act::Kill(longest) => {
                    let elsewhere = tempfile::tempdir().unwrap();
                    support::copy(folders.last().unwrap().path(), elsewhere.path());
                    drop(store.take());
                    folders.push(elsewhere);
                    store = Some(try_open(folders.last().unwrap().path(), with(longest)).unwrap());
                }
            }
            let found = held(store.as_ref().unwrap());
            prop_assert_eq!(found, expected.iter().map(|(at, value)| (*at, *value)).collect::<Vec<_>>());
        }
    }
}
