//! The service at a glance.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::{datasets::Stored, storage::StorageInfo};

/// Overview of the store.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Overview {
    /// Version of the service.
    pub version: String,
    /// Start of the service.
    pub started: String,
    /// Time of the service.
    pub now: String,
    /// Points per second over the last ten whole seconds.
    pub points_per_second: f64,
    /// Arrivals of the last ten minutes, in steps of ten seconds, oldest first.
    pub arrivals: Vec<ArrivalStep>,
    /// Datasets.
    pub datasets: u64,
    /// Metrics of all datasets.
    pub metrics: u64,
    /// Series of all datasets.
    pub series: u64,
    /// Points of all datasets and when they begin and end.
    #[serde(flatten)]
    pub stored: Stored,
    /// Its size.
    pub storage: StorageInfo,
}

/// Arrivals of ten seconds.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ArrivalStep {
    /// First instant.
    pub start: String,
    /// Accepted points.
    pub accepted: u64,
    /// Rejected points and rows.
    pub rejected: u64,
}
