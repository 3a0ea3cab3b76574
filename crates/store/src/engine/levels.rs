//! Opens the rollups of a dataset. If their records are lost, coverage is read from the files, and all windows whose points are still kept are
//! rebuilt.

use std::{
    fs,
    path::{Path, PathBuf},
    sync::Arc,
};

use fenetre_core::{
    model::{DatasetId, MetricId},
    time::{Nanos, TimeRange},
};

use super::Engine;
use crate::{
    disk::files::{companion, is_filled, move_database},
    error::StoreError,
    levels::{DatasetRollups, LevelOf, Rollups, State, records::Progress, records_of, resolve_policies},
};

/// Opened records.
struct Opened {
    progress: Progress,
    state: State,
    /// Why they are empty although levels have files.
    lost: Option<String>,
}

/// Opens the records of a dataset's rollups. Damaged records are renamed, and new, empty ones are created.
fn open(folder: &Path) -> Result<Opened, StoreError> {
    let path = records_of(folder);
    let has_levels = has_levels(folder);
    let is_missing = !is_filled(&path);
    match Progress::open(folder).and_then(|progress| progress.load().map(|state| (progress, state))) {
        Ok((progress, state)) => {
            let lost = (is_missing && has_levels).then(|| format!("{} was missing or empty: {REMEDY}", path.display()));
            Ok(Opened { progress, state, lost })
        }
        Err(error @ StoreError::Damaged { .. }) => {
            let aside = companion(&path, ".damaged");
            move_database(&path, &aside)?;
            let progress = Progress::open(folder)?;
            let state = progress.load()?;
            tracing::error!(%error, kept = %aside.display(), "the records of rollups are damaged");
            Ok(Opened { progress, state, lost: Some(format!("{} was damaged and is kept as {}: {REMEDY}", path.display(), aside.display())) })
        }
        Err(error) => Err(error),
    }
}

const REMEDY: &str = "what the rollup levels cover was read from their files, and their windows are made again from points. Nothing needs to be done";

/// Whether levels have files.
fn has_levels(folder: &Path) -> bool {
    let folders = |folder: &Path| -> Vec<PathBuf> { fs::read_dir(folder).into_iter().flatten().flatten().map(|entry| entry.path()).collect() };
    folders(folder).iter().flat_map(|policy| folders(policy)).flat_map(|width| folders(&width)).any(|file| is_filled(&file))
}

/// Reads the coverage of levels from their files, and marks all windows whose points are still kept.
fn adopt(rollups: &DatasetRollups, shared: &Engine, dataset: DatasetId) -> Result<(), StoreError> {
    let raw_from = shared.floors.of_dataset(dataset);
    for policy in resolve_policies(&shared.catalogue.read(), dataset) {
        let mut reach: Option<TimeRange> = None;
        for level in &policy.levels {
            let files = rollups.level_files(level)?;
            // A damaged file is reported when it is read; its windows are not counted here.
            let (Ok(Some(first)), Ok(Some(last))) = (files.first(), files.last()) else { continue };
            let range = TimeRange { start: first, end: level.level.after(last) };
            rollups.turn.lock().set_level(&level.key, range)?;
            rollups.state.write().levels.insert(level.key.clone(), range);
            // For metrics with a shorter limit than the dataset, it is unknown how far back the windows are complete.
            let own = policy.metrics.iter().map(|metric| (*metric, shared.floors.of(&shared.trims, dataset, *metric)));
            let own: Vec<_> = own.filter(|(_, floor)| *floor > raw_from).collect();
            rollups.turn.lock().set_whole_from(&level.key, &own)?;
            rollups.state.write().whole_from.entry(level.key.clone()).or_default().extend(own);
            reach = Some(reach.map_or(range, |reach| TimeRange { start: reach.start.min(range.start), end: reach.end.max(range.end) }));
        }
        let Some(reach) = reach else { continue };
        for metric in &policy.metrics {
            rollups.turn.lock().add_member(&policy.name, *metric)?;
            rollups.state.write().members.entry(policy.name.clone()).or_default().push(*metric);
        }
        let again = TimeRange { start: reach.start.max(raw_from), end: reach.end };
        if !again.is_empty() {
            rollups.mark(policy.series.iter().map(|(id, _)| *id), again)?;
        }
    }
    Ok(())
}

impl Rollups {
    /// The rollups of a dataset, if it has policies.
    pub fn of(&self, shared: &Engine, id: DatasetId) -> Result<Option<Arc<DatasetRollups>>, StoreError> {
        if let Some(known) = self.0.read().get(&id) {
            return Ok(Some(Arc::clone(known)));
        }
        let folder = {
            let catalogue = shared.catalogue.read();
            let found = catalogue.dataset_by_id(id).filter(|dataset| !dataset.rollups.is_empty());
            found.map(|dataset| shared.files.rollups(&dataset.folder))
        };
        let Some(folder) = folder else { return Ok(None) };
        let mut all = self.0.write();
        if let Some(known) = all.get(&id) {
            return Ok(Some(Arc::clone(known)));
        }
        let Opened { progress, state, lost } = open(&folder)?;
        let opened = Arc::new(DatasetRollups::new(id, Arc::clone(&shared.catalogue), Arc::clone(&shared.pool), folder, progress, state));
        if let Some(fault) = lost {
            adopt(&opened, shared, id)?;
            shared.note_fault(records_of(&opened.folder), fault);
        }
        check_files(&opened, shared, id)?;
        all.insert(id, Arc::clone(&opened));
        Ok(Some(opened))
    }
}

/// Marks the windows of missing or empty files as out of date: queries use points until the windows are rebuilt.
fn check_files(rollups: &DatasetRollups, shared: &Engine, dataset: DatasetId) -> Result<(), StoreError> {
    let known = rollups.turn.lock().files()?;
    let policies = resolve_policies(&shared.catalogue.read(), dataset);
    for policy in &policies {
        for level in &policy.levels {
            let files = rollups.level_files(level)?;
            for (_, start) in known.iter().filter(|(key, _)| *key == level.key) {
                let (range, is_filled) = files.file_at(*start);
                if !is_filled {
                    let from = fenetre_core::time::format_utc(*start);
                    tracing::error!(
                        policy = policy.name,
                        width = level.key.1,
                        from,
                        "a rollup file is missing or empty; queries use points until its windows are rebuilt"
                    );
                    rollups.mark(policy.series.iter().map(|(id, _)| *id), range)?;
                    forget_lost(rollups, shared, dataset, (level, &policy.metrics), range)?;
                }
            }
        }
    }
    rollups.note_files(&policies)
}

/// Removes windows of a lost file from the coverage of a level if their points are no longer kept: they cannot be rebuilt, and without them the level
/// would answer as if there had been no points.
fn forget_lost(
    rollups: &DatasetRollups,
    shared: &Engine,
    dataset: DatasetId,
    (level, metrics): (&LevelOf, &[MetricId]),
    file: TimeRange,
) -> Result<(), StoreError> {
    let of_dataset = shared.floors.of_dataset(dataset);
    // Metrics with a shorter limit than the dataset.
    let own = metrics.iter().map(|metric| (*metric, shared.floors.of(&shared.trims, dataset, *metric).min(file.end)));
    let own: Vec<(MetricId, Nanos)> = own.filter(|(_, until)| *until > of_dataset.max(file.start)).collect();
    if !own.is_empty() {
        rollups.turn.lock().set_whole_from(&level.key, &own)?;
        rollups.state.write().whole_from.entry(level.key.clone()).or_default().extend(own);
    }
    let lost_until = level.level.ceil(file.end.min(of_dataset));
    let covered = rollups.state.read().levels.get(&level.key).copied();
    let Some(covered) = covered.filter(|covered| covered.start < lost_until && file.start < lost_until) else { return Ok(()) };
    let left = TimeRange { start: lost_until, end: covered.end.max(lost_until) };
    rollups.turn.lock().set_level(&level.key, left)?;
    rollups.state.write().levels.insert(level.key.clone(), left);
    let until = fenetre_core::time::format_utc(lost_until);
    shared.note_fault(
        rollups.level_folder(&level.key),
        format!(
            "{}: a file is missing or empty. Its windows before {until} are lost, because their points are no longer kept: this level covers the time from then on. Restore a backup to get them back",
            rollups.level_folder(&level.key).display()
        ),
    );
    Ok(())
}
