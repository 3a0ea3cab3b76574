//! The journal: acknowledged batches in SQLite files, in order, until their points are packed.
//!
//! A file holds one generation of the head, and its number is that generation's. A row is one batch of one dataset, as [`crate::journal::entry`]
//! writes it. SQLite's own log drops a commit that a crash cut off, so what is read back is exactly what was acknowledged, and perhaps
//! batches whose acknowledgement never left.

pub mod entry;
pub mod log;

use std::{
    fs::{self, File},
    path::{Path, PathBuf},
};

use fenetre_core::model::DatasetId;
use rusqlite::{Connection, params};

use crate::{
    disk::{
        files::{companion, remove_file, sync_folder},
        sqlite::{self, Use},
    },
    error::{Context, StoreError},
    journal::entry::{Entry, Journaled},
    partition::origin::{self, Highest, Origin},
};

/// The journal file that is written to.
pub struct Journal {
    folder: PathBuf,
    pub number: u64,
    synced: bool,
    /// The number of the store.
    store: i64,
    connection: Connection,
}

/// The files that are there, with their numbers, oldest first.
pub fn files(folder: &Path) -> Result<Vec<(u64, PathBuf)>, StoreError> {
    let mut files = Vec::new();
    for entry in fs::read_dir(folder).at("read the folder", folder)? {
        let path = entry.at("read the folder", folder)?.path();
        let number = path.file_stem().and_then(|stem| stem.to_str()).and_then(|stem| stem.parse().ok());
        if let (Some(number), Some("db")) = (number, path.extension().and_then(|extension| extension.to_str())) {
            files.push((number, path));
        }
    }
    files.sort();
    Ok(files)
}

/// Result of reading a journal file.
#[derive(Debug, Default, PartialEq, Eq)]
pub struct Replayed {
    /// Batches that were read.
    pub batches: u64,
    /// The number of the last batch.
    pub last: u64,
    /// Points of the batches.
    pub points: u64,
    /// Losses, one sentence each.
    pub faults: Vec<String>,
    /// Whether even the table of a fresh file is missing.
    pub is_blank: bool,
    /// Which store it belongs to, and the highest series in it.
    pub origin: Origin,
}

/// Reads the batches of a file in the order in which they were acknowledged. Damage is reported in the result, and batches after it are read. If commits were not
/// `synced` one by one, a power cut may have torn several of them, so nothing after a gap is read.
pub fn replay(path: &Path, synced: bool, each: impl FnMut(Journaled)) -> Result<Replayed, StoreError> {
    let (mut found, mut each) = (Replayed::default(), each);
    if synced && log::mend(&companion(path, "-wal")).at("mend", path)? {
        found.faults.push("a part of its log is damaged".to_owned());
    }
    let connection = sqlite::open(path, Use::Journal { synced: true })?;
    let table = "SELECT EXISTS (SELECT 1 FROM sqlite_master WHERE name = 'batch')";
    if !connection.query_row(table, [], |row| row.get::<_, bool>(0)).at("read", path)? {
        return Ok(Replayed { is_blank: true, ..found });
    }
    found.origin.store = origin::stamp_of(&connection).at("read", path)?;
    let mut highest = Highest::default();
    let mut points = 0;
    let mut each = |journaled: Journaled| {
        points += journaled.entry.points() as u64;
        journaled.entry.stretches.iter().for_each(|(series, _)| highest.add(*series));
        each(journaled);
    };
    let mut damaged = Vec::new();
    let ended = read_rows(&connection, false, &mut |seq, row| {
        (found.batches, found.last) = (found.batches + 1, seq);
        match row {
            Ok(journaled) => each(journaled),
            Err(what) => damaged.push(format!("batch {seq}: {what}")),
        }
        true
    });
    if let Err(error) = ended {
        if !matches!(error.sqlite_error_code(), Some(rusqlite::ErrorCode::DatabaseCorrupt | rusqlite::ErrorCode::NotADatabase))
            || found.faults.is_empty()
        {
            return Err(error).at("read", path);
        }
        // Batches after the unreadable pages, read from the end.
        let (last, mut behind) = (found.last, Vec::new());
        let from_the_end = read_rows(&connection, true, &mut |seq, row| {
            if seq > last {
                behind.push((seq, row));
            }
            seq > last
        });
        damaged.extend(
            from_the_end.err().map(|_| format!("batches behind {last} up to {} cannot be read", behind.last().map_or(last, |(seq, _)| *seq))),
        );
        for (seq, row) in behind.into_iter().rev() {
            (found.batches, found.last) = (found.batches + 1, seq);
            match row {
                Ok(journaled) => each(journaled),
                Err(what) => damaged.push(format!("batch {seq}: {what}")),
            }
        }
    }
    (found.origin.highest, found.points) = (highest, points);
    if !damaged.is_empty() {
        found.faults.push(damaged.join("; "));
    }
    Ok(found)
}

/// Visits the rows of a file with their numbers, until `each` returns false.
fn read_rows(connection: &Connection, is_reverse: bool, each: &mut dyn FnMut(u64, Result<Journaled, String>) -> bool) -> rusqlite::Result<()> {
    let order =
        if is_reverse { "SELECT seq, dataset, body FROM batch ORDER BY seq DESC" } else { "SELECT seq, dataset, body FROM batch ORDER BY seq" };
    let mut statement = connection.prepare(order)?;
    let mut rows = statement.query([])?;
    while let Some(row) = rows.next()? {
        let seq: i64 = row.get(0)?;
        let dataset = DatasetId(row.get(1)?);
        let entry = row.get_ref(2)?.as_blob().map_err(|error| error.to_string()).and_then(Entry::from_bytes);
        if !each(seq.cast_unsigned(), entry.map(|entry| Journaled { dataset, entry })) {
            break;
        }
    }
    Ok(())
}

/// Reads the batches after a number, with about `points` points, but at least one batch if there is any.
pub fn read_after(connection: &Connection, path: &Path, after: u64, points: usize) -> Result<Vec<(u64, Journaled)>, StoreError> {
    let read = || -> rusqlite::Result<Vec<(u64, DatasetId, Vec<u8>)>> {
        let mut statement = connection.prepare_cached("SELECT seq, dataset, body FROM batch WHERE seq > ?1 ORDER BY seq LIMIT ?2")?;
        let rows = statement.query_map(params![after.cast_signed(), MOST_BATCHES], |row| {
            Ok((row.get::<_, i64>(0)?.cast_unsigned(), DatasetId(row.get(1)?), row.get(2)?))
        })?;
        let (mut found, mut left) = (Vec::new(), points);
        for row in rows {
            let row: (u64, DatasetId, Vec<u8>) = row?;
            left = left.saturating_sub(row.2.len() / POINT_BYTES as usize);
            found.push(row);
            if left == 0 {
                break;
            }
        }
        Ok(found)
    };
    let rows = read().at("read", path)?;
    let entry = |(batch, dataset, body): (u64, DatasetId, Vec<u8>)| {
        let entry = Entry::from_bytes(&body).map_err(|what| StoreError::Damaged { path: path.to_owned(), what: format!("batch {batch}: {what}") })?;
        Ok((batch, Journaled { dataset, entry }))
    };
    rows.into_iter().map(entry).collect()
}

/// The number of the last batch of a file, and about how many points its batches have.
pub fn batches_and_points(connection: &Connection, path: &Path) -> Result<(u64, u64), StoreError> {
    let sums = "SELECT ifnull(max(seq), 0), ifnull(sum(length(body)), 0) FROM batch";
    let (last, bytes): (i64, i64) = connection.query_row(sums, [], |row| Ok((row.get(0)?, row.get(1)?))).at("read", path)?;
    Ok((last.cast_unsigned(), bytes.cast_unsigned() / POINT_BYTES))
}

/// About how many bytes a point takes in a batch.
const POINT_BYTES: u64 = 12;

/// Maximum number of batches that are read at once.
const MOST_BATCHES: i64 = 10_000;

/// Why a file cannot be opened at all. Damage inside it is mended when it is read back.
pub fn fault_of(path: &Path) -> Option<String> {
    let look = |connection: Connection| connection.query_row("SELECT count(*) FROM sqlite_master", [], |row| row.get::<_, i64>(0)).at("read", path);
    sqlite::open(path, Use::Journal { synced: true }).and_then(look).err().map(|error| error.reason())
}

/// Removes the file of that number, whose points are packed, for good.
pub fn remove(folder: &Path, number: u64) -> Result<(), StoreError> {
    let path = path_of(folder, number);
    // The log last: without its database file nobody looks for it.
    [companion(&path, "-shm"), path.clone(), companion(&path, "-wal")].iter().try_for_each(|path| remove_file(path))?;
    sync_folder(folder)
}

impl Journal {
    /// Opens the file of that number to append to. `synced` says whether each commit waits for the disk.
    /// It belongs to the store of that number.
    pub fn append_to(folder: &Path, number: u64, synced: bool, store: i64) -> Result<Self, StoreError> {
        let connection = open(&path_of(folder, number), synced, store)?;
        sync_folder(folder)?;
        Ok(Self { folder: folder.to_owned(), number, synced, store, connection })
    }

    pub fn path(&self) -> PathBuf {
        path_of(&self.folder, self.number)
    }

    /// Commits batches together, each as its dataset and its bytes. When this returns, they are on stable storage where commits are
    /// synced, else with the operating system; where it fails, none of them is there. Returns the number of the last one.
    pub fn commit<'e>(&mut self, entries: impl Iterator<Item = (DatasetId, &'e [u8])>) -> Result<u64, StoreError> {
        let path = self.path();
        let write = |connection: &mut Connection| -> rusqlite::Result<u64> {
            let transaction = connection.transaction()?;
            {
                let mut insert = transaction.prepare_cached("INSERT INTO batch (dataset, body) VALUES (?1, ?2)")?;
                for (dataset, body) in entries {
                    insert.execute(params![dataset.0, body])?;
                }
            }
            let last = transaction.last_insert_rowid();
            transaction.commit()?;
            Ok(last.cast_unsigned())
        };
        write(&mut self.connection).at("write", path)
    }

    /// Number of the last batch; 0 if there is none.
    pub fn last(&self) -> Result<u64, StoreError> {
        let last = self.connection.query_row("SELECT coalesce(max(seq), 0) FROM batch", [], |row| row.get::<_, i64>(0));
        last.map(i64::cast_unsigned).at("read", self.path())
    }

    /// Reads the batches after a number, with about `points` points.
    pub fn read_after(&self, after: u64, points: usize) -> Result<Vec<(u64, Journaled)>, StoreError> {
        read_after(&self.connection, &self.path(), after, points)
    }

    /// Brings to stable storage what was committed so far.
    pub fn sync(&self) -> Result<(), StoreError> {
        let log = companion(&self.path(), "-wal");
        File::open(&log).and_then(|file| file.sync_data()).at("sync", log)
    }

    /// Closes this file and continues in the next.
    pub fn rotate(&mut self) -> Result<(), StoreError> {
        if !self.synced {
            self.sync()?;
        }
        *self = Self::append_to(&self.folder, self.number + 1, self.synced, self.store)?;
        Ok(())
    }
}

pub fn path_of(folder: &Path, number: u64) -> PathBuf {
    folder.join(format!("{number:06}.db"))
}

fn open(path: &Path, synced: bool, store: i64) -> Result<Connection, StoreError> {
    let connection = sqlite::open(path, Use::Journal { synced })?;
    let table = "CREATE TABLE IF NOT EXISTS batch (seq INTEGER PRIMARY KEY, dataset INTEGER NOT NULL, body BLOB NOT NULL)";
    connection.execute(table, []).and_then(|_| origin::stamp(&connection, store)).at("write", path)?;
    Ok(connection)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::journal::entry::tests::entry;

    fn commit(journal: &mut Journal, seeds: &[i64]) {
        let bodies: Vec<Vec<u8>> = seeds.iter().map(|seed| entry(&[(9, &[(*seed, 0.5, 0)])]).to_bytes()).collect();
        journal.commit(bodies.iter().map(|body| (DatasetId(1), body.as_slice()))).unwrap();
    }

    #[test]
    fn batches_come_back_in_order_over_a_rotation() {
        for synced in [true, false] {
            let folder = tempfile::tempdir().unwrap();
            let mut journal = Journal::append_to(folder.path(), 1, synced, 7).unwrap();
            commit(&mut journal, &[1, 2]);
            journal.rotate().unwrap();
            commit(&mut journal, &[3]);
            drop(journal);
            let mut found = Vec::new();
            for (_, path) in files(folder.path()).unwrap() {
                replay(&path, synced, |journaled| found.extend(journaled.entry.columns.times)).unwrap();
            }
            assert_eq!(found, [1, 2, 3]);
            remove(folder.path(), 1).unwrap();
            assert_eq!(files(folder.path()).unwrap().len(), 1);
        }
    }

    #[test]
    fn a_damaged_batch_is_named() {
        let folder = tempfile::tempdir().unwrap();
        let mut journal = Journal::append_to(folder.path(), 1, true, 7).unwrap();
        commit(&mut journal, &[1]);
        journal.connection.execute("UPDATE batch SET body = zeroblob(20)", []).unwrap();
        let path = journal.path();
        drop(journal);
        let found = replay(&path, true, |_| panic!("nothing of it can be read")).unwrap();
        let faults = vec!["batch 1: its checksum does not fit".to_owned()];
        assert_eq!(found, Replayed { batches: 1, last: 1, faults, origin: Origin { store: Some(7), ..Origin::default() }, ..Replayed::default() });
    }
}
