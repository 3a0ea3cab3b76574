//! The file `access.db` of a store: tokens, sessions, uses of tokens, and the record of changes.
//!
//! It is a file of its own so that a token can be made on the machine of the service while the service runs: SQLite lets two processes share it,
//! and the service notices what another one has written ([`Records::version`]).

mod changes;
mod sessions;
mod tokens;
mod uses;

use std::{
    path::{Path, PathBuf},
    time::Duration,
};

use fenetre_core::time::Nanos;
use parking_lot::{Mutex, MutexGuard};
use rusqlite::{Connection, OpenFlags, config::DbConfig};
use rusqlite_migration::{M, Migrations};

pub use self::{sessions::StoredSession, tokens::StoredToken, uses::Use};
use crate::error::AccessError;

/// Name of the file in the store's directory.
pub const FILE: &str = "access.db";
/// How long one process waits for the other.
const BUSY: Duration = Duration::from_secs(10);

const SCHEMA: &[M<'static>] = &[M::up(
    "CREATE TABLE tokens (
        id TEXT PRIMARY KEY,
        name TEXT NOT NULL,
        rights TEXT NOT NULL,
        created INTEGER NOT NULL,
        expires INTEGER,
        state TEXT NOT NULL CHECK (state IN ('active', 'suspended', 'revoked')),
        digest BLOB NOT NULL UNIQUE CHECK (length(digest) = 32),
        old_digest BLOB UNIQUE CHECK (length(old_digest) = 32),
        old_until INTEGER
    ) STRICT;
    CREATE UNIQUE INDEX names ON tokens (name) WHERE state <> 'revoked';
    CREATE TABLE uses (
        token TEXT PRIMARY KEY,
        last INTEGER NOT NULL,
        address TEXT,
        pushes INTEGER NOT NULL,
        points INTEGER NOT NULL,
        queries INTEGER NOT NULL
    ) STRICT;
    CREATE TABLE sessions (
        digest BLOB PRIMARY KEY CHECK (length(digest) = 32),
        token TEXT NOT NULL,
        begun INTEGER NOT NULL,
        used INTEGER NOT NULL
    ) STRICT;
    CREATE TABLE changes (
        number INTEGER PRIMARY KEY AUTOINCREMENT,
        at INTEGER NOT NULL,
        who TEXT NOT NULL,
        token TEXT,
        address TEXT,
        subject TEXT NOT NULL,
        act TEXT NOT NULL,
        dataset TEXT,
        object TEXT NOT NULL,
        before TEXT,
        after TEXT
    ) STRICT;
    CREATE INDEX changes_at ON changes (at);
    CREATE TRIGGER changes_stay BEFORE UPDATE ON changes BEGIN SELECT RAISE(ABORT, 'the record of changes is append-only'); END;",
)];

/// The records of a store.
pub struct Records {
    path: PathBuf,
    connection: Mutex<Connection>,
}

impl Records {
    /// Opens the records of a store, and creates them if they are missing.
    ///
    /// # Errors
    /// [`AccessError`] if the file cannot be opened, or is of a later version.
    pub fn open(store: &Path) -> Result<Self, AccessError> {
        let path = store.join(FILE);
        let failed = |source| AccessError::File { action: "open", path: path.clone(), source };
        let mut connection =
            Connection::open_with_flags(&path, OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_CREATE | OpenFlags::SQLITE_OPEN_NO_MUTEX)
                .map_err(failed)?;
        connection.busy_timeout(BUSY).map_err(failed)?;
        connection.set_db_config(DbConfig::SQLITE_DBCONFIG_DEFENSIVE, true).map_err(failed)?;
        connection.execute_batch("PRAGMA journal_mode=WAL; PRAGMA synchronous=FULL;").map_err(failed)?;
        Migrations::from_slice(SCHEMA)
            .to_latest(&mut connection)
            .map_err(|error| AccessError::Version { path: path.clone(), reason: error.to_string() })?;
        Ok(Self { path, connection: Mutex::new(connection) })
    }

    /// A number that changes when another connection has written.
    ///
    /// # Errors
    /// If the file cannot be read.
    pub fn version(&self) -> Result<i64, AccessError> {
        let (connection, failed) = self.work("read");
        connection.query_row("PRAGMA data_version", [], |row| row.get(0)).map_err(failed)
    }

    /// Removes idle sessions and expired changes.
    ///
    /// # Errors
    /// If the file cannot be written.
    pub fn prune(&self, sessions_unused_since: Nanos, changes_before: Nanos) -> Result<(), AccessError> {
        let (connection, failed) = self.work("write");
        connection.execute("DELETE FROM sessions WHERE used < ?1", [sessions_unused_since]).map_err(&failed)?;
        connection.execute("DELETE FROM changes WHERE at < ?1", [changes_before]).map_err(&failed)?;
        Ok(())
    }

    /// The connection, and what a failure with it is.
    fn work(&self, action: &'static str) -> (MutexGuard<'_, Connection>, impl Fn(rusqlite::Error) -> AccessError + '_) {
        (self.connection.lock(), move |source| AccessError::File { action, path: self.path.clone(), source })
    }

    fn damaged(&self, what: impl Into<String>, reason: impl Into<String>) -> AccessError {
        AccessError::Damaged { what: what.into(), path: self.path.clone(), reason: reason.into() }
    }
}

#[cfg(test)]
mod tests;
