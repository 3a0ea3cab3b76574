//! What moves points into the store: bodies that somebody pushes, and sources that bring points by themselves.
//!
//! ```text
//!  push, export, import ──► intake ──► batch ──► store
//!  source: poll, mqtt, … ─────┘  └──► arrivals, tail
//!      └── supervisor: a job per source, its state, figures and log
//! ```
//!
//! | module | subject |
//! |---|---|
//! | [`intake`] | bytes of any format into a batch, and into the store |
//! | [`arrivals`] | recent points per second; rejects by reason; the live tail |
//! | [`definition`] | what a source is made of, checked with line and column |
//! | [`secret`] | references to secrets |
//! | `http`, `broker`, `database` | calls over HTTP; connections to brokers and database servers |
//! | `named` | what running sources and sinks have in common |
//! | [`levels`] | patterns of topics and browse paths |
//! | [`events`] | the log of a source |
//! | [`sources`] | what each kind does in one round |
//! | [`watch`] | series that are stale, stuck, or have a wrong clock |
//! | [`supervisor`] | the sources that run |
//! | [`sinks`] | what sends points continuously |

pub mod arrivals;
#[cfg(feature = "mqtt")]
mod broker;
#[cfg(feature = "sql")]
mod database;
pub mod definition;
mod error;
pub mod events;
mod http;
pub mod intake;
pub mod levels;
mod named;
mod progress;
pub mod rejects;
#[cfg(any(feature = "mqtt", feature = "modbus", feature = "opcua", feature = "sql", feature = "s3"))]
mod runtime;
pub mod secret;
pub mod sinks;
pub mod sources;
pub mod supervisor;
mod tls;
pub mod watch;

pub use error::FlowError;
