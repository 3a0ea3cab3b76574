//! Rollup policies, as they are defined.

use jiff::tz::TimeZone;
use serde::{Deserialize, Serialize};

use crate::time::{Nanos, Span};

/// A rollup policy of a dataset.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct RollupPolicy {
    /// Names of metrics, with `*` for any letters (default: all metrics).
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub metrics: Vec<String>,
    /// Condition on their series, as in `where` (default: all).
    #[serde(default, rename = "where", skip_serializing_if = "Option::is_none")]
    pub condition: Option<String>,
    /// IANA name of the zone of calendar levels (default: the dataset's).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub zone: Option<String>,
    /// The finest first.
    pub levels: Vec<RollupLevel>,
    /// Time after the end of a window in which it waits for late points before it is made; points after that rebuild it.
    #[serde(default = "lateness", skip_serializing_if = "is_lateness")]
    pub lateness: Span,
}

/// One level.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct RollupLevel {
    /// Width of its windows.
    pub width: Span,
    /// Retention of the level (default: no limit).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub keep_for: Option<Span>,
}

fn lateness() -> Span {
    Span::exact(600_000_000_000)
}

fn is_lateness(span: &Span) -> bool {
    *span == lateness()
}

impl RollupPolicy {
    /// How long a window waits after its end, in nanoseconds.
    pub fn lateness_nanos(&self) -> Nanos {
        0i64.saturating_sub(self.lateness.before(0, &TimeZone::UTC))
    }
}
