//! The parts of an open store, as its users see them.

pub mod bin;
pub mod definitions;
pub mod documents;
pub mod feed;
pub mod inspect;
pub mod retention;
pub mod rollups;
