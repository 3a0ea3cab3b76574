//! One partition: an SQLite file with the blocks of one dataset and one span of time.
//!
//! Blocks of one series never overlap. A new block that would, or that would leave a small one behind, is merged with what is there.

use std::path::{Path, PathBuf};

use fenetre_core::{
    block::{BLOCK_POINTS, Columns, decode, encode},
    evaluate::{SourceError, StoredBlock},
    model::{MetricId, SeriesId},
    summary::Summary,
    time::{Nanos, TimeRange},
};
use parking_lot::Mutex;
use rusqlite::{Connection, OptionalExtension, Row, Transaction, params};

use crate::{
    error::{Context, StoreError},
    files::{open_sqlite, partition_last},
    merge::{merge, shared},
};

const PAGE_SIZE: u32 = 16_384;
/// A block of fewer points is taken up when its series is packed again.
const SMALL_BLOCK: i64 = BLOCK_POINTS as i64 / 2;
/// Idle connections that a partition keeps for its readers.
const IDLE_READERS: usize = 4;

const SCHEMA: &str = "
CREATE TABLE IF NOT EXISTS block (
    id INTEGER PRIMARY KEY, metric INTEGER NOT NULL, series INTEGER NOT NULL, start INTEGER NOT NULL, end INTEGER NOT NULL,
    count INTEGER NOT NULL, summary BLOB NOT NULL, bytes BLOB NOT NULL
) STRICT;
CREATE UNIQUE INDEX IF NOT EXISTS block_place ON block (series, start, end, count);
";

/// Points of one series, counted.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct SeriesCount {
    /// Points, each instant once.
    pub points: u64,
    /// Blocks that hold them; points of the head have none.
    pub blocks: u64,
    /// First instant.
    pub first: Nanos,
    /// Last instant.
    pub last: Nanos,
}

impl SeriesCount {
    /// Adds what another place holds of the same series.
    pub(crate) fn add(&mut self, other: &Self) {
        self.points += other.points;
        self.blocks += other.blocks;
        self.first = self.first.min(other.first);
        self.last = self.last.max(other.last);
    }
}

/// Counts of the series of a partition.
pub type SeriesCounts = Vec<(SeriesId, SeriesCount)>;

/// A file of blocks. `start` is the first instant of its span; the block's columns `start` and `end` are its first and last instants.
pub struct Partition {
    pub start: Nanos,
    path: PathBuf,
    idle: Mutex<Vec<Connection>>,
}

impl Partition {
    pub fn new(start: Nanos, path: PathBuf) -> Self {
        Self { start, path, idle: Mutex::new(Vec::new()) }
    }

    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Runs a read with a connection of its own.
    fn read<T>(&self, work: impl FnOnce(&Connection) -> Result<T, StoreError>) -> Result<T, StoreError> {
        let kept = self.idle.lock().pop();
        let connection = match kept {
            Some(connection) => connection,
            None => self.open()?,
        };
        let done = work(&connection);
        let mut idle = self.idle.lock();
        if idle.len() < IDLE_READERS {
            idle.push(connection);
        }
        done
    }

    /// Opens the file, and makes its table where it is new.
    pub fn open(&self) -> Result<Connection, StoreError> {
        // The journal keeps what is written here until a checkpoint has brought it to the disk.
        let connection = open_sqlite(&self.path, "NORMAL", PAGE_SIZE)?;
        connection.execute_batch(SCHEMA).at("write", &self.path)?;
        Ok(connection)
    }

    /// Visits the blocks of a series that have instants in `range`, in order of time.
    pub fn blocks(
        &self,
        series: SeriesId,
        range: TimeRange,
        mut visit: impl FnMut(&PackedBlock<'_>) -> Result<(), SourceError>,
    ) -> Result<(), SourceError> {
        self.read(|connection| Ok(self.visit_blocks(connection, series, range, &mut visit)))?
    }

    fn visit_blocks(
        &self,
        connection: &Connection,
        series: SeriesId,
        range: TimeRange,
        visit: &mut dyn FnMut(&PackedBlock<'_>) -> Result<(), SourceError>,
    ) -> Result<(), SourceError> {
        let text = "SELECT start, end, summary, bytes FROM block WHERE series = ?1 AND start < ?2 AND end >= ?3 ORDER BY start";
        let mut statement = connection.prepare_cached(text).at("read", &self.path)?;
        let mut rows = statement.query(params![series.0, range.end, range.start]).at("read", &self.path)?;
        while let Some(row) = rows.next().at("read", &self.path)? {
            visit(&PackedBlock::of(row, series, &self.path)?)?;
        }
        Ok(())
    }

    /// The latest point of a series.
    pub fn latest(&self, series: SeriesId) -> Result<Option<Summary>, StoreError> {
        self.read(|connection| {
            let text = "SELECT start, end, summary, bytes FROM block WHERE series = ?1 ORDER BY start DESC LIMIT 1";
            let mut statement = connection.prepare_cached(text).at("read", &self.path)?;
            let mut rows = statement.query([series.0]).at("read", &self.path)?;
            match rows.next().at("read", &self.path)? {
                Some(row) => Ok(Some(PackedBlock::of(row, series, &self.path)?.summary)),
                None => Ok(None),
            }
        })
    }

    /// Counts by series, from the index alone; and for each series of `fresh`, how many of its instants a block has too. Both are of
    /// one moment, so that what is packed meanwhile is not counted twice or missed.
    pub fn counts(&self, fresh: &[(SeriesId, Columns)]) -> Result<(SeriesCounts, Vec<usize>), StoreError> {
        self.read(|connection| {
            let snapshot = connection.unchecked_transaction().at("read", &self.path)?;
            let counts = count_series(&snapshot).at("read", &self.path)?;
            let shared = fresh.iter().map(|(series, columns)| self.count_shared(&snapshot, *series, columns)).collect::<Result<_, _>>()?;
            Ok((counts, shared))
        })
    }

    fn count_shared(&self, connection: &Connection, series: SeriesId, fresh: &Columns) -> Result<usize, StoreError> {
        let (Some(&start), Some(&last)) = (fresh.times.first(), fresh.times.last()) else { return Ok(0) };
        let range = TimeRange { start, end: last.saturating_add(1) };
        if !range.meets(self.start, partition_last(self.start)) {
            return Ok(0);
        }
        let (mut stored, mut count) = (Columns::default(), 0);
        let visited = self.visit_blocks(connection, series, range, &mut |block| {
            stored.clear();
            block.decode(&mut stored)?;
            count += shared(&stored.times, &fresh.times);
            Ok(())
        });
        visited.map_err(|error| StoreError::Damaged { path: self.path.clone(), what: error.to_string() })?;
        Ok(count)
    }
}

fn count_series(connection: &Connection) -> rusqlite::Result<SeriesCounts> {
    let text = "SELECT series, SUM(count), MIN(start), MAX(end), COUNT(*) FROM block GROUP BY series";
    let mut statement = connection.prepare_cached(text)?;
    let counts = statement.query_map([], |row| {
        let points: i64 = row.get(1)?;
        let blocks: i64 = row.get(4)?;
        let count = SeriesCount { points: points as u64, blocks: blocks as u64, first: row.get(2)?, last: row.get(3)? };
        Ok((SeriesId(row.get(0)?), count))
    })?;
    counts.collect()
}

/// A row of a partition, read no further than it is asked for.
pub struct PackedBlock<'r> {
    pub start: Nanos,
    pub end: Nanos,
    summary: Summary,
    series: SeriesId,
    row: &'r Row<'r>,
    path: &'r Path,
}

impl<'r> PackedBlock<'r> {
    fn of(row: &'r Row<'r>, series: SeriesId, path: &'r Path) -> Result<Self, StoreError> {
        let (start, end) = (row.get(0).at("read", path)?, row.get(1).at("read", path)?);
        let stored = row.get_ref(2).at("read", path)?;
        let summary = stored.as_blob().map_err(|error| error.to_string()).and_then(|bytes| Summary::from_bytes(bytes).map_err(|e| e.to_string()));
        let summary = summary.map_err(|what| StoreError::Damaged { path: path.to_owned(), what })?;
        Ok(Self { start, end, summary, series, row, path })
    }
}

impl StoredBlock for PackedBlock<'_> {
    fn summary(&self) -> &Summary {
        &self.summary
    }

    fn decode(&self, out: &mut Columns) -> Result<(), SourceError> {
        let bytes = self.row.get_ref(3).at("read", self.path)?;
        let bytes = bytes.as_blob().map_err(|error| StoreError::Damaged { path: self.path.to_owned(), what: error.to_string() })?;
        Ok(decode(bytes, out).map_err(|error| StoreError::bad_block(self.path, self.series.0, self.start, &error))?)
    }
}

/// Writes a series' points into a partition, merged with the blocks that they touch; at one instant the new point wins.
pub fn pack(transaction: &Transaction<'_>, path: &Path, metric: MetricId, series: SeriesId, fresh: &Columns) -> Result<(), StoreError> {
    let (Some(&first), Some(&last)) = (fresh.times.first(), fresh.times.last()) else { return Ok(()) };
    let mut stored = Columns::default();
    let mut touched: Vec<i64> = Vec::new();
    let mut take = |row: &Row<'_>| -> rusqlite::Result<Result<(), fenetre_core::block::BlockError>> {
        touched.push(row.get(0)?);
        Ok(decode(row.get_ref(1)?.as_blob()?, &mut stored))
    };
    let bad = |error| StoreError::bad_block(path, series.0, first, &error);
    let before = "SELECT id, bytes FROM block WHERE series = ?1 AND end < ?2 AND count < ?3 AND start = (SELECT MAX(start) FROM block WHERE series = ?1 AND start < ?2)";
    let mut statement = transaction.prepare_cached(before).at("read", path)?;
    let small = statement.query_row(params![series.0, first, SMALL_BLOCK], &mut take).optional().at("read", path)?;
    small.transpose().map_err(bad)?;
    let overlapping = "SELECT id, bytes FROM block WHERE series = ?1 AND start <= ?3 AND end >= ?2 ORDER BY start";
    let mut statement = transaction.prepare_cached(overlapping).at("read", path)?;
    let mut rows = statement.query(params![series.0, first, last]).at("read", path)?;
    while let Some(row) = rows.next().at("read", path)? {
        take(row).at("read", path)?.map_err(bad)?;
    }
    drop(rows);
    let mut remove = transaction.prepare_cached("DELETE FROM block WHERE id = ?1").at("write", path)?;
    for id in &touched {
        remove.execute([id]).at("write", path)?;
    }
    let whole = merge(&stored, fresh);
    let text = "INSERT INTO block (metric, series, start, end, count, summary, bytes) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)";
    let mut insert = transaction.prepare_cached(text).at("write", path)?;
    for (times, values) in whole.times.chunks(BLOCK_POINTS).zip(whole.values.chunks(BLOCK_POINTS)) {
        let Some(summary) = Summary::of(times, values) else { continue };
        let row = params![metric.0, series.0, times[0], times[times.len() - 1], times.len() as i64, summary.to_bytes(), encode(times, values)];
        insert.execute(row).at("write", path)?;
    }
    Ok(())
}
