//! A point on its way in: what readers of formats hand over, borrowed from the bytes that came.

use serde::{Deserialize, Serialize};

use super::{Histogram, Kind, Temporality};
use crate::time::Nanos;

/// A value as it arrived.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum ValueRef<'a> {
    /// A finite number.
    Number(f64),
    /// An integer of 64 bits, for those that no double holds.
    Integer(i128),
    /// A word of a state.
    Word(&'a str),
    /// A distribution.
    Histogram(&'a Histogram),
}

/// One point, as a reader found it.
#[derive(Clone, Copy, Debug)]
pub struct PointRef<'a> {
    /// Name of the metric.
    pub metric: &'a str,
    /// Keys and values, in the order in which they came.
    pub tags: &'a [(&'a str, &'a str)],
    /// The instant.
    pub time: Nanos,
    /// The value.
    pub value: ValueRef<'a>,
}

/// What a body says of a metric, beside its points.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct About<'a> {
    /// Its kind.
    pub kind: Option<Kind>,
    /// UCUM code of its unit.
    pub unit: Option<&'a str>,
    /// One sentence.
    pub description: Option<&'a str>,
    /// What each value counts.
    pub temporality: Option<Temporality>,
}

/// What became of an [`About`].
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Described {
    /// What the sender should know: contradictions, conversions.
    pub note: Option<String>,
    /// The stated unit cannot be converted to the metric's: its values will be refused.
    pub is_unfit: bool,
}

/// Reason of a rejection, by which rejections are counted.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Cause {
    /// The row or object cannot be read.
    #[default]
    Unreadable,
    /// There is no time, or it is none.
    Time,
    /// The time lies too far ahead.
    Future,
    /// The time lies before what is kept.
    Past,
    /// The value is missing, or not of the metric's kind.
    Value,
    /// The value is in a unit that cannot be converted to the metric's.
    Unit,
    /// The value is not a number, or infinite.
    NotFinite,
    /// A name, tag or tag's value breaks a rule.
    Tag,
    /// The dataset is closed, and does not know the metric or the tag.
    Unknown,
    /// A new series past a limit.
    Limit,
    /// The metric is paused or retired.
    Paused,
    /// The sender may not write the metric.
    Access,
}

impl Cause {
    /// In words, for lists.
    pub fn describe(self) -> &'static str {
        match self {
            Self::Unreadable => "cannot be read",
            Self::Time => "no usable time",
            Self::Future => "too far in the future",
            Self::Past => "older than is kept",
            Self::Value => "no usable value",
            Self::Unit => "in a unit that does not fit",
            Self::NotFinite => "not a finite number",
            Self::Tag => "a name or tag breaks a rule",
            Self::Unknown => "unknown in a closed dataset",
            Self::Limit => "past a limit on series",
            Self::Paused => "metric paused or retired",
            Self::Access => "not allowed for the sender",
        }
    }
}

/// Why a point was not taken.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Refusal {
    /// The column or field at fault, if one is.
    pub field: Option<String>,
    /// What is wrong with it and what to do.
    pub reason: String,
    /// Code of the reason.
    pub cause: Cause,
}

impl Refusal {
    /// A refusal because of one field.
    pub fn of(cause: Cause, field: impl Into<String>, reason: impl Into<String>) -> Self {
        Self { field: Some(field.into()), reason: reason.into(), cause }
    }
}

/// A series that a sink has met.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct KnownSeries(pub u32);

/// Where readers put the points that they find.
pub trait PointSink {
    /// Takes one point.
    ///
    /// # Errors
    /// [`Refusal`] if it breaks a rule; the points after it can still be taken.
    fn accept(&mut self, point: PointRef<'_>) -> Result<(), Refusal>;

    /// The series of the point that was taken last, for those after it: readers that know which of their points share a series need not name
    /// it again and again. It holds as long as the sink.
    fn last_series(&self) -> Option<KnownSeries> {
        None
    }

    /// Takes another point of a series.
    ///
    /// # Errors
    /// As for one that names it; `metric` is what the refusal calls it.
    fn accept_again(&mut self, _series: KnownSeries, metric: &str, _time: Nanos, _value: ValueRef<'_>) -> Result<(), Refusal> {
        Err(Refusal::of(Cause::Unreadable, metric, "its series was never met"))
    }

    /// Takes metadata of a metric from the body: it defines a new metric, and fills unset fields of an existing one. From here
    /// on the metric's values come in the stated unit, and are converted to the metric's own.
    fn describe(&mut self, _metric: &str, _about: About<'_>) -> Described {
        Described::default()
    }

    /// The kind of a metric that is known, or that this sink has met.
    fn kind_of(&self, _metric: &str) -> Option<Kind> {
        None
    }
}
