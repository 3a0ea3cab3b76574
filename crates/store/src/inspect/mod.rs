//! Sizes of what is stored, and its verification.

pub mod sizes;
pub mod verify;
