//! What is there and what it weighs.

use std::{collections::BTreeMap, path::PathBuf};

use fenetre_core::{
    block::Columns,
    catalogue::Dataset,
    model::{DatasetId, SeriesId, Value},
    time::{Nanos, TimeRange},
};

use crate::{
    error::StoreError,
    files::{bytes_on_disk, partition_last},
    journal::Journal,
    partition::SeriesCount,
    shared::Shared,
};

/// The latest point of a series.
#[derive(Clone, Debug, PartialEq)]
pub struct Latest {
    /// When.
    pub time: Nanos,
    /// What.
    pub value: Value,
}

/// What the store takes on the disk, as the file system counts it.
#[derive(Clone, Debug)]
pub struct StorageReport {
    /// The store's directory.
    pub root: PathBuf,
    /// Bytes of the catalogue.
    pub catalogue_bytes: u64,
    /// Acknowledged batches that are not packed yet.
    pub journal: JournalSize,
    /// Datasets, by name.
    pub datasets: Vec<DatasetSize>,
}

/// The journal and what it holds.
#[derive(Clone, Copy, Debug)]
pub struct JournalSize {
    /// Bytes of its files.
    pub bytes: u64,
    /// Points that wait in memory to be packed.
    pub points: u64,
}

/// One dataset on the disk.
#[derive(Clone, Debug)]
pub struct DatasetSize {
    /// Its name.
    pub name: String,
    /// Its partitions, oldest first.
    pub partitions: Vec<PartitionSize>,
}

/// One partition on the disk.
#[derive(Clone, Debug)]
pub struct PartitionSize {
    /// The file.
    pub path: PathBuf,
    /// First instant of its span.
    pub start: Nanos,
    /// Last instant of its span.
    pub last: Nanos,
    /// Bytes of the file.
    pub bytes: u64,
    /// Points in it.
    pub points: u64,
    /// Blocks in it.
    pub blocks: u64,
}

/// Points of every series of a dataset that has any.
pub fn counts(store: &Shared, dataset: DatasetId) -> Result<BTreeMap<SeriesId, SeriesCount>, StoreError> {
    // As for a query: the head first, so that nothing is missed while it is packed.
    let fresh: Vec<(SeriesId, Columns)> = {
        let head = store.head.read();
        head.series_of(dataset).into_iter().map(|series| (series, head.columns(series, TimeRange::ALL))).collect()
    };
    let mut counts: BTreeMap<SeriesId, SeriesCount> = BTreeMap::new();
    let mut add = |series: SeriesId, count: &SeriesCount| {
        counts.entry(series).and_modify(|known| known.add(count)).or_insert(*count);
    };
    let mut stored_already = vec![0; fresh.len()];
    for partition in store.partitions_of(dataset) {
        let (packed, shared) = partition.counts(&fresh)?;
        packed.iter().for_each(|(series, count)| add(*series, count));
        stored_already.iter_mut().zip(shared).for_each(|(sum, more)| *sum += more);
    }
    for ((series, columns), twice) in fresh.iter().zip(stored_already) {
        let (Some(&first), Some(&last)) = (columns.times.first(), columns.times.last()) else { continue };
        add(*series, &SeriesCount { points: (columns.len() - twice) as u64, blocks: 0, first, last });
    }
    Ok(counts)
}

/// The latest point of a series, if it has any.
pub fn latest(store: &Shared, dataset: &Dataset, series: SeriesId) -> Result<Option<Latest>, StoreError> {
    let fresh = store.head.read().columns(series, TimeRange::ALL);
    let mut found = fresh.times.last().copied().zip(fresh.values.last().copied());
    for partition in store.partitions_of(dataset.id).iter().rev() {
        if found.is_some_and(|(time, _)| time > partition_last(partition.start)) {
            break;
        }
        if let Some(summary) = partition.latest(series)? {
            if found.is_none_or(|(time, _)| time < summary.last.time) {
                found = Some((summary.last.time, summary.last.value));
            }
            break;
        }
    }
    Ok(found.and_then(|(time, number)| {
        let series = dataset.series(series)?;
        let word = if series.is_state(dataset) { series.word(number).cloned() } else { None };
        Some(Latest { time, value: word.map_or(Value::Number(number), Value::Word) })
    }))
}

/// Sizes of everything.
pub fn report(store: &Shared) -> Result<StorageReport, StoreError> {
    let journals = Journal::files(&store.files.journals())?;
    let names: Vec<(DatasetId, String)> = store.catalogue.read().datasets().map(|dataset| (dataset.id, dataset.name.to_string())).collect();
    let mut datasets = Vec::with_capacity(names.len());
    for (id, name) in names {
        let mut partitions = Vec::new();
        for partition in store.partitions_of(id) {
            let (counts, _) = partition.counts(&[])?;
            partitions.push(PartitionSize {
                path: partition.path().to_owned(),
                start: partition.start,
                last: partition_last(partition.start),
                bytes: bytes_on_disk(partition.path()),
                points: counts.iter().map(|(_, count)| count.points).sum(),
                blocks: counts.iter().map(|(_, count)| count.blocks).sum(),
            });
        }
        datasets.push(DatasetSize { name, partitions });
    }
    Ok(StorageReport {
        root: store.files.root().to_owned(),
        catalogue_bytes: bytes_on_disk(&store.files.catalogue()),
        journal: JournalSize { bytes: journals.iter().map(|(_, path)| bytes_on_disk(path)).sum(), points: store.head.read().points() as u64 },
        datasets,
    })
}
