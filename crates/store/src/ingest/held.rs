//! Journal files that are held for readers of the feed after packing.
//!
//! ```text
//! journal/000007.db ──packed──► journal/held/000007.db ──every reader has passed it──► deleted
//!                                         └──limit exceeded──► deleted; cursors record its time ranges as gaps
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
    feed::{Arrived, Cursor, Extent, Gap, Position},
    journal,
};

fn folder(files: &Files) -> PathBuf {
    files.journals().join("held")
}

/// Completes a move that a crash interrupted.
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

/// Size of the held files, in bytes.
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

/// Reads batches after a position from a closed journal file.
pub fn read(engine: &Engine, after: Position, points: usize) -> Result<Vec<Arrived>, StoreError> {
    let _no_file_moves = engine.readers.moving.read();
    let Some(path) = place_of(engine, after.generation) else { return Ok(Vec::new()) };
    let read = journal::read_after(&closed(&path)?, &path, after.batch, points)?;
    Ok(read.into_iter().map(|(batch, journaled)| arrived(after.generation, batch, journaled)).collect())
}

/// Reads the cursors.
///
/// # Errors
/// If one cannot be read.
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
    let cursor = Cursor { position: engine.ring.end(), ..Cursor::default() };
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
    // The reader may have been removed.
    let Some(cursor) = cursors.get_mut(name) else { return Ok(()) };
    let mut changed = cursor.clone();
    change(&mut changed);
    if changed == *cursor {
        return Ok(());
    }
    engine.definitions.put_document(name, &changed, now)?;
    *cursor = changed;
    release(engine, &cursors)
}

/// Moves the journal file of a packed generation to the held files, or deletes it if no reader needs it.
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
    // The log first, because `finish` completes a move whose log has arrived.
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

/// Deletes the oldest files while the limit is exceeded. Before that, the cursors that need a file record its time ranges as gaps.
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
                    let hours: BTreeSet<i64> =
                        arrived.series().flat_map(|stretch| stretch.points.times.iter().map(|time| time.div_euclid(HOUR))).collect();
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

/// Gaps consist of whole hours, in nanoseconds.
const HOUR: Nanos = 3_600 * SECOND;
/// Number of points that are read at once.
const BATCH_POINTS: usize = 100_000;

/// About how many points there are after a position. Within a file, batches are taken to be of one size.
pub fn points_after(engine: &Engine, position: Position) -> Result<u64, StoreError> {
    if let Some(points) = engine.ring.points_after(position) {
        return Ok(points);
    }
    let end = engine.ring.end();
    let mut points = 0;
    for generation in position.generation..=end.generation {
        let extent = match engine.ring.extent(generation) {
            Some(extent) => extent,
            None => {
                let extent = count_in(engine, generation)?;
                engine.ring.set_extent(generation, extent);
                extent
            }
        };
        let passed = if generation == position.generation { position.batch.min(extent.batches) } else { 0 };
        // Rounded up: a batch that is left counts for something.
        points += if passed < extent.batches { (extent.points * (extent.batches - passed)).div_ceil(extent.batches) } else { 0 };
    }
    Ok(points)
}

/// Batches and points of a closed journal file.
fn count_in(engine: &Engine, generation: u64) -> Result<Extent, StoreError> {
    let _no_file_moves = engine.readers.moving.read();
    let Some(path) = place_of(engine, generation) else { return Ok(Extent::default()) };
    let (batches, points) = journal::batches_and_points(&closed(&path)?, &path)?;
    Ok(Extent { batches, points })
}

/// The closed journal file of a generation, wherever it is.
fn place_of(engine: &Engine, generation: u64) -> Option<PathBuf> {
    let places = [engine.files.journals(), folder(&engine.files)].map(|folder| journal::path_of(&folder, generation));
    places.into_iter().find(|path| path.exists())
}

fn closed(path: &std::path::Path) -> Result<Connection, StoreError> {
    let connection = Connection::open(path).at("open", path)?;
    // Without this, SQLite would copy the log into the file on close.
    connection.set_db_config(DbConfig::SQLITE_DBCONFIG_NO_CKPT_ON_CLOSE, true).at("open", path)?;
    Ok(connection)
}

/// Deletes held files that no reader needs any longer.
fn release(engine: &Engine, cursors: &BTreeMap<String, Cursor>) -> Result<(), StoreError> {
    let needed = cursors.values().map(|cursor| cursor.position.generation).min().unwrap_or(u64::MAX);
    engine.ring.forget_before(needed.min(engine.ring.end().generation));
    held_files(engine)?.into_iter().filter(|(number, _)| *number < needed).try_for_each(|(number, _)| journal::remove(&folder(&engine.files), number))
}

/// A batch with its position.
pub fn arrived(generation: u64, batch: u64, journaled: journal::entry::Journaled) -> Arrived {
    Arrived { position: Position { generation, batch }, batch: Arc::new(journaled) }
}
