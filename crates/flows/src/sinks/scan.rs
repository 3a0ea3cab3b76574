//! Points of a time range, from the store as it is now.

use fenetre_core::{
    block::Columns,
    catalogue::{Codes, Dataset},
    evaluate::{End, Run, Source, SourceError},
    model::{DatasetId, SeriesId},
    time::{Nanos, SECOND, TimeRange, format_utc},
};
use fenetre_store::{Gap, Store, Stretch};

use super::{
    outgoing::Outgoing,
    selection::{Gathered, Selection},
};
use crate::error::FlowError;

/// Number of series that are read at once.
const SERIES: usize = 500;

/// A scan has found more points than a batch holds.
#[derive(Debug, thiserror::Error)]
#[error("there are more points than a batch holds")]
struct TooMany;

/// Gives the points of a gap in batches of at most `most` points, or of one instant.
///
/// # Errors
/// If the store cannot be read, or `give` fails.
pub fn each_batch(
    store: &Store,
    selection: &mut Selection,
    gap: Gap,
    most: usize,
    give: &mut dyn FnMut(Outgoing) -> Result<(), FlowError>,
) -> Result<(), FlowError> {
    let ids = store.with_catalogue(|catalogue| match selection.dataset(catalogue).filter(|dataset| dataset.id == gap.dataset()) {
        Some(dataset) => selection.metrics(dataset).flat_map(|metric| selection.series_of(dataset, metric)).collect::<Vec<SeriesId>>(),
        // It has been removed.
        None => Vec::new(),
    });
    // Parts of other ranges must not have the same names.
    let [start, end] = [gap.first, gap.last].map(|time| format_utc(time).replace([':', '-'], ""));
    for (at, chunk) in ids.chunks(SERIES).enumerate() {
        let mut part = 0;
        in_parts(store, selection, gap, (chunk, gap.range(), most), &mut |selection, gathered| {
            part += 1;
            give(selection.outgoing(store, gathered, format!("past-{start}-{end}-{at:04}-{part:04}"))?)
        })?;
    }
    Ok(())
}

/// Gathers the points of some series in a range. If they are too many, both halves of the range are gathered one after the other.
fn in_parts(
    store: &Store,
    selection: &mut Selection,
    gap: Gap,
    (series, range, most): (&[SeriesId], TimeRange, usize),
    give: &mut dyn FnMut(&mut Selection, Gathered) -> Result<(), FlowError>,
) -> Result<(), FlowError> {
    let length = range.end.saturating_sub(range.start);
    let limit = if length > 1 { most } else { usize::MAX };
    match gather(store, selection, gap, series, range, limit)? {
        Some(gathered) if gathered.points == 0 => Ok(()),
        Some(gathered) => give(selection, gathered),
        None => {
            let middle = range.start + length / 2;
            in_parts(store, selection, gap, (series, TimeRange { end: middle, ..range }, most), give)?;
            in_parts(store, selection, gap, (series, TimeRange { start: middle, ..range }, most), give)
        }
    }
}

/// None if there are more points than the limit.
fn gather(
    store: &Store,
    selection: &mut Selection,
    gap: Gap,
    series: &[SeriesId],
    range: TimeRange,
    limit: usize,
) -> Result<Option<Gathered>, FlowError> {
    let parts = |dataset: &Dataset| -> Vec<SeriesId> {
        let layouts = series.iter().filter_map(|id| match dataset.series(*id)?.codes.as_deref()? {
            Codes::Layouts(layouts) => Some(layouts),
            Codes::Words(_) => None,
        });
        layouts.flatten().flat_map(|layout| layout.parts()).collect()
    };
    let parts = store.with_catalogue(|catalogue| selection.dataset(catalogue).map_or_else(Vec::new, parts));
    let all: Vec<SeriesId> = series.iter().copied().chain(parts).collect();
    let (mut found, mut scratch, mut points) = (vec![Columns::default(); all.len()], Columns::default(), 0);
    let visit = &mut |at: usize, run: Run<'_>| -> Result<(), SourceError> {
        let run = match run {
            Run::Points(points) => points,
            // No windows were requested.
            Run::Windows(..) => return Ok(()),
            Run::Block(block) => {
                scratch.clear();
                block.decode(&mut scratch)?;
                scratch.points()
            }
        };
        let inside = run.places_in(range);
        if all[at].is_whole() {
            points += inside.len();
        }
        if points > limit {
            return Err(TooMany.into());
        }
        found[at].extend(run.slice(inside));
        Ok(())
    };
    match store.source().scan(gap.dataset(), &all, range, visit) {
        Err(error) if error.is::<TooMany>() => return Ok(None),
        Err(error) => return Err(FlowError::Peer(format!("the points of {} cannot be read: {error}", format_utc(range.start)))),
        Ok(()) => {}
    }
    let mut gathered = Gathered::default();
    let stretches = all.iter().zip(&found).filter(|(_, columns)| !columns.is_empty());
    selection.gather(
        store,
        gap.dataset(),
        stretches.map(|(series, columns)| Stretch { series: *series, points: columns.points() }),
        &mut gathered,
    )?;
    Ok(Some(gathered))
}

/// The latest points of some selected series, at most `most`, and how many series are selected.
///
/// # Errors
/// If the store cannot be read.
pub fn latest(store: &Store, selection: &mut Selection, dataset: DatasetId, most: usize) -> Result<(usize, Outgoing), FlowError> {
    let all = store.with_catalogue(|catalogue| {
        let found = selection.dataset(catalogue);
        found.map_or_else(Vec::new, |found| selection.metrics(found).flat_map(|metric| selection.series_of(found, metric)).collect::<Vec<_>>())
    });
    let some: Vec<SeriesId> = all.iter().copied().take(most).collect();
    let samples = store.source().outermost(dataset, &some, TimeRange::ALL, End::Latest);
    let samples = samples.map_err(|error| FlowError::Peer(format!("the latest points cannot be read: {error}")))?;
    let mut gathered = Gathered::default();
    for (series, sample) in some.iter().zip(samples) {
        let Some(sample) = sample else { continue };
        let gap = Gap { dataset: dataset.0, first: sample.time, last: sample.time };
        if let Some(found) = gather(store, selection, gap, &[*series], gap.range(), usize::MAX)? {
            gathered.absorb(found);
        }
    }
    Ok((all.len(), selection.outgoing(store, gathered, "trial".to_owned())?))
}

/// Times of a series that lie no further apart are read together.
const TOGETHER: Nanos = 600 * SECOND;

/// The points of some series at some times, as the store has them now. Deleted points are omitted.
///
/// # Errors
/// If the store cannot be read.
pub fn current(store: &Store, selection: &mut Selection, points_of: &[(SeriesId, Vec<Nanos>)], id: String) -> Result<Outgoing, FlowError> {
    let dataset = store.with_catalogue(|catalogue| selection.dataset(catalogue).map(|dataset| dataset.id));
    let Some(dataset) = dataset else { return Ok(Outgoing::default()) };
    let mut gathered = Gathered::default();
    for (series, times) in points_of {
        for run in times.chunk_by(|one, next| next.saturating_sub(*one) <= TOGETHER) {
            let (Some(first), Some(last)) = (run.first(), run.last()) else { continue };
            let gap = Gap { dataset: dataset.0, first: *first, last: *last };
            if let Some(found) = gather(store, selection, gap, &[*series], gap.range(), usize::MAX)? {
                gathered.absorb(found);
            }
        }
    }
    selection.outgoing(store, gathered, id)
}
