//! What there is: datasets, metrics, tags and series, and documents by kind and name. Each change is on stable storage before memory has it.

pub mod change;
pub mod definitions;
pub mod documents;
pub mod records;
