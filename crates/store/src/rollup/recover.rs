//! Levels whose records are lost: what they cover is read from their files, and all windows whose points are still there are made again.

use std::{
    fs,
    path::{Path, PathBuf},
};

use fenetre_core::time::TimeRange;

use super::{DatasetRollups, progress, progress::Progress, taken};
use crate::{
    error::{Context, StoreError},
    files::{companion, is_filled},
    rollup::State,
    shared::Shared,
};

/// Records as they are opened.
pub struct Opened {
    pub progress: Progress,
    pub state: State,
    /// Why they are empty although there are files of levels.
    pub lost: Option<String>,
}

/// Opens the records of a dataset's rollups. Damaged ones are kept beside new, empty ones.
pub fn open(folder: &Path) -> Result<Opened, StoreError> {
    let path = progress::records_of(folder);
    let has_levels = has_levels(folder);
    let is_missing = !is_filled(&path);
    match Progress::open(folder).and_then(|progress| progress.load().map(|state| (progress, state))) {
        Ok((progress, state)) => {
            let lost = (is_missing && has_levels).then(|| format!("{} was missing or empty: {REMEDY}", path.display()));
            Ok(Opened { progress, state, lost })
        }
        Err(error @ StoreError::Damaged { .. }) => {
            let aside = companion(&path, ".damaged");
            for suffix in ["", "-wal", "-shm"] {
                let from = companion(&path, suffix);
                if from.exists() {
                    fs::rename(&from, companion(&aside, suffix)).at("move", from)?;
                }
            }
            let progress = Progress::open(folder)?;
            let state = progress.load()?;
            tracing::error!(%error, kept = %aside.display(), "the records of rollups are damaged");
            Ok(Opened { progress, state, lost: Some(format!("{} was damaged, and is kept as {}: {REMEDY}", path.display(), aside.display())) })
        }
        Err(error) => Err(error),
    }
}

const REMEDY: &str = "what the rollup levels cover was read from their files, and their windows are made again from points. Nothing needs to be done";

/// Whether there are files of levels.
fn has_levels(folder: &Path) -> bool {
    let folders = |folder: &Path| -> Vec<PathBuf> { fs::read_dir(folder).into_iter().flatten().flatten().map(|entry| entry.path()).collect() };
    folders(folder).iter().flat_map(|policy| folders(policy)).flat_map(|width| folders(&width)).any(|file| is_filled(&file))
}

/// Takes the coverage of levels from their files, and marks all windows as out of date whose points are still there.
pub fn adopt(rollups: &DatasetRollups, shared: &Shared, dataset: fenetre_core::model::DatasetId) -> Result<(), StoreError> {
    let raw_from = shared.floors.of_dataset(dataset);
    for policy in taken(&shared.catalogue.read(), dataset) {
        let mut reach: Option<TimeRange> = None;
        for level in &policy.levels {
            let files = rollups.level_files(shared, level)?;
            // A damaged file is reported when it is used; its windows are not counted here.
            let (Ok(Some(first)), Ok(Some(last))) = (files.first(), files.last()) else { continue };
            let range = TimeRange { start: first, end: level.level.after(last) };
            rollups.turn.lock().set_level(&level.key, range)?;
            rollups.state.write().levels.insert(level.key.clone(), range);
            // Of metrics that are kept for less long than the dataset, nobody knows how far back the windows are whole.
            let own = policy.metrics.iter().map(|metric| (*metric, shared.floors.of(shared, dataset, *metric)));
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
