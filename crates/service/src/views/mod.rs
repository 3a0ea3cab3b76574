//! Answers that are assembled from the store, for handlers and for work in the background. No HTTP.

pub mod figures;
pub mod mappings;
pub mod names;
pub mod outlook;
pub mod references;
pub mod retention;
pub mod storage;
pub mod stored;
pub mod volume;
