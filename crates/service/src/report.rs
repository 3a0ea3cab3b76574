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
    /// Whether nothing was written because only a try was asked for.
    pub dry_run: bool,
    /// Metrics that were not known before.
    pub new_metrics: Vec<String>,
    /// How many series were not known before.
    pub new_series: u64,
}
