//! How results are written: for people as tables and charts, for programs as JSON, CSV and JSON Lines.

#[macro_use]
pub mod lines;

pub mod chart;
pub mod list;
pub mod plan;
pub mod sources;
pub mod spark;
pub mod table;
pub mod terminal;
pub mod words;
