//! Parquet files, some rows at a time.

use fenetre_formats::{FormatError, Look, Output, mapping::Mapping};
use parquet::{
    arrow::arrow_reader::{ParquetRecordBatchReader, ParquetRecordBatchReaderBuilder},
    basic::{Compression, LogicalType},
    file::{metadata::ParquetMetaData, reader::ChunkReader},
    schema::types::SchemaDescriptor,
};

use crate::{
    BATCH_ROWS,
    batch::{Batches, look},
    unreadable,
};

const FORMAT: &str = "Parquet";

/// Reads a file, or bytes that are there as a whole.
pub struct ParquetRows {
    reader: ParquetRecordBatchReader,
    batches: Batches,
    rows: u64,
}

impl ParquetRows {
    /// Reads the footer, and resolves a mapping against its schema.
    ///
    /// # Errors
    /// [`FormatError`] for another file, or a mapping that does not fit.
    pub fn new(file: impl ChunkReader + 'static, mapping: Option<&Mapping>) -> Result<Self, FormatError> {
        let builder = ParquetRecordBatchReaderBuilder::try_new(file).map_err(|error| unreadable(FORMAT, error))?;
        check_compression(builder.metadata())?;
        let uuids = uuids(builder.parquet_schema());
        let batches = Batches::new(builder.schema(), mapping, &uuids.iter().map(String::as_str).collect::<Vec<_>>())?;
        let rows = u64::try_from(builder.metadata().file_metadata().num_rows()).unwrap_or(0);
        let reader = builder.with_batch_size(BATCH_ROWS).build().map_err(|error| unreadable(FORMAT, error))?;
        Ok(Self { reader, batches, rows })
    }

    /// How many rows the file has.
    pub fn rows(&self) -> u64 {
        self.rows
    }

    /// Reads the next rows; returns how many.
    ///
    /// # Errors
    /// [`FormatError`] for damaged bytes.
    pub fn read(&mut self, out: &mut Output<'_>) -> Result<u64, FormatError> {
        match self.reader.next() {
            None => {
                self.batches.end(out.now, out.tally);
                Ok(0)
            }
            Some(Ok(batch)) => {
                self.batches.read(&batch, out);
                Ok(batch.num_rows() as u64)
            }
            Some(Err(error)) => Err(unreadable(FORMAT, error)),
        }
    }
}

/// Names of the columns that the file calls UUIDs.
fn uuids(schema: &SchemaDescriptor) -> Vec<String> {
    let is_uuid = |column: &&std::sync::Arc<parquet::schema::types::ColumnDescriptor>| column.logical_type_ref() == Some(&LogicalType::Uuid);
    schema.columns().iter().filter(is_uuid).map(|column| column.name().to_owned()).collect()
}

/// Compression that cannot be undone is refused before the first row.
fn check_compression(metadata: &ParquetMetaData) -> Result<(), FormatError> {
    let columns = metadata.row_groups().iter().flat_map(|group| group.columns());
    let unread = columns.map(|column| column.compression()).find_map(|compression| match compression {
        Compression::BROTLI(_) => Some("Brotli"),
        Compression::LZO => Some("LZO"),
        _ => None,
    });
    match unread {
        Some(name) => Err(unreadable(FORMAT, format!("it is compressed with {name}, which is not read: write it with zstd, Snappy, gzip or LZ4"))),
        None => Ok(()),
    }
}

/// The first rows of a file.
///
/// # Errors
/// [`FormatError`] for another file.
pub fn look_parquet(file: impl ChunkReader + 'static, most: usize) -> Result<Look, FormatError> {
    let builder = ParquetRecordBatchReaderBuilder::try_new(file).map_err(|error| unreadable(FORMAT, error))?;
    let schema = std::sync::Arc::clone(builder.schema());
    check_compression(builder.metadata())?;
    let uuids = uuids(builder.parquet_schema());
    let reader = builder.with_batch_size(most).build().map_err(|error| unreadable(FORMAT, error))?;
    Ok(look(&schema, &uuids.iter().map(String::as_str).collect::<Vec<_>>(), reader.map_while(Result::ok), most))
}
