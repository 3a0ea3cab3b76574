//! A point on its way in: what readers of formats hand over, borrowed from the bytes that came.

use super::Histogram;
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

/// Why a point was not taken.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Refusal {
    /// The column or field at fault, if one is.
    pub field: Option<String>,
    /// What is wrong with it and what to do.
    pub reason: String,
}

impl Refusal {
    /// A refusal because of one field.
    pub fn of(field: impl Into<String>, reason: impl Into<String>) -> Self {
        Self { field: Some(field.into()), reason: reason.into() }
    }
}

/// Where readers put the points that they find.
pub trait PointSink {
    /// Takes one point.
    ///
    /// # Errors
    /// [`Refusal`] where it breaks a rule; the points after it can still be taken.
    fn accept(&mut self, point: PointRef<'_>) -> Result<(), Refusal>;
}
