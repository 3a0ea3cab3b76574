//! What a push is answered with, whether it succeeded or is part of a problem.

use fenetre_formats::Tally;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What became of a body.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PushReport {
    /// Counts and rejects.
    #[serde(flatten)]
    pub tally: Tally,
    /// Points that took the place of others of the same series and instant; none where that was not counted.
    #[serde(default)]
    pub replaced: Option<u64>,
    /// Points of paused metrics, passed over as these say.
    #[serde(default)]
    pub dropped: u64,
    /// Whether nothing was written because only a try was asked for.
    pub dry_run: bool,
    /// Metrics that were not known before.
    pub new_metrics: Vec<String>,
    /// How many series were not known before.
    pub new_series: u64,
}
