//! The service: Fenetre over HTTP, on loopback.
//!
//! ```text
//!  request ──► permission ──► api::* ──► store, plan, evaluate   (on blocking threads)
//!                 │          └────► document │ ApiError (RFC 9457)
//!                 └──► console (embedded files)
//! ```
//!
//! | module | subject |
//! |---|---|
//! | [`config`] | the TOML file, checked with line and column, and changed in place |
//! | [`server`] | start, ready, stop |
//! | `http` | what every call goes through: access, lanes, bodies, the description of the API, the console's files |
//! | [`api`] | every call, one file a resource |
//! | [`views`] | answers that are assembled from the store, for calls and for work in the background |
//! | [`problem`] | every failure as problem details |
//! | [`imports`], `jobs` | files that are uploaded; work in the background: imports, upkeep |
//! | `warnings`, `clock` | what needs a hand; whether the clock may be believed |
//! | [`backups`] | the running backup |

mod access;
pub mod api;
pub mod backups;
mod changes;
mod clock;
pub mod config;
mod http;
pub mod imports;
mod jobs;
mod logging;
mod memory;
mod permission;
pub mod problem;
pub mod server;
mod state;
pub mod tls;
pub mod views;
mod warnings;

pub use clock::now;
pub use config::Config;
pub use server::{Ready, ServeError, serve};
