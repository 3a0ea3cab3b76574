//! Which partitions must be there. The catalogue holds the name of each, so that a file that is missing or empty at a start is named, and not taken for a time
//! without points.
//!
//! A name is noted when points are in its file, and forgotten before the file goes; killed between the two, the record of the drop or of the exchange says
//! why it is not there.

use std::{
    collections::{BTreeMap, BTreeSet},
    fs,
    path::PathBuf,
};

use fenetre_core::model::DatasetId;
use parking_lot::{Mutex, RwLock};
use serde::{Deserialize, Serialize};

use crate::{
    definitions::Definitions,
    error::StoreError,
    files::{Files, companion},
    floors::Dropped,
    partition::Partition,
    records::Document,
    shared::Shared,
    span::Span,
};

/// The sort of documents whose names are partitions that must be there.
const THERE: &str = "partition";
/// The sort of documents that say which were lost.
const LOST: &str = "lost-partition";

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
}

/// Whether a file or its log holds anything.
fn is_filled(path: &std::path::Path) -> bool {
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
        Ok(Self { there: Mutex::new(there), lost: RwLock::new(lost) })
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
                "{} is missing or empty, and held points: they are told as no longer kept. Stop the service and bring back a copy of it from a backup; without one, say so with `fenetre storage accept-loss {name}`",
                path.display()
            );
            (path, text)
        };
        self.lost.read().keys().map(sentence).collect()
    }
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
    let loss = shared.inventory.lost.read().get(name).cloned();
    let loss = loss.ok_or_else(|| StoreError::Missing(format!("`{name}` is not a file that was lost: `fenetre storage` names those that are")))?;
    shared.floors.erase(&shared.definitions, DatasetId(loss.dataset), Dropped { span: loss.span, points: loss.span })?;
    forget(shared, name)?;
    shared.floors.reload(&shared.definitions, &shared.inventory.losses())
}
