//! A source in memory, as plain as can be.

use std::collections::BTreeMap;

use super::super::*;
use crate::rollup::{self, Encoded, Roller, Rules, WindowColumns};

/// A source that keeps some runs as blocks and some as points.
#[derive(Default)]
pub struct Memory {
    pub runs: BTreeMap<SeriesId, Vec<(bool, Columns)>>,
    /// Series whose blocks say how much they grew.
    pub counters: Vec<SeriesId>,
    /// A level, the stretch that it covers, the rules that it was made by, and windows of it that are out of date.
    pub rolled: Option<RolledUp>,
}

/// Windows of all series, made when they are asked for.
pub struct RolledUp {
    pub range: TimeRange,
    pub rules: Rules,
    /// All points, those that are no longer kept too.
    pub points: BTreeMap<SeriesId, Columns>,
    /// Stretches whose points are no longer in the runs.
    pub dropped: Vec<TimeRange>,
    pub dirty: Vec<(SeriesId, TimeRange)>,
}

struct MemoryBlock<'a>(&'a Columns, Summary);

impl StoredBlock for MemoryBlock<'_> {
    fn summary(&self) -> &Summary {
        &self.1
    }

    fn decode(&self, out: &mut Columns) -> Result<(), SourceError> {
        out.extend(self.0.points());
        Ok(())
    }
}

impl Source for Memory {
    fn scan(&self, _: DatasetId, series: &[SeriesId], range: TimeRange, visit: Visit<'_>) -> Result<(), SourceError> {
        for (place, id) in series.iter().enumerate() {
            for (packed, columns) in self.runs.get(id).into_iter().flatten() {
                let summary = if self.counters.contains(id) { Summary::of_counter(columns.points()) } else { Summary::of(columns.points()) };
                let Some(summary) = summary.filter(|summary| range.meets(summary.first.time, summary.last.time)) else { continue };
                match packed {
                    true => visit(place, Run::Block(&MemoryBlock(columns, summary)))?,
                    false => visit(place, Run::Points(columns.points()))?,
                }
            }
        }
        Ok(())
    }

    fn outermost(&self, _: DatasetId, series: &[SeriesId], range: TimeRange, end: End) -> Result<Vec<Option<Sample>>, SourceError> {
        let of = |id: &SeriesId| {
            let all = self.runs.get(id).into_iter().flatten().flat_map(|(_, columns)| {
                let points = columns.points();
                (0..points.len()).map(move |at| Sample { time: points.times[at], value: points.values[at], rest: points.rest(at) })
            });
            let mut inside = all.filter(|sample| range.contains(sample.time));
            match end {
                End::Earliest => inside.next(),
                End::Latest => inside.next_back(),
            }
        };
        Ok(series.iter().map(of).collect())
    }

    fn covered(&self, _: DatasetId, _: MetricId, levels: &[LevelPlan]) -> Coverage {
        let range = self.rolled.as_ref().map(|rolled| rolled.range);
        let dropped = self.rolled.as_ref().map(|rolled| rolled.dropped.clone()).unwrap_or_default();
        Coverage { levels: vec![range.filter(|range| !range.is_empty()); levels.len()], dropped }
    }

    fn scan_windows(&self, asked: &AskedWindows<'_>, series: &[SeriesId], range: TimeRange, visit: Visit<'_>) -> Result<(), SourceError> {
        let rolled = self.rolled.as_ref().ok_or("nothing is rolled up")?;
        assert!(asked.level.level.is_border(range.start) && asked.level.level.is_border(range.end), "{range:?}");
        for (place, id) in series.iter().enumerate() {
            let Some(all) = rolled.points.get(id) else { continue };
            let mut roller = Roller::new(&asked.level.level, rolled.rules);
            roller.add_points(all.points().slice(all.points().places_in(range)));
            for window in roller.finish() {
                let end = asked.level.level.after(window.start);
                let is_dirty = rolled.dirty.iter().any(|(of, dirty)| of == id && dirty.start < end && window.start < dirty.end);
                if is_dirty {
                    let inside = all.points().places_in(TimeRange { start: window.start, end });
                    visit(place, Run::Points(all.points().slice(inside)))?;
                } else {
                    // As it would come back from the disk, with what was asked for alone.
                    let Encoded { bytes, more } = rollup::encode(std::slice::from_ref(&window), rolled.rules.made());
                    let parts: &[&[u8]] = if asked.wants.are_more() { &[&bytes, &more] } else { &[&bytes] };
                    let mut columns = WindowColumns::default();
                    rollup::decode(parts, asked.wants, &mut columns)?;
                    visit(place, Run::Windows(&columns, 0..1))?;
                }
            }
        }
        Ok(())
    }
}
