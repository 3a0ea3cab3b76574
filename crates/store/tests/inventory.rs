//! Partitions that must be there: one that is missing or empty is named, told of in answers, and there again when a copy of it is.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

mod support;

use std::{
    fs,
    path::{Path, PathBuf},
};

use fenetre_core::time::{Nanos, SECOND};
use fenetre_store::Store;
use support::{START, copy, open, write};

const DAY: Nanos = 86_400 * SECOND;

/// A store with three partitions of a week, closed, and the file of the one in the middle.
fn three_weeks(path: &Path) -> PathBuf {
    let store = open(path);
    for week in 0..3 {
        write(&store, &(0..50).map(|at| (1, START + week * 7 * DAY + at * SECOND, at as f64)).collect::<Vec<_>>());
    }
    store.pack().unwrap();
    let partitions = store.storage(0).unwrap().datasets.remove(0).partitions;
    assert_eq!(partitions.len(), 3);
    partitions[1].path.clone()
}

fn faults(store: &Store) -> Vec<String> {
    store.storage(0).unwrap().faults.into_iter().map(|(_, fault)| fault).collect()
}

fn points(store: &Store) -> u64 {
    store.storage(0).unwrap().datasets[0].partitions.iter().map(|partition| partition.points).sum()
}

fn remove(path: &Path) {
    for suffix in ["", "-wal", "-shm"] {
        let _ = fs::remove_file(format!("{}{suffix}", path.display()));
    }
}

#[test]
fn a_missing_or_emptied_partition_is_named_until_it_is_back_or_its_loss_is_accepted() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("store");
    let middle = three_weeks(&path);
    let (whole, aside) = (folder.path().join("whole"), folder.path().join("aside.db"));
    copy(&path, &whole);
    fs::copy(&middle, &aside).unwrap();
    let name = middle.strip_prefix(&path).unwrap().to_str().unwrap().to_owned();
    for is_emptied in [false, true] {
        let _ = fs::remove_dir_all(&path);
        copy(&whole, &path);
        remove(&middle);
        if is_emptied {
            fs::write(&middle, "").unwrap();
        }
        // It stays known over starts.
        for _ in 0..2 {
            let store = open(&path);
            let told = faults(&store);
            assert_eq!(told.len(), 1, "{told:?}");
            assert!(told[0].contains(&name) && told[0].contains("is missing or empty") && told[0].contains("storage accept-loss"), "{}", told[0]);
            assert_eq!(points(&store), 100, "the others are there");
        }
    }
    // A copy of it is what it was.
    fs::copy(&aside, &middle).unwrap();
    let store = open(&path);
    assert_eq!((faults(&store), points(&store)), (vec![], 150));
    drop(store);
    // Points that come into its time do not hide that it is lost.
    remove(&middle);
    let store = open(&path);
    write(&store, &[(1, START + 8 * DAY, 1.0)]);
    store.pack().unwrap();
    drop(store);
    let store = open(&path);
    assert_eq!((faults(&store).len(), points(&store)), (1, 101));
    assert!(store.accept_loss("data/main/other.db").unwrap_err().to_string().contains("is not a file that was lost"));
    store.accept_loss(&name).unwrap();
    assert_eq!(faults(&store), Vec::<String>::new());
    drop(store);
    assert_eq!(faults(&open(&path)), Vec::<String>::new());
}

#[test]
fn what_goes_by_itself_is_not_missed() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("store");
    three_weeks(&path);
    let store = open(&path);
    let said = fenetre_core::keeping::Said { keep_for: Some(Some(fenetre_core::time::Span::parse("10d").unwrap())), ..Default::default() };
    store.say(fenetre_core::keeping::Place::Store, said, START).unwrap();
    store.expire(START + 21 * DAY).unwrap();
    let image = folder.path().join("image");
    copy(&path, &image);
    drop(store);
    // Killed at that moment, and stopped in order.
    for path in [&path, &image] {
        let store = open(path);
        assert_eq!(faults(&store), Vec::<String>::new());
        let binned = store.bin().unwrap();
        assert!(!binned.is_empty());
        store.say(fenetre_core::keeping::Place::Store, fenetre_core::keeping::Said::default(), START).unwrap();
        for one in &binned {
            store.restore_binned(&one.id, None).unwrap();
        }
        drop(store);
        let store = open(path);
        assert_eq!((faults(&store), points(&store)), (vec![], 150));
    }
    // Merged into one of years.
    let wide = fenetre_store::Options { longest_span_days: 3_584, ..support::quiet() };
    let store = support::try_open(&path, wide.clone()).unwrap();
    store.tidy("main").unwrap();
    let image = folder.path().join("merged");
    copy(&path, &image);
    drop(store);
    for path in [&path, &image] {
        let store = support::try_open(path, wide.clone()).unwrap();
        assert_eq!((faults(&store), points(&store)), (vec![], 150));
        assert_eq!(store.storage(0).unwrap().datasets[0].partitions.len(), 1);
    }
}
