//! A table: its columns, what each receives, and the unique index by which rows replace each other.

use std::collections::BTreeSet;

use fenetre_core::{
    suggest::listing,
    time::{SECOND, format_utc},
};
use tokio_postgres::Client;

use super::super::{
    definition::{Columns, Sql},
    destination::Inquiry,
};
use crate::error::FlowError;

/// What a column receives.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Content {
    /// The time.
    Time,
    /// The name of the metric.
    Metric,
    /// Numbers, and words if the column is a text and there is none for words.
    Value,
    /// Words.
    Word,
    /// Histograms, as JSON.
    Histogram,
    /// The unit.
    Unit,
    /// The tag of this key.
    Tag(String),
    /// All tags without a column of their own, as JSON.
    Tags,
}

/// How a time is written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum TimeForm {
    /// In microseconds.
    Micros,
    /// As text, in nanoseconds.
    Text,
}

/// A column that is written.
#[derive(Clone, Debug)]
pub struct Column {
    /// Its name.
    pub name: String,
    /// What it receives.
    pub content: Content,
    /// Whether it is a text.
    pub is_text: bool,
    /// Whether a missing value is written as an empty text, because the column cannot be empty or is part of the key.
    pub is_filled: bool,
    /// Whether rows are unique by it and the other columns of the key.
    pub is_key: bool,
}

/// A table.
#[derive(Clone, Debug)]
pub struct Table {
    /// Its name, quoted.
    name: String,
    /// The columns that are written.
    pub columns: Vec<Column>,
    /// How the time is written.
    pub time: TimeForm,
}

/// Statements of a batch.
pub struct Statements {
    /// Copies rows into the table itself; none if columns must be left as they are.
    pub copy_new: Option<String>,
    /// Copies rows into the temporary table.
    pub copy: String,
    /// Inserts them.
    pub insert: String,
    /// Inserts only the latest of several rows with the same key.
    pub insert_latest: String,
}

/// Why a table cannot be used.
pub enum Unusable {
    /// The definition does not fit it.
    Definition(FlowError),
    /// The server answered with an error.
    Server(tokio_postgres::Error),
}

impl Unusable {
    /// As an error, with the words of `describe` for one of the server.
    pub fn unless_of_server(self, describe: impl FnOnce(&tokio_postgres::Error) -> FlowError) -> FlowError {
        match self {
            Self::Definition(error) => error,
            Self::Server(error) => describe(&error),
        }
    }
}

impl From<tokio_postgres::Error> for Unusable {
    fn from(error: tokio_postgres::Error) -> Self {
        Self::Server(error)
    }
}

fn wrong(text: String) -> Unusable {
    Unusable::Definition(FlowError::Definition(text))
}

/// The temporary table of a session.
const TEMPORARY: &str = "pg_temp.fenetre_batch";

/// A name in quotes.
fn quoted(name: &str) -> String {
    format!("\"{}\"", name.replace('"', "\"\""))
}

/// A text in quotes.
fn text(value: &str) -> String {
    format!("'{}'", value.replace('\'', "''"))
}

/// Columns of a table: name, type, whether it must not be empty, and whether it has a default.
const COLUMNS: &str = "SELECT a.attname::text, t.typname::text, a.attnotnull, a.atthasdef OR a.attidentity <> '' \
     FROM pg_attribute a JOIN pg_type t ON t.oid = a.atttypid \
     WHERE a.attrelid = to_regclass($1)::oid AND a.attnum > 0 AND NOT a.attisdropped AND a.attgenerated = '' ORDER BY a.attnum";

/// Columns of each unique index that can decide a conflict.
const UNIQUE: &str = "SELECT array_agg(a.attname::text) FROM pg_index i JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = ANY(i.indkey) \
     WHERE i.indrelid = to_regclass($1)::oid AND i.indisunique AND i.indisvalid AND i.indimmediate AND i.indpred IS NULL AND i.indexprs IS NULL \
     AND i.indnkeyatts = i.indnatts GROUP BY i.indexrelid ORDER BY count(*) DESC";

/// A column as the server describes it.
struct Found {
    name: String,
    kind: String,
    is_required: bool,
}

/// Finds the table of a definition, creates it if that is wished, and prepares the session.
///
/// # Errors
/// If the definition does not fit the table.
pub async fn find(client: &Client, sql: &Sql) -> Result<Table, Unusable> {
    let name = sql.table.split('.').map(quoted).collect::<Vec<_>>().join(".");
    let mut found = client.query(COLUMNS, &[&name]).await?;
    if found.is_empty() && sql.create {
        client.batch_execute(&creation(&name, &sql.columns)).await?;
        found = client.query(COLUMNS, &[&name]).await?;
    }
    if found.is_empty() {
        return Err(wrong(format!("table: there is no table `{}`: check its name, or set create = true", sql.table)));
    }
    let found: Vec<Found> =
        found.iter().map(|row| Found { name: row.get(0), kind: row.get(1), is_required: row.get::<_, bool>(2) && !row.get::<_, bool>(3) }).collect();
    let unique: Vec<Vec<String>> = client.query(UNIQUE, &[&name]).await?.iter().map(|row| row.get(0)).collect();
    let table = plan(sql, name, &found, &unique).map_err(wrong)?;
    client.batch_execute(&table.preparation()).await?;
    Ok(table)
}

/// Assigns contents to columns, and chooses the unique index.
fn plan(sql: &Sql, name: String, found: &[Found], unique: &[Vec<String>]) -> Result<Table, String> {
    let Columns { time, metric, value, word, histogram, unit, tags } = &sql.columns;
    let parts = [
        ("time", time, Content::Time, true),
        ("metric", metric, Content::Metric, false),
        ("value", value, Content::Value, true),
        ("word", word, Content::Word, false),
        ("histogram", histogram, Content::Histogram, false),
        ("unit", unit, Content::Unit, false),
        ("tags", tags, Content::Tags, false),
    ];
    let mut contents: Vec<(&Found, Content)> = Vec::new();
    for (default, named, content, is_needed) in parts {
        let wanted = named.as_deref().unwrap_or(default);
        match found.iter().find(|column| column.name == wanted) {
            Some(column) => contents.push((column, content)),
            None if named.is_some() || is_needed => {
                let names = listing(found.iter().map(|column| column.name.as_str()), 20);
                return Err(format!("columns.{default}: the table `{}` has no column `{wanted}`: it has {names}", sql.table));
            }
            None => {}
        }
    }
    let time = match contents[0].0.kind.as_str() {
        "timestamptz" | "timestamp" => TimeForm::Micros,
        "text" | "varchar" | "bpchar" => TimeForm::Text,
        other => {
            return Err(format!(
                "columns.time: the column `{}` has the type {other}: use one of timestamptz, timestamp and text",
                contents[0].0.name
            ));
        }
    };
    // Every other text may have a tag of its name.
    let rest: Vec<&Found> = found.iter().filter(|column| contents.iter().all(|(taken, _)| taken.name != column.name)).collect();
    contents.extend(rest.into_iter().filter(|column| is_text(&column.kind)).map(|column| (column, Content::Tag(column.name.clone()))));
    if let Some(column) = found.iter().find(|column| column.is_required && contents.iter().all(|(taken, _)| taken.name != column.name)) {
        return Err(format!("the column `{}` of the table `{}` needs a value, and no tag fits it: give it a default", column.name, sql.table));
    }
    let time_column = &contents[0].0.name;
    let is_written = |name: &String| contents.iter().any(|(column, _)| column.name == *name);
    let Some(key) = unique.iter().find(|columns| columns.contains(time_column) && columns.iter().all(is_written)) else {
        let of_series = contents.iter().filter(|(_, content)| matches!(content, Content::Time | Content::Metric | Content::Tag(_) | Content::Tags));
        let columns = of_series.map(|(column, _)| quoted(&column.name)).collect::<Vec<_>>().join(", ");
        return Err(format!(
            "the table `{}` has no unique index over the time and the columns that name a series: CREATE UNIQUE INDEX ON {name} ({columns})",
            sql.table
        ));
    };
    let column = |(found, content): (&Found, Content)| {
        let (is_text, is_key) = (is_text(&found.kind), key.contains(&found.name));
        Column { name: found.name.clone(), content, is_text, is_filled: is_text && (is_key || found.is_required), is_key }
    };
    Ok(Table { name, columns: contents.into_iter().map(column).collect(), time })
}

fn is_text(kind: &str) -> bool {
    matches!(kind, "text" | "varchar" | "bpchar")
}

/// A statement that creates a table.
fn creation(name: &str, columns: &Columns) -> String {
    let of = |named: &Option<String>, default: &str| quoted(named.as_deref().unwrap_or(default));
    let [time, metric, value, word] = [(&columns.time, "time"), (&columns.metric, "metric"), (&columns.value, "value"), (&columns.word, "word")]
        .map(|(named, default)| of(named, default));
    let [histogram, unit, tags] =
        [(&columns.histogram, "histogram"), (&columns.unit, "unit"), (&columns.tags, "tags")].map(|(named, default)| of(named, default));
    format!(
        "CREATE TABLE IF NOT EXISTS {name} ({time} timestamptz NOT NULL, {metric} text NOT NULL, {tags} jsonb NOT NULL, {value} double precision, \
         {word} text, {histogram} jsonb, {unit} text, PRIMARY KEY ({metric}, {tags}, {time}))"
    )
}

impl Table {
    /// A table with these columns.
    #[cfg(test)]
    pub fn of(columns: Vec<Column>) -> Self {
        Self { name: "readings".to_owned(), columns, time: TimeForm::Micros }
    }

    fn names(&self, is_wanted: impl Fn(&Column) -> bool) -> Vec<String> {
        self.columns.iter().filter(|column| is_wanted(column)).map(|column| quoted(&column.name)).collect()
    }

    /// Creates the temporary table of a session.
    fn preparation(&self) -> String {
        let all = self.names(|_| true).join(", ");
        format!("CREATE TEMPORARY TABLE fenetre_batch ON COMMIT DELETE ROWS AS SELECT {all} FROM {} WITH NO DATA", self.name)
    }

    /// The statements of a batch whose series have these tags. Columns without a tag are left as they are.
    pub fn statements(&self, tags: &BTreeSet<&str>) -> Statements {
        let is_used =
            |column: &Column| column.is_key || column.is_filled || !matches!(&column.content, Content::Tag(key) if !tags.contains(key.as_str()));
        let (used, key) = (self.names(is_used).join(", "), self.names(|column| column.is_key).join(", "));
        let others = self.names(|column| !column.is_key && is_used(column));
        let change = match others.is_empty() {
            true => "NOTHING".to_owned(),
            false => {
                let set: Vec<String> = others.iter().map(|name| format!("{name} = EXCLUDED.{name}")).collect();
                format!("UPDATE SET {}", set.join(", "))
            }
        };
        let insert = |rows: &str| format!("INSERT INTO {} ({used}) SELECT {rows} ON CONFLICT ({key}) DO {change}", self.name);
        let all = self.names(|_| true).join(", ");
        Statements {
            copy_new: self.columns.iter().all(is_used).then(|| format!("COPY {} ({all}) FROM STDIN", self.name)),
            copy: format!("COPY {TEMPORARY} ({all}) FROM STDIN"),
            insert: insert(&format!("{used} FROM {TEMPORARY}")),
            insert_latest: insert(&format!("DISTINCT ON ({key}) {used} FROM {TEMPORARY} ORDER BY {key}, ctid DESC")),
        }
    }

    /// The table and its columns, for people.
    pub fn summary(&self) -> String {
        let plain = |is_wanted: fn(&Column) -> bool| {
            let names: Vec<&str> = self.columns.iter().filter(|column| is_wanted(column)).map(|column| column.name.as_str()).collect();
            names.join(", ")
        };
        format!("the table {} with the columns {}, unique by {},", self.name, plain(|_| true), plain(|column| column.is_key))
    }

    fn named(&self, content: &Content) -> Option<String> {
        self.columns.iter().find(|column| column.content == *content).map(|column| quoted(&column.name))
    }

    /// A query for the sums of a metric: the start of each window in seconds since 1970, the number of points, and the sum of their values. None if
    /// times cannot be compared, because they are texts.
    pub fn question(&self, inquiry: &Inquiry<'_>) -> Option<String> {
        let (time, value) = (self.named(&Content::Time)?, self.named(&Content::Value)?);
        if self.time == TimeForm::Text {
            return None;
        }
        let mut tests = vec![format!("{time} >= {} AND {time} < {}", text(&format_utc(inquiry.start)), text(&format_utc(inquiry.end)))];
        tests.extend(self.named(&Content::Metric).map(|metric| format!("{metric} = {}", text(inquiry.metric))));
        for (key, wanted) in inquiry.tags {
            let own = self.named(&Content::Tag(key.clone()));
            let in_tags = || self.named(&Content::Tags).map(|tags| format!("{tags} ->> {}", text(key)));
            tests.extend(own.or_else(in_tags).map(|tag| format!("{tag} = {}", text(wanted))));
        }
        let width = inquiry.width / SECOND;
        let sum = if inquiry.is_number { format!("sum({value}::double precision)") } else { "NULL::double precision".to_owned() };
        Some(format!(
            "SELECT (floor(extract(epoch FROM {time}) / {width}) * {width})::bigint, count(*), {sum} FROM {} WHERE {} GROUP BY 1 ORDER BY 1",
            self.name,
            tests.join(" AND ")
        ))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sinks::definition::SinkDefinition;

    fn sql(more: &str) -> Sql {
        let text = format!("kind = \"sql\"\ndatabase = \"postgresql://h/d\"\nuser = \"u\"\ntable = \"log.readings\"\n{more}");
        match SinkDefinition::parse(&text, "sink.toml").unwrap() {
            SinkDefinition::Sql(sql) => *sql,
            _ => unreachable!("the kind is sql"),
        }
    }

    fn planned(more: &str, columns: &[(&str, &str, bool)], unique: &[&[&str]]) -> Result<Table, String> {
        let found: Vec<Found> = columns
            .iter()
            .map(|(name, kind, is_required)| Found { name: (*name).to_owned(), kind: (*kind).to_owned(), is_required: *is_required })
            .collect();
        let unique: Vec<Vec<String>> = unique.iter().map(|names| names.iter().map(|name| (*name).to_owned()).collect()).collect();
        plan(&sql(more), "\"log\".\"readings\"".to_owned(), &found, &unique)
    }

    #[test]
    fn contents_find_their_columns() {
        let columns =
            [("id", "int8", false), ("at", "timestamptz", true), ("lock", "text", false), ("reading", "float8", false), ("note", "text", false)];
        let named = "columns = { time = \"at\", value = \"reading\" }";
        let table = planned(named, &columns, &[&["id"], &["at", "lock"]]).unwrap();
        let statements = table.statements(&BTreeSet::from(["lock"]));
        insta::assert_snapshot!([table.preparation(), statements.copy, statements.insert, statements.insert_latest, table.summary()].join("\n"));
    }

    #[test]
    fn what_does_not_fit_has_a_remedy() {
        let time = ("time", "timestamptz", true);
        let faults = [
            planned("", &[("at", "timestamptz", true)], &[]),
            planned("", &[time], &[]),
            planned("columns = { word = \"state\" }", &[time, ("value", "float8", false)], &[]),
            planned("", &[("time", "int8", true), ("value", "float8", false)], &[]),
            planned("", &[time, ("value", "float8", false), ("clerk", "int4", true)], &[]),
            planned("", &[time, ("value", "float8", false), ("lock", "text", false)], &[&["lock"]]),
        ];
        insta::assert_snapshot!(faults.map(|fault| fault.unwrap_err()).join("\n"));
    }

    #[test]
    fn names_and_texts_are_quoted() {
        assert_eq!(quoted("a\"b"), "\"a\"\"b\"");
        assert_eq!(text("lock's"), "'lock''s'");
    }
}
