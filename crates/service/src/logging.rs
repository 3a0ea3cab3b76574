//! Structured log lines on standard error, as text or JSON.

use std::io::IsTerminal;

use tracing_subscriber::EnvFilter;

use crate::config::Config;

/// Libraries whose lines repeat what the log of a source says.
const QUIET: &str = "opcua_client=off,opcua_core=off,opcua_crypto=off,opcua_types=off,opcua_server=off,rumqttc=off,tokio_modbus=off,tokio_postgres=off,mysql_async=off";

/// Sets up logging for the process; a second call changes nothing.
pub fn init(config: &Config) {
    let filter = EnvFilter::try_from_env("FENETRE_LOG").unwrap_or_else(|_| EnvFilter::new(format!("{},{QUIET}", config.log_level)));
    // Lines that cannot be written, for example to a closed pipe, are dropped: reporting them on standard error would panic.
    let builder = tracing_subscriber::fmt().with_env_filter(filter).with_writer(std::io::stderr).with_target(false).log_internal_errors(false);
    // Colours are for eyes, not for files.
    let builder = builder.with_ansi(std::io::stderr().is_terminal());
    let _ = if config.json_log { builder.json().try_init() } else { builder.try_init() };
}
