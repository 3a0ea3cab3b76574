//! Jobs of the service: upkeep and imports.

pub mod access;
pub mod import;
pub mod upkeep;
