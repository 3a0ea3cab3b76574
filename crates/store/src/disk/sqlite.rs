//! How Fenetre opens SQLite files.

use std::{
    path::Path,
    time::{Duration, Instant},
};

use rusqlite::{Connection, ErrorCode, OpenFlags, config::DbConfig};

use crate::{
    disk::files::{companion, sync_folder},
    error::{Context, StoreError},
};

/// How long a connection waits for another one of this process.
const BUSY: Duration = Duration::from_secs(10);

/// What a file is for, which decides how its commits reach the disk.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Use {
    /// Small records: each commit is on stable storage.
    Records,
    /// A log that only grows, with one connection. It stays in SQLite's write-ahead log and is never copied into the database file,
    /// since the file is removed as a whole. `synced` says whether each commit is on stable storage when it returns.
    Journal {
        /// Whether each commit waits for the disk.
        synced: bool,
    },
    /// Blocks: a checkpoint brings them to the disk.
    Blocks {
        /// Of a file that is new.
        page_size: u32,
    },
}

/// Opens a file, and makes it where it is new.
pub fn open(path: &Path, file_use: Use) -> Result<Connection, StoreError> {
    let is_new = !path.exists();
    let connection = Connection::open(path).at("open", path)?;
    // Two that open a file at once may both have to change how it is written, for which SQLite does not wait by itself.
    let begun = Instant::now();
    let mut configured = configure(&connection, file_use);
    while begun.elapsed() < BUSY && configured.as_ref().is_err_and(|error| error.sqlite_error_code() == Some(ErrorCode::DatabaseBusy)) {
        std::thread::sleep(Duration::from_millis(2));
        configured = configure(&connection, file_use);
    }
    configured.at("open", path)?;
    if let (true, Some(folder)) = (is_new, path.parent()) {
        sync_folder(folder)?;
    }
    Ok(connection)
}

/// Opens a file that nobody writes, to read it. Without a log it is opened without locks, and without files beside it.
pub fn open_to_read(path: &Path) -> rusqlite::Result<Connection> {
    if std::fs::metadata(companion(path, "-wal")).is_ok_and(|log| log.len() > 0) {
        return Connection::open(path);
    }
    let escaped = path.to_string_lossy().replace('%', "%25").replace('?', "%3f").replace('#', "%23");
    Connection::open_with_flags(format!("file:{escaped}?immutable=1"), OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_URI)
}

/// SQLite's own check of a whole file, of its indexes against its tables too: faults, one sentence each.
pub fn check_integrity(connection: &Connection) -> rusqlite::Result<Vec<String>> {
    let mut check = connection.prepare("PRAGMA integrity_check(20)")?;
    let findings = check.query_map([], |row| row.get::<_, String>(0))?.collect::<rusqlite::Result<Vec<_>>>()?;
    Ok(if findings == ["ok"] { Vec::new() } else { findings })
}

fn configure(connection: &Connection, file_use: Use) -> rusqlite::Result<()> {
    connection.busy_timeout(BUSY)?;
    if let Use::Blocks { page_size } = file_use {
        connection.pragma_update(None, "page_size", page_size)?;
    }
    connection.execute_batch(match file_use {
        Use::Records => "PRAGMA page_size=4096; PRAGMA journal_mode=WAL; PRAGMA synchronous=FULL;",
        // Exclusive, so that the log's index is in memory and not a third file.
        Use::Journal { synced: true } => {
            "PRAGMA page_size=8192; PRAGMA locking_mode=EXCLUSIVE; PRAGMA journal_mode=WAL; PRAGMA synchronous=FULL; PRAGMA wal_autocheckpoint=0;"
        }
        Use::Journal { synced: false } => {
            "PRAGMA page_size=8192; PRAGMA locking_mode=EXCLUSIVE; PRAGMA journal_mode=WAL; PRAGMA synchronous=NORMAL; PRAGMA wal_autocheckpoint=0;"
        }
        // Reads go through the page cache of the system, and a small one of SQLite's own serves the writers.
        Use::Blocks { .. } => {
            "PRAGMA journal_mode=WAL; PRAGMA synchronous=NORMAL; PRAGMA mmap_size=8589934592; PRAGMA cache_size=-512; PRAGMA wal_autocheckpoint=0;"
        }
    })?;
    if matches!(file_use, Use::Journal { .. }) {
        connection.set_db_config(DbConfig::SQLITE_DBCONFIG_NO_CKPT_ON_CLOSE, true)?;
    }
    Ok(())
}
