//! The definition of a sink that sends batches over HTTP.

use std::{collections::BTreeMap, path::PathBuf};

use fenetre_core::time::Span;
use serde::{Deserialize, Serialize};

use super::{check_timeout, check_url};
use crate::{
    definition::{Basic, check_credentials, check_files},
    secret::SecretRef,
};

kind! {
    /// Sends batches to an address over HTTP.
    Http {
        /// The address that batches are posted to.
        pub url: String,
        /// Format of a batch (default: `json-lines`).
        #[serde(default)]
        pub format: BodyFormat,
        /// A token that is sent with each request (RFC 6750).
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub bearer: Option<SecretRef>,
        /// A name and a password that are sent with each request (RFC 7617).
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub basic: Option<Basic>,
        /// Certificates of the authorities that the other side is checked against, as a PEM file (default: the public ones).
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub ca: Option<PathBuf>,
        /// The certificate of this client, as a PEM file.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub certificate: Option<PathBuf>,
        /// Its private key, as a PEM file.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub key: Option<PathBuf>,
        /// Headers of each request, without secrets.
        #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
        pub headers: BTreeMap<String, String>,
        /// Maximum time of a request (default: 30 s).
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub timeout: Option<Span>,
    }
}

/// Format of a batch.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum BodyFormat {
    /// A JSON object per line.
    #[default]
    JsonLines,
    /// A table.
    Csv,
    /// An Arrow IPC stream.
    Arrow,
}

impl Http {
    pub(super) fn check(&self) -> Result<(), String> {
        check_url(&self.url)?;
        check_files(&[("ca", self.ca.as_ref()), ("certificate", self.certificate.as_ref()), ("key", self.key.as_ref())])?;
        check_credentials(self.bearer.as_ref(), self.basic.as_ref(), &self.headers, (&self.certificate, &self.key))?;
        check_timeout(self.timeout)
    }
}
