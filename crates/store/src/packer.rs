//! Packing: the frozen head becomes blocks in partitions, then its journal files go.
//!
//! Killed at any moment, it is simply done again at the next start: what was packed already is met by the same points from the
//! journal, and merging those changes nothing.

use std::{collections::BTreeMap, path::PathBuf, sync::Arc};

use fenetre_core::{
    block::Columns,
    model::{DatasetId, MetricId, SeriesId},
    time::Nanos,
};

use crate::{
    error::{Context, StoreError},
    files::{partition_last, partition_start, sync_folder},
    head::Buffers,
    journal::Journal,
    partition::{Partition, pack},
    shared::Shared,
};

type PartitionWork = Vec<(MetricId, SeriesId, Columns)>;

/// Packs everything in `frozen`, takes it out of the head, and removes the journal files that held it.
pub fn pack_frozen(shared: &Shared, frozen: &Arc<Buffers>, journals: &[PathBuf]) -> Result<(), StoreError> {
    for ((dataset, start), work) in by_partition(shared, frozen) {
        let partition = shared.partition(&dataset, start)?;
        write_partition(&partition, work)?;
    }
    shared.head.write().frozen = None;
    Journal::remove(journals)
}

/// What goes into each partition, by name of the dataset and start.
fn by_partition(shared: &Shared, frozen: &Buffers) -> BTreeMap<(String, Nanos), PartitionWork> {
    let mut work: BTreeMap<(String, Nanos), PartitionWork> = BTreeMap::new();
    let catalogue = shared.catalogue.read();
    for (dataset, series, columns) in frozen.all() {
        let Some((name, metric)) = home(&catalogue, dataset, series) else { continue };
        let mut rest = 0..columns.len();
        while !rest.is_empty() {
            let start = partition_start(columns.times[rest.start]);
            let last = partition_last(columns.times[rest.start]);
            let end = rest.start + columns.times[rest.clone()].partition_point(|at| *at <= last);
            let part = Columns { times: columns.times[rest.start..end].to_vec(), values: columns.values[rest.start..end].to_vec() };
            work.entry((name.clone(), start)).or_default().push((metric, series, part));
            rest.start = end;
        }
    }
    work
}

fn home(catalogue: &fenetre_core::catalogue::Catalogue, dataset: DatasetId, series: SeriesId) -> Option<(String, MetricId)> {
    let dataset = catalogue.datasets().find(|one| one.id == dataset)?;
    let metric = dataset.metric(&dataset.series(series)?.metric)?;
    Some((dataset.name.to_string(), metric.id))
}

/// Writes in one transaction, and returns when it is on stable storage.
fn write_partition(partition: &Partition, work: PartitionWork) -> Result<(), StoreError> {
    let path = partition.path();
    let mut connection = partition.open()?;
    let transaction = connection.transaction().at("write", path)?;
    for (metric, series, columns) in &work {
        pack(&transaction, path, *metric, *series, columns)?;
    }
    transaction.commit().at("write", path)?;
    // A checkpoint syncs the log and then the file. Readers may keep it from emptying the log, which is synced all the same.
    let (busy, _, _): (i64, i64, i64) =
        connection.query_row("PRAGMA wal_checkpoint(TRUNCATE)", [], |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?))).at("write", path)?;
    if busy != 0 {
        let log = format!("{}-wal", path.display());
        std::fs::File::open(&log).and_then(|file| file.sync_all()).at("sync", log)?;
    }
    path.parent().map_or(Ok(()), sync_folder)
}
