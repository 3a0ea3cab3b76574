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

    /// A value in the other unit. A hundredth is not a double, a hundred is: 57 cm are 0.57 m, not 0.5700000000000001.
    pub fn apply(self, value: f64) -> f64 {
        let divisor = (1.0 / self.factor).round();
        let divides = self.factor.abs() < 1.0 && ((1.0 / self.factor) - divisor).abs() < 1e-9 * divisor.abs();
        (if divides { value / divisor } else { value * self.factor }) + self.offset
    }

    /// The sum of `count` values in the other unit.
    pub fn apply_to_sum(self, sum: f64, count: u64) -> f64 {
        let factor_only = Self { offset: 0.0, ..self };
        factor_only.apply(sum) + self.offset * count as f64
    }
}

/// Whether the standard has such a code.
pub fn is_known(code: &str) -> bool {
    validate(code).is_ok()
}

/// Codes whose symbol for people is another.
const SYMBOLS: [(&str, &str); 6] = [("Cel", "°C"), ("[degF]", "°F"), ("Ohm", "Ω"), ("deg", "°"), ("mm[Hg]", "mmHg"), ("1", "")];
/// Units that are written directly behind another one, such as the hour in kWh.
const JOINED: [&str; 1] = ["h"];

/// A unit as people write it: `m³/s` for `m3/s`, `°C` for `Cel`, `boats` for `{boat}`. Machine formats have the code. The console does the same in
/// `console/src/format/units.ts`; both are tested with `unit_text.tsv`.
pub fn text(code: &str) -> String {
    if let Some((_, symbol)) = SYMBOLS.iter().find(|(known, _)| *known == code) {
        return (*symbol).to_owned();
    }
    let part = |part: &str| {
        let mut text = String::new();
        for factor in part.split('.') {
            if !text.is_empty() && !JOINED.contains(&factor) {
                text.push('·');
            }
            text += &factor_text(factor);
        }
        text
    };
    code.split('/').map(part).collect::<Vec<_>>().join("/")
}

/// One factor of a unit, such as `m3` or `{boat}`.
fn factor_text(factor: &str) -> String {
    if let Some(name) = factor.strip_prefix('{').and_then(|rest| rest.strip_suffix('}')) {
        // Abbreviations have no plural.
        let is_counted = name.chars().all(|letter| letter.is_lowercase()) && !name.ends_with('s');
        return if is_counted { format!("{name}s") } else { name.to_owned() };
    }
    if let Some((_, symbol)) = SYMBOLS.iter().find(|(known, _)| *known == factor && factor != "1") {
        return (*symbol).to_owned();
    }
    let end = factor.trim_end_matches(|letter: char| letter.is_ascii_digit()).trim_end_matches('-').len();
    let (unit, exponent) = factor.split_at(end);
    if unit.is_empty() {
        return factor.to_owned();
    }
    // The prefix micro; `u` alone is the atomic mass.
    let unit = match unit.strip_prefix('u') {
        Some(rest) if !rest.is_empty() => format!("µ{rest}"),
        _ => unit.to_owned(),
    };
    let raised = exponent.chars().map(|digit| match digit {
        '-' => '⁻',
        digit => ['⁰', '¹', '²', '³', '⁴', '⁵', '⁶', '⁷', '⁸', '⁹'][digit.to_digit(10).unwrap_or(0) as usize],
    });
    unit.chars().chain(raised).collect()
}

/// Names and other spellings that people use, with the codes of the standard.
const SPELLINGS: [(&str, &str); 44] = [
    ("°c", "Cel"),
    ("c", "Cel"),
    ("celsius", "Cel"),
    ("degc", "Cel"),
    ("deg c", "Cel"),
    ("°f", "[degF]"),
    ("fahrenheit", "[degF]"),
    ("degf", "[degF]"),
    ("kelvin", "K"),
    ("kwh", "kW.h"),
    ("wh", "W.h"),
    ("mwh", "MW.h"),
    ("ah", "A.h"),
    ("mah", "mA.h"),
    ("kw", "kW"),
    ("watt", "W"),
    ("watts", "W"),
    ("volt", "V"),
    ("volts", "V"),
    ("ampere", "A"),
    ("amperes", "A"),
    ("amp", "A"),
    ("m³", "m3"),
    ("m³/s", "m3/s"),
    ("m^3/s", "m3/s"),
    ("m³/h", "m3/h"),
    ("m^3", "m3"),
    ("m²", "m2"),
    ("m^2", "m2"),
    ("m/s²", "m/s2"),
    ("m/s^2", "m/s2"),
    ("µg/m³", "ug/m3"),
    ("µm", "um"),
    ("percent", "%"),
    ("pct", "%"),
    ("ppm", "[ppm]"),
    ("rpm", "/min"),
    ("seconds", "s"),
    ("minutes", "min"),
    ("hours", "h"),
    ("bytes", "By"),
    ("byte", "By"),
    ("liter", "L"),
    ("litre", "L"),
];

/// The code of a common spelling.
fn spelled(spelling: &str) -> Option<String> {
    let wanted = spelling.trim().to_lowercase();
    SPELLINGS.iter().find(|(known, _)| *known == wanted).map(|(_, code)| (*code).to_owned())
}

/// The code of a spelling after its special characters are replaced.
fn in_plain_characters(spelling: &str) -> Option<String> {
    let other = spelling.trim().replace('³', "3").replace('²', "2").replace('µ', "u").replace('·', ".").replace(['^', '*', ' '], "");
    [other.clone(), other.to_lowercase()].into_iter().find(|code| is_known(code))
}

/// The code of a unit in brackets after a name, if the text can only be a unit: `°F` and `µg/m³` can, `2` and `min` cannot.
pub fn code_in_brackets(spelling: &str) -> Option<String> {
    let is_quotient = spelling.contains('/') && spelling.starts_with(char::is_alphabetic);
    spelled(spelling).or_else(|| is_quotient.then(|| in_plain_characters(spelling)).flatten())
}

/// The code of the standard that a spelling most likely means.
pub fn closest_code(spelling: &str) -> Option<String> {
    let wanted = spelling.trim().to_lowercase();
    let near = || crate::suggest::closest(&wanted, SPELLINGS.iter().map(|(known, _)| *known));
    let code_of = |near: &str| SPELLINGS.iter().find(|(known, _)| *known == near).map(|(_, code)| (*code).to_owned());
    spelled(spelling).or_else(|| in_plain_characters(spelling)).or_else(|| near().and_then(code_of))
}

/// What is wrong with a unit, and what to write instead; nothing about a code of the standard.
pub fn describe_unknown(code: &str) -> Option<String> {
    if is_known(code) {
        return None;
    }
    let help = match closest_code(code) {
        Some(known) => format!("write `{known}`, if that is what it means"),
        None => format!("write `{{{}}}` for something that is counted", code.trim_matches(['{', '}'])),
    };
    Some(format!("`{code}` is not a UCUM code, so it cannot be converted; {help}"))
}

/// How values that arrive in one unit fit a metric in another.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Fit {
    /// They are in it.
    Same,
    /// Once they are converted.
    Converted(Conversion),
    /// They measure something else, or one of the units is unknown.
    Unfit,
}

/// How values in `from` fit a metric in `to`.
pub fn fit(from: &str, to: &str) -> Fit {
    // Counts of different things are not converted into each other, although the standard takes all of them for plain numbers.
    let thing = |code: &str| Some(code.split_once('{')?.1.split_once('}')?.0.to_lowercase().trim_end_matches('s').to_owned());
    match (thing(from), thing(to)) {
        _ if from == to => Fit::Same,
        (Some(from), Some(to)) if from != to => Fit::Unfit,
        _ => match conversion(from, to) {
            Some(Conversion::NONE) => Fit::Same,
            Some(conversion) => Fit::Converted(conversion),
            None => Fit::Unfit,
        },
    }
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
    fn values_fit_only_metrics_of_the_same_dimension() {
        assert_eq!([fit("cm", "cm"), fit("L", "dm3"), fit("{boats}", "{boat}"), fit("1", "{boat}")], [Fit::Same; 4]);
        assert!(matches!(fit("m", "cm"), Fit::Converted(conversion) if conversion.apply(3.125) == 312.5));
        assert!(matches!(fit("cm", "m"), Fit::Converted(conversion) if conversion.apply(57.0) == 0.57));
        assert!(matches!(fit("[degF]", "Cel"), Fit::Converted(conversion) if (conversion.apply(212.0) - 100.0).abs() < 1e-9));
        assert_eq!([fit("kW.h", "cm"), fit("{NTU}", "{boat}"), fit("deg{lat}", "deg{lon}"), fit("furlong", "m")], [Fit::Unfit; 4]);
    }

    #[test]
    fn an_unknown_unit_gets_the_closest_code() {
        for (spelling, code) in
            [("°C", "Cel"), ("kWh", "kW.h"), ("m³/s", "m3/s"), ("M/S", "m/s"), ("Celsiu", "Cel"), ("µg/m3", "ug/m3"), ("m/s^2", "m/s2")]
        {
            assert_eq!(closest_code(spelling).as_deref(), Some(code), "{spelling}");
        }
        assert_eq!(describe_unknown("m3/s"), None);
        assert_eq!(describe_unknown("kWh").unwrap(), "`kWh` is not a UCUM code, so it cannot be converted; write `kW.h`, if that is what it means");
        assert_eq!(
            describe_unknown("boat").unwrap(),
            "`boat` is not a UCUM code, so it cannot be converted; write `{boat}` for something that is counted"
        );
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
        fn conversion_there_and_back_is_the_identity(value in -1e6f64..1e6, pair in prop::sample::select(vec![("cm", "m"), ("Cel", "K"), ("[degF]", "Cel"), ("m3/h", "L/s"), ("min", "h")])) {
            let (there, back) = (conversion(pair.0, pair.1).unwrap(), conversion(pair.1, pair.0).unwrap());
            let away = value * there.factor + there.offset;
            prop_assert!((away * back.factor + back.offset - value).abs() < 1e-6 * value.abs().max(1.0));
        }

        #[test]
        fn a_converted_sum_is_the_sum_of_converted_values(values in prop::collection::vec(-1e6f64..1e6, 0..20), pair in prop::sample::select(vec![("cm", "m"), ("Cel", "K"), ("[degF]", "Cel"), ("min", "s")])) {
            let conversion = conversion(pair.0, pair.1).unwrap();
            let (sum, each) = (values.iter().sum(), values.iter().map(|value| conversion.apply(*value)).sum::<f64>());
            prop_assert!((conversion.apply_to_sum(sum, values.len() as u64) - each).abs() < 1e-3);
        }
    }

    #[test]
    fn units_have_a_text_for_people() {
        let examples = include_str!("unit_text.tsv");
        for (code, wanted) in examples.lines().filter_map(|line| line.split_once('\t')) {
            assert_eq!(text(code), wanted, "{code}");
        }
        assert!(examples.lines().count() > 20);
        assert_eq!(text("no such unit"), "no such unit");
    }
}
