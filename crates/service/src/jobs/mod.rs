//! Jobs of the service: upkeep and imports.

pub mod import;
pub mod upkeep;
