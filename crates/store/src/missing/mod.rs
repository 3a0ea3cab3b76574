//! Points that are no longer kept, or hidden: erased, in the bin, trimmed, or lost with their file.

pub mod dropped;
pub mod floors;
pub mod inventory;
pub mod trims;
