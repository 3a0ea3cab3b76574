//! A cell of a row, as text or as what a typed table has.

use fenetre_core::{
    model::{Cause, Refusal, ValueRef},
    time::Nanos,
};

use super::numbers::{Notation, integer_value};

/// What stands in a cell.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Cell<'r> {
    /// Nothing.
    Empty,
    /// A text, without spaces around it.
    Text(&'r str),
    /// A number.
    Number(f64),
    /// An integer that no double may hold.
    Integer(i128),
    /// A truth value.
    Bool(bool),
    /// An instant.
    Time(Nanos),
    /// A local time: nanoseconds since 1970-01-01T00:00:00 by the clock of some zone.
    LocalTime(Nanos),
    /// Something that a value, tag or time cannot be; in words that follow "is".
    Unusable(&'static str),
}

impl<'r> Cell<'r> {
    /// As a text, where it is one or nothing.
    pub fn text(self) -> Option<&'r str> {
        match self {
            Self::Empty => Some(""),
            Self::Text(text) => Some(text),
            _ => None,
        }
    }

    /// As a text for a tag or a word, written where it is none.
    pub fn to_text(self) -> Result<String, &'static str> {
        match self {
            Self::Empty => Ok(String::new()),
            Self::Text(text) => Ok(text.to_owned()),
            Self::Number(number) => Ok(number.to_string()),
            Self::Integer(integer) => Ok(integer.to_string()),
            Self::Bool(truth) => Ok(truth.to_string()),
            Self::Time(at) => Ok(fenetre_core::time::format_utc(at)),
            Self::LocalTime(wall) => Ok(fenetre_core::time::format_utc(wall).trim_end_matches('Z').to_owned()),
            Self::Unusable(what) => Err(what),
        }
    }
}

/// How cells become numbers.
#[derive(Clone, Copy, Debug, Default)]
pub struct Numbers {
    /// How they are written.
    pub notation: Notation,
    /// Factor.
    pub scale: Option<f64>,
    /// Addend, after the factor.
    pub offset: Option<f64>,
}

impl Numbers {
    /// The number in a cell; not a finite one always.
    pub fn read(self, cell: Cell<'_>, column: &str) -> Result<ValueRef<'static>, Refusal> {
        let refuse = |reason: String| Err(Refusal::of(Cause::Value, column, reason));
        let value = match cell {
            Cell::Text(text) => match self.notation.parse(text) {
                Some(value) => value,
                None => return refuse(format!("`{text}` is not a number{}", self.hint(text, column))),
            },
            Cell::Number(number) => ValueRef::Number(number),
            Cell::Integer(integer) => integer_value(integer),
            Cell::Bool(truth) => return refuse(format!("is {truth}, not a number (if the column holds words of a state, give it the role state)")),
            Cell::Time(_) | Cell::LocalTime(_) => return refuse("is a time, not a number".to_owned()),
            Cell::Unusable(what) => return refuse(format!("is {what}")),
            Cell::Empty => return refuse("is empty".to_owned()),
        };
        if self.scale.is_none() && self.offset.is_none() {
            return Ok(value);
        }
        let number = match value {
            ValueRef::Integer(integer) => integer as f64,
            ValueRef::Number(number) => number,
            ValueRef::Word(_) | ValueRef::Histogram(_) => return Ok(value),
        };
        Ok(ValueRef::Number(number * self.scale.unwrap_or(1.0) + self.offset.unwrap_or(0.0)))
    }

    fn hint(self, text: &str, column: &str) -> String {
        if self.notation.decimal_comma && text.contains('.') {
            return " (numbers here have decimal commas, and points only group thousands, as in 1.234,5)".to_owned();
        }
        let with_comma = Notation { decimal_comma: true, is_known: true };
        if !self.notation.decimal_comma && text.contains(',') && with_comma.parse(text).is_some() {
            return " (if numbers have decimal commas, set decimal = \",\" under [table] of a mapping)".to_owned();
        }
        format!(" (if the column holds words of a state, name it with state={column}; marks of missing values belong to `missing` in a mapping)")
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_are_read_as_written() {
        let comma = Numbers { notation: Notation { decimal_comma: true, is_known: true }, ..Numbers::default() };
        assert_eq!(comma.read(Cell::Text("1.234,5"), "v"), Ok(ValueRef::Number(1234.5)));
        assert!(comma.read(Cell::Text("1.2345,6"), "v").unwrap_err().reason.contains("group thousands"));
        let scaled = Numbers { scale: Some(0.5), offset: Some(-1.0), ..Numbers::default() };
        assert_eq!(scaled.read(Cell::Integer(9), "v"), Ok(ValueRef::Number(3.5)));
        assert_eq!(Numbers::default().read(Cell::Text("9007199254740993"), "v"), Ok(ValueRef::Integer(9_007_199_254_740_993)));
        assert!(Numbers::default().read(Cell::Text("3,5"), "v").unwrap_err().reason.contains("decimal commas"));
        assert!(Numbers::default().read(Cell::Bool(true), "v").unwrap_err().reason.contains("role state"));
    }
}
