//! Arrow IPC streams, batch by batch.

use std::io::Read;

use arrow_ipc::reader::StreamReader;
use fenetre_formats::{FormatError, Look, Output, mapping::Mapping};

use crate::{
    batch::{Batches, look},
    unreadable,
};

const FORMAT: &str = "an Arrow stream";

/// Reads a stream.
pub struct ArrowRows<R> {
    stream: StreamReader<R>,
    batches: Batches,
}

impl<R: Read> ArrowRows<R> {
    /// Reads the schema, and resolves a mapping against it.
    ///
    /// # Errors
    /// [`FormatError`] for other bytes, or a mapping that does not fit.
    pub fn new(bytes: R, mapping: Option<&Mapping>) -> Result<Self, FormatError> {
        let stream = StreamReader::try_new(bytes, None).map_err(|error| unreadable(FORMAT, error))?;
        let batches = Batches::new(&stream.schema(), mapping, &[])?;
        Ok(Self { stream, batches })
    }

    /// Reads the next batch; returns whether there was one.
    ///
    /// # Errors
    /// [`FormatError`] for damaged bytes.
    pub fn read(&mut self, out: &mut Output<'_>) -> Result<bool, FormatError> {
        match self.stream.next() {
            None => {
                self.batches.end(out.now, out.tally);
                Ok(false)
            }
            Some(Ok(batch)) => {
                self.batches.read(&batch, out);
                Ok(true)
            }
            Some(Err(error)) => Err(unreadable(FORMAT, error)),
        }
    }
}

/// The first rows of a stream.
///
/// # Errors
/// [`FormatError`] for other bytes.
pub fn look_arrow(bytes: impl Read, most: usize) -> Result<Look, FormatError> {
    let stream = StreamReader::try_new(bytes, None).map_err(|error| unreadable(FORMAT, error))?;
    Ok(look(&stream.schema(), &[], stream.map_while(Result::ok), most))
}
