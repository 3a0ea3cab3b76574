//! What the store's tests share: points in, points out, and copies of a store's files.

#![allow(dead_code, reason = "each test uses a part of it")]

use std::{
    fs,
    path::Path,
    sync::atomic::{AtomicBool, Ordering},
    time::Duration,
};

use fenetre_core::{
    block::Columns,
    evaluate::{End, Run, Source},
    model::{DatasetId, PointRef, PointSink, SeriesId, Value, ValueRef},
    time::{Nanos, SECOND, TimeRange},
};
use fenetre_store::{Options, Store, StoreError, StoreSource};

pub const START: Nanos = 1_790_000_000 * SECOND;

/// Ends the threads of a test when it is dropped, also if the test fails: else a scope would wait for them forever.
pub struct Ends<'t>(pub &'t AtomicBool);

impl Drop for Ends<'_> {
    fn drop(&mut self) {
        self.0.store(true, Ordering::SeqCst);
    }
}

/// Options under which nothing happens unless a test asks for it, and few points make many partitions.
pub fn quiet() -> Options {
    Options { compact_after: Duration::from_secs(3_600), longest_span_days: 7, ..Options::default() }
}

/// Opens a store that this process has just closed. Another test of it may be starting a program at that moment (the snapshots' library
/// does), and until that has begun it holds whatever was open, the lock too.
pub fn try_open(path: &Path, options: Options) -> Result<Store, StoreError> {
    let mut opened = Store::open(path, options.clone());
    for _ in 0..100 {
        if !matches!(opened, Err(StoreError::InUse { .. })) {
            break;
        }
        std::thread::sleep(Duration::from_millis(10));
        opened = Store::open(path, options.clone());
    }
    opened
}

pub fn open(path: &Path) -> Store {
    try_open(path, quiet()).unwrap()
}

/// A store goes on elsewhere from its files as they are at this moment, while it works on: as after a kill.
pub fn killed(store: Store, folders: &mut Vec<tempfile::TempDir>) -> Store {
    let elsewhere = tempfile::tempdir().unwrap();
    copy(folders.last().unwrap().path(), elsewhere.path());
    drop(store);
    folders.push(elsewhere);
    open(folders.last().unwrap().path())
}

/// Writes points of `level`, each as lock, instant and value, in one batch.
pub fn write(store: &Store, points: &[(u8, Nanos, f64)]) {
    let mut batch = store.begin("main").unwrap();
    for (lock, time, value) in points {
        let lock = format!("lock-{lock}");
        batch.accept(PointRef { metric: "level", tags: &[("lock", &lock), ("side", "up")], time: *time, value: ValueRef::Number(*value) }).unwrap();
    }
    store.write(batch).unwrap();
}

/// A series by the value of one of its tags.
pub fn series(store: &Store, tag: &str, value: &str) -> Option<(DatasetId, SeriesId)> {
    store.with_catalogue(|catalogue| {
        let dataset = catalogue.dataset("main").unwrap();
        let found = dataset.all_series().find(|series| series.tags.get(tag).is_some_and(|(_, known)| **known == *value))?;
        Some((dataset.id, found.id))
    })
}

/// All points of a series inside a range, as a query sees them; looks whether each block's summary tells its points.
pub fn columns(source: &StoreSource<'_>, (dataset, series): (DatasetId, SeriesId), range: TimeRange) -> Result<Columns, String> {
    let mut found = Columns::default();
    let scanned = source.scan(dataset, &[series], range, &mut |_, run| {
        match run {
            Run::Block(block) => {
                let before = found.len();
                block.decode(&mut found)?;
                let (summary, points) = (block.summary(), found.points().slice(before..found.len()));
                assert_eq!(
                    (summary.count as usize, summary.first.time, summary.last.time),
                    (points.len(), points.times[0], points.times[points.len() - 1])
                );
            }
            Run::Points(points) => found.extend(points),
            Run::Windows(..) => panic!("points were asked for"),
        }
        Ok(())
    });
    scanned.map_err(|error| error.to_string())?;
    assert!(found.times.windows(2).all(|pair| pair[0] < pair[1]), "in order, each instant once");
    let inside = found.points().places_in(range);
    Ok(found.points().slice(inside).to_columns())
}

/// All points of a lock inside a range.
pub fn read_from(source: &StoreSource<'_>, store: &Store, lock: u8, range: TimeRange) -> Vec<(Nanos, f64)> {
    let Some(series) = series(store, "lock", &format!("lock-{lock}")) else { return vec![] };
    let found = columns(source, series, range).unwrap();
    // The second time from the index that the first has left; and each end by itself.
    assert_eq!(columns(source, series, range).unwrap(), found);
    for (end, wanted) in [(End::Earliest, found.times.first()), (End::Latest, found.times.last())] {
        let outermost = source.outermost(series.0, &[series.1], range, end).unwrap()[0];
        assert_eq!(outermost.map(|sample| sample.time), wanted.copied(), "{end:?}");
    }
    found.times.into_iter().zip(found.values).collect()
}

pub fn read(store: &Store, lock: u8, range: TimeRange) -> Vec<(Nanos, f64)> {
    read_from(&store.source(), store, lock, range)
}

/// Everything as it leaves.
pub fn values(store: &Store, tag: &str, value: &str) -> Vec<Value> {
    let found = columns(&store.source(), series(store, tag, value).unwrap(), TimeRange::ALL).unwrap();
    (0..found.len()).map(|at| found.points().value(at)).collect()
}

pub fn copy(from: &Path, to: &Path) {
    fs::create_dir_all(to).unwrap();
    for entry in fs::read_dir(from).unwrap() {
        let entry = entry.unwrap();
        let target = to.join(entry.file_name());
        if entry.path().is_dir() {
            copy(&entry.path(), &target);
        } else {
            fs::copy(entry.path(), target).unwrap();
        }
    }
}
