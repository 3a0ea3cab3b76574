//! An answer as an Arrow IPC stream: a row for each value, as the tables have it.

use std::{collections::BTreeSet, io, sync::Arc};

use arrow_array::{
    ArrayRef, RecordBatch,
    builder::{Float64Builder, StringBuilder, StringDictionaryBuilder, TimestampNanosecondBuilder},
    types::Int32Type,
};
use arrow_ipc::writer::StreamWriter;
use arrow_schema::{ArrowError, DataType, Field, Schema, TimeUnit};
use fenetre_core::{model::Value, time::parse_rfc3339};
use fenetre_formats::{
    document::AnswerDocument,
    tables::{Row, each_row},
};

/// Rows of one record batch.
const BATCH: usize = 64 << 10;

/// Writes the answer: `show`, `start`, `end` (UTC, nanoseconds; a point has no end), a dictionary column for each tag, `value`, `word` where a
/// value is one (or a histogram, as JSON), `unit`.
///
/// # Errors
/// Those of the writer.
pub fn write_arrow(answer: &AnswerDocument, out: impl io::Write) -> io::Result<()> {
    let lines = answer.shows.iter().flat_map(|show| &show.lines);
    let keys: Vec<&str> = lines.flat_map(|line| line.tags.keys().map(String::as_str)).collect::<BTreeSet<_>>().into_iter().collect();
    let words = || DataType::Dictionary(Box::new(DataType::Int32), Box::new(DataType::Utf8));
    let time = || DataType::Timestamp(TimeUnit::Nanosecond, Some("UTC".into()));
    let mut fields = vec![Field::new("show", words(), false), Field::new("start", time(), false), Field::new("end", time(), true)];
    fields.extend(keys.iter().map(|key| Field::new(*key, words(), true)));
    fields.extend([Field::new("value", DataType::Float64, true), Field::new("word", DataType::Utf8, true), Field::new("unit", words(), true)]);
    let schema = Arc::new(Schema::new(fields));
    let mut writer = StreamWriter::try_new(out, &schema).map_err(told)?;
    let mut columns = Builders::new(keys.len());
    each_row(answer, |row| {
        columns.push(&row, &keys)?;
        if columns.rows == BATCH {
            let batch = RecordBatch::try_new(Arc::clone(&schema), columns.finish()).map_err(told)?;
            writer.write(&batch).map_err(told)?;
        }
        Ok(())
    })?;
    if columns.rows > 0 {
        let batch = RecordBatch::try_new(Arc::clone(&schema), columns.finish()).map_err(told)?;
        writer.write(&batch).map_err(told)?;
    }
    writer.finish().map_err(told)
}

fn told(error: ArrowError) -> io::Error {
    match error {
        ArrowError::IoError(_, error) => error,
        other => io::Error::other(other),
    }
}

type Words = StringDictionaryBuilder<Int32Type>;

struct Builders {
    rows: usize,
    show: Words,
    start: TimestampNanosecondBuilder,
    end: TimestampNanosecondBuilder,
    tags: Vec<Words>,
    value: Float64Builder,
    word: StringBuilder,
    unit: Words,
}

impl Builders {
    fn new(tags: usize) -> Self {
        let time = || TimestampNanosecondBuilder::new().with_timezone("UTC");
        Self {
            rows: 0,
            show: Words::new(),
            start: time(),
            end: time(),
            tags: (0..tags).map(|_| Words::new()).collect(),
            value: Float64Builder::new(),
            word: StringBuilder::new(),
            unit: Words::new(),
        }
    }

    fn push(&mut self, row: &Row<'_>, keys: &[&str]) -> io::Result<()> {
        let time = |text: &str| parse_rfc3339(text).map_err(io::Error::other);
        self.rows += 1;
        self.show.append_value(&row.show.label);
        self.start.append_value(time(row.start)?);
        self.end.append_option(row.end.map(time).transpose()?);
        for (column, key) in self.tags.iter_mut().zip(keys) {
            column.append_option(row.line.tags.get(*key));
        }
        self.value.append_option(row.value.and_then(Value::number));
        match row.value {
            Some(Value::Word(word)) => self.word.append_value(word),
            Some(Value::Histogram(histogram)) => self.word.append_value(serde_json::to_string(histogram)?),
            _ => self.word.append_null(),
        }
        self.unit.append_option(row.show.unit.as_deref());
        Ok(())
    }

    fn finish(&mut self) -> Vec<ArrayRef> {
        self.rows = 0;
        let mut columns: Vec<ArrayRef> =
            vec![Arc::new(self.show.finish_preserve_values()), Arc::new(self.start.finish()), Arc::new(self.end.finish())];
        columns.extend(self.tags.iter_mut().map(|tag| Arc::new(tag.finish_preserve_values()) as ArrayRef));
        columns.extend([Arc::new(self.value.finish()) as ArrayRef, Arc::new(self.word.finish()), Arc::new(self.unit.finish_preserve_values())]);
        columns
    }
}
