//! The definition of a source that polls.

use std::{collections::BTreeMap, path::PathBuf};

use fenetre_core::time::{SECOND, Span};
use serde::{Deserialize, Serialize};

use super::{check_credentials, check_files, check_tags, exact};
use crate::secret::SecretRef;

kind! {
    /// Asks addresses over HTTP, again and again.
    Poll {
        /// What is asked.
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        pub targets: Vec<Target>,
        /// A file with further targets, on the machine of the service; read again in each round.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub targets_file: Option<PathBuf>,
        /// Maximum time of an answer, from the connection to its last byte (default: 5 s).
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub timeout: Option<Span>,
        /// Maximum size of an answer in bytes (default: 10,000,000).
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub max_bytes: Option<u64>,
        /// Maximum number of redirects (default: 3).
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub max_redirects: Option<u32>,
        /// Whether OpenMetrics may lack its end mark and its content type.
        #[serde(default, skip_serializing_if = "std::ops::Not::not")]
        pub lenient: bool,
        /// Whether an answer that has not changed is passed over (RFC 9110, 13: conditional requests).
        #[serde(default, skip_serializing_if = "std::ops::Not::not")]
        pub conditional: bool,
        /// A token that is sent with each request (RFC 6750).
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub bearer: Option<SecretRef>,
        /// A name and a password that are sent with each request (RFC 7617).
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub basic: Option<Basic>,
        /// Certificates of the authorities that targets are checked against, as a PEM file (default: the public ones).
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
    }
}

/// One address.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Target {
    /// Where.
    pub url: String,
    /// Tags of its points.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub tags: BTreeMap<String, String>,
}

/// A name and a password.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Basic {
    /// The name.
    pub user: String,
    /// Where the password is.
    pub password: SecretRef,
}

impl Target {
    /// Checks its address.
    ///
    /// # Errors
    /// What is wrong, and what to write.
    pub fn check(&self) -> Result<(), String> {
        let rest = self.url.strip_prefix("http://").or_else(|| self.url.strip_prefix("https://"));
        let Some(rest) = rest.filter(|rest| !rest.is_empty() && !rest.starts_with('/')) else {
            return Err(format!("targets: `{}` is not an address: write one that begins with http:// or https://", self.url));
        };
        if rest.split('/').next().unwrap_or_default().contains('@') {
            // This part could contain a password.
            return Err("targets: an address must not have a user name or password: use `basic` or `bearer`".to_owned());
        }
        check_tags(&self.tags).map_err(|error| format!("targets: {error}"))
    }
}

impl Poll {
    pub(super) fn check(&self) -> Result<(), String> {
        if self.targets.is_empty() && self.targets_file.is_none() {
            return Err("targets: name at least one, such as targets = [{ url = \"http://127.0.0.1:9100/metrics\" }], or a targets_file".to_owned());
        }
        self.targets.iter().try_for_each(Target::check)?;
        check_files(&[
            ("targets_file", self.targets_file.as_ref()),
            ("ca", self.ca.as_ref()),
            ("certificate", self.certificate.as_ref()),
            ("key", self.key.as_ref()),
        ])?;
        if !(SECOND / 100..=3_600 * SECOND).contains(&self.timeout.map_or(SECOND, exact)) {
            return Err("timeout: use 10ms to 1h".to_owned());
        }
        check_credentials(self.bearer.as_ref(), self.basic.as_ref(), &self.headers, (&self.certificate, &self.key))
    }
}
