//! The definition of a sink that publishes messages to an MQTT broker.

use std::path::PathBuf;

use fenetre_core::time::Span;
use serde::{Deserialize, Serialize};

use super::check_timeout;
use crate::{
    definition::{BrokerLogin, MqttVersion, check_qos},
    levels::LevelPattern,
    secret::SecretRef,
};

kind! {
    /// Publishes messages to an MQTT broker.
    Mqtt {
        /// The broker: `mqtt://HOST:PORT`, or `mqtts://HOST:PORT` with TLS.
        pub broker: String,
        /// Pattern of the topics: `{metric}` is replaced by the metric, any other `{name}` by the tag of that name.
        pub topic: LevelPattern,
        /// Content of a message (default: `json`).
        #[serde(default)]
        pub payload: Payload,
        /// Quality of service: 0, 1 or 2 (default: 1).
        #[serde(default = "crate::definition::default_qos")]
        pub qos: u8,
        /// Whether the broker keeps the latest message of each topic.
        #[serde(default, skip_serializing_if = "std::ops::Not::not")]
        pub retain: bool,
        /// Version of the protocol (default: `5`).
        #[serde(default)]
        pub version: MqttVersion,
        /// Name at the broker (default: from the sink).
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub client_id: Option<String>,
        /// Name of the user.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub user: Option<String>,
        /// Where the password is.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub password: Option<SecretRef>,
        /// Certificates of the authorities that the broker is checked against, as a PEM file (default: the public ones).
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub ca: Option<PathBuf>,
        /// The certificate of this client, as a PEM file.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub certificate: Option<PathBuf>,
        /// Its private key, as a PEM file.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub key: Option<PathBuf>,
        /// Interval of signs of life (default: 30 s).
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub keep_alive: Option<Span>,
        /// Maximum time without an acknowledgement (default: 30 s).
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub timeout: Option<Span>,
    }
}

/// Content of a message.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Payload {
    /// A point, as a JSON object with metric, tags, time, value and unit.
    #[default]
    Json,
    /// The value alone, without its time.
    Value,
    /// All points of the topic in a batch, a JSON object per line.
    JsonLines,
}

impl Mqtt {
    /// How to connect to the broker.
    pub fn login(&self) -> BrokerLogin<'_> {
        let Self { broker, version, user, password, ca, certificate, key, keep_alive, .. } = self;
        BrokerLogin {
            broker,
            version: *version,
            user: user.as_ref(),
            password: password.as_ref(),
            ca: ca.as_ref(),
            certificate: certificate.as_ref(),
            key: key.as_ref(),
            keep_alive: *keep_alive,
        }
    }

    pub(super) fn check(&self) -> Result<(), String> {
        self.login().check()?;
        check_qos(self.qos)?;
        if !self.topic.is_single() {
            return Err(format!("topic: `{}` has `+` or `#`: a message has one topic, such as velmar/{{lock}}/{{metric}}", self.topic));
        }
        check_timeout(self.timeout)
    }
}
