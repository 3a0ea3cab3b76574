//! The origin of a file of points: the number of its store, and the highest series ids in it.

use std::path::Path;

use fenetre_core::{catalogue::FIRST_PART, model::SeriesId};
use rusqlite::{Connection, OptionalExtension};

use crate::{
    disk::sqlite,
    error::{Context, StoreError},
};

/// The highest ids of series; 0 if there are none.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Highest {
    /// Of series that are whole.
    pub series: u32,
    /// Of parts of histograms, which have ids from [`FIRST_PART`].
    pub part: u32,
}

impl Highest {
    /// Takes an id into account.
    pub fn add(&mut self, id: SeriesId) {
        let highest = if id.0 < FIRST_PART { &mut self.series } else { &mut self.part };
        *highest = id.0.max(*highest);
    }

    /// The higher ids of both.
    pub fn max(self, other: Self) -> Self {
        Self { series: self.series.max(other.series), part: self.part.max(other.part) }
    }

    /// The first pair of ids, this one's and the other's, in which this one is higher.
    pub fn above(self, other: Self) -> Option<(u32, u32)> {
        [(self.series, other.series), (self.part, other.part)].into_iter().find(|(own, others)| own > others)
    }
}

/// The origin of a file of points.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Origin {
    /// The number of its store; files of earlier versions have none.
    pub store: Option<i64>,
    /// The highest ids that it refers to.
    pub highest: Highest,
}

impl Origin {
    /// Whether the file belongs to another store than that of this number.
    pub fn is_foreign(&self, store: i64) -> bool {
        self.store.is_some_and(|own| own != store)
    }
}

/// Writes the number of its store into a file, as a view, which takes no page of its own.
pub fn stamp(connection: &Connection, store: i64) -> rusqlite::Result<()> {
    connection.execute_batch(&format!("CREATE VIEW IF NOT EXISTS store AS SELECT {store} AS id"))
}

/// The number of the store in a file.
pub fn stamp_of(connection: &Connection) -> rusqlite::Result<Option<i64>> {
    let is_there = "SELECT EXISTS (SELECT 1 FROM sqlite_master WHERE type = 'view' AND name = 'store')";
    if !connection.query_row(is_there, [], |row| row.get::<_, bool>(0))? {
        return Ok(None);
    }
    connection.query_row("SELECT id FROM store", [], |row| row.get(0)).optional()
}

/// Reads the origin of a partition, without changing the file.
pub fn origin_of(path: &Path) -> Result<Origin, StoreError> {
    let connection = sqlite::open_to_read(path).at("open", path)?;
    let read = || -> rusqlite::Result<Origin> {
        let table = "SELECT EXISTS (SELECT 1 FROM sqlite_master WHERE name = 'block')";
        let mut origin = Origin { store: stamp_of(&connection)?, ..Origin::default() };
        if connection.query_row(table, [], |row| row.get::<_, bool>(0))? {
            let highest = |text: &str| connection.query_row(text, [FIRST_PART], |row| row.get::<_, u32>(0));
            origin.highest.series = highest("SELECT coalesce(max(series), 0) FROM block WHERE series < ?1")?;
            origin.highest.part = highest("SELECT coalesce(max(series), 0) FROM block WHERE series >= ?1")?;
        }
        Ok(origin)
    };
    read().at("read", path)
}
