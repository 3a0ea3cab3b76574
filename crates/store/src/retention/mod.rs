//! What must go, by age and by size, and how it goes.

pub mod expiry;
