//! Bytes to points, and answers to bytes.
//!
//! ```text
//!  body ──► unpack ──► json │ csv ──► PointSink (of the store)
//!                             └─────► Tally: accepted, rejected, why
//!  Answer ──► document ──► JSON │ CSV │ JSON Lines
//! ```
//!
//! A reader borrows every name and text from the body and hands each point to a [`PointSink`](fenetre_core::model::PointSink);
//! a row that breaks a rule is told with its line and field, and the rows after it are still read.

pub mod csv;
pub mod document;
pub mod json;
pub mod tables;
pub mod tally;
pub mod unpack;

use fenetre_core::{model::PointSink, time::Nanos};

pub use tally::{Reject, Tally};

/// How a body is to be read.
#[derive(Clone, Debug)]
pub enum Format {
    /// One object, or an array of objects.
    Json,
    /// An object a line.
    JsonLines,
    /// A table with a header.
    Csv(csv::Mapping),
}

/// A fault of a whole body: nothing of it was read.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum FormatError {
    /// Not JSON.
    #[error("the body cannot be read as JSON: {reason} (line {line}, column {column})")]
    Json {
        /// In the parser's words.
        reason: String,
        /// From 1.
        line: usize,
        /// From 1.
        column: usize,
    },
    /// No header, or one that does not fit the mapping.
    #[error("{0}")]
    Table(String),
    /// Compressed bytes that do not unfold.
    #[error("the body says that it is {encoding}, but does not unfold: {reason}")]
    Compressed {
        /// `gzip` or `zstd`.
        encoding: &'static str,
        /// In the decoder's words.
        reason: String,
    },
    /// Unfolds to more than allowed.
    #[error("the body unfolds to more than {limit} bytes: send it in smaller parts")]
    TooLarge {
        /// Bytes allowed.
        limit: usize,
    },
}

/// Reads a body; points without a time of their own are of `now`.
///
/// # Errors
/// [`FormatError`] where the body as a whole is at fault.
pub fn read(format: &Format, body: &[u8], now: Nanos, sink: &mut dyn PointSink) -> Result<Tally, FormatError> {
    match format {
        Format::Json => json::read_document(body, now, sink),
        Format::JsonLines => Ok(json::read_lines(body, now, sink)),
        Format::Csv(mapping) => csv::read(body, mapping, now, sink),
    }
}
