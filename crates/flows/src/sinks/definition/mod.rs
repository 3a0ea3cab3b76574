//! Definitions of sinks: small documents in TOML or JSON.

use std::collections::{BTreeMap, BTreeSet};

use fenetre_core::{
    catalogue::whole_pattern,
    model::{check_dataset_name, check_name},
    query::{Condition, parse_condition},
    selection::split,
    time::{SECOND, Span},
    units::is_known,
};
use fenetre_store::{Document, DocumentKind};
use serde::{Deserialize, Serialize};

use crate::{
    definition::{
        check_tags,
        document::{OfKind, kept_secrets, parse},
        exact,
    },
    error::FlowError,
};

/// Declares a kind: its own fields, and the common fields of all kinds.
macro_rules! kind {
    ($(#[$about:meta])* $name:ident { $($fields:tt)* }) => {
        $(#[$about])*
        #[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
        #[serde(deny_unknown_fields)]
        pub struct $name {
            /// The kind, which was read already.
            #[serde(default, skip_serializing)]
            kind: Option<String>,
            /// The dataset whose points are sent.
            #[serde(default = "crate::definition::default_dataset")]
            pub dataset: String,
            /// Metrics that are sent (default: all).
            #[serde(default, skip_serializing_if = "Vec::is_empty")]
            pub metrics: Vec<fenetre_core::pattern::NamePattern>,
            /// Condition on the tags of the series that are sent, as in a query.
            #[serde(default, rename = "where", skip_serializing_if = "Option::is_none")]
            pub condition: Option<String>,
            /// A query whose windows are sent instead of points.
            #[serde(default, skip_serializing_if = "Option::is_none")]
            pub query: Option<String>,
            /// How long after its end a window of the query is sent.
            #[serde(default, skip_serializing_if = "Option::is_none")]
            pub settle: Option<fenetre_core::time::Span>,
            /// Names of metrics at the destination, by their names here.
            #[serde(default, skip_serializing_if = "std::collections::BTreeMap::is_empty")]
            pub rename: std::collections::BTreeMap<String, String>,
            /// Keys of tags at the destination, by their keys here.
            #[serde(default, skip_serializing_if = "std::collections::BTreeMap::is_empty")]
            pub rename_tags: std::collections::BTreeMap<String, String>,
            /// Tags that are not sent.
            #[serde(default, skip_serializing_if = "Vec::is_empty")]
            pub drop_tags: Vec<String>,
            /// Constant tags of every point.
            #[serde(default, skip_serializing_if = "std::collections::BTreeMap::is_empty")]
            pub tags: std::collections::BTreeMap<String, String>,
            /// Units to which values are converted, by metric.
            #[serde(default, skip_serializing_if = "std::collections::BTreeMap::is_empty")]
            pub units: std::collections::BTreeMap<String, String>,
            /// Maximum number of points of a batch.
            #[serde(default, skip_serializing_if = "Option::is_none")]
            pub batch_points: Option<usize>,
            /// Maximum time that a point waits for others of its batch.
            #[serde(default, skip_serializing_if = "Option::is_none")]
            pub batch_after: Option<fenetre_core::time::Span>,
            /// Whether the points that are stored already are sent too.
            #[serde(default, skip_serializing_if = "std::ops::Not::not")]
            pub history: bool,
            /// Whether it rests until it is resumed.
            #[serde(default, skip_serializing_if = "std::ops::Not::not")]
            pub paused: bool,
            $($fields)*
        }
    };
}

mod content;
pub mod examples;
mod files;
mod forward;
mod http;
mod mqtt;
mod sql;

pub use content::WindowQuery;
pub use files::{FileFormat, FilePlace, Files};
pub use forward::Forward;
pub use http::{BodyFormat, Http};
pub use mqtt::{Mqtt, Payload};
pub use sql::{Columns, Sql};

/// The definition of a sink.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "lowercase")]
pub enum SinkDefinition {
    /// Sends points to another Fenetre.
    Forward(Box<Forward>),
    /// Sends batches to an address over HTTP.
    Http(Box<Http>),
    /// Writes files into a folder.
    Files(Box<Files>),
    /// Writes rows into a table of a PostgreSQL database.
    Sql(Box<Sql>),
    /// Publishes messages to an MQTT broker.
    Mqtt(Box<Mqtt>),
}

impl Document for SinkDefinition {
    const KIND: DocumentKind = DocumentKind::Sink;
}

/// Matches a part that every kind has.
macro_rules! of_all {
    ($definition:expr, $of:ident => $part:expr) => {
        match $definition {
            SinkDefinition::Forward($of) => $part,
            SinkDefinition::Http($of) => $part,
            SinkDefinition::Files($of) => $part,
            SinkDefinition::Sql($of) => $part,
            SinkDefinition::Mqtt($of) => $part,
        }
    };
}

/// How points change on their way.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Shape {
    /// Names of metrics at the destination.
    pub rename: BTreeMap<String, String>,
    /// Keys of tags at the destination.
    pub rename_tags: BTreeMap<String, String>,
    /// Tags that are not sent.
    pub drop_tags: Vec<String>,
    /// Constant tags.
    pub tags: BTreeMap<String, String>,
    /// Units of the values at the destination.
    pub units: BTreeMap<String, String>,
}

/// The largest batch, in points.
const MAX_BATCH: usize = 5_000_000;

impl OfKind for SinkDefinition {
    const KINDS: &'static [&'static str] = &["forward", "http", "files", "sql", "mqtt"];

    fn read(kind: &str, text: &str) -> Option<Result<Self, toml::de::Error>> {
        Some(match kind {
            "forward" => toml::from_str(text).map(Self::Forward),
            "http" => toml::from_str(text).map(Self::Http),
            "files" => toml::from_str(text).map(Self::Files),
            "sql" => toml::from_str(text).map(Self::Sql),
            "mqtt" => toml::from_str(text).map(Self::Mqtt),
            _ => return None,
        })
    }

    fn check(&self) -> Result<(), String> {
        let (dataset, condition, shape) = (self.dataset(), self.condition(), self.shape());
        check_dataset_name(dataset).map_err(|error| format!("dataset: {error}"))?;
        if let Some(condition) = condition {
            let condition = parse_condition(condition).map_err(|error| format!("where: {error}"))?;
            check_patterns(&condition)?;
            let (_, values) = split(condition).map_err(|error| format!("where: {error}"))?;
            if !values.is_empty() {
                return Err("where: a sink chooses series by their tags, not points by their `value`".to_owned());
            }
        }
        if let Some(query) = self.query() {
            WindowQuery::parse(query).map_err(|error| format!("query: {error}"))?;
            if !self.metrics().is_empty() || condition.is_some() {
                return Err("query: it names its metrics and series itself: remove `metrics` and `where`".to_owned());
            }
        }
        if !(0..=24 * 3_600 * SECOND).contains(&self.settle()) {
            return Err("settle: use 0s to 1d".to_owned());
        }
        check_tags(&shape.tags)?;
        for (key, names) in [("rename", &shape.rename), ("rename_tags", &shape.rename_tags)] {
            names.values().try_for_each(|name| check_name(name).map_err(|error| format!("{key}: the name `{name}` {error}")))?;
        }
        if let Some((metric, unit)) = shape.units.iter().find(|(_, unit)| !is_known(unit)) {
            return Err(format!("units.{metric}: `{unit}` is not a UCUM code: write one such as m, Cel or m3/s"));
        }
        if !(1..=MAX_BATCH).contains(&self.batch_points()) {
            return Err(format!("batch_points: use 1 to {MAX_BATCH}"));
        }
        if !(SECOND / 100..=24 * 3_600 * SECOND).contains(&self.batch_after()) {
            return Err("batch_after: use 10ms to 1d".to_owned());
        }
        match self {
            Self::Forward(forward) => forward.check(),
            Self::Http(http) => http.check(),
            Self::Files(files) => files.check(),
            Self::Sql(sql) => sql.check(),
            Self::Mqtt(mqtt) => mqtt.check(),
        }
    }
}

impl SinkDefinition {
    /// Reads a definition, in TOML, or in JSON if it begins with a brace, and checks it. Errors refer to the text as `name`.
    ///
    /// # Errors
    /// [`FlowError::Definition`], with line and column.
    pub fn parse(text: &str, name: &str) -> Result<Self, FlowError> {
        parse(text, name)
    }

    /// Its kind, as a word.
    pub fn kind(&self) -> &'static str {
        match self {
            Self::Forward(_) => Self::KINDS[0],
            Self::Http(_) => Self::KINDS[1],
            Self::Files(_) => Self::KINDS[2],
            Self::Sql(_) => Self::KINDS[3],
            Self::Mqtt(_) => Self::KINDS[4],
        }
    }

    /// The dataset whose points are sent.
    pub fn dataset(&self) -> &str {
        of_all!(self, of => &of.dataset)
    }

    /// Metrics that are sent; all if it is empty.
    pub fn metrics(&self) -> &[fenetre_core::pattern::NamePattern] {
        of_all!(self, of => &of.metrics)
    }

    /// Condition on the tags of its series.
    pub fn condition(&self) -> Option<&str> {
        of_all!(self, of => of.condition.as_deref())
    }

    /// The query whose windows are sent; none if points are sent.
    pub fn query(&self) -> Option<&str> {
        of_all!(self, of => of.query.as_deref())
    }

    /// How long after its end a window of the query is sent, in nanoseconds.
    pub fn settle(&self) -> i64 {
        of_all!(self, of => of.settle.map_or(10 * SECOND, exact))
    }

    /// How points change on their way.
    pub fn shape(&self) -> Shape {
        of_all!(self, of => Shape {
            rename: of.rename.clone(),
            rename_tags: of.rename_tags.clone(),
            drop_tags: of.drop_tags.clone(),
            tags: of.tags.clone(),
            units: of.units.clone(),
        })
    }

    /// Maximum number of points of a batch.
    pub fn batch_points(&self) -> usize {
        let default = match self {
            Self::Forward(_) => 100_000,
            Self::Http(_) => 10_000,
            Self::Sql(_) => 50_000,
            Self::Mqtt(_) => 10_000,
            Self::Files(_) => 1_000_000,
        };
        of_all!(self, of => of.batch_points).unwrap_or(default)
    }

    /// Maximum time that a point waits for others of its batch, in nanoseconds.
    pub fn batch_after(&self) -> i64 {
        let default = match self {
            Self::Forward(_) | Self::Http(_) | Self::Sql(_) | Self::Mqtt(_) => SECOND,
            Self::Files(_) => 600 * SECOND,
        };
        of_all!(self, of => of.batch_after.map_or(default, exact))
    }

    /// Whether the points that are stored already are sent too.
    pub fn sends_history(&self) -> bool {
        of_all!(self, of => of.history)
    }

    /// Where it sends points to, without secrets.
    pub fn destination(&self) -> String {
        match self {
            Self::Forward(forward) => forward.url.clone(),
            Self::Http(http) => http.url.clone(),
            Self::Files(files) => files.path.clone(),
            Self::Sql(sql) => format!("{} {}", sql.database, sql.table),
            Self::Mqtt(mqtt) => format!("{} {}", mqtt.broker, mqtt.topic),
        }
    }

    /// Whether it is paused.
    pub fn is_paused(&self) -> bool {
        of_all!(self, of => of.paused)
    }

    /// Pauses or resumes it.
    pub fn set_paused(&mut self, paused: bool) {
        of_all!(self, of => of.paused = paused);
    }

    /// Names of the store's secrets that it refers to.
    pub fn kept_secrets(&self) -> BTreeSet<String> {
        kept_secrets(self)
    }
}

/// Checks the regular expressions of a condition.
fn check_patterns(condition: &Condition) -> Result<(), String> {
    match condition {
        Condition::Matches(test) => whole_pattern(&test.pattern.value).map(drop).map_err(|error| {
            format!("where: {} is not a regular expression: {}", test.pattern.value, error.to_string().lines().last().unwrap_or_default())
        }),
        Condition::Not(inner) => check_patterns(inner),
        Condition::All(parts) | Condition::Any(parts) => parts.iter().try_for_each(check_patterns),
        _ => Ok(()),
    }
}

/// Checks the time limit of a call.
fn check_timeout(timeout: Option<Span>) -> Result<(), String> {
    let is_valid = (SECOND / 100..=3_600 * SECOND).contains(&timeout.map_or(SECOND, exact));
    if is_valid { Ok(()) } else { Err("timeout: use 10ms to 1h".to_owned()) }
}

/// Checks an address of HTTP.
fn check_url(url: &str) -> Result<(), String> {
    let rest = url.strip_prefix("http://").or_else(|| url.strip_prefix("https://"));
    let Some(rest) = rest.filter(|rest| !rest.is_empty() && !rest.starts_with('/')) else {
        return Err(format!("url: `{url}` is not an address: write one that begins with http:// or https://"));
    };
    if rest.split('/').next().unwrap_or_default().contains('@') {
        // This part could contain a password.
        return Err("url: an address must not have a user name or password: set them by their own keys".to_owned());
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::definition::document::is_same;

    #[test]
    fn what_is_wrong_has_a_place_and_a_remedy() {
        let forward = "kind = \"forward\"\nurl = \"http://h\"\n";
        let faults = [
            "kind = \"forwards\"\n".to_owned(),
            "kind = \"forward\"\n".to_owned(),
            "kind = \"forward\"\nurl = \"central\"\n".to_owned(),
            "kind = \"forward\"\nurl = \"http://a:b@central\"\n".to_owned(),
            "kind = \"forward\"\nurl = \"http://h/\"\ntoken = \"fen_secret\"\n".to_owned(),
            format!("{forward}into = \"Velmar\"\n"),
            format!("{forward}where = \"lock =\"\n"),
            format!("{forward}where = \"value > 3\"\n"),
            format!("{forward}where = 'lock matches \"a(\"'\n"),
            format!("{forward}rename = {{ level = \"\" }}\n"),
            format!("{forward}units = {{ level = \"centimetres\" }}\n"),
            format!("{forward}tags = {{ origin = \"\" }}\n"),
            format!("{forward}batch_points = 0\n"),
            format!("{forward}batch_after = \"2d\"\n"),
            format!("{forward}timeout = \"1ms\"\n"),
            "kind = \"http\"\nurl = \"http://h\"\nformat = \"xml\"\n".to_owned(),
            "kind = \"http\"\nurl = \"http://h\"\n[headers]\nAuthorization = \"x\"\n".to_owned(),
            "kind = \"files\"\npath = \"out\"\n".to_owned(),
            "kind = \"files\"\npath = \"/out\"\nname = \"points\"\n".to_owned(),
            "kind = \"files\"\npath = \"/out\"\nname = \"../{part}\"\n".to_owned(),
            "{\"kind\": \"files\"}".to_owned(),
            "kind = \"files\"\npath = \"s3://A/x\"\n".to_owned(),
            "kind = \"files\"\npath = \"s3://points/x\"\n".to_owned(),
            "kind = \"files\"\npath = \"/out\"\nregion = \"x\"\n".to_owned(),
            "kind = \"files\"\npath = \"s3://points\"\naccess_key = \"a\"\nsecret_key = { kept = \"b\" }\nendpoint = \"h\"\n".to_owned(),
            format!("{forward}query = \"show mean of\"\n"),
            format!("{forward}query = \"show mean of level over last 1d per 1m\"\n"),
            format!("{forward}query = \"show mean of level per auto\"\n"),
            format!("{forward}query = \"show mean of level per 1h stepping 10m\"\n"),
            format!("{forward}query = \"show mean of level show max of level per 1m\"\n"),
            format!("{forward}query = \"show mean of level * 2 per 1m\"\n"),
            format!("{forward}query = \"show points of level per 1m\"\n"),
            format!("{forward}query = \"show mean of level top 3 per 1m\"\n"),
            format!("{forward}query = \"show mean of level 1w earlier per 1m\"\n"),
            format!("{forward}query = \"show mean of level per 1m\"\nmetrics = [\"level\"]\n"),
            "kind = \"mqtt\"\nbroker = \"mqtt://h/x\"\ntopic = \"a\"\n".to_owned(),
            "kind = \"mqtt\"\nbroker = \"mqtt://h\"\ntopic = \"a/+\"\n".to_owned(),
            "kind = \"mqtt\"\nbroker = \"mqtt://h\"\ntopic = \"a\"\nqos = 3\n".to_owned(),
            "kind = \"sql\"\ndatabase = \"mysql://h/d\"\nuser = \"u\"\ntable = \"t\"\n".to_owned(),
            "kind = \"sql\"\ndatabase = \"postgresql://h\"\nuser = \"u\"\ntable = \"t\"\n".to_owned(),
            "kind = \"sql\"\ndatabase = \"postgresql://h/d\"\nuser = \"u\"\ntable = \"a.b.c\"\n".to_owned(),
            "kind = \"sql\"\ndatabase = \"postgresql://h/d\"\nuser = \"u\"\ntable = \"t\"\ncolumns = { time = \"a\", value = \"a\" }\n".to_owned(),
            "kind = \"sql\"\ndatabase = \"postgresql://h/d\"\nuser = \"u\"\ntable = \"t\"\ncolumns = { lock = \"a\" }\n".to_owned(),
        ];
        let messages: Vec<String> = faults.iter().map(|text| SinkDefinition::parse(text, "sink.toml").unwrap_err().to_string()).collect();
        insta::assert_snapshot!(messages.join("\n"));
    }

    #[test]
    fn a_definition_comes_back_the_same() {
        let text = "kind = \"forward\"\nurl = \"https://central.example\"\ndataset = \"velmar\"\nmetrics = [\"level\"]\nwhere = 'reach = \"upper\"'\ntags = { origin = \"north\" }\n";
        let read = SinkDefinition::parse(text, "x").unwrap();
        assert_eq!((read.kind(), read.dataset(), read.batch_points(), read.batch_after()), ("forward", "velmar", 100_000, SECOND));
        let again = SinkDefinition::parse(&serde_json::to_string(&read).unwrap(), "x").unwrap();
        assert!(is_same(&again, &read));
    }
}
