//! Questions, their answers' envelopes, checks and completions.

use fenetre_core::query::Query;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::problem::Problem;

/// A query, and clauses of the frame that it omits.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema, IntoParams)]
#[serde(deny_unknown_fields)]
pub struct Question {
    /// Text of the query.
    #[serde(default)]
    pub query: String,
    /// Clauses of a frame (`over … per … zone …`, or `at …`) that the text omits.
    #[serde(default)]
    pub frame: String,
    /// The query as a tree, instead of a text: its JSON form, as `ask/check` gives it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<Query>)]
    #[param(ignore)]
    pub tree: Option<serde_json::Value>,
}

/// Result of checking a query.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Checked {
    /// The text in its canonical layout, if it can be read.
    #[schema(required)]
    pub canonical: Option<String>,
    /// The query as a tree, for forms.
    #[schema(required, value_type = Option<Query>)]
    pub tree: Option<serde_json::Value>,
    /// What is wrong with it, if anything is.
    #[schema(required)]
    pub problem: Option<Problem>,
}

/// A cursor in a text.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Typing {
    /// The text so far.
    pub query: String,
    /// Byte offset of the cursor (default: the end of the text).
    #[serde(default)]
    pub cursor: Option<usize>,
}

/// Completions at a position.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Completions {
    /// First byte of the part of the text that a suggestion replaces.
    pub start: usize,
    /// First byte after it.
    pub end: usize,
    /// The likeliest first.
    pub suggestions: Vec<Suggested>,
}

/// A completion.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Suggested {
    /// Text to insert.
    pub text: String,
    /// `metric`, `tag`, `value`, `reducer`, `function`, `word` or `time`.
    pub kind: String,
    /// Short description.
    #[serde(default)]
    #[schema(required)]
    pub detail: Option<String>,
}
