//! Expiry by age and by size.

pub mod expiry;
