//! A source in memory, as plain as can be.

use std::collections::BTreeMap;

use super::super::*;

/// A source that keeps some runs as blocks and some as points.
#[derive(Default)]
pub struct Memory {
    pub runs: BTreeMap<SeriesId, Vec<(bool, Columns)>>,
    /// Series whose blocks say how much they grew.
    pub counters: Vec<SeriesId>,
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
}
