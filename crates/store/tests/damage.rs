//! What a power cut or a bad disk leaves behind: start-up keeps whole batches in order, and names the file that it cannot read.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

mod support;

use std::{
    fs,
    path::{Path, PathBuf},
};

use fenetre_core::{
    model::{PointRef, PointSink, ValueRef},
    time::{Nanos, SECOND, TimeRange},
};
use fenetre_store::Store;
use support::{START, columns, copy, quiet, series, try_open};

/// Points of one batch.
const BATCH: i64 = 5;

fn open(path: &Path) -> Result<Store, String> {
    try_open(path, quiet()).map_err(|error| error.to_string())
}

/// Writes batch number `n`, whose points say so.
fn write(store: &Store, n: i64) {
    let mut batch = store.begin("main").unwrap();
    for i in 0..BATCH {
        let time = START + (n * BATCH + i) * SECOND;
        batch.accept(PointRef { metric: "level", tags: &[("lock", "osier")], time, value: ValueRef::Number(n as f64) }).unwrap();
    }
    store.write(batch).unwrap();
}

fn read(store: &Store) -> Result<Vec<f64>, String> {
    let Some(series) = series(store, "lock", "osier") else { return Ok(vec![]) };
    columns(&store.source(), series, TimeRange::ALL).map(|columns| columns.values)
}

/// The only file under a folder whose name ends so.
fn find(folder: &Path, end: &str) -> PathBuf {
    let mut folders = vec![folder.to_owned()];
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(&folder).unwrap() {
            let path = entry.unwrap().path();
            if path.is_dir() {
                folders.push(path);
            } else if path.to_str().unwrap().ends_with(end) {
                return path;
            }
        }
    }
    panic!("no file ends with {end}");
}

#[test]
fn a_journal_cut_at_any_byte_keeps_a_prefix_of_whole_batches() {
    let folder = tempfile::tempdir().unwrap();
    let live = folder.path().join("live");
    let store = open(&live).unwrap();
    // The files as they stand while the store is open: what a power cut would leave, had everything been written back.
    (0..6).for_each(|n| write(&store, n));
    let image = folder.path().join("image");
    copy(&live, &image);
    drop(store);
    let log = "journal/000001.db-wal";
    let length = fs::metadata(image.join(log)).unwrap().len();
    let mut seen = Vec::new();
    for cut in (0..=length).step_by(997).chain([length]) {
        let cut_store = folder.path().join("cut");
        let _ = fs::remove_dir_all(&cut_store);
        copy(&image, &cut_store);
        fs::File::options().write(true).open(cut_store.join(log)).unwrap().set_len(cut).unwrap();
        let store = open(&cut_store).unwrap();
        let found = read(&store).unwrap();
        let batches = found.len() / BATCH as usize;
        let wanted: Vec<f64> = (0..batches as i64).flat_map(|n| vec![n as f64; BATCH as usize]).collect();
        assert_eq!(found, wanted, "cut at {cut} of {length}");
        // It can be written to again.
        write(&store, 100);
        assert_eq!(read(&store).unwrap().len(), wanted.len() + BATCH as usize);
        seen.push(batches);
    }
    assert!(seen.windows(2).all(|pair| pair[0] <= pair[1]), "the more is left, the more is there: {seen:?}");
    assert_eq!(seen.last(), Some(&6));
}

#[test]
fn a_kill_during_packing_loses_and_doubles_nothing() {
    let folder = tempfile::tempdir().unwrap();
    let live = folder.path().join("live");
    let store = open(&live).unwrap();
    (0..4).for_each(|n| write(&store, n));
    drop(store);
    let before = folder.path().join("before");
    copy(&live, &before);
    let store = open(&live).unwrap();
    store.pack().unwrap();
    drop(store);
    // Killed after the partition was written and before the journal was removed: both are there.
    copy(&before.join("journal"), &live.join("journal"));
    let store = open(&live).unwrap();
    assert_eq!(read(&store).unwrap().len(), 4 * BATCH as usize);
    let dataset = store.with_catalogue(|catalogue| catalogue.dataset("main").unwrap().id);
    assert_eq!(store.inspect().counts(dataset).unwrap().values().map(|count| count.points).sum::<u64>(), 4 * BATCH as u64);
}

/// A store with one packed partition, closed.
fn packed(folder: &Path) -> PathBuf {
    let path = folder.join("store");
    let store = open(&path).unwrap();
    write(&store, 1);
    store.pack().unwrap();
    path
}

#[test]
fn a_damaged_block_is_reported_with_file_series_and_time() {
    let folder = tempfile::tempdir().unwrap();
    let path = packed(folder.path());
    let partition = find(&path.join("data"), "_7d.db");
    let connection = rusqlite::Connection::open(&partition).unwrap();
    connection.execute("UPDATE block SET bytes = CAST(substr(bytes, 1, length(bytes) - 1) || x'00' AS BLOB)", []).unwrap();
    drop(connection);
    let reported = read(&open(&path).unwrap()).unwrap_err();
    assert!(reported.contains("_7d.db is damaged: the block of series 1 from 2026-09-21T14:13:25Z: the block's checksum"), "{reported}");
}

#[test]
fn files_that_are_not_databases_are_reported() {
    let folder = tempfile::tempdir().unwrap();
    let path = packed(folder.path());
    let junk = b"this is text, and has been for long enough to be looked at as the header of a file";
    fs::write(find(&path.join("data"), "_7d.db"), junk).unwrap();
    let reported = read(&open(&path).unwrap()).unwrap_err();
    assert!(reported.contains("_7d.db is damaged"), "{reported}");
    for file in ["journal/000009.db", "catalogue.db"] {
        fs::write(path.join(file), junk).unwrap();
        let reported = open(&path).err().unwrap();
        assert!(
            reported.contains(&format!("{file} is damaged")) && reported.contains("Restore the ") && reported.contains(" from a backup"),
            "{reported}"
        );
        let _ = fs::remove_file(path.join(file));
    }
}

#[test]
fn a_store_with_points_needs_its_catalogue() {
    let folder = tempfile::tempdir().unwrap();
    let path = packed(folder.path());
    let store = open(&path).unwrap();
    write(&store, 2);
    drop(store);
    let whole = folder.path().join("whole");
    copy(&path, &whole);
    let companions = ["catalogue.db", "catalogue.db-wal", "catalogue.db-shm"];
    let without = |change: &dyn Fn(&Path)| {
        let _ = fs::remove_dir_all(&path);
        copy(&whole, &path);
        companions.iter().map(|name| path.join(name)).filter(|path| path.exists()).for_each(|path| change(&path));
        open(&path).err().unwrap()
    };
    for message in [without(&|path| fs::remove_file(path).unwrap()), without(&|path| fs::write(path, "").unwrap())] {
        assert!(message.contains("catalogue.db is missing or empty") && message.contains("Restore the store from a backup"), "{message}");
    }
    // Nothing was made in its place, so that a copy can be put there.
    assert_eq!(fs::metadata(path.join("catalogue.db")).map_or(0, |file| file.len()), 0);
    for name in companions {
        let _ = fs::remove_file(path.join(name));
        let _ = fs::copy(whole.join(name), path.join(name));
    }
    assert_eq!(read(&open(&path).unwrap()).unwrap().len(), 2 * BATCH as usize);
}

#[test]
fn an_unreadable_record_is_named_and_not_overwritten() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("store");
    let store = open(&path).unwrap();
    write(&store, 1);
    let stated =
        fenetre_core::keeping::LimitSettings { keep_for: Some(Some(fenetre_core::time::Span::parse("400d").unwrap())), ..Default::default() };
    store.retention().set_limits(fenetre_core::keeping::Scope::Store, stated, START).unwrap();
    drop(store);
    let whole = folder.path().join("whole");
    copy(&path, &whole);
    for (change, record) in [
        ("UPDATE dataset SET definition = '{\"zone\": 7}'", "the dataset `main`"),
        ("UPDATE metric SET definition = '{\"kind\": \"gau\u{1}e\"}'", "the metric `level` (1)"),
        ("UPDATE metric SET dataset = 9", "the metric `level` (1)"),
        ("UPDATE series SET tags = '{\"lock\": \"osi'", "the series 1 of `level`"),
        ("INSERT INTO tag VALUES (1, 'lock', '[')", "the tag `lock`"),
        ("INSERT INTO document VALUES ('rollup', '1.default', '{\"levels\": 3}', 0, 1)", "the rollup document `1.default`"),
        ("UPDATE document SET body = '{\"keep_for\": \"400 moons\"}' WHERE sort = 'retention'", "the retention document `store`"),
        ("UPDATE document SET name = 'elsewhere' WHERE sort = 'retention'", "the retention document `elsewhere`"),
        ("INSERT INTO document VALUES ('trimmed-points', 'p1', '7', 0, 1)", "the trimmed-points document `p1`"),
        ("INSERT INTO document VALUES ('dropped-partition', 'x1', '{}', 0, 1)", "the dropped-partition document `x1`"),
        ("INSERT INTO document VALUES ('trimmed-points', 'p1', '{}', 0, 2)", "the trimmed-points document `p1`"),
        ("INSERT INTO document VALUES ('elsewhere', 'p1', '{}', 0, 1)", "the document `p1`"),
    ] {
        let _ = fs::remove_dir_all(&path);
        copy(&whole, &path);
        let connection = rusqlite::Connection::open(path.join("catalogue.db")).unwrap();
        connection.execute_batch(&format!("PRAGMA foreign_keys=OFF; {change}")).unwrap();
        let dump = |connection: &rusqlite::Connection| -> Vec<String> {
            let text =
                "SELECT sort || name || body FROM document UNION ALL SELECT definition FROM metric UNION ALL SELECT tags FROM series ORDER BY 1";
            connection.prepare(text).unwrap().query_map([], |row| row.get(0)).unwrap().collect::<Result<_, _>>().unwrap()
        };
        let before = dump(&connection);
        drop(connection);
        let message = open(&path).err().unwrap_or_else(|| panic!("it starts after: {change}"));
        assert!(
            message.contains(&format!("the record of {record} cannot be read")) && message.contains("Nothing was changed"),
            "{change}: {message}"
        );
        assert_eq!(dump(&rusqlite::Connection::open(path.join("catalogue.db")).unwrap()), before, "{change}");
    }
}

#[test]
fn a_flipped_header_byte_is_reported_as_damage() {
    let folder = tempfile::tempdir().unwrap();
    let path = packed(folder.path());
    let partition = find(&path.join("data"), "_7d.db");
    let mut bytes = fs::read(&partition).unwrap();
    // Which version must write it.
    bytes[18] = 9;
    fs::write(&partition, bytes).unwrap();
    let store = open(&path).unwrap();
    assert_eq!(read(&store).unwrap().len(), BATCH as usize, "it can be read");
    write(&store, 2);
    let reported = store.pack().unwrap_err().to_string();
    assert!(reported.contains("_7d.db is damaged: its header marks it as not writable") && !reported.contains("read-only"), "{reported}");
}

#[test]
fn foreign_files_in_the_store_are_ignored() {
    let folder = tempfile::tempdir().unwrap();
    let path = packed(folder.path());
    fs::write(path.join("journal/notes.txt"), "hello").unwrap();
    fs::write(path.join("data/main/notes.txt"), "hello").unwrap();
    fs::create_dir(path.join("data/elsewhere")).unwrap();
    assert_eq!(read(&open(&path).unwrap()).unwrap().len(), BATCH as usize);
}

#[test]
fn points_of_any_age_find_their_partition() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("store");
    let times = [Nanos::MIN, -1, 0, START, START + 7 * 86_400 * SECOND, Nanos::MAX];
    let store = open(&path).unwrap();
    let mut batch = store.begin("main").unwrap();
    for (i, time) in times.into_iter().enumerate() {
        batch.accept(PointRef { metric: "level", tags: &[("lock", "osier")], time, value: ValueRef::Number(i as f64) }).unwrap();
    }
    store.write(batch).unwrap();
    store.pack().unwrap();
    drop(store);
    let store = open(&path).unwrap();
    let report = store.inspect().report(0).unwrap();
    assert_eq!((report.journal.points, report.datasets[0].partitions.len()), (0, 6));
    let mut found = read(&store).unwrap();
    // A range is half-open, so that the very last instant there is lies in none.
    found.extend((found.len() < times.len()).then_some(5.0));
    assert_eq!(found, [0.0, 1.0, 2.0, 3.0, 4.0, 5.0]);
}
