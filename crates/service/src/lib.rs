//! The service: Fenetre over HTTP, on loopback.
//!
//! ```text
//!  request ──► access ──► api::* ──► store, plan, evaluate   (on blocking threads)
//!                 │          └────► document │ Problem (RFC 9457)
//!                 └──► console (embedded files)
//! ```
//!
//! | module | subject |
//! |---|---|
//! | [`config`] | the TOML file, checked with line and column |
//! | [`server`] | start, ready, stop |
//! | [`api`] | every call, and the types that travel; described by the OpenAPI document that the service serves |
//! | `access` | who may call: one check on every route |
//! | [`problem`], [`report`] | every failure as problem details; what a push is answered with |
//! | `ingest` | bytes of any format into a batch |
//! | [`imports`] | files that are uploaded, tried and read by the service |
//! | `arrivals`, [`tail`] | points a second, lately, and refusals by reason; a look at what arrives |
//! | `upkeep`, `clock` | what the service does by itself now and then; whether the clock may be believed for it |
//! | [`backups`] | the backup that is running |
//! | `lanes`, `budget` | where calls wait for each other; memory that calls share |
//! | `connection` | whether a caller is still there |
//! | `console` | the browser's files |

mod access;
pub mod api;
mod arrivals;
pub mod backups;
mod budget;
mod clock;
pub mod config;
mod config_file;
mod connection;
mod console;
pub mod imports;
mod ingest;
mod lanes;
mod logging;
mod memory;
pub mod problem;
pub mod report;
pub mod server;
mod state;
pub mod tail;
mod upkeep;
mod warnings;

pub use config::Config;
pub use server::{Ready, ServeError, serve};
