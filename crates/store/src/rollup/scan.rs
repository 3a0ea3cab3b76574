//! Windows for queries: rows where they hold, and points where there is a mark, where points wait in memory, or where rows are of a later moment.

use std::sync::Arc;

use fenetre_core::{
    block::Columns,
    evaluate::{AskedWindows, Coverage, Run, Source, SourceError, Visit},
    model::{DatasetId, MetricId, SeriesId},
    plan::LevelPlan,
    rollup::{Level, WindowColumns},
    time::{Nanos, TimeRange},
};

use super::{LevelKey, LevelOf};
use crate::{
    error::StoreError,
    reading::{StoreSource, inside},
};

/// Series that are looked at together, and windows of each: what is held at once is some megabytes.
const TOGETHER: usize = 16;
const SLICE_WINDOWS: Nanos = 1_024;

fn key_of(level: &LevelPlan) -> LevelKey {
    (level.policy.to_string(), level.level.width().to_string())
}

impl StoreSource<'_> {
    /// How far levels stand for points of a metric.
    pub(crate) fn coverage(&self, dataset: DatasetId, metric: MetricId, levels: &[LevelPlan]) -> Coverage {
        let dropped = self.shared.floors.dropped(self.shared, dataset, metric);
        let nothing = |dropped: Vec<TimeRange>| Coverage { levels: vec![None; levels.len()], dropped };
        let Ok(Some(rollups)) = self.shared.rollups.of(self.shared, dataset) else { return nothing(dropped) };
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
            let files = rollups.level_files(self.shared, &of).ok()?;
            self.levels.lock().insert((dataset, of.key), files);
            Some(range)
        };
        Coverage { levels: levels.iter().map(covered).collect(), dropped }
    }

    /// As [`Source::scan_windows`].
    pub(crate) fn windows(&self, asked: &AskedWindows<'_>, series: &[SeriesId], range: TimeRange, visit: Visit<'_>) -> Result<(), SourceError> {
        let mut columns = vec![WindowColumns::default(); TOGETHER.min(series.len())];
        for slice in slices(&asked.level.level, range, SLICE_WINDOWS) {
            for (at, few) in series.chunks(TOGETHER).enumerate() {
                columns.iter_mut().for_each(WindowColumns::clear);
                self.windows_of(asked, few, slice, &mut columns, &mut |place, run| visit(at * TOGETHER + place, run))?;
            }
        }
        Ok(())
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
        let raw_from = self.shared.floors.of(self.shared, asked.dataset, asked.metric);
        // What was made when points are no longer there stays as it was made.
        let fresh_from = level.ceil(raw_from);
        let mut dirty: Vec<Vec<TimeRange>> = {
            let state = rollups.state.read();
            let of = |id: &SeriesId| state.marks.get(id).into_iter().flatten().map(|mark| mark.range).collect();
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

/// A range on a level's borders in parts of at most about so many windows, in order.
pub(super) fn slices(level: &Level, range: TimeRange, windows: Nanos) -> impl Iterator<Item = TimeRange> {
    let mut start = range.start;
    std::iter::from_fn(move || {
        if start >= range.end {
            return None;
        }
        let far = start.saturating_add(level.nominal().saturating_mul(windows));
        let end = if far >= range.end { range.end } else { level.floor(far) };
        // A floor that did not move would never end.
        let end = if end > start { end } else { level.after(start).min(range.end) };
        let slice = TimeRange { start, end };
        start = end;
        Some(slice)
    })
}

/// Ranges in any order as whole windows in order, inside a range that lies on borders.
pub(super) fn whole_windows(level: &Level, mut ranges: Vec<TimeRange>, within: TimeRange) -> Vec<TimeRange> {
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
