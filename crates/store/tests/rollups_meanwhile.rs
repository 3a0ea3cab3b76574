//! Rollups while others read, copy or drop them: a query gets the whole answer or an error.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

#[path = "support/rolled.rs"]
mod rolled;
mod support;

use std::{
    path::PathBuf,
    sync::atomic::{AtomicBool, Ordering},
};

use fenetre_core::{
    answer::Lines,
    evaluate::evaluate,
    keeping::{LimitSettings, Scope},
    model::{PointRef, PointSink, RollupLevel, RollupPolicy, Value, ValueRef},
    plan::{Limits, plan},
    query::{Frame, parse},
    time::{Nanos, SECOND, Span},
};
use fenetre_store::Store;
use rolled::{BEGIN, MINUTE, check, define, levels, main, numbers, policy, same, verified, write};
use support::{Ends, open};

const NOW: Nanos = BEGIN + 7_300 * SECOND;
const FRAME: &str = "over now - 7300s to now per 10m";

/// Two hours with a point every half minute, of a lock after the other.
fn fill(store: &Store, locks: i64) {
    define(store);
    write(store, &(0..240 * locks).map(|at| ((at % locks) as u8, at / locks * 30, at as u8)).collect::<Vec<_>>());
    store.pack().unwrap();
}

fn clock() -> Nanos {
    std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap().as_nanos() as Nanos
}

#[test]
fn rollups_in_a_backup_match_its_points_when_points_arrive_late() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    fill(&store, 1);
    store.rollups().put("main", "all", &policy(&["1m", "10m"])).unwrap();
    store.rollups().run(main(&store), NOW).unwrap();
    let done = AtomicBool::new(false);
    std::thread::scope(|scope| {
        // Late points all over the past, packed and rolled up again without end.
        scope.spawn(|| {
            for round in 0i64.. {
                if done.load(Ordering::Relaxed) {
                    break;
                }
                write(&store, &(0..40).map(|at| (0, (at * 181 + round * 7) % 7_200, (at + round) as u8)).collect::<Vec<_>>());
                store.pack().unwrap();
                if round % 3 == 0 {
                    store.rollups().run(main(&store), NOW).unwrap();
                }
            }
        });
        // Each builds on the one before, which stays.
        let _ends = Ends(&done);
        let mut earlier: Vec<(tempfile::TempDir, std::path::PathBuf)> = Vec::new();
        for _ in 0..6 {
            let elsewhere = tempfile::tempdir().unwrap();
            let (backup, restored) = (elsewhere.path().join("copy"), elsewhere.path().join("store"));
            store.backup(&backup, earlier.last().map(|(_, known)| known.as_path()), &mut |_| true).unwrap();
            fenetre_store::restore(&backup, &restored, &mut |_| true).unwrap();
            check(&open(&restored), NOW, FRAME);
            earlier.push((elsewhere, backup));
        }
    });
}

#[test]
fn unchanged_windows_are_not_copied_again() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    fill(&store, 1);
    store.rollups().put("main", "all", &policy(&["1m"])).unwrap();
    // Up to now, so that the thread behind it finds nothing more to do meanwhile.
    store.rollups().run(main(&store), clock()).unwrap();
    let place = tempfile::tempdir().unwrap();
    let [first, second, again] = ["first", "second", "again"].map(|name| place.path().join(name));
    let all = store.backup(&first, None, &mut |_| true).unwrap();
    let since = store.backup(&second, Some(first.as_path()), &mut |_| true).unwrap();
    assert_eq!((all.kept, since.kept), (0, all.copied - 1), "all but the catalogue");
    assert!(!second.join("rollup/main/all/1m").read_dir().unwrap().any(|entry| entry.is_ok()));
    fenetre_store::restore(&second, &again, &mut |_| true).unwrap();
    assert!(check(&open(&again), NOW, FRAME) > 0);
    // It can be stopped between two files, and gone on with.
    let third = place.path().join("third");
    assert!(store.backup(&third, None, &mut |_| false).is_err());
    store.backup(&third, None, &mut |_| true).unwrap();
}

/// Asks in two steps: what is planned and seen first, then the answer.
fn asked(store: &Store, meanwhile: impl FnOnce() + Send) -> Result<Vec<Option<Value>>, String> {
    let query = parse(&format!("show sum of level overall {FRAME}")).unwrap();
    let planned = store.with_catalogue(|catalogue| plan(&query, &Frame::default(), catalogue, "main", NOW, &Limits::default())).unwrap();
    let source = store.source();
    let meanwhile = std::sync::Mutex::new(Some(meanwhile));
    // Whoever looks whether to go on waits until that is done: some series were read before it, others are read after it.
    let is_over = || {
        if let Some(meanwhile) = meanwhile.lock().unwrap().take() {
            meanwhile();
        }
        false
    };
    let answer = evaluate(planned, &source, &is_over).map_err(|error| error.to_string())?;
    let Lines::Windows(lines) = &answer.shows[0].lines else { unreachable!() };
    Ok(lines[0].values.clone())
}

#[test]
fn reading_a_level_while_it_is_dropped_is_all_or_an_error() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    fill(&store, 60);
    let whole = numbers(&store, &format!("show sum of level overall {FRAME} from raw"), NOW).0.remove(0);
    store.rollups().put("main", "all", &policy(&["10m"])).unwrap();
    store.rollups().run(main(&store), NOW).unwrap();
    let undisturbed = asked(&store, || {}).unwrap();
    assert!(whole.iter().zip(&undisturbed).all(|(a, b)| same(a, b)));
    // The drop waits for the query for a while, and goes on: then what the query read counts for nothing.
    let message = asked(&store, || store.rollups().remove("main", "all").unwrap()).unwrap_err();
    assert!(message.contains("the rollup 10m of all was dropped while this was answered: ask again"), "{message}");
    // Likewise where a policy is made anew under its name: its files are others.
    store.rollups().put("main", "all", &policy(&["10m"])).unwrap();
    store.rollups().run(main(&store), NOW).unwrap();
    let anew = RollupPolicy { zone: Some("Europe/Lisbon".to_owned()), ..policy(&["10m"]) };
    let message = asked(&store, || {
        store.rollups().put("main", "all", &anew).unwrap();
        store.rollups().run(main(&store), NOW).unwrap();
    });
    assert!(message.is_err_and(|message| message.contains("ask again")));
    assert!(asked(&store, || {}).unwrap().iter().zip(&whole).all(|(a, b)| same(a, b)));
}

#[test]
fn windows_past_their_level_limit_are_removed_after_their_last_reader() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    define(&store);
    let day = 1_440 * MINUTE;
    // Eight weeks with a point every hour, up to now: the thread behind it lets windows go by the same clock.
    let now = clock() / day * day;
    let begin = now - 8 * 7 * day;
    write(&store, &(0..8 * 7 * 24).map(|hour| (0, (begin - BEGIN) / SECOND + hour * 3_600, 4)).collect::<Vec<_>>());
    store.rollups().put("main", "all", &policy(&["10m", "1h"])).unwrap();
    store.rollups().run(main(&store), now).unwrap();
    let windows = || store.rollups().state(main(&store)).unwrap().1.iter().map(|level| level.windows).collect::<Vec<_>>();
    let all = windows();
    let kept_a_week = |width: &str| RollupLevel { width: Span::parse(width).unwrap(), keep_for: Some(Span { days: 7, ..Span::default() }) };
    let levels = ["10m", "1h"].map(kept_a_week).to_vec();
    {
        // Before the thread that rolls up hears of it.
        let _before = store.source();
        store.rollups().put("main", "all", &RollupPolicy { levels, ..policy(&["10m"]) }).unwrap();
        store.rollups().run(main(&store), now).unwrap();
        assert_eq!(windows(), all, "somebody may still ask them");
        let state = store.rollups().state(main(&store)).unwrap().1;
        assert!(state.iter().all(|level| level.covered.unwrap().start > begin), "who asks now does not");
    }
    store.rollups().run(main(&store), now).unwrap();
    // Files of a year do not keep a year: four weeks at a time go, but for rows that reach over their end.
    let left = windows();
    assert!(left.iter().zip(&all).all(|(left, all)| left < all && left * 56 >= all * 7), "{left:?} of {all:?}");
    store.rollups().run(main(&store), now).unwrap();
    assert_eq!(windows(), left, "once is enough");
    assert_eq!(verified(&store).faults, Vec::<String>::new());
    // What the level still stands for is all there, though it is older than it need be kept.
    check(&store, now, "over now - 50d to now per 1h");
    let week = "show sum of level over now - 7d to now - 1h per 1h from 1h";
    assert!(numbers(&store, week, now).0[0].iter().all(Option::is_some));
    assert_eq!(numbers(&store, "show sum of level over now - 50d to now per 1d", now).2, Vec::<String>::new(), "points are there");
}

#[test]
fn readers_do_not_disturb_rollups() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    define(&store);
    write(&store, &(0..240).map(|at| (0, at * 30, at as u8)).collect::<Vec<_>>());
    store.pack().unwrap();
    let now = BEGIN + 7_300 * SECOND;
    let done = AtomicBool::new(false);
    std::thread::scope(|scope| {
        let look = || {
            while !done.load(Ordering::Relaxed) {
                store.inspect().report(now).unwrap();
                store.rollups().state(main(&store)).unwrap();
            }
        };
        scope.spawn(look);
        scope.spawn(look);
        let _ends = Ends(&done);
        for round in 0..12 {
            let name = format!("policy-{round}");
            store.rollups().put("main", &name, &policy(&["1m", "10m"])).unwrap();
            store.rollups().run(main(&store), now).unwrap();
        }
    });
    assert_eq!(store.rollups().state(main(&store)).unwrap().0.failure, None);
    assert_eq!(verified(&store).faults, Vec::<String>::new());
}

#[test]
fn a_missing_or_empty_level_file_is_rebuilt_while_points_answer() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    fill(&store, 60);
    store.rollups().put("main", "all", &policy(&["10m", "1h"])).unwrap();
    store.rollups().run(main(&store), NOW).unwrap();
    let whole = numbers(&store, &format!("show sum of level overall {FRAME}"), NOW).0.remove(0);
    let windows = || store.rollups().state(main(&store)).unwrap().1.iter().map(|level| level.windows).collect::<Vec<_>>();
    let all = windows();
    let files: Vec<PathBuf> = levels(&store).into_iter().flat_map(|level| level.files).collect();
    assert!(!files.is_empty());
    drop(store);
    for (at, file) in files.iter().enumerate() {
        for suffix in ["", "-wal", "-shm"] {
            let _ = std::fs::remove_file(format!("{}{suffix}", file.display()));
        }
        if at % 2 == 1 {
            std::fs::write(file, "").unwrap();
        }
        let store = open(folder.path());
        let answered = numbers(&store, &format!("show sum of level overall {FRAME}"), NOW).0.remove(0);
        assert!(whole.iter().zip(&answered).all(|(a, b)| same(a, b)), "{}", file.display());
        store.rollups().run(main(&store), NOW).unwrap();
        let made = store.rollups().state(main(&store)).unwrap().1.iter().map(|level| level.windows).collect::<Vec<_>>();
        assert_eq!(made, all, "{}", file.display());
        assert_eq!(verified(&store).faults, Vec::<String>::new());
    }
}

#[test]
fn windows_lost_without_points_are_reported_not_empty() {
    let folder = tempfile::tempdir().unwrap();
    let day = 1_440 * rolled::MINUTE;
    let passed = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap().as_nanos() as Nanos;
    let now = passed / day * day;
    let store = open(folder.path());
    let mut batch = store.begin("main").unwrap();
    for at in 0..40 * 24 {
        let time = now - 40 * day + at * 60 * rolled::MINUTE;
        batch.accept(PointRef { metric: "level", tags: &[], time, value: ValueRef::Number((at % 7) as f64) }).unwrap();
    }
    store.write(batch).unwrap();
    store.rollups().put("main", "all", &policy(&["1d"])).unwrap();
    store.rollups().run(main(&store), now).unwrap();
    let kept = LimitSettings { keep_for: Some(Some(Span { days: 10, ..Span::default() })), keep_under: None };
    store.retention().set_limits(Scope::Store, kept, now).unwrap();
    store.retention().expire(now).unwrap();
    let asked = |store: &Store| numbers(store, "show sum of level over now - 39d to now per 1d", now);
    let (days, _, notes) = asked(&store);
    assert!(days[0].iter().all(Option::is_some) && notes.is_empty(), "{notes:?}");
    let files: Vec<PathBuf> = levels(&store).into_iter().flat_map(|level| level.files).collect();
    drop(store);
    for file in &files {
        ["", "-wal", "-shm"].iter().for_each(|suffix| drop(std::fs::remove_file(format!("{}{suffix}", file.display()))));
    }
    let store = open(folder.path());
    let (days, _, notes) = asked(&store);
    assert!(days[0][38].is_some() && days[0][0].is_none(), "{days:?}");
    assert!(notes.iter().any(|note| note.contains("are no longer kept")), "{notes:?}");
    let faults: Vec<String> = store.inspect().report(now).unwrap().faults.into_iter().map(|(_, fault)| fault).collect();
    assert!(faults.len() == 1 && faults[0].contains("are lost, because their points are no longer kept"), "{faults:?}");
}
