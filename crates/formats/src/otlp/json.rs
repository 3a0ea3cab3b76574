//! The JSON form: 64-bit integers are texts there, but many senders write numbers, and some write enumerations by name. Doubles may be texts as well,
//! `NaN` and `Infinity` must be.

use opentelemetry_proto::tonic::collector::metrics::v1::ExportMetricsServiceRequest;
use serde_json::Value;

use crate::FormatError;

const INTEGERS: [&str; 8] = ["timeUnixNano", "startTimeUnixNano", "count", "bucketCounts", "asInt", "zeroCount", "intValue", "explicitCounts"];

const DOUBLES: [&str; 7] = ["asDouble", "sum", "min", "max", "zeroThreshold", "quantile", "doubleValue"];

pub fn decode(bytes: &[u8]) -> Result<ExportMetricsServiceRequest, FormatError> {
    let mut document: Value = serde_json::from_slice(bytes).map_err(|error| FormatError::Json {
        reason: crate::json::without_place(&error),
        line: error.line(),
        column: error.column(),
    })?;
    let unreadable = |reason: String| FormatError::Unreadable { format: "OTLP", reason };
    if !document.is_object() {
        return Err(unreadable("an export is an object with `resourceMetrics`".to_owned()));
    }
    settle(&mut document, 0).map_err(unreadable)?;
    serde_json::from_value(document).map_err(|error| FormatError::Unreadable { format: "OTLP", reason: error.to_string() })
}

/// How deep a document may go: deeper than any sender's, and shallow enough for any stack.
const DEEPEST: usize = 60;

/// A double that is written as a text; nothing if it is not finite. JSON has no number for those.
fn finite(text: &str) -> Option<Value> {
    let number: f64 = text.parse().ok()?;
    serde_json::Number::from_f64(number).map(Value::Number)
}

/// Brings both ways of writing to the standard's.
fn settle(value: &mut Value, depth: usize) -> Result<(), String> {
    match value {
        _ if depth > DEEPEST => *value = Value::Null,
        Value::Array(items) => items.iter_mut().try_for_each(|item| settle(item, depth + 1))?,
        Value::Object(object) => {
            // A point without a finite number is refused by itself.
            let is_missing = |key: &String, value: &Value| key == "asDouble" && value.as_str().is_some_and(|text| finite(text).is_none());
            object.retain(|key, value| !value.is_null() && !is_missing(key, value));
            for (key, value) in object {
                match value {
                    Value::Number(number) if INTEGERS.contains(&key.as_str()) => *value = Value::String(number.to_string()),
                    Value::Array(items) if INTEGERS.contains(&key.as_str()) => {
                        items.iter_mut().filter(|item| item.is_number()).for_each(|item| *item = Value::String(item.to_string()));
                    }
                    Value::String(name) if key == "aggregationTemporality" => {
                        let number = match name.as_str() {
                            "AGGREGATION_TEMPORALITY_DELTA" => 1,
                            "AGGREGATION_TEMPORALITY_CUMULATIVE" => 2,
                            _ => 0,
                        };
                        *value = number.into();
                    }
                    Value::String(text) if DOUBLES.contains(&key.as_str()) => {
                        *value = finite(text).ok_or_else(|| format!("`{key}` is \"{text}\", not a finite number"))?;
                    }
                    _ => settle(value, depth + 1)?,
                }
            }
        }
        _ => {}
    }
    Ok(())
}
