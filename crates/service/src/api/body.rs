//! Bodies of calls that hold one document: definitions, orders, mappings, queries.

use std::{future::Future, ops::Deref, pin::Pin};

use actix_web::{FromRequest, HttpRequest, dev, web};
use serde::{Serialize, de::DeserializeOwned};
use serde_json::Value;

use super::read_all;
use crate::problem::{Problem, Sort};

/// Maximum size of a document in bytes. Enough for mappings with many thousand columns.
const MOST_BYTES: usize = 16 << 20;

/// A body that holds one document.
pub struct Document(Vec<u8>);

impl Deref for Document {
    type Target = [u8];

    fn deref(&self) -> &[u8] {
        &self.0
    }
}

impl FromRequest for Document {
    type Error = Problem;
    type Future = Pin<Box<dyn Future<Output = Result<Self, Problem>>>>;

    fn from_request(request: &HttpRequest, payload: &mut dev::Payload) -> Self::Future {
        let payload = web::Payload::from_request(request, payload);
        Box::pin(async move {
            let mut payload = payload.await.map_err(|error| Problem::new(Sort::Request, error.to_string()))?;
            read_all(&mut payload, MOST_BYTES).await.map(Self)
        })
    }
}

/// Reads a JSON object.
///
/// # Errors
/// [`Sort::Request`] with the place, if the body is missing, is not JSON, or does not fit.
pub fn read_json<T: DeserializeOwned + Serialize>(body: &[u8]) -> Result<T, Problem> {
    let fault = |text: String| Problem::new(Sort::Request, text);
    if body.trim_ascii().is_empty() {
        return Err(fault("the body is missing: send a JSON object, or `{}` for the defaults".to_owned()));
    }
    let read: T = serde_json::from_slice(body).map_err(|error| fault(format!("the body cannot be read as JSON: {error}")))?;
    // The parser also accepts an array of the fields in their order; such a body is a mistake.
    let sent: Value = serde_json::from_slice(body).map_err(|error| fault(error.to_string()))?;
    let understood = serde_json::to_value(&read).map_err(|error| Problem::internal(&error))?;
    match array_for_object(&sent, &understood) {
        None => Ok(read),
        Some(place) if place.is_empty() => Err(fault("the body cannot be read as JSON: expected an object, found an array".to_owned())),
        Some(place) => Err(fault(format!("the body cannot be read as JSON: {}: expected an object, found an array", place.trim_start_matches('.')))),
    }
}

/// The place of an array that was read as an object.
fn array_for_object(sent: &Value, understood: &Value) -> Option<String> {
    let below = |step: String, sent: &Value, understood: &Value| array_for_object(sent, understood).map(|place| step + &place);
    match (sent, understood) {
        (Value::Array(_), Value::Object(_)) => Some(String::new()),
        (Value::Object(sent), Value::Object(understood)) => {
            sent.iter().find_map(|(key, value)| below(format!(".{key}"), value, understood.get(key)?))
        }
        (Value::Array(sent), Value::Array(understood)) => {
            sent.iter().zip(understood).enumerate().find_map(|(at, (value, other))| below(format!("[{at}]"), value, other))
        }
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use serde::Deserialize;

    use super::*;

    #[derive(Debug, PartialEq, Serialize, Deserialize)]
    struct Level {
        width: String,
        keep_for: Option<String>,
    }

    #[derive(Debug, PartialEq, Serialize, Deserialize)]
    struct Policy {
        levels: Vec<Level>,
    }

    fn fault(body: &str) -> String {
        read_json::<Policy>(body.as_bytes()).unwrap_err().detail
    }

    #[test]
    fn an_array_is_no_object_at_any_depth() {
        let right: Policy = read_json(br#"{"levels": [{"width": "1h"}, {"width": "1d", "keep_for": "2y"}]}"#).unwrap();
        assert_eq!((right.levels.len(), right.levels[1].keep_for.as_deref()), (2, Some("2y")));
        assert_eq!(fault("[[]]"), "the body cannot be read as JSON: expected an object, found an array");
        assert_eq!(
            fault(r#"{"levels": [{"width": "1h"}, ["1d", "2y"]]}"#),
            "the body cannot be read as JSON: levels[1]: expected an object, found an array"
        );
        assert!(fault("").starts_with("the body is missing"), "{}", fault(""));
        assert!(fault(" \n").starts_with("the body is missing"));
        assert!(fault("{").contains("EOF while parsing an object at line 1 column 1"), "{}", fault("{"));
    }
}
