//! Arrivals and rejects.

use std::{collections::BTreeMap, fmt};

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Rejected points by reason.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Refusals {
    /// Start of the service, from which rejects are counted.
    pub since: String,
    /// Reasons, the most frequent first.
    pub causes: Vec<CauseCount>,
}

/// One reason.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CauseCount {
    /// Code of the reason.
    pub cause: String,
    /// Text for people.
    pub text: String,
    /// Points and rows since the start of the service.
    pub count: u64,
    /// Dataset of the latest rejected row.
    pub dataset: String,
    /// Time of the latest.
    pub time: String,
    /// Its line, field and reason.
    pub example: String,
}

/// A batch that arrived, with its first points.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TailReport {
    /// The dataset.
    pub dataset: String,
    /// When.
    pub time: String,
    /// Accepted points.
    pub accepted: u64,
    /// Rejected points and rows.
    pub rejected: u64,
    /// The first of them.
    pub points: Vec<TailPoint>,
}

/// A value as the tail shows it.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(untagged)]
pub enum TailValue {
    /// A number.
    Number(f64),
    /// A text.
    Text(String),
}

impl fmt::Display for TailValue {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Number(number) => number.fmt(f),
            Self::Text(text) => text.fmt(f),
        }
    }
}

/// A point that arrived.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TailPoint {
    /// Its metric.
    pub metric: String,
    /// Its tags.
    pub tags: BTreeMap<String, String>,
    /// Its instant.
    pub time: String,
    /// A number, or a text: a word of a state, an integer beyond 2^53, or a histogram in short.
    pub value: TailValue,
}
