//! Compaction: blocks of one series that overlap, or that are small, become few full ones.
//!
//! A partition is compacted when nothing was packed into it for a while, or when many generations lie over each other in it. The work
//! goes series by series in short transactions and rests between them as long as it worked. Killed or stopped, it resumes where it
//! was: what is merged already needs no more merging. Readers never wait for it; a block that a snapshot cannot see is left alone until
//! no such snapshot is left.

use std::{
    collections::{BTreeMap, BTreeSet, HashMap, HashSet},
    path::{Path, PathBuf},
    sync::Arc,
    time::{Duration, Instant},
};

use fenetre_core::{
    block::{BLOCK_POINTS, Columns, cut},
    model::{DatasetId, SeriesId},
    time::{Nanos, SECOND, TimeRange},
};

use fenetre_jobs::{Backoff, Handle, Next};

use crate::{
    compact::respan,
    engine::Engine,
    error::StoreError,
    partition::{BlockRef, Partition, Progress, Writer, Writing, merge::Sweep},
    span::Span,
};

const TICK: Duration = Duration::from_millis(500);
/// So many partitions are looked at for the first time in one tick: after a start they are opened one by one, not all at once.
const FIRST_LOOKS: usize = 20;
/// A failed partition is left alone for so long.
const RETRY: Duration = Duration::from_secs(60);
/// One transaction takes about so many points.
const TURN_POINTS: u64 = 250_000;
/// With so many generations packed since the last time, a partition no longer waits for quiet.
const MAX_LAYERS: u64 = 24;
const DAY: Nanos = 86_400 * SECOND;
/// A file is written anew where one block in so many was replaced.
const HOLES: usize = 20;
/// A block of fewer points is small.
const SMALL: u64 = BLOCK_POINTS as u64 / 4;

/// What compaction knows of a partition.
struct Watched {
    version: u64,
    since: Instant,
    progress: Option<Progress>,
    /// Generations that were packed into it since it was compacted.
    layers: u64,
}

/// Starts the job.
pub fn start(shared: &Arc<Engine>) -> std::io::Result<Handle> {
    let own = Arc::clone(shared);
    let (mut watched, mut tidied) = (HashMap::new(), Tidied::new());
    shared.jobs.repeat("compactor", Backoff { first: TICK, most: RETRY }, move |_| {
        let (settled, failure) = watch(&own, &mut watched);
        let tidied = tidy(&own, settled, &mut tidied);
        own.pool.close_idle();
        failure.map_or(tidied, Err).map(|()| Next::Rest(TICK))
    })
}

/// Datasets with nothing left to compact, each with the spans and versions of its partitions.
type Settled = BTreeMap<DatasetId, Vec<(Span, u64)>>;

/// The same as they were when they were last put in order, with the longest span of that time.
type Tidied = BTreeMap<DatasetId, (i64, Vec<(Span, u64)>)>;

/// Gives the partitions of datasets that have settled the spans that are right for them, when these or the limits have changed.
fn tidy(shared: &Engine, settled: Settled, tidied: &mut Tidied) -> Result<(), StoreError> {
    let mut done = Ok(());
    for (dataset, partitions) in settled {
        let now = (respan::longest(shared, dataset), partitions);
        if tidied.get(&dataset) == Some(&now) {
            continue;
        }
        done = done.and(respan::tidy(shared, dataset).map(|_| ()));
        tidied.insert(dataset, now);
    }
    done.and(respan::remove_replaced(shared))
}

/// Checks every partition once, and compacts those that are due. Returns the datasets that have settled, and the last failure.
fn watch(shared: &Engine, watched: &mut HashMap<PathBuf, Watched>) -> (Settled, Option<StoreError>) {
    let (mut first_looks, mut settled, mut open, mut failure) = (0, Settled::new(), BTreeSet::new(), None);
    let partitions = shared.all_partitions();
    let there: HashSet<&Path> = partitions.iter().map(|(_, partition)| partition.path()).collect();
    watched.retain(|path, _| there.contains(path.as_path()));
    for &(dataset, ref partition) in &partitions {
        if shared.is_stopping() {
            return (Settled::new(), failure);
        }
        if partition.is_gone() || partition.is_replaced() {
            continue;
        }
        settled.entry(dataset).or_default().push((partition.span, partition.version()));
        if watched
            .get(partition.path())
            .is_none_or(|known| known.version != partition.version() || !known.progress.is_some_and(|known| known.compacted))
        {
            open.insert(dataset);
        }
        let version = partition.version();
        let known =
            watched.entry(partition.path().to_owned()).or_insert_with(|| Watched { version, since: Instant::now(), progress: None, layers: 1 });
        if known.version != version {
            *known = Watched { version, since: Instant::now(), progress: None, layers: known.layers + version.wrapping_sub(known.version) };
        }
        let progress = match known.progress {
            Some(progress) => progress,
            None if first_looks == FIRST_LOOKS => continue,
            None => match partition.read(|reading| reading.progress()) {
                Ok(progress) => {
                    first_looks += 1;
                    *known.progress.insert(progress)
                }
                Err(error) => {
                    failure = Some(error);
                    *known.progress.insert(Progress::default())
                }
            },
        };
        let is_quiet = known.since.elapsed() >= shared.options.compact_after;
        if progress.compacted || !(is_quiet || known.layers >= MAX_LAYERS) {
            continue;
        }
        let is_counter = shared.counters(dataset);
        match compact(shared, partition, &is_counter) {
            Ok(()) => (known.progress, known.layers) = (None, 0),
            Err(error) => {
                failure = Some(error);
                known.since = Instant::now() + RETRY;
            }
        }
        known.version = partition.version();
    }
    settled.retain(|dataset, _| !open.contains(dataset));
    (settled, failure)
}

/// Merges what can be merged in a partition, in turns.
pub fn compact(shared: &Engine, partition: &Partition, is_counter: &dyn Fn(SeriesId) -> bool) -> Result<(), StoreError> {
    let (growing, live) = {
        let head = shared.head.read();
        (head.oldest_frozen().unwrap_or(head.growing()).number, head.live())
    };
    let before = live.settled_before(growing);
    let mut work: Vec<(SeriesId, u64)> = Vec::new();
    let (mut blocks, mut merged) = (0, 0);
    let progress = partition.read(|reading| {
        reading.all_places(before, |series, places| {
            blocks += places.len();
            if needs_merging(places) {
                merged += places.len();
                work.push((series, places.iter().map(|place| place.count).sum()));
            }
            Ok(())
        })?;
        reading.progress()
    })?;
    let (began, series) = (Instant::now(), work.len());
    let mut next = 0;
    while next < work.len() && !shared.is_stopping() {
        let turn = Instant::now();
        let writer = partition.writer();
        next = take_turn(&writer, &work, next, before, is_counter)?;
        drop(writer);
        std::thread::park_timeout(turn.elapsed().min(Duration::from_secs(1)));
    }
    if next < work.len() {
        return Ok(());
    }
    // What a snapshot or packing kept from being merged, or came meanwhile, is left for the next time.
    let writer = partition.writer();
    let is_whole = writer.write(true, |writing| {
        let now = writing.reading().progress()?;
        let is_whole = now.packed == progress.packed && now.packed < before;
        if is_whole && !now.compacted {
            writing.set_progress(Progress { compacted: true, ..now })?;
        }
        Ok(is_whole)
    })?;
    // Pages from which blocks were taken are full of holes.
    if is_whole && merged * HOLES > blocks {
        writer.shrink()?;
    }
    if series > 0 {
        tracing::debug!(path = %partition.path().display(), series, milliseconds = began.elapsed().as_millis(), "compacted");
    }
    Ok(())
}

/// Merges some series in one transaction; returns which comes next.
fn take_turn(
    writer: &Writer<'_>,
    work: &[(SeriesId, u64)],
    mut next: usize,
    before: u64,
    is_counter: &dyn Fn(SeriesId) -> bool,
) -> Result<usize, StoreError> {
    writer.write(false, |writing| {
        let mut points = 0;
        while next < work.len() && points < TURN_POINTS {
            let (series, count) = work[next];
            let places = writing.reading().places(series, TimeRange::ALL, before)?;
            for cluster in clusters(&places).filter(|cluster| cluster.len() > 1) {
                merge_blocks(writing, series, cluster, is_counter(series))?;
            }
            points += count;
            next += 1;
        }
        Ok(next)
    })
}

fn needs_merging(places: &[BlockRef]) -> bool {
    clusters(places).any(|cluster| cluster.len() > 1)
}

/// Blocks, in order of their starts, in groups: those that overlap, small ones side by side, and parts of one day that fit one block.
pub fn clusters(places: &[BlockRef]) -> impl Iterator<Item = &[BlockRef]> {
    let mut rest = places;
    std::iter::from_fn(move || {
        let first = rest.first()?;
        let (mut end, mut length) = (first.end, 1);
        while let Some(place) = rest.get(length) {
            let before = &rest[length - 1];
            let overlaps = place.start <= end;
            let both_small = place.count < SMALL && before.count < SMALL;
            let (least, sum) = (place.count.min(before.count), place.count + before.count);
            let one_day = least < SMALL && sum <= BLOCK_POINTS as u64 && place.start.div_euclid(DAY) == before.end.div_euclid(DAY);
            if !(overlaps || both_small || one_day) {
                break;
            }
            end = end.max(place.end);
            length += 1;
        }
        let (cluster, after) = rest.split_at(length);
        rest = after;
        Some(cluster)
    })
}

/// Replaces blocks by others with the same points. Points are written as soon as no later block can change them, so that memory is
/// bounded by how many blocks lie over each other.
fn merge_blocks(writing: &Writing<'_>, series: SeriesId, places: &[BlockRef], is_counter: bool) -> Result<(), StoreError> {
    let generation = places.iter().map(|place| place.generation).max().unwrap_or(0);
    let (mut sweep, mut ready, mut block) = (Sweep::default(), Columns::default(), Columns::default());
    for place in places {
        ready.extend(sweep.take_before(place.start).points());
        if ready.len() >= TURN_POINTS as usize {
            // All but the last block, which may have to grow.
            let whole = cut(&ready.times).last().map_or(0, |last| last.start);
            writing.add(series, ready.points().slice(0..whole), generation, is_counter)?;
            ready = ready.points().slice(whole..ready.len()).to_columns();
        }
        block.clear();
        writing.reading().decode(series, place, &mut block)?;
        sweep.add(block.points(), place.generation);
    }
    ready.extend(sweep.take().points());
    writing.add(series, ready.points(), generation, is_counter)?;
    writing.remove(places)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn overlapping_and_small_blocks_are_grouped() {
        let place = |start: i64, end: i64, count: u64| BlockRef { id: start, start, end, generation: 1, count };
        let places =
            [place(0, 10, 2_000), place(5, 8, 2_000), place(9, 20, 2_000), place(21, 30, 2_000), place(DAY, DAY + 1, 3), place(DAY + 2, DAY + 3, 3)];
        let sizes = |places: &[BlockRef]| clusters(places).map(<[BlockRef]>::len).collect::<Vec<_>>();
        assert_eq!(sizes(&places), [3, 1, 2]);
        assert!(needs_merging(&places) && !needs_merging(&places[2..4]) && !needs_merging(&[]));
        // A day that was packed in two parts; what is too large for one block, or of two days, stays.
        assert_eq!(sizes(&[place(0, 10, 474), place(11, 20, 580), place(DAY, DAY + 1, 2_000), place(DAY + 2, DAY + 3, 400)]), [2, 1, 1]);
    }
}
