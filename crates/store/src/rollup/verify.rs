//! Checks windows on the disk against their points. Repairs nothing.

use std::{
    collections::{BTreeMap, HashSet},
    path::Path,
    sync::Arc,
};

use fenetre_core::{
    model::{DatasetId, SeriesId},
    rollup::{Encoded, Roller, Rules, Wants, Window, WindowColumns, decode, encode},
    time::{Nanos, TimeRange, format_utc},
};

use super::work;
use crate::{
    engine::Engine,
    error::StoreError,
    inspect::verify::Verified,
    levels::{
        DatasetRollups, LevelOf,
        files::{LevelFiles, ROW_WINDOWS},
        resolve_policies,
    },
    read::windows::{Members, Side, whole_windows},
};

/// Series that are looked at together, and windows of each.
const SERIES_PER_STEP: usize = 32;
const SLICE_WINDOWS: Nanos = 1_024;

/// Looks at every row of a file of windows, and makes again from points the windows that are up to date and whose points are all there; none where
/// there is no such file.
pub fn verify(shared: &Engine, file: &Path) -> Result<Option<Verified>, StoreError> {
    let datasets: Vec<DatasetId> =
        shared.catalogue.read().datasets().filter(|dataset| !dataset.rollups.is_empty()).map(|dataset| dataset.id).collect();
    for dataset in datasets {
        let Some(rollups) = shared.rollups.of(shared, dataset)? else { continue };
        let policies = resolve_policies(&shared.catalogue.read(), dataset);
        for policy in &policies {
            for level in &policy.levels {
                let files = rollups.level_files(level)?;
                let Some(stretch) = files.stretch_of(file) else { continue };
                let mut check =
                    Check { shared, dataset, rollups: &rollups, level, files, name: file.display().to_string(), found: Verified::default() };
                check.rows(stretch)?;
                // Of metrics that the policy takes since a moment ago nothing was made yet.
                let members = rollups.state.read().members.get(&policy.name).cloned().unwrap_or_default();
                let made: HashSet<SeriesId> = members.into_iter().flat_map(|metric| shared.series_of(dataset, metric)).collect();
                let series: Vec<(SeriesId, Rules)> = policy.series.iter().filter(|(id, _)| made.contains(id)).copied().collect();
                check.against_points(&series, stretch)?;
                return Ok(Some(check.found));
            }
        }
    }
    Ok(None)
}

struct Check<'s> {
    shared: &'s Engine,
    dataset: DatasetId,
    rollups: &'s DatasetRollups,
    level: &'s LevelOf,
    files: Arc<LevelFiles>,
    name: String,
    found: Verified,
}

impl Check<'_> {
    fn fault(&mut self, series: SeriesId, start: Nanos, what: impl std::fmt::Display) {
        self.found.add_fault(format!("{}: series {}, the window from {}: {what}", self.name, series.0, format_utc(start)));
    }

    /// Every row by itself: its checksum, its borders, its order.
    fn rows(&mut self, stretch: TimeRange) -> Result<(), StoreError> {
        let files = Arc::clone(&self.files);
        let mut columns = WindowColumns::default();
        files.all_rows(stretch, &mut |place, row| {
            columns.clear();
            self.found.blocks += 1;
            if let Err(error) = row.read(Wants::ALL, &mut columns) {
                self.found.add_fault(error.to_string());
                return Ok(());
            }
            let starts = columns.starts();
            self.found.windows += starts.len() as u64;
            let is_ordered = starts.windows(2).all(|pair| pair[0] < pair[1]);
            if !is_ordered || (starts.first(), starts.last(), starts.len() as i64) != (Some(&place.start), Some(&place.end), place.count) {
                self.fault(place.series, place.start, "the row does not match its index");
            } else if let Some(start) = starts.iter().find(|start| !self.level.level.is_border(**start)) {
                let start = *start;
                self.fault(place.series, start, "it does not begin where a window does");
            }
            Ok(())
        })
    }

    fn against_points(&mut self, series: &[(SeriesId, Rules)], stretch: TimeRange) -> Result<(), StoreError> {
        for few in series.chunks(SERIES_PER_STEP) {
            let mut left = self.bounded(stretch);
            while !left.is_empty() {
                let members = Members { shared: self.shared, dataset: self.dataset, series: few, finer: None };
                let slice = members.part(&self.level.level, left, SLICE_WINDOWS, Side::Start)?;
                left.start = slice.end;
                if self.shared.is_stopping() {
                    return Err(StoreError::Stopped);
                }
                self.compare(few, slice)?;
            }
        }
        Ok(())
    }

    /// The part of a range that the level covers and whose points are all stored.
    fn bounded(&self, range: TimeRange) -> TimeRange {
        let covered = self.rollups.state.read().levels.get(&self.level.key).copied();
        let first = self.shared.partitions_of(self.dataset, TimeRange::ALL).first().map_or(Nanos::MAX, |partition| partition.span.start);
        let (raw_from, level) = (self.shared.floors.of_dataset(self.dataset), &self.level.level);
        let Some(covered) = covered else { return TimeRange { start: range.start, end: range.start } };
        // Whole windows: a file's stretch need not end on a border of a level in a zone.
        let start = level.ceil(range.start.max(covered.start).max(raw_from).max(first.saturating_sub(level.nominal())));
        TimeRange { start, end: level.floor(range.end.min(covered.end)).max(start) }
    }

    fn compare(&mut self, series: &[(SeriesId, Rules)], range: TimeRange) -> Result<(), StoreError> {
        // No windows are made meanwhile; points that are packed meanwhile are noted as changes first.
        let _alone = self.rollups.working.lock();
        let floors = self.shared.floors.of_series(&self.shared.trims, &self.shared.catalogue, self.dataset);
        let range = {
            let bounded = self.bounded(range);
            TimeRange { start: bounded.start.max(range.start), end: bounded.end.min(range.end) }
        };
        if range.is_empty() {
            return Ok(());
        }
        let mut stored = Vec::with_capacity(series.len());
        for (id, rules) in series {
            stored.push(self.stored(*id, *rules, range)?);
        }
        let mut rollers: Vec<Roller<'_>> = series.iter().map(|(_, rules)| Roller::new(&self.level.level, *rules)).collect();
        let ids: Vec<SeriesId> = series.iter().map(|(id, _)| *id).collect();
        if let Err(error) = work::roll_points(&work::packed(self.shared), self.dataset, &ids, range, &mut rollers) {
            // Damaged points are reported with their own file.
            return if matches!(error, StoreError::Damaged { .. }) { Ok(()) } else { Err(error) };
        }
        // What went or came back meanwhile is not missed.
        let later = self.shared.floors.of_series(&self.shared.trims, &self.shared.catalogue, self.dataset);
        for (((id, rules), stored), roller) in series.iter().zip(stored).zip(rollers) {
            let Some((stored, others)) = stored else { continue };
            let mut dirty: Vec<TimeRange> = self.rollups.state.read().changes.of(*id).iter().map(|change| change.range).collect();
            dirty.extend(others);
            let stale = whole_windows(&self.level.level, dirty, range);
            let raw_from = floors.of(*id).max(later.of(*id));
            let counts = |start: Nanos| start >= raw_from && !stale.iter().any(|range| range.contains(start));
            self.differences(*id, stored, at_rest(&roller.finish(), *rules), &counts);
        }
        Ok(())
    }

    /// The windows of a series, and those among them that were made by other rules; none if they cannot be read, which is reported already.
    #[allow(clippy::type_complexity, reason = "a pair that lives for a line")]
    fn stored(&mut self, series: SeriesId, rules: Rules, range: TimeRange) -> Result<Option<(BTreeMap<Nanos, Window>, Vec<TimeRange>)>, StoreError> {
        let (mut columns, mut others, mut is_damaged) = (WindowColumns::default(), Vec::new(), false);
        let files = Arc::clone(&self.files);
        files.rows(&[series], range, Wants::ALL, &mut |_, row| {
            let before = columns.len();
            match row.read(Wants::ALL, &mut columns) {
                Ok(made) if made != rules.made() => {
                    others.extend(columns.starts()[before..].iter().map(|start| TimeRange { start: *start, end: start.saturating_add(1) }));
                }
                Ok(_) => {}
                Err(_) => is_damaged = true,
            }
            Ok(())
        })?;
        let mut windows = BTreeMap::new();
        for window in columns.to_windows().into_iter().filter(|window| range.contains(window.start)) {
            let start = window.start;
            if windows.insert(start, window).is_some() {
                self.fault(series, start, "it is there twice");
            }
        }
        Ok((!is_damaged).then_some((windows, others)))
    }

    fn differences(&mut self, series: SeriesId, mut stored: BTreeMap<Nanos, Window>, made: Vec<Window>, counts: &dyn Fn(Nanos) -> bool) {
        for window in made {
            let known = stored.remove(&window.start);
            if !counts(window.start) {
                continue;
            }
            match known {
                None => self.fault(series, window.start, "there are points and no window"),
                Some(known) if !known.agrees(&window) => self.fault(series, window.start, "it is not that of its points"),
                Some(_) => self.found.points += window.summary.count,
            }
        }
        for start in stored.into_keys().filter(|start| counts(*start)) {
            self.fault(series, start, "there is a window and no points");
        }
    }
}

/// Windows as they are found on the disk, without what only the records know.
fn at_rest(windows: &[Window], rules: Rules) -> Vec<Window> {
    let mut columns = WindowColumns::default();
    for few in windows.chunks(ROW_WINDOWS) {
        let Encoded { bytes, more } = encode(few, rules.made());
        // What was encoded a moment ago can be decoded.
        let _ = decode(&[&bytes, &more], Wants::ALL, &mut columns);
    }
    columns.to_windows()
}
