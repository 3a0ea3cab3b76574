//! Commands for the machine of the service: they run it, or work on the files of a store without it. The Cargo feature `service` turns them on;
//! without it the command line is a client only, and links neither the web server nor the database.

pub mod config;
pub mod demo;
mod demo_sources;
pub mod repair;
pub mod restore;
pub mod serve;
pub mod tls;
pub mod token;
