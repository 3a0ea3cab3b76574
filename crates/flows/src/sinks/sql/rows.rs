//! Batches as rows of a table, in the text format of `COPY` (PostgreSQL, documentation of COPY, "Text Format").

use std::{
    collections::HashSet,
    fmt::{self, Write},
};

use fenetre_core::{
    model::Value,
    time::{Nanos, format_utc},
};

use super::{
    super::outgoing::{Outgoing, OutgoingSeries},
    table::{Column, Content, Table, TimeForm},
};
use crate::error::FlowError;

/// Number of rejects that are kept as samples.
const MAX_SAMPLES: usize = 3;
/// An empty field.
const EMPTY: &str = "\\N";

/// Rows of a batch.
pub struct Rows {
    /// The rows.
    pub text: Vec<u8>,
    /// Number of them.
    pub count: u64,
    /// Whether several have the same key, so that only the latest is to be inserted.
    pub has_twins: bool,
    /// Points that no column can hold.
    pub rejected: u64,
    /// Some of the reasons.
    pub samples: Vec<String>,
}

/// A text whose special characters are escaped.
struct Escaped<'a>(&'a str);

impl fmt::Display for Escaped<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.chars().try_for_each(|letter| match letter {
            '\\' => f.write_str("\\\\"),
            '\n' => f.write_str("\\n"),
            '\r' => f.write_str("\\r"),
            '\t' => f.write_str("\\t"),
            // The one character that no text of PostgreSQL can have.
            '\0' => f.write_char('\u{FFFD}'),
            other => f.write_char(other),
        })
    }
}

/// The rows of a batch.
///
/// # Errors
/// [`FlowError::Definition`] if a tag, or one of several metrics, has no column.
pub fn rows_of(batch: &Outgoing, table: &Table) -> Result<Rows, FlowError> {
    check_metrics(batch, table)?;
    let mut rows = Rows { text: Vec::new(), count: 0, has_twins: false, rejected: 0, samples: Vec::new() };
    let (mut keys, mut line) = (HashSet::with_capacity(batch.stretches.len()), String::new());
    for stretch in &batch.stretches {
        let series = Series::of(&stretch.series, table)?;
        rows.has_twins |= !keys.insert(series.key.clone());
        let mut before = None;
        for (at, time) in stretch.times.iter().enumerate() {
            let value = stretch.values.at(at);
            line.clear();
            if let Err(reason) = series.write(&mut line, table, *time, &value) {
                rows.rejected += 1;
                if rows.samples.len() < MAX_SAMPLES {
                    rows.samples.push(format!("{} at {}: {reason}", stretch.series.metric, format_utc(*time)));
                }
                continue;
            }
            let micros = time.div_euclid(1_000);
            rows.has_twins |= table.time == TimeForm::Micros && before.replace(micros) == Some(micros);
            rows.text.extend_from_slice(line.as_bytes());
            rows.count += 1;
        }
    }
    Ok(rows)
}

/// Checks that rows of several metrics can be told apart.
fn check_metrics(batch: &Outgoing, table: &Table) -> Result<(), FlowError> {
    let mut metrics = batch.stretches.iter().map(|stretch| &*stretch.series.metric);
    let first = metrics.next();
    match metrics.find(|metric| Some(*metric) != first) {
        Some(other) if table.columns.iter().all(|column| column.content != Content::Metric) => Err(FlowError::Definition(format!(
            "the table has no column for the metric, but `{}` and `{other}` are sent: name one in `columns`, or choose one metric in `metrics`",
            first.unwrap_or_default()
        ))),
        _ => Ok(()),
    }
}

/// The fields of a series.
struct Series {
    /// Those that are the same in all its rows; none for a column whose field depends on the point.
    fields: Vec<Option<String>>,
    /// Its part of the key.
    key: String,
}

impl Series {
    fn of(series: &OutgoingSeries, table: &Table) -> Result<Self, FlowError> {
        let has_column = |key: &str| table.columns.iter().any(|column| matches!(&column.content, Content::Tag(own) if own == key));
        let rest: serde_json::Map<String, serde_json::Value> =
            series.tags.iter().filter(|(key, _)| !has_column(key)).map(|(key, value)| (key.to_string(), value.to_string().into())).collect();
        if let Some(key) = rest.keys().next().filter(|_| table.columns.iter().all(|column| column.content != Content::Tags)) {
            return Err(FlowError::Definition(format!(
                "the table has no column for the tag `{key}`: drop it with `drop_tags`, rename it with `rename_tags`, or name a JSON column in `columns.tags`"
            )));
        }
        let tags = serde_json::Value::Object(rest).to_string();
        let (mut fields, mut key) = (Vec::with_capacity(table.columns.len()), String::new());
        for column in &table.columns {
            let text = match &column.content {
                Content::Metric => Some(Some(&*series.metric)),
                Content::Tag(own) => Some(series.tags.iter().find(|(key, _)| **key == **own).map(|(_, value)| &**value)),
                Content::Tags => Some(Some(tags.as_str())),
                Content::Unit => Some(series.unit.as_deref()),
                Content::Time | Content::Value | Content::Word | Content::Histogram => None,
            };
            let field = text.map(|text| field(column, text));
            if let Some(field) = field.as_ref().filter(|_| column.is_key) {
                key.push_str(field);
                key.push('\t');
            }
            fields.push(field);
        }
        Ok(Self { fields, key })
    }

    /// Writes a row.
    ///
    /// # Errors
    /// Why no column can hold the value.
    fn write(&self, line: &mut String, table: &Table, time: Nanos, value: &Value) -> Result<(), &'static str> {
        let holds = |content: &Content| table.columns.iter().any(|column| column.content == *content);
        let content = match value {
            Value::Number(_) | Value::Integer(_) => Content::Value,
            Value::Word(_) if holds(&Content::Word) => Content::Word,
            Value::Word(_) if table.columns.iter().any(|column| column.content == Content::Value && column.is_text) => Content::Value,
            Value::Word(_) => return Err("the table has no column for words: name one in `columns.word`"),
            Value::Histogram(_) if holds(&Content::Histogram) => Content::Histogram,
            Value::Histogram(_) => return Err("the table has no column for histograms: name one in `columns.histogram`"),
        };
        for (at, (column, field)) in table.columns.iter().zip(&self.fields).enumerate() {
            if at > 0 {
                line.push('\t');
            }
            // Writing into a string cannot fail.
            let _ = match (field, &column.content, value) {
                (Some(field), ..) => line.write_str(field),
                (None, Content::Time, _) => write_time(line, table.time, time),
                (None, own, Value::Histogram(histogram)) if *own == content => {
                    write!(line, "{}", Escaped(&serde_json::to_string(histogram).unwrap_or_default()))
                }
                (None, own, Value::Word(word)) if *own == content => write!(line, "{}", Escaped(word)),
                (None, own, number) if *own == content => write!(line, "{number}"),
                _ => line.write_str(if column.is_filled { "" } else { EMPTY }),
            };
        }
        line.push('\n');
        Ok(())
    }
}

fn field(column: &Column, text: Option<&str>) -> String {
    match text {
        Some(text) => Escaped(text).to_string(),
        None if column.is_filled => String::new(),
        None => EMPTY.to_owned(),
    }
}

fn write_time(line: &mut String, form: TimeForm, time: Nanos) -> fmt::Result {
    // PostgreSQL would round up what it cannot hold.
    let exact = if form == TimeForm::Micros { time - time.rem_euclid(1_000) } else { time };
    line.write_str(&format_utc(exact))
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use fenetre_core::model::SeriesId;

    use super::{
        super::super::outgoing::{OutgoingStretch, Values},
        *,
    };

    fn column(name: &str, content: Content, is_key: bool) -> Column {
        let is_text = matches!(content, Content::Tag(_) | Content::Metric);
        Column { name: name.to_owned(), content, is_text, is_filled: is_text && is_key, is_key }
    }

    fn stretch(metric: &str, tags: &[(&str, &str)], times: &[Nanos], values: Vec<Value>) -> OutgoingStretch {
        let tags = tags.iter().map(|(key, value)| ((*key).into(), (*value).into())).collect();
        let series = OutgoingSeries { metric: metric.into(), tags, unit: Some("cm".into()), definition: Arc::default() };
        OutgoingStretch { id: SeriesId(1), series: Arc::new(series), times: times.to_vec(), values: Values::Other(values) }
    }

    fn rows(table: &Table, stretches: Vec<OutgoingStretch>) -> Result<Rows, String> {
        rows_of(&Outgoing { stretches, id: String::new() }, table).map_err(|error| error.to_string())
    }

    #[test]
    fn points_become_rows_and_twins_are_noticed() {
        let table = Table::of(vec![
            column("at", Content::Time, true),
            column("lock", Content::Tag("lock".to_owned()), true),
            column("side", Content::Tag("side".to_owned()), false),
            column("value", Content::Value, false),
        ]);
        let number = |number: f64| Value::Number(number);
        let one =
            rows(&table, vec![stretch("level", &[("lock", "a\tb\\")], &[1_999, 5_000], vec![number(3.5), Value::Integer(9_007_199_254_740_993)])])
                .unwrap();
        let text = String::from_utf8(one.text).unwrap();
        assert_eq!(text, "1970-01-01T00:00:00.000001Z\ta\\tb\\\\\t\\N\t3.5\n1970-01-01T00:00:00.000005Z\ta\\tb\\\\\t\\N\t9007199254740993\n");
        assert_eq!((one.count, one.has_twins, one.rejected), (2, false, 0));
        // Two instants of one microsecond; two series that differ only in a tag outside the key.
        assert!(rows(&table, vec![stretch("level", &[], &[1_001, 1_002], vec![number(1.0), number(2.0)])]).unwrap().has_twins);
        let sides = [("side", "up"), ("side", "down")].map(|side| stretch("level", &[side], &[0], vec![number(1.0)]));
        assert!(rows(&table, sides.to_vec()).unwrap().has_twins);
        // A word has no column here.
        let words = rows(&table, vec![stretch("gate", &[], &[0, 1_000], vec![Value::Word("open".into()), number(1.0)])]).unwrap();
        assert_eq!((words.count, words.rejected), (1, 1));
        assert_eq!(words.samples, ["gate at 1970-01-01T00:00:00Z: the table has no column for words: name one in `columns.word`"]);
    }

    #[test]
    fn metrics_and_tags_need_columns() {
        let table = Table::of(vec![column("at", Content::Time, true), column("value", Content::Value, false)]);
        let of = |metric: &str, tags: &[(&str, &str)]| stretch(metric, tags, &[0], vec![Value::Number(1.0)]);
        let faults = [rows(&table, vec![of("level", &[]), of("flow", &[])]), rows(&table, vec![of("level", &[("lock", "a")])])];
        insta::assert_snapshot!(faults.map(|fault| fault.map(|_| ()).unwrap_err()).join("\n"));
        let with_tags =
            Table::of(vec![column("at", Content::Time, true), column("value", Content::Value, false), column("tags", Content::Tags, true)]);
        let text = rows(&with_tags, vec![of("level", &[("lock", "a\"")])]).unwrap().text;
        assert_eq!(String::from_utf8(text).unwrap(), "1970-01-01T00:00:00Z\t1\t{\"lock\":\"a\\\\\"\"}\n");
    }
}
