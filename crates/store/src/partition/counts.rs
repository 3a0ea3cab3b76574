//! How many points a series has.

use fenetre_core::{model::SeriesId, time::Nanos};

/// Points of one series, counted.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct SeriesCount {
    /// Points, each instant once.
    pub points: u64,
    /// Blocks that hold them; points of the head have none.
    pub blocks: u64,
    /// First instant.
    pub first: Nanos,
    /// Last instant.
    pub last: Nanos,
}

impl SeriesCount {
    /// Adds what another place holds of the same series.
    pub(crate) fn add(&mut self, other: &Self) {
        self.points += other.points;
        self.blocks += other.blocks;
        self.first = self.first.min(other.first);
        self.last = self.last.max(other.last);
    }
}

/// Counts of the series of a partition, by id.
pub type SeriesCounts = Vec<(SeriesId, SeriesCount)>;

/// Bytes and first instants of the series of a partition, by id.
pub type SeriesSizes = Vec<(SeriesId, u64, Nanos)>;
