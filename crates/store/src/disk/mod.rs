//! How files lie on the disk: their names, SQLite, and connections that stay open.

pub mod files;
pub mod pool;
pub mod sqlite;
