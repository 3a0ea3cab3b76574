//! Limits in force, what a change would drop, and the forecast.

use fenetre_core::keeping::LimitSettings;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// New limits of a place.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct RetentionOrder {
    /// Empty for the store, `velmar`, or `velmar::level`.
    #[serde(default)]
    pub place: String,
    /// `keep_for` and `keep_under`; an omitted one stays as it is, `null` means no limit.
    #[serde(default)]
    pub limits: LimitSettings,
    /// Remove the runtime setting first, so that the configuration file applies.
    #[serde(default)]
    pub reset: bool,
    /// Return the effect, and change nothing.
    #[serde(default)]
    pub preview: bool,
}

/// Effect of a change.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RetentionChange {
    /// The place as it was.
    pub before: PlaceInfo,
    /// The place as it is, or would be.
    pub after: PlaceInfo,
    /// Data that expires because of it.
    pub expires: ExpiryPreview,
}

/// Data that expires, or would.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct ExpiryPreview {
    /// Partitions and parts of them.
    pub parts: Vec<ExpiryItem>,
    /// Points.
    pub points: u64,
    /// Bytes, about.
    pub bytes: u64,
    /// The first and last instant.
    #[schema(required)]
    pub span: Option<(String, String)>,
    /// Metrics that lose points.
    pub metrics: Vec<String>,
    /// Partitions that are old enough to expire, but wait until rollups cover them.
    #[serde(default)]
    #[schema(required)]
    pub waiting: u64,
    /// Whether it was carried out.
    pub done: bool,
    /// The reserve of the volume is used, and nothing is left that could expire.
    pub is_full: bool,
}

/// Data that expires.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ExpiryItem {
    /// `velmar / 2026-05-07` or `velmar::level before …`.
    pub what: String,
    /// Why.
    pub why: String,
    /// Bytes, about.
    pub bytes: u64,
    /// Whether it is erased at once, without the bin.
    pub for_good: bool,
}

/// Options of applying retention.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema, IntoParams)]
#[serde(default, deny_unknown_fields)]
pub struct ExpiryOrder {
    /// Return what would expire, and change nothing.
    pub dry_run: bool,
    /// Accept the system clock after a leap.
    pub accept_clock: bool,
}

/// What was written to the configuration file.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct WrittenFile {
    /// The file.
    pub file: String,
    /// Places whose limits it contains now.
    pub places: Vec<String>,
}

/// Retention of the store: limits, where they come from, and what is stored.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RetentionInfo {
    /// The volume of the store, if the system reports it.
    #[schema(required)]
    pub volume: Option<VolumeInfo>,
    /// The store, its datasets and their metrics.
    pub places: Vec<PlaceInfo>,
    /// Places whose runtime setting differs from the configuration file.
    pub differing: Vec<String>,
    /// Limits that are nearly reached or exceeded, files that need attention, and the state of the clock.
    pub warnings: Vec<String>,
    /// The configuration file, if the service has one.
    #[schema(required)]
    pub config_file: Option<String>,
}

/// One place and its limits.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct PlaceInfo {
    /// `store`, `dataset` or `metric`.
    pub kind: String,
    /// Its name: empty for the store, `velmar`, or `velmar::level`.
    pub name: String,
    /// How long points are kept.
    pub keep_for: LimitInfo,
    /// How much is kept.
    pub keep_under: LimitInfo,
    /// The runtime setting of this place itself.
    pub live: LimitSettings,
    /// The setting of this place itself in the configuration file.
    pub file: LimitSettings,
    /// Points in it; in `storage`, packed points only.
    pub points: u64,
    /// Bytes in it, with its part of the bin and its rollups.
    pub bytes: u64,
    /// Bytes of its points alone.
    pub packed_bytes: u64,
    /// Its earliest point.
    #[schema(required)]
    pub oldest: Option<String>,
    /// The forecast; none for a metric.
    #[schema(required)]
    pub outlook: Option<OutlookInfo>,
    /// The next expiry by age; for a dataset.
    #[serde(default)]
    #[schema(required)]
    pub next: Option<NextInfo>,
}

/// A limit in force.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct LimitInfo {
    /// Such as `90d` or `20GB`; none for no limit.
    #[schema(required)]
    pub limit: Option<String>,
    /// The place that sets it; none if there is no limit.
    #[schema(required)]
    pub place: Option<String>,
    /// `file`, `live`, or `built in`.
    pub source: String,
    /// Text for people.
    pub text: String,
}

/// Forecast of storage use.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct OutlookInfo {
    /// Points per day.
    pub points_a_day: f64,
    /// Bytes per day of points and rollups.
    pub bytes_a_day: f64,
    /// Bytes per day of rollups.
    #[serde(default)]
    #[schema(required)]
    pub rollup_bytes_a_day: f64,
    /// Number of days that were measured.
    pub over_days: f64,
    /// Maximum size in bytes, when as much expires as arrives; none if it grows without limit.
    #[schema(required)]
    pub at_rest: Option<f64>,
    /// Additional bytes per day of rollups without any limit.
    #[serde(default)]
    #[schema(required)]
    pub beside_a_day: f64,
    /// Time at which it stops growing; none if it never does, or has already.
    #[schema(required)]
    pub at_rest_from: Option<String>,
    /// Bytes in 30 days.
    pub in_30_days: f64,
    /// When the size limit is reached.
    #[schema(required)]
    pub reached: Option<String>,
    /// Days that fit under the size limit.
    #[schema(required)]
    pub days_that_fit: Option<f64>,
    /// Recommended size limit, if there is a limit by age.
    #[schema(required)]
    pub recommended: Option<f64>,
    /// The calculation of the recommended limit; empty if there is none.
    pub arithmetic: String,
}

/// The next expiry by age.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct NextInfo {
    /// Such as `velmar / 2026-05-07`.
    pub what: String,
    /// When it is old enough to expire.
    pub at: String,
    /// Its points.
    pub points: u64,
    /// Its bytes.
    pub bytes: u64,
}

/// The volume of the store.
#[derive(Clone, Copy, Debug, Serialize, Deserialize, ToSchema)]
pub struct VolumeInfo {
    /// Bytes of it.
    pub total: u64,
    /// Bytes that are free.
    pub free: u64,
    /// Bytes that always stay free.
    pub reserve: u64,
}
