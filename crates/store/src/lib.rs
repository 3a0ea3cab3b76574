//! The store: one data directory, on SQLite, owned by one process.
//!
//! ```text
//! STORE/
//!   LOCK                              held by the process that serves the store, with its pid
//!   catalogue.db                      datasets, metrics, series, words of states
//!   journal/000001.db                 acknowledged batches, in order, until their points are packed
//!   data/DATASET/2026-05-01_7d.db     a partition: blocks of points of one span of time
//! ```
//!
//! How a point travels:
//!
//! ```text
//! Batch (resolves series) ──► committer ──► journal, synced ──► acknowledged
//!                                  └──► head ──► packer ──► partitions ──► journal file removed
//! ```
//!
//! A query reads partitions and head together ([`Store::source`]); where both hold a point of one instant, the later arrival counts.
//! Blocks of one series in one partition never overlap: packing merges with what is there.

mod batch;
mod census;
mod committer;
mod definitions;
mod error;
mod files;
mod head;
mod journal;
mod merge;
mod packer;
mod partition;
mod reading;
mod records;
mod shared;
mod store;

pub use batch::Batch;
pub use census::{DatasetSize, JournalSize, Latest, PartitionSize, StorageReport};
pub use error::StoreError;
pub use partition::SeriesCount;
pub use reading::StoreSource;
pub use shared::Options;
pub use store::Store;
