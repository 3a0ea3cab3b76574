//! Stand-ins of the waterway's devices and services on loopback, for sources to fetch from: each runs until the process ends.
//!
//! | module | what it is |
//! |---|---|
//! | [`locks`] | a Modbus device at each of some locks; one answers with exceptions, one is silent |
//! | [`control`] | the web service of the control room, in OpenMetrics; its counters begin anew now and then |
//! | [`clerk`] | a clerk who writes passages into an SQLite table |
//! | `weirs` | an OPC UA server with the weirs, in builds with the feature `opcua` |
//! | [`boats`] | boats and gates through a real MQTT broker, where one is installed |

pub mod boats;
pub mod clerk;
pub mod control;
pub mod locks;
#[cfg(feature = "opcua")]
pub mod weirs;

use std::time::{SystemTime, UNIX_EPOCH};

/// Seconds since 1970.
fn now() -> f64 {
    SystemTime::now().duration_since(UNIX_EPOCH).map_or(0.0, |since| since.as_secs_f64())
}

/// A value that swings once in `period` seconds, differently for each `phase`.
fn swing(middle: f64, width: f64, period: f64, phase: f64) -> f64 {
    middle + width * ((now() / period + phase) * std::f64::consts::TAU).sin()
}
