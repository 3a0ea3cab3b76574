//! Numbers as text: which mark comes before the fraction, which groups thousands, and how both are found out from a sample.

use fenetre_core::model::ValueRef;

/// An integer as a double, where that holds it.
pub fn integer_value(integer: i128) -> ValueRef<'static> {
    let double = integer as f64;
    if double as i128 == integer { ValueRef::Number(double) } else { ValueRef::Integer(integer) }
}

/// How numbers are written.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Notation {
    /// A comma, and not a point, comes before the fraction.
    pub decimal_comma: bool,
    /// The decimal mark was stated, or a sample shows it: other marks may then group thousands.
    pub is_known: bool,
}

/// Characters that group thousands, besides the point and the comma: spaces of several widths and apostrophes.
const GROUP_MARKS: [char; 5] = [' ', '\u{a0}', '\u{202f}', '\'', '\u{2019}'];
/// Longer texts are no numbers.
const MAX_LENGTH: usize = 64;

impl Notation {
    /// Reads a number; `None` if it is none, or if a mark groups anything but thousands.
    pub fn parse(self, text: &str) -> Option<ValueRef<'static>> {
        // Integers that no double holds have more digits than this.
        if text.len() > 15
            && let Ok(integer) = text.parse::<i128>()
            && (i128::from(i64::MIN)..=i128::from(u64::MAX)).contains(&integer)
        {
            return Some(integer_value(integer));
        }
        let has_point = self.decimal_comma && text.contains('.');
        if !has_point && let Ok(number) = text.parse() {
            return Some(ValueRef::Number(number));
        }
        if text.len() > MAX_LENGTH || !(self.is_known || self.decimal_comma) {
            return None;
        }
        let plain = self.plain(text)?;
        // Grouped integers may be as long as plain ones.
        if plain.len() > 15 && !plain.contains('.') { self.parse(&plain) } else { plain.parse().ok().map(ValueRef::Number) }
    }

    /// The number without marks of groups, and with a point before its fraction.
    fn plain(self, text: &str) -> Option<String> {
        let decimal = if self.decimal_comma { ',' } else { '.' };
        let (sign, digits) = match text.strip_prefix(['-', '+']) {
            Some(digits) => (if text.starts_with('-') { "-" } else { "" }, digits),
            None => ("", text),
        };
        let (whole, fraction) = match digits.split_once(decimal) {
            Some((whole, fraction)) => (whole, Some(fraction)),
            None => (digits, None),
        };
        let whole = ungrouped(whole, decimal)?;
        let fraction = match fraction {
            None => String::new(),
            Some(fraction) if is_fraction(fraction) => format!(".{fraction}"),
            Some(_) => return None,
        };
        Some(format!("{sign}{whole}{fraction}"))
    }
}

/// Digits, or what an exponent may follow.
fn is_fraction(text: &str) -> bool {
    let (digits, exponent) = text.split_once(['e', 'E']).unwrap_or((text, "0"));
    let exponent = exponent.strip_prefix(['-', '+']).unwrap_or(exponent);
    let all_digits = |text: &str| text.bytes().all(|byte| byte.is_ascii_digit());
    all_digits(digits) && !exponent.is_empty() && all_digits(exponent)
}

/// The whole part of a number without the marks of its groups, which are thousands.
fn ungrouped(whole: &str, decimal: char) -> Option<String> {
    if whole.bytes().all(|byte| byte.is_ascii_digit()) {
        return Some(whole.to_owned());
    }
    let mark = whole.chars().find(|letter| !letter.is_ascii_digit())?;
    let is_mark = GROUP_MARKS.contains(&mark) || (matches!(mark, '.' | ',') && mark != decimal);
    (is_mark && are_thousands(whole, mark)).then(|| whole.split(mark).collect())
}

/// Whether a mark parts digits into groups of three, the first of which has one to three and does not begin with a zero.
fn are_thousands(whole: &str, mark: char) -> bool {
    let mut groups = whole.split(mark);
    let all_digits = |group: &str| group.bytes().all(|byte| byte.is_ascii_digit());
    let first = groups.next().unwrap_or_default();
    let begins = (1..=3).contains(&first.len()) && all_digits(first) && !first.starts_with('0');
    let mut count = 0;
    begins
        && groups.all(|group| {
            count += 1;
            group.len() == 3 && all_digits(group)
        })
        && count > 0
}

/// What some cells show of how numbers are written.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Evidence {
    /// Cells that only make sense with a decimal comma, or with a decimal point.
    commas: usize,
    points: usize,
    /// Cells such as `1,234` and `1.234`, which make sense with either.
    either_comma: usize,
    either_point: usize,
    /// The first cell whose thousands are grouped, or may be.
    example: Option<String>,
}

impl Evidence {
    /// What cells show.
    pub fn of<'c>(cells: impl Iterator<Item = &'c str>) -> Self {
        let mut evidence = Self::default();
        cells.for_each(|cell| evidence.look_at(cell));
        evidence
    }

    fn look_at(&mut self, cell: &str) {
        let digits = cell.strip_prefix(['-', '+']).unwrap_or(cell);
        if !digits.starts_with(|letter: char| letter.is_ascii_digit()) || !digits.bytes().all(|byte| byte.is_ascii_digit() || b".,".contains(&byte)) {
            return;
        }
        let (points, commas) = (digits.matches('.').count(), digits.matches(',').count());
        let grouped = |mark: char, decimal: char| {
            let whole = digits.split(decimal).next().unwrap_or_default();
            digits.matches(decimal).count() <= 1 && are_thousands(whole, mark)
        };
        let (votes, is_example) = match (points, commas) {
            (1.., 1..) if grouped('.', ',') => (&mut self.commas, true),
            (1.., 1..) if grouped(',', '.') => (&mut self.points, true),
            (0, 1) if are_thousands(digits, ',') => (&mut self.either_comma, true),
            (0, 1) => (&mut self.commas, false),
            (0, 2..) if are_thousands(digits, ',') => (&mut self.points, true),
            (1, 0) if are_thousands(digits, '.') => (&mut self.either_point, true),
            (1, 0) => (&mut self.points, false),
            // Four groups are an address of the network.
            (2 | 4.., 0) if are_thousands(digits, '.') => (&mut self.commas, true),
            _ => return,
        };
        *votes += 1;
        if is_example && self.example.is_none() {
            self.example = Some(cell.to_owned());
        }
    }

    /// How numbers are written. If cells can be read either way, those of tables whose cells are parted by commas are taken for English.
    pub fn notation(&self, is_comma_table: bool) -> Notation {
        let decimal_comma = match (self.commas, self.points) {
            (0, 0) => self.either_comma > 0 && !is_comma_table,
            (commas, points) => commas > points,
        };
        Notation { decimal_comma, is_known: self.commas + self.points + self.either_comma > 0 }
    }

    /// The first cell whose thousands are grouped, and what it is read as.
    pub fn grouped(&self, notation: Notation) -> Option<Grouped> {
        let cell = self.example.as_ref().filter(|_| notation.is_known || notation.decimal_comma)?;
        match notation.parse(cell)? {
            ValueRef::Number(number) => Some(Grouped { cell: cell.clone(), number }),
            _ => None,
        }
    }
}

/// A cell whose thousands are grouped, or could be.
#[derive(Clone, Debug, PartialEq)]
pub struct Grouped {
    /// As it is written.
    pub cell: String,
    /// What it is read as.
    pub number: f64,
}

impl std::fmt::Display for Grouped {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "`{}` is read as {}", self.cell, self.number)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn read(decimal_comma: bool, text: &str) -> Option<f64> {
        match (Notation { decimal_comma, is_known: true }).parse(text) {
            Some(ValueRef::Number(number)) => Some(number),
            _ => None,
        }
    }

    #[test]
    fn a_group_separator_is_valid_only_at_thousands() {
        for (text, wanted) in [
            ("1.234", Some(1_234.0)),
            ("1.234,5", Some(1_234.5)),
            ("-12.345.678,25", Some(-12_345_678.25)),
            ("1 234,5", Some(1_234.5)),
            ("1\u{202f}234", Some(1_234.0)),
            ("1'234,5", Some(1_234.5)),
            ("3,5", Some(3.5)),
            ("12", Some(12.0)),
            ("1e3", Some(1_000.0)),
            ("1,5e-3", Some(0.0015)),
            (",5", Some(0.5)),
            ("1.2345,6", None),
            ("3.5", None),
            ("0.123", None),
            ("1.23", None),
            ("1234.567", None),
            ("1.234.56", None),
            ("1.234 567", None),
            ("1,2,3", None),
            ("1,5x", None),
            (".", None),
        ] {
            assert_eq!(read(true, text), wanted, "{text}");
        }
        for (text, wanted) in [("1,234.5", Some(1_234.5)), ("1,234", Some(1_234.0)), ("3,5", None), ("1.234", Some(1.234)), ("1,2345", None)] {
            assert_eq!(read(false, text), wanted, "{text}");
        }
        // Unless the decimal mark is known, a comma may be either.
        assert_eq!(Notation::default().parse("1,234"), None);
        assert_eq!(Notation::default().parse("1 234"), None);
    }

    #[test]
    fn integers_beyond_doubles_stay_exact() {
        assert_eq!(Notation::default().parse("9007199254740993"), Some(ValueRef::Integer(9_007_199_254_740_993)));
        let comma = Notation { decimal_comma: true, is_known: true };
        assert_eq!(comma.parse("9.007.199.254.740.993"), Some(ValueRef::Integer(9_007_199_254_740_993)));
    }

    #[test]
    fn a_sample_reveals_decimal_and_group_separators() {
        let seen = |cells: &[&str], is_comma_table: bool| {
            let evidence = Evidence::of(cells.iter().copied());
            let notation = evidence.notation(is_comma_table);
            (notation.decimal_comma, notation.is_known, evidence.grouped(notation).map_or(String::new(), |grouped| grouped.to_string()))
        };
        assert_eq!(seen(&["3,5", "1.234"], false), (true, true, "`1.234` is read as 1234".to_owned()));
        assert_eq!(seen(&["3.5", "1,234"], false), (false, true, "`1,234` is read as 1234".to_owned()));
        assert_eq!(seen(&["1.234,5"], false), (true, true, "`1.234,5` is read as 1234.5".to_owned()));
        assert_eq!(seen(&["1,234"], false), (true, true, "`1,234` is read as 1.234".to_owned()));
        assert_eq!(seen(&["1,234"], true), (false, true, "`1,234` is read as 1234".to_owned()));
        assert_eq!(seen(&["1.234"], false), (false, false, String::new()));
        assert_eq!(seen(&["192.168.100.200", "01.05.2026", "osier", "7"], false), (false, false, String::new()));
    }

    proptest! {
        #[test]
        fn numbers_with_any_separators_round_trip(whole in 1_000u64..1_000_000_000, hundredths in 0u32..100, marks in prop::sample::select(vec![('.', ','), (',', '.'), (' ', ','), ('\'', '.')])) {
            let (group, decimal) = marks;
            let digits = whole.to_string();
            let mut text = String::new();
            for (at, digit) in digits.chars().enumerate() {
                if at > 0 && (digits.len() - at).is_multiple_of(3) {
                    text.push(group);
                }
                text.push(digit);
            }
            let text = format!("{text}{decimal}{hundredths:02}");
            prop_assert_eq!(read(decimal == ',', &text), Some(format!("{whole}.{hundredths:02}").parse().unwrap()));
        }
    }
}
