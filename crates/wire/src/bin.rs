//! The bin, and deleting points.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::datasets::{Reference, Stored};

/// Effect of a deletion.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct Deletion {
    /// Its id in the bin; none in a dry run.
    #[schema(required)]
    pub id: Option<String>,
    /// Description for people.
    pub what: String,
    /// Affected series.
    pub series: u64,
    /// Deleted points, and when they begin and end.
    #[serde(flatten)]
    pub stored: Stored,
    /// Bytes of their blocks.
    pub bytes: u64,
    /// What refers to it.
    pub references: Vec<Reference>,
    /// Time until which it can be restored.
    #[schema(required)]
    pub recoverable_until: Option<String>,
}

/// An item in the bin.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct BinItemInfo {
    /// Its id.
    pub id: String,
    /// Its dataset.
    pub dataset: String,
    /// The metric, or the selection of points.
    pub what: String,
    /// `metric`, `points` or `partition`.
    pub kind: String,
    /// When it was deleted.
    pub deleted: String,
    /// When it will be erased.
    pub erased: String,
    /// Its series.
    pub series: u64,
    /// Number of moved points.
    #[schema(required)]
    pub points: Option<u64>,
    /// Bytes of them.
    #[schema(required)]
    pub bytes: Option<u64>,
}

/// Points to delete.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct PointsOrder {
    /// The metric.
    pub metric: String,
    /// Condition on its series, as in `where`, such as `lock = "osier"` (default: all).
    #[serde(default)]
    pub condition: Option<String>,
    /// First instant (RFC 3339, or a local time in the dataset's zone).
    pub from: String,
    /// End of the range (exclusive).
    pub to: String,
    /// Return what would be moved, and change nothing.
    #[serde(default)]
    pub dry_run: bool,
}

/// Options of restoring an item.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(default, deny_unknown_fields)]
pub struct Restore {
    /// New name of a metric, if its old one is in use.
    pub name: Option<String>,
}
