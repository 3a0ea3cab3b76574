//! Many definitions at once.

use std::collections::BTreeMap;

use fenetre_core::model::MetricDefinition;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Definitions of many metrics.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(default, deny_unknown_fields)]
pub struct MetricDefinitions {
    /// By name.
    pub metrics: BTreeMap<String, MetricDefinition>,
    /// Return the changes, and change nothing.
    pub dry_run: bool,
}

/// Differences between new and current definitions.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct Differences {
    /// New metrics.
    pub new: Vec<String>,
    /// Metrics whose definition changes.
    pub changed: Vec<Change>,
    /// Metrics that stay as they are.
    pub same: u64,
    /// Whether they were applied.
    pub applied: bool,
}

/// One difference.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Change {
    /// The metric.
    pub metric: String,
    /// The field.
    pub field: String,
    /// Current value.
    pub before: String,
    /// New value.
    pub after: String,
}
