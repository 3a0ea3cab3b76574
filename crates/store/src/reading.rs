//! Blocks and head read together, as the source of points that queries run over.

use fenetre_core::{
    block::Columns,
    evaluate::{Run, Source, SourceError, StoredBlock, Visit},
    model::{DatasetId, SeriesId},
    time::{Nanos, TimeRange},
};

use crate::{files::partition_last, merge::merge, shared::Shared};

/// The store as a source of points: everything that was acknowledged before a scan begins.
pub struct StoreSource<'s>(pub(crate) &'s Shared);

impl Source for StoreSource<'_> {
    fn scan(&self, dataset: DatasetId, series: SeriesId, range: TimeRange, visit: Visit<'_>) -> Result<(), SourceError> {
        // The head first: what is packed in between is then met twice, which merging undoes, and never missed.
        let fresh = self.0.head.read().columns(series, range);
        let mut fresh = Fresh { columns: fresh, at: 0 };
        for partition in self.0.partitions_of(dataset) {
            if !range.meets(partition.start, partition_last(partition.start)) {
                continue;
            }
            partition.blocks(series, range, |block| {
                fresh.give_before(block.start, visit)?;
                let meanwhile = fresh.take_until(block.end);
                if meanwhile.is_empty() {
                    return visit(Run::Block(block));
                }
                let mut stored = Columns::default();
                block.decode(&mut stored)?;
                let merged = merge(&stored, &meanwhile);
                visit(Run::Points(&merged.times, &merged.values))
            })?;
        }
        fresh.give_rest(visit)
    }
}

/// The head's points of one series, given out in order between the blocks.
struct Fresh {
    columns: Columns,
    at: usize,
}

impl Fresh {
    fn give(&mut self, end: usize, visit: Visit<'_>) -> Result<(), SourceError> {
        let part = self.at..end;
        self.at = end;
        if part.is_empty() { Ok(()) } else { visit(Run::Points(&self.columns.times[part.clone()], &self.columns.values[part])) }
    }

    fn give_before(&mut self, time: Nanos, visit: Visit<'_>) -> Result<(), SourceError> {
        let ahead = self.columns.times[self.at..].partition_point(|at| *at < time);
        self.give(self.at + ahead, visit)
    }

    fn give_rest(&mut self, visit: Visit<'_>) -> Result<(), SourceError> {
        self.give(self.columns.len(), visit)
    }

    /// The points up to and at an instant.
    fn take_until(&mut self, time: Nanos) -> Columns {
        let part = self.at..self.at + self.columns.times[self.at..].partition_point(|at| *at <= time);
        self.at = part.end;
        Columns { times: self.columns.times[part.clone()].to_vec(), values: self.columns.values[part].to_vec() }
    }
}
