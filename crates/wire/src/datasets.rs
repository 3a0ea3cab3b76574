//! Datasets with their metrics and tags.

use fenetre_core::model::{DatasetDefinition, MetricDefinition, TagDefinition};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A dataset and its content.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DatasetInfo {
    /// Its name.
    pub name: String,
    /// Its definition: `zone`, `description`, `closed` and limits.
    #[serde(flatten)]
    pub definition: DatasetDefinition,
    /// Former names, which may still be used.
    #[serde(default)]
    #[schema(required)]
    pub old_names: Vec<String>,
    /// Metrics.
    pub metrics: u64,
    /// Metrics that were created on arrival and not reviewed yet.
    #[serde(default)]
    #[schema(required)]
    pub unreviewed: u64,
    /// Series.
    pub series: u64,
    /// Points and when they begin and end.
    #[serde(flatten)]
    pub stored: Stored,
}

/// Points, counted.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct Stored {
    /// Number of points.
    pub points: u64,
    /// Time of the earliest.
    #[schema(required)]
    pub first: Option<String>,
    /// Time of the latest.
    #[schema(required)]
    pub last: Option<String>,
}

/// Result of a definition.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Defined {
    /// Whether it is new.
    pub created: bool,
}

/// A metric and its content.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct MetricInfo {
    /// Its name.
    pub name: String,
    /// Permanent id, which survives renaming.
    #[serde(default)]
    #[schema(required)]
    pub id: u32,
    /// Its definition: `kind`, `unit`, `shape`, `description`, `status` and so on.
    #[serde(flatten)]
    pub definition: MetricDefinition,
    /// Former names, which may still be used.
    #[serde(default)]
    #[schema(required)]
    pub old_names: Vec<String>,
    /// Keys of the tags that its series carry.
    pub tags: Vec<String>,
    /// Series.
    pub series: u64,
    /// Points that its thinning has seen, and those that it dropped.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub thinned: Option<Thinned>,
    /// Points and when they begin and end.
    #[serde(flatten)]
    pub stored: Stored,
}

/// Effect of thinning.
#[derive(Clone, Copy, Debug, Serialize, Deserialize, ToSchema)]
pub struct Thinned {
    /// Points that arrived.
    pub came: u64,
    /// Points that were not stored.
    pub left_out: u64,
}

/// A tag key and its values.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TagInfo {
    /// The key.
    pub key: String,
    /// Its definition: `description`, `required`, `allowed`, `pattern`, `max_values`; none if it has none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub definition: Option<TagDefinition>,
    /// Old keys, which may still be used.
    #[serde(default)]
    #[schema(required)]
    pub old_keys: Vec<String>,
    /// Values, in order.
    pub values: Vec<TagValue>,
}

/// A value of a tag.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TagValue {
    /// The value.
    pub value: String,
    /// Series that have it.
    pub series: u64,
}

/// A new name.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Rename {
    /// New name.
    pub to: String,
}

/// Result of a rename.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Renamed {
    /// References by the old name, which may still be used.
    pub references: Vec<Reference>,
}

/// Result of defining a metric.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct DefinedMetric {
    /// Whether it is new.
    pub created: bool,
    /// Its points, if they were converted.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub converted: Option<ConvertedPoints>,
    /// What is wrong with its unit.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub note: Option<String>,
}

/// Points that were converted, or would be.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct ConvertedPoints {
    /// Number of points.
    pub points: u64,
    /// Points that cannot be converted, and stay only in the bin with the old metric.
    pub unfit: u64,
    /// Some of their values.
    pub examples: Vec<String>,
}

/// An old name to be removed.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct OldName {
    /// `dataset`, `metric` or `tag`.
    pub kind: String,
    /// The dataset of a metric or tag.
    #[serde(default)]
    pub dataset: Option<String>,
    /// The old name.
    pub name: String,
}

/// A reference by name.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Reference {
    /// Kind, such as `mapping` or `import`.
    pub kind: String,
    /// Its name.
    pub name: String,
    /// How it refers to the other, as text.
    pub how: String,
}
