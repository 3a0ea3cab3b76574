//! The path of a batch: read, settled in the catalogue, committed to the journal, packed into partitions.

pub mod additions;
pub mod admission;
pub mod batch;
pub mod claims;
pub mod committer;
pub mod contents;
pub mod held;
pub mod packer;
pub mod replaced;
pub mod requests;
pub mod series_index;
pub mod settle;
