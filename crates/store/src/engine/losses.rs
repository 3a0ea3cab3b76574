//! Files that must exist and do not: found at startup, recorded as losses, accepted or found again.

use std::collections::{BTreeMap, BTreeSet};

use fenetre_core::model::DatasetId;

use crate::{
    catalogue::documents::{Document, Kept},
    disk::files::{companion, is_filled, remove_file},
    engine::Engine,
    error::StoreError,
    journal::{self, Replayed, log},
    missing::{
        floors::Dropped,
        inventory::{ExistingPartition, JournalFile, Loss, LostBatches, forget_journal},
    },
    span::Span,
};

/// Compares the inventory with the journal files found at startup, and records losses.
pub fn check_journals(shared: &Engine, found: &BTreeMap<u64, Replayed>) -> Result<(), StoreError> {
    let definitions = &shared.definitions;
    let mut lost: BTreeMap<u64, String> = BTreeMap::new();
    for (number, replayed) in found.iter().filter(|(_, replayed)| !replayed.faults.is_empty()) {
        lost.insert(*number, replayed.faults.join("; "));
    }
    for Kept { name, body: JournalFile(last), .. } in definitions.documents::<JournalFile>()? {
        let number: u64 = name.parse().map_err(|error| definitions.damaged(JournalFile::KIND, &name, &error))?;
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
        definitions.put_document(&name, &LostBatches(what.clone()), shared.now())?;
        shared.inventory.batches.write().insert(name, what);
        // The loss is recorded now; the next startup must not find it again.
        forget_journal(definitions, number)?;
    }
    Ok(())
}

/// Updates the inventory to the partitions of this moment. Call it before files are deleted and after files are created.
pub fn note(shared: &Engine) -> Result<(), StoreError> {
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
        shared.definitions.replace_names::<ExistingPartition>(there.difference(&now), now.difference(&there))?;
        *there = now;
    }
    Ok(())
}

/// Compares the inventory with the partitions found at startup: records those that are missing without a reason, and clears losses whose file is back.
/// `explained` are files with a record of being dropped or replaced.
pub fn check(shared: &Engine, explained: &BTreeSet<String>, generation: u64) -> Result<(), StoreError> {
    let filled: BTreeMap<String, _> = shared
        .all_partitions()
        .into_iter()
        .filter(|(_, partition)| is_filled(partition.path()))
        .map(|(_, partition)| (shared.files.name_of(partition.path()), partition))
        .collect();
    let missing: Vec<String> =
        shared.inventory.there.lock().iter().filter(|name| !filled.contains_key(*name) && !explained.contains(*name)).cloned().collect();
    for name in missing {
        let (dataset, span) = place_of(shared, &name)
            .ok_or_else(|| shared.definitions.damaged(ExistingPartition::KIND, &name, &"it names no partition of a dataset"))?;
        let range = span.range();
        let loss = Loss { dataset: dataset.0, span: (range.start, range.end), generation };
        shared.definitions.put_document(&name, &loss, shared.now())?;
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
    shared.reload_floors()?;
    note(shared)
}

/// The dataset and the span of a partition by its name.
fn place_of(shared: &Engine, name: &str) -> Option<(DatasetId, Span)> {
    let (folder, file) = name.strip_prefix("data/")?.rsplit_once('/')?;
    let dataset = shared.catalogue.read().datasets().find(|dataset| *dataset.folder == *folder)?.id;
    Some((dataset, Span::of_file_name(file)?))
}

fn forget(shared: &Engine, name: &str) -> Result<(), StoreError> {
    shared.definitions.remove_document::<Loss>(name)?;
    shared.inventory.lost.write().remove(name);
    Ok(())
}

/// Accepts the loss of a file: the warning ends, and its time range counts as no longer kept.
pub fn accept_loss(shared: &Engine, name: &str) -> Result<(), StoreError> {
    if shared.inventory.batches.read().contains_key(name) {
        shared.definitions.remove_document::<LostBatches>(name)?;
        shared.inventory.batches.write().remove(name);
        return remove_file(&log::damaged_copy(&companion(&shared.files.root().join(name), "-wal")));
    }
    let loss = shared.inventory.lost.read().get(name).cloned();
    let loss = loss.ok_or_else(|| StoreError::Missing(format!("`{name}` is not a lost file: `fenetre storage` lists lost files")))?;
    shared.floors.erase(&shared.definitions, DatasetId(loss.dataset), Dropped { span: loss.span, points: loss.span })?;
    forget(shared, name)?;
    shared.reload_floors()
}
