//! What a push is answered with, whether it succeeded or is part of a problem.

use fenetre_formats::Tally;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

fn is_zero(count: &u64) -> bool {
    *count == 0
}

/// A note about points of one body or import that replace each other, if they are too many to be an accident.
pub fn note_duplicates(duplicates: u64, accepted: u64, missing_tags: &[String]) -> Option<String> {
    // One in a hundred may be sent twice.
    if duplicates * 100 <= accepted {
        return None;
    }
    let share = duplicates * 100 / accepted.max(1);
    let help = match missing_tags {
        [] => "a tag is probably missing".to_owned(),
        tags => format!("probably missing as a tag: {}", tags.iter().map(|tag| format!("`{tag}`")).collect::<Vec<_>>().join(", ")),
    };
    Some(format!("WARNING: {duplicates} of {accepted} points ({share}%) replace each other, since they have the same series and time; {help}"))
}

/// Result of a push.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PushReport {
    /// Counts and rejects.
    #[serde(flatten)]
    pub tally: Tally,
    /// Points that took the place of others of the same series and instant; none where that was not counted.
    #[serde(default)]
    pub replaced: Option<u64>,
    /// Points that a later point of the same body replaces, since both have the same series and instant.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub duplicates: u64,
    /// Points of paused metrics, passed over as these say.
    #[serde(default)]
    pub dropped: u64,
    /// Whether nothing was written because only a try was asked for.
    pub dry_run: bool,
    /// New metrics.
    pub new_metrics: Vec<String>,
    /// How many series were not known before.
    pub new_series: u64,
}
