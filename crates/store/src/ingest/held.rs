//! Journal files that are held for readers after their points are packed.
//!
//! ```text
//! journal/000007.db ──packed──► journal/held/000007.db ──every reader is past it──► gone
//!                                         └──past the limit──► gone; its time ranges are gaps of the readers' cursors
//! ```

use std::{
    collections::{BTreeMap, BTreeSet},
    fs,
    path::PathBuf,
    sync::Arc,
};

use fenetre_core::time::{Nanos, SECOND};
use rusqlite::{Connection, config::DbConfig};

use crate::{
    disk::files::{Files, bytes_on_disk, companion, remove_file, sync_folder},
    engine::Engine,
    error::{Context, StoreError},
    feed::{Arrived, Cursor, Gap, Position},
    journal,
};

fn folder(files: &Files) -> PathBuf {
    files.journals().join("held")
}

/// Finishes at a start what a crash interrupted: a file is held with its log, or not at all.
///
/// # Errors
/// If the folders cannot be read or changed.
pub fn finish(files: &Files) -> Result<(), StoreError> {
    let held = folder(files);
    if !held.exists() {
        return Ok(());
    }
    for entry in fs::read_dir(&held).at("read the folder", &held)? {
        let log = entry.at("read the folder", &held)?.path();
        let Some(name) = log.file_name().and_then(|name| name.to_str()).and_then(|name| name.strip_suffix("-wal")) else { continue };
        let (here, there) = (held.join(name), files.journals().join(name));
        if !here.exists() && there.exists() {
            fs::rename(&there, &here).at("rename", &there)?;
        }
    }
    sync_folder(&held)?;
    sync_folder(&files.journals())
}

/// Bytes that are held.
pub fn bytes(engine: &Engine) -> Result<u64, StoreError> {
    Ok(held_files(engine)?.iter().map(|(_, path)| size(path)).sum())
}

fn size(path: &std::path::Path) -> u64 {
    bytes_on_disk(path) + bytes_on_disk(&companion(path, "-wal"))
}

fn held_files(engine: &Engine) -> Result<Vec<(u64, PathBuf)>, StoreError> {
    let held = folder(&engine.files);
    if held.exists() { journal::files(&held) } else { Ok(Vec::new()) }
}

/// Reads batches after a place from a file that is no longer written to.
pub fn read(engine: &Engine, after: Position, points: usize) -> Result<Vec<Arrived>, StoreError> {
    let places = [engine.files.journals(), folder(&engine.files)].map(|folder| journal::path_of(&folder, after.generation));
    let _nobody_moves = engine.readers.moving.read();
    let Some(path) = places.iter().find(|path| path.exists()) else { return Ok(Vec::new()) };
    let connection = Connection::open(path).at("open", path)?;
    // What is in its log stays there.
    connection.set_db_config(DbConfig::SQLITE_DBCONFIG_NO_CKPT_ON_CLOSE, true).at("open", path)?;
    let read = journal::read_after(&connection, path, after.batch, points)?;
    Ok(read.into_iter().map(|(batch, journaled)| arrived(after.generation, batch, journaled)).collect())
}

/// The readers of a store.
///
/// # Errors
/// If a cursor cannot be read.
pub fn open(engine: &Engine) -> Result<(), StoreError> {
    let kept = engine.definitions.documents::<Cursor>()?;
    let mut cursors = engine.readers.cursors.lock();
    *cursors = kept.into_iter().map(|kept| (kept.name, kept.body)).collect();
    engine.ring.set_followed(!cursors.is_empty());
    Ok(())
}

pub fn follow(engine: &Engine, name: &str, now: Nanos) -> Result<Cursor, StoreError> {
    let mut cursors = engine.readers.cursors.lock();
    if let Some(known) = cursors.get(name) {
        return Ok(known.clone());
    }
    engine.ring.set_followed(true);
    let cursor = Cursor { position: engine.ring.end(), gaps: Vec::new() };
    engine.definitions.put_document(name, &cursor, now)?;
    cursors.insert(name.to_owned(), cursor.clone());
    Ok(cursor)
}

pub fn unfollow(engine: &Engine, name: &str) -> Result<(), StoreError> {
    let mut cursors = engine.readers.cursors.lock();
    engine.definitions.remove_document::<Cursor>(name)?;
    cursors.remove(name);
    engine.ring.set_followed(!cursors.is_empty());
    release(engine, &cursors)
}

pub fn change(engine: &Engine, name: &str, now: Nanos, change: impl FnOnce(&mut Cursor)) -> Result<(), StoreError> {
    let mut cursors = engine.readers.cursors.lock();
    // A reader that was ended meanwhile has nothing to note.
    let Some(cursor) = cursors.get_mut(name) else { return Ok(()) };
    let mut changed = cursor.clone();
    change(&mut changed);
    engine.definitions.put_document(name, &changed, now)?;
    *cursor = changed;
    release(engine, &cursors)
}

/// Puts the journal file of a packed generation away: aside if a reader still needs it, otherwise for good.
///
/// # Errors
/// If files cannot be moved or removed.
pub fn put_away(engine: &Engine, generation: u64) -> Result<(), StoreError> {
    let mut cursors = engine.readers.cursors.lock();
    let is_needed = cursors.values().any(|cursor| cursor.position.generation <= generation);
    if !is_needed {
        return journal::remove(&engine.files.journals(), generation);
    }
    let held = folder(&engine.files);
    fs::create_dir_all(&held).at("create the folder", &held)?;
    let (from, to) = (journal::path_of(&engine.files.journals(), generation), journal::path_of(&held, generation));
    let moving = engine.readers.moving.write();
    // The log first: a file without its log would look empty. See `finish`.
    for (from, to) in [(companion(&from, "-wal"), companion(&to, "-wal")), (from, to)] {
        if from.exists() {
            fs::rename(&from, &to).at("rename", &from)?;
            sync_folder(&held)?;
        }
    }
    remove_file(&companion(&journal::path_of(&engine.files.journals(), generation), "-shm"))?;
    sync_folder(&engine.files.journals())?;
    drop(moving);
    keep_limit(engine, &mut cursors)
}

/// Removes the oldest files beyond the limit, after the readers' cursors have noted what was in them.
fn keep_limit(engine: &Engine, cursors: &mut BTreeMap<String, Cursor>) -> Result<(), StoreError> {
    let mut held = held_files(engine)?;
    let mut total: u64 = held.iter().map(|(_, path)| size(path)).sum();
    while total > engine.options.hold_bytes && !held.is_empty() {
        let (generation, path) = held.remove(0);
        let bytes = size(&path);
        for (name, cursor) in cursors.iter_mut().filter(|(_, cursor)| cursor.position.generation <= generation) {
            let mut changed = cursor.clone();
            let mut after = Position { generation, batch: if cursor.position.generation == generation { cursor.position.batch } else { 0 } };
            loop {
                let batches = read(engine, after, BATCH_POINTS)?;
                let Some(last) = batches.last() else { break };
                after = last.position;
                for arrived in &batches {
                    let hours: BTreeSet<i64> = arrived.series().flat_map(|stretch| stretch.times.iter().map(|time| time.div_euclid(HOUR))).collect();
                    let gap = |hour: i64| Gap {
                        dataset: arrived.dataset().0,
                        first: hour.saturating_mul(HOUR),
                        last: hour.saturating_mul(HOUR).saturating_add(HOUR - 1),
                    };
                    hours.into_iter().for_each(|hour| changed.add(gap(hour)));
                }
            }
            changed.position = Position { generation: generation + 1, batch: 0 };
            engine.definitions.put_document(name, &changed, engine.now())?;
            *cursor = changed;
        }
        journal::remove(&folder(&engine.files), generation)?;
        total -= bytes.min(total);
    }
    Ok(())
}

/// Gaps are of whole hours.
const HOUR: Nanos = 3_600 * SECOND;
/// Points that are looked at together.
const BATCH_POINTS: usize = 100_000;

/// Removes held files that no reader needs any more.
fn release(engine: &Engine, cursors: &BTreeMap<String, Cursor>) -> Result<(), StoreError> {
    let needed = cursors.values().map(|cursor| cursor.position.generation).min().unwrap_or(u64::MAX);
    held_files(engine)?.into_iter().filter(|(number, _)| *number < needed).try_for_each(|(number, _)| journal::remove(&folder(&engine.files), number))
}

/// A batch as a reader gets it.
pub fn arrived(generation: u64, batch: u64, journaled: journal::entry::Journaled) -> Arrived {
    Arrived { position: Position { generation, batch }, batch: Arc::new(journaled) }
}
