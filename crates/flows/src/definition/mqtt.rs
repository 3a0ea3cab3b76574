//! The definition of a source that subscribes to topics of an MQTT broker.

use std::path::PathBuf;

use fenetre_core::{
    model::check_name,
    time::{SECOND, Span},
};
use fenetre_formats::{Format, mapping::Role};
use serde::{Deserialize, Serialize};

use super::{BrokerLogin, MqttVersion, check_qos, exact};
use crate::{levels::LevelPattern, secret::SecretRef};

/// Name that marks the metric in a pattern.
pub const METRIC: &str = "metric";

kind! {
    /// Subscribes to topics of an MQTT broker.
    Mqtt {
        /// The broker: `mqtt://HOST:PORT`, or `mqtts://HOST:PORT` with TLS.
        pub broker: String,
        /// Patterns of topics; a `{name}` becomes a tag, `{metric}` the metric.
        #[serde(default)]
        pub topics: Vec<LevelPattern>,
        /// Metric of values whose topic has no `{metric}`.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub metric: Option<String>,
        /// Type of messages without a format (default: `any`).
        #[serde(default)]
        pub values: Values,
        /// Quality of service: 0, 1 or 2 (default: 1).
        #[serde(default = "super::default_qos")]
        pub qos: u8,
        /// Version of the protocol (default: `5`).
        #[serde(default)]
        pub version: MqttVersion,
        /// Name of the group that shares the messages (MQTT 5.0, 4.8.2).
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub share: Option<String>,
        /// Name at the broker (default: from the store and the source).
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub client_id: Option<String>,
        /// How long the broker keeps messages while this source is away (default: 1 day).
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub session: Option<Span>,
        /// Whether retained messages are taken (default: `skip`).
        #[serde(default)]
        pub retained: Retained,
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
        /// Maximum size of a message in bytes (default: 1,000,000).
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub max_bytes: Option<u32>,
    }
}

/// Type of messages without a format.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Values {
    /// A number, or a word if it is none or the metric is a state.
    #[default]
    Any,
    /// A number; anything else is rejected.
    Numbers,
    /// A word of a state.
    Words,
}

/// Treatment of retained messages, which may be old.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Retained {
    /// They are ignored.
    #[default]
    Skip,
    /// They are stored like other messages.
    Take,
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

    /// Format of messages: of the definition, or JSON if it has a mapping.
    pub fn format(&self) -> Option<Format> {
        self.format.or_else(|| self.mapping.as_ref().map(|_| Format::Json))
    }

    pub(super) fn check(&self) -> Result<(), String> {
        self.login().check()?;
        if self.topics.is_empty() {
            return Err("topics: name at least one, such as topics = [\"velmar/{lock}/{metric}\"]".to_owned());
        }
        if self.every.is_some() {
            return Err("every: messages arrive when they are published, so there is no period: remove it".to_owned());
        }
        check_qos(self.qos)?;
        let share_is_wrong = |share: &String| share.is_empty() || share.contains(['/', '+', '#']);
        if self.share.as_ref().is_some_and(share_is_wrong) {
            return Err("share: the name of a group must not be empty or contain `/`, `+` or `#`".to_owned());
        }
        if let Some(metric) = &self.metric {
            check_name(metric).map_err(|error| format!("metric: {error}"))?;
        }
        self.topics.iter().try_for_each(|topic| self.check_topic(topic))?;
        if !(0..=365 * 24 * 3_600 * SECOND).contains(&self.session.map_or(0, exact)) {
            return Err("session: use up to 365d".to_owned());
        }
        Ok(())
    }

    /// Whether the metric of its messages is known.
    fn check_topic(&self, topic: &LevelPattern) -> Result<(), String> {
        let has_metric = topic.names().any(|name| name == METRIC);
        match (self.format(), &self.mapping) {
            (None, _) if !has_metric && self.metric.is_none() => Err(format!(
                "topics: `{topic}` has no {{metric}}: add it, or set `metric`, or a `format` or `mapping` of messages that name their metrics"
            )),
            (Some(format), None) if has_metric => Err(format!(
                "topics: `{topic}` names the metric, but messages in {} do, too: remove {{metric}}, or write a `mapping` that names the key of the value",
                format.name()
            )),
            (Some(_), Some(mapping)) if has_metric => {
                let values = mapping.columns.iter().filter(|column| matches!(column.role, Role::Value | Role::State)).count();
                if values == 1 {
                    Ok(())
                } else {
                    Err(format!("mapping: with {{metric}} in `{topic}`, exactly one column has the role value or state; here are {values}"))
                }
            }
            _ => Ok(()),
        }
    }
}
