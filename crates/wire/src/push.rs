//! Result of a push.

use fenetre_formats::Tally;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

fn is_zero(count: &u64) -> bool {
    *count == 0
}

/// Result of a push.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PushReport {
    /// Counts and rejects.
    #[serde(flatten)]
    pub tally: Tally,
    /// Points that replaced others of the same series and instant; none if that was not counted.
    #[serde(default)]
    #[schema(required)]
    pub replaced: Option<u64>,
    /// Points that a later point of the same body replaces, since both have the same series and instant.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub duplicates: u64,
    /// Points of paused metrics that were ignored.
    #[serde(default)]
    #[schema(required)]
    pub dropped: u64,
    /// Whether it was a dry run, which stores nothing.
    pub dry_run: bool,
    /// New metrics.
    pub new_metrics: Vec<String>,
    /// Number of new series.
    pub new_series: u64,
}
