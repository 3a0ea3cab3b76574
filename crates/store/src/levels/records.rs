//! Records of a dataset's levels on the disk. Each change is on stable storage when it returns.

use std::{
    collections::BTreeSet,
    fs,
    path::{Path, PathBuf},
};

use fenetre_core::{
    model::{MetricId, SeriesId},
    time::{Nanos, TimeRange},
};
use rusqlite::{Connection, TransactionBehavior, params};

use super::{LevelKey, State};
use crate::{
    changes::{self, Change},
    disk::{
        files::bytes_on_disk,
        sqlite::{self, Use},
    },
    error::{Context, StoreError},
    partition::checkpoint,
};

const SCHEMA: &str = "
CREATE TABLE IF NOT EXISTS level (policy TEXT NOT NULL, width TEXT NOT NULL, start INTEGER NOT NULL, end INTEGER NOT NULL, PRIMARY KEY (policy, width)) STRICT;
CREATE TABLE IF NOT EXISTS member (policy TEXT NOT NULL, metric INTEGER NOT NULL, PRIMARY KEY (policy, metric)) STRICT, WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS whole (policy TEXT NOT NULL, width TEXT NOT NULL, metric INTEGER NOT NULL, start INTEGER NOT NULL, PRIMARY KEY (policy, width, metric)) STRICT, WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS file (policy TEXT NOT NULL, width TEXT NOT NULL, start INTEGER NOT NULL, PRIMARY KEY (policy, width, start)) STRICT, WITHOUT ROWID;
-- With an index over it each value is in the file twice, and SQLite's integrity check finds a byte that was changed.
CREATE INDEX IF NOT EXISTS level_value ON level (start, end);
CREATE INDEX IF NOT EXISTS member_value ON member (metric);
CREATE INDEX IF NOT EXISTS whole_value ON whole (start);
CREATE INDEX IF NOT EXISTS file_value ON file (start);
";

/// Where the records of a dataset's rollups are.
pub fn records_of(folder: &Path) -> PathBuf {
    folder.join("progress.db")
}

/// A file that is as small as this, its log with it, stays as it is.
const WORTH_SHRINKING: u64 = 512 * 1_024;

/// `progress.db` of a dataset.
pub struct Progress {
    path: PathBuf,
    connection: Connection,
    /// Id of the next change.
    next: i64,
}

impl Progress {
    pub fn open(folder: &Path) -> Result<Self, StoreError> {
        fs::create_dir_all(folder).at("create the folder", folder)?;
        let path = records_of(folder);
        let connection = sqlite::open(&path, Use::Records)?;
        connection.execute_batch(SCHEMA).and_then(|()| connection.execute_batch(changes::SCHEMA)).at("open", &path)?;
        let next = changes::next_id(&connection).at("read", &path)?;
        Ok(Self { path, connection, next })
    }

    /// Everything.
    ///
    /// # Errors
    /// [`StoreError::Damaged`] if any part of the file is damaged: it is small, so all of it is checked.
    pub fn load(&self) -> Result<State, StoreError> {
        if let Some(what) = sqlite::check_integrity(&self.connection).at("read", &self.path)?.into_iter().next() {
            return Err(StoreError::Damaged { path: self.path.clone(), what });
        }
        let read = || -> rusqlite::Result<State> {
            let mut state = State::default();
            let mut levels = self.connection.prepare("SELECT policy, width, start, end FROM level")?;
            let mut rows = levels.query([])?;
            while let Some(row) = rows.next()? {
                state.levels.insert((row.get(0)?, row.get(1)?), TimeRange { start: row.get(2)?, end: row.get(3)? });
            }
            let mut members = self.connection.prepare("SELECT policy, metric FROM member ORDER BY policy, metric")?;
            let mut rows = members.query([])?;
            while let Some(row) = rows.next()? {
                state.members.entry(row.get(0)?).or_default().push(MetricId(row.get(1)?));
            }
            state.changes = changes::read(&self.connection)?;
            let mut whole = self.connection.prepare("SELECT policy, width, metric, start FROM whole")?;
            let mut rows = whole.query([])?;
            while let Some(row) = rows.next()? {
                state.whole_from.entry((row.get(0)?, row.get(1)?)).or_default().insert(MetricId(row.get(2)?), row.get(3)?);
            }
            Ok(state)
        };
        read().at("read", &self.path)
    }

    fn change(&mut self, work: impl FnOnce(&Connection) -> rusqlite::Result<()>) -> Result<(), StoreError> {
        let run = |connection: &mut Connection| {
            let transaction = connection.transaction_with_behavior(TransactionBehavior::Immediate)?;
            work(&transaction)?;
            transaction.commit()
        };
        run(&mut self.connection).at("write", &self.path)
    }

    /// The files that must exist, by level and first instant.
    pub fn files(&self) -> Result<BTreeSet<(LevelKey, Nanos)>, StoreError> {
        let read = || -> rusqlite::Result<BTreeSet<(LevelKey, Nanos)>> {
            let mut files = self.connection.prepare_cached("SELECT policy, width, start FROM file")?;
            files.query_map([], |row| Ok(((row.get(0)?, row.get(1)?), row.get(2)?)))?.collect()
        };
        read().at("read", &self.path)
    }

    /// Records them.
    pub fn set_files(&mut self, files: &BTreeSet<(LevelKey, Nanos)>) -> Result<(), StoreError> {
        let known = self.files()?;
        if known == *files {
            return Ok(());
        }
        self.change(|connection| {
            for ((policy, width), start) in known.difference(files) {
                connection.execute("DELETE FROM file WHERE policy = ?1 AND width = ?2 AND start = ?3", params![policy, width, start])?;
            }
            files.difference(&known).try_for_each(|((policy, width), start)| {
                connection.execute("INSERT INTO file VALUES (?1, ?2, ?3)", params![policy, width, start]).map(|_| ())
            })
        })
    }

    /// The time that a level covers.
    pub fn set_level(&mut self, (policy, width): &LevelKey, range: TimeRange) -> Result<(), StoreError> {
        let set = "INSERT INTO level VALUES (?1, ?2, ?3, ?4) ON CONFLICT (policy, width) DO UPDATE SET start = ?3, end = ?4";
        self.change(|connection| connection.execute(set, params![policy, width, range.start, range.end]).map(|_| ()))
    }

    /// First instant from which a level covers metrics whose earlier points had expired.
    pub fn set_whole_from(&mut self, (policy, width): &LevelKey, metrics: &[(MetricId, Nanos)]) -> Result<(), StoreError> {
        self.change(|connection| {
            let mut set = connection.prepare_cached("INSERT OR REPLACE INTO whole VALUES (?1, ?2, ?3, ?4)")?;
            metrics.iter().try_for_each(|(metric, start)| set.execute(params![policy, width, metric.0, start]).map(|_| ()))
        })
    }

    pub fn add_member(&mut self, policy: &str, metric: MetricId) -> Result<(), StoreError> {
        self.change(|connection| connection.execute("INSERT OR IGNORE INTO member VALUES (?1, ?2)", params![policy, metric.0]).map(|_| ()))
    }

    pub fn remove_member(&mut self, policy: &str, metric: MetricId) -> Result<(), StoreError> {
        self.change(|connection| {
            connection.execute("DELETE FROM whole WHERE policy = ?1 AND metric = ?2", params![policy, metric.0])?;
            connection.execute("DELETE FROM member WHERE policy = ?1 AND metric = ?2", params![policy, metric.0]).map(|_| ())
        })
    }

    /// Stores changes, which get their ids here.
    pub fn add_changes(&mut self, noted: &mut [(SeriesId, Change)]) -> Result<(), StoreError> {
        for (_, change) in noted.iter_mut() {
            change.id = self.next;
            self.next += 1;
        }
        self.change(|connection| changes::store(connection, noted))
    }

    /// Removes changes.
    pub fn clear_changes(&mut self, ids: &[i64]) -> Result<(), StoreError> {
        self.change(|connection| changes::clear(connection, ids))
    }

    /// Frees the space of removed changes, if it is worth it.
    pub fn shrink(&self) -> Result<(), StoreError> {
        if bytes_on_disk(&self.path) > WORTH_SHRINKING {
            self.connection.execute_batch("VACUUM").at("shrink", &self.path)?;
            checkpoint(&self.connection, &self.path)?;
        }
        Ok(())
    }

    /// Copies everything into a new file, as it is at this moment.
    pub fn copy_to(&self, path: &Path) -> Result<(), StoreError> {
        self.connection.execute("VACUUM INTO ?1", [path.to_string_lossy()]).map(|_| ()).at("copy the records of rollups to", path)
    }

    /// Forgets a policy.
    pub fn forget(&mut self, policy: &str) -> Result<(), StoreError> {
        self.change(|connection| {
            connection.execute("DELETE FROM level WHERE policy = ?1", [policy])?;
            connection.execute("DELETE FROM whole WHERE policy = ?1", [policy])?;
            connection.execute("DELETE FROM member WHERE policy = ?1", [policy]).map(|_| ())
        })
    }

    /// Forgets a level.
    pub fn forget_level(&mut self, (policy, width): &LevelKey) -> Result<(), StoreError> {
        self.change(|connection| {
            connection.execute("DELETE FROM whole WHERE policy = ?1 AND width = ?2", [policy, width])?;
            connection.execute("DELETE FROM level WHERE policy = ?1 AND width = ?2", [policy, width]).map(|_| ())
        })
    }
}
