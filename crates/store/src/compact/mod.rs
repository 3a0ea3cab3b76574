//! Rewrites partitions: with fewer and fuller blocks, or with other spans.

pub mod compactor;
pub mod respan;
