//! What every call goes through: access, lanes, bodies, and the console's files.

pub mod access;
pub mod body;
pub mod budget;
pub mod connection;
pub mod console;
pub mod lanes;
pub mod openapi;
