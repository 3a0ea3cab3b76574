//! The JSON form: 64-bit integers are texts there, but many senders write numbers, and some write enumerations by name.

use opentelemetry_proto::tonic::collector::metrics::v1::ExportMetricsServiceRequest;
use serde_json::Value;

use crate::FormatError;

const INTEGERS: [&str; 8] = ["timeUnixNano", "startTimeUnixNano", "count", "bucketCounts", "asInt", "zeroCount", "intValue", "explicitCounts"];

pub fn decode(bytes: &[u8]) -> Result<ExportMetricsServiceRequest, FormatError> {
    let mut document: Value = serde_json::from_slice(bytes).map_err(|error| FormatError::Json {
        reason: crate::json::bare(&error),
        line: error.line(),
        column: error.column(),
    })?;
    settle(&mut document, 0);
    serde_json::from_value(document).map_err(|error| FormatError::Unreadable { format: "OTLP", reason: error.to_string() })
}

/// How deep a document may go: deeper than any sender's, and shallow enough for any stack.
const DEEPEST: usize = 60;

/// Brings both ways of writing to the standard's.
fn settle(value: &mut Value, depth: usize) {
    match value {
        _ if depth > DEEPEST => *value = Value::Null,
        Value::Array(items) => items.iter_mut().for_each(|item| settle(item, depth + 1)),
        Value::Object(object) => {
            object.retain(|_, value| !value.is_null());
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
                    _ => settle(value, depth + 1),
                }
            }
        }
        _ => {}
    }
}
