//! Mappings: what the columns of a table, or the keys of objects, are.
//!
//! A mapping is a small document (TOML or JSON), made by hand or by [`guess`](mod@guess), kept under a name and used again. It is resolved
//! against the names of a table once ([`Rows`]), and then turns rows into points.

mod cell;
pub mod guess;
mod numbers;
mod rows;

use std::collections::{BTreeMap, BTreeSet};

use fenetre_core::{
    model::{Kind, check_name, check_tag_value},
    time::{ClockChange, TimeFormat, TimeRule, zone},
};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

pub use cell::{Cell, Numbers};
pub use numbers::{Evidence, Grouped, Notation, integer_value};
pub use rows::Rows;

/// Roles of the columns of a table.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(default, deny_unknown_fields)]
pub struct Mapping {
    /// One sentence.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub description: String,
    /// What to do with an empty cell of a value: `skip` or `reject`.
    #[serde(skip_serializing_if = "is_default")]
    pub empty: Absent,
    /// What to do with NaN and infinities: `reject` or `skip`.
    #[serde(skip_serializing_if = "is_default")]
    pub not_finite: NotFinite,
    /// Marks of missing values, such as `NA`.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub missing: Vec<String>,
    /// Role of all other columns: `skip`, `tag` or `value`.
    #[serde(skip_serializing_if = "is_default")]
    pub others: Others,
    /// Format of a table as text; omitted keys are detected.
    #[serde(skip_serializing_if = "is_default")]
    pub table: Dialect,
    /// Time of a row (default: the column `time`; without one, the time of arrival).
    #[serde(skip_serializing_if = "is_default")]
    pub time: TimeColumn,
    /// Tags of every row.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub tags: BTreeMap<String, String>,
    /// Columns.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub columns: Vec<Column>,
    /// Definitions of metrics that rows name in their `metric` column.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub metrics: BTreeMap<String, NamedMetric>,
}

/// Definition of a metric that rows name.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(default, deny_unknown_fields)]
pub struct NamedMetric {
    /// Its kind.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub kind: Option<Kind>,
    /// UCUM code of the unit of its values.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub unit: Option<String>,
}

fn is_default<T: Default + PartialEq>(value: &T) -> bool {
    *value == T::default()
}

/// What to do with an empty cell.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Absent {
    /// There is no point.
    #[default]
    Skip,
    /// It is a reject.
    Reject,
}

/// What to do with NaN and infinities.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum NotFinite {
    /// It is a reject.
    #[default]
    Reject,
    /// There is no point.
    Skip,
}

/// Role of columns that a mapping does not name.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Others {
    /// Nothing.
    #[default]
    Skip,
    /// Tags of their names.
    Tag,
    /// Values of the metrics of their names.
    Value,
}

/// Format of a table as text. Omitted keys are detected from the first rows.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(default, deny_unknown_fields)]
pub struct Dialect {
    /// Delimiter: one ASCII character.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<String>)]
    pub delimiter: Option<char>,
    /// Quote: one ASCII character.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<String>)]
    pub quote: Option<char>,
    /// `.` or `,`.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<String>)]
    pub decimal: Option<char>,
    /// Whether the first row names the columns. Without one they are called `column1`, `column2` and so on.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub header: Option<bool>,
    /// Lines before the header, or before the first row.
    #[serde(skip_serializing_if = "is_default")]
    pub skip_lines: u32,
    /// Character encoding, such as `windows-1252` (default: UTF-8, or that of the byte order mark).
    #[serde(skip_serializing_if = "Option::is_none")]
    pub encoding: Option<String>,
}

impl Dialect {
    /// Takes over what another one says.
    pub fn merge(&mut self, other: Self) {
        let Self { delimiter, quote, decimal, header, skip_lines, encoding } = other;
        self.delimiter = delimiter.or(self.delimiter);
        self.quote = quote.or(self.quote);
        self.decimal = decimal.or(self.decimal);
        self.header = header.or(self.header);
        self.skip_lines = if skip_lines > 0 { skip_lines } else { self.skip_lines };
        self.encoding = encoding.or(self.encoding.take());
    }
}

/// Column and format of the time of a row.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(default, deny_unknown_fields)]
pub struct TimeColumn {
    /// Its column; for date and time of day in two columns, that of the date.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub column: Option<String>,
    /// Column of the time of day, if it has one of its own. `format` then describes the date, a space, and the time of day.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub time_of_day: Option<String>,
    /// `guess` (default), `iso`, `s`, `ms`, `us`, `ns`, `serial` (spreadsheet dates), or a pattern such as `%d.%m.%Y %H:%M`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub format: Option<String>,
    /// IANA name of the zone of times without an offset.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub zone: Option<String>,
    /// A local time that a clock change skips or repeats: `reject`, `earlier` or `later`.
    #[serde(skip_serializing_if = "is_default")]
    pub clock_change: ClockChange,
}

/// A column and its role.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(default, deny_unknown_fields)]
pub struct Column {
    /// Its name in the table; keys of nested objects are joined by dots.
    pub column: String,
    /// What it is.
    pub role: Role,
    /// Key of the tag or name of the metric, if it differs from the column's.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// UCUM code of the unit of a value.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub unit: Option<String>,
    /// Kind of a value's metric.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub kind: Option<Kind>,
    /// Description in one sentence.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub description: Option<String>,
    /// Factor of values.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub scale: Option<f64>,
    /// Addend: values become `value * scale + offset`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub offset: Option<f64>,
    /// Marks of missing values in this column.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub missing: Vec<String>,
}

/// Role of a column.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Role {
    /// A number: of the metric that the column names, or of that which the row names in its `metric` column.
    #[default]
    Value,
    /// A word of a state, likewise.
    State,
    /// A tag.
    Tag,
    /// The name of the metric that the row's value is of.
    Metric,
    /// A histogram as JSON, with bounds, counts and sum.
    Histogram,
    /// The unit of the row's value, as a UCUM code.
    Unit,
    /// Nothing.
    Skip,
}

impl Column {
    /// Reads `COLUMN` or `COLUMN=NAME`.
    pub fn parse(text: &str, role: Role) -> Self {
        let (column, name) = match text.rsplit_once('=') {
            Some((column, name)) => (column, Some(name.to_owned())),
            None => (text, None),
        };
        Self { column: column.to_owned(), role, name, ..Self::default() }
    }

    /// Key of the tag or name of the metric.
    pub fn target(&self) -> &str {
        self.name.as_deref().unwrap_or(&self.column)
    }
}

/// Columns of a long table that hold something else than tags.
const LONG_COLUMNS: [(&str, Role); 8] = [
    ("metric", Role::Metric),
    ("value", Role::Value),
    ("word", Role::State),
    ("histogram", Role::Histogram),
    ("unit", Role::Unit),
    ("end", Role::Skip),
    ("moment", Role::Skip),
    ("partial", Role::Skip),
];
/// Before the name of a tag that is also the name of one of these columns.
const TAG_PREFIX: &str = "tag:";

/// The column of a tag in a long table: its key, with a prefix where it could be taken for another column.
pub fn tag_column(key: &str) -> String {
    if is_long_column(key) || key.starts_with(TAG_PREFIX) { format!("{TAG_PREFIX}{key}") } else { key.to_owned() }
}

/// The role of a column of a long table: a row for each value, with the name of its metric. All columns that have no part of their own are tags.
pub fn long_column(name: &str) -> Column {
    let known = LONG_COLUMNS.iter().find(|(known, _)| *known == name).map(|(_, role)| *role);
    let tag = name.strip_prefix(TAG_PREFIX).filter(|tag| is_long_column(tag) || tag.starts_with(TAG_PREFIX)).map(str::to_owned);
    Column { column: name.to_owned(), role: known.unwrap_or(Role::Tag), name: tag, ..Column::default() }
}

/// Whether a column of a long table has a part of its own, so that no tag can have its name there.
pub fn is_long_column(name: &str) -> bool {
    name == "time" || LONG_COLUMNS.iter().any(|(known, _)| *known == name)
}

/// Whether these are the columns of a long table.
pub fn is_long(names: &[&str]) -> bool {
    names.contains(&"metric") && ["value", "word", "histogram"].iter().any(|value| names.contains(value))
}

impl Mapping {
    /// The roles of the columns of a long table, if these are its columns and no mapping names them.
    pub fn completed(&self, names: &[&str]) -> Self {
        let mut mapping = self.clone();
        if self.columns.is_empty() && self.others == Others::Skip && is_long(names) {
            let is_time = |name: &str| name == self.time.column.as_deref().unwrap_or("time") || Some(name) == self.time.time_of_day.as_deref();
            mapping.columns = names.iter().filter(|name| !is_time(name)).map(|name| long_column(name)).collect();
        }
        mapping
    }

    /// Reads a document: TOML, or JSON where it begins with a brace.
    ///
    /// # Errors
    /// What is wrong and where.
    pub fn parse(text: &str) -> Result<Self, String> {
        let mapping: Self = if text.trim_start().starts_with('{') {
            serde_json::from_str(text).map_err(|error| error.to_string())?
        } else {
            toml::from_str(text).map_err(|error| error.to_string().trim_end().to_owned())?
        };
        mapping.check()?;
        Ok(mapping)
    }

    /// The document as TOML.
    pub fn to_toml(&self) -> String {
        // It holds tables, texts and numbers, which all have a form in TOML.
        toml::to_string(self).unwrap_or_default()
    }

    /// Checks whether its parts make sense together, before any table is seen.
    ///
    /// # Errors
    /// What is wrong, in a sentence.
    pub fn check(&self) -> Result<(), String> {
        self.time_rule()?;
        for (what, character) in [("delimiter", self.table.delimiter), ("quote", self.table.quote)] {
            if let Some(character) = character.filter(|character| !character.is_ascii() || matches!(character, '\n' | '\r')) {
                return Err(format!("table.{what} is {character:?}: it must be one character of ASCII"));
            }
        }
        if let Some(decimal) = self.table.decimal.filter(|decimal| !matches!(decimal, '.' | ',')) {
            return Err(format!("table.decimal is {decimal:?}: it is \".\" or \",\""));
        }
        if self.table.decimal.is_some() && self.table.decimal == self.table.delimiter {
            return Err("table.decimal and table.delimiter are the same character".to_owned());
        }
        if let Some(name) = self.table.encoding.as_ref().filter(|name| encoding_rs::Encoding::for_label(name.as_bytes()).is_none()) {
            return Err(format!(
                "table.encoding `{name}` is not known: there are utf-8, utf-16le, utf-16be, windows-1252, iso-8859-15 and others of the web"
            ));
        }
        for (key, value) in &self.tags {
            check_name(key).map_err(|error| format!("a key under [tags] {error}"))?;
            check_tag_value(value).map_err(|error| format!("tags.{key} {error}"))?;
        }
        let mut seen = BTreeSet::new();
        for column in &self.columns {
            let Column { column: name, role, .. } = column;
            if name.is_empty() {
                return Err("an entry of columns lacks `column`, the name of the column".to_owned());
            }
            if !seen.insert(name) {
                return Err(format!("the column `{name}` is there twice"));
            }
            if matches!(role, Role::Tag | Role::Value | Role::State | Role::Histogram) {
                check_name(column.target()).map_err(|error| format!("the name for column `{name}` {error}"))?;
            }
            let scales = column.scale.is_some() || column.offset.is_some();
            if scales && *role != Role::Value {
                return Err(format!("the column `{name}` has a scale or offset, but is not a value"));
            }
            if column.scale.is_some_and(|scale| !scale.is_finite()) || column.offset.is_some_and(|offset| !offset.is_finite()) {
                return Err(format!("scale and offset of column `{name}` must be finite"));
            }
        }
        for (role, name) in [(Role::Metric, "metric"), (Role::Unit, "unit")] {
            if self.columns.iter().filter(|column| column.role == role).count() > 1 {
                return Err(format!("two columns have the role {name}: a row has one"));
            }
        }
        if self.time.time_of_day.is_some() && self.time.column.is_none() {
            return Err("time.time_of_day needs time.column, the column of the date".to_owned());
        }
        for (name, metric) in &self.metrics {
            check_name(name).map_err(|error| format!("a name under [metrics] {error}"))?;
            if metric.kind == Some(Kind::State) && metric.unit.is_some() {
                return Err(format!("metrics.{name} is a state, which has no unit"));
            }
        }
        Ok(())
    }

    /// How the times are read.
    ///
    /// # Errors
    /// What is wrong, in a sentence.
    pub fn time_rule(&self) -> Result<TimeRule, String> {
        let TimeColumn { format, zone: zone_name, clock_change, .. } = &self.time;
        let format = format.as_deref().map_or(Ok(TimeFormat::default()), TimeFormat::parse).map_err(|error| format!("time.format: {error}"))?;
        let zone = zone_name.as_deref().map(zone).transpose().map_err(|error| format!("time.zone: {error}"))?;
        Ok(TimeRule { format, zone, clock_change: *clock_change })
    }

    /// Takes over what another one says, where both say something.
    pub fn merge(&mut self, other: Self) {
        let Self { description: _, empty, not_finite, missing, others, table, time, tags, columns, metrics } = other;
        if empty != Absent::default() {
            self.empty = empty;
        }
        if not_finite != NotFinite::default() {
            self.not_finite = not_finite;
        }
        if others != Others::default() {
            self.others = others;
        }
        self.missing.extend(missing);
        self.table.merge(table);
        if time.column.is_some() {
            // A time of the day belongs to the date that it was named with.
            self.time.time_of_day = None;
        }
        self.time.column = time.column.or(self.time.column.take());
        self.time.time_of_day = time.time_of_day.or(self.time.time_of_day.take());
        self.time.format = time.format.or(self.time.format.take());
        self.time.zone = time.zone.or(self.time.zone.take());
        if time.clock_change != ClockChange::default() {
            self.time.clock_change = time.clock_change;
        }
        self.tags.extend(tags);
        self.metrics.extend(metrics);
        for column in columns {
            self.columns.retain(|known| known.column != column.column);
            self.columns.push(column);
        }
    }

    /// Names of metrics that it brings values for, and keys of tags.
    pub fn targets(&self) -> (Vec<&str>, Vec<&str>) {
        let of = |wanted: &[Role]| self.columns.iter().filter(|column| wanted.contains(&column.role)).map(Column::target).collect::<Vec<_>>();
        let mut tags = of(&[Role::Tag]);
        tags.extend(self.tags.keys().map(String::as_str));
        let mut metrics = of(&[Role::Value, Role::State, Role::Histogram]);
        metrics.extend(self.metrics.keys().map(String::as_str));
        (metrics, tags)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn documents_round_trip() {
        let text = "missing = [\"NA\"]\n\n[table]\ndelimiter = \";\"\ndecimal = \",\"\n\n[time]\ncolumn = \"at\"\nformat = \"%d.%m.%Y %H:%M\"\nzone = \"Europe/Lisbon\"\nclock_change = \"later\"\n\n[tags]\nreach = \"upper\"\n\n[[columns]]\ncolumn = \"lock\"\nrole = \"tag\"\n\n[[columns]]\ncolumn = \"level_cm\"\nrole = \"value\"\nname = \"level\"\nunit = \"m\"\nscale = 0.01\n";
        let mapping = Mapping::parse(text).unwrap();
        assert_eq!(mapping.to_toml(), text);
        assert_eq!(Mapping::parse(&serde_json::to_string(&mapping).unwrap()).unwrap(), mapping);
        assert_eq!(mapping.targets(), (vec!["level"], vec!["lock", "reach"]));
    }

    #[test]
    fn overlaid_settings_win_where_set() {
        let mut kept = Mapping::parse("missing = [\"NA\"]\n[time]\ncolumn = \"at\"\nzone = \"UTC\"\n[tags]\nreach = \"upper\"\n[[columns]]\ncolumn = \"a\"\n[[columns]]\ncolumn = \"b\"\n").unwrap();
        kept.merge(Mapping::parse("missing = [\"-\"]\nothers = \"tag\"\n[time]\nzone = \"Europe/Lisbon\"\n[tags]\nreach = \"lower\"\n[[columns]]\ncolumn = \"b\"\nrole = \"tag\"\n").unwrap());
        assert_eq!((kept.missing.join(" "), kept.others, kept.tags["reach"].as_str()), ("NA -".to_owned(), Others::Tag, "lower"));
        assert_eq!((kept.time.column.as_deref(), kept.time.zone.as_deref()), (Some("at"), Some("Europe/Lisbon")));
        assert_eq!(
            kept.columns.iter().map(|column| (column.column.as_str(), column.role)).collect::<Vec<_>>(),
            [("a", Role::Value), ("b", Role::Tag)]
        );
        let before = kept.clone();
        kept.merge(Mapping::default());
        assert_eq!(kept, before);
    }

    #[test]
    fn mistakes_are_reported() {
        let wrong = [
            "colums = []",
            "[time]\nformat = \"minutes\"",
            "[time]\nzone = \"Atlantis\"",
            "[table]\ndelimiter = \"—\"",
            "[table]\ndecimal = \";\"",
            "[table]\nencoding = \"klingon\"",
            "[[columns]]\nrole = \"tag\"",
            "[[columns]]\ncolumn = \"a\"\nrole = \"stat\"",
            "[[columns]]\ncolumn = \"a\"\n[[columns]]\ncolumn = \"a\"",
            "[[columns]]\ncolumn = \"a\"\nrole = \"tag\"\nscale = 2.0",
            "[[columns]]\ncolumn = \"a\"\nrole = \"metric\"\n[[columns]]\ncolumn = \"b\"\nrole = \"metric\"",
            "[tags]\nreach = \"\"",
            "{\"columns\": 3}",
        ];
        insta::assert_snapshot!(wrong.map(|text| format!("{text}\n=> {}", Mapping::parse(text).unwrap_err())).join("\n\n"));
    }
}
