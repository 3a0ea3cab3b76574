//! Points in Arrow IPC streams and Parquet files.
//!
//! ```text
//!  bytes of a stream ──► stream ──┐
//!  a file            ──► file   ──┴──► batch ──► Rows of a mapping ──► PointSink
//! ```
//!
//! Answers leave in both ways too.
//!
//! Both give record batches, which are read row by row through a mapping, as tables are. Apart from the other formats, because the crates
//! that it stands on take the longest to build.

mod answer;
mod batch;
mod file;
mod points;
mod stream;

pub use answer::{write_arrow, write_parquet};
pub use batch::Batches;
pub use file::{ParquetRows, look_parquet};
pub use points::{PointValues, SeriesPoints, write_points_arrow, write_points_parquet};
pub use stream::{ArrowRows, look_arrow};

use fenetre_formats::FormatError;

/// Rows of a record batch that are read from a file at once.
const BATCH_ROWS: usize = 16 << 10;

fn unreadable(format: &'static str, error: impl std::fmt::Display) -> FormatError {
    FormatError::Unreadable { format, reason: error.to_string() }
}
