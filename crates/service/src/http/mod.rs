//! What every call goes through: lanes, bodies, headers, and the console's files.

pub mod body;
pub mod budget;
pub mod connection;
pub mod console;
pub mod finish;
pub mod lanes;
pub mod openapi;
