//! A file of SQLite.

use std::{
    path::Path,
    time::{Duration, Instant},
};

use fenetre_formats::mapping::Cell;
use rusqlite::{Connection, OpenFlags, types::ValueRef};

use super::{Database, EachRow, Stop, statement::TimeKind};
use crate::error::FlowError;

/// How long a writer of the file may keep this reader waiting.
const BUSY: Duration = Duration::from_secs(5);

/// An open file.
pub struct Sqlite {
    connection: Connection,
    name: String,
    timeout: Duration,
}

impl Sqlite {
    /// Opens a file for reading.
    ///
    /// # Errors
    /// If it does not exist, or is no database.
    pub fn open(path: &Path, name: &str, timeout: Duration) -> Result<Self, FlowError> {
        let fault = |reason: String| FlowError::File { action: "read the database", path: path.display().to_string(), reason };
        if !path.is_file() {
            return Err(fault("there is no such file".to_owned()));
        }
        let connection = Connection::open_with_flags(path, OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_NO_MUTEX);
        let connection = connection.map_err(|error| fault(error.to_string()))?;
        connection.busy_timeout(BUSY).map_err(|error| fault(error.to_string()))?;
        Ok(Self { connection, name: name.to_owned(), timeout })
    }

    fn failure(&self, error: &rusqlite::Error) -> FlowError {
        let reason = match error {
            rusqlite::Error::SqliteFailure(_, Some(text)) => text.clone(),
            rusqlite::Error::SqlInputError { msg, .. } => msg.clone(),
            other => other.to_string(),
        };
        FlowError::Peer(format!("{}: {reason}", self.name))
    }
}

impl Database for Sqlite {
    fn columns(&mut self, statement: &str, _stop: Stop<'_>) -> Result<Vec<(String, TimeKind)>, FlowError> {
        // Columns have no types here, only values have.
        let mut prepared = self.connection.prepare(&format!("{statement} LIMIT 1")).map_err(|error| self.failure(&error))?;
        let names: Vec<String> = prepared.column_names().into_iter().map(str::to_owned).collect();
        let mut rows = prepared.query([]).map_err(|error| self.failure(&error))?;
        let row = rows.next().map_err(|error| self.failure(&error))?;
        let kind = |at: usize| match row.and_then(|row| row.get_ref(at).ok()) {
            Some(ValueRef::Integer(_) | ValueRef::Real(_)) => TimeKind::Number,
            Some(ValueRef::Text(_)) => TimeKind::Text,
            Some(ValueRef::Blob(_)) => TimeKind::Other,
            Some(ValueRef::Null) | None => TimeKind::Unknown,
        };
        Ok(names.into_iter().enumerate().map(|(at, name)| (name, kind(at))).collect())
    }

    fn rows(&mut self, statement: &str, _part: u32, _stop: Stop<'_>, each: &mut EachRow<'_>) -> Result<(), FlowError> {
        let mut prepared = self.connection.prepare(statement).map_err(|error| self.failure(&error))?;
        let columns = prepared.column_count();
        let mut rows = prepared.query([]).map_err(|error| self.failure(&error))?;
        let mut asked = Instant::now();
        while let Some(row) = rows.next().map_err(|error| self.failure(&error))? {
            if asked.elapsed() > self.timeout {
                return Err(FlowError::Silent(format!("{}: the next row took more than {} s (`timeout`)", self.name, self.timeout.as_secs())));
            }
            let cell = |at: usize| match row.get_ref(at) {
                Ok(ValueRef::Null) | Err(_) => Cell::Empty,
                Ok(ValueRef::Integer(integer)) => Cell::Integer(integer.into()),
                Ok(ValueRef::Real(number)) => Cell::Number(number),
                Ok(ValueRef::Text(text)) => std::str::from_utf8(text).map_or(Cell::Unusable("not UTF-8"), |text| Cell::Text(text.trim())),
                Ok(ValueRef::Blob(_)) => Cell::Unusable("a blob"),
            };
            let cells: Vec<Cell<'_>> = (0..columns).map(cell).collect();
            if !each(&cells)? {
                break;
            }
            asked = Instant::now();
        }
        Ok(())
    }
}
