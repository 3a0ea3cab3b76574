//! Secrets of the store: their names, never their values.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A secret.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SecretInfo {
    /// Its name, as in `{ kept = "NAME" }`.
    pub name: String,
    /// Time at which it was set.
    pub set_at: String,
    /// Sources and sinks that refer to it.
    pub used_by: Vec<String>,
}
