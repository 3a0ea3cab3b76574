//! Requests and responses of the API: parameters, bodies and documents, one file per resource.
//!
//! The service and the command line use these types, and the API's description is made of them, from which the console's types are generated.
//! Nothing here does anything: neither a web server nor a database is linked. Answers to queries are documents of `fenetre-formats`.
//!
//! In types of responses every field that is always present is marked as required, so that a reader need not expect its absence.

pub mod access;
pub mod arrivals;
pub mod ask;
pub mod backup;
pub mod bin;
pub mod datasets;
pub mod definitions;
pub mod flows;
pub mod health;
pub mod imports;
pub mod jobs;
pub mod mappings;
pub mod overview;
pub mod problem;
pub mod push;
pub mod retention;
pub mod rollups;
pub mod secrets;
pub mod series;
pub mod sinks;
pub mod sources;
pub mod storage;
