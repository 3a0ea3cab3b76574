//! Points of one series as columns, owned and borrowed.

use std::ops::Range;

use crate::{
    model::Value,
    time::{Nanos, TimeRange},
};

/// Points of one series as columns, in order of time unless stated otherwise.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Columns {
    /// Instants, ascending, each once.
    pub times: Vec<Nanos>,
    /// Values, beside them.
    pub values: Vec<f64>,
    /// What is missing from the values to integers that no double holds; empty where nothing is.
    pub rests: Vec<i16>,
}

/// Points of one series, borrowed.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Points<'a> {
    /// As in [`Columns`].
    pub times: &'a [Nanos],
    /// As in [`Columns`].
    pub values: &'a [f64],
    /// As in [`Columns`].
    pub rests: &'a [i16],
}

impl Columns {
    /// How many points.
    pub fn len(&self) -> usize {
        self.times.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.times.is_empty()
    }

    /// Forgets the points and keeps the memory.
    pub fn clear(&mut self) {
        self.truncate(0);
    }

    /// Keeps the first so many points.
    pub fn truncate(&mut self, length: usize) {
        self.times.truncate(length);
        self.values.truncate(length);
        self.rests.truncate(length);
    }

    /// Makes room for so many more points.
    pub fn reserve(&mut self, more: usize) {
        self.times.reserve(more);
        self.values.reserve(more);
    }

    /// Adds one point at the end.
    pub fn push(&mut self, time: Nanos, value: f64, rest: i16) {
        if rest != 0 && self.rests.is_empty() {
            self.rests.resize(self.len(), 0);
        }
        if rest != 0 || !self.rests.is_empty() {
            self.rests.push(rest);
        }
        self.times.push(time);
        self.values.push(value);
    }

    /// Adds points at the end.
    pub fn extend(&mut self, more: Points<'_>) {
        if !more.rests.is_empty() || !self.rests.is_empty() {
            self.rests.resize(self.len(), 0);
            self.rests.extend_from_slice(more.rests);
            self.rests.resize(self.len() + more.len(), 0);
        }
        self.times.extend_from_slice(more.times);
        self.values.extend_from_slice(more.values);
    }

    /// All points.
    pub fn points(&self) -> Points<'_> {
        Points { times: &self.times, values: &self.values, rests: &self.rests }
    }
}

impl<'a> Points<'a> {
    /// Points without integers beyond what doubles hold.
    pub fn of(times: &'a [Nanos], values: &'a [f64]) -> Self {
        Self { times, values, rests: &[] }
    }

    /// How many points.
    pub fn len(&self) -> usize {
        self.times.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.times.is_empty()
    }

    /// What is missing from a value to the integer that it stands for.
    pub fn rest(&self, at: usize) -> i16 {
        self.rests.get(at).copied().unwrap_or(0)
    }

    /// One value, as it leaves.
    pub fn value(&self, at: usize) -> Value {
        Value::of_number(self.values[at], self.rest(at))
    }

    /// The points at some places.
    pub fn slice(&self, places: Range<usize>) -> Self {
        let rests = self.rests.get(places.clone()).unwrap_or_default();
        Self { times: &self.times[places.clone()], values: &self.values[places], rests }
    }

    /// Places of the points inside a range; the points are in order.
    pub fn places_in(&self, range: TimeRange) -> Range<usize> {
        let start = self.times.partition_point(|at| *at < range.start);
        start..self.times.partition_point(|at| *at < range.end).max(start)
    }

    /// As columns of their own.
    pub fn to_columns(self) -> Columns {
        Columns { times: self.times.to_vec(), values: self.values.to_vec(), rests: self.rests.to_vec() }
    }
}
