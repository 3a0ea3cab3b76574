//! Rollup policies, their levels, and previews.

use fenetre_core::model::RollupPolicy;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// The rollups of a dataset.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RollupsInfo {
    /// Its policies, by name.
    pub policies: Vec<PolicyInfo>,
    /// Windows computed since the start of the service.
    pub windows_made: u64,
    /// Time ranges that were rebuilt, because points arrived late, were deleted or restored.
    pub made_again: u64,
    /// Whether backfilling is stopped.
    pub fill_stopped: bool,
    /// Why the last run failed, if it did; it is retried.
    #[schema(required)]
    pub failure: Option<String>,
}

/// A policy and its levels.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct PolicyInfo {
    /// Its name.
    pub name: String,
    /// Its content.
    pub policy: RollupPolicy,
    /// Its metrics.
    pub metrics: Vec<String>,
    /// The finest first.
    pub levels: Vec<LevelInfo>,
    /// Data that would be lost permanently if the policy were deleted, because its points have expired: one sentence each.
    #[serde(default)]
    #[schema(required)]
    pub losses: Vec<String>,
}

/// State of a level.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LevelInfo {
    /// Width of its windows.
    pub width: String,
    /// How long it is kept; none for no limit.
    #[schema(required)]
    pub keep_for: Option<String>,
    /// First instant that it covers; none if it covers all from the first point on.
    #[schema(required)]
    pub from: Option<String>,
    /// End of its coverage; none if it covers nothing yet.
    #[schema(required)]
    pub until: Option<String>,
    /// Share of the stored time that it covers, from 0 to 1.
    pub filled: f64,
    /// Points of its series that are not packed yet; windows are computed once they are.
    #[serde(default)]
    #[schema(required)]
    pub waiting_points: u64,
    /// Seconds between the end of its coverage and now.
    pub lag_seconds: f64,
    /// Time ranges of series to be rebuilt; queries use points for them.
    pub out_of_date: u64,
    /// Its series.
    pub series: u64,
    /// Windows in it.
    pub windows: u64,
    /// Bytes of its files.
    pub bytes: u64,
    /// How many times smaller it is per day than its points; none if there are none.
    #[schema(required)]
    pub smaller: Option<f64>,
    /// Speed-up of one query compared with points, if it was measured.
    #[schema(required)]
    pub faster: Option<f64>,
    /// The query that was measured.
    #[schema(required)]
    pub measured: Option<String>,
}

/// Preview of a policy.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RollupPreview {
    /// Its metrics.
    pub metrics: Vec<String>,
    /// Number of series.
    pub series: u64,
    /// The finest first.
    pub levels: Vec<LevelPreview>,
    /// Rollups of expired points that would be lost: one sentence each.
    #[serde(default)]
    #[schema(required)]
    pub losses: Vec<String>,
}

/// Preview of a level.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LevelPreview {
    /// Width of its windows.
    pub width: String,
    /// How long it is kept; none for no limit.
    #[schema(required)]
    pub keep_for: Option<String>,
    /// Windows per day.
    pub windows_a_day: u64,
    /// Approximate points per window; none if there are no points yet.
    #[serde(default)]
    #[schema(required)]
    pub points_each: Option<f64>,
    /// How many times smaller than its points it would be per day, approximately; none if there are no points yet.
    #[serde(default)]
    #[schema(required)]
    pub smaller: Option<f64>,
    /// Approximate bytes per day.
    pub bytes_a_day: u64,
    /// Approximate bytes once it no longer grows; without a limit, after a year.
    pub at_rest: u64,
}

/// Which policy it would be.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[serde(default, deny_unknown_fields)]
pub struct PolicyNamed {
    /// Name of the policy (default: `default`).
    pub name: Option<String>,
}

/// Whether to stop backfilling.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(default, deny_unknown_fields)]
pub struct FillOrder {
    /// Stop backfilling; otherwise resume it.
    pub stop: bool,
}
