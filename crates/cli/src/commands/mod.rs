//! Commands that ask a service, one file each.

pub mod apply;
pub mod ask;
pub mod backup;
pub mod bin;
pub mod changes;
pub mod datasets;
pub mod definitions;
pub mod flows;
pub mod import;
pub mod imports;
pub mod jobs;
pub mod mapping;
pub mod metrics;
pub mod peek;
pub mod retention;
pub mod rollup;
pub mod secrets;
pub mod series;
pub mod sinks;
pub mod sources;
pub mod storage;
pub mod tags;
pub mod tail;
pub mod token;
