//! Levels over points that are few and far between: the work goes by points, not by time.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

#[path = "support/rolled.rs"]
mod rolled;
mod support;

use fenetre_core::{
    model::Value,
    time::{Nanos, SECOND},
};
use fenetre_store::Store;
use rolled::{main, numbers, policy};
use support::{START, open, write};

fn values(line: &[Option<Value>]) -> Vec<f64> {
    line.iter().flatten().filter_map(Value::number).collect()
}

#[test]
fn a_fine_level_is_filled_from_points_with_long_gaps_between_them() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    let year = 365 * 86_400 * SECOND;
    let now = START;
    write(&store, &[(0, now - 10 * year, 1.0), (0, now - 10 * year + SECOND, 2.0), (1, now - 3 * year, 4.0)]);
    store.rollups().put("main", "fine", &policy(&["100ms", "1h"])).unwrap();
    let id = main(&store);
    // To a tenth of a second, ten years are three thousand million windows.
    let began = std::time::Instant::now();
    store.rollups().run(id, now).unwrap();
    let turns = began.elapsed();
    let state = |store: &Store| store.rollups().state(id).unwrap().1;
    assert!(state(&store).iter().all(|level| level.covered.is_some_and(|covered| covered.start == Nanos::MIN)), "{:?} in {turns:?}", state(&store));
    assert_eq!(state(&store).iter().map(|level| level.windows).collect::<Vec<_>>(), [3, 2]);
    let (sums, ..) = numbers(&store, "show sum of level overall over 2010 to now per 1y from 100ms", now);
    assert_eq!(values(&sums[0]), [3.0, 4.0]);
    // Windows go forward by points as well, and are made again where points come late.
    write(&store, &[(0, now + 5 * year, 8.0), (1, now - 6 * year, 16.0)]);
    let later = now + 6 * year;
    store.rollups().run(id, later).unwrap();
    assert_eq!(state(&store).iter().map(|level| level.windows).collect::<Vec<_>>(), [5, 4]);
    let (sums, ..) = numbers(&store, "show sum of level overall over 2010 to now per 1y from 100ms", later);
    assert_eq!(values(&sums[0]), [3.0, 16.0, 4.0, 8.0]);
}

#[test]
fn a_policy_packs_what_waits() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    write(&store, &[(0, START, 1.0)]);
    store.rollups().put("main", "hours", &policy(&["1h"])).unwrap();
    let state = || store.rollups().state(main(&store)).unwrap().1;
    for _ in 0..500 {
        if state().iter().all(|level| level.waiting == 0 && level.first == Some(START)) {
            return;
        }
        std::thread::sleep(std::time::Duration::from_millis(10));
    }
    panic!("{:?}", state());
}
