//! The definition of a sink that writes rows into a table.

use std::path::PathBuf;

use fenetre_core::time::Span;
use serde::{Deserialize, Serialize};

use super::check_timeout;
use crate::{
    definition::{Address, check_files},
    secret::SecretRef,
};

kind! {
    /// Writes rows into a table of a PostgreSQL database.
    Sql {
        /// The database: `postgresql://HOST:PORT/NAME`.
        pub database: String,
        /// Name of the user.
        pub user: String,
        /// Where the password is.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub password: Option<SecretRef>,
        /// Whether TLS is used (default: unless the database is on this machine).
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub tls: Option<bool>,
        /// Certificates of the authorities that the server is checked against, as a PEM file (default: the public ones).
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub ca: Option<PathBuf>,
        /// Maximum time of a statement (default: 30 s).
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub timeout: Option<Span>,
        /// The table, with its schema if that is needed.
        pub table: String,
        /// Whether a missing table is created.
        #[serde(default, skip_serializing_if = "std::ops::Not::not")]
        pub create: bool,
        /// Names of the columns.
        #[serde(default, skip_serializing_if = "Columns::is_default")]
        pub columns: Columns,
    }
}

/// Names of columns by their content. A tag is in the column of its name, if there is one, else in the column `tags`.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Columns {
    /// Time (default: `time`).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub time: Option<String>,
    /// Name of the metric (default: `metric`, if there is one).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub metric: Option<String>,
    /// Numbers (default: `value`).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub value: Option<String>,
    /// Words (default: `word`, if there is one).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub word: Option<String>,
    /// Histograms, as JSON (default: `histogram`, if there is one).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub histogram: Option<String>,
    /// Units (default: `unit`, if there is one).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub unit: Option<String>,
    /// Tags without a column of their own, as JSON (default: `tags`, if there is one).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tags: Option<String>,
}

impl Columns {
    fn is_default(&self) -> bool {
        *self == Self::default()
    }
}

impl Sql {
    /// Address of the server, with the name of the database as its path.
    ///
    /// # Errors
    /// What is wrong, with an example.
    pub fn address(&self) -> Result<Address, String> {
        let address = Address::parse(&self.database, &["postgresql", "postgres"], "postgresql://127.0.0.1:5432/control");
        let address = address.map_err(|error| format!("database: {error}"))?;
        if address.path.is_empty() || address.path.contains(['/', '?']) {
            return Err(format!("database: `{}` needs the name of a database after the port, and nothing else", self.database));
        }
        Ok(address)
    }

    pub(super) fn check(&self) -> Result<(), String> {
        self.address()?;
        if self.table.split('.').count() > 2 || self.table.split('.').any(|part| part.is_empty() || part.contains('\0')) {
            return Err(format!("table: `{}` is not the name of a table: write NAME or SCHEMA.NAME", self.table));
        }
        let Columns { time, metric, value, word, histogram, unit, tags } = &self.columns;
        let mut named: Vec<&String> = [time, metric, value, word, histogram, unit, tags].into_iter().flatten().collect();
        named.sort_unstable();
        if let Some(pair) = named.windows(2).find(|pair| pair[0] == pair[1]) {
            return Err(format!("columns: `{}` has two contents: name another column for one of them", pair[0]));
        }
        check_files(&[("ca", self.ca.as_ref())])?;
        check_timeout(self.timeout)
    }
}
