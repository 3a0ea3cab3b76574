//! Jobs of the service: upkeep, imports, and its own metrics.

pub mod access;
pub mod import;
pub mod own;
pub mod upkeep;
