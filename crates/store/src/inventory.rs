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
    definitions::Definitions,
    error::{Context, StoreError},
    files::{Files, companion, is_filled, remove_file},
    floors::Dropped,
    journal::{self, Replayed},
    log,
    records::Document,
    shared::Shared,
    span::Span,
};

/// Sort of the documents whose names are the partitions that must exist.
pub const THERE: &str = "partition";
/// Sort of the documents that record lost partitions.
pub const LOST: &str = "lost-partition";
/// Sort of the documents whose names are the numbers of journal files that must exist. After a clean stop the body is the number of the last batch, else 0.
const JOURNALS: &str = "journal";
/// Sort of the documents that record lost batches, by journal file.
const LOST_BATCHES: &str = "lost-batches";

/// A partition that was lost.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
struct Loss {
    dataset: u32,
    /// First instant of its span, and first instant after it.
    span: (i64, i64),
    /// The store's generation when the loss was found. A file that holds this generation or a later one is a new file, not a copy of the lost one.
    generation: u64,
}

/// Files that must exist, and losses that nobody has accepted yet.
#[derive(Default)]
pub struct Inventory {
    there: Mutex<BTreeSet<String>>,
    lost: RwLock<BTreeMap<String, Loss>>,
    /// Lost batches, by journal file.
    batches: RwLock<BTreeMap<String, String>>,
}

impl Inventory {
    /// Reads the inventory from the catalogue.
    pub fn open(definitions: &Definitions) -> Result<Self, StoreError> {
        let there = definitions.documents(THERE)?.into_iter().map(|document| document.name).collect();
        let lost = definitions.read_documents(LOST)?.into_iter().map(|(name, loss, _)| (name, loss)).collect();
        let batches = definitions.read_documents(LOST_BATCHES)?.into_iter().map(|(name, what, _)| (name, what)).collect();
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
    definitions.put_document(JOURNALS, &Document { name: number.to_string(), body: last.to_string(), changed: 0 })
}

/// Removes a journal file from the inventory. Call it before the file is deleted.
pub fn forget_journal(definitions: &Definitions, number: u64) -> Result<(), StoreError> {
    definitions.remove_document(JOURNALS, &number.to_string()).map(|_| ())
}

/// Compares the inventory with the journal files found at startup, and records losses.
pub fn check_journals(shared: &Shared, found: &BTreeMap<u64, Replayed>) -> Result<(), StoreError> {
    let definitions = &shared.definitions;
    let mut lost: BTreeMap<u64, String> = BTreeMap::new();
    for (number, replayed) in found.iter().filter(|(_, replayed)| !replayed.faults.is_empty()) {
        lost.insert(*number, replayed.faults.join("; "));
    }
    for (name, last, _) in definitions.read_documents::<u64>(JOURNALS)? {
        let number: u64 = name.parse().map_err(|error| definitions.damaged(JOURNALS, &name, &error))?;
        match found.get(&number) {
            None => drop(lost.insert(number, "it is missing".to_owned())),
            Some(replayed) if replayed.is_blank => drop(lost.insert(number, "its log is missing or empty".to_owned())),
            Some(replayed) if replayed.last < last => {
                let first = replayed.last + 1;
                let what = if first == last { format!("batch {last} is missing") } else { format!("batches {first} to {last} are missing") };
                lost.entry(number).or_insert_with(|| format!("{what} from its end"));
            }
            Some(_) => {}
        }
    }
    for (number, what) in lost {
        let name = shared.files.name_of(&journal::path_of(&shared.files.journals(), number));
        let body = serde_json::to_string(&what).unwrap_or_default();
        definitions.put_document(LOST_BATCHES, &Document { name: name.clone(), body, changed: shared.now() })?;
        shared.inventory.batches.write().insert(name, what);
        // The loss is recorded now; the next startup must not find it again.
        forget_journal(definitions, number)?;
    }
    Ok(())
}

/// Updates the inventory to the partitions of this moment. Call it before files are deleted and after files are created.
pub fn note(shared: &Shared) -> Result<(), StoreError> {
    let mut there = shared.inventory.there.lock();
    let partitions = shared.all_partitions();
    let now: BTreeSet<String> = partitions
        .iter()
        .filter_map(|(_, partition)| {
            let name = shared.files.name_of(partition.path());
            (there.contains(&name) || is_filled(partition.path())).then_some(name)
        })
        .collect();
    if *there != now {
        shared.definitions.replace_names(THERE, there.difference(&now), now.difference(&there))?;
        *there = now;
    }
    Ok(())
}

/// Compares the inventory with the partitions found at startup: records those that are missing without a reason, and clears losses whose file is back.
/// `explained` are files with a record of being dropped or replaced.
pub fn check(shared: &Shared, explained: &BTreeSet<String>, generation: u64) -> Result<(), StoreError> {
    let filled: BTreeMap<String, _> = shared
        .all_partitions()
        .into_iter()
        .filter(|(_, partition)| is_filled(partition.path()))
        .map(|(_, partition)| (shared.files.name_of(partition.path()), partition))
        .collect();
    let missing: Vec<String> =
        shared.inventory.there.lock().iter().filter(|name| !filled.contains_key(*name) && !explained.contains(*name)).cloned().collect();
    for name in missing {
        let (dataset, span) =
            place_of(shared, &name).ok_or_else(|| shared.definitions.damaged(THERE, &name, &"it names no partition of a dataset"))?;
        let range = span.range();
        let loss = Loss { dataset: dataset.0, span: (range.start, range.end), generation };
        let body = serde_json::to_string(&loss).unwrap_or_default();
        shared.definitions.put_document(LOST, &Document { name: name.clone(), body, changed: shared.now() })?;
        shared.inventory.lost.write().insert(name, loss);
    }
    let known: Vec<(String, Loss)> = shared.inventory.lost.read().iter().map(|(name, loss)| (name.clone(), loss.clone())).collect();
    for (name, loss) in known {
        let Some(partition) = filled.get(&name) else { continue };
        let packed = shared.unless_damaged(partition, partition.read(|reading| reading.progress()))?.map(|progress| progress.packed);
        if packed.is_some_and(|packed| packed < loss.generation) {
            tracing::info!(file = name, "a lost file is back");
            forget(shared, &name)?;
        }
    }
    shared.inventory.describe(&shared.files).iter().for_each(|(_, text)| tracing::error!("{text}"));
    shared.floors.reload(&shared.definitions, &shared.inventory.losses())?;
    note(shared)
}

/// The dataset and the span of a partition by its name.
fn place_of(shared: &Shared, name: &str) -> Option<(DatasetId, Span)> {
    let (folder, file) = name.strip_prefix("data/")?.rsplit_once('/')?;
    let dataset = shared.catalogue.read().datasets().find(|dataset| *dataset.folder == *folder)?.id;
    Some((dataset, Span::of_file_name(file)?))
}

fn forget(shared: &Shared, name: &str) -> Result<(), StoreError> {
    shared.definitions.remove_document(LOST, name)?;
    shared.inventory.lost.write().remove(name);
    Ok(())
}

/// Accepts the loss of a file: the warning ends, and its time range counts as no longer kept.
pub fn accept_loss(shared: &Shared, name: &str) -> Result<(), StoreError> {
    if shared.inventory.batches.read().contains_key(name) {
        shared.definitions.remove_document(LOST_BATCHES, name)?;
        shared.inventory.batches.write().remove(name);
        return remove_file(&log::damaged_copy(&companion(&shared.files.root().join(name), "-wal")));
    }
    let loss = shared.inventory.lost.read().get(name).cloned();
    let loss = loss.ok_or_else(|| StoreError::Missing(format!("`{name}` is not a lost file: `fenetre storage` lists lost files")))?;
    shared.floors.erase(&shared.definitions, DatasetId(loss.dataset), Dropped { span: loss.span, points: loss.span })?;
    forget(shared, name)?;
    shared.floors.reload(&shared.definitions, &shared.inventory.losses())
}

/// Partitions that a backup's copy of the catalogue names.
pub fn partitions_in(catalogue: &Path) -> Result<Vec<String>, StoreError> {
    let connection = crate::sqlite::open_to_read(catalogue).at("open", catalogue)?;
    let read = || -> rusqlite::Result<Vec<String>> {
        // A backup of an early version has no documents.
        if !connection.query_row("SELECT EXISTS (SELECT 1 FROM sqlite_master WHERE name = 'document')", [], |row| row.get::<_, bool>(0))? {
            return Ok(Vec::new());
        }
        connection.prepare("SELECT name FROM document WHERE sort = ?1")?.query_map([THERE], |row| row.get(0))?.collect()
    };
    read().at("read", catalogue)
}

/// Removes from a backup's copy of the catalogue the files that the backup does not contain: all journals, and partitions not in `partitions`.
pub fn keep_only(catalogue: &Path, partitions: &BTreeSet<String>) -> Result<(), StoreError> {
    let connection = Connection::open(catalogue).at("open", catalogue)?;
    let trim = || {
        let mut names = connection.prepare("SELECT name FROM document WHERE sort = ?1")?;
        let noted = names.query_map([THERE], |row| row.get::<_, String>(0))?.collect::<rusqlite::Result<Vec<_>>>()?;
        for name in noted.iter().filter(|name| !partitions.contains(*name)) {
            connection.execute("DELETE FROM document WHERE sort = ?1 AND name = ?2", [THERE, name])?;
        }
        connection.execute("DELETE FROM document WHERE sort IN (?1, ?2)", [JOURNALS, LOST_BATCHES]).map(|_| ())
    };
    trim().at("write", catalogue)
}
