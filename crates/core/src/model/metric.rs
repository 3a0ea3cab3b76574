//! What a metric is.

use std::fmt;

use serde::{Deserialize, Serialize};

/// What kind of thing a metric's values are, which decides what may be asked of them.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Kind {
    /// A number that goes up and down.
    #[default]
    Gauge,
    /// A number that only grows, and begins anew when its meter is reset.
    Counter,
    /// A word out of a few.
    State,
    /// A distribution: counts of observations between bounds.
    Histogram,
}

impl Kind {
    /// Its name in text.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Gauge => "gauge",
            Self::Counter => "counter",
            Self::State => "state",
            Self::Histogram => "histogram",
        }
    }

    /// Whether its values are of the same sort as those of another kind, so that a metric may become it after its first point.
    pub fn is_like(self, other: Self) -> bool {
        let plain = |kind| matches!(kind, Self::Gauge | Self::Counter);
        self == other || (plain(self) && plain(other))
    }

    /// The kind of that name.
    pub fn from_name(name: &str) -> Option<Self> {
        [Self::Gauge, Self::Counter, Self::State, Self::Histogram].into_iter().find(|kind| kind.as_str() == name)
    }
}

impl fmt::Display for Kind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.as_str())
    }
}

/// How a metric runs between two points.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Shape {
    /// Along the line between them.
    #[default]
    Linear,
    /// At the earlier one's value until the later one.
    Stepped,
}

impl Shape {
    /// Its name in text.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Linear => "linear",
            Self::Stepped => "stepped",
        }
    }

    /// The shape of that name.
    pub fn from_name(name: &str) -> Option<Self> {
        [Self::Linear, Self::Stepped].into_iter().find(|shape| shape.as_str() == name)
    }
}

/// What a person says of a metric.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct MetricDefinition {
    /// `gauge`, `counter`, `state` or `histogram`.
    pub kind: Kind,
    /// UCUM code of the unit; none for states and plain numbers.
    pub unit: Option<String>,
    /// `linear` or `stepped`.
    pub shape: Shape,
    /// One sentence.
    pub description: String,
}
