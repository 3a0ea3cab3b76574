//! The definition of a sink that writes files.

use std::path::PathBuf;

use serde::{Deserialize, Serialize};

kind! {
    /// Writes files into a folder.
    Files {
        /// The folder, on the machine of the service: an absolute path.
        pub path: PathBuf,
        /// Format of the files (default: `parquet`).
        #[serde(default)]
        pub format: FileFormat,
        /// Name of a file below the folder, without its ending: `{dataset}`, `{date}` and `{hour}` of the first point, and `{part}`, which is
        /// unique (default: `{dataset}/{date}/{part}`).
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub name: Option<String>,
    }
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

    pub(super) fn check(&self) -> Result<(), String> {
        if !self.path.is_absolute() {
            return Err("path: write an absolute path, such as /var/lib/points".to_owned());
        }
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
