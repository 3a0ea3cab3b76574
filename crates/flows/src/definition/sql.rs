//! The definition of a source that reads rows of a database.

use std::{collections::BTreeMap, path::PathBuf};

use fenetre_core::time::{SECOND, Span, parse_rfc3339};
use serde::{Deserialize, Serialize};

use super::{address::Address, check_files, exact};
use crate::secret::SecretRef;

kind! {
    /// Reads rows of a table or a query of a SQL database.
    Sql {
        /// The database: `postgresql://HOST:PORT/NAME`, `mysql://HOST:PORT/NAME` or `sqlite:///PATH`.
        pub database: String,
        /// The table, with its schema if that is needed.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub table: Option<String>,
        /// A query instead of a table, without an end mark.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub query: Option<String>,
        /// Only rows whose column has one of these values.
        #[serde(default, rename = "where", skip_serializing_if = "BTreeMap::is_empty")]
        pub filter: BTreeMap<String, Vec<String>>,
        /// The first time that is read, in RFC 3339 (default: all).
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub from: Option<String>,
        /// How far each round goes back behind the latest time, for late and changed rows (default: 10 min).
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub overlap: Option<Span>,
        /// Name of the user.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub user: Option<String>,
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
        /// Maximum number of new series in a round (default: 10,000).
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub max_new_series: Option<u64>,
        /// Rows that are stored at once (default: 10,000).
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub part: Option<u32>,
    }
}

/// A kind of database.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Engine {
    /// PostgreSQL.
    Postgres,
    /// MySQL or MariaDB.
    Mysql,
    /// A file of SQLite.
    Sqlite,
}

/// Schemes of databases.
const SCHEMES: [(&str, Engine); 4] =
    [("postgresql", Engine::Postgres), ("postgres", Engine::Postgres), ("mysql", Engine::Mysql), ("mariadb", Engine::Mysql)];
/// Before the path of a file.
const SQLITE: &str = "sqlite://";

/// Where a database is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Place {
    /// On a server.
    Server(Engine, Address),
    /// In a file.
    File(PathBuf),
}

impl Sql {
    /// Where the database is.
    ///
    /// # Errors
    /// What is wrong, with an example.
    pub fn place(&self) -> Result<Place, String> {
        if let Some(path) = self.database.strip_prefix(SQLITE) {
            let path = PathBuf::from(path);
            return if path.is_absolute() {
                Ok(Place::File(path))
            } else {
                Err("database: write an absolute path, such as sqlite:///var/lib/clerk.db".to_owned())
            };
        }
        let schemes = SCHEMES.map(|(scheme, _)| scheme);
        let address = Address::parse(&self.database, &schemes, "postgresql://127.0.0.1:5432/velmar, mysql://… or sqlite:///PATH");
        let address = address.map_err(|error| format!("database: {error}"))?;
        if address.path.is_empty() || address.path.contains(['/', '?']) {
            return Err(format!("database: `{}` needs the name of a database after the port, and nothing else", self.database));
        }
        let engine = SCHEMES.iter().find(|(scheme, _)| *scheme == address.scheme).map_or(Engine::Postgres, |(_, engine)| *engine);
        Ok(Place::Server(engine, address))
    }

    pub(super) fn check(&self) -> Result<(), String> {
        let place = self.place()?;
        if self.format.is_some() {
            return Err("format: it does not apply to rows: remove it, and write a `mapping`".to_owned());
        }
        if self.mapping.as_ref().is_none_or(|mapping| mapping.time.column.is_none()) {
            return Err("mapping: name the column of the time, such as [mapping.time] with column = \"at\"".to_owned());
        }
        if self.mapping.as_ref().is_some_and(|mapping| mapping.time.time_of_day.is_some()) {
            return Err("mapping.time.time_of_day: rows are read by one column: join date and time of day in a `query`".to_owned());
        }
        match (&self.table, &self.query) {
            (Some(_), Some(_)) | (None, None) => return Err("write either `table` or `query`".to_owned()),
            (Some(table), None) if table.split('.').any(|part| part.is_empty() || part.contains(['\0', '"', '`'])) => {
                return Err(format!("table: `{table}` is not the name of a table: write NAME or SCHEMA.NAME"));
            }
            (None, Some(query)) if query.trim_end().ends_with(';') => return Err("query: remove the `;` at its end".to_owned()),
            _ => {}
        }
        if let Some((column, _)) = self.filter.iter().find(|(_, values)| values.is_empty()) {
            return Err(format!("where.{column}: name at least one value, such as where = {{ {column} = [\"level\"] }}"));
        }
        if let Some(from) = &self.from {
            parse_rfc3339(from).map_err(|error| format!("from: {error}"))?;
        }
        if !(0..=3_660 * 24 * 3_600 * SECOND).contains(&self.overlap.map_or(0, exact)) {
            return Err("overlap: use up to 10 years".to_owned());
        }
        if !(SECOND..=24 * 3_600 * SECOND).contains(&self.timeout.map_or(SECOND, exact)) {
            return Err("timeout: use 1s to 1d".to_owned());
        }
        if !(1..=1_000_000).contains(&self.part.unwrap_or(1)) {
            return Err("part: use 1 to 1,000,000 rows".to_owned());
        }
        check_files(&[("ca", self.ca.as_ref())])?;
        if let Place::File(_) = place {
            let of_servers =
                [("user", self.user.is_some()), ("password", self.password.is_some()), ("tls", self.tls.is_some()), ("ca", self.ca.is_some())];
            if let Some((key, _)) = of_servers.iter().find(|(_, is_set)| *is_set) {
                return Err(format!("{key}: it does not apply to an SQLite file: remove it"));
            }
        } else if self.user.is_none() {
            return Err("user: name the user of the database".to_owned());
        }
        Ok(())
    }
}
