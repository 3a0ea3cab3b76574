//! Series and their latest points, in pages.

use std::collections::BTreeMap;

use fenetre_core::{model::Value, schema::PointValue};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::{datasets::Stored, sources::SeriesTrouble};

/// A page of a list.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Page<T> {
    /// Total number of rows.
    pub total: u64,
    /// Rows of this page.
    pub items: Vec<T>,
}

/// A series and its content.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SeriesInfo {
    /// Its metric.
    pub metric: String,
    /// Its tags.
    pub tags: BTreeMap<String, String>,
    /// Points and when they begin and end.
    #[serde(flatten)]
    pub stored: Stored,
    /// Trouble, if a source watches the series.
    #[schema(required)]
    pub trouble: Option<SeriesTrouble>,
}

/// A series' latest point.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LatestPoint {
    /// Its metric.
    pub metric: String,
    /// Its tags.
    pub tags: BTreeMap<String, String>,
    /// Its time; none if the series has no points.
    #[schema(required)]
    pub time: Option<String>,
    /// A number, or a word of a state.
    #[schema(required, value_type = Option<PointValue>)]
    pub value: Option<Value>,
    /// UCUM code of its unit.
    #[schema(required)]
    pub unit: Option<String>,
    /// Trouble, if a source watches the series.
    #[schema(required)]
    pub trouble: Option<SeriesTrouble>,
}
