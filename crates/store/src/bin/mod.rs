//! The bin: deleted and expired data that can be restored.
//!
//! A metric goes there by a mark in the catalogue; its points stay where they are, unseen. Points of a span go there as blocks, moved from each
//! partition into a file of the same name and form below `bin/`. Partitions that were dropped go there as they are ([`partitions`]). They come back as blocks older than all others, so that what arrived
//! meanwhile counts. Killed on the way, both are done again: points that are in the bin and in the partition are the same points.

use std::{fs, path::PathBuf, sync::Arc};

use fenetre_core::{
    block::Columns,
    catalogue::FIRST_PART,
    model::{DatasetId, SeriesId},
    time::{Nanos, TimeRange},
};
use serde::{Deserialize, Serialize};

pub mod item;
pub mod partitions;

use item::name_of;
pub use item::{BinItem, BinItemKind, DataSize, Selection};

use crate::{
    catalogue::documents::{Document, DocumentKind, Kept},
    disk::{files::folder_bytes, pool::Pool},
    engine::Engine,
    error::{Context, StoreError},
    partition::{BlockRef, Partition, Progress, Reading, Writing},
    read::source::overlapping,
    span::Span,
};

/// Series that one transaction takes.
const TURN_SERIES: usize = 256;
const PAGE_SIZE: u32 = 16_384;

/// The record of a deletion.
#[derive(Serialize, Deserialize)]
struct DeletedPoints {
    dataset: u32,
    what: String,
    series: u64,
    weight: DataSize,
}

impl Document for DeletedPoints {
    const KIND: DocumentKind = DocumentKind::DeletedPoints;
}

fn folder(shared: &Engine, id: &str) -> PathBuf {
    shared.files.bin(id)
}

/// Bytes of the files of something in the bin.
pub fn bytes(shared: &Engine, id: &str) -> u64 {
    folder_bytes(&folder(shared, id))
}

/// Weighs points that are packed.
pub fn measure(shared: &Engine, selection: &Selection) -> Result<DataSize, StoreError> {
    let mut weight = DataSize::default();
    for partition in shared.partitions_of(selection.dataset, selection.range).iter() {
        partition.read(|reading| {
            for series in &selection.series {
                let places = reading.places(*series, selection.range, u64::MAX >> 1)?;
                for group in overlapping(&places) {
                    weigh_group(reading, *series, group, selection.range, &mut weight)?;
                }
            }
            Ok(())
        })?;
    }
    Ok(weight)
}

/// Weighs blocks of one series that overlap; only what reaches over the ends of the range, or holds an instant twice, need be decoded.
fn weigh_group(reading: &Reading<'_>, series: SeriesId, group: &[BlockRef], range: TimeRange, weight: &mut DataSize) -> Result<(), StoreError> {
    if let [alone] = group
        && range.contains(alone.start)
        && range.contains(alone.end)
    {
        let whole = if series.0 < FIRST_PART { alone.count } else { 0 };
        weight.take(whole, reading.bytes_of(alone)?, Some((alone.start, alone.end)).filter(|_| whole > 0));
        return Ok(());
    }
    let mut instants = Vec::new();
    for place in group {
        let mut block = Columns::default();
        reading.decode(series, place, &mut block)?;
        let inside = block.points().places_in(range);
        weight.take(0, reading.bytes_of(place)? * inside.len() as u64 / block.len().max(1) as u64, None);
        instants.extend_from_slice(&block.times[inside]);
    }
    if series.0 < FIRST_PART {
        instants.sort_unstable();
        instants.dedup();
        weight.take(instants.len() as u64, 0, instants.first().copied().zip(instants.last().copied()));
    }
    Ok(())
}

/// An id for what is deleted now.
pub fn free_id(shared: &Engine, now: Nanos) -> Result<String, StoreError> {
    let taken = shared.definitions.documents::<DeletedPoints>()?;
    let is_free = |id: &String| taken.iter().all(|kept| kept.name != *id);
    let stamp = now / 1_000_000;
    Ok(std::iter::once(format!("p{stamp}")).chain((2..).map(|next| format!("p{stamp}-{next}"))).find(is_free).unwrap_or_default())
}

/// Moves points into the bin, under a free id; everything must be packed. Windows that these fall into no longer say what the points say, and are made again: unless
/// points go since they are old, for which windows are there.
pub fn delete_points(shared: &Engine, id: String, selection: &Selection, what: &str, is_old: bool, now: Nanos) -> Result<BinItem, StoreError> {
    let mark = |shared: &Engine, selection: &Selection| if is_old { Ok(()) } else { mark(shared, selection) };
    let folder = folder(shared, &id);
    fs::create_dir_all(&folder).at("create the folder", &folder)?;
    let whole = selection.series.iter().filter(|series| series.0 < FIRST_PART).count() as u64;
    let mut record = DeletedPoints { dataset: selection.dataset.0, what: what.to_owned(), series: whole, weight: measure(shared, selection)? };
    // Before anything moves, so that what was moved is found whenever this ends.
    let before = shared.definitions.document::<DeletedPoints>(&id)?;
    shared.definitions.put_document(&id, &record, now)?;
    let is_counter = shared.counters(selection.dataset);
    // Before and after: windows that are made again meanwhile may be of some of these points.
    mark(shared, selection)?;
    // After a kill, this continues with what is left.
    let mut moved = before.map(|known| known.body.weight).unwrap_or_default();
    let pool = Arc::new(Pool::new(1));
    let spans = shared.spans.read_recursive();
    for partition in shared.partitions_of(selection.dataset, selection.range).iter() {
        let bin = Partition::new(partition.span, folder.join(partition.span.file_name()), PAGE_SIZE, Arc::clone(&pool));
        shared.definitions.note_edit(&shared.files.name_of(partition.path()))?;
        for series in selection.series.chunks(TURN_SERIES) {
            let turn = partition.writer().write(true, |writing| move_points(writing, &bin, series, selection.range, &is_counter))?;
            moved.take(turn.points, turn.bytes, turn.span);
        }
    }
    drop(spans);
    mark(shared, selection)?;
    record.weight = moved;
    shared.definitions.put_document(&id, &record, now)?;
    let dataset = name_of(shared, selection.dataset);
    let dataset_id = selection.dataset;
    Ok(BinItem { id, dataset, dataset_id, what: record.what, kind: BinItemKind::Points, deleted: now, series: whole, points: Some(moved) })
}

/// Windows that the points of a selection fall into are out of date.
fn mark(shared: &Engine, selection: &Selection) -> Result<(), StoreError> {
    match shared.rollups.of(shared, selection.dataset)? {
        Some(rollups) => rollups.mark(selection.series.iter().copied(), selection.range),
        None => Ok(()),
    }
}

/// Moves the points of some series; they are on stable storage in the bin before the partition's own transaction ends.
fn move_points(
    writing: &Writing<'_>,
    bin: &Partition,
    series: &[SeriesId],
    range: TimeRange,
    is_counter: &dyn Fn(SeriesId) -> bool,
) -> Result<DataSize, StoreError> {
    let mut moved: Vec<(SeriesId, u64, Columns)> = Vec::new();
    let mut weight = DataSize::default();
    for id in series {
        // A point that came twice is one point.
        let mut instants = Vec::new();
        for place in writing.reading().places(*id, range, u64::MAX >> 1)? {
            let mut block = Columns::default();
            writing.reading().decode(*id, &place, &mut block)?;
            let inside = block.points().places_in(range);
            if inside.is_empty() {
                continue;
            }
            let share = writing.reading().bytes_of(&place)? * inside.len() as u64 / block.len() as u64;
            weight.take(0, share, None);
            if id.0 < FIRST_PART {
                instants.extend_from_slice(&block.times[inside.clone()]);
            }
            for outside in [0..inside.start, inside.end..block.len()].into_iter().filter(|part| !part.is_empty()) {
                writing.add(*id, block.points().slice(outside), place.generation, is_counter(*id))?;
            }
            writing.remove(&[place])?;
            moved.push((*id, place.generation, block.points().slice(inside).to_columns()));
        }
        instants.sort_unstable();
        instants.dedup();
        weight.take(instants.len() as u64, 0, instants.first().copied().zip(instants.last().copied()));
    }
    if !moved.is_empty() {
        bin.writer().write(true, |bin| moved.iter().try_for_each(|(id, generation, points)| bin.add(*id, points.points(), *generation, false)))?;
        let now = writing.reading().progress()?;
        writing.set_progress(Progress { compacted: false, ..now })?;
    }
    Ok(weight)
}

/// What is in the bin, the oldest first.
pub fn list(shared: &Engine) -> Result<Vec<BinItem>, StoreError> {
    let mut all = Vec::new();
    for metric in shared.definitions.binned_metrics()? {
        let dataset = name_of(shared, metric.dataset);
        all.push(BinItem {
            id: format!("m{}", metric.id.0),
            dataset,
            what: metric.name,
            kind: BinItemKind::Metric,
            dataset_id: metric.dataset,
            deleted: metric.binned,
            series: metric.series,
            points: None,
        });
    }
    for Kept { name, body: record, changed } in shared.definitions.documents::<DeletedPoints>()? {
        let dataset = name_of(shared, DatasetId(record.dataset));
        all.push(BinItem {
            id: name,
            dataset,
            what: record.what,
            kind: BinItemKind::Points,
            dataset_id: DatasetId(record.dataset),
            deleted: changed,
            series: record.series,
            points: Some(record.weight),
        });
    }
    all.extend(partitions::list(shared)?);
    all.sort_by_key(|binned| binned.deleted);
    Ok(all)
}

fn missing(id: &str) -> StoreError {
    StoreError::Missing(format!("there is no `{id}` in the bin"))
}

/// Brings something back; a metric under another name where one is given.
pub fn restore(shared: &Engine, id: &str, name: Option<&str>) -> Result<(), StoreError> {
    if let Some(metric) = shared.definitions.binned_metrics()?.into_iter().find(|metric| format!("m{}", metric.id.0) == id) {
        return shared.definitions.restore_metric(&metric, name.unwrap_or(&metric.name));
    }
    if partitions::restore(shared, id)? {
        return Ok(());
    }
    let record = shared.definitions.document::<DeletedPoints>(id)?.ok_or_else(|| missing(id))?.body;
    for (span, path) in files(shared, id)? {
        partitions::take_in(shared, DatasetId(record.dataset), span, path)?;
        partitions::mark_range(shared, DatasetId(record.dataset), span.range())?;
    }
    forget(shared, id)?;
    shared.trims.forget(&shared.trim_records(), id)
}

fn files(shared: &Engine, id: &str) -> Result<Vec<(Span, PathBuf)>, StoreError> {
    let folder = folder(shared, id);
    if !folder.exists() {
        return Ok(Vec::new());
    }
    let entries = fs::read_dir(&folder).at("read the folder", &folder)?;
    let paths = entries.map(|entry| entry.map(|entry| entry.path())).collect::<Result<Vec<_>, _>>().at("read the folder", &folder)?;
    Ok(paths.into_iter().filter_map(|path| Some((Span::of_file_name(path.file_name()?.to_str()?)?, path))).collect())
}

fn forget(shared: &Engine, id: &str) -> Result<(), StoreError> {
    shared.definitions.remove_document::<DeletedPoints>(id)?;
    match fs::remove_dir_all(folder(shared, id)) {
        Err(error) if error.kind() != std::io::ErrorKind::NotFound => Err(error).at("remove", folder(shared, id)),
        _ => Ok(()),
    }
}

/// Removes something of the bin for good; everything must be packed.
pub fn erase(shared: &Engine, id: &str) -> Result<(), StoreError> {
    if let Some(metric) = shared.definitions.binned_metrics()?.into_iter().find(|metric| format!("m{}", metric.id.0) == id) {
        let series = shared.definitions.series_of(&metric)?;
        let spans = shared.spans.read_recursive();
        for partition in shared.partitions_of(metric.dataset, TimeRange::ALL).iter() {
            shared.definitions.note_edit(&shared.files.name_of(partition.path()))?;
            let removed = partition.writer().write(true, |writing| {
                let mut removed = 0;
                for id in &series {
                    let places = writing.reading().places(*id, TimeRange::ALL, u64::MAX >> 1)?;
                    removed += places.len();
                    writing.remove(&places)?;
                }
                Ok(removed)
            })?;
            if removed > 0 {
                partition.writer().shrink()?;
            }
        }
        drop(spans);
        if let Some(rollups) = shared.rollups.of(shared, metric.dataset)? {
            rollups.erase(&series)?;
        }
        return shared.definitions.erase_metric(&metric);
    }
    if partitions::erase(shared, id)? {
        return Ok(());
    }
    if shared.definitions.document::<DeletedPoints>(id)?.is_none() {
        return Err(missing(id));
    }
    forget(shared, id)?;
    shared.trims.erase(&shared.trim_records(), id)
}
