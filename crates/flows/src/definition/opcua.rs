//! The definition of a source that subscribes to nodes of an OPC UA server.

use std::{collections::BTreeMap, path::PathBuf};

use fenetre_core::{
    model::check_name,
    time::{SECOND, Span},
};
use serde::{Deserialize, Serialize};

use super::{address::Address, check_files, check_tags, exact};
use crate::{definition::METRIC, levels::LevelPattern, secret::SecretRef};

kind! {
    /// Subscribes to nodes of an OPC UA server (IEC 62541).
    Opcua {
        /// The server: `opc.tcp://HOST:PORT/PATH`.
        pub endpoint: String,
        /// The nodes.
        #[serde(default)]
        pub nodes: Vec<Node>,
        /// Interval in which the server samples values (default: 1 s).
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub sampling: Option<Span>,
        /// Security of messages (default: `none`).
        #[serde(default)]
        pub security: Security,
        /// Name of the user (default: anonymous).
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub user: Option<String>,
        /// Where the password is.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub password: Option<SecretRef>,
        /// Folder of certificates (the application's own, and those of servers that are trusted); needed for security.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub certificates: Option<PathBuf>,
        /// Maximum time of a request (default: 5 s).
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub timeout: Option<Span>,
    }
}

/// A node, or a pattern of nodes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Node {
    /// Its id, such as `ns=2;s=Osier.Level`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub id: Option<String>,
    /// A pattern of browse names below `Objects`: `Locks/{lock}/{metric}`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub path: Option<LevelPattern>,
    /// Metric, if the path has no `{metric}`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub metric: Option<String>,
    /// UCUM code of the unit.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub unit: Option<String>,
    /// Tags of its points.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub tags: BTreeMap<String, String>,
}

/// Security of messages.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Security {
    /// Neither signed nor encrypted.
    #[default]
    None,
    /// Signed (policy Basic256Sha256).
    Sign,
    /// Signed and encrypted (policy Basic256Sha256).
    SignAndEncrypt,
}

impl Opcua {
    pub(super) fn check(&self) -> Result<(), String> {
        if self.format.is_some() || self.mapping.is_some() {
            return Err("format and mapping: they do not apply to nodes: remove them".to_owned());
        }
        if self.every.is_some() {
            return Err("every: the server sends changes, so there is no period: remove it, and set `sampling`".to_owned());
        }
        Address::parse(&self.endpoint, &["opc.tcp"], "opc.tcp://127.0.0.1:4840").map_err(|error| format!("endpoint: {error}"))?;
        if self.nodes.is_empty() {
            return Err("nodes: name at least one, such as nodes = [{ path = \"Locks/{lock}/{metric}\" }]".to_owned());
        }
        self.nodes.iter().zip(1..).try_for_each(|(node, number)| node.check().map_err(|error| format!("node {number}: {error}")))?;
        if !(SECOND / 100..=24 * 3_600 * SECOND).contains(&self.sampling.map_or(SECOND, exact)) {
            return Err("sampling: use 10ms to 1d".to_owned());
        }
        if !(SECOND / 10..=300 * SECOND).contains(&self.timeout.map_or(SECOND, exact)) {
            return Err("timeout: use 100ms to 5m".to_owned());
        }
        check_files(&[("certificates", self.certificates.as_ref())])?;
        if self.security != Security::None && self.certificates.is_none() {
            return Err("certificates: security needs a folder for certificates, such as /etc/fenetre/opcua".to_owned());
        }
        match (&self.user, &self.password) {
            (Some(_), None) => Err("user: it needs a `password`".to_owned()),
            (None, Some(_)) => Err("password: it needs a `user`".to_owned()),
            _ => Ok(()),
        }
    }
}

impl Node {
    fn check(&self) -> Result<(), String> {
        match (&self.id, &self.path) {
            (Some(_), Some(_)) | (None, None) => return Err("write either `id` or `path`".to_owned()),
            (Some(_), None) if self.metric.is_none() => return Err("a node with an `id` needs a `metric`".to_owned()),
            (None, Some(path)) if (self.metric.is_some()) == path.names().any(|name| name == METRIC) => {
                return Err(format!("either the path `{path}` has {{metric}}, or `metric` is set"));
            }
            _ => {}
        }
        if let Some(metric) = &self.metric {
            check_name(metric).map_err(|error| format!("metric: {error}"))?;
        }
        check_tags(&self.tags)
    }
}
