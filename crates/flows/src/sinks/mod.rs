//! Sinks: what sends points continuously.
//!
//! ```text
//!  feed of the store ──► selection ──► outgoing ──► destination: forward, http, files, sql, mqtt
//!  gap ──► scan ────────────┘                           └──► refused: aside
//! ```
//!
//! | file | subject |
//! |---|---|
//! | `definition` | what a sink is made of |
//! | `outgoing` | points on their way |
//! | `selection` | which series are sent, and under which names |
//! | `encode` | batches as bytes |
//! | `destination` | what a destination is |
//! | `bucket` | objects of an object store |
//! | `forward`, `http`, `files`, `sql`, `mqtt` | destinations |
//! | `kinds` | the destination of each kind |
//! | `sums` | comparison with a destination |
//! | `aside` | refused batches |
//! | `scan` | points of a time range |
//! | `delivery` | batches that are sent, with their figures |
//! | `step` | a step of the work of a sink |
//! | `worker` | the work of a sink that sends points |
//! | `windows` | the work of a sink that sends windows of a query |
//! | `supervisor` | the sinks that run |

pub mod aside;
#[cfg(feature = "s3")]
mod bucket;
pub mod definition;
pub mod delivery;
pub mod destination;
pub mod encode;
mod files;
mod forward;
mod http;
mod kinds;
#[cfg(feature = "mqtt")]
mod mqtt;
pub mod outgoing;
mod scan;
pub mod selection;
#[cfg(feature = "sql")]
mod sql;
mod step;
mod sums;
pub mod supervisor;
mod windows;
mod worker;
