//! Packing that fails: callers that wait for it learn why, none waits for ever, and nothing is lost.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

mod support;

use std::fs;

use fenetre_core::time::{SECOND, TimeRange};
use fenetre_store::{Selection, StoreError};
use support::{START, columns, open, series, write};

#[test]
fn a_failed_packing_reports_its_reason_and_is_retried() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    write(&store, &[(1, START, 1.0), (1, START + SECOND, 2.0)]);
    // Where the dataset's files would go there is a file.
    let (data, aside) = (folder.path().join("data/main"), folder.path().join("aside"));
    let had_folder = fs::rename(&data, &aside).is_ok();
    fs::write(&data, "not a folder").unwrap();
    for _ in 0..4 {
        let error = store.pack().unwrap_err();
        assert!(matches!(&error, StoreError::Unpacked(reason) if reason.contains("data/main")), "{error}");
        assert!(error.to_string().contains("They are safe and can be queried"), "{error}");
    }
    // Everything else works.
    write(&store, &[(1, START + 2 * SECOND, 3.0)]);
    let found = series(&store, "lock", "lock-1").unwrap();
    assert_eq!(columns(&store.source(), found, TimeRange::ALL).unwrap().values, [1.0, 2.0, 3.0]);
    fs::remove_file(&data).unwrap();
    if had_folder {
        fs::rename(&aside, &data).unwrap();
    }
    store.pack().unwrap();
    assert_eq!(columns(&store.source(), found, TimeRange::ALL).unwrap().values, [1.0, 2.0, 3.0]);
    assert_eq!(store.inspect().report(0).unwrap().journal.points, 0);
}

#[test]
fn measuring_counts_each_instant_once_and_packs_nothing() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    write(&store, &[(1, START, 1.0), (1, START + SECOND, 2.0), (2, START, 9.0)]);
    store.pack().unwrap();
    // One of them anew, one that is only in memory, and one after the range.
    write(&store, &[(1, START + SECOND, 5.0), (1, START + 2 * SECOND, 3.0), (1, START + 9 * SECOND, 4.0)]);
    let waiting = store.inspect().report(0).unwrap().journal.points;
    let of = |lock: &str| series(&store, "lock", lock).unwrap();
    let selection = Selection {
        dataset: of("lock-1").0,
        series: vec![of("lock-1").1, of("lock-2").1],
        range: TimeRange { start: START, end: START + 3 * SECOND },
    };
    let weight = store.bin().measure(&selection).unwrap();
    assert_eq!((weight.points, weight.span), (4, Some((START, START + 2 * SECOND))));
    assert!(weight.bytes > 0);
    assert_eq!(store.inspect().report(0).unwrap().journal.points, waiting);
    // The deletion itself takes exactly these.
    let gone = store.bin().delete_points(&selection, "all of it", START).unwrap();
    assert_eq!(gone.points.unwrap().points, 4);
}
