//! Lines of values as they pass from step to step.

use crate::{model::Value, time::Nanos};

/// Marks of windows on either of two sides.
pub fn either(one: Option<Vec<bool>>, other: Option<&[bool]>) -> Option<Vec<bool>> {
    match (one, other) {
        (Some(mut one), Some(other)) => {
            one.iter_mut().zip(other).for_each(|(one, other)| *one |= other);
            Some(one)
        }
        (one, other) => one.or_else(|| other.map(<[bool]>::to_vec)),
    }
}

/// Lines of values, all of the same length.
#[derive(Clone, Debug, Default)]
pub struct Table {
    pub rows: Vec<Row>,
}

/// One line.
#[derive(Clone, Debug, Default)]
pub struct Row {
    /// A number for each window; not a number where it is empty.
    pub numbers: Vec<f64>,
    /// The values where numbers are not all there is to them: words, integers beyond 2^53, histograms.
    pub exact: Option<Vec<Option<Value>>>,
    /// Which values were put into empty windows.
    pub filled: Option<Vec<bool>>,
    /// Which values lack something that can no longer be read.
    pub partial: Option<Vec<bool>>,
    /// When the values are from, at a moment.
    pub times: Option<Vec<Option<Nanos>>>,
}

impl Row {
    pub fn of(numbers: Vec<f64>) -> Self {
        Self { numbers, ..Self::default() }
    }

    /// Of values, numbers or not.
    pub fn of_values(values: Vec<Option<Value>>) -> Self {
        let is_plain = values.iter().flatten().all(|value| matches!(value, Value::Number(_)));
        let number = |value: &Option<Value>| value.as_ref().and_then(Value::number).unwrap_or(f64::NAN);
        Self { numbers: values.iter().map(number).collect(), exact: (!is_plain).then_some(values), ..Self::default() }
    }

    /// Marks windows whose values lack something.
    pub fn mark_partial(&mut self, windows: &[bool]) {
        self.partial = either(self.partial.take(), Some(windows));
    }

    /// Whether the value of a window lacks something.
    pub fn is_partial(&self, at: usize) -> bool {
        self.partial.as_ref().is_some_and(|partial| partial[at])
    }

    /// Whether a window is empty.
    pub fn is_empty(&self, at: usize) -> bool {
        match &self.exact {
            Some(exact) => exact[at].is_none(),
            None => self.numbers[at].is_nan(),
        }
    }

    /// Its values as they leave; what is not finite leaves empty.
    pub fn into_values(self) -> Vec<Option<Value>> {
        let Self { numbers, exact, .. } = self;
        exact.unwrap_or_else(|| numbers.into_iter().map(|number| number.is_finite().then_some(Value::Number(number))).collect())
    }
}
