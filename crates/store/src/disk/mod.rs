//! Files on the disk: their names, SQLite, and open connections.

pub mod files;
pub mod pool;
pub mod sqlite;
