//! The change log of a consumer: the time ranges of series whose points have changed since it used them.
//!
//! A change to points in time that a consumer has worked on is noted here first, on stable storage: packing of late points, deletions,
//! restored points. The consumer reads the changes that are due, computes its results again, and clears these changes; later ones stay. Until
//! then its results for these stretches are out of date, and readers must use the points instead. So an unchanged past costs nothing.
//!
//! Rollups are such a consumer, with one log per dataset; each consumer has its own log, because each works at its own pace. The
//! log is a table of the consumer's records, so that both change in one transaction and are copied together.

use std::collections::HashMap;

use fenetre_core::{model::SeriesId, time::TimeRange};
use rusqlite::{Connection, params};

/// The table and its index. With an index over it each value is in the file twice, and SQLite's integrity check finds a byte that was changed.
pub const SCHEMA: &str = "
CREATE TABLE IF NOT EXISTS mark (id INTEGER PRIMARY KEY, series INTEGER NOT NULL, start INTEGER NOT NULL, end INTEGER NOT NULL, generation INTEGER NOT NULL) STRICT;
DROP INDEX IF EXISTS mark_series;
CREATE INDEX IF NOT EXISTS mark_value ON mark (series, start, end, generation);
";

/// A change: results for this range of a series were computed from other points.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Change {
    pub range: TimeRange,
    /// The generation that was being packed, before which results cannot be computed again; 0 if points were deleted or restored.
    pub generation: u64,
    /// Distinguishes changes of the same range. Given when it is stored.
    pub id: i64,
}

impl Change {
    /// A change that is not stored yet.
    pub fn new(range: TimeRange, generation: u64) -> Self {
        Self { range, generation, id: 0 }
    }
}

/// Changes that a consumer has not worked on yet, by series. The same in memory as on the disk.
#[derive(Clone, Debug, Default)]
pub struct ChangeLog(HashMap<SeriesId, Vec<Change>>);

impl ChangeLog {
    /// Changes of a series.
    pub fn of(&self, series: SeriesId) -> &[Change] {
        self.0.get(&series).map_or(&[], Vec::as_slice)
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// All changes.
    pub fn all(&self) -> impl Iterator<Item = &Change> {
        self.0.values().flatten()
    }

    /// Changes whose points are packed, those of generations before one, by series in order.
    pub fn due_before(&self, generation: u64) -> Vec<(SeriesId, Vec<Change>)> {
        let of = |(series, changes): (&SeriesId, &Vec<Change>)| {
            let due: Vec<Change> = changes.iter().filter(|change| change.generation < generation).copied().collect();
            (!due.is_empty()).then_some((*series, due))
        };
        let mut due: Vec<(SeriesId, Vec<Change>)> = self.0.iter().filter_map(of).collect();
        due.sort_unstable_by_key(|(series, _)| *series);
        due
    }

    /// Adds stored changes.
    pub fn add(&mut self, changes: impl IntoIterator<Item = (SeriesId, Change)>) {
        for (series, change) in changes {
            self.0.entry(series).or_default().push(change);
        }
    }

    /// Removes changes that were worked on. Later ones stay.
    pub fn clear(&mut self, done: &[(SeriesId, Vec<Change>)]) {
        for (series, of) in done {
            if let Some(changes) = self.0.get_mut(series) {
                changes.retain(|change| of.iter().all(|done| done.id != change.id));
                if changes.is_empty() {
                    self.0.remove(series);
                }
            }
        }
    }

    /// Removes all changes of some series; returns their ids.
    pub fn remove(&mut self, series: &[SeriesId]) -> Vec<i64> {
        series.iter().filter_map(|series| self.0.remove(series)).flatten().map(|change| change.id).collect()
    }
}

/// Reads the log from a consumer's records.
pub fn read(connection: &Connection) -> rusqlite::Result<ChangeLog> {
    let mut log = ChangeLog::default();
    let mut changes = connection.prepare("SELECT series, start, end, generation, id FROM mark")?;
    let mut rows = changes.query([])?;
    while let Some(row) = rows.next()? {
        let range = TimeRange { start: row.get(1)?, end: row.get(2)? };
        let change = Change { range, generation: row.get::<_, i64>(3)?.cast_unsigned(), id: row.get(4)? };
        log.add([(SeriesId(row.get(0)?), change)]);
    }
    Ok(log)
}

/// The id of the next change.
pub fn next_id(connection: &Connection) -> rusqlite::Result<i64> {
    connection.query_row("SELECT coalesce(max(id), 0) + 1 FROM mark", [], |row| row.get(0))
}

/// Stores changes, whose ids are given.
pub fn store(connection: &Connection, changes: &[(SeriesId, Change)]) -> rusqlite::Result<()> {
    let mut add = connection.prepare_cached("INSERT INTO mark (id, series, start, end, generation) VALUES (?1, ?2, ?3, ?4, ?5)")?;
    changes.iter().try_for_each(|(series, Change { range, generation, id })| {
        add.execute(params![id, series.0, range.start, range.end, generation.cast_signed()]).map(|_| ())
    })
}

/// Removes changes from the records.
pub fn clear(connection: &Connection, ids: &[i64]) -> rusqlite::Result<()> {
    let mut clear = connection.prepare_cached("DELETE FROM mark WHERE id = ?1")?;
    ids.iter().try_for_each(|id| clear.execute([id]).map(|_| ()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn due_changes_are_taken_and_later_ones_stay() {
        let connection = Connection::open_in_memory().unwrap();
        connection.execute_batch(SCHEMA).unwrap();
        let change = |id: i64, generation: u64| Change { range: TimeRange { start: id, end: id + 10 }, generation, id };
        let noted = [(SeriesId(2), change(1, 0)), (SeriesId(1), change(2, 3)), (SeriesId(1), change(3, 7))];
        store(&connection, &noted).unwrap();
        let mut log = read(&connection).unwrap();
        assert_eq!((next_id(&connection).unwrap(), log.all().count(), log.of(SeriesId(9)).len()), (4, 3, 0));
        // Generation 7 is still being packed.
        let due = log.due_before(7);
        assert_eq!(due, [(SeriesId(1), vec![change(2, 3)]), (SeriesId(2), vec![change(1, 0)])]);
        let late = (SeriesId(2), change(4, 0));
        store(&connection, &[late]).unwrap();
        log.add([late]);
        log.clear(&due);
        clear(&connection, &[1, 2]).unwrap();
        assert_eq!((log.of(SeriesId(1)), log.of(SeriesId(2))), (&[change(3, 7)][..], &[change(4, 0)][..]));
        assert_eq!(read(&connection).unwrap().all().count(), 2, "the same on the disk");
        assert_eq!(log.remove(&[SeriesId(1), SeriesId(2), SeriesId(3)]), [3, 4]);
        assert!(log.is_empty());
    }
}
