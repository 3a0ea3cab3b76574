//! Storage use, as the file system counts it.

use fenetre_core::{
    time::{Nanos, format_utc},
    visibility::{Visibility, VisibleCatalogue},
};
use fenetre_store::{LevelSize, PartitionSize};
use fenetre_wire::storage::{DatasetStorage, FileFault, LevelStorage, PartitionStorage, StorageInfo, WrittenInfo};

use super::retention::{Survey, info_of};
use crate::{problem::ApiError, state::State};

/// The storage use of the datasets that may be seen; that of the store as a whole, if everything may be.
///
/// # Errors
/// If files fail or are damaged.
pub fn storage_info(state: &State, visibility: &Visibility, now: Nanos) -> Result<StorageInfo, ApiError> {
    let survey = Survey::take(state, now, false)?;
    let retention = info_of(state, &survey, visibility)?;
    let report = survey.report;
    let partition = |size: PartitionSize| PartitionStorage {
        path: size.path.display().to_string(),
        start: format_utc(size.start),
        last: format_utc(size.last),
        bytes: size.bytes,
        points: size.points,
        blocks: size.blocks,
    };
    let level = |size: LevelSize| LevelStorage {
        policy: size.policy,
        width: size.width,
        bytes: size.bytes,
        bytes_a_day: size.bytes_a_day,
        files: size.files.iter().map(|path| path.display().to_string()).collect(),
    };
    let written = |(points, bytes): (u64, u64), days: f64| WrittenInfo { points_a_day: points as f64 / days, bytes_a_day: bytes as f64 / days };
    let mut datasets: Vec<DatasetStorage> = Vec::with_capacity(report.datasets.len());
    let sees_store = visibility.is_everything();
    let seen = state.store.with_catalogue(|catalogue| {
        let visible = VisibleCatalogue::new(catalogue, visibility);
        report.datasets.into_iter().filter(|size| visible.dataset_by_id(size.id).is_some()).collect::<Vec<_>>()
    });
    for dataset in seen {
        let [day, week, month] = dataset.written;
        datasets.push(DatasetStorage {
            bytes: dataset.partitions.iter().map(|size| size.bytes).sum(),
            points: dataset.partitions.iter().map(|size| size.points).sum(),
            rollup_bytes: dataset.rollup_bytes,
            levels: dataset.levels.into_iter().map(level).collect(),
            bin_bytes: dataset.bin_bytes,
            written_1d: written(day, 1.0),
            written_7d: written(week, 7.0),
            written_30d: written(month, 30.0),
            oldest: dataset.oldest.map(format_utc),
            name: dataset.name,
            partitions: dataset.partitions.into_iter().map(partition).collect(),
        });
    }
    let (catalogue_bytes, journal_bytes, bin_bytes, waiting_points) = match sees_store {
        true => (report.catalogue_bytes, report.journal.bytes, report.bin_bytes, report.journal.points),
        false => (0, 0, datasets.iter().map(|dataset| dataset.bin_bytes).sum(), 0),
    };
    let bytes = catalogue_bytes + journal_bytes + bin_bytes + datasets.iter().map(|dataset| dataset.bytes + dataset.rollup_bytes).sum::<u64>();
    Ok(StorageInfo {
        path: if sees_store { report.root.display().to_string() } else { String::new() },
        bytes,
        catalogue_bytes,
        journal_bytes,
        bin_bytes,
        waiting_points,
        volume: retention.volume,
        places: retention.places,
        warnings: retention.warnings,
        faults: report.faults.into_iter().filter(|_| sees_store).map(|(path, fault)| FileFault { path: path.display().to_string(), fault }).collect(),
        datasets,
    })
}
