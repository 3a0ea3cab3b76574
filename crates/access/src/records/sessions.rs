//! Sessions of the console.

use fenetre_core::time::Nanos;
use rusqlite::params;

use super::Records;
use crate::{error::AccessError, secret::Digest};

/// A session.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct StoredSession {
    /// Of its cookie's content.
    pub digest: Digest,
    /// The id of the token that it is bound to.
    pub token: String,
    /// When it began.
    pub begun: Nanos,
    /// When it was last used.
    pub used: Nanos,
}

impl Records {
    /// All sessions.
    ///
    /// # Errors
    /// If the file cannot be read.
    pub fn sessions(&self) -> Result<Vec<StoredSession>, AccessError> {
        let (connection, failed) = self.work("read");
        let mut query = connection.prepare_cached("SELECT digest, token, begun, used FROM sessions").map_err(&failed)?;
        let session =
            |row: &rusqlite::Row<'_>| Ok(StoredSession { digest: Digest(row.get(0)?), token: row.get(1)?, begun: row.get(2)?, used: row.get(3)? });
        query.query_map([], session).and_then(Iterator::collect).map_err(&failed)
    }

    /// Keeps a session, or when it was last used.
    ///
    /// # Errors
    /// If the file cannot be written.
    pub fn keep_session(&self, session: &StoredSession) -> Result<(), AccessError> {
        let (connection, failed) = self.work("write");
        connection
            .execute(
                "INSERT INTO sessions (digest, token, begun, used) VALUES (?1, ?2, ?3, ?4) ON CONFLICT (digest) DO UPDATE SET used = excluded.used",
                params![session.digest.0, session.token, session.begun, session.used],
            )
            .map(|_| ())
            .map_err(failed)
    }

    /// Ends a session.
    ///
    /// # Errors
    /// If the file cannot be written.
    pub fn end_session(&self, digest: Digest) -> Result<(), AccessError> {
        let (connection, failed) = self.work("write");
        connection.execute("DELETE FROM sessions WHERE digest = ?1", [digest.0]).map(|_| ()).map_err(failed)
    }
}
