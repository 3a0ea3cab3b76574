//! What the definitions of a source and a sink of MQTT have in common.

use std::path::PathBuf;

use fenetre_core::time::{SECOND, Span};
use serde::{Deserialize, Serialize};

use super::{address::Address, check_files, exact};
use crate::secret::SecretRef;

/// Schemes of a broker: in clear, and with TLS.
pub const BROKER_SCHEMES: [&str; 2] = ["mqtt", "mqtts"];

/// A version of MQTT.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub enum MqttVersion {
    /// MQTT 3.1.1.
    #[serde(rename = "3.1.1")]
    V311,
    /// MQTT 5.0.
    #[default]
    #[serde(rename = "5")]
    V5,
}

/// How to connect to a broker.
#[derive(Clone, Copy, Debug)]
pub struct BrokerLogin<'d> {
    /// The broker, as an address.
    pub broker: &'d str,
    /// Version of the protocol.
    pub version: MqttVersion,
    /// Name of the user.
    pub user: Option<&'d String>,
    /// Where the password is.
    pub password: Option<&'d SecretRef>,
    /// Certificates of the authorities that the broker is checked against (default: the public ones).
    pub ca: Option<&'d PathBuf>,
    /// The certificate of this client.
    pub certificate: Option<&'d PathBuf>,
    /// Its private key.
    pub key: Option<&'d PathBuf>,
    /// Interval of signs of life.
    pub keep_alive: Option<Span>,
}

impl BrokerLogin<'_> {
    /// Address of the broker.
    ///
    /// # Errors
    /// What is wrong, with an example.
    pub fn address(&self) -> Result<Address, String> {
        let address = Address::parse(self.broker, &BROKER_SCHEMES, "mqtt://127.0.0.1:1883").map_err(|error| format!("broker: {error}"))?;
        if address.path.is_empty() { Ok(address) } else { Err(format!("broker: `{}` has a path: remove it, because a broker has none", self.broker)) }
    }

    /// Checks whether its parts make sense together.
    ///
    /// # Errors
    /// What is wrong, and what to write.
    pub fn check(&self) -> Result<(), String> {
        self.address()?;
        if !(SECOND..=18 * 3_600 * SECOND).contains(&self.keep_alive.map_or(SECOND, exact)) {
            return Err("keep_alive: use 1s to 18h".to_owned());
        }
        check_files(&[("ca", self.ca), ("certificate", self.certificate), ("key", self.key)])?;
        if self.certificate.is_some() != self.key.is_some() {
            return Err("certificate and key: write both, or neither".to_owned());
        }
        if self.broker.starts_with("mqtt://") && (self.ca.is_some() || self.certificate.is_some()) {
            return Err("ca, certificate and key need TLS: write the broker as mqtts://HOST:PORT".to_owned());
        }
        match (self.user, self.password) {
            (None, Some(_)) => Err("password: it needs a `user`".to_owned()),
            _ => Ok(()),
        }
    }
}

/// Checks a quality of service.
///
/// # Errors
/// What is allowed.
pub fn check_qos(qos: u8) -> Result<(), String> {
    if qos > 2 { Err("qos: use 0, 1 or 2".to_owned()) } else { Ok(()) }
}

/// The quality of service of a definition without one.
pub fn default_qos() -> u8 {
    1
}
