//! Dropped partitions in the bin: their files move there, are restored, or erased.

use std::{
    collections::BTreeSet,
    fs,
    path::{Path, PathBuf},
    sync::Arc,
    time::{Duration, Instant},
};

use fenetre_core::{
    block::Columns,
    model::{DatasetId, SeriesId},
    time::{Nanos, TimeRange},
};

use super::item::{BinItem, BinItemKind, DataSize, name_of};
use crate::{
    catalogue::{definitions::Definitions, documents::Kept},
    disk::{
        files::{Files, move_database, remove_database, sync_folder},
        pool::Pool,
    },
    engine::{Engine, Spans, losses},
    error::{Context, StoreError},
    missing::{
        dropped::{self, DroppedPartition},
        floors,
    },
    partition::{Partition, Progress},
    span::{Rate, Span},
};

/// Blocks of all generations.
const EVERY_GENERATION: u64 = u64::MAX >> 1;
/// How long queries from before are waited for; then the next turn does it.
const READER_WAIT: Duration = Duration::from_secs(5);
/// Of a file that is there already.
const PAGE_SIZE: u32 = 16_384;

/// At a start nobody asks yet: what was dropped, and not moved or erased before the end, is so before partitions are looked for.
pub fn finish(files: &Files, definitions: &Definitions) -> Result<(), StoreError> {
    for Kept { name, body: record, .. } in dropped::records(definitions)? {
        let file = files.root().join(&record.file);
        if record.for_good {
            if let Some(dropped) = record.dropped() {
                floors::note_erased(definitions, DatasetId(record.dataset), dropped)?;
            }
            remove_database(&file)?;
            definitions.remove_document::<DroppedPartition>(&name)?;
        } else if !record.is_moved(files, &name) {
            move_file(&file, &files.bin(&name))?;
        }
    }
    Ok(())
}

/// Moves a partition with its companions into a folder of the bin.
fn move_file(from: &Path, folder: &Path) -> Result<(), StoreError> {
    fs::create_dir_all(folder).at("create the folder", folder)?;
    let name = from.file_name().unwrap_or_default();
    move_database(from, &folder.join(name))?;
    sync_folder(folder)?;
    from.parent().map_or(Ok(()), sync_folder)
}

/// Moves the files of partitions that nobody can ask any more.
pub fn move_files(shared: &Engine) -> Result<(), StoreError> {
    let waiting: Vec<(DatasetId, Nanos)> = shared.retiring.lock().keys().copied().collect();
    if waiting.is_empty() {
        return Ok(());
    }
    let patience = Instant::now() + READER_WAIT;
    for key in waiting {
        let is_ready = || {
            let retiring = shared.retiring.lock();
            retiring.get(&key).filter(|retiring| retiring.earlier.have_ended()).map(|retiring| Arc::clone(&retiring.partition))
        };
        let mut free = None;
        shared.wait_until(patience, || {
            if let Some(partition) = is_ready()
                && partition.release()?
            {
                free = Some(partition);
            }
            Ok::<_, StoreError>(free.is_some())
        })?;
        let Some(partition) = free else { continue };
        let file = shared.files.name_of(partition.path());
        for Kept { name: id, body: record, .. } in dropped::records(&shared.definitions)? {
            if record.file == file && !record.is_moved(&shared.files, &id) {
                if record.for_good {
                    remove_database(partition.path())?;
                    shared.definitions.remove_document::<DroppedPartition>(&id)?;
                } else {
                    move_file(partition.path(), &shared.files.bin(&id))?;
                }
            }
        }
        shared.retiring.lock().remove(&key);
    }
    Ok(())
}

/// Partitions in the bin.
pub fn list(shared: &Engine) -> Result<Vec<BinItem>, StoreError> {
    let of = |Kept { name: id, body: record, changed: deleted }: Kept<DroppedPartition>| {
        let dataset_id = DatasetId(record.dataset);
        let file = record.file.rsplit('/').next().unwrap_or_default().trim_end_matches(".db").to_owned();
        BinItem {
            id,
            dataset: name_of(shared, dataset_id),
            dataset_id,
            what: format!("{file}, {}", record.why),
            kind: BinItemKind::Partition,
            deleted,
            series: 0,
            points: Some(DataSize { points: record.points, bytes: record.bytes, span: record.span }),
        }
    };
    Ok(dropped::records(&shared.definitions)?.into_iter().filter(|kept| !kept.body.for_good).map(of).collect())
}

/// Restores a partition; returns whether there was one with that id.
pub fn restore(shared: &Engine, id: &str) -> Result<bool, StoreError> {
    let Some(Kept { body: record, .. }) = shared.definitions.document::<DroppedPartition>(id)? else { return Ok(false) };
    if !record.is_moved(&shared.files, id) {
        move_files(shared)?;
        if !record.is_moved(&shared.files, id) {
            return Err(StoreError::Definition(format!("`{id}` is still being read by queries from before it was dropped: try again in a moment")));
        }
    }
    let dataset = DatasetId(record.dataset);
    let home = shared.files.root().join(&record.file);
    let lies = record.place_in_bin(&shared.files, id);
    let span = lies.file_name().and_then(|name| name.to_str()).and_then(Span::of_file_name);
    let span = span.ok_or_else(|| StoreError::Damaged { path: lies.clone(), what: "its name is not that of a partition".to_owned() })?;
    shared.definitions.note_edit(&record.file)?;
    let spans = shared.spans.read_recursive();
    let is_free = shared.partitions_of(dataset, span.range()).is_empty() && !home.exists();
    if is_free {
        move_database(&lies, &home)?;
        home.parent().map_or(Ok(()), sync_folder)?;
        shared.put_back(dataset, span, home);
        losses::note(shared)?;
    } else {
        take_in(shared, dataset, span, lies)?;
    }
    drop(spans);
    forget(shared, id)?;
    shared.reload_floors()?;
    // Windows of that time were made of these points, and of those that came since.
    mark_range(shared, dataset, span.range())?;
    Ok(true)
}

/// Windows of a dataset in a range are out of date, of all of its series.
pub fn mark_range(shared: &Engine, dataset: DatasetId, range: TimeRange) -> Result<(), StoreError> {
    let Some(rollups) = shared.rollups.of(shared, dataset)? else { return Ok(()) };
    let series: BTreeSet<SeriesId> =
        crate::levels::resolve_policies(&shared.catalogue.read(), dataset).iter().flat_map(|policy| &policy.series).map(|(id, _)| *id).collect();
    rollups.mark(series.into_iter(), range)
}

/// Erases a partition in the bin; returns whether there was one with that id.
pub fn erase(shared: &Engine, id: &str) -> Result<bool, StoreError> {
    let found = shared.definitions.document::<DroppedPartition>(id)?.filter(|kept| kept.body.is_moved(&shared.files, id));
    let Some(Kept { body: record, .. }) = found else { return Ok(false) };
    if let Some(dropped) = record.dropped() {
        shared.floors.erase(&shared.definitions, DatasetId(record.dataset), dropped)?;
    }
    forget(shared, id)?;
    shared.reload_floors()?;
    Ok(true)
}

fn forget(shared: &Engine, id: &str) -> Result<(), StoreError> {
    // The files first: a record without files is nothing, files without a record would lie there for ever.
    match fs::remove_dir_all(shared.files.bin(id)) {
        Err(error) if error.kind() != std::io::ErrorKind::NotFound => Err(error).at("remove", shared.files.bin(id)),
        _ => shared.definitions.remove_document::<DroppedPartition>(id).map(|_| ()),
    }
}

/// Copies the points of a file of the bin into the partitions of their time, older than everything that came since.
pub fn merge_in(shared: &Engine, dataset: DatasetId, bin: &Partition) -> Result<(), StoreError> {
    let _spans = shared.spans.read_recursive();
    let is_counter = shared.counters(dataset);
    let mut targets = Spans::new();
    let longest = bin.span.days();
    if shared.partitions_of(dataset, bin.span.range()).is_empty() {
        targets.insert(bin.span.start, bin.span);
    }
    bin.read(|reading| {
        reading.all_places(EVERY_GENERATION, |_, places| {
            for place in places {
                let mut at = place.start;
                while at <= place.end {
                    let known = targets.range(..=at).next_back().map(|(_, span)| *span).filter(|span| span.holds(at));
                    let span = known.unwrap_or_else(|| shared.span_for(dataset, at, (&targets, longest), |_| Rate::default()));
                    targets.insert(span.start, span);
                    let Some(next) = span.last().checked_add(1) else { break };
                    at = next;
                }
            }
            Ok(())
        })
    })?;
    for span in targets.values() {
        let partition = shared.partition(dataset, *span, |_| Rate::default())?;
        shared.definitions.note_edit(&shared.files.name_of(partition.path()))?;
        partition.writer().write(true, |writing| {
            bin.read(|reading| {
                reading.all_places(EVERY_GENERATION, |series, places| {
                    for place in places.iter().filter(|place| place.start <= span.last() && place.end >= span.start) {
                        let mut block = Columns::default();
                        reading.decode(series, place, &mut block)?;
                        let points = block.points();
                        writing.add(series, points.slice(points.places_in(span.range())), 0, is_counter(series))?;
                    }
                    Ok(())
                })
            })?;
            let now = writing.reading().progress()?;
            writing.set_progress(Progress { compacted: false, ..now })
        })?;
    }
    Ok(())
}

/// Copies the points of a file of the bin into the partitions of its time.
pub fn take_in(shared: &Engine, dataset: DatasetId, span: Span, path: PathBuf) -> Result<(), StoreError> {
    // A pool of its own, so that nothing of it stays open.
    merge_in(shared, dataset, &Partition::new(span, path, PAGE_SIZE, Arc::new(Pool::new(1))))
}
