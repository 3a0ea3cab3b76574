//! The store: one data directory, on SQLite, owned by one process.
//!
//! ```text
//! STORE/
//!   LOCK                              held by the process that serves the store, with its pid
//!   catalogue.db                      datasets, metrics, series, words of states, layouts of histograms
//!   journal/000007.db                 acknowledged batches of one generation, in order, until they are packed
//!   data/DATASET/2026-05-07_7d.db     a partition: blocks of points of one span of time
//! ```
//!
//! How a point travels:
//!
//! ```text
//! Batch (resolves series) ──► committer ──► journal, synced ──► acknowledged
//!                                  └──► head: generations ──► packer ──► partitions ──► journal file removed
//!                                                                        compactor: overlapping and small blocks become full ones
//! ```
//!
//! A query reads partitions and head together, as they were at one moment ([`Store::source`]); where several hold a point of one instant,
//! the later arrival counts.

mod backup;
mod batch;
mod bin;
mod census;
mod claims;
mod committer;
mod compactor;
mod convert;
mod counts;
mod definitions;
mod entry;
mod error;
mod expiry;
mod files;
mod floors;
mod head;
mod identity;
mod inventory;
mod journal;
mod log;
mod merge;
mod migrate;
mod options;
mod origin;
mod packer;
mod partition;
mod pool;
mod reading;
mod records;
mod repair;
mod replaced;
mod respan;
mod retention;
mod rollup;
mod salvage;
mod shared;
mod span;
mod sqlite;
mod store;
mod trims;
mod verify;
mod weights;

pub use backup::{BackupProgress, BackupReport, restore};
pub use batch::Batch;
pub use bin::{Binned, Noun, Selection, Weight};
pub use census::Latest;
pub use convert::{Change, Conversion};
pub use counts::SeriesCount;
pub use error::StoreError;
pub use options::{Durability, Options};
pub use reading::StoreSource;
pub use records::Document;
pub use repair::{Finding, Remedy, RepairPlan, RepairStep, plan_repair, repair};
pub use retention::{FileDataset, FileRetention, Horizons};
pub use rollup::{LevelLoss, LevelSize, LevelState, Told as RollupTold};
pub use salvage::Salvaged;
pub use store::Store;
pub use verify::Verified;
pub use weights::{DatasetSize, JournalSize, MetricSize, PartitionSize, StorageReport};
