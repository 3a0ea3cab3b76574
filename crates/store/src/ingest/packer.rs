//! Packing: a frozen generation of the head becomes blocks in partitions, then its journal file goes. Points of metrics that are thinned are
//! thinned here, where those of an hour stand in order of time: until then all of them are kept, and asked for.
//!
//! Until it is done, readers take the generation's points from memory and overlook its blocks. Killed at any moment, it is simply done
//! again at the next start: the generation is read back from its journal file, and blocks that were written already are met by others with
//! the same points, which changes no answer; compaction merges them.

use std::{collections::BTreeMap, ops::Range};

use fenetre_core::{
    block::{Columns, Points},
    catalogue::FIRST_PART,
    model::{DatasetId, SeriesId, Thinning},
    time::{Nanos, TimeRange},
};

use crate::{
    catalogue::definitions::{Savings, Written},
    compact::respan,
    engine::{Engine, Spans, losses},
    error::StoreError,
    head::{Generation, Sorted},
    ingest::held,
    missing::inventory,
    partition::Progress,
    span::{Rate, Span},
};

/// Packs the oldest frozen generation, takes it out of the head, and removes its journal file.
pub fn pack(shared: &Engine, generation: &Generation) -> Result<(), StoreError> {
    let began = std::time::Instant::now();
    let (points, partitions) = write_blocks(shared, generation)?;
    // The file first, and for good: from the moment at which the generation is forgotten, compaction may merge its blocks with older
    // ones, and it must not come back from the journal then.
    inventory::forget_journal(&shared.definitions, generation.number)?;
    held::put_away(shared, generation.number)?;
    shared.head.write().forget_oldest();
    tracing::debug!(points, partitions, milliseconds = began.elapsed().as_millis(), "packed");
    Ok(())
}

/// Writes a generation's points into their partitions; returns how many points and partitions these were.
fn write_blocks(shared: &Engine, generation: &Generation) -> Result<(usize, usize), StoreError> {
    split_full(shared, generation)?;
    let _spans = shared.spans.read_recursive();
    let buffers = generation.buffers.read();
    let mut of_dataset: BTreeMap<DatasetId, Vec<(SeriesId, Sorted<'_>)>> = BTreeMap::new();
    for (dataset, series) in buffers.series() {
        if let Some(points) = buffers.sorted(series) {
            of_dataset.entry(dataset).or_default().push((series, points));
        }
    }
    let (mut partitions, mut saved, mut written) = (0, Savings::new(), Written::new());
    for (dataset, all) in &of_dataset {
        if let Some(rollups) = shared.rollups.of(shared, *dataset)? {
            let taken = crate::levels::resolve_policies(&shared.catalogue.read(), *dataset);
            rollups.note_packing(&taken, all, generation.number)?;
        }
        let is_counter = shared.counters(*dataset);
        let thinnings = shared.thinnings(*dataset);
        for (span, pieces) in by_span(shared, *dataset, all) {
            let partition = shared.partition(*dataset, span, |span| rate(all, span))?;
            partition.writer().write(true, |writing| {
                for (place, range) in &pieces {
                    let (series, points) = &all[*place];
                    let points = points.points().slice(range.clone());
                    match thinnings.get(series) {
                        None => writing.add(*series, points, generation.number, is_counter(*series))?,
                        Some((metric, thinning)) => {
                            let kept = thinned(points, thinning);
                            let (came, stayed) = saved.entry(*metric).or_default();
                            (*came, *stayed) = (*came + points.len() as u64, *stayed + kept.len() as u64);
                            writing.add(*series, kept.points(), generation.number, false)?;
                        }
                    }
                }
                let of_dataset = written.entry(*dataset).or_default();
                of_dataset.1 += writing.added_bytes();
                writing.stamp(shared.definitions.store())?;
                writing.set_progress(Progress { packed: generation.number, compacted: false })
            })?;
            partitions += 1;
        }
        let whole = all.iter().filter(|(series, _)| series.0 < FIRST_PART);
        written.entry(*dataset).or_default().0 += whole.map(|(_, points)| points.points().len() as u64).sum::<u64>();
    }
    losses::note(shared)?;
    shared.definitions.add_savings(&saved)?;
    shared.definitions.add_written(&written)?;
    Ok((buffers.points(), partitions))
}

fn thinned(points: Points<'_>, thinning: &Thinning) -> Columns {
    let mut kept = Columns::default();
    thinning.kept(points).into_iter().for_each(|at| kept.push(points.times[at], points.values[at], points.rest(at)));
    kept
}

/// Splits partitions of more than a week for which a generation brings too many points.
fn split_full(shared: &Engine, generation: &Generation) -> Result<(), StoreError> {
    let mut to_come: BTreeMap<(DatasetId, Span), u64> = BTreeMap::new();
    {
        let buffers = generation.buffers.read();
        for (dataset, series) in buffers.series() {
            let Some(points) = buffers.sorted(series) else { continue };
            let times = points.points().times;
            let (Some(first), Some(last)) = (times.first(), times.last()) else { continue };
            for partition in shared.partitions_of(dataset, TimeRange { start: *first, end: last.saturating_add(1) }).iter() {
                if partition.span.is_long() {
                    *to_come.entry((dataset, partition.span)).or_default() += points.points().places_in(partition.span.range()).len() as u64;
                }
            }
        }
    }
    // Its parts may still be too long for their points.
    while let Some(((dataset, span), points)) = to_come.pop_first() {
        if respan::split_if_many(shared, dataset, span, points)? {
            let parts = shared.partitions_of(dataset, span.range());
            to_come.extend(parts.iter().filter(|part| part.span.is_long()).map(|part| ((dataset, part.span), points)));
        }
    }
    Ok(())
}

/// Which stretches of which series go into each span.
type Pieces = BTreeMap<Span, Vec<(usize, Range<usize>)>>;

fn by_span(shared: &Engine, dataset: DatasetId, all: &[(SeriesId, Sorted<'_>)]) -> Pieces {
    let (mut pieces, mut chosen, longest) = (Pieces::new(), Spans::new(), respan::longest(shared, dataset));
    for (place, (_, points)) in all.iter().enumerate() {
        let times = points.points().times;
        let mut start = 0;
        while start < times.len() {
            let at = times[start];
            let known = chosen.range(..=at).next_back().map(|(_, span)| *span).filter(|span| span.holds(at));
            let span = known.unwrap_or_else(|| shared.span_for(dataset, at, (&chosen, longest), |span| rate(all, span)));
            chosen.insert(span.start, span);
            let end = start + times[start..].partition_point(|at| *at <= span.last());
            pieces.entry(span).or_default().push((place, start..end));
            start = end;
        }
    }
    pieces
}

/// How fast the points in a span came, by their instants.
fn rate(all: &[(SeriesId, Sorted<'_>)], span: Span) -> Rate {
    let range = span.range();
    let (mut count, mut first, mut last) = (0, Nanos::MAX, Nanos::MIN);
    for (_, points) in all {
        let times = &points.points().times[points.points().places_in(range)];
        if let (Some(start), Some(end)) = (times.first(), times.last()) {
            (count, first, last) = (count + times.len(), first.min(*start), last.max(*end));
        }
    }
    Rate { points: count, covered: last.saturating_sub(first).max(0) }
}
