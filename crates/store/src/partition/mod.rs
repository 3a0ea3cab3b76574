//! One partition: an SQLite file with the blocks of one dataset and one span of time.
//!
//! A block belongs to the generation of the head whose points it holds. Blocks of one series may overlap where points came late or
//! twice; at one instant the later generation counts, when they are read and when compaction merges them. A block is never changed:
//! packing adds blocks, compaction replaces some by others with the same points.

pub mod counts;
pub mod merge;
pub mod origin;

use std::{
    cell::Cell,
    path::{Path, PathBuf},
    sync::{
        Arc,
        atomic::{AtomicBool, AtomicU64, AtomicUsize, Ordering},
    },
};

use fenetre_core::{
    block::{Columns, Points, cut, decode, encode},
    model::SeriesId,
    summary::Summary,
    time::{Nanos, TimeRange},
};
use hashbrown::HashMap;
use parking_lot::{Mutex, MutexGuard, RwLock};
use rusqlite::{Connection, Row, Transaction, TransactionBehavior, params};

use crate::{
    disk::{
        files::{companion, is_filled, sync_folder},
        pool::Pool,
        sqlite::{self, Use},
    },
    error::{Context, StoreError},
    partition::counts::{SeriesCounts, SeriesSizes},
    span::Span,
};

/// The format of partition files, in their `application_id`: "FE" and a number. Files of format 1 have none.
pub const FORMAT: i32 = 0x4645_0002;
/// How far a file is stands in its `user_version`, which takes no page of its own: the highest generation that was packed into it,
/// negative once its blocks are merged.
pub const SCHEMA: &str = "
CREATE TABLE IF NOT EXISTS block (
    id INTEGER PRIMARY KEY, series INTEGER NOT NULL, start INTEGER NOT NULL, end INTEGER NOT NULL, generation INTEGER NOT NULL,
    count INTEGER NOT NULL, summary BLOB NOT NULL, bytes BLOB NOT NULL
) STRICT;
CREATE INDEX IF NOT EXISTS block_place ON block (series, start, end, generation, count);
PRAGMA application_id = 0x46450002;
";

/// A block of more bytes is halved: a page of the file ends where the next row does not fit, so large rows leave large ends empty.
const LARGE_BLOCK: usize = 4_096;
/// The latest instant of series.
type Latest = HashMap<SeriesId, Nanos>;

/// A file of blocks.
pub struct Partition {
    pub span: Span,
    id: u64,
    path: PathBuf,
    /// For the file, where it is new.
    page_size: u32,
    pool: Arc<Pool>,
    /// SQLite lets one write at a time; who else wants to waits here.
    writing: Mutex<()>,
    /// Counts of its series, with the version that they are of.
    pub counts: Mutex<Option<(u64, Arc<SeriesCounts>)>>,
    version: AtomicU64,
    has_tables: AtomicBool,
    /// Its points are in other partitions by now: it stays as it is for those who read it.
    replaced: AtomicBool,
    /// It was dropped, and its file goes: nobody opens it any more.
    gone: AtomicBool,
    /// How many use a connection to it just now.
    users: AtomicUsize,
    /// Bytes of its series, with the version that they are of.
    pub sizes: Mutex<Option<(u64, Arc<SeriesSizes>)>>,
    /// The latest instant of each series, once somebody has asked for it; exact until points are removed.
    latest: RwLock<Option<Latest>>,
    /// Blocks of series that were asked for, of one version.
    index: Mutex<Index>,
}

/// Where blocks lie, and what they hold in sum, of one version of a partition.
#[derive(Default)]
struct Index {
    version: u64,
    blocks: HashMap<SeriesId, Arc<[Block]>>,
    held: usize,
}

/// A block without its points.
#[derive(Clone, Copy, Debug)]
pub struct Block {
    /// Where it lies.
    pub place: BlockRef,
    /// What it holds in sum; none where that cannot be read.
    pub summary: Option<Summary>,
}

/// Where a block lies, without its points.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct BlockRef {
    pub id: i64,
    pub start: Nanos,
    pub end: Nanos,
    pub generation: u64,
    pub count: u64,
}

impl BlockRef {
    /// Of a row with its columns in this order: id, start, end, generation, count.
    fn of(row: &Row<'_>) -> rusqlite::Result<Self> {
        let number = |column: usize| row.get::<_, i64>(column).map(i64::cast_unsigned);
        Ok(Self { id: row.get(0)?, start: row.get(1)?, end: row.get(2)?, generation: number(3)?, count: number(4)? })
    }
}

/// How far a partition is.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Progress {
    /// The highest generation that was packed into it.
    pub packed: u64,
    /// Whether its blocks were merged since.
    pub compacted: bool,
}

impl Partition {
    pub fn new(span: Span, path: PathBuf, page_size: u32, pool: Arc<Pool>) -> Self {
        let id = pool.next_id();
        Self {
            span,
            id,
            path,
            page_size,
            pool,
            writing: Mutex::new(()),
            counts: Mutex::default(),
            version: AtomicU64::new(0),
            has_tables: AtomicBool::new(false),
            replaced: AtomicBool::new(false),
            gone: AtomicBool::new(false),
            users: AtomicUsize::new(0),
            sizes: Mutex::default(),
            latest: RwLock::default(),
            index: Mutex::default(),
        }
    }

    pub fn path(&self) -> &Path {
        &self.path
    }

    /// A connection of its own.
    fn open(&self) -> Result<Connection, StoreError> {
        sqlite::open(&self.path, Use::Blocks { page_size: self.page_size })
    }

    /// Runs some work with a connection of the pool's.
    fn with<T>(&self, work: impl FnOnce(&mut Connection) -> Result<T, StoreError>) -> Result<T, StoreError> {
        self.users.fetch_add(1, Ordering::SeqCst);
        // A drop reads this first, then the users: one of them sees the other.
        let done = if self.is_gone() {
            Err(StoreError::Missing(format!("{} was dropped", self.path.display())))
        } else {
            self.pool.with(self.id, || self.open(), work)
        };
        self.users.fetch_sub(1, Ordering::SeqCst);
        done
    }

    /// Whether it was dropped.
    pub fn is_gone(&self) -> bool {
        self.gone.load(Ordering::SeqCst)
    }

    /// Whether its points are in other partitions by now.
    pub fn is_replaced(&self) -> bool {
        self.replaced.load(Ordering::SeqCst)
    }

    /// Releases its file: checkpoints its log, and closes it. Returns whether it is unused now; then it may be moved.
    pub fn release(&self) -> Result<bool, StoreError> {
        let _alone = self.writing.lock();
        if !self.is_gone() {
            self.with(|connection| checkpoint(connection, &self.path))?;
        }
        self.gone.store(true, Ordering::SeqCst);
        if self.users.load(Ordering::SeqCst) > 0 {
            return Ok(false);
        }
        self.pool.forget(self.id);
        Ok(true)
    }

    /// Changes with every commit.
    pub fn version(&self) -> u64 {
        self.version.load(Ordering::Acquire)
    }

    /// Reads in one transaction: all that is read is of one moment.
    pub fn read<T>(&self, work: impl FnOnce(&Reading<'_>) -> Result<T, StoreError>) -> Result<T, StoreError> {
        // Until its first packing is done it holds nothing, and reads like a partition that does. To open an empty file is to write it.
        let nothing = || Connection::open_in_memory().and_then(|nothing| nothing.execute_batch(SCHEMA).map(|()| nothing)).at("read", &self.path);
        let is_known = self.has_tables.load(Ordering::Acquire);
        if self.is_gone() || (!is_known && !is_filled(&self.path)) {
            return work(&Reading::without_index(&nothing()?, &self.path));
        }
        self.with(|connection| {
            if !self.has_tables(connection)? {
                return work(&Reading::without_index(&nothing()?, &self.path));
            }
            let before = self.version();
            let transaction = connection.unchecked_transaction().at("read", &self.path)?;
            // The transaction's moment is that of its first look.
            transaction.prepare_cached("SELECT 1 FROM block LIMIT 0").and_then(|mut look| look.exists([])).at("read", &self.path)?;
            // A version that is the same before and after that look, and no commit was under way, is the one that was looked at.
            let is_settled = before == self.version() && before.is_multiple_of(2);
            work(&Reading { connection: &transaction, path: &self.path, partition: is_settled.then_some((self, before)) })
        })
    }

    /// The blocks of a series that are known of a version.
    fn known_blocks(&self, version: u64, series: SeriesId) -> Option<Arc<[Block]>> {
        let index = self.index.lock();
        if index.version == version { index.blocks.get(&series).cloned() } else { None }
    }

    /// Keeps the blocks of a series for the next who asks, within the bound that all partitions share.
    fn keep_blocks(&self, version: u64, series: SeriesId, blocks: &Arc<[Block]>) {
        let mut index = self.index.lock();
        if index.version > version {
            return;
        }
        if index.version < version || !self.pool.may_index(blocks.len()) {
            self.pool.forget_indexed(std::mem::take(&mut index.held));
            *index = Index { version, ..Index::default() };
        }
        if self.pool.may_index(blocks.len()) && index.blocks.insert(series, Arc::clone(blocks)).is_none() {
            self.pool.note_indexed(blocks.len());
            index.held += blocks.len();
        }
    }

    /// Whether its first packing is done, which makes its tables.
    fn has_tables(&self, connection: &Connection) -> Result<bool, StoreError> {
        if !self.has_tables.load(Ordering::Acquire) {
            let found: bool = connection
                .query_row("SELECT EXISTS (SELECT 1 FROM sqlite_master WHERE name = 'block_place')", [], |row| row.get(0))
                .at("read", &self.path)?;
            self.has_tables.store(found, Ordering::Release);
        }
        Ok(self.has_tables.load(Ordering::Acquire))
    }

    /// Which of some series may have points at or after an instant, given for each; all points of the others are older.
    pub fn reaching(&self, first: impl Iterator<Item = (SeriesId, Nanos)>) -> Result<Vec<SeriesId>, StoreError> {
        if self.latest.read().is_none() {
            // Packing meanwhile would be missed.
            let _alone = self.writing.lock();
            let found = self.read(|reading| {
                let mut statement = reading.connection.prepare_cached("SELECT series, max(end) FROM block GROUP BY series").at("read", &self.path)?;
                let rows = statement.query_map([], |row| Ok((SeriesId(row.get(0)?), row.get(1)?))).at("read", &self.path)?;
                rows.collect::<rusqlite::Result<Latest>>().at("read", &self.path)
            })?;
            self.latest.write().get_or_insert(found);
        }
        let latest = self.latest.read();
        let reaches =
            |(series, first): &(SeriesId, Nanos)| latest.as_ref().is_none_or(|latest| latest.get(series).is_some_and(|latest| first <= latest));
        Ok(first.filter(reaches).map(|(series, _)| series).collect())
    }

    /// Copies it as it is at one moment into a new file, compactly.
    pub fn copy_to(&self, to: &Path) -> Result<(), StoreError> {
        self.with(|connection| connection.execute("VACUUM INTO ?1", [to.to_string_lossy()]).map(|_| ()).at("copy a partition to", to))
    }

    /// Waits until nobody else writes.
    pub fn writer(&self) -> Writer<'_> {
        Writer { partition: self, _guard: self.writing.lock() }
    }
}

impl Drop for Partition {
    fn drop(&mut self) {
        self.pool.forget_indexed(self.index.get_mut().held);
    }
}

/// The right to write into a partition.
pub struct Writer<'p> {
    partition: &'p Partition,
    _guard: MutexGuard<'p, ()>,
}

impl Writer<'_> {
    /// Writes in one transaction. With `to_disk`, what was written is on stable storage when this returns.
    pub fn write<T>(&self, to_disk: bool, work: impl FnOnce(&Writing<'_>) -> Result<T, StoreError>) -> Result<T, StoreError> {
        let Partition { path, version, latest, .. } = self.partition;
        self.partition.with(|connection| {
            let is_new = !self.partition.has_tables(connection)?;
            let done = {
                // SQLite waits for a lock when a transaction begins, but not when a reading transaction starts to write.
                let transaction = connection.transaction_with_behavior(TransactionBehavior::Immediate).at("write", path)?;
                let writing = Writing { transaction, path, latest, added: Cell::new(0) };
                if is_new {
                    writing.transaction.execute_batch(SCHEMA).at("write", path)?;
                }
                let done = work(&writing)?;
                // Odd while a commit is under way: a reader meanwhile cannot know which of two versions it sees.
                version.fetch_add(1, Ordering::AcqRel);
                let committed = writing.transaction.commit().at("write", path);
                version.fetch_add(1, Ordering::AcqRel);
                committed?;
                done
            };
            if to_disk {
                checkpoint(connection, path)?;
            }
            Ok(done)
        })
    }

    /// Notes that its points are in other partitions by now.
    pub fn note_replaced(&self) {
        self.partition.replaced.store(true, Ordering::SeqCst);
    }

    /// Writes the file anew without the room that removed blocks have left. Readers go on meanwhile.
    pub fn shrink(&self) -> Result<(), StoreError> {
        let path = &self.partition.path;
        self.partition.with(|connection| {
            connection.execute_batch("VACUUM").at("shrink", path)?;
            checkpoint(connection, path)
        })
    }
}

/// Brings the log to stable storage and into the file.
pub fn checkpoint(connection: &Connection, path: &Path) -> Result<(), StoreError> {
    let (busy, _, _): (i64, i64, i64) =
        connection.query_row("PRAGMA wal_checkpoint(TRUNCATE)", [], |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?))).at("write", path)?;
    if busy != 0 {
        // Readers keep it from emptying the log, which is synced all the same.
        let log = companion(path, "-wal");
        std::fs::File::open(&log).and_then(|file| file.sync_data()).at("sync", log)?;
    }
    path.parent().map_or(Ok(()), sync_folder)
}

/// A partition as it was at one moment.
pub struct Reading<'c> {
    connection: &'c Connection,
    path: &'c Path,
    /// Whose index of blocks is that of this moment, and under which version; none where that is not known.
    partition: Option<(&'c Partition, u64)>,
}

impl<'c> Reading<'c> {
    fn without_index(connection: &'c Connection, path: &'c Path) -> Self {
        Self { connection, path, partition: None }
    }

    /// The blocks of a series that have instants in `range`, of generations before one, in order of their starts, and how many others there
    /// are. Kept in memory for a while.
    pub fn blocks(&self, series: SeriesId, range: TimeRange, before: u64) -> Result<(Vec<Block>, u64), StoreError> {
        let known = self.partition.and_then(|(partition, version)| partition.known_blocks(version, series));
        let all = match known {
            Some(known) => known,
            None => {
                let read: Arc<[Block]> = self.read_blocks(series)?.into();
                if let Some((partition, version)) = self.partition {
                    partition.keep_blocks(version, series, &read);
                }
                read
            }
        };
        let wanted = |block: &&Block| block.place.start < range.end && block.place.end >= range.start && block.place.generation < before;
        let blocks: Vec<Block> = all.iter().filter(wanted).copied().collect();
        let outside = (all.len() - blocks.len()) as u64;
        Ok((blocks, outside))
    }

    fn read_blocks(&self, series: SeriesId) -> Result<Vec<Block>, StoreError> {
        let text = "SELECT id, start, end, generation, count, summary FROM block WHERE series = ?1 ORDER BY start, generation";
        let mut statement = self.connection.prepare_cached(text).at("read", self.path)?;
        let rows = statement.query_map([series.0], |row| {
            let place = BlockRef::of(row)?;
            let bytes = row.get_ref(5)?.as_blob().unwrap_or_default();
            Ok(Block { place, summary: Summary::from_bytes(bytes, place.count, place.start, place.end).ok() })
        });
        rows.and_then(Iterator::collect).at("read", self.path)
    }

    /// Where the blocks of a series are that have instants in `range`, of generations before one, in order of their starts. Read from the
    /// index alone.
    pub fn places(&self, series: SeriesId, range: TimeRange, before: u64) -> Result<Vec<BlockRef>, StoreError> {
        let text = "SELECT id, start, end, generation, count FROM block
                    WHERE series = ?1 AND start < ?2 AND end >= ?3 AND generation < ?4 ORDER BY start, generation";
        let mut statement = self.connection.prepare_cached(text).at("read", self.path)?;
        let values = params![series.0, range.end, range.start, before.cast_signed()];
        let rows = statement.query_map(values, BlockRef::of);
        rows.and_then(Iterator::collect).at("read", self.path)
    }

    /// Every series with the places of its blocks of generations before one, by id.
    pub fn all_places(&self, before: u64, mut each: impl FnMut(SeriesId, &[BlockRef]) -> Result<(), StoreError>) -> Result<(), StoreError> {
        let text = "SELECT id, start, end, generation, count, series FROM block WHERE generation < ?1 ORDER BY series, start, generation";
        let mut statement = self.connection.prepare_cached(text).at("read", self.path)?;
        let mut rows = statement.query([before.cast_signed()]).at("read", self.path)?;
        let (mut series, mut places) = (None, Vec::new());
        while let Some(row) = rows.next().at("read", self.path)? {
            let of = SeriesId(row.get(5).at("read", self.path)?);
            let place = BlockRef::of(row).at("read", self.path)?;
            if let Some(before) = series.replace(of)
                && before != of
            {
                each(before, &places)?;
                places.clear();
            }
            places.push(place);
        }
        series.map_or(Ok(()), |series| each(series, &places))
    }

    /// The summary of a block.
    pub fn summary(&self, place: &BlockRef) -> Result<Summary, StoreError> {
        let mut statement = self.connection.prepare_cached("SELECT summary FROM block WHERE id = ?1").at("read", self.path)?;
        let mut rows = statement.query([place.id]).at("read", self.path)?;
        let row = rows.next().at("read", self.path)?.ok_or_else(|| self.damaged("a block of its index is missing"))?;
        let stored = row.get_ref(0).at("read", self.path)?;
        let bytes = stored.as_blob().map_err(|error| self.damaged(&error.to_string()))?;
        Summary::from_bytes(bytes, place.count, place.start, place.end).map_err(|error| self.damaged(&error.to_string()))
    }

    /// Appends the points of a block.
    pub fn decode(&self, series: SeriesId, place: &BlockRef, out: &mut Columns) -> Result<(), StoreError> {
        let mut statement = self.connection.prepare_cached("SELECT bytes FROM block WHERE id = ?1").at("read", self.path)?;
        let mut rows = statement.query([place.id]).at("read", self.path)?;
        let row = rows.next().at("read", self.path)?.ok_or_else(|| self.damaged("a block of its index is missing"))?;
        let stored = row.get_ref(0).at("read", self.path)?;
        let bytes = stored.as_blob().map_err(|error| self.damaged(&error.to_string()))?;
        decode(bytes, out).map_err(|error| StoreError::bad_block(self.path, series.0, place.start, &error))
    }

    /// Bytes of each series' blocks, their rows included, and its first instant, by id.
    pub fn sizes(&self) -> Result<SeriesSizes, StoreError> {
        let text = "SELECT series, sum(length(bytes) + length(summary) + 40), min(start) FROM block GROUP BY series";
        let mut statement = self.connection.prepare_cached(text).at("read", self.path)?;
        let rows = statement.query_map([], |row| Ok((SeriesId(row.get(0)?), row.get::<_, i64>(1)?.cast_unsigned(), row.get(2)?)));
        rows.and_then(Iterator::collect).at("read", self.path)
    }

    /// How many points it holds, those that blocks share counted twice; none if they are more than a bound.
    pub fn points_up_to(&self, most: u64) -> Result<Option<u64>, StoreError> {
        // Each block has a point: what has more blocks is not counted.
        let text = "SELECT count(*), COALESCE(sum(count), 0) FROM (SELECT count FROM block LIMIT ?1)";
        let values = [i64::try_from(most).unwrap_or(i64::MAX).saturating_add(1)];
        let mut statement = self.connection.prepare_cached(text).at("read", self.path)?;
        let (blocks, points) = statement.query_row(values, |row| Ok((row.get::<_, i64>(0)?, row.get::<_, i64>(1)?))).at("read", self.path)?;
        Ok(Some(points.cast_unsigned()).filter(|points| blocks.cast_unsigned() <= most && *points <= most))
    }

    /// Bytes of a block and its summary.
    pub fn bytes_of(&self, place: &BlockRef) -> Result<u64, StoreError> {
        let text = "SELECT length(bytes) + length(summary) FROM block WHERE id = ?1";
        let mut statement = self.connection.prepare_cached(text).at("read", self.path)?;
        statement.query_row([place.id], |row| row.get::<_, i64>(0)).map(i64::cast_unsigned).at("read", self.path)
    }

    /// How far it is.
    pub fn progress(&self) -> Result<Progress, StoreError> {
        let version: i64 = self.connection.pragma_query_value(None, "user_version", |row| row.get(0)).at("read", self.path)?;
        Ok(Progress { packed: version.unsigned_abs(), compacted: version <= 0 })
    }

    fn damaged(&self, what: &str) -> StoreError {
        StoreError::Damaged { path: self.path.to_owned(), what: what.to_owned() }
    }
}

/// A partition within a transaction.
pub struct Writing<'c> {
    transaction: Transaction<'c>,
    path: &'c Path,
    latest: &'c RwLock<Option<Latest>>,
    added: Cell<u64>,
}

impl Writing<'_> {
    /// What is there, as this transaction sees it.
    pub fn reading(&self) -> Reading<'_> {
        Reading::without_index(&self.transaction, self.path)
    }

    /// Adds points of a series, in order of time, as blocks of a generation. Of a counter the growth is kept.
    pub fn add(&self, series: SeriesId, points: Points<'_>, generation: u64, is_counter: bool) -> Result<(), StoreError> {
        cut(points.times).into_iter().try_for_each(|block| self.add_block(series, points.slice(block), generation, is_counter))
    }

    fn add_block(&self, series: SeriesId, points: Points<'_>, generation: u64, is_counter: bool) -> Result<(), StoreError> {
        let bytes = encode(points);
        if bytes.len() > LARGE_BLOCK && points.len() > 1 {
            let half = points.len() / 2;
            self.add_block(series, points.slice(0..half), generation, is_counter)?;
            return self.add_block(series, points.slice(half..points.len()), generation, is_counter);
        }
        let summary = if is_counter { Summary::of_counter(points) } else { Summary::of(points) };
        // A block is cut with points in it, so it has a summary.
        let Some(summary) = summary else { return Ok(()) };
        let text = "INSERT INTO block (series, start, end, generation, count, summary, bytes) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)";
        let mut insert = self.transaction.prepare_cached(text).at("write", self.path)?;
        let (start, end) = (summary.first.time, summary.last.time);
        if let Some(latest) = &mut *self.latest.write() {
            latest.entry(series).and_modify(|known| *known = end.max(*known)).or_insert(end);
        }
        self.added.set(self.added.get() + bytes.len() as u64);
        let row = params![series.0, start, end, generation.cast_signed(), points.len() as i64, summary.to_bytes(), bytes];
        insert.execute(row).map(|_| ()).at("write", self.path)
    }

    /// Adds a block of another partition as it is.
    pub fn copy(&self, from: &Reading<'_>, series: SeriesId, place: &BlockRef) -> Result<(), StoreError> {
        let mut look = from.connection.prepare_cached("SELECT summary, bytes FROM block WHERE id = ?1").at("read", from.path)?;
        let mut rows = look.query([place.id]).at("read", from.path)?;
        let row = rows.next().at("read", from.path)?.ok_or_else(|| from.damaged("a block of its index is missing"))?;
        let blob = |column: usize| row.get_ref(column).at("read", from.path)?.as_blob().map_err(|error| from.damaged(&error.to_string()));
        let text = "INSERT INTO block (series, start, end, generation, count, summary, bytes) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)";
        let mut insert = self.transaction.prepare_cached(text).at("write", self.path)?;
        let values = params![series.0, place.start, place.end, place.generation.cast_signed(), place.count.cast_signed(), blob(0)?, blob(1)?];
        insert.execute(values).map(|_| ()).at("write", self.path)
    }

    /// Bytes of the blocks that were added.
    pub fn added_bytes(&self) -> u64 {
        self.added.get()
    }

    /// Removes blocks.
    pub fn remove(&self, places: &[BlockRef]) -> Result<(), StoreError> {
        let mut remove = self.transaction.prepare_cached("DELETE FROM block WHERE id = ?1").at("write", self.path)?;
        places.iter().try_for_each(|place| remove.execute([place.id]).map(|_| ()).at("write", self.path))
    }

    /// Notes which store it belongs to.
    pub fn stamp(&self, store: i64) -> Result<(), StoreError> {
        origin::stamp(&self.transaction, store).at("write", self.path)
    }

    /// Notes how far it is. A generation is megabytes of points, or an hour of them, so 31 bits last for longer than disks do.
    pub fn set_progress(&self, progress: Progress) -> Result<(), StoreError> {
        let packed = i32::try_from(progress.packed).unwrap_or(i32::MAX);
        self.transaction.pragma_update(None, "user_version", if progress.compacted { -packed } else { packed }).at("write", self.path)
    }
}
