//! After any sequence of writes, packings, kills and deleted held files, a reader that continues at its cursor has all points of the store.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

mod support;

use std::{collections::BTreeMap, path::Path, time::Duration};

use fenetre_core::time::{Nanos, SECOND, TimeRange};
use fenetre_store::{Options, Position, Store};
use proptest::prelude::*;
use support::{START, copy, quiet, read, series, try_open, write};

#[derive(Clone, Debug)]
enum Step {
    Write(Vec<(u8, i64, i32)>),
    Pack,
    /// The service is killed. The reader gets again the batches that it has not recorded as handled.
    Kill,
    /// The reader reads about this many points. It advances its cursor, or dies before that.
    Read(usize, bool),
}

fn a_step() -> impl Strategy<Value = Step> {
    let points = (0u8..3, 0i64..20_000, any::<i32>());
    prop_oneof![
        6 => prop::collection::vec(points, 1..40).prop_map(Step::Write),
        3 => Just(Step::Pack),
        1 => Just(Step::Kill),
        4 => (1usize..200, any::<bool>()).prop_map(|(points, notes)| Step::Read(points, notes)),
    ]
}

/// Points of a reader: the latest value of each series and time.
type Map = BTreeMap<(u8, Nanos), f64>;

const READER: &str = "reader";

fn lock_of(store: &Store, wanted: fenetre_core::model::SeriesId) -> u8 {
    (0..3).find(|lock| series(store, "lock", &format!("lock-{lock}")).is_some_and(|(_, id)| id == wanted)).unwrap()
}

/// Adds the next batches and the gaps to the map. Returns whether there were any.
fn take(store: &Store, map: &mut Map, points: usize, notes: bool) -> bool {
    let cursor = store.feed().cursor(READER).unwrap();
    let gap = store.feed().take_gap(READER, 5_000 * SECOND, i64::MAX, 0).unwrap();
    if let Some(gap) = gap {
        for lock in 0..3 {
            map.extend(read(store, lock, gap.range()).into_iter().map(|(time, value)| ((lock, time), value)));
        }
        if notes {
            store.feed().finish_gap(READER, 0).unwrap();
        }
    }
    let (batches, next) = store.feed().read(cursor.position, points).unwrap();
    assert!(batches.windows(2).all(|pair| pair[0].position < pair[1].position), "in order");
    assert!(next >= cursor.position && batches.last().is_none_or(|last| last.position == next));
    for stretch in batches.iter().flat_map(|batch| batch.series()) {
        let lock = lock_of(store, stretch.series);
        map.extend(stretch.points.times.iter().zip(stretch.points.values).map(|(time, value)| ((lock, *time), *value)));
    }
    if notes {
        store.feed().advance(READER, next, 0).unwrap();
    }
    !batches.is_empty() || gap.is_some()
}

fn all(store: &Store) -> Map {
    (0..3).flat_map(|lock| read(store, lock, TimeRange::ALL).into_iter().map(move |(time, value)| ((lock, time), value))).collect()
}

fn opened(path: &Path, hold_bytes: u64) -> Store {
    try_open(path, Options { hold_bytes, ..quiet() }).unwrap()
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 40, ..ProptestConfig::default() })]
    #[test]
    fn a_reader_ends_with_what_the_store_has(steps in prop::collection::vec(a_step(), 1..40), hold_bytes in prop_oneof![Just(0), Just(40_000), Just(1 << 30)]) {
        let folder = tempfile::tempdir().unwrap();
        let (mut life, mut path) = (0, folder.path().join("0"));
        let mut store = opened(&path, hold_bytes);
        store.feed().follow(READER, 0).unwrap();
        let mut map = Map::new();
        for step in steps {
            match step {
                Step::Write(points) => {
                    let points: Vec<_> = points.into_iter().map(|(lock, at, value)| (lock, START + at * SECOND, f64::from(value))).collect();
                    write(&store, &points);
                }
                Step::Pack => store.pack().unwrap(),
                Step::Read(points, notes) => drop(take(&store, &mut map, points, notes)),
                Step::Kill => {
                    life += 1;
                    let next = folder.path().join(life.to_string());
                    copy(&path, &next);
                    drop(store);
                    path = next;
                    store = opened(&path, hold_bytes);
                }
            }
        }
        while take(&store, &mut map, 50, true) {}
        prop_assert_eq!(map, all(&store));
        // The reader has passed all files.
        store.pack().unwrap();
        while take(&store, &mut Map::new(), 50, true) {}
        let held = store.feed().held_bytes().unwrap();
        prop_assert_eq!(held, 0);
    }
}

#[test]
fn a_reader_waits_until_something_comes() {
    let folder = tempfile::tempdir().unwrap();
    let store = opened(folder.path(), 1 << 30);
    write(&store, &[(0, START, 1.0)]);
    let cursor = store.feed().follow(READER, 0).unwrap();
    assert_eq!(store.feed().read(cursor.position, 10).unwrap().0.len(), 0, "what was there before is not sent");
    std::thread::scope(|scope| {
        scope.spawn(|| {
            std::thread::sleep(Duration::from_millis(50));
            write(&store, &[(0, START + SECOND, 2.0)]);
        });
        let begun = std::time::Instant::now();
        store.feed().wait(cursor.position, Duration::from_secs(20));
        assert!(begun.elapsed() < Duration::from_secs(10));
    });
    let (batches, next) = store.feed().read(cursor.position, 10).unwrap();
    assert_eq!((batches.len(), batches[0].points(), next), (1, 1, store.feed().end()));
    store.feed().unfollow(READER).unwrap();
    assert_eq!(store.feed().cursor(READER), None);
}

#[test]
fn what_is_far_behind_is_read_from_the_file_that_is_written_to() {
    let folder = tempfile::tempdir().unwrap();
    let store = opened(folder.path(), 1 << 30);
    let cursor = store.feed().follow(READER, 0).unwrap();
    // More than memory keeps of it.
    for round in 0..24 {
        let points: Vec<_> = (0..100_000).map(|at| (0, START + (round * 100_000 + at) * SECOND, at as f64)).collect();
        write(&store, &points);
    }
    assert_eq!(store.feed().points_after(cursor.position).unwrap(), 2_400_000);
    let (mut from, mut points, mut rounds) = (cursor.position, 0, 0);
    loop {
        let (batches, next) = store.feed().read(from, 250_000).unwrap();
        if batches.is_empty() {
            break;
        }
        (from, points, rounds) = (next, points + batches.iter().map(|batch| batch.points()).sum::<usize>(), rounds + 1);
    }
    assert_eq!((points, from), (2_400_000, store.feed().end()));
    assert!((8..=24).contains(&rounds), "{rounds} rounds: in parts, and not batch by batch");
    assert_eq!(store.feed().points_after(from).unwrap(), 0);
    assert!(from > Position::default());
}
