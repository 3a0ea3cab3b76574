//! The index of blocks in memory: while points come, are packed and compacted, every snapshot reads the same twice, nothing is missing, and no
//! read meets a block that is no longer there.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

mod support;

use std::{
    sync::atomic::{AtomicBool, AtomicU64, Ordering},
    thread,
};

use fenetre_core::{
    evaluate::{End, Source},
    time::{SECOND, TimeRange},
};
use support::{Ends, START, columns, open, series, write};

const ROUNDS: u64 = 60;
const EACH: u64 = 150;

#[test]
fn readers_see_consistent_snapshots_during_changes() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    write(&store, &[(0, START - SECOND, -1.0)]);
    let (written, ended) = (AtomicU64::new(1), AtomicBool::new(false));
    thread::scope(|scope| {
        scope.spawn(|| {
            let _ends = Ends(&ended);
            for round in 0..ROUNDS {
                // Out of order by a round, so that blocks overlap until they are compacted.
                let of = if round % 2 == 0 { round + 1 } else { round - 1 };
                let points: Vec<_> = (0..EACH).map(|at| (0, START + ((of * EACH + at) as i64) * SECOND, (of * EACH + at) as f64)).collect();
                write(&store, &points);
                written.fetch_add(EACH, Ordering::SeqCst);
                store.pack().unwrap();
                if round % 5 == 4 {
                    store.inspect().compact_all().unwrap();
                }
            }
        });
        for _ in 0..2 {
            scope.spawn(|| {
                let lock = series(&store, "lock", "lock-0").unwrap();
                let mut seen = 0;
                while !ended.load(Ordering::SeqCst) {
                    let least = written.load(Ordering::SeqCst);
                    let source = store.source();
                    let found = columns(&source, lock, TimeRange::ALL).unwrap();
                    assert_eq!(columns(&source, lock, TimeRange::ALL).unwrap(), found, "a snapshot does not change");
                    assert!(found.len() as u64 >= least.max(seen), "{} of {least}", found.len());
                    let latest = source.outermost(lock.0, &[lock.1], TimeRange::ALL, End::Latest).unwrap()[0].unwrap();
                    assert_eq!((latest.time, latest.value), (*found.times.last().unwrap(), *found.values.last().unwrap()));
                    seen = found.len() as u64;
                }
            });
        }
    });
    let lock = series(&store, "lock", "lock-0").unwrap();
    assert_eq!(columns(&store.source(), lock, TimeRange::ALL).unwrap().len() as u64, ROUNDS * EACH + 1);
}

#[test]
fn several_series_are_read_side_by_side_as_each_alone() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    for day in 0..20 {
        let points: Vec<_> = (0..5u8).map(|lock| (lock, START + day * 86_400 * SECOND + i64::from(lock), day as f64)).collect();
        write(&store, &points);
        if day % 3 == 0 {
            store.pack().unwrap();
        }
    }
    let ids: Vec<_> = (0..5).map(|lock| series(&store, "lock", &format!("lock-{lock}")).unwrap()).collect();
    let all: Vec<_> = ids.iter().map(|(_, id)| *id).collect();
    let source = store.source();
    for range in [TimeRange::ALL, TimeRange { start: START + 2 * 86_400 * SECOND, end: START + 9 * 86_400 * SECOND }] {
        let mut together = vec![Vec::new(); all.len()];
        let taken = source.scan(ids[0].0, &all, range, &mut |place, run| {
            let mut columns = fenetre_core::block::Columns::default();
            match run {
                fenetre_core::evaluate::Run::Block(block) => block.decode(&mut columns)?,
                fenetre_core::evaluate::Run::Points(points) => columns.extend(points),
                fenetre_core::evaluate::Run::Windows(..) => panic!("points were asked for"),
            }
            together[place].extend(columns.times.into_iter().filter(|at| range.contains(*at)));
            Ok(())
        });
        taken.unwrap();
        let ends = [End::Earliest, End::Latest].map(|end| source.outermost(ids[0].0, &all, range, end).unwrap());
        for (place, lock) in ids.iter().enumerate() {
            let alone = columns(&source, *lock, range).unwrap();
            assert_eq!(together[place], alone.times);
            assert_eq!(ends[0][place].map(|sample| sample.time), alone.times.first().copied());
            assert_eq!(ends[1][place].map(|sample| sample.time), alone.times.last().copied());
        }
    }
    // A failure of whoever visits ends the scan, and comes back as it was.
    let failed = source.scan(ids[0].0, &all, TimeRange::ALL, &mut |_, _| Err("enough".into()));
    assert_eq!(failed.unwrap_err().to_string(), "enough");
}
