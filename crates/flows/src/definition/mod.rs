//! What a source is made of: a small document, in TOML or JSON.

use std::{
    collections::{BTreeMap, BTreeSet},
    path::PathBuf,
    time::Duration,
};

use fenetre_core::{
    model::{check_dataset_name, check_name, check_tag_value},
    pattern::NamePattern,
    time::{SECOND, Span},
};
use fenetre_store::{Document, DocumentKind};
use serde::{Deserialize, Serialize};

use self::document::OfKind;
use crate::{error::FlowError, secret::SecretRef, watch::Expected};

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
            /// The dataset that the points go to.
            #[serde(default = "crate::definition::default_dataset")]
            pub dataset: String,
            /// Interval between the starts of two rounds.
            #[serde(default, skip_serializing_if = "Option::is_none")]
            pub every: Option<fenetre_core::time::Span>,
            /// Default tags of every point.
            #[serde(default, skip_serializing_if = "std::collections::BTreeMap::is_empty")]
            pub tags: std::collections::BTreeMap<String, String>,
            /// Roles of columns or keys, for tables and JSON objects.
            #[serde(default, skip_serializing_if = "Option::is_none")]
            pub mapping: Option<fenetre_formats::mapping::Mapping>,
            /// Format of its data (default: from the content type or the file name).
            #[serde(default, skip_serializing_if = "Option::is_none")]
            pub format: Option<fenetre_formats::Format>,
            /// Time without a point after which a series is stale.
            #[serde(default, skip_serializing_if = "Option::is_none")]
            pub stale_after: Option<fenetre_core::time::Span>,
            /// Time without a change after which a gauge is stuck, if other series change.
            #[serde(default, skip_serializing_if = "Option::is_none")]
            pub stuck_after: Option<fenetre_core::time::Span>,
            /// Difference between the time of the latest point and its arrival above which the clock of a series is off.
            #[serde(default, skip_serializing_if = "Option::is_none")]
            pub clock_off_after: Option<fenetre_core::time::Span>,
            /// Whether it rests until it is resumed.
            #[serde(default, skip_serializing_if = "std::ops::Not::not")]
            pub paused: bool,
            $($fields)*
        }
    };
}

pub(crate) fn default_dataset() -> String {
    "main".to_owned()
}

mod address;
mod broker;
pub mod document;
pub mod examples;
mod modbus;
mod mqtt;
mod opcua;
mod poll;
mod sql;

pub use address::Address;
pub use broker::{BROKER_SCHEMES, BrokerLogin, MqttVersion, check_qos, default_qos};
pub use modbus::{Device, Endian, Form, MAX_REGISTERS, Modbus, Register, Table};
pub use mqtt::{METRIC, Mqtt, Retained, Values};
pub use opcua::{Node, Opcua, Security};
pub use poll::{Basic, Poll, Target};
pub use sql::{Engine, Place, Sql};

kind! {
    /// Takes files from a folder.
    Folder {
        /// The folder, on the machine of the service: an absolute path.
        pub path: PathBuf,
        /// Pattern of file names; `*` matches any characters (default: all files).
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub pattern: Option<NamePattern>,
        /// What becomes of a file that was read (default: `move`).
        #[serde(default)]
        pub after: After,
        /// Maximum size of a file in bytes (default: 256,000,000).
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub max_bytes: Option<u64>,
    }
}

/// What becomes of a file that was read.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum After {
    /// It moves into the folder `done`; one that cannot be read, into `failed`.
    #[default]
    Move,
    /// It stays, and is read again when it changes.
    Keep,
    /// It is deleted; one that cannot be read moves into `failed`.
    Delete,
}

/// The definition of a source.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "lowercase")]
pub enum Definition {
    /// Asks addresses over HTTP.
    Poll(Box<Poll>),
    /// Subscribes to topics of an MQTT broker.
    Mqtt(Box<Mqtt>),
    /// Reads registers over Modbus TCP.
    Modbus(Box<Modbus>),
    /// Subscribes to nodes of an OPC UA server.
    Opcua(Box<Opcua>),
    /// Reads rows of a database.
    Sql(Box<Sql>),
    /// Takes files from a folder.
    Folder(Box<Folder>),
}

impl Document for Definition {
    const KIND: DocumentKind = DocumentKind::Source;
}

/// Matches a part that every kind has.
macro_rules! of_all {
    ($definition:expr, $of:ident => $part:expr) => {
        match $definition {
            Definition::Poll($of) => $part,
            Definition::Mqtt($of) => $part,
            Definition::Modbus($of) => $part,
            Definition::Opcua($of) => $part,
            Definition::Sql($of) => $part,
            Definition::Folder($of) => $part,
        }
    };
}

impl OfKind for Definition {
    const KINDS: &'static [&'static str] = &["poll", "mqtt", "modbus", "opcua", "sql", "folder"];

    fn read(kind: &str, text: &str) -> Option<Result<Self, toml::de::Error>> {
        Some(match kind {
            "poll" => toml::from_str(text).map(Self::Poll),
            "mqtt" => toml::from_str(text).map(Self::Mqtt),
            "modbus" => toml::from_str(text).map(Self::Modbus),
            "opcua" => toml::from_str(text).map(Self::Opcua),
            "sql" => toml::from_str(text).map(Self::Sql),
            "folder" => toml::from_str(text).map(Self::Folder),
            _ => return None,
        })
    }

    fn check(&self) -> Result<(), String> {
        let (dataset, mapping, tags) = of_all!(self, of => (&of.dataset, &of.mapping, &of.tags));
        check_tags(tags)?;
        let patience =
            of_all!(self, of => [("stale_after", of.stale_after), ("stuck_after", of.stuck_after), ("clock_off_after", of.clock_off_after)]);
        if let Some((key, _)) = patience.into_iter().find(|(_, span)| span.is_some_and(|span| exact(span) < SECOND)) {
            return Err(format!("{key}: use 1s or more"));
        }
        check_dataset_name(dataset).map_err(|error| format!("dataset: {error}"))?;
        if !(SECOND / 10..=7 * 24 * 3_600 * SECOND).contains(&self.every()) {
            return Err("every: use 100ms to 7d".to_owned());
        }
        mapping.as_ref().map_or(Ok(()), |mapping| mapping.check().map_err(|error| format!("mapping: {error}")))?;
        match self {
            Self::Poll(poll) => poll.check(),
            Self::Mqtt(mqtt) => mqtt.check(),
            Self::Modbus(modbus) => modbus.check(),
            Self::Opcua(opcua) => opcua.check(),
            Self::Sql(sql) => sql.check(),
            Self::Folder(folder) if folder.path.is_absolute() => Ok(()),
            Self::Folder(_) => Err("path: write an absolute path, such as /var/spool/keepers".to_owned()),
        }
    }
}

impl Definition {
    /// Reads a definition, in TOML, or in JSON if it begins with a brace, and checks it. Errors refer to the text as `name`.
    ///
    /// # Errors
    /// [`FlowError::Definition`], with line and column.
    pub fn parse(text: &str, name: &str) -> Result<Self, FlowError> {
        document::parse(text, name)
    }

    /// Its kind, as a word.
    pub fn kind(&self) -> &'static str {
        match self {
            Self::Poll(_) => Self::KINDS[0],
            Self::Mqtt(_) => Self::KINDS[1],
            Self::Modbus(_) => Self::KINDS[2],
            Self::Opcua(_) => Self::KINDS[3],
            Self::Sql(_) => Self::KINDS[4],
            Self::Folder(_) => Self::KINDS[5],
        }
    }

    /// The dataset that its points go to.
    pub fn dataset(&self) -> &str {
        of_all!(self, of => &of.dataset)
    }

    /// Names of the store's secrets that it refers to.
    pub fn kept_secrets(&self) -> BTreeSet<String> {
        document::kept_secrets(self)
    }

    /// Whether both bring the same series: at most, they differ in `paused` and in the limits of the series.
    pub fn brings_the_same(&self, other: &Self) -> bool {
        let plain = |definition: &Self| {
            let mut definition = definition.clone();
            definition.set_paused(false);
            of_all!(&mut definition, of => (of.stale_after, of.stuck_after, of.clock_off_after) = (None, None, None));
            definition
        };
        document::is_same(&plain(self), &plain(other))
    }

    /// Whether it is paused.
    pub fn is_paused(&self) -> bool {
        of_all!(self, of => of.paused)
    }

    /// Pauses or resumes it.
    pub fn set_paused(&mut self, paused: bool) {
        of_all!(self, of => of.paused = paused);
    }

    /// Interval between the starts of two rounds, in nanoseconds.
    pub fn every(&self) -> i64 {
        let default = match self {
            Self::Poll(_) | Self::Sql(_) => 30 * SECOND,
            Self::Folder(_) | Self::Modbus(_) => 10 * SECOND,
            Self::Mqtt(_) | Self::Opcua(_) => SECOND,
        };
        of_all!(self, of => of.every.map_or(default, exact))
    }

    /// Limits of its series. A source that polls has a period, so points can be overdue; rows and files are often late.
    pub fn expected(&self) -> Expected {
        let due = match self {
            Self::Poll(_) => Some(self.every()),
            Self::Modbus(modbus) => modbus.longest_period(self.every()),
            _ => None,
        };
        let is_live = !matches!(self, Self::Sql(_) | Self::Folder(_));
        let (stale, stuck, clock_off) = of_all!(self, of => (of.stale_after, of.stuck_after, of.clock_off_after));
        Expected {
            point_every: stale.map(exact).or(due.map(|due| due.saturating_mul(3).max(60 * SECOND))),
            change_every: stuck.map(exact),
            clock_within: clock_off.map(exact).or(is_live.then_some(300 * SECOND)),
        }
    }

    /// Whether its parts are targets or devices, which stay the same from round to round, unlike files.
    pub fn has_lasting_parts(&self) -> bool {
        matches!(self, Self::Poll(_) | Self::Modbus(_))
    }

    /// Whether points arrive by themselves, so that rounds follow each other without a rest.
    pub fn is_continuous(&self) -> bool {
        matches!(self, Self::Mqtt(_) | Self::Modbus(_) | Self::Opcua(_))
    }
}

/// Checks that files of the machine of the service are named by absolute paths.
pub(crate) fn check_files(paths: &[(&str, Option<&PathBuf>)]) -> Result<(), String> {
    match paths.iter().find_map(|(key, path)| path.filter(|path| path.is_relative()).map(|path| (key, path.display()))) {
        Some((key, path)) => Err(format!("{key}: `{path}` is not an absolute path: write one, such as /etc/fenetre/{path}")),
        None => Ok(()),
    }
}

/// Checks how requests over HTTP identify themselves.
pub(crate) fn check_credentials(
    bearer: Option<&SecretRef>,
    basic: Option<&Basic>,
    headers: &BTreeMap<String, String>,
    (certificate, key): (&Option<PathBuf>, &Option<PathBuf>),
) -> Result<(), String> {
    if certificate.is_some() != key.is_some() {
        return Err("certificate and key: write both, or neither".to_owned());
    }
    if headers.keys().any(|name| name.eq_ignore_ascii_case("authorization")) {
        return Err("headers: a secret must not stand in a definition: use `bearer` or `basic`, which say where it is".to_owned());
    }
    match (bearer, basic) {
        (Some(_), Some(_)) => Err("bearer and basic: a request has only one of them".to_owned()),
        (None, Some(basic)) if basic.user.contains(':') => Err("basic.user: a name must not contain a colon (RFC 7617)".to_owned()),
        _ => Ok(()),
    }
}

/// A span as a duration; days have 24 hours here, months 30 days.
pub fn duration(span: Span) -> Duration {
    Duration::from_nanos(exact(span).unsigned_abs())
}

/// Checks the tags of a definition.
pub(crate) fn check_tags(tags: &BTreeMap<String, String>) -> Result<(), String> {
    tags.iter().try_for_each(|(key, value)| {
        check_name(key).map_err(|error| format!("tags: the key `{key}` {error}"))?;
        check_tag_value(value).map_err(|error| format!("tags.{key} {error}"))
    })
}

/// A span in nanoseconds; days have 24 hours here, months 30 days.
pub fn exact(span: Span) -> i64 {
    let days = i64::from(span.months) * 30 + i64::from(span.days);
    span.nanos.saturating_add(days.saturating_mul(24 * 3_600 * SECOND))
}

#[cfg(test)]
mod tests {
    use super::*;

    const POLL: &str = "kind = \"poll\"\ndataset = \"velmar\"\nevery = \"10s\"\ntargets = [\n  { url = \"http://127.0.0.1:9100/metrics\", tags = { host = \"control\" } },\n]\n";

    #[test]
    fn a_definition_is_read_from_toml_or_json_and_comes_back_the_same() {
        let read = Definition::parse(POLL, "control.toml").unwrap();
        assert_eq!((read.kind(), read.dataset(), read.every(), read.is_paused()), ("poll", "velmar", 10 * SECOND, false));
        let json = serde_json::to_string(&read).unwrap();
        let mut again = Definition::parse(&json, "x").unwrap();
        assert!(document::is_same(&again, &read));
        again.set_paused(true);
        assert!(!document::is_same(&again, &read));
    }

    #[test]
    fn what_is_wrong_has_a_place_and_a_remedy() {
        let faults = [
            "dataset = \"velmar\"\n",
            "kind = \"pol\"\n",
            "kind = \"poll\"\n",
            "kind = \"poll\"\ntargets = [{ url = \"127.0.0.1:9100\" }]\n",
            "kind = \"poll\"\ntargets = [{ url = \"http://a:b@127.0.0.1\" }]\n",
            "kind = \"poll\"\nevry = \"10s\"\n",
            "kind = \"poll\"\nevery = \"soon\"\ntargets = [{ url = \"http://x\" }]\n",
            "kind = \"poll\"\nevery = \"1ms\"\ntargets = [{ url = \"http://x\" }]\n",
            "kind = \"poll\"\ntargets = [{ url = \"http://x\" }]\nbearer = \"river\"\n",
            "kind = \"poll\"\ntargets = [{ url = \"http://x\" }]\nbearer = {}\n",
            "kind = \"poll\"\ntargets = [{ url = \"http://x\" }]\n[headers]\nAuthorization = \"river\"\n",
            "kind = \"poll\"\ntargets = [{ url = \"http://x\" }]\ntargets_file = \"targets.toml\"\n",
            "kind = \"poll\"\ntargets = [{ url = \"http://x\" }]\nbearer = { env = \"A\" }\nbasic = { user = \"a\", password = { env = \"B\" } }\n",
            "kind = \"poll\"\ntargets = [{ url = \"http://x\" }]\nbasic = { user = \"a\", password = \"river\" }\n",
            "kind = \"poll\"\ntargets = [{ url = \"http://x\" }]\ncertificate = \"/own.pem\"\n",
            "kind = \"folder\"\npath = \"files\"\n",
            "kind = \"folder\"\npath = \"/files\"\nafter = \"burn\"\n",
            "kind = \"folder\"\npath = \"/files\"\ndataset = \"Velmar\"\n",
            "kind = \"poll\"\ntargets = [{ url = \"http://x\", tags = { host = \"\" } }]\n",
            "kind = \"folder\"\npath = \"/files\"\ntags = { \"\" = \"a\" }\n",
            "kind = \"modbus\"\ndevices = [{ address = \"h\", tags = { lock = \"\" } }]\nregisters = [{ metric = \"a\", address = 0 }]\n",
            "kind = \"mqtt\"\nbroker = \"127.0.0.1\"\ntopics = [\"a/{metric}\"]\n",
            "kind = \"mqtt\"\nbroker = \"mqtt://h\"\ntopics = [\"velmar/{lock}\"]\n",
            "kind = \"mqtt\"\nbroker = \"mqtt://h\"\ntopics = [\"velmar/{metric}\"]\nqos = 3\n",
            "kind = \"mqtt\"\nbroker = \"mqtt://h\"\ntopics = [\"velmar/{metric}\"]\nversion = \"4\"\n",
            "kind = \"mqtt\"\nbroker = \"mqtt://h\"\ntopics = [\"velmar/{metric}\"]\nformat = \"json\"\n",
            "kind = \"mqtt\"\nbroker = \"mqtt://h\"\ntopics = [\"velmar/{metric}\"]\nca = \"/ca.pem\"\n",
            "kind = \"mqtt\"\nbroker = \"mqtt://h\"\ntopics = [\"velmar/{metric}\"]\nevery = \"1s\"\n",
            "kind = \"mqtt\"\nbroker = \"mqtt://h\"\ntopics = [\"velmar/{metric}\"]\npassword = { env = \"A\" }\n",
            "kind = \"modbus\"\ndevices = [{ address = \"http://h\" }]\nregisters = [{ metric = \"a\", address = 0 }]\n",
            "kind = \"modbus\"\ndevices = [{ address = \"h\" }, { address = \"h\" }]\nregisters = [{ metric = \"a\", address = 0 }]\n",
            "kind = \"modbus\"\ndevices = [{ address = \"h\" }]\n",
            "kind = \"modbus\"\ndevices = [{ address = \"h\" }]\nregisters = [{ metric = \"a\", address = 0, type = \"u17\" }]\n",
            "kind = \"modbus\"\ndevices = [{ address = \"h\" }]\nregisters = [{ metric = \"a\", address = 0, type = \"bit\" }]\n",
            "kind = \"modbus\"\ndevices = [{ address = \"h\" }]\nregisters = [{ metric = \"a\", address = 65535, type = \"u32\" }]\n",
            "kind = \"modbus\"\ndevices = [{ address = \"h\" }]\nregisters = [{ metric = \"a\", address = 0, words = { open = \"1\" } }]\n",
            "kind = \"opcua\"\nendpoint = \"http://h\"\nnodes = [{ path = \"{metric}\" }]\n",
            "kind = \"opcua\"\nendpoint = \"opc.tcp://h\"\nnodes = [{ path = \"Locks/{lock}\" }]\n",
            "kind = \"opcua\"\nendpoint = \"opc.tcp://h\"\nnodes = [{ id = \"ns=2;s=A\" }]\n",
            "kind = \"opcua\"\nendpoint = \"opc.tcp://h\"\nnodes = [{ path = \"{metric}\" }]\nsecurity = \"sign\"\n",
            "kind = \"sql\"\ndatabase = \"oracle://h/d\"\ntable = \"a\"\nuser = \"u\"\nmapping = { time = { column = \"at\" } }\n",
            "kind = \"sql\"\ndatabase = \"postgresql://u:p@h/d\"\ntable = \"a\"\nuser = \"u\"\nmapping = { time = { column = \"at\" } }\n",
            "kind = \"sql\"\ndatabase = \"mysql://h\"\ntable = \"a\"\nuser = \"u\"\nmapping = { time = { column = \"at\" } }\n",
            "kind = \"sql\"\ndatabase = \"sqlite://clerk.db\"\ntable = \"a\"\nmapping = { time = { column = \"at\" } }\n",
            "kind = \"sql\"\ndatabase = \"sqlite:///clerk.db\"\ntable = \"a\"\n",
            "kind = \"sql\"\ndatabase = \"sqlite:///clerk.db\"\ntable = \"a\"\nquery = \"select 1\"\nmapping = { time = { column = \"at\" } }\n",
            "kind = \"sql\"\ndatabase = \"sqlite:///clerk.db\"\nquery = \"select 1;\"\nmapping = { time = { column = \"at\" } }\n",
            "kind = \"sql\"\ndatabase = \"sqlite:///clerk.db\"\nuser = \"u\"\ntable = \"a\"\nmapping = { time = { column = \"at\" } }\n",
            "{\"kind\": \"folder\"}",
            "{\"kind\": \"folder\", \"path\": 3}",
            "{\"kind\":\n",
        ];
        let messages: Vec<String> = faults.iter().map(|text| Definition::parse(text, "source.toml").unwrap_err().to_string()).collect();
        insta::assert_snapshot!(messages.join("\n"));
    }
}
