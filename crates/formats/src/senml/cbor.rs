//! Records of a pack in CBOR (RFC 8428, section 6): labels are small integers, or texts.

use ciborium::Value;
use fenetre_core::model::{Cause, Refusal};

use super::record::{Field, Record};
use crate::FormatError;

/// The records of a pack, each read or refused.
pub fn records(bytes: &[u8]) -> Result<Vec<Result<Record, Refusal>>, FormatError> {
    let unreadable = |reason: String| FormatError::Unreadable { format: "CBOR", reason };
    let mut rest = bytes;
    let pack: Value = ciborium::from_reader(&mut rest).map_err(|error| match error {
        ciborium::de::Error::Syntax(at) => unreadable(format!("it is none (byte {at})")),
        ciborium::de::Error::Io(_) => unreadable("it ends too early".to_owned()),
        other => unreadable(other.to_string()),
    })?;
    if !rest.is_empty() {
        return Err(unreadable(format!("{} bytes follow the pack", rest.len())));
    }
    let Value::Array(records) = pack else { return Err(unreadable("a pack of SenML is an array of records".to_owned())) };
    Ok(records.into_iter().map(record).collect())
}

fn record(value: Value) -> Result<Record, Refusal> {
    let unreadable = |reason: &str| Refusal { field: None, reason: reason.to_owned(), cause: Cause::Unreadable };
    let Value::Map(fields) = value else { return Err(unreadable("a record of SenML is a map")) };
    let mut record = Record::default();
    for (label, value) in fields {
        let label = match label {
            Value::Text(label) => label,
            Value::Integer(number) => match label_of(i128::from(number)) {
                Some(label) => label.to_owned(),
                None => continue,
            },
            _ => return Err(unreadable("a label is an integer or a text")),
        };
        record.put(&label, field(value))?;
    }
    Ok(record)
}

fn label_of(number: i128) -> Option<&'static str> {
    const BASE: [&str; 6] = ["bver", "bn", "bt", "bu", "bv", "bs"];
    const OWN: [&str; 9] = ["n", "u", "v", "vs", "vb", "s", "t", "ut", "vd"];
    match usize::try_from(number) {
        Ok(number) => OWN.get(number).copied(),
        Err(_) => usize::try_from(-number - 1).ok().and_then(|number| BASE.get(number).copied()),
    }
}

fn field(value: Value) -> Field {
    match value {
        Value::Integer(number) => Field::Number(i128::from(number) as f64),
        Value::Float(number) => Field::Number(number),
        Value::Text(text) => Field::Text(text),
        Value::Bool(truth) => Field::Truth(truth),
        // A decimal fraction (RFC 8949, section 3.4.4): [exponent, mantissa].
        Value::Tag(4, inner) => match *inner {
            Value::Array(parts) => match parts.as_slice() {
                [Value::Integer(exponent), Value::Integer(mantissa)] => {
                    let text = format!("{}e{}", i128::from(*mantissa), i128::from(*exponent));
                    text.parse().map_or(Field::Data, Field::Number)
                }
                _ => Field::Data,
            },
            _ => Field::Data,
        },
        _ => Field::Data,
    }
}
