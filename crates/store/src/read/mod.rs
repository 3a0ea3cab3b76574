//! Points and windows for queries, as of one moment.

pub mod census;
pub mod sealed;
pub mod source;
pub mod windows;
