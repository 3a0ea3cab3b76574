//! Where things lie in the store's directory, and who owns it.

use std::{
    fs::{self, File, TryLockError},
    io::{Read, Seek, Write},
    os::unix::fs::MetadataExt,
    path::{Path, PathBuf},
};

use fenetre_core::time::{Nanos, SECOND, format_utc};
use rusqlite::Connection;

use crate::error::{Context, StoreError};

/// Days that a partition spans.
const PARTITION_DAYS: i64 = 7;
const PARTITION_SPAN: Nanos = PARTITION_DAYS * 86_400 * SECOND;
/// How long a connection waits for another one of this process.
const BUSY_MILLISECONDS: u64 = 10_000;

/// The paths of a store.
#[derive(Clone, Debug)]
pub struct Files {
    root: PathBuf,
}

impl Files {
    /// Makes the directories that are missing.
    pub fn create(root: &Path) -> Result<Self, StoreError> {
        let files = Self { root: root.to_owned() };
        for folder in [root.to_owned(), files.journals(), files.data()] {
            fs::create_dir_all(&folder).at("create the folder", folder)?;
        }
        Ok(files)
    }

    pub fn root(&self) -> &Path {
        &self.root
    }

    pub fn catalogue(&self) -> PathBuf {
        self.root.join("catalogue.db")
    }

    pub fn journals(&self) -> PathBuf {
        self.root.join("journal")
    }

    pub fn data(&self) -> PathBuf {
        self.root.join("data")
    }

    pub fn dataset(&self, name: &str) -> PathBuf {
        self.data().join(name)
    }

    /// The file of the partition that begins at `start`.
    pub fn partition(&self, dataset: &str, start: Nanos) -> PathBuf {
        let date = format_utc(start);
        let day = date.split('T').next().unwrap_or(&date);
        self.dataset(dataset).join(format!("{day}_{PARTITION_DAYS}d.db"))
    }

    /// Takes the store for this process, until the returned file is dropped.
    pub fn lock(&self) -> Result<File, StoreError> {
        let path = self.root.join("LOCK");
        let mut file = File::options().read(true).write(true).create(true).truncate(false).open(&path).at("open", &path)?;
        match file.try_lock() {
            Ok(()) => {}
            Err(TryLockError::WouldBlock) => {
                let mut pid = String::new();
                let _ = file.read_to_string(&mut pid);
                return Err(StoreError::InUse { path: self.root.clone(), pid: pid.trim().to_owned() });
            }
            Err(TryLockError::Error(error)) => return Err(error).at("lock", path),
        }
        let written = file.set_len(0).and_then(|()| file.rewind()).and_then(|()| writeln!(file, "{}", std::process::id()));
        written.at("write", path)?;
        Ok(file)
    }
}

/// First instant of the partition that holds an instant.
pub fn partition_start(at: Nanos) -> Nanos {
    at.checked_sub(at.rem_euclid(PARTITION_SPAN)).unwrap_or(Nanos::MIN)
}

/// Last instant of the partition that holds `start`.
pub fn partition_last(start: Nanos) -> Nanos {
    // Counted from the instant itself, so that the first partition of all, which the range of instants cuts, ends where it should.
    start.saturating_add(PARTITION_SPAN - 1 - start.rem_euclid(PARTITION_SPAN))
}

/// Makes a new name in a folder last: its entry reaches the disk.
pub fn sync_folder(folder: &Path) -> Result<(), StoreError> {
    File::open(folder).and_then(|file| file.sync_all()).at("sync", folder)
}

/// Bytes that a file and SQLite's companions of it take on the disk, as the file system counts them.
pub fn bytes_on_disk(path: &Path) -> u64 {
    let companions = ["", "-wal", "-shm"].map(|suffix| {
        let mut name = path.as_os_str().to_owned();
        name.push(suffix);
        PathBuf::from(name)
    });
    companions.iter().filter_map(|path| fs::metadata(path).ok()).map(|data| data.blocks() * 512).sum()
}

/// Opens an SQLite file with a write-ahead log. `synchronous` is `FULL` where a commit must be on the disk, `NORMAL` where a
/// later checkpoint is what counts.
pub fn open_sqlite(path: &Path, synchronous: &str, page_size: u32) -> Result<Connection, StoreError> {
    let is_new = !path.exists();
    let connection = Connection::open(path).at("open", path)?;
    let settings = format!("PRAGMA page_size={page_size}; PRAGMA journal_mode=WAL; PRAGMA synchronous={synchronous}; PRAGMA mmap_size=1073741824;");
    connection.busy_timeout(std::time::Duration::from_millis(BUSY_MILLISECONDS)).at("open", path)?;
    connection.execute_batch(&settings).at("open", path)?;
    if let (true, Some(folder)) = (is_new, path.parent()) {
        sync_folder(folder)?;
    }
    Ok(connection)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn partitions_tile_time() {
        for at in [0, 1, -1, 1_790_000_000 * SECOND, Nanos::MIN + PARTITION_SPAN, Nanos::MAX] {
            let start = partition_start(at);
            assert!(start <= at && at <= partition_last(start), "{at}");
            assert_eq!(partition_start(partition_last(start)), start);
        }
        assert_eq!(partition_start(Nanos::MIN), Nanos::MIN);
        assert!(partition_last(Nanos::MIN) > Nanos::MIN);
    }

    #[test]
    fn a_partition_is_named_after_its_first_day() {
        let folder = tempfile::tempdir().unwrap();
        let files = Files::create(folder.path()).unwrap();
        let path = files.partition("velmar", partition_start(1_790_000_000 * SECOND));
        assert!(path.ends_with("data/velmar/2026-09-17_7d.db"), "{path:?}");
    }

    #[test]
    fn a_second_owner_is_told_the_first_ones_pid() {
        let folder = tempfile::tempdir().unwrap();
        let files = Files::create(folder.path()).unwrap();
        let owner = files.lock().unwrap();
        let refused = files.lock().unwrap_err().to_string();
        assert!(refused.contains(&format!("in use by process {}", std::process::id())), "{refused}");
        drop(owner);
        files.lock().unwrap();
    }
}
