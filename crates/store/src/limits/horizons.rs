//! First instants that are kept under limits by age.

use std::collections::HashMap;

use fenetre_core::{model::MetricId, time::Nanos};

/// First instants that are kept: of a dataset, and of its metrics with limits of their own.
#[derive(Clone, Debug, Default)]
pub struct Horizons {
    /// Of the dataset, if it has a limit.
    pub dataset: Option<Nanos>,
    /// Of metrics with limits of their own.
    pub metrics: HashMap<MetricId, Nanos>,
}

impl Horizons {
    /// Of metrics without a limit of their own.
    pub fn of_dataset(&self) -> Nanos {
        self.dataset.unwrap_or(Nanos::MIN)
    }

    /// Of a metric with limits of its own.
    pub fn own(&self, metric: MetricId) -> Option<Nanos> {
        self.metrics.get(&metric).copied()
    }

    /// Of a metric.
    pub fn of(&self, metric: MetricId) -> Nanos {
        self.metrics.get(&metric).copied().unwrap_or(self.of_dataset())
    }
}
