//! Connections to PostgreSQL.

use std::error::Error;

use tokio::{net::TcpStream, time::timeout};
use tokio_postgres::{Client, Config, NoTls, error::SqlState, tls::MakeTlsConnect};
use tokio_postgres_rustls::MakeRustlsConnect;

use super::{
    CONNECTING, Login,
    limited::{Limited, Meter},
};
use crate::{error::FlowError, tls::TlsFiles};

/// Connects, and runs statements that begin a session. What the server sends between two resets of the meter is limited.
///
/// # Errors
/// [`FlowError::Peer`] if the server refuses, [`FlowError::Silent`] if it does not answer in time.
pub async fn connect(login: &Login<'_>, meter: &Meter, begin: &str) -> Result<Client, FlowError> {
    let mut config = Config::new();
    config.user(login.user).dbname(&login.address.path).application_name("fenetre");
    if let Some(password) = &login.password {
        config.password(password);
    }
    let port = login.address.port.unwrap_or(5_432);
    let refused = |error: &tokio_postgres::Error| login.fault(&describe(error, ""));
    let connecting = async {
        let stream = TcpStream::connect((login.address.host.as_str(), port)).await.map_err(|error| login.fault(&of_io(&error)))?;
        let stream = Limited::new(stream, meter.clone());
        let client = if login.tls {
            let config_of_tls = TlsFiles { ca: login.ca, ..TlsFiles::default() }.read()?;
            config.ssl_mode(tokio_postgres::config::SslMode::Require);
            let mut tls = MakeRustlsConnect::new((*config_of_tls).clone());
            let tls = MakeTlsConnect::<Limited>::make_tls_connect(&mut tls, &login.address.host).map_err(|error| login.fault(&error.to_string()))?;
            let (client, connection) = config.connect_raw(stream, tls).await.map_err(|error| refused(&error))?;
            tokio::spawn(connection);
            client
        } else {
            config.ssl_mode(tokio_postgres::config::SslMode::Disable);
            let (client, connection) = config.connect_raw(stream, NoTls).await.map_err(|error| refused(&error))?;
            tokio::spawn(connection);
            client
        };
        client.batch_execute(begin).await.map_err(|error| refused(&error))?;
        Ok(client)
    };
    timeout(CONNECTING, connecting).await.map_err(|_| login.silent("connect", CONNECTING))?
}

/// A failure in words. `remedy` follows the message of a server, if there is no better one.
pub fn describe(error: &tokio_postgres::Error, remedy: &str) -> String {
    let Some(of_server) = error.as_db_error() else {
        let source = error.source().map_or_else(|| error.to_string(), ToString::to_string);
        return format!("the connection failed: {source}");
    };
    let remedy = match of_server.code() {
        &SqlState::INVALID_PASSWORD | &SqlState::INVALID_AUTHORIZATION_SPECIFICATION => ": check `user` and `password`",
        _ => remedy,
    };
    format!("{}{remedy}", of_server.message())
}

fn of_io(error: &std::io::Error) -> String {
    if error.kind() == std::io::ErrorKind::ConnectionRefused { "nothing listens there".to_owned() } else { error.to_string() }
}
