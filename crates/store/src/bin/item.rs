//! Items of the bin, and the choice of what goes there.

use fenetre_core::{
    model::{DatasetId, SeriesId},
    time::{Nanos, TimeRange},
};
use serde::{Deserialize, Serialize};

use crate::engine::Engine;

/// What sort of thing is in the bin.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum BinItemKind {
    /// A metric with everything.
    Metric,
    /// Points of a span.
    Points,
    /// A partition.
    Partition,
}

impl BinItemKind {
    /// In text.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Metric => "metric",
            Self::Points => "points",
            Self::Partition => "partition",
        }
    }
}

/// Something in the bin.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct BinItem {
    /// By which it is asked for.
    pub id: String,
    /// The dataset that it is of.
    pub dataset: String,
    /// Its id.
    pub dataset_id: DatasetId,
    /// The metric, or the points as they were chosen.
    pub what: String,
    /// What sort of thing it is.
    pub kind: BinItemKind,
    /// When it was deleted.
    pub deleted: Nanos,
    /// Its series.
    pub series: u64,
    /// Points of a span, and when they began and ended.
    pub points: Option<DataSize>,
}

/// Points, and what they take.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct DataSize {
    /// How many.
    pub points: u64,
    /// Bytes of their blocks; those of which only a part is meant count by that part.
    pub bytes: u64,
    /// The earliest and the latest instant.
    pub span: Option<(Nanos, Nanos)>,
}

impl DataSize {
    /// Adds others.
    pub(crate) fn take(&mut self, points: u64, bytes: u64, span: Option<(Nanos, Nanos)>) {
        self.points += points;
        self.bytes += bytes;
        self.span = match (self.span, span) {
            (Some((start, end)), Some((first, last))) => Some((start.min(first), end.max(last))),
            (one, other) => one.or(other),
        };
    }
}

/// What is deleted: points of some series, and of their parts, in a range of a dataset.
#[derive(Clone, Debug)]
pub struct Selection {
    /// Of which dataset.
    pub dataset: DatasetId,
    /// Which series, parts of histograms among them.
    pub series: Vec<SeriesId>,
    /// Which instants.
    pub range: TimeRange,
}

/// Name of a dataset today.
pub fn name_of(shared: &Engine, id: DatasetId) -> String {
    shared.catalogue.read().dataset_by_id(id).map_or_else(|| "?".to_owned(), |dataset| dataset.name.to_string())
}
