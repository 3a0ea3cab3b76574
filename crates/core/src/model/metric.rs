//! What a metric is.

use std::fmt;

use serde::{Deserialize, Serialize};

use super::Thinning;
use crate::time::Span;

/// Kind of a metric's values, which decides what may be asked of them.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
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

/// Course of a metric between two points.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
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

/// Meaning of the values of a counter or histogram.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum Temporality {
    /// Everything since the meter began; a smaller value than the one before is a reset.
    Cumulative,
    /// What came since the point before.
    Delta,
}

/// Status of a metric.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum Status {
    /// They are.
    #[default]
    Active,
    /// Not for now; history stays.
    Paused,
    /// Never again; history stays.
    Retired,
}

impl Status {
    /// Its name in text.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Active => "active",
            Self::Paused => "paused",
            Self::Retired => "retired",
        }
    }

    /// The status of that name.
    pub fn from_name(name: &str) -> Option<Self> {
        [Self::Active, Self::Paused, Self::Retired].into_iter().find(|status| status.as_str() == name)
    }
}

/// Treatment of points of a paused or retired metric.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum WhenPaused {
    /// They are rejects.
    #[default]
    Refuse,
    /// They are counted and passed over, so that senders see no failure.
    Drop,
}

/// Definition of a metric, by a person or by the first body that contained it.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(default, deny_unknown_fields)]
pub struct MetricDefinition {
    /// `gauge`, `counter`, `state` or `histogram`.
    pub kind: Kind,
    /// UCUM code of the unit; none for states and plain numbers.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub unit: Option<String>,
    /// `linear` or `stepped`.
    pub shape: Shape,
    /// One sentence.
    pub description: String,
    /// Temporality of a counter or histogram (default: cumulative for counters, delta for histograms).
    #[serde(skip_serializing_if = "Option::is_none")]
    pub temporality: Option<Temporality>,
    /// Expected time between two points of a series.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub interval: Option<Span>,
    /// Time without a point after which a series counts as silent.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub stale_after: Option<Span>,
    /// Labels, to group metrics by.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub labels: Vec<String>,
    /// `active`, `paused` or `retired`.
    pub status: Status,
    /// What happens to points while it is paused or retired: `refuse` or `drop`.
    pub when_paused: WhenPaused,
    /// Whether it was created on arrival and not reviewed since.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub unreviewed: bool,
    /// Maximum number of series; the limit of its dataset applies as well.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub max_series: Option<u32>,
    /// Thinning: which points are dropped.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub thinning: Option<Thinning>,
}

impl MetricDefinition {
    /// What each value counts, where that is a question.
    pub fn temporality(&self) -> Option<Temporality> {
        match self.kind {
            Kind::Counter => Some(self.temporality.unwrap_or(Temporality::Cumulative)),
            Kind::Histogram => Some(self.temporality.unwrap_or(Temporality::Delta)),
            Kind::Gauge | Kind::State => None,
        }
    }

    /// Checks whether its parts make sense together.
    ///
    /// # Errors
    /// What is wrong, in a sentence.
    pub fn check(&self) -> Result<(), String> {
        if self.temporality.is_some() && self.temporality().is_none() {
            return Err(format!("only counters and histograms have a `temporality`; this is a {}", self.kind));
        }
        if self.thinning.is_some() && self.kind != Kind::Gauge {
            return Err(format!("thinning is for gauges, and this is a {}", self.kind));
        }
        if let Some(unit) = &self.unit
            && (unit.is_empty() || unit.len() > 60 || unit.chars().any(char::is_control))
        {
            return Err("a unit is a UCUM code of 1 to 60 characters, such as cm or Cel; omit it if there is none".to_owned());
        }
        if let Some(label) = self.labels.iter().find(|label| label.is_empty() || label.contains([' ', ','])) {
            return Err(format!("invalid label `{label}`: labels have no spaces and no commas"));
        }
        self.thinning.as_ref().map_or(Ok(()), Thinning::check)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn temporality_applies_to_counters_and_histograms() {
        let of = |kind, temporality| MetricDefinition { kind, temporality, ..MetricDefinition::default() };
        assert_eq!(of(Kind::Counter, None).temporality(), Some(Temporality::Cumulative));
        assert_eq!(of(Kind::Histogram, None).temporality(), Some(Temporality::Delta));
        assert_eq!(of(Kind::Histogram, Some(Temporality::Cumulative)).temporality(), Some(Temporality::Cumulative));
        assert_eq!(of(Kind::Gauge, None).temporality(), None);
        assert!(of(Kind::State, Some(Temporality::Delta)).check().is_err());
    }

    #[test]
    fn inconsistent_definitions_are_refused() {
        let default = MetricDefinition::default;
        let wrong = [
            MetricDefinition { unit: Some(String::new()), ..default() },
            MetricDefinition { unit: Some("c\u{7}m".into()), ..default() },
            MetricDefinition { labels: vec!["two words".into()], ..default() },
            MetricDefinition { labels: vec![String::new()], ..default() },
            MetricDefinition { thinning: Some(Thinning::default()), ..default() },
            MetricDefinition { kind: Kind::Counter, thinning: Some(Thinning { line_tolerance: Some(1.0), ..Thinning::default() }), ..default() },
        ];
        assert!(wrong.iter().all(|definition| definition.check().is_err()));
        assert_eq!(default().check(), Ok(()));
    }

    #[test]
    fn a_definition_serialises_only_the_fields_that_were_set() {
        let text = serde_json::to_string(&MetricDefinition::default()).unwrap();
        assert_eq!(text, r#"{"kind":"gauge","shape":"linear","description":"","status":"active","when_paused":"refuse"}"#);
        let full: MetricDefinition =
            serde_json::from_str(r#"{"kind":"counter","interval":"1m","stale_after":"PT5M","status":"retired","thinning":null}"#).unwrap();
        assert_eq!(
            (full.kind, full.interval.unwrap().to_string(), full.stale_after.unwrap().to_string(), full.status),
            (Kind::Counter, "1m".into(), "5m".into(), Status::Retired)
        );
        assert!(serde_json::from_str::<MetricDefinition>(r#"{"knid":"gauge"}"#).is_err());
        for status in [Status::Active, Status::Paused, Status::Retired] {
            assert_eq!(Status::from_name(status.as_str()), Some(status));
        }
    }
}
