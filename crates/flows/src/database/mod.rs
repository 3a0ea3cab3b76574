//! Connections to database servers.

pub mod limited;
pub mod postgres;

use std::{path::PathBuf, time::Duration};

use crate::{definition::Address, error::FlowError, runtime::Stop};

/// Maximum time of connecting.
pub const CONNECTING: Duration = Duration::from_secs(10);
/// Time for cancelling and for what the network adds to a statement.
pub const GRACE: Duration = Duration::from_secs(5);

/// How to connect to a server.
pub struct Login<'a> {
    /// Name of the database, for people.
    pub name: &'a str,
    /// The server, and the database as its path.
    pub address: &'a Address,
    /// Name of the user.
    pub user: &'a str,
    /// Password of the user.
    pub password: Option<String>,
    /// Whether TLS is used.
    pub tls: bool,
    /// Certificates of the authorities that the server is checked against, as a PEM file (default: the public ones).
    pub ca: Option<&'a PathBuf>,
    /// Maximum time of a statement.
    pub timeout: Duration,
    /// Whether to stop.
    pub stop: Stop<'a>,
}

impl Login<'_> {
    /// A failure, with the name of the database.
    pub fn fault(&self, reason: &str) -> FlowError {
        FlowError::Peer(format!("{}: {reason}", self.name))
    }

    /// A failure for lack of an answer.
    pub fn silent(&self, what: &str, limit: Duration) -> FlowError {
        FlowError::Silent(format!("{}: did not {what} within {} s", self.name, limit.as_secs()))
    }
}
