//! What is stored: how large it is, and whether it is as it was written.

pub mod sizes;
pub mod verify;
