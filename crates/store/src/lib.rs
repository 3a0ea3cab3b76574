//! The store: one data directory, on SQLite, owned by one process.
//!
//! ```text
//! STORE/
//!   LOCK                              held by the process that serves the store, with its pid
//!   aside/SINK/                       batches that the destination of a sink refused: the sinks', in no backup
//!   access.db                         tokens and the record of changes: the service's, only copied by backups
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
//! Folders, from the bottom up; a folder uses only those above it in this list (`e2e/layout.rs` holds the order):
//!
//! | folder | subject |
//! |---|---|
//! | `disk` | names of files, SQLite, connections |
//! | `partition`, `journal` | files of points: blocks, and acknowledged batches |
//! | `catalogue` | records and documents of `catalogue.db` |
//! | `limits`, `missing` | how long points are kept; which points are no longer there |
//! | `head`, `changes`, `levels` | points in memory; what has changed since windows were made; files of rollup levels |
//! | `engine` | what all work shares: these parts, and the partitions of this moment |
//! | `read` | points and windows for queries |
//! | `compact`, `ingest` | partitions are written anew; batches come in |
//! | `bin`, `inspect`, `rollup`, `retention`, `backup` | work on what is stored |
//! | `startup`, `repair` | before a store opens, and when it cannot |
//! | `parts`, `store`, `convert` | the front door: an open store and the parts that it hands out |
//!
//! A query reads partitions and head together, as they were at one moment ([`Store::source`]); where several hold a point of one instant,
//! the later arrival counts.

mod backup;
mod bin;
mod catalogue;
mod changes;
mod compact;
mod convert;
mod disk;
mod engine;
mod error;
mod feed;
mod head;
mod ingest;
mod inspect;
mod journal;
mod levels;
mod limits;
mod missing;
mod options;
mod partition;
pub mod parts;
mod read;
mod repair;
mod retention;
mod rollup;
mod secrets;
mod span;
mod startup;
mod store;

pub use backup::{BackupChoice, BackupProgress, BackupReport, restore};
pub use bin::{BinItem, BinItemKind, DataSize, Selection};
pub use catalogue::{
    change::Change,
    documents::{Document, DocumentKind, Kept},
};
pub use convert::Conversion;
pub use error::StoreError;
pub use feed::{Arrived, Cursor, Gap, Position, Stretch};
pub use ingest::batch::Batch;
pub use inspect::{
    sizes::{DatasetBytes, DatasetSize, JournalSize, MetricSize, PartitionSize, StorageReport, StoredBytes},
    verify::Verified,
};
pub use levels::{LevelLoss, LevelSize, RollupStatus};
pub use limits::horizons::Horizons;
pub use options::{Durability, FileDataset, FileRetention, Options};
pub use partition::counts::SeriesCount;
pub use read::{census::Latest, source::StoreSource};
pub use repair::{Finding, Remedy, RepairPlan, RepairStep, plan_repair, repair, salvage::Salvaged};
pub use rollup::LevelState;
pub use secrets::Secrets;
pub use store::Store;
