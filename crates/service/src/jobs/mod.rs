//! What the service does by itself: upkeep, and imports.

pub mod import;
pub mod upkeep;
