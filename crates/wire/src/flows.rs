//! What sources and sinks have in common.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Result of defining a source or a sink.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DefinedFlow {
    /// How the definition differs from the one before.
    pub difference: FlowDifference,
    /// The one before.
    #[schema(required)]
    pub before: Option<serde_json::Value>,
    /// The new definition, with defaults.
    pub after: serde_json::Value,
}

/// How a definition differs from the one before.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum FlowDifference {
    /// There was none of that name.
    New,
    /// It is another one.
    Changed,
    /// It is the same.
    None,
}

/// A definition to start from.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct FlowExample {
    /// Its kind.
    pub kind: String,
    /// The definition, as TOML.
    pub definition: String,
}

/// An event in the log of a source or a sink.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct FlowEvent {
    /// Time of the first.
    pub first: String,
    /// Time of the latest.
    pub last: String,
    /// How often in a row.
    pub count: u64,
    /// Whether it is a failure.
    pub is_failure: bool,
    /// What happened.
    pub text: String,
}
