//! Points as an Arrow IPC stream or a Parquet file: a long table, which is read back without a mapping.

use std::{collections::BTreeSet, io, sync::Arc};

use arrow_array::{
    ArrayRef, DictionaryArray, Int32Array, RecordBatch, StringArray, TimestampNanosecondArray,
    builder::{Float64Builder, StringBuilder},
    types::Int32Type,
};
use arrow_ipc::writer::StreamWriter;
use arrow_schema::{ArrowError, DataType, Field, Schema, TimeUnit};
use fenetre_core::{
    model::{Histogram, Value},
    time::Nanos,
};
use fenetre_formats::mapping::tag_column;
use hashbrown::HashMap;
use parquet::{
    arrow::ArrowWriter,
    basic::{Compression, ZstdLevel},
    file::properties::WriterProperties,
};

use crate::answer::{io_error, parquet_error};

/// Values of points of one series.
#[derive(Clone, Copy, Debug)]
pub enum PointValues<'a> {
    /// Numbers.
    Numbers(&'a [f64]),
    /// Values of any kind. An integer that no double holds is written as the nearest one.
    Other(&'a [Value]),
}

/// Points of one series.
#[derive(Clone, Copy, Debug)]
pub struct SeriesPoints<'a> {
    /// Name of the metric.
    pub metric: &'a str,
    /// Keys and values of the tags.
    pub tags: &'a [(Arc<str>, Arc<str>)],
    /// UCUM code of the unit.
    pub unit: Option<&'a str>,
    /// Times, ascending.
    pub times: &'a [Nanos],
    /// Values, beside them.
    pub values: PointValues<'a>,
}

/// Writes points as an Arrow IPC stream of one record batch. The columns are `time`, `metric`, the tags, `value`, `word` and `histogram` as far as
/// there are any, and `unit`.
///
/// # Errors
/// Those of the writer.
pub fn write_points_arrow(points: &[SeriesPoints<'_>], out: impl io::Write) -> io::Result<()> {
    let batch = batch_of(points)?;
    let mut writer = StreamWriter::try_new(out, &batch.schema()).map_err(io_error)?;
    writer.write(&batch).map_err(io_error)?;
    writer.finish().map_err(io_error)
}

/// Writes points as a Parquet file with the same columns; compressed with zstd.
///
/// # Errors
/// Those of the writer.
pub fn write_points_parquet(points: &[SeriesPoints<'_>], out: impl io::Write + Send) -> io::Result<()> {
    let batch = batch_of(points)?;
    let properties = WriterProperties::builder().set_compression(Compression::ZSTD(ZstdLevel::default())).build();
    let mut writer = ArrowWriter::try_new(out, batch.schema(), Some(properties)).map_err(parquet_error)?;
    writer.write(&batch).map_err(parquet_error)?;
    writer.close().map(drop).map_err(parquet_error)
}

/// Texts by number, each number repeated for the points of a series.
#[derive(Default)]
struct Words<'a> {
    texts: Vec<&'a str>,
    numbers: HashMap<&'a str, i32>,
    keys: Vec<Option<i32>>,
}

impl<'a> Words<'a> {
    fn push(&mut self, text: Option<&'a str>, count: usize) {
        let key = text.map(|text| {
            *self.numbers.entry(text).or_insert_with(|| {
                self.texts.push(text);
                self.texts.len() as i32 - 1
            })
        });
        self.keys.resize(self.keys.len() + count, key);
    }

    fn finish(self) -> Result<ArrayRef, ArrowError> {
        let keys = Int32Array::from(self.keys);
        Ok(Arc::new(DictionaryArray::<Int32Type>::try_new(keys, Arc::new(StringArray::from(self.texts)))?))
    }
}

/// Whether any value fulfils a condition. Numbers in a slice of their own do not count.
fn has(points: &[SeriesPoints<'_>], is_wanted: impl Fn(&Value) -> bool) -> bool {
    points.iter().any(|series| matches!(series.values, PointValues::Other(values) if values.iter().any(&is_wanted)))
}

fn batch_of(points: &[SeriesPoints<'_>]) -> io::Result<RecordBatch> {
    let keys: BTreeSet<&str> = points.iter().flat_map(|series| series.tags.iter().map(|(key, _)| &**key)).collect();
    let mut times = Vec::with_capacity(points.iter().map(|series| series.times.len()).sum());
    let (mut metrics, mut units) = (Words::default(), Words::default());
    let mut tags: Vec<(&str, Words<'_>)> = keys.into_iter().map(|key| (key, Words::default())).collect();
    for series in points {
        let count = series.times.len();
        times.extend_from_slice(series.times);
        metrics.push(Some(series.metric), count);
        units.push(series.unit, count);
        for (key, words) in &mut tags {
            words.push(series.tags.iter().find(|(own, _)| **own == **key).map(|(_, value)| &**value), count);
        }
    }
    let words = || DataType::Dictionary(Box::new(DataType::Int32), Box::new(DataType::Utf8));
    let time = DataType::Timestamp(TimeUnit::Nanosecond, Some("UTC".into()));
    let times: ArrayRef = Arc::new(TimestampNanosecondArray::from(times).with_timezone("UTC"));
    let mut columns = vec![(Field::new("time", time, false), times), (Field::new("metric", words(), false), metrics.finish().map_err(io_error)?)];
    for (key, of_key) in tags {
        columns.push((Field::new(tag_column(key), words(), true), of_key.finish().map_err(io_error)?));
    }
    let has_texts = [has(points, |value| matches!(value, Value::Word(_))), has(points, |value| matches!(value, Value::Histogram(_)))];
    let has_numbers = points.iter().any(|series| matches!(series.values, PointValues::Numbers(_))) || has(points, |value| value.number().is_some());
    if has_numbers || has_texts == [false, false] {
        columns.push((Field::new("value", DataType::Float64, true), numbers(points)));
    }
    if has_texts[0] {
        columns.push((
            Field::new("word", DataType::Utf8, true),
            texts(points, |value| if let Value::Word(word) = value { Some(word.to_string()) } else { None }),
        ));
    }
    if has_texts[1] {
        columns.push((Field::new("histogram", DataType::Utf8, true), texts(points, histogram)));
    }
    columns.push((Field::new("unit", words(), true), units.finish().map_err(io_error)?));
    let (fields, arrays): (Vec<Field>, Vec<ArrayRef>) = columns.into_iter().unzip();
    RecordBatch::try_new(Arc::new(Schema::new(fields)), arrays).map_err(io_error)
}

fn histogram(value: &Value) -> Option<String> {
    let Value::Histogram(histogram) = value else { return None };
    // Its fields are numbers, which all have a form in JSON.
    serde_json::to_string::<Histogram>(histogram).ok()
}

fn numbers(points: &[SeriesPoints<'_>]) -> ArrayRef {
    let mut builder = Float64Builder::new();
    for series in points {
        match series.values {
            PointValues::Numbers(numbers) => builder.append_slice(numbers),
            PointValues::Other(values) => values.iter().for_each(|value| builder.append_option(value.number())),
        }
    }
    Arc::new(builder.finish())
}

fn texts(points: &[SeriesPoints<'_>], text: impl Fn(&Value) -> Option<String>) -> ArrayRef {
    let mut builder = StringBuilder::new();
    for series in points {
        match series.values {
            PointValues::Numbers(numbers) => builder.append_nulls(numbers.len()),
            PointValues::Other(values) => values.iter().for_each(|value| builder.append_option(text(value))),
        }
    }
    Arc::new(builder.finish())
}
