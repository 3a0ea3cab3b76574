//! Stored mappings.

use fenetre_formats::mapping::Mapping;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A mapping and its name.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct MappingInfo {
    /// Its name.
    pub name: String,
    /// When it was stored.
    pub changed: String,
    /// Its content.
    pub mapping: Mapping,
}
