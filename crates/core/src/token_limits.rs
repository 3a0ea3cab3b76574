//! Limits of a token, as they are stored and as they are sent.

use serde::{Deserialize, Serialize};

/// Limits of a token, each at least 1. The limits of the service apply too.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(default, deny_unknown_fields)]
pub struct TokenLimits {
    /// Seconds that a query may run.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub query_seconds: Option<u64>,
    /// Series that a query may match.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub query_series: Option<u64>,
    /// Points that a query may read.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub query_points: Option<u64>,
    /// Points per second.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub points_per_second: Option<u64>,
    /// Queries per second.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub queries_per_second: Option<u64>,
}

impl TokenLimits {
    /// Whether there are none.
    pub fn is_none(&self) -> bool {
        *self == Self::default()
    }

    /// Each with its name.
    pub fn named(&self) -> [(&'static str, Option<u64>); 5] {
        [
            ("query_seconds", self.query_seconds),
            ("query_series", self.query_series),
            ("query_points", self.query_points),
            ("points_per_second", self.points_per_second),
            ("queries_per_second", self.queries_per_second),
        ]
    }
}
