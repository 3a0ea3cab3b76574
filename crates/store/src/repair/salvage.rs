//! Copies the readable blocks of a damaged partition into a new file.
//!
//! Every block has a checksum, so a block that decodes is the one that was written. A damaged page hides the rows in it, not those in other pages: rows are read
//! from the front, from the back, and one by one in between. If the first page is damaged, SQLite does not open the file at all; that page holds only the schema,
//! which is the same in every partition, so it is replaced in a copy.

use std::{
    cell::Cell,
    collections::HashSet,
    fs::{self, File},
    io::{Read, Seek, SeekFrom, Write},
    path::Path,
};

use fenetre_core::{
    block::{Columns, decode},
    time::format_utc,
};
use rusqlite::{Connection, OptionalExtension, Row, params};

use crate::{
    disk::{
        files::{companion, remove_database},
        sqlite::{self, Use},
    },
    error::{Context, StoreError},
    partition::{SCHEMA, origin},
};

/// What was saved from a partition.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Salvaged {
    /// Saved blocks.
    pub blocks: u64,
    /// Points in them.
    pub points: u64,
    /// Unreadable blocks, by the index; none if the index cannot be read either.
    pub lost: Option<u64>,
}

/// A row of the table of blocks.
struct Block {
    /// Series, start, end, generation and count: no two blocks of a partition have the same.
    key: (u32, i64, i64, i64, i64),
    summary: Vec<u8>,
    bytes: Vec<u8>,
}

impl Block {
    fn of(row: &Row<'_>) -> rusqlite::Result<Self> {
        let key = (row.get(1)?, row.get(2)?, row.get(3)?, row.get(4)?, row.get(5)?);
        Ok(Self { key, summary: row.get(6)?, bytes: row.get(7)? })
    }

    /// Whether its checksum and its number of points are right.
    fn is_whole(&self) -> bool {
        let mut points = Columns::default();
        decode(&self.bytes, &mut points).is_ok() && points.len() as i64 == self.key.4
    }
}

const COLUMNS: &str = "SELECT id, series, start, end, generation, count, summary, bytes FROM block NOT INDEXED";
const PAGE_SIZES: [u32; 8] = [512, 1_024, 2_048, 4_096, 8_192, 16_384, 32_768, 65_536];

/// Writes the readable blocks of `from`, and those of `more` that it lacks, into the new file `to`, with the number of its store.
pub fn salvage(from: &Path, more: Option<&Path>, to: &Path, store: Option<i64>) -> Result<Salvaged, StoreError> {
    remove_database(to)?;
    let opened = companion(to, ".copy");
    copy(from, &opened)?;
    let source = open(&opened)?;
    let mut target = sqlite::open(to, Use::Blocks { page_size: page_size(from).unwrap_or(4_096) })?;
    target.execute_batch(SCHEMA).and_then(|()| store.map_or(Ok(()), |store| origin::stamp(&target, store))).at("write", to)?;
    let mut salvaged = Salvaged::default();
    // Blocks and points.
    let kept = Cell::new((0, 0));
    {
        let transaction = target.transaction().at("write", to)?;
        let (mut known, mut packed) = (HashSet::new(), 0);
        let mut keep = |block: Block| -> rusqlite::Result<()> {
            if !block.is_whole() || !known.insert(block.key) {
                return Ok(());
            }
            let (series, start, end, generation, count) = block.key;
            let text = "INSERT INTO block (series, start, end, generation, count, summary, bytes) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)";
            transaction.prepare_cached(text)?.execute(params![series, start, end, generation, count, block.summary, block.bytes])?;
            packed = generation.max(packed);
            kept.set((kept.get().0 + 1, kept.get().1 + count.cast_unsigned()));
            Ok(())
        };
        if let Some(source) = &source {
            each_readable(source, &mut keep).at("write", to)?;
        }
        let own = kept.get().0;
        if let Some(more) = more {
            let backup = sqlite::open_to_read(more).at("open", more)?;
            each_readable(&backup, &mut keep).at("write", to)?;
        }
        let named = source.as_ref().and_then(|source| {
            source.query_row("SELECT count(*) FROM block INDEXED BY block_place", [], |row| row.get::<_, i64>(0)).ok().map(i64::cast_unsigned)
        });
        (salvaged.blocks, salvaged.points) = kept.get();
        salvaged.lost = named.map(|named| named.saturating_sub(own));
        transaction.pragma_update(None, "user_version", i32::try_from(packed).unwrap_or(i32::MAX)).at("write", to)?;
        transaction.commit().at("write", to)?;
    }
    target.execute_batch("PRAGMA wal_checkpoint(TRUNCATE)").at("write", to)?;
    drop((source, target));
    remove_database(&opened)?;
    File::open(to).and_then(|file| file.sync_all()).at("sync", to)?;
    Ok(salvaged)
}

/// The first damaged block of a partition.
pub fn damaged_block(path: &Path) -> Option<String> {
    let mut damaged = None;
    let connection = sqlite::open_to_read(path).ok()?;
    let read = each_readable(&connection, &mut |block| {
        if !block.is_whole() {
            damaged.get_or_insert_with(|| format!("the block of series {} from {} is damaged", block.key.0, format_utc(block.key.1)));
        }
        Ok(())
    });
    damaged.or_else(|| read.err().map(|error| error.to_string()))
}

/// Copies a file with its log, so that reading changes nothing.
fn copy(from: &Path, to: &Path) -> Result<(), StoreError> {
    remove_database(to)?;
    for suffix in ["", "-wal"] {
        let source = companion(from, suffix);
        if source.exists() {
            fs::copy(&source, companion(to, suffix)).at("copy", source)?;
        }
    }
    Ok(())
}

/// Opens a copy, with a new first page if its own is damaged. None if it contains no readable block.
fn open(path: &Path) -> Result<Option<Connection>, StoreError> {
    let is_readable = |connection: &Connection| {
        let look = "SELECT EXISTS (SELECT 1 FROM sqlite_master WHERE name = 'block')";
        connection.query_row(look, [], |row| row.get::<_, bool>(0)).unwrap_or(false)
    };
    // With a writable schema SQLite also opens a file that is shorter than its header says.
    let open = || Connection::open(path).and_then(|connection| connection.execute_batch("PRAGMA writable_schema=ON").map(|()| connection));
    if let Ok(connection) = open()
        && is_readable(&connection)
    {
        return Ok(Some(connection));
    }
    let length = fs::metadata(path).at("read", path)?.len();
    let sizes = page_size(path).into_iter().chain(PAGE_SIZES.into_iter().rev());
    for size in sizes.filter(|size| length > u64::from(*size) && length.is_multiple_of((*size).into())) {
        replace_first_page(path, size, length)?;
        if let Ok(connection) = open()
            && is_readable(&connection)
            && connection.query_row("SELECT series FROM block NOT INDEXED ORDER BY id LIMIT 1", [], |row| row.get::<_, u32>(0)).is_ok()
        {
            return Ok(Some(connection));
        }
    }
    Ok(None)
}

/// The page size in the header of a file; none if it is invalid.
fn page_size(path: &Path) -> Option<u32> {
    let mut header = [0; 18];
    File::open(path).and_then(|mut file| file.read_exact(&mut header)).ok()?;
    let stored = u32::from(u16::from_be_bytes([header[16], header[17]]));
    let size = if stored == 1 { 65_536 } else { stored };
    PAGE_SIZES.contains(&size).then_some(size)
}

/// Puts the first page of a new partition into a file of `length` bytes.
fn replace_first_page(path: &Path, size: u32, length: u64) -> Result<(), StoreError> {
    let fresh = companion(path, ".page");
    remove_database(&fresh)?;
    let made = Connection::open(&fresh).and_then(|connection| {
        connection.pragma_update(None, "page_size", size)?;
        connection.execute_batch(SCHEMA)
    });
    made.at("write", &fresh)?;
    let mut page = vec![0; size as usize];
    File::open(&fresh).and_then(|mut file| file.read_exact(&mut page)).at("read", &fresh)?;
    // The number of pages, big-endian, at byte 28: <https://www.sqlite.org/fileformat2.html#the_database_header>.
    let pages = u32::try_from(length / u64::from(size)).unwrap_or(u32::MAX);
    page[28..32].copy_from_slice(&pages.to_be_bytes());
    let written = File::options().write(true).open(path).and_then(|mut file| file.seek(SeekFrom::Start(0)).and_then(|_| file.write_all(&page)));
    written.at("write", path)?;
    remove_database(&fresh)
}

/// Visits all readable rows: from the front up to a damaged page, from the back down to one, and one by one in between.
fn each_readable(source: &Connection, keep: &mut dyn FnMut(Block) -> rusqlite::Result<()>) -> rusqlite::Result<()> {
    let scan = |order: &str, until: i64, keep: &mut dyn FnMut(Block) -> rusqlite::Result<()>| -> rusqlite::Result<(Option<i64>, bool)> {
        let Ok(mut statement) = source.prepare(&format!("{COLUMNS} ORDER BY id {order}")) else { return Ok((None, false)) };
        let Ok(mut rows) = statement.query([]) else { return Ok((None, false)) };
        let mut last = None;
        loop {
            match rows.next() {
                Ok(Some(row)) => {
                    let id: i64 = row.get(0).unwrap_or(0);
                    if order == "DESC" && id <= until {
                        return Ok((last, true));
                    }
                    last = Some(id);
                    if let Ok(block) = Block::of(row) {
                        keep(block)?;
                    }
                }
                Ok(None) => return Ok((last, true)),
                Err(_) => return Ok((last, false)),
            }
        }
    };
    let (front, is_whole) = scan("ASC", 0, keep)?;
    if is_whole {
        return Ok(());
    }
    let front = front.unwrap_or(0);
    let (back, _) = scan("DESC", front, keep)?;
    let of_index = source.query_row("SELECT max(id) FROM block INDEXED BY block_place", [], |row| row.get::<_, Option<i64>>(0)).ok().flatten();
    let Some(end) = back.or(of_index.map(|last| last + 1)) else { return Ok(()) };
    let mut one = source.prepare(&format!("{COLUMNS} WHERE id = ?1"))?;
    for id in front + 1..end {
        if let Ok(Some(block)) = one.query_row([id], Block::of).optional() {
            keep(block)?;
        }
    }
    Ok(())
}
