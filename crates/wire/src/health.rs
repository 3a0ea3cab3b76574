//! Health of the service.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// State of the service.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Health {
    /// `live` or `ready`.
    pub status: String,
}
