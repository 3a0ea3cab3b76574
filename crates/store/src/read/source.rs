//! Blocks and head read together, as the source of points that queries run over.

use std::{
    collections::HashMap,
    sync::{
        Arc,
        atomic::{AtomicU64, Ordering},
    },
};

use fenetre_core::{
    answer::Cost,
    block::{Columns, Points},
    catalogue::FIRST_PART,
    evaluate::{AskedWindows, Coverage, End, Run, Source, SourceError, StoredBlock, Visit},
    model::{DatasetId, MetricId, SeriesId},
    plan::LevelPlan,
    summary::{Sample, Summary},
    time::{Nanos, TimeRange},
};

use parking_lot::Mutex;

use crate::{
    engine::{Engine, Partitions, partitions_in},
    error::StoreError,
    head::Snapshot,
    levels::{LevelFiles, LevelKey},
    missing::trims::TrimmedRanges,
    partition::{
        Block, BlockRef,
        merge::{Sweep, merge},
    },
    read::sealed::{SealedSpan, SpanReader},
};

/// The store as a source of points: everything that was acknowledged before it was made, and nothing that came later.
pub struct StoreSource<'s> {
    pub(crate) shared: &'s Engine,
    pub(crate) snapshot: Snapshot,
    partitions: Arc<Partitions>,
    hidden: Arc<TrimmedRanges>,
    /// Files of the levels that a query asked for.
    pub(crate) levels: Mutex<HashMap<(DatasetId, LevelKey), Arc<LevelFiles>>>,
    /// What was read beyond what visitors saw.
    unseen: Unseen,
}

/// Counts of what a source read by itself.
#[derive(Default)]
struct Unseen {
    skipped: AtomicU64,
    summarised: AtomicU64,
    decoded: AtomicU64,
    points: AtomicU64,
}

impl<'s> StoreSource<'s> {
    /// What is there now, of the points of a moment.
    pub(crate) fn new(shared: &'s Engine, snapshot: Snapshot) -> Self {
        // Read before the partitions: a reader of these sees everything hidden before them.
        let partitions = shared.partitions();
        Self { shared, snapshot, partitions, hidden: shared.trims.hidden(), levels: Mutex::default(), unseen: Unseen::default() }
    }
}

impl Source for StoreSource<'_> {
    fn scan(&self, dataset: DatasetId, series: &[SeriesId], range: TimeRange, visit: Visit<'_>) -> Result<(), SourceError> {
        let Some(seen_from) = self.hidden.of(dataset, series) else { return self.scan_all(dataset, series, range, visit) };
        let mut scratch = Columns::default();
        self.scan_all(dataset, series, range, &mut |at, run| {
            if seen_from[at] <= range.start {
                return visit(at, run);
            }
            inside(run, TimeRange { start: seen_from[at], end: Nanos::MAX }, &mut scratch, &mut |run| visit(at, run))
        })
    }

    fn outermost(&self, dataset: DatasetId, series: &[SeriesId], range: TimeRange, end: End) -> Result<Vec<Option<Sample>>, SourceError> {
        let seen_from = self.hidden.of(dataset, series);
        let seen = |at: usize| TimeRange { start: seen_from.as_ref().map_or(range.start, |from| range.start.max(from[at])), ..range };
        let fresh = |(at, series): (usize, &SeriesId)| self.snapshot.outermost(*series, seen(at), end);
        let fresh: Vec<Option<Sample>> = series.iter().enumerate().map(fresh).collect();
        self.unseen.points.fetch_add(fresh.iter().flatten().count() as u64, Ordering::Relaxed);
        let mut stored: Vec<Option<Sample>> = vec![None; series.len()];
        let mut spans = self.spans(dataset, range);
        if end == End::Latest {
            spans.reverse();
        }
        for span in spans {
            let within = span.range();
            // Points in memory beyond this span, or found in an earlier one, lie further out than all its points.
            let is_settled = |at: usize| {
                stored[at].is_some()
                    || fresh[at].is_some_and(|sample| match end {
                        End::Latest => sample.time >= within.end,
                        End::Earliest => sample.time < within.start,
                    })
            };
            let open: Vec<usize> = (0..series.len()).filter(|at| !is_settled(*at)).collect();
            if open.is_empty() {
                break;
            }
            span.read_at_once(&mut |reading| {
                for &at in &open {
                    stored[at] = self.outermost_stored(reading, series[at], seen(at), end)?;
                }
                Ok(())
            })?;
        }
        let outer = |(fresh, stored): (Option<Sample>, Option<Sample>)| match (fresh, stored) {
            // Of one instant the later arrival counts, which is in memory.
            (Some(fresh), Some(stored)) => Some(match end {
                End::Latest if stored.time > fresh.time => stored,
                End::Earliest if stored.time < fresh.time => stored,
                _ => fresh,
            }),
            (one, other) => one.or(other),
        };
        Ok(fresh.into_iter().zip(stored).map(outer).collect())
    }

    fn covered(&self, dataset: DatasetId, metric: MetricId, levels: &[LevelPlan]) -> Coverage {
        self.coverage(dataset, metric, levels)
    }

    fn scan_windows(&self, asked: &AskedWindows<'_>, series: &[SeriesId], range: TimeRange, visit: Visit<'_>) -> Result<(), SourceError> {
        self.windows(asked, series, range, visit)
    }

    fn unseen(&self) -> Cost {
        let Unseen { skipped, summarised, decoded, points } = &self.unseen;
        let count = |counter: &AtomicU64| counter.load(Ordering::Relaxed);
        Cost {
            blocks_skipped: count(skipped),
            blocks_summarised: count(summarised),
            blocks_decoded: count(decoded),
            points_read: count(points),
            ..Cost::default()
        }
    }
}

impl StoreSource<'_> {
    /// Counts the points of some series in a range, each instant once, with the first and the last instant. Parts of histograms do not count.
    pub(crate) fn count(&self, dataset: DatasetId, series: &[SeriesId], range: TimeRange) -> Result<(u64, Option<(Nanos, Nanos)>), StoreError> {
        let (mut count, mut span) = (0, None::<(Nanos, Nanos)>);
        let whole: Vec<SeriesId> = series.iter().copied().filter(|series| series.0 < FIRST_PART).collect();
        let mut take = |points: u64, first: Nanos, last: Nanos| {
            count += points;
            span = Some(span.map_or((first, last), |(earliest, latest)| (earliest.min(first), latest.max(last))));
        };
        let counted = self.scan_all(dataset, &whole, range, &mut |_, run| {
            match run {
                Run::Block(block) => take(block.summary().count, block.summary().first.time, block.summary().last.time),
                Run::Points(points) => {
                    if let (Some(first), Some(last)) = (points.times.first(), points.times.last()) {
                        take(points.len() as u64, *first, *last);
                    }
                }
                Run::Windows(..) => {}
            }
            Ok(())
        });
        match counted.map_err(|error| error.downcast::<StoreError>()) {
            Ok(()) => Ok((count, span)),
            Err(Ok(error)) => Err(*error),
            // The visitor never fails, so what did is the store.
            Err(Err(error)) => Err(StoreError::Closed(error.to_string())),
        }
    }

    /// Sealed spans of a dataset that a range touches, oldest first.
    fn spans(&self, dataset: DatasetId, range: TimeRange) -> Vec<Arc<dyn SealedSpan>> {
        partitions_in(&self.partitions, dataset, range).into_iter().map(|partition| partition as Arc<dyn SealedSpan>).collect()
    }

    /// As [`Source::scan`], points that were trimmed and not moved yet among them.
    fn scan_all(&self, dataset: DatasetId, series: &[SeriesId], range: TimeRange, visit: Visit<'_>) -> Result<(), SourceError> {
        let fresh = |series: &SeriesId| Fresh { columns: self.snapshot.columns(*series, range), at: 0 };
        let mut fresh: Vec<Fresh> = series.iter().map(fresh).collect();
        // Span by span, so that each is read for all series as of one moment.
        for span in self.spans(dataset, range) {
            // A failure of the visitor is kept apart from the errors of the span.
            let mut ended = Ok(());
            span.read_at_once(&mut |reading| {
                for ((at, series), fresh) in series.iter().enumerate().zip(&mut fresh) {
                    let (blocks, outside) = reading.blocks(*series, range, self.snapshot.visible_before)?;
                    self.unseen.skipped.fetch_add(outside, Ordering::Relaxed);
                    let visit: Take<'_> = &mut |run| visit(at, run);
                    ended = overlapping(&blocks).try_for_each(|group| match group {
                        [alone] => fresh.emit_block(reading, *series, alone, visit),
                        several => fresh.emit_blocks(reading, *series, several, visit),
                    });
                    if ended.is_err() {
                        break;
                    }
                }
                Ok(())
            })?;
            ended?;
        }
        fresh.iter_mut().enumerate().try_for_each(|(at, fresh)| fresh.emit_remaining(&mut |run| visit(at, run)))
    }

    fn outermost_stored(&self, reading: &dyn SpanReader, series: SeriesId, range: TimeRange, end: End) -> Result<Option<Sample>, StoreError> {
        let (blocks, _) = reading.blocks(series, range, self.snapshot.visible_before)?;
        let mut groups: Vec<&[Block]> = overlapping(&blocks).collect();
        if end == End::Latest {
            groups.reverse();
        }
        for group in groups {
            if let [alone] = group {
                let summary = summary_of(reading, alone)?;
                let outermost = match end {
                    End::Latest => range.contains(alone.place.end).then_some(summary.last),
                    End::Earliest => range.contains(alone.place.start).then_some(summary.first),
                };
                if outermost.is_some() {
                    self.unseen.summarised.fetch_add(1, Ordering::Relaxed);
                    return Ok(outermost);
                }
            }
            let (mut sweep, mut block, mut all) = (Sweep::default(), Columns::default(), Columns::default());
            for Block { place, .. } in group {
                all.extend(sweep.take_before(place.start).points());
                block.clear();
                reading.decode(series, place, &mut block)?;
                sweep.add(block.points(), place.generation);
            }
            all.extend(sweep.take().points());
            self.unseen.decoded.fetch_add(group.len() as u64, Ordering::Relaxed);
            self.unseen.points.fetch_add(all.len() as u64, Ordering::Relaxed);
            let inside = all.points().places_in(range);
            if let Some(sample) = edge(all.points().slice(inside), end) {
                return Ok(Some(sample));
            }
        }
        Ok(None)
    }
}

/// Gives what of a run lies inside a range: whole where all of it does.
pub fn inside(
    run: Run<'_>,
    range: TimeRange,
    scratch: &mut Columns,
    emit: &mut dyn FnMut(Run<'_>) -> Result<(), SourceError>,
) -> Result<(), SourceError> {
    let points = match run {
        Run::Block(block) if range.contains(block.summary().first.time) && range.contains(block.summary().last.time) => return emit(run),
        Run::Block(block) => {
            scratch.clear();
            block.decode(scratch)?;
            scratch.points()
        }
        Run::Points(points) => points,
        // Windows come from levels alone.
        Run::Windows(..) => return Ok(()),
    };
    let places = points.places_in(range);
    if places.is_empty() { Ok(()) } else { emit(Run::Points(points.slice(places))) }
}

/// The outermost of some points.
fn edge(points: Points<'_>, end: End) -> Option<Sample> {
    let at = match end {
        End::Latest => points.len().checked_sub(1)?,
        End::Earliest => 0,
    };
    let time = *points.times.get(at)?;
    Some(Sample { time, value: points.values[at], rest: points.rest(at) })
}

/// What takes the runs of one series.
type Take<'v> = &'v mut dyn FnMut(Run<'_>) -> Result<(), SourceError>;

fn summary_of(reading: &dyn SpanReader, block: &Block) -> Result<Summary, StoreError> {
    // One that cannot be read is read again for what is wrong with it.
    block.summary.map_or_else(|| reading.summary(&block.place), Ok)
}

/// What lies somewhere in time.
pub trait Placed {
    fn place(&self) -> &BlockRef;
}

impl Placed for BlockRef {
    fn place(&self) -> &BlockRef {
        self
    }
}

impl Placed for Block {
    fn place(&self) -> &BlockRef {
        &self.place
    }
}

/// Places, in order of their starts, in groups of those that overlap.
pub fn overlapping<P: Placed>(places: &[P]) -> impl Iterator<Item = &[P]> {
    let mut end = Nanos::MIN;
    let mut first = true;
    places.chunk_by(move |before, next| {
        let (before, next) = (before.place(), next.place());
        end = if std::mem::take(&mut first) { before.end } else { end.max(before.end) };
        let overlaps = next.start <= end;
        if !overlaps {
            first = true;
        }
        overlaps
    })
}

/// A block that is decoded when it is asked for.
struct LazyBlock<'r> {
    reading: &'r dyn SpanReader,
    series: SeriesId,
    place: &'r BlockRef,
    summary: Summary,
}

impl StoredBlock for LazyBlock<'_> {
    fn summary(&self) -> &Summary {
        &self.summary
    }

    fn decode(&self, out: &mut Columns) -> Result<(), SourceError> {
        Ok(self.reading.decode(self.series, self.place, out)?)
    }
}

/// The head's points of one series, given out in order between the blocks.
struct Fresh {
    columns: Columns,
    at: usize,
}

impl Fresh {
    fn emit(&mut self, end: usize, visit: Take<'_>) -> Result<(), SourceError> {
        let part = self.at..end;
        self.at = end;
        if part.is_empty() { Ok(()) } else { visit(Run::Points(self.columns.points().slice(part))) }
    }

    fn emit_before(&mut self, time: Nanos, visit: Take<'_>) -> Result<(), SourceError> {
        let ahead = self.columns.times[self.at..].partition_point(|at| *at < time);
        self.emit(self.at + ahead, visit)
    }

    fn emit_remaining(&mut self, visit: Take<'_>) -> Result<(), SourceError> {
        self.emit(self.columns.len(), visit)
    }

    /// Whether any of them lies at or before an instant.
    fn has_until(&self, time: Nanos) -> bool {
        self.columns.times.get(self.at).is_some_and(|at| *at <= time)
    }

    /// The points before an instant; with `inclusive`, at it too.
    fn take_until(&mut self, time: Nanos, inclusive: bool) -> Columns {
        let length = self.columns.times[self.at..].partition_point(|at| *at < time || (inclusive && *at == time));
        let part = self.at..self.at + length;
        self.at = part.end;
        self.columns.points().slice(part).to_columns()
    }

    fn emit_block(&mut self, reading: &dyn SpanReader, series: SeriesId, block: &Block, visit: Take<'_>) -> Result<(), SourceError> {
        let place = &block.place;
        self.emit_before(place.start, visit)?;
        if !self.has_until(place.end) {
            return visit(Run::Block(&LazyBlock { reading, series, place, summary: summary_of(reading, block)? }));
        }
        let mut stored = Columns::default();
        reading.decode(series, place, &mut stored)?;
        let merged = merge(stored.points(), self.take_until(place.end, true).points());
        visit(Run::Points(merged.points()))
    }

    /// Blocks that overlap, merged on the way through time.
    fn emit_blocks(&mut self, reading: &dyn SpanReader, series: SeriesId, blocks: &[Block], visit: Take<'_>) -> Result<(), SourceError> {
        let (mut sweep, mut block) = (Sweep::default(), Columns::default());
        let mut emit = |fresh: &mut Self, ready: Columns, until: Nanos, inclusive: bool| {
            let meanwhile = fresh.take_until(until, inclusive);
            let points = if meanwhile.is_empty() { ready } else { merge(ready.points(), meanwhile.points()) };
            if points.is_empty() { Ok(()) } else { visit(Run::Points(points.points())) }
        };
        let mut end = Nanos::MIN;
        for Block { place, .. } in blocks {
            emit(self, sweep.take_before(place.start), place.start, false)?;
            block.clear();
            reading.decode(series, place, &mut block)?;
            sweep.add(block.points(), place.generation);
            end = end.max(place.end);
        }
        emit(self, sweep.take(), end, true)
    }
}

/// How many points the blocks of a group hold, each instant once.
pub fn count_once(reading: &dyn SpanReader, series: SeriesId, group: &[BlockRef]) -> Result<u64, StoreError> {
    if let [alone] = group {
        return Ok(alone.count);
    }
    let (mut sweep, mut block, mut count) = (Sweep::default(), Columns::default(), 0);
    for place in group {
        count += sweep.take_before(place.start).len() as u64;
        block.clear();
        reading.decode(series, place, &mut block)?;
        sweep.add(block.points(), place.generation);
    }
    Ok(count + sweep.take().len() as u64)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn overlapping_blocks_are_grouped() {
        let place = |start: Nanos, end: Nanos| BlockRef { id: start, start, end, generation: 1, count: 1 };
        let places = [place(Nanos::MIN, 0), place(0, 9), place(3, 5), place(8, 9), place(10, 20), place(21, 30), place(30, 31)];
        let groups: Vec<usize> = overlapping(&places).map(<[BlockRef]>::len).collect();
        assert_eq!(groups, [4, 1, 2]);
        assert_eq!(overlapping::<BlockRef>(&[]).count(), 0);
    }
}
