//! The way of a batch: read, settled in the catalogue, committed to the journal, packed into partitions.

pub mod batch;
pub mod claims;
pub mod committer;
pub mod packer;
pub mod replaced;
pub mod settle;
