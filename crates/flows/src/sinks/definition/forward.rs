//! The definition of a sink that forwards points to another Fenetre.

use std::path::PathBuf;

use fenetre_core::{model::check_dataset_name, time::Span};
use serde::{Deserialize, Serialize};

use super::{check_timeout, check_url};
use crate::{definition::check_files, secret::SecretRef};

kind! {
    /// Sends points to another Fenetre.
    Forward {
        /// Address of the other service.
        pub url: String,
        /// Dataset there (default: the name of the dataset here).
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub into: Option<String>,
        /// A token of the other service that may write the dataset there.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub token: Option<SecretRef>,
        /// Certificates of the authorities that the other service is checked against, as a PEM file (default: the public ones).
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub ca: Option<PathBuf>,
        /// Maximum time of a call (default: 30 s).
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub timeout: Option<Span>,
    }
}

impl Forward {
    /// Dataset of the points at the other service.
    pub fn into_dataset(&self) -> &str {
        self.into.as_deref().unwrap_or(&self.dataset)
    }

    pub(super) fn check(&self) -> Result<(), String> {
        check_url(&self.url)?;
        check_files(&[("ca", self.ca.as_ref())])?;
        self.into.iter().try_for_each(|into| check_dataset_name(into).map_err(|error| format!("into: {error}")))?;
        check_timeout(self.timeout)
    }
}
