//! Paths in the store's directory, and the lock of its owner.

use std::{
    fs::{self, File, TryLockError},
    io::{Read, Seek, Write},
    os::unix::fs::MetadataExt,
    path::{Path, PathBuf},
};

use crate::{
    error::{Context, StoreError},
    span::Span,
};

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

    pub fn secrets(&self) -> PathBuf {
        self.root.join("secrets.db")
    }

    /// Tokens and the record of changes: the service keeps this file in the store's directory, and the store only copies and counts it.
    pub fn access(&self) -> PathBuf {
        self.root.join("access.db")
    }

    pub fn journals(&self) -> PathBuf {
        self.root.join("journal")
    }

    pub fn data(&self) -> PathBuf {
        self.root.join("data")
    }

    /// Where something lies that is in the bin.
    pub fn bin(&self, id: &str) -> PathBuf {
        self.root.join("bin").join(id)
    }

    /// The rollups of a dataset.
    pub fn rollups(&self, dataset: &str) -> PathBuf {
        self.root.join("rollup").join(dataset)
    }

    pub fn dataset(&self, name: &str) -> PathBuf {
        self.data().join(name)
    }

    /// The file of the partition of a span.
    pub fn partition(&self, dataset: &str, span: Span) -> PathBuf {
        self.dataset(dataset).join(span.file_name())
    }

    /// A file's path below the store's directory, by which records and callers name it.
    pub fn name_of(&self, path: &Path) -> String {
        path.strip_prefix(&self.root).unwrap_or(path).to_string_lossy().into_owned()
    }

    /// Every partition file of a dataset, with its span.
    pub fn partitions(&self, dataset: &str) -> Result<Vec<(Span, PathBuf)>, StoreError> {
        let folder = self.dataset(dataset);
        if !folder.exists() {
            return Ok(Vec::new());
        }
        let mut found = Vec::new();
        for entry in fs::read_dir(&folder).at("read the folder", &folder)? {
            let path = entry.at("read the folder", &folder)?.path();
            let span = path.file_name().and_then(|name| name.to_str()).and_then(Span::of_file_name);
            found.extend(span.map(|span| (span, path)));
        }
        Ok(found)
    }

    /// Checks that a store with points has a catalogue.
    pub fn check_catalogue(&self) -> Result<(), StoreError> {
        let path = self.catalogue();
        if is_filled(&path) {
            return Ok(());
        }
        match [self.journals(), self.data()].iter().find_map(|folder| database_in(folder)) {
            Some(found) => Err(StoreError::NoCatalogue { path, found }),
            None => Ok(()),
        }
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

/// A file of SQLite's below a folder.
fn database_in(folder: &Path) -> Option<PathBuf> {
    let entries: Vec<PathBuf> = fs::read_dir(folder).ok()?.flatten().map(|entry| entry.path()).collect();
    let is_database = |path: &&PathBuf| path.is_file() && path.extension().is_some_and(|extension| extension == "db");
    entries.iter().find(is_database).cloned().or_else(|| entries.iter().filter(|path| path.is_dir()).find_map(|folder| database_in(folder)))
}

/// Makes a new name in a folder last: its entry reaches the disk.
pub fn sync_folder(folder: &Path) -> Result<(), StoreError> {
    File::open(folder).and_then(|file| file.sync_all()).at("sync", folder)
}

/// A file of SQLite's beside a database: its log (`-wal`) or the index of that (`-shm`).
pub fn companion(path: &Path, suffix: &str) -> PathBuf {
    let mut name = path.as_os_str().to_owned();
    name.push(suffix);
    name.into()
}

/// Whether a database file or its log holds anything.
pub fn is_filled(path: &Path) -> bool {
    [path.to_owned(), companion(path, "-wal")].iter().any(|path| fs::metadata(path).is_ok_and(|file| file.len() > 0))
}

/// Bytes that a file and SQLite's companions of it take on the disk, as the file system counts them.
pub fn bytes_on_disk(path: &Path) -> u64 {
    let companions = ["", "-wal", "-shm"].map(|suffix| companion(path, suffix));
    companions.iter().filter_map(|path| fs::metadata(path).ok()).map(|data| data.blocks() * 512).sum()
}

/// Bytes of all files below a folder, as the file system counts them; none where it is not there.
pub fn folder_bytes(folder: &Path) -> u64 {
    let Ok(entries) = fs::read_dir(folder) else { return 0 };
    let of = |entry: fs::DirEntry| match entry.metadata() {
        Ok(data) if data.is_dir() => folder_bytes(&entry.path()),
        Ok(data) => data.blocks() * 512,
        Err(_) => 0,
    };
    entries.flatten().map(of).sum()
}

/// Removes a file that may not be there.
pub fn remove_file(path: &Path) -> Result<(), StoreError> {
    match fs::remove_file(path) {
        Err(error) if error.kind() != std::io::ErrorKind::NotFound => Err(error).at("remove", path),
        _ => Ok(()),
    }
}

/// Files of SQLite's beside a database, before the database itself: SQLite would take a log without its database for that of a new one.
const DATABASE: [&str; 3] = ["-wal", "-shm", ""];

/// Removes a database with its companions, if it is there.
pub fn remove_database(path: &Path) -> Result<(), StoreError> {
    DATABASE.iter().try_for_each(|suffix| remove_file(&companion(path, suffix)))
}

/// Moves a database with its companions, if it is there; the database last, so that its new name proves that the rest was moved.
pub fn move_database(from: &Path, to: &Path) -> Result<(), StoreError> {
    for suffix in DATABASE {
        let (from, to) = (companion(from, suffix), companion(to, suffix));
        match fs::rename(&from, &to) {
            Err(error) if error.kind() != std::io::ErrorKind::NotFound => return Err(error).at("move", from),
            _ => {}
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_second_owner_sees_the_pid_of_the_first() {
        let folder = tempfile::tempdir().unwrap();
        let files = Files::create(folder.path()).unwrap();
        let owner = files.lock().unwrap();
        let refused = files.lock().unwrap_err().to_string();
        assert!(refused.contains(&format!("in use by process {}", std::process::id())), "{refused}");
        drop(owner);
        files.lock().unwrap();
    }
}
