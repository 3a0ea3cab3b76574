//! Every failure as problem details (RFC 9457): what is wrong, where, and what to do.

use std::fmt;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::push::PushReport;

/// Problem details (RFC 9457).
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Problem {
    /// Type of the problem: `urn:fenetre:problem:` and a word.
    #[serde(rename = "type")]
    pub kind: String,
    /// Title of the type.
    pub title: String,
    /// Status of the answer.
    pub status: u16,
    /// What is wrong, and what to do.
    pub detail: String,
    /// Where in a query's text.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub place: Option<Box<ProblemPlace>>,
    /// A correction, if one is known.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub help: Option<String>,
    /// Result for a body of which no point was stored.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub report: Option<Box<PushReport>>,
    /// Id of the request, which the log of the service has too.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub request: Option<String>,
}

/// A place in the text of a query or of its frame.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ProblemPlace {
    /// `query` or `frame`.
    pub text: String,
    /// First byte.
    pub start: usize,
    /// First byte after.
    pub end: usize,
    /// From 1.
    pub line: usize,
    /// From 1, in characters.
    pub column: usize,
    /// The message with the line and carets under the place.
    pub drawing: String,
}

impl Problem {
    /// The word behind `urn:fenetre:problem:`.
    pub fn word(&self) -> &str {
        self.kind.rsplit(':').next().unwrap_or_default()
    }
}

impl fmt::Display for Problem {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.detail)
    }
}

impl std::error::Error for Problem {}
