//! Units of what is computed, as UCUM codes.
//!
//! UCUM (the Unified Code for Units of Measure) is an open standard; a library knows its units. A code that it does not know is a unit of its own:
//! like only to itself.

use octofhir_ucum::{convert, is_comparable, validate};

/// How values in one unit become values in another: `value * factor + offset`.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Conversion {
    /// What they are multiplied with.
    pub factor: f64,
    /// What is added then; of temperatures, whose zeros differ.
    pub offset: f64,
}

impl Conversion {
    /// Changes nothing.
    pub const NONE: Self = Self { factor: 1.0, offset: 0.0 };
}

/// Whether the standard has such a code.
pub fn is_known(code: &str) -> bool {
    validate(code).is_ok()
}

/// How values in `from` become values in `to`; none where they measure different things, or one of them is unknown and they are not the same.
pub fn conversion(from: &str, to: &str) -> Option<Conversion> {
    if from == to {
        return Some(Conversion::NONE);
    }
    if !is_comparable(from, to).ok()? {
        return None;
    }
    // Between units of the standard values run along a line, but for logarithmic ones; a third point tells these.
    let at = |value: f64| convert(value, from, to).ok().filter(|value| value.is_finite());
    let (zero, one, hundred) = (at(0.0)?, at(1.0)?, at(100.0)?);
    let slope = tidy((hundred - zero) / 100.0);
    let is_straight = (one - zero - slope).abs() <= 1e-9 * slope.abs().max(1e-300);
    is_straight.then(|| Conversion { factor: slope, offset: tidy(zero) })
}

/// Without the digits that arithmetic in binary leaves behind.
fn tidy(number: f64) -> f64 {
    format!("{number:.14e}").parse().unwrap_or(number)
}

/// Whether a unit counts as a plain number.
fn is_one(code: &str) -> bool {
    code == "1"
}

/// The unit of a product.
pub fn product(left: Option<&str>, right: Option<&str>) -> Option<String> {
    match (left.filter(|code| !is_one(code)), right.filter(|code| !is_one(code))) {
        (Some(left), Some(right)) => Some(format!("{}.{}", left, grouped(right, '/'))),
        (one, other) => one.or(other).map(str::to_owned),
    }
}

/// The unit of a quotient, and the factor that makes a plain number of it where both measure the same.
pub fn quotient(left: Option<&str>, right: Option<&str>) -> (Option<String>, f64) {
    match (left.filter(|code| !is_one(code)), right.filter(|code| !is_one(code))) {
        (Some(left), Some(right)) => match conversion(left, right) {
            // Ratios of readings on scales with different zeros have no meaning as they stand; they stay what they are.
            Some(Conversion { factor, offset: 0.0 }) => (None, factor),
            _ => (Some(format!("{left}/{}", grouped(right, '.'))), 1.0),
        },
        (Some(left), None) => (Some(left.to_owned()), 1.0),
        (None, Some(right)) => (Some(format!("/{}", grouped(right, '.'))), 1.0),
        (None, None) => (None, 1.0),
    }
}

/// A code within a product or quotient: in parentheses where it holds an operator itself.
fn grouped(code: &str, operator: char) -> String {
    let outside = code.split('{').next().unwrap_or_default();
    if outside.contains('/') || outside.contains(operator) { format!("({code})") } else { code.to_owned() }
}

/// The unit by second.
pub fn per_second(unit: Option<&str>) -> String {
    quotient(unit, Some("s")).0.unwrap_or_else(|| "1".to_owned())
}

/// The unit times seconds.
pub fn times_seconds(unit: Option<&str>) -> String {
    product(unit, Some("s")).unwrap_or_else(|| "s".to_owned())
}

/// The unit times itself.
pub fn squared(unit: &str) -> String {
    let is_simple = unit.chars().all(|c| c.is_ascii_alphabetic());
    if is_simple { format!("{unit}2") } else { format!("({unit})2") }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn lengths_and_temperatures_are_converted_and_others_are_not() {
        assert_eq!(conversion("cm", "m"), Some(Conversion { factor: 0.01, offset: 0.0 }));
        assert_eq!(conversion("kW.h", "J"), Some(Conversion { factor: 3.6e6, offset: 0.0 }));
        assert_eq!(conversion("Cel", "K"), Some(Conversion { factor: 1.0, offset: 273.15 }));
        assert_eq!(conversion("{boat}", "{boat}"), Some(Conversion::NONE));
        assert_eq!(conversion("cm", "kW.h"), None);
        assert_eq!(conversion("furlongs of old", "m"), None);
    }

    #[test]
    fn units_are_put_together() {
        assert_eq!(product(Some("m3/h"), Some("h")), Some("m3/h.h".to_owned()));
        assert_eq!(product(None, Some("cm")), Some("cm".to_owned()));
        assert_eq!(quotient(Some("kW.h"), Some("{boat}")), (Some("kW.h/{boat}".to_owned()), 1.0));
        assert_eq!(quotient(Some("m"), Some("cm")), (None, 100.0));
        assert_eq!(quotient(Some("W"), Some("m.s")).0, Some("W/(m.s)".to_owned()));
        assert_eq!((per_second(Some("m3")), per_second(None), squared("cm")), ("m3/s".to_owned(), "/s".to_owned(), "cm2".to_owned()));
    }

    proptest! {
        #[test]
        fn there_and_back_is_where_it_was(value in -1e6f64..1e6, pair in prop::sample::select(vec![("cm", "m"), ("Cel", "K"), ("[degF]", "Cel"), ("m3/h", "L/s"), ("min", "h")])) {
            let (there, back) = (conversion(pair.0, pair.1).unwrap(), conversion(pair.1, pair.0).unwrap());
            let away = value * there.factor + there.offset;
            prop_assert!((away * back.factor + back.offset - value).abs() < 1e-6 * value.abs().max(1.0));
        }
    }
}
