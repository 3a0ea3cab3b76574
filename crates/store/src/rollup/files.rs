//! Windows of one level on the disk: a file for each stretch of time, rows of windows of one series.

use std::{
    collections::BTreeMap,
    fs,
    path::{Path, PathBuf},
    sync::Arc,
};

use fenetre_core::{
    model::SeriesId,
    rollup::{Level, Made, Rules, Wants, Window, decode, encode},
    time::{Nanos, TimeRange, format_utc, parse_rfc3339},
};
use parking_lot::RwLock;
use rusqlite::{Connection, params};

use crate::{
    error::{Context, StoreError},
    files::{companion, remove_file},
    partition::checkpoint,
    pool::Pool,
    sqlite::{self, Use},
};

const SCHEMA: &str = "
CREATE TABLE IF NOT EXISTS windows (
    id INTEGER PRIMARY KEY, series INTEGER NOT NULL, start INTEGER NOT NULL, end INTEGER NOT NULL, count INTEGER NOT NULL,
    generation INTEGER NOT NULL, bytes BLOB NOT NULL
) STRICT;
CREATE INDEX IF NOT EXISTS windows_place ON windows (series, start, end, count);
PRAGMA application_id = 0x46450101;
";
const PAGE_SIZE: u32 = 16_384;
const DAY: Nanos = 86_400_000_000_000;
/// Windows of a row: more make it smaller, fewer make it cheaper to add to.
const ROW_WINDOWS: usize = 256;

/// A row of windows.
pub struct Row {
    id: i64,
    /// First instant of the first window, and of the last.
    start: Nanos,
    end: Nanos,
    /// Generations before this are in it.
    pub generation: u64,
    bytes: Vec<u8>,
}

impl Row {
    /// Its windows, and how they were made.
    pub fn windows(&self, wants: Wants, path: &Path) -> Result<(Vec<Window>, Made), StoreError> {
        decode(&self.bytes, wants)
            .map_err(|error| StoreError::Damaged { path: path.to_owned(), what: format!("windows from {}: {error}", format_utc(self.start)) })
    }
}

struct LevelFile {
    id: u64,
    path: PathBuf,
}

/// The files of a level.
pub struct LevelFiles {
    folder: PathBuf,
    level: Level,
    pool: Arc<Pool>,
    /// By the first instant of their stretch.
    files: RwLock<BTreeMap<Nanos, Arc<LevelFile>>>,
}

impl LevelFiles {
    pub fn open(folder: PathBuf, level: Level, pool: Arc<Pool>) -> Result<Self, StoreError> {
        fs::create_dir_all(&folder).at("create the folder", &folder)?;
        let mut files = BTreeMap::new();
        for entry in fs::read_dir(&folder).at("read the folder", &folder)? {
            let path = entry.at("read the folder", &folder)?.path();
            let date = path.file_name().and_then(|name| name.to_str()).and_then(|name| name.strip_suffix(".db"));
            if let Some(Ok(start)) = date.map(|date| parse_rfc3339(&format!("{date}T00:00:00Z"))) {
                files.insert(start, Arc::new(LevelFile { id: pool.next_id(), path }));
            }
        }
        Ok(Self { folder, level, pool, files: RwLock::new(files) })
    }

    /// How long a file's stretch is: some thousand windows of each series.
    fn stretch(&self) -> Nanos {
        if self.level.nominal() <= 15 * 60_000_000_000 { 28 * DAY } else { 364 * DAY }
    }

    fn file_start(&self, at: Nanos) -> Nanos {
        at.checked_sub(at.rem_euclid(self.stretch())).unwrap_or(Nanos::MIN)
    }

    fn with<T>(&self, file: &LevelFile, work: impl FnOnce(&mut Connection) -> Result<T, StoreError>) -> Result<T, StoreError> {
        let open = || {
            let connection = sqlite::open(&file.path, Use::Blocks { page_size: PAGE_SIZE })?;
            connection.execute_batch(SCHEMA).at("open", &file.path)?;
            Ok(connection)
        };
        self.pool.with(file.id, open, work)
    }

    /// Files whose stretch meets a range, in order.
    fn meeting(&self, range: TimeRange) -> Vec<Arc<LevelFile>> {
        let from = self.file_start(range.start);
        self.files.read().range(from..range.end.max(from)).map(|(_, file)| Arc::clone(file)).collect()
    }

    /// Gives the rows of some series that meet a range, those of each in order of time; with the place of the series.
    pub fn rows(
        &self,
        series: &[SeriesId],
        range: TimeRange,
        each: &mut dyn FnMut(usize, &Path, &Row) -> Result<(), StoreError>,
    ) -> Result<(), StoreError> {
        for file in self.meeting(range) {
            self.with(&file, |connection| {
                let path = &file.path;
                let transaction = connection.unchecked_transaction().at("read", path)?;
                let text = "SELECT id, start, end, generation, bytes FROM windows WHERE series = ?1 AND start < ?2 AND end >= ?3 ORDER BY start";
                let mut statement = transaction.prepare_cached(text).at("read", path)?;
                for (place, id) in series.iter().enumerate() {
                    let mut rows = statement.query(params![id.0, range.end, range.start]).at("read", path)?;
                    while let Some(row) = rows.next().at("read", path)? {
                        each(place, path, &row_of(row).at("read", path)?)?;
                    }
                }
                Ok(())
            })?;
        }
        Ok(())
    }

    /// All windows of a series inside a range, in order.
    pub fn windows(&self, series: SeriesId, range: TimeRange) -> Result<Vec<Window>, StoreError> {
        let mut found = Vec::new();
        self.rows(&[series], range, &mut |_, path, row| {
            found.extend(row.windows(Wants::ALL, path)?.0.into_iter().filter(|window| range.contains(window.start)));
            Ok(())
        })?;
        // Windows that are made again far from each other share a row that reaches over others.
        found.sort_by_key(|window| window.start);
        Ok(found)
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
                let transaction = connection.transaction().at("write", &file.path)?;
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

    /// Within one file: rows that meet the ranges are opened and written anew, and so is the last one while it is small.
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
        let meets = |row: &Row| ranges.iter().any(|range| row.start < range.end && range.start <= row.end);
        let text = "SELECT id, start, end, generation, bytes FROM windows WHERE series = ?1 AND start < ?2 AND end >= ?3 ORDER BY start";
        let read = |from: Nanos, to: Nanos| -> rusqlite::Result<Vec<Row>> {
            connection.prepare_cached(text)?.query_map(params![series.0, to, from], row_of)?.collect()
        };
        let mut rows: Vec<Row> = read(hull.start, hull.end).at("read", path)?.into_iter().filter(|row| meets(row)).collect();
        if rows.is_empty() && !windows.is_empty() {
            // The row before grows where time goes on, the one after where a level is filled backwards.
            let before = "SELECT id, start, end, generation, bytes FROM windows WHERE series = ?1 AND start < ?2 ORDER BY start DESC LIMIT 1";
            let after = "SELECT id, start, end, generation, bytes FROM windows WHERE series = ?1 AND start >= ?2 ORDER BY start LIMIT 1";
            for (text, at) in [(before, hull.start), (after, hull.end)] {
                let found: rusqlite::Result<Vec<Row>> =
                    connection.prepare_cached(text).and_then(|mut one| one.query_map(params![series.0, at], row_of)?.collect());
                rows.extend(found.at("read", path)?);
            }
        }
        // Windows that were made by other rules, and are not made again, keep their mark in rows of their own.
        let mut kept: Vec<(Made, u64, Vec<Window>)> = vec![(rules.made(), generation, windows.to_vec())];
        for row in &rows {
            let (all, made) = row.windows(Wants::ALL, path)?;
            if !meets(row) && (all.len() >= ROW_WINDOWS || made != rules.made()) {
                continue;
            }
            let stay = all.into_iter().filter(|window| !ranges.iter().any(|range| range.contains(window.start)));
            match kept.iter_mut().find(|(known, ..)| *known == made) {
                Some((_, latest, known)) => {
                    *latest = row.generation.max(*latest);
                    known.extend(stay);
                }
                None => kept.push((made, row.generation, stay.collect())),
            }
            connection.prepare_cached("DELETE FROM windows WHERE id = ?1").and_then(|mut remove| remove.execute([row.id])).at("write", path)?;
        }
        for (made, generation, mut windows) in kept {
            windows.sort_by_key(|window| window.start);
            for part in windows.chunks(ROW_WINDOWS) {
                let add = "INSERT INTO windows (series, start, end, count, generation, bytes) VALUES (?1, ?2, ?3, ?4, ?5, ?6)";
                let (start, end, count) = (part[0].start, part[part.len() - 1].start, part.len() as i64);
                let row = params![series.0, start, end, count, generation.cast_signed(), encode(part, made)];
                connection.prepare_cached(add).and_then(|mut add| add.execute(row)).at("write", path)?;
            }
        }
        Ok(())
    }

    fn file(&self, start: Nanos) -> Arc<LevelFile> {
        if let Some(file) = self.files.read().get(&start) {
            return Arc::clone(file);
        }
        let date = format_utc(start);
        let path = self.folder.join(format!("{}.db", date.split('T').next().unwrap_or(&date)));
        let mut files = self.files.write();
        Arc::clone(files.entry(start).or_insert_with(|| Arc::new(LevelFile { id: self.pool.next_id(), path })))
    }

    /// Brings what was written to stable storage.
    pub fn sync(&self, range: TimeRange) -> Result<(), StoreError> {
        for file in self.meeting(range) {
            self.with(&file, |connection| checkpoint(connection, &file.path))?;
        }
        Ok(())
    }

    /// Removes files that end before an instant; says from when on there are windows then, where any file went.
    pub fn drop_before(&self, at: Nanos) -> Result<Option<Nanos>, StoreError> {
        let old: Vec<(Nanos, Arc<LevelFile>)> = self
            .files
            .read()
            .iter()
            .filter(|(start, _)| start.saturating_add(self.stretch()) <= at)
            .map(|(start, file)| (*start, Arc::clone(file)))
            .collect();
        let mut end = None;
        for (start, file) in old {
            self.files.write().remove(&start);
            self.pool.forget(file.id);
            for suffix in ["-wal", "-shm", ""] {
                remove_file(&companion(&file.path, suffix))?;
            }
            end = Some(start.saturating_add(self.stretch()));
        }
        Ok(end)
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
        self.files.read().values().for_each(|file| self.pool.forget(file.id));
    }

    /// Copies the files as they are into a folder.
    pub fn copy_to(&self, folder: &Path) -> Result<Vec<PathBuf>, StoreError> {
        fs::create_dir_all(folder).at("create the folder", folder)?;
        let mut copies = Vec::new();
        for file in self.meeting(TimeRange::ALL) {
            let to = folder.join(file.path.file_name().unwrap_or_default());
            remove_file(&to)?;
            self.with(&file, |connection| connection.execute("VACUUM INTO ?1", [to.to_string_lossy()]).map(|_| ()).at("copy a rollup to", &to))?;
            copies.push(to);
        }
        Ok(copies)
    }
}

fn row_of(row: &rusqlite::Row<'_>) -> rusqlite::Result<Row> {
    Ok(Row { id: row.get(0)?, start: row.get(1)?, end: row.get(2)?, generation: row.get::<_, i64>(3)?.cast_unsigned(), bytes: row.get(4)? })
}
