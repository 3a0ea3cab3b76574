//! Values of nodes to values of points.

use fenetre_core::{model::ValueRef, time::Nanos};
use fenetre_formats::mapping::integer_value;
use opcua::types::{DataValue, DateTime, StatusCode, Variant};

/// Ticks of 100 ns from 1601-01-01 to 1970-01-01 (IEC 62541-6, 5.2.2.5).
const TICKS_TO_1970: i64 = 116_444_736_000_000_000;

/// What a node holds.
#[derive(Clone, Debug, PartialEq)]
pub enum Held {
    Number(ValueRef<'static>),
    Word(String),
    /// The server has no good value.
    Bad(StatusCode),
    /// The value is neither number nor text.
    Unusable(&'static str),
}

impl Held {
    /// As a value of a point, if it is one.
    pub fn value(&self) -> Option<ValueRef<'_>> {
        match self {
            Self::Number(number) => Some(*number),
            Self::Word(word) => Some(ValueRef::Word(word)),
            Self::Bad(_) | Self::Unusable(_) => None,
        }
    }

    fn integer(integer: impl Into<i128>) -> Self {
        Self::Number(integer_value(integer.into()))
    }

    fn double(number: f64) -> Self {
        Self::Number(ValueRef::Number(number))
    }

    /// Reads a value.
    pub fn of(value: &DataValue) -> Self {
        if let Some(status) = value.status.filter(StatusCode::is_bad) {
            return Self::Bad(status);
        }
        match &value.value {
            Some(Variant::Boolean(truth)) => Self::integer(*truth),
            Some(Variant::SByte(number)) => Self::integer(*number),
            Some(Variant::Byte(number)) => Self::integer(*number),
            Some(Variant::Int16(number)) => Self::integer(*number),
            Some(Variant::UInt16(number)) => Self::integer(*number),
            Some(Variant::Int32(number)) => Self::integer(*number),
            Some(Variant::UInt32(number)) => Self::integer(*number),
            Some(Variant::Int64(number)) => Self::integer(*number),
            Some(Variant::UInt64(number)) => Self::integer(*number),
            // As the sender would write it: 0.1, not 0.10000000149.
            Some(Variant::Float(number)) => Self::double(number.to_string().parse().unwrap_or(f64::from(*number))),
            Some(Variant::Double(number)) => Self::double(*number),
            Some(Variant::String(text)) => match text.as_ref().trim() {
                "" => Self::Unusable("an empty text"),
                text => Self::Word(text.to_owned()),
            },
            Some(Variant::Array(_)) => Self::Unusable("an array"),
            None | Some(Variant::Empty) => Self::Unusable("nothing"),
            Some(_) => Self::Unusable("neither a number nor a text"),
        }
    }
}

/// When a value was measured: by its source, else by the server, else when it arrived.
pub fn time_of(value: &DataValue, arrived: Nanos) -> Nanos {
    let known = value.source_timestamp.or(value.server_timestamp);
    known.and_then(nanos).unwrap_or(arrived)
}

fn nanos(time: DateTime) -> Option<Nanos> {
    time.ticks().checked_sub(TICKS_TO_1970).and_then(|ticks| ticks.checked_mul(100)).filter(|nanos| *nanos > 0)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_have_their_own_time_and_bad_ones_are_missing() {
        let good =
            DataValue { value: Some(Variant::Float(0.1)), source_timestamp: Some(DateTime::ymd_hms(2026, 5, 1, 9, 0, 0)), ..DataValue::default() };
        assert_eq!((Held::of(&good), time_of(&good, 7)), (Held::double(0.1), 1_777_626_000_000_000_000));
        let bad = DataValue { status: Some(StatusCode::BadSensorFailure), ..good };
        assert_eq!(Held::of(&bad), Held::Bad(StatusCode::BadSensorFailure));
        let of = |variant: Variant| Held::of(&DataValue { value: Some(variant), ..DataValue::default() });
        assert_eq!(of(Variant::Boolean(true)), Held::double(1.0));
        assert_eq!(of(Variant::UInt64(u64::MAX)), Held::integer(u64::MAX));
        assert_eq!(of(Variant::from("open")), Held::Word("open".to_owned()));
        assert_eq!(of(Variant::Empty), Held::Unusable("nothing"));
        assert_eq!(time_of(&DataValue::default(), 7), 7);
    }
}
