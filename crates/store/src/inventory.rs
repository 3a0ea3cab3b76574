//! Which partitions must be there. The catalogue holds the name of each, so that a file that is missing or empty at a start is named, and not taken for a time
//! without points.
//!
//! A name is noted when points are in its file, and forgotten before the file goes; killed between the two, the record of the drop or of the exchange says
//! why it is not there.

use std::{
    collections::{BTreeMap, BTreeSet},
    fs,
    path::{Path, PathBuf},
};

use fenetre_core::model::DatasetId;
use parking_lot::{Mutex, RwLock};
use rusqlite::Connection;
use serde::{Deserialize, Serialize};

use crate::{
    definitions::Definitions,
    error::{Context, StoreError},
    files::{Files, companion},
    floors::Dropped,
    journal::Replayed,
    partition::Partition,
    records::Document,
    shared::Shared,
    span::Span,
};

/// The sort of documents whose names are partitions that must be there.
const THERE: &str = "partition";
/// The sort of documents that say which were lost.
const LOST: &str = "lost-partition";

/// The sort of documents whose names are journal files that must be there, by their numbers. After a stop in order they hold the number of the last batch.
const JOURNALS: &str = "journal";
/// The sort of documents that say what of journal files was lost.
const LOST_BATCHES: &str = "lost-batches";

/// A partition that was lost.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
struct Loss {
    dataset: u32,
    /// First instant of its span, and first instant after it.
    span: (i64, i64),
    /// The store's generation when that was found out: a file that holds this one or later ones is another.
    generation: u64,
}

/// What must be there, and what is not.
#[derive(Default)]
pub struct Inventory {
    there: Mutex<BTreeSet<String>>,
    lost: RwLock<BTreeMap<String, Loss>>,
    /// What of journal files was lost, by their names.
    batches: RwLock<BTreeMap<String, String>>,
}

/// Whether a file or its log holds anything.
fn is_filled(path: &Path) -> bool {
    [path.to_owned(), companion(path, "-wal")].iter().any(|path| fs::metadata(path).is_ok_and(|file| file.len() > 0))
}

fn name_of(files: &Files, partition: &Partition) -> String {
    partition.path().strip_prefix(files.root()).unwrap_or(partition.path()).to_string_lossy().into_owned()
}

impl Inventory {
    /// What was noted.
    pub fn open(definitions: &Definitions) -> Result<Self, StoreError> {
        let there = definitions.documents(THERE)?.into_iter().map(|document| document.name).collect();
        let lost = definitions.read_documents(LOST)?.into_iter().map(|(name, loss, _)| (name, loss)).collect();
        let batches = definitions.read_documents(LOST_BATCHES)?.into_iter().map(|(name, what, _)| (name, what)).collect();
        Ok(Self { there: Mutex::new(there), lost: RwLock::new(lost), batches: RwLock::new(batches) })
    }

    /// Stretches of time whose points are lost, by dataset.
    pub fn losses(&self) -> Vec<(DatasetId, Dropped)> {
        self.lost.read().values().map(|loss| (DatasetId(loss.dataset), Dropped { span: loss.span, points: loss.span })).collect()
    }

    /// Files that are lost, each with a sentence about it.
    pub fn describe(&self, files: &Files) -> Vec<(PathBuf, String)> {
        let sentence = |name: &String| {
            let path = files.root().join(name);
            let text = format!(
                "{} is missing or empty, and it held points: answers say that they are no longer kept. Stop the service and bring back a copy of the file from a backup; if there is none, accept that with `fenetre storage accept-loss {name}`",
                path.display()
            );
            (path, text)
        };
        let of_journal = |(name, what): (&String, &String)| {
            let path = files.root().join(name);
            let text = format!(
                "{}: {what}. Points that were acknowledged are lost with it; all others are there. Send them again if you can, then accept that with `fenetre storage accept-loss {name}`",
                path.display()
            );
            (path, text)
        };
        let batches = self.batches.read();
        self.lost.read().keys().map(sentence).chain(batches.iter().map(of_journal)).collect()
    }
}

fn journal_name(number: u64) -> String {
    format!("journal/{number:06}.db")
}

/// Notes that a journal file is there.
pub fn note_journal(definitions: &Definitions, number: u64, last: u64) -> Result<(), StoreError> {
    definitions.put_document(JOURNALS, &Document { name: number.to_string(), body: last.to_string(), changed: 0 })
}

/// Notes that a journal file goes, before it does.
pub fn forget_journal(definitions: &Definitions, number: u64) -> Result<(), StoreError> {
    definitions.remove_document(JOURNALS, &number.to_string()).map(|_| ())
}

/// At a start: keeps what was lost of journal files, those that are not there among them.
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
                lost.entry(number).or_insert_with(|| format!("its last batches, from {} to {last}, are missing", replayed.last + 1));
            }
            Some(_) => {}
        }
    }
    for (number, what) in lost {
        let name = journal_name(number);
        let body = serde_json::to_string(&what).unwrap_or_default();
        definitions.put_document(LOST_BATCHES, &Document { name: name.clone(), body, changed: shared.now() })?;
        shared.inventory.batches.write().insert(name, what);
        // Told once, and kept until somebody accepts it.
        forget_journal(definitions, number)?;
    }
    Ok(())
}

/// Notes the partitions that are there now, and forgets those that are not: to be called before files go, and after they came.
pub fn note(shared: &Shared) -> Result<(), StoreError> {
    let mut there = shared.inventory.there.lock();
    let partitions = shared.all_partitions();
    let now: BTreeSet<String> = partitions
        .iter()
        .filter_map(|(_, partition)| {
            let name = name_of(&shared.files, partition);
            (there.contains(&name) || is_filled(partition.path())).then_some(name)
        })
        .collect();
    if *there != now {
        shared.definitions.replace_names(THERE, there.difference(&now), now.difference(&there))?;
        *there = now;
    }
    Ok(())
}

/// At a start: what was noted, and is not there for no reason that is known, is lost; what was lost, and is there again, is not. `explained` are files whose going
/// was recorded.
pub fn check(shared: &Shared, explained: &BTreeSet<String>, generation: u64) -> Result<(), StoreError> {
    let filled: BTreeMap<String, _> = shared
        .all_partitions()
        .into_iter()
        .filter(|(_, partition)| is_filled(partition.path()))
        .map(|(_, partition)| (name_of(&shared.files, &partition), partition))
        .collect();
    let missing: Vec<String> =
        shared.inventory.there.lock().iter().filter(|name| !filled.contains_key(*name) && !explained.contains(*name)).cloned().collect();
    for name in missing {
        let Some((dataset, span)) = place_of(shared, &name) else { continue };
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
            tracing::info!(file = name, "it was missing, and is there again");
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

/// Takes the loss of a file for good: nobody is warned of it any more, and its time stays one whose points are no longer kept.
pub fn accept_loss(shared: &Shared, name: &str) -> Result<(), StoreError> {
    if shared.inventory.batches.write().remove(name).is_some() {
        return shared.definitions.remove_document(LOST_BATCHES, name).map(|_| ());
    }
    let loss = shared.inventory.lost.read().get(name).cloned();
    let loss = loss.ok_or_else(|| StoreError::Missing(format!("`{name}` is not a file that was lost: `fenetre storage` names those that are")))?;
    shared.floors.erase(&shared.definitions, DatasetId(loss.dataset), Dropped { span: loss.span, points: loss.span })?;
    forget(shared, name)?;
    shared.floors.reload(&shared.definitions, &shared.inventory.losses())
}

/// Leaves in the copy of a catalogue what is in a backup with it: some partitions, and no journal.
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
