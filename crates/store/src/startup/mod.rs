//! What is done before a store opens: files that belong to it, and stores of earlier formats.

pub mod identity;
pub mod migrate;
