//! A sealed span of points, as evaluation reads it: whatever keeps the points of a stretch of time in blocks.
//!
//! Today that is a partition, a file of SQLite. A span is asked in two steps: which blocks of a series a range touches, which an index
//! answers without fetching points; then the points of the blocks that are really needed, since the summaries of the others are enough. So a
//! span whose blocks are far away can tell what a query would fetch before it fetches anything, and fetch it together.

use fenetre_core::{block::Columns, model::SeriesId, summary::Summary, time::TimeRange};

use crate::{
    error::StoreError,
    partition::{Block, BlockRef, Partition, Reading},
};

/// Reads a span as of one moment.
pub trait SpanReader {
    /// Blocks of a series with instants in a range, of generations before `before`, in order of their starts; and the number of its other blocks.
    fn blocks(&self, series: SeriesId, range: TimeRange, before: u64) -> Result<(Vec<Block>, u64), StoreError>;

    /// The summary of a block.
    fn summary(&self, block: &BlockRef) -> Result<Summary, StoreError>;

    /// Appends the points of a block.
    fn decode(&self, series: SeriesId, block: &BlockRef, out: &mut Columns) -> Result<(), StoreError>;
}

/// A sealed span.
pub trait SealedSpan: Send + Sync {
    /// The time range of its points.
    fn range(&self) -> TimeRange;

    /// Reads it as of one moment.
    ///
    /// # Errors
    /// Errors of the work, or if it cannot be read.
    fn read_at_once(&self, work: &mut dyn FnMut(&dyn SpanReader) -> Result<(), StoreError>) -> Result<(), StoreError>;
}

impl SpanReader for Reading<'_> {
    fn blocks(&self, series: SeriesId, range: TimeRange, before: u64) -> Result<(Vec<Block>, u64), StoreError> {
        Reading::blocks(self, series, range, before)
    }

    fn summary(&self, block: &BlockRef) -> Result<Summary, StoreError> {
        Reading::summary(self, block)
    }

    fn decode(&self, series: SeriesId, block: &BlockRef, out: &mut Columns) -> Result<(), StoreError> {
        Reading::decode(self, series, block, out)
    }
}

impl SealedSpan for Partition {
    fn range(&self) -> TimeRange {
        self.span.range()
    }

    fn read_at_once(&self, work: &mut dyn FnMut(&dyn SpanReader) -> Result<(), StoreError>) -> Result<(), StoreError> {
        self.read(|reading| work(reading))
    }
}
