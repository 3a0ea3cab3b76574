//! The Velmar Waterway: a made-up canal of three reaches and twelve locks, whose points fill the demo.
//!
//! Everything follows from a seed and the moment at which the waterway begins, so that a stopped demo resumes where it
//! was, and two people with the same seed see the same water.
//!
//! | module | subject |
//! |---|---|
//! | [`waterway`] | locks, metrics, series |
//! | `behaviour` | how each kind of series moves |
//! | [`generator`] | points in order of arrival |
//! | [`peers`] | devices and services that sources fetch from |

mod behaviour;
pub mod generator;
pub mod peers;
pub mod waterway;

pub use behaviour::Reading;
pub use generator::{DemoPoint, Generator};
