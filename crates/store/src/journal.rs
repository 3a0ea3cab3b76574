//! The journal: acknowledged batches in SQLite files, in order, until their points are packed.
//!
//! A row holds one batch of one dataset in binary:
//!
//! ```text
//! byte 0    version, 1
//! u32       number of stretches, and for each: u32 series, u32 points, times (i64 each), values (f64 each)
//! u32       CRC-32 of everything before it
//! ```
//!
//! Numbers stand least significant byte first. SQLite's own log drops a commit that a crash cut off, so what is read back is
//! exactly what was acknowledged, and perhaps batches whose acknowledgement never left.

use std::{
    fs,
    path::{Path, PathBuf},
};

use fenetre_core::model::{DatasetId, SeriesId};
use rusqlite::{Connection, params};

use crate::{
    error::{Context, StoreError},
    files::open_sqlite,
    head::Stretch,
};

const VERSION: u8 = 1;
const PAGE_SIZE: u32 = 16_384;

/// One batch, on its way to the journal or back.
#[derive(Clone, Debug, PartialEq)]
pub struct Entry {
    pub dataset: DatasetId,
    pub stretches: Vec<Stretch>,
}

impl Entry {
    pub fn points(&self) -> usize {
        self.stretches.iter().map(|stretch| stretch.times.len()).sum()
    }

    pub fn to_bytes(&self) -> Vec<u8> {
        let mut bytes = Vec::with_capacity(9 + self.stretches.len() * 8 + self.points() * 16);
        bytes.push(VERSION);
        bytes.extend((self.stretches.len() as u32).to_le_bytes());
        for Stretch { series, times, values } in &self.stretches {
            bytes.extend(series.0.to_le_bytes());
            bytes.extend((times.len() as u32).to_le_bytes());
            times.iter().for_each(|time| bytes.extend(time.to_le_bytes()));
            values.iter().for_each(|value| bytes.extend(value.to_le_bytes()));
        }
        let checksum = crc32fast::hash(&bytes);
        bytes.extend(checksum.to_le_bytes());
        bytes
    }

    pub fn from_bytes(dataset: DatasetId, bytes: &[u8]) -> Result<Self, String> {
        let (body, checksum) = bytes.split_last_chunk::<4>().ok_or("it is too short")?;
        if crc32fast::hash(body) != u32::from_le_bytes(*checksum) {
            return Err("its checksum does not fit".to_owned());
        }
        let (version, mut rest) = body.split_first().ok_or("it is empty")?;
        if *version != VERSION {
            return Err(format!("version {version} is not known"));
        }
        let count = take_u32(&mut rest)?;
        let mut stretches = Vec::new();
        for _ in 0..count {
            let series = SeriesId(take_u32(&mut rest)?);
            let points = take_u32(&mut rest)? as usize;
            let times = take_words(&mut rest, points)?.map(i64::from_le_bytes).collect();
            let values = take_words(&mut rest, points)?.map(f64::from_le_bytes).collect();
            stretches.push(Stretch { series, times, values });
        }
        if rest.is_empty() { Ok(Self { dataset, stretches }) } else { Err("it has bytes left over".to_owned()) }
    }
}

fn take_u32(rest: &mut &[u8]) -> Result<u32, String> {
    let (word, after) = rest.split_first_chunk::<4>().ok_or("it ends early")?;
    *rest = after;
    Ok(u32::from_le_bytes(*word))
}

fn take_words<'a>(rest: &mut &'a [u8], count: usize) -> Result<impl Iterator<Item = [u8; 8]> + 'a, String> {
    let (words, after) = count.checked_mul(8).and_then(|length| rest.split_at_checked(length)).ok_or("it ends early")?;
    *rest = after;
    Ok(words.as_chunks::<8>().0.iter().copied())
}

/// The journal file that is written to.
pub struct Journal {
    folder: PathBuf,
    number: u64,
    connection: Connection,
}

impl Journal {
    /// The files that are there, oldest first.
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

    /// Reads the batches of a file, in the order in which they were acknowledged.
    pub fn replay(path: &Path, mut each: impl FnMut(Entry)) -> Result<(), StoreError> {
        let connection = open(path)?;
        let mut statement = connection.prepare("SELECT seq, dataset, body FROM batch ORDER BY seq").at("read", path)?;
        let mut rows = statement.query([]).at("read", path)?;
        while let Some(row) = rows.next().at("read", path)? {
            let seq: i64 = row.get(0).at("read", path)?;
            let dataset = DatasetId(row.get(1).at("read", path)?);
            let body = row.get_ref(2).at("read", path)?;
            let entry = body.as_blob().map_err(|error| error.to_string()).and_then(|body| Entry::from_bytes(dataset, body));
            each(entry.map_err(|what| StoreError::Damaged { path: path.to_owned(), what: format!("batch {seq}: {what}") })?);
        }
        Ok(())
    }

    /// Opens the file of that number to append to.
    pub fn append_to(folder: &Path, number: u64) -> Result<Self, StoreError> {
        let connection = open(&path_of(folder, number))?;
        Ok(Self { folder: folder.to_owned(), number, connection })
    }

    pub fn path(&self) -> PathBuf {
        path_of(&self.folder, self.number)
    }

    /// Commits batches together. When this returns, they are on stable storage; where it fails, none of them is there.
    pub fn commit(&mut self, entries: &[&Entry]) -> Result<(), StoreError> {
        let path = self.path();
        let write = |connection: &mut Connection| {
            let transaction = connection.transaction()?;
            {
                let mut insert = transaction.prepare_cached("INSERT INTO batch (dataset, body) VALUES (?1, ?2)")?;
                for entry in entries {
                    insert.execute(params![entry.dataset.0, entry.to_bytes()])?;
                }
            }
            transaction.commit()
        };
        write(&mut self.connection).at("write", path)
    }

    /// Closes this file and goes on in the next.
    pub fn rotate(&mut self) -> Result<(), StoreError> {
        *self = Self::append_to(&self.folder, self.number + 1)?;
        Ok(())
    }

    /// Removes files whose points are packed.
    pub fn remove(paths: &[PathBuf]) -> Result<(), StoreError> {
        for path in paths {
            for suffix in ["-wal", "-shm", ""] {
                let mut name = path.as_os_str().to_owned();
                name.push(suffix);
                match fs::remove_file(&name) {
                    Err(error) if error.kind() != std::io::ErrorKind::NotFound => return Err(error).at("remove", name),
                    _ => {}
                }
            }
        }
        Ok(())
    }
}

fn path_of(folder: &Path, number: u64) -> PathBuf {
    folder.join(format!("{number:06}.db"))
}

fn open(path: &Path) -> Result<Connection, StoreError> {
    let connection = open_sqlite(path, "FULL", PAGE_SIZE)?;
    let table = "CREATE TABLE IF NOT EXISTS batch (seq INTEGER PRIMARY KEY, dataset INTEGER NOT NULL, body BLOB NOT NULL)";
    connection.execute(table, []).at("write", path)?;
    Ok(connection)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn entry(seed: i64) -> Entry {
        let stretch = Stretch { series: SeriesId(seed as u32), times: vec![seed, seed + 1], values: vec![0.5, -0.0] };
        Entry { dataset: DatasetId(1), stretches: vec![stretch.clone(), Stretch { series: SeriesId(9), ..stretch }] }
    }

    #[test]
    fn batches_come_back_in_order_over_a_rotation() {
        let folder = tempfile::tempdir().unwrap();
        let mut journal = Journal::append_to(folder.path(), 1).unwrap();
        journal.commit(&[&entry(1), &entry(2)]).unwrap();
        journal.rotate().unwrap();
        journal.commit(&[&entry(3)]).unwrap();
        drop(journal);
        let mut found = Vec::new();
        for (_, path) in Journal::files(folder.path()).unwrap() {
            Journal::replay(&path, |entry| found.push(entry)).unwrap();
        }
        assert_eq!(found, [entry(1), entry(2), entry(3)]);
        let first = Journal::files(folder.path()).unwrap().remove(0).1;
        Journal::remove(&[first]).unwrap();
        assert_eq!(Journal::files(folder.path()).unwrap().len(), 1);
    }

    #[test]
    fn a_damaged_batch_is_named() {
        let folder = tempfile::tempdir().unwrap();
        let mut journal = Journal::append_to(folder.path(), 1).unwrap();
        journal.commit(&[&entry(1)]).unwrap();
        journal.connection.execute("UPDATE batch SET body = zeroblob(20)", []).unwrap();
        let path = journal.path();
        drop(journal);
        let error = Journal::replay(&path, |_| {}).unwrap_err().to_string();
        assert!(error.contains("000001.db is damaged: batch 1: its checksum"), "{error}");
    }

    proptest! {
        #[test]
        fn entries_round_trip_and_any_cut_is_an_error(seeds in prop::collection::vec(any::<i32>(), 0..5), cut in 0usize..100) {
            let stretches: Vec<Stretch> = seeds.iter().flat_map(|seed| entry(i64::from(*seed)).stretches).collect();
            let entry = Entry { dataset: DatasetId(1), stretches };
            let bytes = entry.to_bytes();
            prop_assert_eq!(Entry::from_bytes(DatasetId(1), &bytes), Ok(entry));
            prop_assert!(Entry::from_bytes(DatasetId(1), &bytes[..cut.min(bytes.len() - 1)]).is_err());
        }
    }
}
