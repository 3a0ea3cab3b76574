//! The file of an import, part by part.

use std::{
    fs::File,
    io::{self, BufReader, Read},
    path::Path,
    sync::{
        Arc,
        atomic::{AtomicU64, Ordering},
    },
};

use fenetre_columnar::{ArrowRows, ParquetRows, look_arrow, look_parquet};
use fenetre_formats::{Format, FormatError, Look, Output, Reader, csv, decode::TextDecoder, json, mapping::Mapping, unpack::Encoding};

/// Unfolded bytes of a part.
const PART_BYTES: usize = 4 << 20;
/// A row, object or line of more bytes than this ends an import: no sensible one is so long. Formats that are read only as a whole
/// may be this long.
const MAX_ROW_BYTES: usize = 64 << 20;
/// Points of a part of a columnar file, at the least.
const PART_POINTS: u64 = 100_000;

/// The file of an import.
pub struct Input {
    kind: Kind,
    /// Bytes read so far.
    read: Arc<AtomicU64>,
}

enum Kind {
    Text(Box<Text>),
    Arrow(Box<ArrowRows<Box<dyn Read + Send>>>),
    Parquet(Box<ParquetRows>, u64),
}

struct Text {
    bytes: Box<dyn Read + Send>,
    letters: Option<TextDecoder>,
    reader: Box<dyn Reader>,
    /// Bytes that the reader has not consumed yet.
    rest: Vec<u8>,
    format: Format,
}

/// A file that counts how far it was read.
struct Counted<R> {
    inner: R,
    read: Arc<AtomicU64>,
}

impl<R: Read> Read for Counted<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let read = self.inner.read(buffer)?;
        self.read.fetch_add(read as u64, Ordering::Relaxed);
        Ok(read)
    }
}

fn failed(error: &io::Error) -> FormatError {
    FormatError::Compressed { encoding: "gzip or zstd", reason: error.to_string() }
}

/// The file, decompressed; `read` counts.
fn open(path: &Path, read: &Arc<AtomicU64>) -> Result<Box<dyn Read + Send>, FormatError> {
    let mut file = File::open(path).map_err(|error| failed(&error))?;
    let mut start = [0; 4];
    let length = file.read(&mut start).map_err(|error| failed(&error))?;
    let encoding = Encoding::sniff(&start[..length]);
    let file = File::open(path).map_err(|error| failed(&error))?;
    let counted = BufReader::with_capacity(1 << 20, Counted { inner: file, read: Arc::clone(read) });
    encoding.reader_of(counted).map_err(|error| failed(&error))
}

impl Input {
    /// Opens a file of some format, compressed or not.
    pub fn open(path: &Path, format: Format, mapping: Option<Mapping>) -> Result<Self, FormatError> {
        let read = Arc::new(AtomicU64::new(0));
        let kind = match format {
            Format::ArrowStream => Kind::Arrow(Box::new(ArrowRows::new(open(path, &read)?, mapping.as_ref())?)),
            Format::Parquet => Kind::Parquet(Box::new(ParquetRows::new(File::open(path).map_err(|error| failed(&error))?, mapping.as_ref())?), 0),
            _ => {
                let encoding = mapping.as_ref().and_then(|mapping| mapping.table.encoding.clone());
                let letters = format.is_text().then(|| TextDecoder::new(encoding.as_deref()));
                let unread = || FormatError::Unreadable { format: format.name(), reason: "there is no reader of it".to_owned() };
                let reader = format.reader(mapping).ok_or_else(unread)?;
                Kind::Text(Box::new(Text { bytes: open(path, &read)?, letters, reader, rest: Vec::new(), format }))
            }
        };
        Ok(Self { kind, read })
    }

    /// Bytes of a file of `whole` bytes that were read.
    pub fn read_bytes(&self, whole: u64) -> u64 {
        match &self.kind {
            Kind::Parquet(rows, done) => (whole as f64 * (*done as f64 / rows.rows().max(1) as f64)) as u64,
            _ => self.read.load(Ordering::Relaxed),
        }
    }

    /// Reads the next part; returns whether there may be another.
    pub fn read(&mut self, out: &mut Output<'_>) -> Result<bool, FormatError> {
        match &mut self.kind {
            Kind::Text(text) => text.read(out),
            Kind::Arrow(rows) => {
                let before = out.tally.accepted + out.tally.rejected;
                while rows.read(out)? {
                    if out.tally.accepted + out.tally.rejected - before >= PART_POINTS {
                        return Ok(true);
                    }
                }
                Ok(false)
            }
            Kind::Parquet(rows, done) => {
                let before = out.tally.accepted + out.tally.rejected;
                loop {
                    let read = rows.read(out)?;
                    *done += read;
                    if read == 0 {
                        return Ok(false);
                    }
                    if out.tally.accepted + out.tally.rejected - before >= PART_POINTS {
                        return Ok(true);
                    }
                }
            }
        }
    }
}

impl Text {
    fn read(&mut self, out: &mut Output<'_>) -> Result<bool, FormatError> {
        loop {
            // Parts have a fixed length, however the file is read: a resumed import finds the same parts again.
            let mut part = Vec::with_capacity(PART_BYTES);
            let length = (&mut self.bytes).take(PART_BYTES as u64).read_to_end(&mut part).map_err(|error| failed(&error))?;
            let is_last = length < PART_BYTES;
            match &mut self.letters {
                None => self.rest.append(&mut part),
                Some(letters) => {
                    if let Some(found) = letters.decode(&part, is_last, &mut self.rest) {
                        out.tally.note(format!("read as {found}"));
                    }
                }
            }
            let taken = self.reader.read(&self.rest, is_last, out)?;
            self.rest.drain(..taken);
            if is_last {
                return Ok(false);
            }
            if self.rest.len() > MAX_ROW_BYTES {
                let reason = format!(
                    "a part of the file is longer than {} MB: a line, a row whose quote is never closed, or a document that must be read whole",
                    MAX_ROW_BYTES >> 20
                );
                return Err(FormatError::Unreadable { format: self.format.name(), reason });
            }
            if taken > 0 {
                return Ok(true);
            }
        }
    }
}

/// Bytes that are looked at.
const LOOK_BYTES: u64 = 1 << 20;

/// The first rows of a file of a format that a mapping reads.
pub fn look(path: &Path, format: Format, mapping: &Mapping, most: usize) -> Result<Look, FormatError> {
    let read = Arc::new(AtomicU64::new(0));
    match format {
        Format::ArrowStream => return look_arrow(open(path, &read)?, most),
        Format::Parquet => return look_parquet(File::open(path).map_err(|error| failed(&error))?, most),
        _ => {}
    }
    let mut start = Vec::new();
    open(path, &read)?.take(LOOK_BYTES).read_to_end(&mut start).map_err(|error| failed(&error))?;
    let mut text = Vec::new();
    TextDecoder::new(mapping.table.encoding.as_deref()).decode(&start, false, &mut text);
    match format {
        Format::Csv => csv::look(&text, mapping, None, most),
        Format::Tsv => csv::look(&text, mapping, Some(b'\t'), most),
        Format::Json => json::look(&text, false, most),
        Format::JsonLines => json::look(&text, true, most),
        _ => Ok(Look::default()),
    }
}

#[cfg(test)]
mod tests {
    use std::io::Write;

    use fenetre_core::model::{PointRef, PointSink, Refusal};
    use fenetre_formats::Tally;

    use super::*;

    #[derive(Default)]
    struct Counting(u64);

    impl PointSink for Counting {
        fn accept(&mut self, _: PointRef<'_>) -> Result<(), Refusal> {
            self.0 += 1;
            Ok(())
        }
    }

    fn file(bytes: &[u8]) -> tempfile::NamedTempFile {
        let mut file = tempfile::NamedTempFile::new().unwrap();
        file.write_all(bytes).unwrap();
        file
    }

    /// Parts, points, and the counts of all.
    fn read(file: &tempfile::NamedTempFile, format: Format) -> Result<(usize, u64, Tally), FormatError> {
        let mut input = Input::open(file.path(), format, None)?;
        let (mut sink, mut tally, mut parts) = (Counting::default(), Tally::default(), 1);
        while input.read(&mut Output { now: 0, sink: &mut sink, tally: &mut tally })? {
            parts += 1;
        }
        Ok((parts, sink.0, tally))
    }

    #[test]
    fn a_long_file_splits_into_stable_parts() {
        let line = "{\"metric\": \"level\", \"time\": \"2026-05-01T09:00:00Z\", \"value\": 312.5}\n";
        let lines = file(line.repeat(200_000).as_bytes());
        let (parts, points, tally) = read(&lines, Format::JsonLines).unwrap();
        assert_eq!((points, tally.rows, tally.rejected), (200_000, 200_000, 0));
        assert!(parts > 2);
        assert_eq!(read(&lines, Format::JsonLines).unwrap().0, parts);
        let array = file(format!("[{}]", line.trim_end().to_owned() + &format!(",{}", line.trim_end()).repeat(150_000)).as_bytes());
        let (parts, points, _) = read(&array, Format::Json).unwrap();
        assert_eq!(points, 150_001);
        assert!(parts > 2, "an array is not gathered whole");
    }

    #[test]
    fn an_endless_line_is_refused() {
        let endless = file(&vec![b'x'; 80 << 20]);
        assert!(read(&endless, Format::JsonLines).unwrap_err().to_string().contains("longer than 64 MB"));
    }

    #[test]
    fn unsupported_files_are_reported() {
        assert!(read(&file(b"x"), Format::Parquet).is_err());
        assert!(read(&file(b"x"), Format::ArrowStream).is_err());
        assert!(read(&file(&[0x1f, 0x8b, 8, 0, 0]), Format::JsonLines).unwrap_err().to_string().contains("cannot be decompressed"));
        assert_eq!(look(file(b"{\"a\": {\"b\": 1}}\n").path(), Format::JsonLines, &Mapping::default(), 5).unwrap().names, ["a.b"]);
    }
}
