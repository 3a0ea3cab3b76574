//! Windows for queries: rows where they are valid, and points where windows are out of date, points are not packed, or rows are newer than
//! the snapshot.

use std::sync::Arc;

use fenetre_core::{
    block::Columns,
    evaluate::{AskedWindows, Coverage, Run, Source, SourceError, Visit},
    model::{DatasetId, MetricId, SeriesId},
    plan::LevelPlan,
    rollup::{Level, Rules, WindowColumns},
    time::{Nanos, TimeRange},
};

use crate::{
    engine::Engine,
    error::StoreError,
    levels::{LevelFiles, LevelKey, LevelOf},
    read::{
        census::packed_counts,
        source::{StoreSource, inside},
    },
};

/// Series that are looked at together, and windows of each: what is held at once is some megabytes.
const SERIES_PER_STEP: usize = 16;
const SLICE_WINDOWS: Nanos = 1_024;
/// How many times longer the next stretch is, where there was little in one.
const WIDER: Nanos = 8;

fn key_of(level: &LevelPlan) -> LevelKey {
    (level.policy.to_string(), level.level.width().to_string())
}

impl StoreSource<'_> {
    /// How far levels stand for points of a metric.
    pub(crate) fn coverage(&self, dataset: DatasetId, metric: MetricId, levels: &[LevelPlan]) -> Coverage {
        let dropped = self.shared.floors.dropped(&self.shared.trims, dataset, metric);
        let nothing = |dropped: Vec<TimeRange>| Coverage { levels: vec![None; levels.len()], dropped };
        let rollups = match self.shared.rollups.of(self.shared, dataset) {
            Ok(Some(rollups)) => rollups,
            Ok(None) => return nothing(dropped),
            Err(error) => {
                tracing::error!(%error, "rollups cannot be read; queries use points");
                return nothing(dropped);
            }
        };
        let state = rollups.state.read();
        let is_member = |policy: &str| state.members.get(policy).is_some_and(|members| members.contains(&metric));
        let covered = |level: &LevelPlan| {
            let key = key_of(level);
            let mut range = *state.levels.get(&key)?;
            if let Some(from) = state.whole_from.get(&key).and_then(|metrics| metrics.get(&metric)) {
                range.start = range.start.max(level.level.ceil(*from));
            }
            let range = Some(range).filter(|range| is_member(&level.policy) && !range.is_empty())?;
            // The files of this moment: of a level that is made anew meanwhile, others take their place.
            let of = LevelOf { key, level: level.level.clone(), keep_for: None };
            let files = rollups.level_files(&of).ok()?;
            self.levels.lock().insert((dataset, of.key), files);
            Some(range)
        };
        Coverage { levels: levels.iter().map(covered).collect(), dropped }
    }

    /// As [`Source::scan_windows`].
    pub(crate) fn windows(&self, asked: &AskedWindows<'_>, series: &[SeriesId], range: TimeRange, visit: Visit<'_>) -> Result<(), SourceError> {
        let mut columns = vec![WindowColumns::default(); SERIES_PER_STEP.min(series.len())];
        let (level, mut left, mut wide) = (&asked.level.level, range, SLICE_WINDOWS);
        // What is held is bounded by windows, not by time: where there are few, a slice is longer than the one before.
        let most = SLICE_WINDOWS.cast_unsigned() * SERIES_PER_STEP.min(series.len()).max(1) as u64;
        while !left.is_empty() {
            let mut slice = cut(level, left, wide, Side::Start);
            while wide > SLICE_WINDOWS && self.is_more(asked, series, slice, most)? {
                wide /= WIDER;
                slice = cut(level, left, wide, Side::Start);
            }
            left.start = slice.end;
            let mut seen = 0;
            for (at, few) in series.chunks(SERIES_PER_STEP).enumerate() {
                columns.iter_mut().for_each(WindowColumns::clear);
                self.windows_of(asked, few, slice, &mut columns, &mut |place, run| visit(at * SERIES_PER_STEP + place, run))?;
                seen = seen.max(columns.iter().map(|columns| columns.len() as u64).sum::<u64>());
            }
            wide = if seen * (WIDER as u64) < most { wide.saturating_mul(WIDER) } else { SLICE_WINDOWS };
        }
        Ok(())
    }

    /// Whether some series that are read together have more windows in a range than are held at once.
    fn is_more(&self, asked: &AskedWindows<'_>, series: &[SeriesId], range: TimeRange, most: u64) -> Result<bool, StoreError> {
        let files = self.levels.lock().get(&(asked.dataset, key_of(asked.level))).map(Arc::clone);
        let Some(files) = files else { return Ok(false) };
        for few in series.chunks(SERIES_PER_STEP) {
            if files.windows_about(few, range, most)? > most {
                return Ok(true);
            }
        }
        Ok(false)
    }

    fn windows_of(
        &self,
        asked: &AskedWindows<'_>,
        series: &[SeriesId],
        range: TimeRange,
        columns: &mut [WindowColumns],
        visit: Visit<'_>,
    ) -> Result<(), SourceError> {
        let level = &asked.level.level;
        let Some(rollups) = self.shared.rollups.of(self.shared, asked.dataset)? else { return self.scan(asked.dataset, series, range, visit) };
        let raw_from = self.shared.floors.of(&self.shared.trims, asked.dataset, asked.metric);
        // What was made when points are no longer there stays as it was made.
        let fresh_from = level.ceil(raw_from);
        let mut dirty: Vec<Vec<TimeRange>> = {
            let state = rollups.state.read();
            let of = |id: &SeriesId| state.changes.of(*id).iter().map(|change| change.range).collect();
            series.iter().map(of).collect()
        };
        for (ranges, id) in dirty.iter_mut().zip(series) {
            ranges.extend(self.snapshot.touched(*id, range, level));
        }
        let key = (asked.dataset, key_of(asked.level));
        let gone = || StoreError::Definition(format!("the rollup {} of {} was dropped while this was answered: ask again", key.1.1, key.1.0));
        let files = self.levels.lock().get(&key).map(Arc::clone).ok_or_else(gone)?;
        let read = files.rows(series, range, asked.wants, &mut |place, row| {
            let before = columns[place].len();
            let made = row.read(asked.wants, &mut columns[place])?;
            let is_other = row.generation > self.snapshot.visible_before || asked.mark.is_some_and(|mark| mark != made.mark);
            if is_other {
                let other = columns[place].starts()[before..].iter().filter(|start| range.contains(**start) && **start >= fresh_from);
                dirty[place].extend(other.map(|start| TimeRange { start: *start, end: start.saturating_add(1) }));
            }
            Ok(())
        });
        if files.is_gone() {
            return Err(gone().into());
        }
        read?;
        for (place, (windows, dirty)) in columns.iter_mut().zip(dirty).enumerate() {
            let stale: Vec<TimeRange> = whole_windows(level, dirty, TimeRange { start: range.start.max(fresh_from), end: range.end });
            // Rows of one series may lie over each other.
            windows.sort();
            self.interleave(asked.dataset, series[place], (windows, range), &stale, &mut |run| visit(place, run))?;
        }
        Ok(())
    }

    /// Gives the windows of a range in order of time, and in stretches that are out of date the points.
    fn interleave(
        &self,
        dataset: DatasetId,
        series: SeriesId,
        (windows, range): (&WindowColumns, TimeRange),
        stale: &[TimeRange],
        visit: &mut dyn FnMut(Run<'_>) -> Result<(), SourceError>,
    ) -> Result<(), SourceError> {
        let place_of = |at: Nanos| windows.starts().partition_point(|start| *start < at);
        let (mut at, end) = (place_of(range.start), place_of(range.end));
        for range in stale {
            let before = place_of(range.start);
            if at < before {
                visit(Run::Windows(windows, at..before))?;
            }
            at = place_of(range.end).max(at);
            self.points_within(dataset, series, *range, visit)?;
        }
        if at < end { visit(Run::Windows(windows, at..end)) } else { Ok(()) }
    }

    /// The points inside a range and none beside it.
    fn points_within(
        &self,
        dataset: DatasetId,
        series: SeriesId,
        range: TimeRange,
        visit: &mut dyn FnMut(Run<'_>) -> Result<(), SourceError>,
    ) -> Result<(), SourceError> {
        let mut scratch = Columns::default();
        self.scan(dataset, &[series], range, &mut |_, run| inside(run, range, &mut scratch, visit))
    }
}

/// From which end of a range a part of it is taken.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum Side {
    Start,
    End,
}

/// The series whose windows are made, or looked at.
pub(crate) struct Members<'s> {
    pub shared: &'s Engine,
    pub dataset: DatasetId,
    pub series: &'s [(SeriesId, Rules)],
    /// Files of the finer level, whose windows may be read instead of points.
    pub finer: Option<Arc<LevelFiles>>,
}

impl Members<'_> {
    /// A part of a range on a level's borders, at one end of it: of about so many windows, or longer where points are few. So the work goes by points,
    /// however much time lies between them.
    pub fn part(&self, level: &Level, range: TimeRange, windows: Nanos, side: Side) -> Result<TimeRange, StoreError> {
        let most = u64::try_from(windows).unwrap_or(1).saturating_mul(self.series.len() as u64);
        let mut part = cut(level, range, windows, side);
        let mut wider = windows;
        while part != range {
            wider = wider.saturating_mul(WIDER);
            let candidate = cut(level, range, wider, side);
            if self.points_about(candidate, most)? > most {
                break;
            }
            part = candidate;
        }
        Ok(part)
    }

    /// How many points and finer windows there are in a range, blocks that reach over its ends as a whole. Past a bound, counting ends.
    fn points_about(&self, range: TimeRange, most: u64) -> Result<u64, StoreError> {
        let mut points = 0;
        for partition in self.shared.partitions_of(self.dataset, range).iter() {
            partition.read(|reading| {
                for (series, _) in self.series {
                    points += reading.places(*series, range, u64::MAX >> 1)?.iter().map(|place| place.count).sum::<u64>();
                    if points > most {
                        break;
                    }
                }
                Ok(())
            })?;
            if points > most {
                break;
            }
        }
        if let Some(finer) = &self.finer {
            let ids: Vec<SeriesId> = self.series.iter().map(|(series, _)| *series).collect();
            points += finer.windows_about(&ids, range, most)?;
        }
        Ok(points)
    }
}

/// So many windows of a range, about, at one end of it.
fn cut(level: &Level, range: TimeRange, windows: Nanos, side: Side) -> TimeRange {
    let length = level.nominal().saturating_mul(windows);
    match side {
        Side::Start => {
            let far = range.start.saturating_add(length);
            let end = if far >= range.end { range.end } else { level.floor(far) };
            // A floor that did not move would never end.
            let end = if end > range.start { end } else { level.after(range.start).min(range.end) };
            TimeRange { end, ..range }
        }
        Side::End => {
            let start = level.floor(range.end.saturating_sub(length)).max(range.start);
            TimeRange { start: if start < range.end { start } else { range.start }, ..range }
        }
    }
}

/// The earliest point that is packed, of any series.
pub fn first_point(shared: &Engine, dataset: DatasetId) -> Result<Option<Nanos>, StoreError> {
    let snapshot = shared.head.write().packed();
    for partition in shared.partitions_of(dataset, TimeRange::ALL).iter() {
        let packed = shared.unless_damaged(partition, packed_counts(partition, &snapshot))?;
        let first = packed.and_then(|packed| packed.iter().map(|(_, count)| count.first).min());
        if first.is_some() {
            return Ok(first);
        }
    }
    Ok(None)
}

/// Ranges in any order as whole windows in order, inside a range that lies on borders.
pub(crate) fn whole_windows(level: &Level, mut ranges: Vec<TimeRange>, within: TimeRange) -> Vec<TimeRange> {
    ranges.sort_unstable_by_key(|range| range.start);
    let mut whole: Vec<TimeRange> = Vec::new();
    for range in ranges {
        let (start, end) = (range.start.max(within.start), range.end.min(within.end));
        if start >= end || whole.last().is_some_and(|last| end <= last.end) {
            continue;
        }
        let (start, end): (Nanos, Nanos) = (level.floor(start).max(within.start), level.ceil(end).min(within.end));
        match whole.last_mut() {
            Some(last) if start <= last.end => last.end = last.end.max(end),
            _ => whole.push(TimeRange { start, end }),
        }
    }
    whole
}

impl From<StoreError> for fenetre_core::evaluate::EvaluateError {
    fn from(error: StoreError) -> Self {
        Self::Source(error.into())
    }
}
