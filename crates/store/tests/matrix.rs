//! Each kind of file, damaged in each way: messages at startup, answers, results of `verify`, and points after a repair. No loss is silent, and with
//! a backup every point of the backup is restored.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

#[path = "support/rolled.rs"]
mod rolled;
mod support;

use std::{
    collections::BTreeMap,
    fmt::Write as _,
    fs,
    path::{Path, PathBuf},
};

use fenetre_core::time::{Nanos, SECOND, TimeRange};
use fenetre_store::{Finding, Remedy, RepairStep, Store, plan_repair, repair};
use rolled::policy;
use support::{START, copy, quiet, read, try_open, write};

const DAY: Nanos = 86_400 * SECOND;
/// Points of the store: three partitions of a week, and those that wait in the journal.
const PACKED: usize = 1_800;
const WAITING: usize = 20;
/// Points that the backup has.
const BACKED_UP: usize = 1_200;

/// A store with partitions, a journal and a rollup, stopped, and a backup from before its last week.
fn made(folder: &Path) -> (PathBuf, PathBuf) {
    let (live, path, backup) = (folder.join("live"), folder.join("whole"), folder.join("backup"));
    let store = try_open(&live, quiet()).unwrap();
    for week in 0..3 {
        for lock in 0..4 {
            let points: Vec<_> = (0..150).map(|at| (lock, START + week * 7 * DAY + at * 60 * SECOND, at as f64)).collect();
            write(&store, &points);
        }
        if week == 1 {
            store.rollups().put("main", "all", &policy(&["10m"])).unwrap();
            store.rollups().run(store.with_catalogue(|catalogue| catalogue.dataset("main").unwrap().id), START + 30 * DAY).unwrap();
            store.backup(&backup, None, &mut |_| true).unwrap();
        }
    }
    // A series that the backup does not know.
    write(&store, &[(9, START + 14 * DAY, 1.0)]);
    store.pack().unwrap();
    store.rollups().run(store.with_catalogue(|catalogue| catalogue.dataset("main").unwrap().id), START + 30 * DAY).unwrap();
    write(&store, &(0..WAITING as i64 / 2).map(|at| (0, START + (1_000 + at) * 60 * SECOND, 1.0)).collect::<Vec<_>>());
    write(&store, &(0..WAITING as i64 / 2).map(|at| (1, START + (1_000 + at) * 60 * SECOND, 1.0)).collect::<Vec<_>>());
    drop(store);
    copy(&live, &path);
    (path, backup)
}

fn points(store: &Store) -> usize {
    (0..10).map(|lock| read(store, lock, TimeRange::ALL).len()).sum()
}

/// The first file below a folder whose name ends so.
fn first(folder: &Path, end: &str) -> PathBuf {
    let mut found = Vec::new();
    let mut folders = vec![folder.to_owned()];
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(&folder).unwrap() {
            let path = entry.unwrap().path();
            match path.is_dir() {
                true => folders.push(path),
                false => found.push(path),
            }
        }
    }
    found.retain(|path| path.to_str().unwrap().ends_with(end));
    found.into_iter().min().unwrap_or_else(|| panic!("no file ends with {end}"))
}

/// A way to damage a file.
type Damage = (&'static str, fn(&Path));

fn overwrite(path: &Path, change: impl FnOnce(&mut Vec<u8>)) {
    let mut bytes = fs::read(path).unwrap();
    change(&mut bytes);
    fs::write(path, bytes).unwrap();
}

const DAMAGES: [Damage; 6] = [
    ("missing", |path| fs::remove_file(path).unwrap()),
    ("emptied", |path| fs::write(path, "").unwrap()),
    ("cut in half", |path| overwrite(path, |bytes| bytes.truncate(bytes.len() / 2))),
    // Within the last text or blob of the file.
    ("one bit", |path| {
        overwrite(path, |bytes| {
            let at = bytes.iter().rposition(|byte| *byte != 0).unwrap() - 40;
            bytes[at] ^= 4;
        });
    }),
    ("first page", |path| overwrite(path, |bytes| bytes.iter_mut().take(4_096).for_each(|byte| *byte = 0xa5))),
    ("last page", |path| {
        overwrite(path, |bytes| {
            let start = bytes.len().saturating_sub(4_096);
            bytes[start..].fill(0xa5);
        });
    }),
];

fn verified(store: &Store) -> Vec<String> {
    let report = store.inspect().report(0).unwrap();
    let dataset = &report.datasets[0];
    let levels = dataset.levels.iter().flat_map(|level| level.files.iter().map(|file| file.display().to_string()));
    let files = dataset.partitions.iter().map(|partition| partition.path.display().to_string()).chain(levels);
    let root = format!("{}/", store.root().display());
    let names = std::iter::once("catalogue.db".to_owned()).chain(files.map(|file| file.replace(&root, "")));
    names.flat_map(|name| store.inspect().verify(&name).unwrap().faults).collect()
}

fn step(step: &RepairStep) -> String {
    let finding = match &step.finding {
        Finding::Missing => "missing".to_owned(),
        Finding::Damaged(_) => "damaged".to_owned(),
        Finding::Foreign => "foreign".to_owned(),
        Finding::Older { found, known } => format!("older: {found} > {known}"),
    };
    format!("{} {finding}: {:?}", step.file, step.remedy)
}

/// Repairs a store until nothing more can be done, and returns the points that it has then.
fn repaired(path: &Path, from: Option<&Path>, says: &mut String) -> Option<usize> {
    let plan = plan_repair(path, from).unwrap();
    repair(path, from, &plan, START, &mut |done, saved| {
        let saved = saved.map_or(String::new(), |saved| format!(", {} points, {:?} blocks lost", saved.points, saved.lost));
        writeln!(says, "    {}{saved}", step(done)).unwrap();
    })
    .unwrap();
    let store = try_open(path, quiet()).ok()?;
    Some(points(&store))
}

#[test]
fn no_damage_is_silent_and_a_repair_saves_what_is_there() {
    let folder = tempfile::tempdir().unwrap();
    let (whole, backup) = made(folder.path());
    let path = folder.path().join("store");
    let all = PACKED + 1 + WAITING;
    let mut says = String::new();
    for (kind, below, end) in [
        ("catalogue", "", "catalogue.db"),
        ("partition", "data", ".db"),
        ("journal", "journal", ".db-wal"),
        ("rollup level", "rollup/main/all", ".db"),
        ("rollup records", "rollup/main", "progress.db"),
    ] {
        for (what, damage) in DAMAGES {
            let fresh = || {
                let _ = fs::remove_dir_all(&path);
                copy(&whole, &path);
                let file = first(&path.join(below), end);
                damage(&file);
            };
            fresh();
            writeln!(says, "{kind}, {what}").unwrap();
            let (found, messages) = match try_open(&path, quiet()) {
                Err(error) => {
                    writeln!(says, "  does not start: {error}").unwrap();
                    (0, vec![error.to_string()])
                }
                Ok(store) => {
                    let faults: Vec<String> = store.inspect().report(0).unwrap().faults.into_iter().map(|(_, fault)| fault).collect();
                    let verified = verified(&store);
                    let answers = std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| points(&store)));
                    let found = *answers.as_ref().unwrap_or(&0);
                    writeln!(says, "  starts, {}", answers.map_or("a question fails".to_owned(), |found| format!("{found} points"))).unwrap();
                    faults.iter().for_each(|fault| writeln!(says, "  storage: {fault}").unwrap());
                    verified.first().into_iter().for_each(|fault| writeln!(says, "  verify: {fault}").unwrap());
                    (found, faults.into_iter().chain(verified).collect())
                }
            };
            assert!(found == all || !messages.is_empty(), "{kind}, {what}: {found} of {all} points, without a word");
            for from in [None, Some(backup.as_path())] {
                fresh();
                writeln!(says, "  repair {}", if from.is_some() { "with a backup" } else { "without a backup" }).unwrap();
                let saved = repaired(&path, from, &mut says);
                writeln!(says, "    then {}", saved.map_or("it does not start".to_owned(), |points| format!("{points} points"))).unwrap();
                assert!(from.is_none() || saved.is_some_and(|saved| saved >= BACKED_UP), "{kind}, {what}: {saved:?}\n{says}");
            }
        }
    }
    let mut settings = insta::Settings::clone_current();
    settings.add_filter(&regex_of(&path), "STORE");
    settings.bind(|| insta::assert_snapshot!("damage", says));
}

fn regex_of(path: &Path) -> String {
    path.display().to_string().replace('.', r"\.")
}

/// Every file below a folder, with its content.
fn contents(folder: &Path) -> BTreeMap<PathBuf, Vec<u8>> {
    let mut found = BTreeMap::new();
    for entry in fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        // The lock file contains the process that last held it.
        match path.is_dir() {
            true => found.extend(contents(&path)),
            false if path.ends_with("LOCK") => {}
            false => drop(found.insert(path.clone(), fs::read(&path).unwrap())),
        }
    }
    found
}

#[test]
fn a_plan_changes_no_file_and_one_repair_is_enough_for_several_damages() {
    let folder = tempfile::tempdir().unwrap();
    let (path, backup) = made(folder.path());
    // A series that the catalogue of the backup does not know is in the damaged partition only.
    fs::remove_file(path.join("catalogue.db")).unwrap();
    let newest = fs::read_dir(path.join("data/main")).unwrap().map(|entry| entry.unwrap().path()).max().unwrap();
    overwrite(&newest, |bytes| bytes.iter_mut().take(4_096).for_each(|byte| *byte = 0xa5));
    // A file of another store, with higher ids.
    let other = folder.path().join("other");
    let store = try_open(&other, quiet()).unwrap();
    write(&store, &(0..10).map(|lock| (lock, START + 300 * DAY, 1.0)).collect::<Vec<_>>());
    store.pack().unwrap();
    let foreign = store.inspect().report(0).unwrap().datasets[0].partitions[0].path.clone();
    drop(store);
    fs::copy(&foreign, path.join("data/main").join(foreign.file_name().unwrap())).unwrap();
    let before = contents(&path);
    let plan = plan_repair(&path, Some(&backup)).unwrap();
    assert_eq!(contents(&path).keys().collect::<Vec<_>>(), before.keys().collect::<Vec<_>>(), "no file comes or goes");
    assert!(contents(&path) == before, "no file changes");
    let remedies: Vec<Remedy> = plan.steps.iter().map(|step| step.remedy.clone()).collect();
    assert_eq!(remedies, [Remedy::TakeOut, Remedy::Salvage { has_backup: false }, Remedy::TakeCatalogue { unnamed: 0 }]);
    assert_eq!(repaired(&path, Some(&backup), &mut String::new()), Some(PACKED + WAITING));
    assert_eq!(plan_repair(&path, None).unwrap().steps, []);
    let store = try_open(&path, quiet()).unwrap();
    write(&store, &[(8, START, 1.0)]);
    assert_eq!(read(&store, 8, TimeRange::ALL).len(), 1, "its id is not that of an unknown series");
}

#[test]
fn foreign_files_and_an_older_catalogue_are_refused_until_repaired() {
    let folder = tempfile::tempdir().unwrap();
    let (whole, backup) = made(folder.path());
    // Another store with points of the same week.
    let other = folder.path().join("other");
    let store = try_open(&other, quiet()).unwrap();
    write(&store, &[(0, START + 300 * DAY, 1.0)]);
    store.pack().unwrap();
    let strange = store.inspect().report(0).unwrap().datasets[0].partitions[0].path.clone();
    drop(store);
    let path = folder.path().join("store");
    copy(&whole, &path);
    fs::copy(&strange, path.join("data/main").join(strange.file_name().unwrap())).unwrap();
    let message = try_open(&path, quiet()).err().unwrap().to_string();
    assert!(message.contains("belongs to another store") && message.contains("storage repair"), "{message}");
    let plan = plan_repair(&path, None).unwrap();
    assert_eq!(plan.steps.iter().map(|step| step.remedy.clone()).collect::<Vec<_>>(), [Remedy::TakeOut]);
    assert_eq!(repaired(&path, None, &mut String::new()), Some(PACKED + 1 + WAITING));
    // The catalogue of the backup beside points that came after it.
    let _ = fs::remove_dir_all(&path);
    copy(&whole, &path);
    fs::copy(backup.join("catalogue.db"), path.join("catalogue.db")).unwrap();
    let message = try_open(&path, quiet()).err().unwrap().to_string();
    assert!(message.contains("is older than the points") && message.contains("refers to series 5") && message.contains("only up to 4"), "{message}");
    let plan = plan_repair(&path, None).unwrap();
    assert_eq!(plan.steps[0].remedy, Remedy::KeepCatalogue { unnamed: 1 });
    assert_eq!(repaired(&path, None, &mut String::new()), Some(PACKED + WAITING));
    // A new series has an id that no point has.
    let store = try_open(&path, quiet()).unwrap();
    write(&store, &[(8, START, 1.0)]);
    assert_eq!((read(&store, 8, TimeRange::ALL).len(), read(&store, 9, TimeRange::ALL).len()), (1, 0));
    // A store that is in use is not repaired.
    let message = plan_repair(&path, None).unwrap_err().to_string();
    assert!(message.contains("is in use by process"), "{message}");
}
