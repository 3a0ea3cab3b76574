//! The definition of a sink that writes files.

use std::path::PathBuf;

use fenetre_core::time::Span;
use serde::{Deserialize, Serialize};

use super::{check_timeout, check_url};
use crate::{definition::check_files, secret::SecretRef};

kind! {
    /// Writes files into a folder or an object store.
    Files {
        /// The folder: an absolute path on the machine of the service, or `s3://BUCKET/PREFIX` in an object store.
        pub path: String,
        /// Format of the files (default: `parquet`).
        #[serde(default)]
        pub format: FileFormat,
        /// Name of a file below the folder, without its ending: `{dataset}`, `{date}` and `{hour}` of the first point, and `{part}`, which is
        /// unique (default: `{dataset}/{date}/{part}`).
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub name: Option<String>,
        /// Address of the object store (default: that of the region).
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub endpoint: Option<String>,
        /// Region of the object store (default: `us-east-1`).
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub region: Option<String>,
        /// Name of the access key.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub access_key: Option<String>,
        /// Where the secret of the access key is.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub secret_key: Option<SecretRef>,
        /// Certificates of the authorities that the object store is checked against, as a PEM file (default: the public ones).
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub ca: Option<PathBuf>,
        /// Maximum time of a call to the object store (default: 30 s).
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub timeout: Option<Span>,
    }
}

/// Before the name of a bucket.
const BUCKET: &str = "s3://";

/// Where files are written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum FilePlace {
    /// A folder on the machine of the service.
    Folder(PathBuf),
    /// A part of an object store.
    Bucket {
        /// Name of the bucket.
        bucket: String,
        /// What the names of all objects begin with, without a slash at its end.
        prefix: String,
    },
}

/// Format of a file.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum FileFormat {
    /// A Parquet file.
    #[default]
    Parquet,
    /// A table.
    Csv,
    /// A JSON object per line.
    JsonLines,
}

impl FileFormat {
    /// The ending of a file's name.
    pub fn ending(self) -> &'static str {
        match self {
            Self::Parquet => "parquet",
            Self::Csv => "csv",
            Self::JsonLines => "ndjson",
        }
    }
}

/// Parts of a name that are replaced.
const PARTS: [&str; 4] = ["{dataset}", "{date}", "{hour}", "{part}"];

impl Files {
    /// Pattern of the names of files, without their ending.
    pub fn pattern(&self) -> &str {
        self.name.as_deref().unwrap_or("{dataset}/{date}/{part}")
    }

    /// Where its files are written.
    ///
    /// # Errors
    /// What is wrong, with an example.
    pub fn place(&self) -> Result<FilePlace, String> {
        if let Some(rest) = self.path.strip_prefix(BUCKET) {
            let (bucket, prefix) = rest.split_once('/').unwrap_or((rest, ""));
            let prefix = prefix.trim_end_matches('/');
            // Rules of the names of buckets that all object stores share.
            let is_name = (3..=63).contains(&bucket.len()) && bucket.chars().all(|letter| matches!(letter, 'a'..='z' | '0'..='9' | '-' | '.'));
            if !is_name || prefix.split('/').any(|part| part.is_empty() && !prefix.is_empty() || matches!(part, "." | "..")) {
                return Err(format!("path: `{}` is no part of an object store: write s3://BUCKET or s3://BUCKET/PREFIX", self.path));
            }
            return Ok(FilePlace::Bucket { bucket: bucket.to_owned(), prefix: prefix.to_owned() });
        }
        let path = PathBuf::from(&self.path);
        if path.is_absolute() {
            Ok(FilePlace::Folder(path))
        } else {
            Err("path: write an absolute path, such as /var/lib/points, or s3://BUCKET/PREFIX".to_owned())
        }
    }

    fn check_bucket(&self, place: &FilePlace) -> Result<(), String> {
        if let FilePlace::Folder(_) = place {
            let keys = [
                ("endpoint", self.endpoint.is_some()),
                ("region", self.region.is_some()),
                ("access_key", self.access_key.is_some()),
                ("secret_key", self.secret_key.is_some()),
                ("ca", self.ca.is_some()),
                ("timeout", self.timeout.is_some()),
            ];
            return match keys.iter().find(|(_, is_set)| *is_set) {
                Some((key, _)) => Err(format!("{key}: it applies only to an object store: remove it, or write path = \"s3://BUCKET/PREFIX\"")),
                None => Ok(()),
            };
        }
        if self.access_key.is_none() || self.secret_key.is_none() {
            return Err("access_key and secret_key: an object store needs both".to_owned());
        }
        self.endpoint.iter().try_for_each(|endpoint| check_url(endpoint).map_err(|error| error.replacen("url", "endpoint", 1)))?;
        check_files(&[("ca", self.ca.as_ref())])?;
        check_timeout(self.timeout)
    }

    pub(super) fn check(&self) -> Result<(), String> {
        self.check_bucket(&self.place()?)?;
        let name = self.pattern();
        let last = name.rsplit('/').next().unwrap_or_default();
        if !last.contains("{part}") {
            return Err(format!("name: `{name}` would be the same for several files: write {{part}} in its last part"));
        }
        if name.split('/').any(|part| matches!(part, "" | "." | "..")) {
            return Err(format!("name: `{name}` must be a path below the folder, without `.` and `..`"));
        }
        let rest = PARTS.iter().fold(name.to_owned(), |rest, part| rest.replace(part, ""));
        if rest.contains(['{', '}', '\\']) || rest.chars().any(char::is_control) {
            return Err(format!("name: in `{name}` only {} are replaced", PARTS.join(", ")));
        }
        Ok(())
    }
}
