//! Windows of one level on the disk: a file for each stretch of time, rows of windows of one series.

use std::{
    collections::BTreeMap,
    fs,
    path::{Path, PathBuf},
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering},
    },
};

use fenetre_core::{
    model::SeriesId,
    rollup::{Encoded, Level, Made, Rules, Wants, Window, WindowColumns, decode, encode},
    time::{Nanos, TimeRange, format_day, format_utc, parse_rfc3339},
};
use parking_lot::{Mutex, RwLock};
use rusqlite::{Connection, TransactionBehavior, params};

use crate::{
    disk::{
        files::{is_filled, remove_database, remove_file},
        pool::Pool,
        sqlite::{self, Use},
    },
    error::{Context, StoreError},
    partition::checkpoint,
};

const SCHEMA: &str = "
CREATE TABLE IF NOT EXISTS windows (
    id INTEGER PRIMARY KEY, series INTEGER NOT NULL, start INTEGER NOT NULL, end INTEGER NOT NULL, count INTEGER NOT NULL,
    generation INTEGER NOT NULL, bytes BLOB NOT NULL, more BLOB NOT NULL DEFAULT x''
) STRICT;
CREATE INDEX IF NOT EXISTS windows_place ON windows (series, start, end, count);
PRAGMA application_id = 0x46450101;
";
/// For files from before rows had two parts.
const SECOND_PART: &str = "ALTER TABLE windows ADD COLUMN more BLOB NOT NULL DEFAULT x''";
/// Rows reach over several small pages: so little room is lost, and their second parts lie on pages that few questions touch.
const PAGE_SIZE: u32 = 4_096;
const DAY: Nanos = 86_400_000_000_000;
/// Windows that are too old go four weeks at a time.
pub const DROPPED_TOGETHER: Nanos = 28 * DAY;
/// Windows of a row: more make it smaller, fewer make it cheaper to add to.
pub const ROW_WINDOWS: usize = 256;

/// A row of windows, as it lies in a file.
pub struct Row<'a> {
    path: &'a Path,
    /// First instant of its first window.
    start: Nanos,
    /// Generations before this are in it.
    pub generation: u64,
    parts: [&'a [u8]; 2],
}

impl Row<'_> {
    /// Appends its windows, and says how they were made.
    pub fn read(&self, wants: Wants, out: &mut WindowColumns) -> Result<Made, StoreError> {
        // Rows from before there were two parts have everything in the first.
        let parts = if self.parts[1].is_empty() { &self.parts[..1] } else { &self.parts };
        decode(parts, wants, out)
            .map_err(|error| StoreError::Damaged { path: self.path.to_owned(), what: format!("windows from {}: {error}", format_utc(self.start)) })
    }
}

/// What a file says of a row.
pub struct RowPlace {
    pub series: SeriesId,
    /// First instant of its first window.
    pub start: Nanos,
    /// First instant of its last window.
    pub end: Nanos,
    /// Windows in it.
    pub count: i64,
}

/// A row that is written anew.
struct Old {
    id: i64,
    generation: u64,
    made: Made,
    windows: Vec<Window>,
}

struct LevelFile {
    id: u64,
    path: PathBuf,
    /// Whether its tables are there as this version has them. To make them is to write, for which others must not be writing.
    is_made: Mutex<bool>,
}

impl LevelFile {
    fn new(pool: &Pool, path: PathBuf) -> Arc<Self> {
        Arc::new(Self { id: pool.next_id(), path, is_made: Mutex::new(false) })
    }

    fn open(&self) -> Result<Connection, StoreError> {
        let mut is_made = self.is_made.lock();
        let connection = sqlite::open(&self.path, Use::Blocks { page_size: PAGE_SIZE })?;
        if !*is_made {
            connection.execute_batch(SCHEMA).at("open", &self.path)?;
            if !connection.column_exists(None, "windows", "more").at("open", &self.path)? {
                connection.execute_batch(SECOND_PART).at("open", &self.path)?;
            }
            *is_made = true;
        }
        Ok(connection)
    }
}

/// The files of a level.
pub struct LevelFiles {
    folder: PathBuf,
    level: Level,
    pool: Arc<Pool>,
    /// By the first instant of their stretch.
    files: RwLock<BTreeMap<Nanos, Arc<LevelFile>>>,
    /// They are being removed.
    is_gone: AtomicBool,
    /// Windows before this were dropped since the files were opened.
    dropped: Mutex<Nanos>,
}

impl LevelFiles {
    pub fn open(folder: PathBuf, level: Level, pool: Arc<Pool>) -> Result<Self, StoreError> {
        fs::create_dir_all(&folder).at("create the folder", &folder)?;
        let mut files = BTreeMap::new();
        for entry in fs::read_dir(&folder).at("read the folder", &folder)? {
            let path = entry.at("read the folder", &folder)?.path();
            let date = path.file_name().and_then(|name| name.to_str()).and_then(|name| name.strip_suffix(".db"));
            if let Some(Ok(start)) = date.map(|date| parse_rfc3339(&format!("{date}T00:00:00Z"))) {
                files.insert(start, LevelFile::new(&pool, path));
            }
        }
        Ok(Self { folder, level, pool, files: RwLock::new(files), is_gone: AtomicBool::new(false), dropped: Mutex::new(Nanos::MIN) })
    }

    /// How long a file's stretch is: some thousand windows of each series.
    fn stretch(&self) -> Nanos {
        if self.level.nominal() <= 15 * 60_000_000_000 { 28 * DAY } else { 364 * DAY }
    }

    fn file_start(&self, at: Nanos) -> Nanos {
        at.checked_sub(at.rem_euclid(self.stretch())).unwrap_or(Nanos::MIN)
    }

    fn with<T>(&self, file: &LevelFile, work: impl FnOnce(&mut Connection) -> Result<T, StoreError>) -> Result<T, StoreError> {
        self.pool.with(file.id, || file.open(), work)
    }

    /// Files whose stretch meets a range, in order.
    fn meeting(&self, range: TimeRange) -> Vec<Arc<LevelFile>> {
        let from = self.file_start(range.start);
        self.files.read().range(from..range.end.max(from)).map(|(_, file)| Arc::clone(file)).collect()
    }

    /// Gives the rows of some series that meet a range, those of each in order of time; with the place of the series. Of what is not wanted, no more is
    /// read than must be.
    pub fn rows(
        &self,
        series: &[SeriesId],
        range: TimeRange,
        wants: Wants,
        each: &mut dyn FnMut(usize, &Row<'_>) -> Result<(), StoreError>,
    ) -> Result<(), StoreError> {
        let more = if wants.are_more() { "more" } else { "x''" };
        let text = format!("SELECT start, generation, bytes, {more} FROM windows WHERE series = ?1 AND start < ?2 AND end >= ?3 ORDER BY start");
        for file in self.meeting(range) {
            self.with(&file, |connection| {
                let path = file.path.as_path();
                let transaction = connection.unchecked_transaction().at("read", path)?;
                let mut statement = transaction.prepare_cached(&text).at("read", path)?;
                for (place, id) in series.iter().enumerate() {
                    let mut rows = statement.query(params![id.0, range.end, range.start]).at("read", path)?;
                    while let Some(row) = rows.next().at("read", path)? {
                        each(place, &row_at(row, path).at("read", path)?)?;
                    }
                }
                Ok(())
            })?;
        }
        Ok(())
    }

    /// How many windows some series have in a range, about: those of rows that reach over its ends as a whole. Past a bound, counting ends.
    pub fn windows_about(&self, series: &[SeriesId], range: TimeRange, most: u64) -> Result<u64, StoreError> {
        let text = "SELECT coalesce(sum(count), 0) FROM windows WHERE series = ?1 AND start < ?2 AND end >= ?3";
        let mut windows = 0;
        for file in self.meeting(range) {
            windows += self.with(&file, |connection| {
                let mut statement = connection.prepare_cached(text).at("read", &file.path)?;
                let mut found = 0;
                for id in series {
                    let values = params![id.0, range.end, range.start];
                    found += statement.query_row(values, |row| row.get::<_, i64>(0)).at("read", &file.path)?.cast_unsigned();
                    if windows + found > most {
                        break;
                    }
                }
                Ok(found)
            })?;
            if windows > most {
                break;
            }
        }
        Ok(windows)
    }

    /// The stretch of a file, where it is one of these.
    pub fn stretch_of(&self, path: &Path) -> Option<TimeRange> {
        let files = self.files.read();
        let (start, _) = files.iter().find(|(_, file)| file.path == path)?;
        Some(self.stretch_from(*start))
    }

    fn stretch_from(&self, start: Nanos) -> TimeRange {
        TimeRange { start, end: start.saturating_add(self.stretch()) }
    }

    fn path_at(&self, start: Nanos) -> PathBuf {
        self.folder.join(format!("{}.db", format_day(start)))
    }

    /// Gives every row of the files that begin inside a range, with what the file says of it.
    pub fn all_rows(&self, range: TimeRange, each: &mut dyn FnMut(&RowPlace, &Row<'_>) -> Result<(), StoreError>) -> Result<(), StoreError> {
        let text = "SELECT start, generation, bytes, more, series, end, count FROM windows ORDER BY series, start";
        for file in self.meeting(range) {
            self.with(&file, |connection| {
                let path = file.path.as_path();
                let mut statement = connection.prepare_cached(text).at("read", path)?;
                let mut rows = statement.query([]).at("read", path)?;
                while let Some(row) = rows.next().at("read", path)? {
                    let found = row_at(row, path).at("read", path)?;
                    each(&place_of(row).at("read", path)?, &found)?;
                }
                Ok(())
            })?;
        }
        Ok(())
    }

    /// All windows of a series inside a range, in order.
    pub fn windows(&self, series: SeriesId, range: TimeRange) -> Result<Vec<Window>, StoreError> {
        let mut found = WindowColumns::default();
        self.rows(&[series], range, Wants::ALL, &mut |_, row| row.read(Wants::ALL, &mut found).map(|_| ()))?;
        // Windows that are made again far from each other share a row that reaches over others.
        found.sort();
        let mut windows = found.to_windows();
        windows.retain(|window| range.contains(window.start));
        Ok(windows)
    }

    /// Puts windows in place of all that there are of some series in ranges: each series with its ranges, in order, and the windows in these.
    pub fn replace(&self, all: &[(SeriesId, Rules, Vec<TimeRange>, Vec<Window>)], generation: u64) -> Result<(), StoreError> {
        let mut starts: Vec<Nanos> = Vec::new();
        for (_, _, ranges, windows) in all {
            starts.extend(windows.iter().map(|window| self.file_start(window.start)));
            let files = self.files.read();
            let of = |range: &TimeRange| {
                files.range(self.file_start(range.start)..range.end.max(self.file_start(range.start))).map(|(start, _)| *start).collect::<Vec<_>>()
            };
            starts.extend(ranges.iter().flat_map(of));
        }
        starts.sort_unstable();
        starts.dedup();
        for start in starts {
            let file = self.file(start);
            let stretch = TimeRange { start, end: start.saturating_add(self.stretch()) };
            self.with(&file, |connection| {
                // Asked for at once, a lock is waited for.
                let transaction = connection.transaction_with_behavior(TransactionBehavior::Immediate).at("write", &file.path)?;
                for (series, rules, ranges, windows) in all {
                    let here: Vec<TimeRange> =
                        ranges.iter().copied().filter(|range| range.start < stretch.end && stretch.start < range.end).collect();
                    if !here.is_empty() {
                        let first = windows.partition_point(|window| window.start < stretch.start);
                        let last = windows.partition_point(|window| window.start < stretch.end);
                        self.replace_in(&transaction, &file.path, (*series, rules), &here, &windows[first..last], generation)?;
                    }
                }
                transaction.commit().at("write", &file.path)
            })?;
        }
        Ok(())
    }

    /// Within one file: rows that meet the ranges are opened and written anew; windows beside all rows take in the rows next to them.
    fn replace_in(
        &self,
        connection: &Connection,
        path: &Path,
        (series, rules): (SeriesId, &Rules),
        ranges: &[TimeRange],
        windows: &[Window],
        generation: u64,
    ) -> Result<(), StoreError> {
        let hull = TimeRange { start: ranges[0].start, end: ranges[ranges.len() - 1].end };
        let mut rows = meeting(connection, path, series, ranges)?;
        if rows.is_empty() {
            if windows.is_empty() {
                return Ok(());
            }
            rows = neighbours(connection, path, series, hull, windows.len())?;
        }
        // Windows that were made by other rules, and are not made again, keep their mark in rows of their own.
        let mut kept: Vec<(Made, u64, Vec<Window>)> = vec![(rules.made(), generation, windows.to_vec())];
        for row in rows {
            let stay = row.windows.into_iter().filter(|window| !ranges.iter().any(|range| range.contains(window.start)));
            match kept.iter_mut().find(|(known, ..)| *known == row.made) {
                Some((_, latest, known)) => {
                    *latest = row.generation.max(*latest);
                    known.extend(stay);
                }
                None => kept.push((row.made, row.generation, stay.collect())),
            }
            connection.prepare_cached("DELETE FROM windows WHERE id = ?1").and_then(|mut remove| remove.execute([row.id])).at("write", path)?;
        }
        for (made, generation, mut windows) in kept {
            windows.sort_by_key(|window| window.start);
            for part in windows.chunks(ROW_WINDOWS) {
                insert(connection, series, part, made, generation).at("write", path)?;
            }
        }
        Ok(())
    }

    /// Removes all windows of some series, and gives back the room that they leave.
    pub fn remove(&self, series: &[SeriesId]) -> Result<(), StoreError> {
        for file in self.meeting(TimeRange::ALL) {
            self.with(&file, |connection| {
                let path = file.path.as_path();
                let transaction = connection.transaction_with_behavior(TransactionBehavior::Immediate).at("write", path)?;
                let mut removed = 0;
                for id in series {
                    let mut remove = transaction.prepare_cached("DELETE FROM windows WHERE series = ?1").at("write", path)?;
                    removed += remove.execute([id.0]).at("write", path)?;
                }
                transaction.commit().at("write", path)?;
                if removed > 0 {
                    connection.execute_batch("VACUUM").at("shrink", path)?;
                }
                checkpoint(connection, path)
            })?;
        }
        Ok(())
    }

    fn file(&self, start: Nanos) -> Arc<LevelFile> {
        if let Some(file) = self.files.read().get(&start) {
            return Arc::clone(file);
        }
        let path = self.path_at(start);
        let mut files = self.files.write();
        Arc::clone(files.entry(start).or_insert_with(|| LevelFile::new(&self.pool, path)))
    }

    /// Brings what was written to stable storage.
    pub fn sync(&self, range: TimeRange) -> Result<(), StoreError> {
        for file in self.meeting(range) {
            self.with(&file, |connection| checkpoint(connection, &file.path))?;
        }
        Ok(())
    }

    /// Up to where windows are to be dropped now that those before an instant are too old; none where that was done already.
    pub fn due_before(&self, at: Nanos) -> Option<Nanos> {
        let end = at.checked_sub(at.rem_euclid(DROPPED_TOGETHER))?;
        let is_due = end > *self.dropped.lock() && self.files.read().keys().next().is_some_and(|start| *start < end);
        is_due.then_some(end)
    }

    /// Drops windows that begin before an instant: files that end there, and of one that goes on its rows, whose room new ones take.
    pub fn drop_before(&self, at: Nanos) -> Result<(), StoreError> {
        let old: Vec<Arc<LevelFile>> =
            self.files.write().extract_if(.., |start, _| start.saturating_add(self.stretch()) <= at).map(|(_, file)| file).collect();
        for file in old {
            self.pool.forget(file.id);
            remove_database(&file.path)?;
        }
        for file in self.meeting(TimeRange { start: Nanos::MIN, end: at }) {
            self.with(&file, |connection| {
                let path = file.path.as_path();
                let transaction = connection.transaction_with_behavior(TransactionBehavior::Immediate).at("write", path)?;
                transaction.execute("DELETE FROM windows WHERE end < ?1", [at]).at("write", path)?;
                transaction.commit().at("write", path)?;
                checkpoint(connection, path)
            })?;
        }
        *self.dropped.lock() = at;
        Ok(())
    }

    /// Where the first window begins.
    pub fn first(&self) -> Result<Option<Nanos>, StoreError> {
        for file in self.meeting(TimeRange::ALL) {
            let read =
                |connection: &mut Connection| connection.query_row("SELECT min(start) FROM windows", [], |row| row.get(0)).at("read", &file.path);
            if let found @ Some(_) = self.with(&file, read)? {
                return Ok(found);
            }
        }
        Ok(None)
    }

    /// The start of the last window.
    pub fn last(&self) -> Result<Option<Nanos>, StoreError> {
        for file in self.meeting(TimeRange::ALL).into_iter().rev() {
            let read =
                |connection: &mut Connection| connection.query_row("SELECT max(end) FROM windows", [], |row| row.get(0)).at("read", &file.path);
            if let found @ Some(_) = self.with(&file, read)? {
                return Ok(found);
            }
        }
        Ok(None)
    }

    /// First instants of the files' stretches.
    pub fn starts(&self) -> Vec<Nanos> {
        self.files.read().keys().copied().collect()
    }

    /// The stretch of the file that begins at an instant, and whether that file holds anything.
    pub fn file_at(&self, start: Nanos) -> (TimeRange, bool) {
        (self.stretch_from(start), is_filled(&self.path_at(start)))
    }

    /// The files, the oldest first.
    pub fn paths(&self) -> Vec<PathBuf> {
        self.files.read().values().map(|file| file.path.clone()).collect()
    }

    /// Windows in all files.
    pub fn count(&self) -> Result<u64, StoreError> {
        let mut sum = 0;
        for file in self.meeting(TimeRange::ALL) {
            let text = "SELECT coalesce(sum(count), 0) FROM windows";
            sum += self.with(&file, |connection| connection.query_row(text, [], |row| row.get::<_, i64>(0)).at("read", &file.path))?.cast_unsigned();
        }
        Ok(sum)
    }

    /// Closes everything, before the files go.
    pub fn close(&self) {
        self.is_gone.store(true, Ordering::SeqCst);
        self.files.read().values().for_each(|file| self.pool.forget(file.id));
    }

    /// Whether the files are removed, or about to be: then results read from them are invalid.
    pub fn is_gone(&self) -> bool {
        self.is_gone.load(Ordering::SeqCst)
    }

    /// Copies the files as they are into a folder; `go_on` is asked before each.
    pub fn copy_to(&self, folder: &Path, go_on: &mut dyn FnMut() -> bool) -> Result<Vec<PathBuf>, StoreError> {
        fs::create_dir_all(folder).at("create the folder", folder)?;
        let mut copies = Vec::new();
        for file in self.meeting(TimeRange::ALL) {
            if !go_on() {
                return Err(StoreError::Stopped);
            }
            let to = folder.join(file.path.file_name().unwrap_or_default());
            remove_file(&to)?;
            self.with(&file, |connection| connection.execute("VACUUM INTO ?1", [to.to_string_lossy()]).map(|_| ()).at("copy a rollup to", &to))?;
            copies.push(to);
        }
        Ok(copies)
    }
}

fn row_at<'a>(row: &'a rusqlite::Row<'_>, path: &'a Path) -> rusqlite::Result<Row<'a>> {
    let blob = |column| row.get_ref(column).map(|bytes| bytes.as_blob().unwrap_or_default());
    Ok(Row { path, start: row.get(0)?, generation: row.get::<_, i64>(1)?.cast_unsigned(), parts: [blob(2)?, blob(3)?] })
}

fn place_of(row: &rusqlite::Row<'_>) -> rusqlite::Result<RowPlace> {
    Ok(RowPlace { start: row.get(0)?, series: SeriesId(row.get(4)?), end: row.get(5)?, count: row.get(6)? })
}

fn old(connection: &Connection, path: &Path, id: i64) -> Result<Old, StoreError> {
    let mut statement = connection.prepare_cached("SELECT start, generation, bytes, more FROM windows WHERE id = ?1").at("read", path)?;
    let mut columns = WindowColumns::default();
    let read = |row: &rusqlite::Row<'_>| {
        let row = row_at(row, path)?;
        Ok(row.read(Wants::ALL, &mut columns).map(|made| (row.generation, made)))
    };
    let (generation, made) = statement.query_row([id], read).at("read", path)??;
    Ok(Old { id, generation, made, windows: columns.to_windows() })
}

/// Rows that meet ranges, which are in order.
fn meeting(connection: &Connection, path: &Path, series: SeriesId, ranges: &[TimeRange]) -> Result<Vec<Old>, StoreError> {
    let text = "SELECT id, start, end FROM windows WHERE series = ?1 AND start < ?2 AND end >= ?3 ORDER BY start";
    let (start, end) = (ranges[0].start, ranges[ranges.len() - 1].end);
    let found = || -> rusqlite::Result<Vec<(i64, Nanos, Nanos)>> {
        connection.prepare_cached(text)?.query_map(params![series.0, end, start], |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?)))?.collect()
    };
    let meets = |(_, start, end): &(i64, Nanos, Nanos)| ranges.iter().any(|range| *start < range.end && range.start <= *end);
    found().at("read", path)?.iter().filter(|row| meets(row)).map(|(id, ..)| old(connection, path, *id)).collect()
}

/// Rows beside a range that are no longer than what they are put together with, as the digits of a binary counter are: so each window is written
/// anew a few times only, and rows are few.
fn neighbours(connection: &Connection, path: &Path, series: SeriesId, range: TimeRange, mut count: usize) -> Result<Vec<Old>, StoreError> {
    // Earlier rows grow as time passes, later ones while a level is backfilled.
    let before = "SELECT id, count FROM windows WHERE series = ?1 AND start < ?2 ORDER BY start DESC";
    let after = "SELECT id, count FROM windows WHERE series = ?1 AND start >= ?2 ORDER BY start";
    let mut found = Vec::new();
    for (text, at) in [(before, range.start), (after, range.end)] {
        let mut beside = connection.prepare_cached(text).at("read", path)?;
        let mut rows = beside.query(params![series.0, at]).at("read", path)?;
        while let Some(row) = rows.next().at("read", path)? {
            let (id, length) = (row.get::<_, i64>(0).at("read", path)?, row.get::<_, i64>(1).at("read", path)? as usize);
            if length > count || length >= ROW_WINDOWS {
                break;
            }
            count += length;
            found.push(old(connection, path, id)?);
        }
    }
    Ok(found)
}

fn insert(connection: &Connection, series: SeriesId, windows: &[Window], made: Made, generation: u64) -> rusqlite::Result<()> {
    let add = "INSERT INTO windows (series, start, end, count, generation, bytes, more) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)";
    let Encoded { bytes, more } = encode(windows, made);
    let (start, end, count) = (windows[0].start, windows[windows.len() - 1].start, windows.len() as i64);
    connection.prepare_cached(add)?.execute(params![series.0, start, end, count, generation.cast_signed(), bytes, more])?;
    Ok(())
}

#[cfg(test)]
#[allow(clippy::unwrap_used, reason = "a test may panic")]
mod tests {
    use fenetre_core::{
        block::Columns,
        model::Shape,
        rollup::{Contents, Roller},
        time::{SECOND, Span},
    };
    use jiff::tz::TimeZone;

    use super::*;

    const MINUTE: Nanos = 60 * SECOND;
    const RULES: Rules = Rules { contents: Contents::Gauge, shape: Shape::Linear, stale_after: None, covered_within: None };

    fn open(folder: &Path) -> LevelFiles {
        let level = Level::new(Span::exact(MINUTE), TimeZone::UTC).unwrap();
        LevelFiles::open(folder.join("1m"), level, Arc::new(Pool::new(4))).unwrap()
    }

    fn window(files: &LevelFiles, minute: i64) -> Vec<Window> {
        let mut columns = Columns::default();
        columns.push(minute * MINUTE, minute as f64, 0);
        let mut roller = Roller::new(&files.level, RULES);
        roller.add_points(columns.points());
        roller.finish()
    }

    fn put(files: &LevelFiles, minute: i64) {
        let range = TimeRange { start: minute * MINUTE, end: (minute + 1) * MINUTE };
        files.replace(&[(SeriesId(1), RULES, vec![range], window(files, minute))], minute as u64).unwrap();
    }

    /// Minutes of the windows of each row.
    fn rows(files: &LevelFiles) -> Vec<Vec<i64>> {
        let mut rows = Vec::new();
        let mut each = |_: &RowPlace, row: &Row<'_>| {
            let mut columns = WindowColumns::default();
            row.read(Wants::ALL, &mut columns)?;
            rows.push(columns.starts().iter().map(|start| start / MINUTE).collect());
            Ok(())
        };
        files.all_rows(TimeRange::ALL, &mut each).unwrap();
        rows
    }

    #[test]
    fn windows_arriving_singly_make_few_rows() {
        for minutes in [(0..1_000).collect::<Vec<i64>>(), (0..1_000).rev().collect()] {
            let folder = tempfile::tempdir().unwrap();
            let files = open(folder.path());
            minutes.iter().for_each(|minute| put(&files, *minute));
            let rows = rows(&files);
            // As the ones among the digits of a thousand, and the full rows.
            assert!(rows.len() <= 12, "{}", rows.len());
            let mut all: Vec<i64> = rows.concat();
            all.sort_unstable();
            assert_eq!(all, (0..1_000).collect::<Vec<i64>>());
            assert_eq!((files.count().unwrap(), files.first().unwrap()), (1_000, Some(0)));
        }
    }

    #[test]
    fn a_window_is_replaced_and_removed_in_the_middle_of_a_row() {
        let folder = tempfile::tempdir().unwrap();
        let files = open(folder.path());
        (0..64).for_each(|minute| put(&files, minute));
        let range = TimeRange { start: 30 * MINUTE, end: 32 * MINUTE };
        let mut other = window(&files, 31);
        other[0].summary.count = 7;
        files.replace(&[(SeriesId(1), RULES, vec![range], other)], 100).unwrap();
        let windows = files.windows(SeriesId(1), TimeRange::ALL).unwrap();
        assert_eq!((windows.len(), windows[30].start, windows[30].summary.count), (63, 31 * MINUTE, 7));
        assert_eq!(files.windows(SeriesId(2), TimeRange::ALL).unwrap(), []);
        // Files of other stretches are other files; what is removed is gone from all of them.
        put(&files, 60 * 24 * 40);
        assert_eq!((files.paths().len(), files.count().unwrap()), (2, 64));
        files.remove(&[SeriesId(1)]).unwrap();
        assert_eq!((files.count().unwrap(), files.first().unwrap()), (0, None));
    }

    #[test]
    fn a_level_file_with_single_part_rows_is_read_and_written() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("1m/1970-01-01.db");
        {
            let files = open(folder.path());
            (0..3).for_each(|minute| put(&files, minute));
            files.sync(TimeRange::ALL).unwrap();
        }
        let connection = Connection::open(&path).unwrap();
        connection.execute_batch("DELETE FROM windows; ALTER TABLE windows DROP COLUMN more").unwrap();
        drop(connection);
        let files = open(folder.path());
        assert_eq!(files.count().unwrap(), 0);
        put(&files, 5);
        assert_eq!(rows(&files), [[5]]);
    }
}
