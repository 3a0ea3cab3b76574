//! Bytes to points, and answers to bytes.
//!
//! ```text
//!  bytes ──► unpack ──► decode ──► Reader ──────► PointSink (of the store)
//!                                  │ csv, json ◄── mapping      └──► Tally: accepted, rejected, why
//!                                  │ senml, openmetrics, otlp
//!  Answer ──► document ──► JSON │ CSV │ JSON Lines
//! ```
//!
//! A [`Reader`] borrows every name and text from the bytes and hands each point to a [`PointSink`]; a row that breaks a rule is reported with its
//! line and field, and the rows after it are still read. It takes bytes part by part, so that a file of any length needs the memory of a
//! part; formats of which only the whole makes sense wait for the last one.

pub mod csv;
pub mod decode;
pub mod definitions;
pub mod document;
pub mod json;
pub mod mapping;
pub mod openmetrics;
pub mod otlp;
pub mod plan_document;
pub mod senml;
pub mod tables;
pub mod tally;
mod units;
pub mod unpack;

use fenetre_core::{model::PointSink, time::Nanos};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use self::{decode::TextDecoder, mapping::Mapping};
pub use tally::{Reject, Tally};

/// Format of a body or file.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Format {
    /// One object, or an array of objects.
    Json,
    /// An object a line.
    JsonLines,
    /// A table, its delimiter detected.
    Csv,
    /// A table, its cells parted by tabs.
    Tsv,
    /// RFC 8428 in JSON.
    SenmlJson,
    /// RFC 8428 in CBOR.
    SenmlCbor,
    /// OpenMetrics 1.0 text.
    OpenMetrics,
    /// OTLP metrics as protobuf.
    OtlpProtobuf,
    /// OTLP metrics as JSON.
    OtlpJson,
    /// An Arrow IPC stream.
    ArrowStream,
    /// A Parquet file.
    Parquet,
}

impl Format {
    const ALL: [(Self, &'static str, &'static [&'static str], &'static [&'static str]); 11] = [
        (Self::Json, "JSON", &["application/json"], &["json"]),
        (
            Self::JsonLines,
            "JSON Lines",
            &["application/x-ndjson", "application/ndjson", "application/jsonl", "application/x-jsonlines"],
            &["ndjson", "jsonl"],
        ),
        (Self::Csv, "CSV", &["text/csv"], &["csv", "txt"]),
        (Self::Tsv, "TSV", &["text/tab-separated-values"], &["tsv", "tab"]),
        (Self::SenmlJson, "SenML (JSON)", &["application/senml+json"], &["senml"]),
        (Self::SenmlCbor, "SenML (CBOR)", &["application/senml+cbor"], &["senmlc"]),
        (Self::OpenMetrics, "OpenMetrics", &["application/openmetrics-text"], &["om", "openmetrics"]),
        (Self::OtlpProtobuf, "OTLP", &[], &["otlp"]),
        (Self::OtlpJson, "OTLP (JSON)", &[], &[]),
        (Self::ArrowStream, "Arrow stream", &["application/vnd.apache.arrow.stream"], &["arrows", "arrow"]),
        (Self::Parquet, "Parquet", &["application/vnd.apache.parquet"], &["parquet"]),
    ];

    /// The format of a content type, without its parameters.
    pub fn of_type(essence: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|(_, _, types, _)| types.contains(&essence)).map(|(format, ..)| format)
    }

    /// The format that a file's name shows; an ending that only says how it is compressed is passed over.
    pub fn of_name(name: &str) -> Option<Self> {
        let name = name.to_ascii_lowercase();
        let name = [".gz", ".zst", ".zstd"].iter().find_map(|ending| name.strip_suffix(ending)).unwrap_or(&name);
        if name.ends_with(".senml.json") {
            return Some(Self::SenmlJson);
        }
        let ending = name.rsplit_once('.')?.1;
        Self::ALL.into_iter().find(|(_, _, _, endings)| endings.contains(&ending)).map(|(format, ..)| format)
    }

    /// Its name for people.
    pub fn name(self) -> &'static str {
        Self::ALL.into_iter().find(|(format, ..)| *format == self).map_or("?", |(_, name, ..)| name)
    }

    /// The content types that bodies of points may have.
    pub fn types() -> impl Iterator<Item = &'static str> {
        Self::ALL.into_iter().filter_map(|(_, _, types, _)| types.first().copied())
    }

    /// Whether it is text, whose letters may be encoded in several ways.
    pub fn is_text(self) -> bool {
        matches!(self, Self::Csv | Self::Tsv | Self::Json | Self::JsonLines)
    }

    /// Whether a mapping says what its parts are.
    pub fn takes_mapping(self) -> bool {
        matches!(self, Self::Csv | Self::Tsv | Self::Json | Self::JsonLines | Self::ArrowStream | Self::Parquet)
    }

    /// A reader of it; `None` for the formats of the crate `columnar`.
    pub fn reader(self, mapping: Option<Mapping>) -> Option<Box<dyn Reader>> {
        Some(match self {
            Self::Csv => Box::new(csv::Table::new(mapping.unwrap_or_default(), None)),
            Self::Tsv => Box::new(csv::Table::new(mapping.unwrap_or_default(), Some(b'\t'))),
            Self::Json => Box::new(json::Document::new(mapping)),
            Self::JsonLines => Box::new(json::Lines::new(mapping)),
            Self::SenmlJson => Box::new(senml::Pack::json()),
            Self::SenmlCbor => Box::new(senml::Pack::cbor()),
            Self::OpenMetrics => Box::new(openmetrics::Exposition::default()),
            Self::OtlpProtobuf => Box::new(otlp::Export::Protobuf),
            Self::OtlpJson => Box::new(otlp::Export::Json),
            Self::ArrowStream | Self::Parquet => return None,
        })
    }
}

/// Reads points from bytes that come part by part.
pub trait Reader: Send {
    /// Reads what it can of the bytes, and says how many it is done with: the others come again, at the front of the next part. With
    /// `is_last`, nothing comes after them.
    ///
    /// # Errors
    /// [`FormatError`] if what follows cannot be read either.
    fn read(&mut self, bytes: &[u8], is_last: bool, out: &mut Output<'_>) -> Result<usize, FormatError>;
}

/// Where the points of a reader go, and what becomes of its rows.
pub struct Output<'o> {
    /// The time of points without one of their own.
    pub now: Nanos,
    /// Takes the points.
    pub sink: &'o mut dyn PointSink,
    /// Counts them, and keeps rejects and notes.
    pub tally: &'o mut Tally,
}

/// The first rows of a table, before a mapping gives them meaning.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Look {
    /// Names of its columns.
    pub names: Vec<String>,
    /// Cells of the first rows.
    pub rows: Vec<Vec<String>>,
    /// How its numbers are written.
    pub notation: mapping::Notation,
    /// One of them whose thousands are grouped, if any are.
    pub groups: Option<mapping::Grouped>,
    /// Notes on its format.
    pub notes: Vec<String>,
}

/// A fault of a whole body, or of all that comes after what was read of it.
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
    /// Bytes of another format, or damaged ones.
    #[error("the body cannot be read as {format}: {reason}")]
    Unreadable {
        /// Of what it should be.
        format: &'static str,
        /// In the parser's words, with the place where it knows one.
        reason: String,
    },
    /// Compressed bytes that do not decompress.
    #[error("the body cannot be decompressed ({encoding}): {reason}")]
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

/// Reads a body that is there as a whole, of any format but those of the crate `columnar`; points without a time of their own are of `now`.
///
/// # Errors
/// [`FormatError`] if the body as a whole is at fault.
pub fn read(format: Format, mapping: Option<Mapping>, body: &[u8], now: Nanos, sink: &mut dyn PointSink) -> Result<Tally, FormatError> {
    let encoding = mapping.as_ref().and_then(|mapping| mapping.table.encoding.clone());
    let mut reader = format.reader(mapping).ok_or(FormatError::Unreadable { format: format.name(), reason: "it is read elsewhere".to_owned() })?;
    let mut tally = Tally::default();
    if !format.is_text() || TextDecoder::is_plain(body, encoding.as_deref()) {
        reader.read(body, true, &mut Output { now, sink, tally: &mut tally })?;
        return Ok(tally);
    }
    let mut text = Vec::new();
    if let Some(found) = TextDecoder::new(encoding.as_deref()).decode(body, true, &mut text) {
        tally.note(format!("read as {found}"));
    }
    reader.read(&text, true, &mut Output { now, sink, tally: &mut tally })?;
    Ok(tally)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_and_types_show_the_format() {
        let names = ["a.csv", "B.CSV.GZ", "a.b.ndjson.zst", "x.senml.json", "x.json", "points.parquet", "m.om", "s.arrows", "t.tsv"]
            .map(|name| Format::of_name(name).map(Format::name));
        let wanted = ["CSV", "CSV", "JSON Lines", "SenML (JSON)", "JSON", "Parquet", "OpenMetrics", "Arrow stream", "TSV"];
        assert_eq!(names, wanted.map(Some));
        assert_eq!(["csv", "a", "a.xyz", ""].map(Format::of_name), [None; 4]);
        assert!(Format::types().all(|kind| Format::of_type(kind).is_some()));
        assert_eq!(Format::of_type("text/plain"), None);
    }

    #[test]
    fn every_format_has_a_reader_here_or_among_the_columnar_ones() {
        for (format, ..) in Format::ALL {
            assert_eq!(format.reader(None).is_none(), matches!(format, Format::ArrowStream | Format::Parquet), "{format:?}");
        }
    }
}
