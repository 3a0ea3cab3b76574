//! Bodies of calls: received with a minimum rate, read whole or in parts, and documents of JSON.

use std::{
    future::Future,
    ops::Deref,
    pin::Pin,
    time::{Duration, Instant},
};

use actix_web::{FromRequest, HttpRequest, dev, web};
use fenetre_core::model::renamed_key;
use futures_util::StreamExt;
use serde::{Serialize, de::DeserializeOwned};
use serde_json::Value;

use crate::problem::{ApiError, ProblemKind};

/// Maximum size of a document in bytes. Enough for mappings with many thousand columns.
const MAX_BYTES: usize = 16 << 20;

/// A body that holds one document.
pub struct Document(Vec<u8>);

impl Deref for Document {
    type Target = [u8];

    fn deref(&self) -> &[u8] {
        &self.0
    }
}

impl FromRequest for Document {
    type Error = ApiError;
    type Future = Pin<Box<dyn Future<Output = Result<Self, ApiError>>>>;

    fn from_request(request: &HttpRequest, payload: &mut dev::Payload) -> Self::Future {
        let payload = web::Payload::from_request(request, payload);
        Box::pin(async move {
            let mut payload = payload.await.map_err(|error| ApiError::new(ProblemKind::Request, error.to_string()))?;
            read_all(&mut payload, MAX_BYTES).await.map(Self)
        })
    }
}

/// Reads a JSON object.
///
/// # Errors
/// [`ProblemKind::Request`] with the place, if the body is missing, is not JSON, or does not fit.
pub fn read_json<T: DeserializeOwned + Serialize>(body: &[u8]) -> Result<T, ApiError> {
    let fault = |text: String| ApiError::new(ProblemKind::Request, text);
    if body.trim_ascii().is_empty() {
        return Err(fault("the body is missing: send a JSON object, or `{}` for the defaults".to_owned()));
    }
    let read: T = serde_json::from_slice(body).map_err(|error| {
        let sent: Option<Value> = serde_json::from_slice(body).ok();
        let renamed = sent.as_ref().and_then(old_key).map_or(String::new(), |(old, new)| format!(" (`{old}` is called `{new}` now)"));
        fault(format!("the body cannot be read as JSON: {error}{renamed}"))
    })?;
    // The parser also accepts an array of the fields in their order; such a body is a mistake.
    let sent: Value = serde_json::from_slice(body).map_err(|error| fault(error.to_string()))?;
    let understood = serde_json::to_value(&read).map_err(|error| ApiError::internal(&error))?;
    match array_for_object(&sent, &understood) {
        None => Ok(read),
        Some(place) if place.is_empty() => Err(fault("the body cannot be read as JSON: expected an object, found an array".to_owned())),
        Some(place) => Err(fault(format!("the body cannot be read as JSON: {}: expected an object, found an array", place.trim_start_matches('.')))),
    }
}

/// Keys of bodies that had another name in earlier versions.
const RENAMED: [(&str, &str); 2] = [("say", "limits"), ("noun", "kind")];

/// A key of a body with an old name, and its new name.
fn old_key(sent: &Value) -> Option<(String, &'static str)> {
    let new_name = |key: &str| RENAMED.into_iter().find(|(old, _)| *old == key).map(|(_, new)| new).or_else(|| renamed_key(key));
    match sent {
        Value::Object(members) => members.iter().find_map(|(key, value)| Some((key.clone(), new_name(key)?)).or_else(|| old_key(value))),
        Value::Array(items) => items.iter().find_map(old_key),
        _ => None,
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

/// Maximum pause within a body.
const STALLED: Duration = Duration::from_secs(30);

/// Minimum rate of a body in bytes per second, after a grace period of [`STALLED`].
const MIN_RATE: u64 = 1_000;

/// Progress of a body that is being received.
pub(crate) struct Arrival {
    since: Instant,
    bytes: u64,
}

impl Arrival {
    /// A body before its first byte.
    pub(crate) fn new() -> Self {
        Self { since: Instant::now(), bytes: 0 }
    }

    /// Counts bytes that have arrived `passed` after the start, and checks the rate: a slow body must not occupy memory and a connection for ever.
    fn check(&mut self, bytes: usize, passed: Duration) -> Result<(), ApiError> {
        self.bytes += bytes as u64;
        if passed > STALLED && self.bytes < MIN_RATE * passed.as_secs() {
            let text = format!("the body arrived at less than {MIN_RATE} bytes per second over {} s, so nothing was stored", passed.as_secs());
            return Err(ApiError::new(ProblemKind::Stalled, text));
        }
        Ok(())
    }
}

/// The next part of a body; none at its end.
///
/// # Errors
/// [`ProblemKind::Stalled`] if nothing arrives for [`STALLED`], or if the body arrives at less than [`MIN_RATE`].
pub(crate) async fn next_chunk(payload: &mut web::Payload, arrival: &mut Arrival) -> Result<Option<web::Bytes>, ApiError> {
    match tokio::time::timeout(STALLED, payload.next()).await {
        Ok(Some(Ok(chunk))) => arrival.check(chunk.len(), arrival.since.elapsed()).map(|()| Some(chunk)),
        Ok(chunk) => chunk.transpose().map_err(|error| ApiError::new(ProblemKind::Request, format!("the body is incomplete: {error}"))),
        Err(_) => Err(ApiError::new(ProblemKind::Stalled, format!("no part of the body arrived for {} s, so nothing was stored", STALLED.as_secs()))),
    }
}

/// Reads a body of at most `max` bytes.
pub(crate) async fn read_all(payload: &mut web::Payload, max: usize) -> Result<Vec<u8>, ApiError> {
    let (mut body, mut arrival) = (Vec::new(), Arrival::new());
    while let Some(chunk) = next_chunk(payload, &mut arrival).await? {
        if body.len() + chunk.len() > max {
            return Err(ApiError::new(ProblemKind::TooLarge, format!("the body is larger than {max} bytes: send it in smaller parts")));
        }
        body.extend_from_slice(&chunk);
    }
    Ok(body)
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
        read_json::<Policy>(body.as_bytes()).unwrap_err().into_problem().detail
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

    #[test]
    fn a_trickling_body_times_out_and_a_slow_one_does_not() {
        let arrives = |bytes_a_second: usize| {
            let mut arrival = Arrival::new();
            (1..=120).find(|second| arrival.check(bytes_a_second, Duration::from_secs(*second)).is_err())
        };
        assert_eq!((arrives(1), arrives(999), arrives(1_000)), (Some(31), Some(31), None));
    }
}
