//! An answer from rollups equals the answer from points: whatever came, in whatever order, packed or not, deleted, restored, backed up, over restarts
//! and kills.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

#[path = "support/rolled.rs"]
mod rolled;
mod support;

use fenetre_core::{
    keeping::{LimitSettings, Scope},
    model::{PointRef, PointSink, RollupPolicy, ValueRef},
    time::{Nanos, SECOND, Span, TimeRange, format_utc},
};
use fenetre_store::{Selection, Store};
use proptest::prelude::*;
use rolled::{Arrival, BEGIN, MINUTE, REDUCERS, check, define, levels, main, numbers, policy, same, verified, write};
use support::{copy, killed, open};

#[derive(Clone, Debug)]
enum Deed {
    Write(Vec<Arrival>),
    Pack,
    RollUp(i64),
    Delete(i64, i64),
    RestoreAll,
    Reopen,
    Kill,
    Redefine(i64),
    TakeAll(bool),
    Backup,
}

fn deeds() -> impl Strategy<Value = Vec<Deed>> {
    let arrival = (0u8..3, 0i64..7_200, 0u8..160);
    let deed = prop_oneof![
        5 => prop::collection::vec(arrival, 1..60).prop_map(Deed::Write),
        2 => Just(Deed::Pack),
        4 => (0i64..9_000).prop_map(Deed::RollUp),
        1 => (0i64..7_000, 1i64..2_000).prop_map(|(from, length)| Deed::Delete(from, length)),
        1 => Just(Deed::RestoreAll),
        1 => Just(Deed::Reopen),
        1 => Just(Deed::Kill),
        1 => (50i64..900).prop_map(Deed::Redefine),
        1 => any::<bool>().prop_map(Deed::TakeAll),
        1 => Just(Deed::Backup),
    ];
    prop::collection::vec(deed, 2..14)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]
    #[test]
    fn rollups_always_agree_with_points(deeds in deeds(), begin_at in 0usize..6) {
        let mut folders = vec![tempfile::tempdir().unwrap()];
        let mut store = Some(open(folders[0].path()));
        define(store.as_ref().unwrap());
        let now = BEGIN + 7_300 * SECOND;
        for (at, deed) in deeds.iter().enumerate() {
            if at == begin_at {
                store.as_ref().unwrap().rollups().put("main", "all", &policy(&["1m", "10m"])).unwrap();
            }
            let this = store.as_ref().unwrap();
            match deed {
                Deed::Write(arrivals) => write(this, arrivals),
                Deed::Pack => this.pack().unwrap(),
                Deed::RollUp(second) => this.rollups().run(main(this), BEGIN + second * SECOND).unwrap(),
                Deed::Delete(from, length) => {
                    let range = TimeRange { start: BEGIN + from * SECOND, end: BEGIN + (from + length) * SECOND };
                    let series = this.with_catalogue(|catalogue| catalogue.dataset("main").unwrap().all_series().filter(|series| series.codes.is_none()).map(|series| series.id).collect());
                    this.bin().delete_points(&Selection { dataset: main(this), series, range }, "some", at as i64 * 1_000_000).unwrap();
                }
                Deed::RestoreAll => this.bin().list().unwrap().iter().for_each(|item| this.bin().restore(&item.id, None).unwrap()),
                Deed::Redefine(stale) => {
                    let mut definition = this.with_catalogue(|catalogue| catalogue.dataset("main").unwrap().metric("level").unwrap().definition.clone());
                    definition.stale_after = Some(Span::exact(stale * SECOND));
                    this.definitions().put_metric("main", "level", definition).unwrap();
                }
                Deed::TakeAll(all) => {
                    if at >= begin_at {
                        let metrics = if *all { vec![] } else { vec!["*e*l".to_owned(), "wait".to_owned()] };
                        this.rollups().put("main", "all", &RollupPolicy { metrics, ..policy(&["1m", "10m"]) }).unwrap();
                    }
                }
                Deed::Reopen => {
                    drop(store.take());
                    store = Some(open(folders.last().unwrap().path()));
                }
                Deed::Kill => store = store.take().map(|store| killed(store, &mut folders)),
                Deed::Backup => {
                    let elsewhere = tempfile::tempdir().unwrap();
                    this.backup(&elsewhere.path().join("copy"), None, &mut |_| true).unwrap();
                    fenetre_store::restore(&elsewhere.path().join("copy"), &elsewhere.path().join("store"), &mut |_| true).unwrap();
                    let restored = open(&elsewhere.path().join("store"));
                    check(&restored, now, "over now - 7300s to now per 10m");
                }
            }
            let this = store.as_ref().unwrap();
            if at % 3 == 2 { check(this, now, "over now - 7300s to now per 10m"); }
        }
        let this = store.as_ref().unwrap();
        for frame in ["over now - 7300s to now per 1m", "over now - 7300s to now per 10m", "over now - 5000s to now - 333s per 30m stepping 10m", "over now - 7300s to now"] {
            check(this, now, frame);
        }
        if begin_at < deeds.len() {
            this.rollups().run(main(this), now).unwrap();
            let read = check(this, now, "over now - 7300s to now per 10m");
            let any = deeds.iter().any(|deed| matches!(deed, Deed::Write(_)));
            prop_assert!(read > 0 || !any || this.inspect().counts(main(this)).unwrap().is_empty(), "rollups were asked");
            prop_assert_eq!(this.rollups().state(main(this)).unwrap().1.iter().map(|level| level.out_of_date).sum::<u64>(), 0);
        }
    }
}

#[test]
fn windows_outlive_points_and_unanswerable_time_is_reported() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    define(&store);
    let day = 1_440 * MINUTE;
    // Eight weeks with a point every ten minutes.
    let arrivals: Vec<Arrival> = (0..8 * 7 * 144).map(|at| (0, at * 600, (at * at % 97) as u8)).collect();
    arrivals.chunks(2_000).for_each(|some| write(&store, some));
    store.rollups().put("main", "all", &policy(&["1h", "1d"])).unwrap();
    let now = BEGIN + 8 * 7 * day;
    store.rollups().run(main(&store), now).unwrap();
    let frame = "over now - 50d to now per 1d";
    let asked = |store: &Store| REDUCERS.map(|reducer| numbers(store, &format!("show {reducer} {frame}"), now).0);
    let before = asked(&store);
    store
        .retention()
        .set_limits(Scope::Store, LimitSettings { keep_for: Some(Some(Span { days: 14, ..Span::default() })), keep_under: None }, now)
        .unwrap();
    let gone = store.retention().expire(now).unwrap();
    assert!(gone.steps.len() >= 4, "{gone:?}");
    for (reducer, (before, after)) in REDUCERS.iter().zip(before.iter().zip(asked(&store))) {
        for (at, (before, after)) in before[0].iter().zip(&after[0]).enumerate() {
            assert!(same(before, after), "{reducer}, day {at}: with points {before:?}, without {after:?}");
        }
    }
    // Quantiles of numbers: within one percent where only windows are left, exact where there are points.
    let (median, _, _) = numbers(&store, &format!("show median of boats {frame}"), now);
    assert!(median[0].iter().all(Option::is_some));
    let (_, _, notes) = numbers(&store, "show mean of level over now - 50d to now per 7m", now);
    assert!(notes.iter().any(|note| note.contains("are no longer kept")), "{notes:?}");
    let (_, windows, notes) = numbers(&store, "show mean of level over now - 50d to now per 1d from 1h", now);
    assert!(windows > 1_000 && notes.is_empty(), "{windows} {notes:?}");
    // Points are not dropped before windows tell of them.
    store.rollups().put("main", "late", &policy(&["5m"])).unwrap();
    store
        .retention()
        .set_limits(Scope::Store, LimitSettings { keep_for: Some(Some(Span { days: 1, ..Span::default() })), keep_under: None }, now)
        .unwrap();
    let held_back = store.retention().expire(now).unwrap();
    assert!(held_back.steps.is_empty() && held_back.waiting > 0, "{held_back:?}");
    store.rollups().run(main(&store), now).unwrap();
    assert!(!store.retention().expire(now).unwrap().steps.is_empty());
}

#[test]
fn a_metric_with_a_shorter_limit_keeps_its_windows() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    define(&store);
    let now = store_now();
    let begin = now - 40 * 1_440 * MINUTE;
    let mut batch = store.begin("main").unwrap();
    for at in 0..40 * 144 {
        batch.accept(PointRef { metric: "level", tags: &[], time: begin + at * 10 * MINUTE, value: ValueRef::Number((at % 7) as f64) }).unwrap();
    }
    store.write(batch).unwrap();
    store.rollups().put("main", "all", &policy(&["1h", "1d"])).unwrap();
    store.rollups().run(main(&store), now).unwrap();
    let asked = |store: &Store| numbers(store, "show sum of level over now - 39d to now per 1d", now).0;
    let before = asked(&store);
    let metric = store.with_catalogue(|catalogue| catalogue.dataset("main").unwrap().metric("level").unwrap().id);
    store
        .retention()
        .set_limits(
            Scope::Metric(main(&store), metric),
            LimitSettings { keep_for: Some(Some(Span { days: 10, ..Span::default() })), keep_under: None },
            now,
        )
        .unwrap();
    assert_eq!(store.retention().expire(now).unwrap().steps.len(), 1);
    // Also when all of them are looked at again, since the metric is joined otherwise now.
    let mut definition = store.with_catalogue(|catalogue| catalogue.dataset("main").unwrap().metric("level").unwrap().definition.clone());
    definition.stale_after = Some(Span::exact(77 * MINUTE));
    store.definitions().put_metric("main", "level", definition).unwrap();
    store.rollups().run(main(&store), now).unwrap();
    for (at, (before, after)) in before[0].iter().zip(&asked(&store)[0]).enumerate() {
        assert!(same(before, after), "day {at}: with points {before:?}, without {after:?}");
    }
    // A level that is made from others has what they have.
    store.rollups().put("main", "all", &policy(&["1h", "1d", "1w"])).unwrap();
    store.rollups().run(main(&store), now).unwrap();
    // Whole weeks, on whichever day this runs; they begin on Mondays, and time began on a Thursday.
    let monday = now - (now / (1_440 * MINUTE) + 3) % 7 * 1_440 * MINUTE;
    let [from, until] = [monday - 28 * 1_440 * MINUTE, monday].map(format_utc);
    let (weeks, read, notes) = numbers(&store, &format!("show sum of level over {from} to {until} per 1w from 1w"), now);
    assert!(read > 0 && notes.is_empty() && weeks[0].iter().all(Option::is_some), "{weeks:?} {notes:?}");
    // One that is made of what is left has nothing of what went before, and says so, also after a restart.
    store.rollups().remove("main", "all").unwrap();
    store.rollups().put("main", "all", &policy(&["1h", "1d"])).unwrap();
    store.rollups().run(main(&store), now).unwrap();
    let is_noted = |store: &Store| {
        let (days, _, notes) = numbers(store, "show sum of level over now - 39d to now per 1d", now);
        assert!(days[0][38].is_some() && notes.iter().any(|note| note.contains("are no longer kept")), "{days:?} {notes:?}");
        assert!(verified(store).faults.is_empty());
    };
    is_noted(&store);
    drop(store);
    is_noted(&open(folder.path()));
}

fn store_now() -> Nanos {
    std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap().as_nanos() as Nanos / (1_440 * MINUTE) * (1_440 * MINUTE)
}

#[test]
fn metrics_that_join_a_policy_later_are_rolled_up_from_their_first_point() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    define(&store);
    write(&store, &(0..200).map(|at| (0, at * 30, at as u8)).collect::<Vec<_>>());
    let only_boats = RollupPolicy { metrics: vec!["boat*".to_owned()], ..policy(&["1m"]) };
    store.rollups().put("main", "some", &only_boats).unwrap();
    let now = BEGIN + 7_300 * SECOND;
    store.rollups().run(main(&store), now).unwrap();
    let read = |text: &str| numbers(&store, &format!("show {text} over now - 7300s to now per 10m"), now).1;
    assert_eq!((read("mean of level"), read("growth of boats") > 0), (0, true));
    store.definitions().rename_metric("main", "level", "boats_and_level").unwrap();
    store.rollups().run(main(&store), now).unwrap();
    assert!(read("mean of boats_and_level") > 0);
    let condition = RollupPolicy { condition: Some("lock = \"lock-1\"".to_owned()), ..only_boats };
    store.rollups().put("main", "some", &condition).unwrap();
    store.rollups().run(main(&store), now).unwrap();
    assert_eq!(read("growth of boats"), 0, "not all of its series are taken");
    store.rollups().remove("main", "some").unwrap();
    assert!(store.rollups().remove("main", "some").is_err());
    assert!(!folder.path().join("rollup/main/some").exists());
}

#[test]
fn windows_inserted_between_others_are_found_in_order() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    define(&store);
    let now = BEGIN + 7_300 * SECOND;
    store.rollups().put("main", "all", &policy(&["1m", "10m"])).unwrap();
    // The first lies between the two that come late, which are made again together: their row reaches over its own.
    write(&store, &[(0, 3_600, 0)]);
    store.rollups().run(main(&store), now).unwrap();
    write(&store, &[(0, 3_660, 0), (0, 0, 0)]);
    store.rollups().run(main(&store), now).unwrap();
    assert!(check(&store, now, "over now - 7300s to now per 10m") > 0);
}

#[test]
fn windows_that_disagree_with_points_are_found() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    define(&store);
    write(&store, &(0..240).map(|at| ((at % 2) as u8, at * 30, at as u8)).collect::<Vec<_>>());
    store.rollups().put("main", "all", &policy(&["1m", "10m"])).unwrap();
    store.rollups().run(main(&store), BEGIN + 7_300 * SECOND).unwrap();
    let sound = verified(&store);
    assert!(sound.faults.is_empty() && sound.windows > 240 && sound.points > 960, "{sound:?}");
    let file = levels(&store).into_iter().find(|level| level.width == "1m").unwrap().files.remove(0);
    drop(store);
    let spoilt = |change: &str| {
        let elsewhere = tempfile::tempdir().unwrap();
        copy(folder.path(), elsewhere.path());
        let changed = elsewhere.path().join(file.strip_prefix(folder.path()).unwrap());
        assert!(rusqlite::Connection::open(changed).unwrap().execute(change, []).unwrap() > 0, "{change}");
        let store = open(elsewhere.path());
        // Nothing is made again meanwhile.
        verified(&store).faults
    };
    let one = "id = (SELECT min(id) FROM windows)";
    for (change, message) in [
        (
            format!("UPDATE windows SET bytes = CAST(substr(bytes, 1, 20) || x'A5' || substr(bytes, 22) AS BLOB) WHERE {one}"),
            "is damaged: windows from",
        ),
        (format!("UPDATE windows SET more = CAST(substr(more, 1, 20) || x'A5' || substr(more, 22) AS BLOB) WHERE {one}"), "is damaged: windows from"),
        (format!("UPDATE windows SET count = count + 1 WHERE {one}"), "the row does not match its index"),
        (format!("DELETE FROM windows WHERE {one}"), "there are points and no window"),
        (
            "UPDATE windows SET (bytes, more) = (SELECT bytes, more FROM windows AS other WHERE other.series <> windows.series AND \
             other.start = windows.start AND other.end = windows.end AND other.count = windows.count LIMIT 1) WHERE EXISTS \
             (SELECT 1 FROM windows AS other WHERE other.series <> windows.series AND other.start = windows.start AND other.end = windows.end \
             AND other.count = windows.count)"
                .to_owned(),
            "it is not that of its points",
        ),
    ] {
        let faults = spoilt(&change);
        assert!(faults.iter().any(|fault| fault.contains(message)), "{change}: {faults:#?}");
    }
    std::fs::write(&file, "no database").unwrap();
    assert_eq!(verified(&open(folder.path())).faults.len(), 1);
}

#[test]
fn erasing_a_metric_removes_its_windows() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    define(&store);
    write(&store, &(0..240).map(|at| (0, at * 30, at as u8)).collect::<Vec<_>>());
    store.rollups().put("main", "all", &policy(&["1m"])).unwrap();
    let now = BEGIN + 7_300 * SECOND;
    store.rollups().run(main(&store), now).unwrap();
    let windows = || store.rollups().state(main(&store)).unwrap().1[0].windows;
    let before = windows();
    store.bin().delete_metric("main", "level", 1).unwrap();
    store.rollups().run(main(&store), now).unwrap();
    assert_eq!(windows(), before, "it may come back");
    store.bin().erase(&store.bin().list().unwrap()[0].id).unwrap();
    assert_eq!(windows(), before - 120);
    assert!(check_other_than_level(&store, now) > 0);
}

fn check_other_than_level(store: &Store, now: Nanos) -> u64 {
    let frame = "over now - 7300s to now per 10m";
    let (rolled, windows, _) = numbers(store, &format!("show growth of boats {frame}"), now);
    assert_eq!(rolled, numbers(store, &format!("show growth of boats {frame} from raw"), now).0);
    assert!(verified(store).faults.is_empty());
    windows
}
