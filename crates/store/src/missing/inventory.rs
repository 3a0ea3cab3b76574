//! The inventory: partitions and journal files that must exist. The catalogue lists their names, so a file that is missing or empty at startup is reported
//! instead of being read as a time without points.
//!
//! A name is added after points are in the file, and removed before the file is. If the service is killed in between, the record of the drop or the exchange
//! explains why the file is missing.

use std::{
    collections::{BTreeMap, BTreeSet},
    path::{Path, PathBuf},
};

use fenetre_core::model::DatasetId;
use parking_lot::{Mutex, RwLock};
use rusqlite::Connection;
use serde::{Deserialize, Serialize};

use crate::{
    catalogue::{
        definitions::Definitions,
        documents::{Document, DocumentKind},
    },
    disk::files::Files,
    error::{Context, StoreError},
    missing::floors::Dropped,
};

/// A partition that must exist; the name is all there is to record.
#[derive(Default, Serialize, Deserialize)]
pub struct ExistingPartition {}

impl Document for ExistingPartition {
    const KIND: DocumentKind = DocumentKind::ExistingPartition;
}

/// A journal file that must exist: the number of its last batch after a clean stop, else 0.
#[derive(Serialize, Deserialize)]
pub struct JournalFile(pub u64);

impl Document for JournalFile {
    const KIND: DocumentKind = DocumentKind::JournalFile;
}

/// Which batches of a journal file were lost.
#[derive(Serialize, Deserialize)]
pub struct LostBatches(pub String);

impl Document for LostBatches {
    const KIND: DocumentKind = DocumentKind::LostBatches;
}

/// A partition that was lost.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Loss {
    pub dataset: u32,
    /// First instant of its span, and first instant after it.
    pub span: (i64, i64),
    /// The store's generation when the loss was found. A file that holds this generation or a later one is a new file, not a copy of the lost one.
    pub generation: u64,
}

impl Document for Loss {
    const KIND: DocumentKind = DocumentKind::LostPartition;
}

/// Files that must exist, and losses that nobody has accepted yet.
#[derive(Default)]
pub struct Inventory {
    pub there: Mutex<BTreeSet<String>>,
    pub lost: RwLock<BTreeMap<String, Loss>>,
    /// Lost batches, by journal file.
    pub batches: RwLock<BTreeMap<String, String>>,
}

impl Inventory {
    /// Reads the inventory from the catalogue.
    pub fn open(definitions: &Definitions) -> Result<Self, StoreError> {
        let there = definitions.documents::<ExistingPartition>()?.into_iter().map(|kept| kept.name).collect();
        let lost = definitions.documents()?.into_iter().map(|kept| (kept.name, kept.body)).collect();
        let batches = definitions.documents::<LostBatches>()?.into_iter().map(|kept| (kept.name, kept.body.0)).collect();
        Ok(Self { there: Mutex::new(there), lost: RwLock::new(lost), batches: RwLock::new(batches) })
    }

    /// Time ranges of lost partitions, by dataset.
    pub fn losses(&self) -> Vec<(DatasetId, Dropped)> {
        self.lost.read().values().map(|loss| (DatasetId(loss.dataset), Dropped { span: loss.span, points: loss.span })).collect()
    }

    /// Lost files, each with a message.
    pub fn describe(&self, files: &Files) -> Vec<(PathBuf, String)> {
        let sentence = |name: &String| {
            let path = files.root().join(name);
            let text = format!(
                "{} is missing or empty, but it held points. Answers over its time range report them as no longer kept. Stop the service and restore the file from a backup; without a backup, run `fenetre storage accept-loss {name}`",
                path.display()
            );
            (path, text)
        };
        let of_journal = |(name, what): (&String, &String)| {
            let path = files.root().join(name);
            let text = format!(
                "{}: {what}. The acknowledged points in it are lost; all other points are safe. Send them again if possible, then run `fenetre storage accept-loss {name}`",
                path.display()
            );
            (path, text)
        };
        let batches = self.batches.read();
        self.lost.read().keys().map(sentence).chain(batches.iter().map(of_journal)).collect()
    }
}

/// Adds a journal file. `last` is the number of its last batch, or 0 while it is being written.
pub fn note_journal(definitions: &Definitions, number: u64, last: u64) -> Result<(), StoreError> {
    definitions.put_document(&number.to_string(), &JournalFile(last), 0)
}

/// Removes a journal file from the inventory. Call it before the file is deleted.
pub fn forget_journal(definitions: &Definitions, number: u64) -> Result<(), StoreError> {
    definitions.remove_document::<JournalFile>(&number.to_string()).map(|_| ())
}

/// Partitions that a backup's copy of the catalogue names.
pub fn partitions_in(catalogue: &Path) -> Result<Vec<String>, StoreError> {
    let connection = crate::disk::sqlite::open_to_read(catalogue).at("open", catalogue)?;
    let read = || -> rusqlite::Result<Vec<String>> {
        // A backup of an early version has no documents.
        if !connection.query_row("SELECT EXISTS (SELECT 1 FROM sqlite_master WHERE name = 'document')", [], |row| row.get::<_, bool>(0))? {
            return Ok(Vec::new());
        }
        connection
            .prepare("SELECT name FROM document WHERE sort = ?1")?
            .query_map([DocumentKind::ExistingPartition.as_str()], |row| row.get(0))?
            .collect()
    };
    read().at("read", catalogue)
}

/// Removes from a backup's copy of the catalogue the files that the backup does not contain: all journals, and partitions not in `partitions`.
pub fn keep_only(catalogue: &Path, partitions: &BTreeSet<String>) -> Result<(), StoreError> {
    let connection = Connection::open(catalogue).at("open", catalogue)?;
    let there = DocumentKind::ExistingPartition.as_str();
    let trim = || {
        let mut names = connection.prepare("SELECT name FROM document WHERE sort = ?1")?;
        let noted = names.query_map([there], |row| row.get::<_, String>(0))?.collect::<rusqlite::Result<Vec<_>>>()?;
        for name in noted.iter().filter(|name| !partitions.contains(*name)) {
            connection.execute("DELETE FROM document WHERE sort = ?1 AND name = ?2", [there, name])?;
        }
        connection
            .execute("DELETE FROM document WHERE sort IN (?1, ?2)", [DocumentKind::JournalFile.as_str(), DocumentKind::LostBatches.as_str()])
            .map(|_| ())
    };
    trim().at("write", catalogue)
}
