//! How long and how much is kept: limits of the configuration file and of runtime.

pub mod horizons;
pub mod settings;
