//! Other spans for points that are there: partitions of few points become one of a longer span, and one that has grown too large, or that is longer
//! than its points are kept, becomes several of shorter ones.
//!
//! The new files are written in a folder of their own, recorded, and renamed into place; from then on no new query sees the old ones, and when those from
//! before have ended, their files go. Killed before the record, nothing has happened; killed after it, the next start ends it. Nobody else
//! changes points of the partitions meanwhile.

use std::{
    collections::BTreeSet,
    fs,
    path::{Path, PathBuf},
    sync::Arc,
};

use fenetre_core::{
    block::Columns,
    keeping::{Limits, Scope},
    model::{DatasetId, SeriesId},
    time::{Nanos, TimeRange},
};
use jiff::tz::TimeZone;
use serde::{Deserialize, Serialize};

use crate::{
    catalogue::{
        definitions::Definitions,
        documents::{Document, DocumentKind, Kept},
    },
    disk::{
        files::{Files, bytes_on_disk, companion, remove_database, remove_file, sync_folder},
        pool::Pool,
    },
    engine::{Engine, Replaced, losses},
    error::{Context, StoreError},
    limits::settings::zone_of,
    partition::{BlockRef, Partition, Progress, Reading, Writing},
    span::{DAY, FEW_POINTS, MANY_POINTS, Rate, Span},
};

/// Where new files are written, in the folder of a dataset.
const UNFINISHED: &str = "new";
/// Every generation.
const ALL: u64 = u64::MAX >> 1;

/// Replaced files and their replacements, relative to the store's directory.
#[derive(Serialize, Deserialize)]
struct ReplacedPartitions {
    old: Vec<String>,
    new: Vec<String>,
}

impl Document for ReplacedPartitions {
    const KIND: DocumentKind = DocumentKind::ReplacedPartitions;
}

/// The longest span of a dataset's partitions, in days, as its limits have it.
pub fn longest(shared: &Engine, dataset: DatasetId) -> i64 {
    let (now, zone) = (shared.now(), zone_of(&shared.catalogue.read(), dataset));
    longest_under(shared, &shared.policies().in_force(Scope::Dataset(dataset), now, &zone), now, &zone)
}

/// The same, as some limits would have it.
pub fn longest_under(shared: &Engine, limits: &Limits, now: Nanos, zone: &TimeZone) -> i64 {
    let kept = limits.keep_for.map(|limit| now.saturating_sub(limit.limit.before(now, zone)));
    Span::longest_for(kept).min(shared.options.longest_span_days.max(7))
}

/// A partition, and how many points it has; none if these are not few.
pub type Part = (Span, Option<u64>);

/// Which partitions of few points are to become one of a longer span: those spans, with the places of the partitions. `parts` are in order of time.
pub fn merges(parts: &[Part], longest: i64, now: Nanos) -> Vec<(Span, Vec<usize>)> {
    let mut merged: Vec<(Span, Vec<usize>)> = Vec::new();
    let mut taken = BTreeSet::new();
    let Some((first, _)) = parts.first() else { return merged };
    // All lengths, the longest first; each cuts time anew.
    for length in Span::long_of(first.start, longest).map(Span::days) {
        let long = |span: &Span| Span::long_of(span.start, length).next();
        let places = (0..parts.len()).filter(|at| !taken.contains(at)).collect::<Vec<_>>();
        for group in places.chunk_by(|one, other| long(&parts[*one].0) == long(&parts[*other].0)) {
            let Some(span) = long(&parts[group[0]].0).filter(|span| group.len() > 1 && group.iter().all(|at| parts[*at].0.days() < span.days()))
            else {
                continue;
            };
            let points: Option<u64> = group.iter().map(|at| parts[*at].1).sum();
            let covered = parts[group[group.len() - 1]].0.last().min(now).saturating_sub(parts[group[0]].0.start).max(DAY);
            if points.is_some_and(|points| Rate { points: points as usize, covered }.is_few(span)) {
                taken.extend(group.iter().copied());
                merged.push((span, group.to_vec()));
            }
        }
    }
    merged
}

/// A file of more bytes has more than few points, and need not be opened to know it.
const MANY_BYTES: u64 = 32 << 20;

/// Gives the partitions of a dataset the spans that are right for them.
pub fn tidy(shared: &Engine, dataset: DatasetId) -> Result<(), StoreError> {
    let longest = longest(shared, dataset);
    shorten(shared, dataset, longest, Nanos::MAX)?;
    let partitions: Vec<Arc<Partition>> = shared.partitions_of(dataset, TimeRange::ALL).to_vec();
    let mut parts: Vec<Part> = Vec::with_capacity(partitions.len());
    for partition in &partitions {
        let is_large = bytes_on_disk(partition.path()) > MANY_BYTES;
        let points = if is_large { None } else { partition.read(|reading| reading.points_up_to(FEW_POINTS))? };
        parts.push((partition.span, points));
    }
    for (span, places) in merges(&parts, longest, shared.now()) {
        if shared.is_stopping() {
            break;
        }
        let old: Vec<Arc<Partition>> = places.into_iter().map(|at| Arc::clone(&partitions[at])).collect();
        write_and_exchange(shared, dataset, &old, &|| Ok(vec![span]))?;
    }
    Ok(())
}

/// Splits partitions of a dataset that are longer than a bound in days, and hold an instant before some. Returns whether there were any.
pub fn shorten(shared: &Engine, dataset: DatasetId, longest: i64, before: Nanos) -> Result<bool, StoreError> {
    let too_long = |partition: &&Arc<Partition>| partition.span.is_long() && partition.span.days() > longest && partition.span.start < before;
    let mut did = false;
    loop {
        let found = shared.partitions_of(dataset, TimeRange::ALL).iter().find(too_long).map(Arc::clone);
        match found {
            Some(partition) => replace(shared, dataset, &[partition], longest)?,
            None => return Ok(did),
        }
        did = true;
    }
}

/// Splits the partition of a span if it will have too many points. Returns whether it did.
pub fn split_if_many(shared: &Engine, dataset: DatasetId, span: Span, to_come: u64) -> Result<bool, StoreError> {
    let partition = shared.partitions().get(&(dataset, span.start)).filter(|partition| partition.span == span && span.is_long()).cloned();
    let Some(partition) = partition else { return Ok(false) };
    let room = MANY_POINTS.saturating_sub(to_come);
    if partition.read(|reading| reading.points_up_to(room))?.is_some() {
        return Ok(false);
    }
    replace(shared, dataset, &[partition], span.days() - 1)?;
    Ok(true)
}

/// Puts partitions of shorter spans, of `longest` days at the most, into the place of some.
fn replace(shared: &Engine, dataset: DatasetId, old: &[Arc<Partition>], longest: i64) -> Result<(), StoreError> {
    write_and_exchange(shared, dataset, old, &|| {
        let mut spans = BTreeSet::new();
        for partition in old {
            partition.read(|reading| {
                reading.all_places(ALL, |_, places| {
                    places.iter().for_each(|place| spans.extend(partition.span.parts(longest, place.start..=place.end)));
                    Ok(())
                })
            })?;
        }
        Ok(spans.into_iter().collect())
    })
}

fn write_and_exchange(
    shared: &Engine,
    dataset: DatasetId,
    old: &[Arc<Partition>],
    spans: &dyn Fn() -> Result<Vec<Span>, StoreError>,
) -> Result<(), StoreError> {
    // Excludes packing, deletions and restores.
    let _alone = shared.spans.write();
    let partitions = shared.partitions();
    let is_there = |partition: &Arc<Partition>| partitions.get(&(dataset, partition.span.start)).is_some_and(|found| Arc::ptr_eq(found, partition));
    if !old.iter().all(is_there) {
        // Somebody else came first.
        return Ok(());
    }
    drop(partitions);
    // Compaction goes by turns: none of these partitions changes from here on.
    let writers: Vec<_> = old.iter().map(|partition| partition.writer()).collect();
    let Some(folder) = old.first().and_then(|partition| partition.path().parent()).map(Path::to_owned) else { return Ok(()) };
    let spans = spans()?;
    let unfinished = folder.join(UNFINISHED);
    remove_folder(&unfinished)?;
    fs::create_dir_all(&unfinished).at("create the folder", &unfinished)?;
    let is_counter = shared.counters(dataset);
    for span in &spans {
        write_part((*span, shared.definitions.store()), old, &unfinished, &is_counter)?;
    }
    sync_folder(&unfinished)?;
    let home = |span: &Span| folder.join(span.file_name());
    let below = |path: &Path| path.strip_prefix(shared.files.root()).unwrap_or(path).to_string_lossy().into_owned();
    let record = ReplacedPartitions {
        old: old.iter().map(|partition| shared.files.name_of(partition.path())).collect(),
        new: spans.iter().map(|span| below(&home(span))).collect(),
    };
    let name = format!("{}-{}", dataset.0, shared.now());
    // A backup knows them under these names as they were before, or not at all.
    record.new.iter().try_for_each(|file| shared.definitions.note_edit(file))?;
    shared.definitions.put_document(&name, &record, shared.now())?;
    move_into_place(&record, &shared.files)?;
    let new = spans.iter().map(|span| Arc::new(Partition::new(*span, home(span), span.page_size(Rate::default()), Arc::clone(&shared.pool))));
    let earlier = shared.exchange(dataset, old, new);
    losses::note(shared)?;
    writers.iter().for_each(|writer| writer.note_replaced());
    drop(writers);
    tracing::debug!(from = ?record.old, to = ?record.new, "partitions changed their spans");
    shared.replaced.lock().push(Replaced { record: name, old: old.to_vec(), earlier });
    Ok(())
}

/// Writes the points of a span into a new file of a store.
fn write_part((span, store): (Span, i64), old: &[Arc<Partition>], folder: &Path, is_counter: &dyn Fn(SeriesId) -> bool) -> Result<(), StoreError> {
    let pool = Arc::new(Pool::new(1));
    let path = folder.join(span.file_name());
    let part = Partition::new(span, path.clone(), span.page_size(Rate { points: FEW_POINTS as usize, covered: span.days() * DAY }), pool);
    let mut packed = 0;
    for partition in old.iter().filter(|partition| partition.span.meets(span.range())) {
        packed = packed.max(partition.read(|reading| {
            part.writer().write(true, |writing| {
                reading.all_places(ALL, |series, places| {
                    let inside = places.iter().filter(|place| place.start <= span.last() && place.end >= span.start);
                    inside.into_iter().try_for_each(|place| take_over(writing, reading, (series, place), span, is_counter(series)))
                })
            })?;
            Ok(reading.progress()?.packed)
        })?);
    }
    part.writer().write(true, |writing| {
        writing.stamp(store)?;
        writing.set_progress(Progress { packed, compacted: false })
    })?;
    if !part.release()? {
        return Err(StoreError::Damaged { path, what: "it is in use by an unknown reader".to_owned() });
    }
    // Closed, it has no log any more; the name without one is the file as a whole.
    ["-wal", "-shm"].into_iter().try_for_each(|suffix| remove_file(&companion(&path, suffix)))?;
    fs::File::open(&path).and_then(|file| file.sync_all()).at("sync", path)
}

/// Takes a block over: as it is, or that part of its points that lies in the span.
fn take_over(
    writing: &Writing<'_>,
    reading: &Reading<'_>,
    (series, place): (SeriesId, &BlockRef),
    span: Span,
    is_counter: bool,
) -> Result<(), StoreError> {
    if span.holds(place.start) && span.holds(place.end) {
        return writing.copy(reading, series, place);
    }
    let mut block = Columns::default();
    reading.decode(series, place, &mut block)?;
    let points = block.points();
    writing.add(series, points.slice(points.places_in(span.range())), place.generation, is_counter)
}

/// Renames new files into place, those that are not there yet.
fn move_into_place(record: &ReplacedPartitions, files: &Files) -> Result<(), StoreError> {
    for file in &record.new {
        let to = files.root().join(file);
        let Some(folder) = to.parent() else { continue };
        let from = folder.join(UNFINISHED).join(to.file_name().unwrap_or_default());
        match fs::rename(&from, &to) {
            Err(error) if error.kind() != std::io::ErrorKind::NotFound => return Err(error).at("rename to", to),
            _ => {}
        }
    }
    let folders: BTreeSet<PathBuf> = record.new.iter().filter_map(|file| files.root().join(file).parent().map(Path::to_owned)).collect();
    folders.iter().try_for_each(|folder| sync_folder(folder))
}

/// Removes the files of partitions that nobody can ask any more.
pub fn remove_replaced(shared: &Engine) -> Result<(), StoreError> {
    let ended: Vec<Replaced> = {
        let mut all = shared.replaced.lock();
        let (ended, waiting) = std::mem::take(&mut *all).into_iter().partition(|one| one.earlier.have_ended());
        *all = waiting;
        ended
    };
    for one in ended {
        let mut is_free = true;
        for partition in &one.old {
            is_free &= partition.release()?;
        }
        if !is_free {
            shared.replaced.lock().push(one);
            continue;
        }
        one.old.iter().try_for_each(|partition| remove_database(partition.path()))?;
        shared.definitions.remove_document::<ReplacedPartitions>(&one.record)?;
    }
    Ok(())
}

/// Files that others replace, by their names below the store's directory.
pub fn files_on_their_way(definitions: &Definitions) -> Result<Vec<String>, StoreError> {
    Ok(definitions.documents::<ReplacedPartitions>()?.into_iter().flat_map(|kept| kept.body.old).collect())
}

/// At a start nobody asks yet: what was recorded is ended, and what was not is forgotten, before partitions are looked for.
pub fn finish(files: &Files, definitions: &Definitions, folders: impl Iterator<Item = String>) -> Result<(), StoreError> {
    for Kept { name, body, .. } in definitions.documents::<ReplacedPartitions>()? {
        move_into_place(&body, files)?;
        body.old.iter().try_for_each(|file| remove_database(&files.root().join(file)))?;
        definitions.remove_document::<ReplacedPartitions>(&name)?;
    }
    folders.map(|folder| files.dataset(&folder).join(UNFINISHED)).try_for_each(|folder| remove_folder(&folder))
}

fn remove_folder(folder: &Path) -> Result<(), StoreError> {
    match fs::remove_dir_all(folder) {
        Err(error) if error.kind() != std::io::ErrorKind::NotFound => Err(error).at("remove", folder),
        _ => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn weeks(points: &[Option<u64>]) -> Vec<Part> {
        points.iter().enumerate().map(|(week, points)| (Span::week_of(week as Nanos * 7 * DAY), *points)).collect()
    }

    #[test]
    fn few_points_of_many_weeks_become_one_span_and_dense_ones_stay() {
        let merged = |parts: &[Part], longest: i64| {
            let merged = merges(parts, longest, Nanos::MAX);
            merged.into_iter().map(|(span, places)| (span.days(), places.len())).collect::<Vec<_>>()
        };
        // A point a week for twenty years; what is kept for less long; one in ten minutes; one a minute.
        assert_eq!(merged(&weeks(&[Some(1); 1_040]), 3_584), [(3_584, 512), (3_584, 512), (3_584, 16)]);
        assert_eq!(merged(&weeks(&[Some(1); 20]), 56), [(56, 8), (56, 8), (56, 4)]);
        assert_eq!(merged(&weeks(&[Some(1_008); 17]), 3_584), [(448, 17)]);
        assert_eq!(merged(&weeks(&[Some(10_080); 17]), 3_584), []);
        // A dense week keeps its neighbours from years, and not from eight weeks beside it.
        let mut one_dense = vec![Some(1); 24];
        one_dense[10] = None;
        assert_eq!(merged(&weeks(&one_dense), 3_584), [(56, 8), (56, 8)]);
        // One alone stays as it is, whatever it holds.
        assert_eq!(merged(&weeks(&[Some(1)]), 3_584), []);
        assert_eq!(merged(&[], 3_584), []);
    }

    #[test]
    fn growth_of_a_new_dataset_is_estimated_from_its_first_days() {
        assert_eq!(merges(&weeks(&[Some(9_000), Some(2_000)]), 3_584, 8 * DAY), [], "1,375 points a day are 77,000 in eight weeks");
        assert_eq!(merges(&weeks(&[Some(50), Some(20)]), 3_584, 8 * DAY)[0].0.days(), 3_584);
    }
}
