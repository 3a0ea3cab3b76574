//! What evaluation must know of a metric.

use std::sync::Arc;

use super::{Kind, Shape, Temporality};
use crate::time::Nanos;

/// What evaluation must know of a metric.
#[derive(Clone, Debug, PartialEq)]
pub struct MetricTraits {
    /// Its name.
    pub metric: Arc<str>,
    /// What kind of values it has.
    pub kind: Kind,
    /// How it runs between two points.
    pub shape: Shape,
    /// What a counter or histogram counts.
    pub temporality: Temporality,
    /// After how many nanoseconds without a point a series counts as silent.
    pub stale_after: Option<Nanos>,
    /// How many nanoseconds lie between two of its points.
    pub interval: Option<Nanos>,
}
