//! An answer as an Arrow IPC stream or a Parquet file: rows and columns as the other tables have them.

use std::{io, sync::Arc};

use arrow_array::{
    ArrayRef, RecordBatch,
    builder::{BooleanBuilder, Float64Builder, StringBuilder, StringDictionaryBuilder, TimestampNanosecondBuilder},
    types::Int32Type,
};
use arrow_ipc::writer::StreamWriter;
use arrow_schema::{ArrowError, DataType, Field, Schema, TimeUnit};
use fenetre_core::{model::Value, time::parse_rfc3339};
use fenetre_formats::{
    document::AnswerDocument,
    tables::{Column, Row, Sheet},
};
use parquet::{
    arrow::ArrowWriter,
    basic::{Compression, ZstdLevel},
    errors::ParquetError,
    file::properties::WriterProperties,
};

/// Rows of one record batch.
const BATCH: usize = 64 << 10;

/// Writes the answer as an Arrow IPC stream: times are of nanoseconds in UTC, metrics, tags and units dictionaries.
///
/// # Errors
/// Those of the writer.
pub fn write_arrow(answer: &AnswerDocument, out: impl io::Write) -> io::Result<()> {
    let mut batches = Batches::of(answer);
    let mut writer = StreamWriter::try_new(out, &batches.schema).map_err(io_error)?;
    batches.each(answer, &mut |batch| writer.write(&batch).map_err(io_error))?;
    writer.finish().map_err(io_error)
}

/// Writes the answer as a Parquet file, likewise; compressed with zstd.
///
/// # Errors
/// Those of the writer.
pub fn write_parquet(answer: &AnswerDocument, out: impl io::Write + Send) -> io::Result<()> {
    let mut batches = Batches::of(answer);
    let properties = WriterProperties::builder().set_compression(Compression::ZSTD(ZstdLevel::default())).build();
    let mut writer = ArrowWriter::try_new(out, Arc::clone(&batches.schema), Some(properties)).map_err(parquet_error)?;
    batches.each(answer, &mut |batch| {
        writer.write(&batch).map_err(parquet_error)?;
        // No more than a batch is held.
        writer.flush().map_err(parquet_error)
    })?;
    writer.close().map(drop).map_err(parquet_error)
}

/// An error of a Parquet writer; what its output failed with, if that was it.
pub fn parquet_error(error: ParquetError) -> io::Error {
    match error {
        ParquetError::External(error) => io::Error::other(error),
        other => io::Error::other(other),
    }
}

/// An error of an Arrow writer; what its output failed with, if that was it.
pub fn io_error(error: ArrowError) -> io::Error {
    match error {
        ArrowError::IoError(_, error) => error,
        other => io::Error::other(other),
    }
}

/// The record batches of an answer.
struct Batches {
    sheet: Sheet,
    schema: Arc<Schema>,
    builders: Vec<Builder>,
    rows: usize,
}

impl Batches {
    fn of(answer: &AnswerDocument) -> Self {
        let sheet = Sheet::of(answer);
        let builders: Vec<Builder> = sheet.columns().iter().map(|column| Builder::of(column, answer)).collect();
        let fields = sheet.columns().iter().zip(&builders).map(|(column, builder)| {
            let is_optional = !matches!(column, Column::Time | Column::Metric | Column::Partial);
            Field::new(column.name(), builder.data_type(), is_optional)
        });
        let schema = Arc::new(Schema::new(fields.collect::<Vec<_>>()));
        Self { sheet, schema, builders, rows: 0 }
    }

    fn each(&mut self, answer: &AnswerDocument, give: &mut dyn FnMut(RecordBatch) -> io::Result<()>) -> io::Result<()> {
        let Self { sheet, schema, builders, rows } = self;
        let mut finish = |builders: &mut [Builder], rows: &mut usize| {
            *rows = 0;
            let columns = builders.iter_mut().map(Builder::finish).collect();
            give(RecordBatch::try_new(Arc::clone(schema), columns).map_err(io_error)?)
        };
        sheet.each_row(answer, &mut |row| {
            let mut beside = row.values.iter();
            for (column, builder) in sheet.columns().iter().zip(builders.iter_mut()) {
                let value = if matches!(column, Column::Beside(_)) { beside.next() } else { row.values.first() };
                builder.push(column, &row, value.copied().flatten())?;
            }
            *rows += 1;
            if *rows == BATCH { finish(builders, rows) } else { Ok(()) }
        })?;
        if *rows > 0 { finish(builders, rows) } else { Ok(()) }
    }
}

/// Collects the cells of a column.
enum Builder {
    Time(TimestampNanosecondBuilder),
    Words(StringDictionaryBuilder<Int32Type>),
    Numbers(Float64Builder),
    Texts(StringBuilder),
    Flags(BooleanBuilder),
}

impl Builder {
    fn of(column: &Column, answer: &AnswerDocument) -> Self {
        match column {
            Column::Time | Column::End | Column::Moment => Self::Time(TimestampNanosecondBuilder::new().with_timezone("UTC")),
            Column::Metric | Column::Tag(_) | Column::Unit => Self::Words(StringDictionaryBuilder::new()),
            Column::Value => Self::Numbers(Float64Builder::new()),
            Column::Word | Column::Histogram => Self::Texts(StringBuilder::new()),
            Column::Partial => Self::Flags(BooleanBuilder::new()),
            Column::Beside(metric) => {
                let lines = answer.shows.iter().flat_map(|show| &show.lines).filter(|line| line.metric.as_ref() == Some(metric));
                let is_number = lines.flat_map(|line| &line.values).flatten().all(|value| value.number().is_some());
                if is_number { Self::Numbers(Float64Builder::new()) } else { Self::Texts(StringBuilder::new()) }
            }
        }
    }

    fn data_type(&self) -> DataType {
        match self {
            Self::Time(_) => DataType::Timestamp(TimeUnit::Nanosecond, Some("UTC".into())),
            Self::Words(_) => DataType::Dictionary(Box::new(DataType::Int32), Box::new(DataType::Utf8)),
            Self::Numbers(_) => DataType::Float64,
            Self::Texts(_) => DataType::Utf8,
            Self::Flags(_) => DataType::Boolean,
        }
    }

    fn push(&mut self, column: &Column, row: &Row<'_>, value: Option<&Value>) -> io::Result<()> {
        match self {
            Self::Time(builder) => {
                let text = match column {
                    Column::End => row.end,
                    Column::Moment => row.moment,
                    _ => Some(row.time),
                };
                builder.append_option(text.map(|text| parse_rfc3339(text).map_err(io::Error::other)).transpose()?);
            }
            Self::Words(builder) => builder.append_option(match column {
                Column::Tag(key) => row.tags.get(key).map(String::as_str),
                Column::Unit => row.unit,
                _ => Some(row.metric),
            }),
            Self::Numbers(builder) => builder.append_option(value.and_then(Value::number)),
            Self::Texts(builder) => match (column, value) {
                (Column::Word, Some(Value::Word(word))) => builder.append_value(word),
                (Column::Histogram | Column::Beside(_), Some(Value::Histogram(histogram))) => builder.append_value(serde_json::to_string(histogram)?),
                (Column::Beside(_), Some(value)) => builder.append_value(value.to_string()),
                _ => builder.append_null(),
            },
            Self::Flags(builder) => builder.append_value(row.is_partial),
        }
        Ok(())
    }

    fn finish(&mut self) -> ArrayRef {
        match self {
            Self::Time(builder) => Arc::new(builder.finish()),
            Self::Words(builder) => Arc::new(builder.finish_preserve_values()),
            Self::Numbers(builder) => Arc::new(builder.finish()),
            Self::Texts(builder) => Arc::new(builder.finish()),
            Self::Flags(builder) => Arc::new(builder.finish()),
        }
    }
}
