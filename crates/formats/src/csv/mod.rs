//! Tables as text: RFC 4180 and its kin. A mapping says what each column is; what it leaves open about the writing is detected.

mod dialect;
mod rows;

use std::{borrow::Cow, collections::HashSet, ops::Range};

use ::csv::{ByteRecord, ReaderBuilder};
use fenetre_core::model::PointSink;

use self::dialect::Written;
use crate::{
    FormatError, Output, Reader, Tally,
    mapping::{Cell, Mapping, Rows},
};

/// Reads a table, part by part.
pub struct Table {
    mapping: Mapping,
    default_delimiter: Option<u8>,
    head: Option<Head>,
    /// Line of the next row, from 1.
    line: u64,
    /// What comes before the next line end belongs to a row that was rejected.
    is_skipping: bool,
    /// Lines end with a carriage return alone.
    has_returns: Option<bool>,
}

/// What is known once the first rows are seen.
struct Head {
    written: Written,
    names: Vec<String>,
    rows: Rows,
}

/// Bytes of a table from which its dialect is detected.
const SAMPLE_BYTES: usize = 64 << 10;
/// A row of more bytes than this is rejected.
const MAX_ROW_BYTES: usize = 8 << 20;

impl Table {
    /// A reader of a table. Without a delimiter in the mapping, and without `default_delimiter`, it is detected.
    pub fn new(mapping: Mapping, default_delimiter: Option<u8>) -> Self {
        Self { mapping, default_delimiter, head: None, line: 1, is_skipping: false, has_returns: None }
    }

    /// Whether lines end with a carriage return alone, as those of very old spreadsheets: the first bytes show it.
    fn ends_with_returns(&mut self, bytes: &[u8], is_last: bool) -> bool {
        if bytes.len() < SAMPLE_BYTES && !is_last && self.has_returns.is_none() {
            return false;
        }
        let sample = &bytes[..bytes.len().min(SAMPLE_BYTES)];
        *self.has_returns.get_or_insert_with(|| memchr::memchr(b'\n', sample).is_none() && memchr::memchr(b'\r', sample).is_some())
    }

    /// Reads the lines before the first row, and the header. Returns how many bytes that took; none if more bytes are needed.
    fn begin(&mut self, bytes: &[u8], is_last: bool, sink: &mut dyn PointSink, tally: &mut Tally) -> Result<usize, FormatError> {
        if bytes.len() < SAMPLE_BYTES && !is_last {
            return Ok(0);
        }
        if bytes.trim_ascii().is_empty() {
            return Err(FormatError::Table("there is nothing in it: no header and no row".to_owned()));
        }
        let (head, lines, start) = read_head(bytes, &self.mapping, self.default_delimiter)?;
        self.line = 1 + lines;
        let names: Vec<&str> = head.1.iter().map(String::as_str).collect();
        let mut mapping = self.mapping.clone();
        let notation = head.0.notation;
        mapping.table.decimal = notation.is_known.then_some(if notation.decimal_comma { ',' } else { '.' });
        let rows = Rows::new(&mapping, &names)?;
        if let Some(note) = head.0.describe(&self.mapping.table) {
            tally.note(note);
        }
        rows.describe(sink, tally);
        self.head = Some(Head { written: head.0, names: head.1, rows });
        Ok(start)
    }
}

/// The dialect and the names of columns, how many lines they take, and where the first row begins.
type Beginning = ((Written, Vec<String>), u64, usize);

fn read_head(bytes: &[u8], mapping: &Mapping, default_delimiter: Option<u8>) -> Result<Beginning, FormatError> {
    let fault = |text: String| Err(FormatError::Table(text));
    let mut start = 0;
    for _ in 0..mapping.table.skip_lines {
        match memchr::memchr(b'\n', &bytes[start..]) {
            Some(end) => start += end + 1,
            None => return fault(format!("it has fewer lines than the {} that skip_lines passes over", mapping.table.skip_lines)),
        }
    }
    let stated = dialect::stated_delimiter(&bytes[start..]);
    if let Some((_, length)) = stated {
        start += length;
    }
    let sample = &bytes[start..(start + SAMPLE_BYTES).min(bytes.len())];
    let written = Written::detect(sample, &mapping.table, stated.map(|(delimiter, _)| delimiter).or(default_delimiter));
    let mut reader =
        ReaderBuilder::new().flexible(true).has_headers(false).delimiter(written.delimiter).quote(written.quote).from_reader(&bytes[start..]);
    let mut first = ByteRecord::new();
    if !reader.read_byte_record(&mut first).map_err(|error| FormatError::Table(format!("the header cannot be read: {error}")))? {
        return fault("there is no header: the first row names the columns".to_owned());
    }
    let mut names = Vec::with_capacity(first.len());
    for (i, cell) in first.iter().enumerate() {
        if !written.header {
            names.push(format!("column{}", i + 1));
            continue;
        }
        let Ok(name) = std::str::from_utf8(cell) else {
            return fault(format!(
                "column {} of the header is not UTF-8: name the encoding, such as encoding=windows-1252 (--encoding at the command line, `encoding` under [table] of a mapping)",
                i + 1
            ));
        };
        if name.contains('\0') {
            return fault(format!("column {} of the header holds a NUL byte: is this a text at all, and in UTF-8?", i + 1));
        }
        names.push(name.trim().to_owned());
    }
    if names.is_empty() || names == [""] {
        return fault("there is no header: the first row names the columns".to_owned());
    }
    let mut seen = HashSet::new();
    if let Some(twice) = names.iter().find(|name| !name.is_empty() && !seen.insert(name.as_str())) {
        return fault(format!("the header has the column `{twice}` twice: rename one"));
    }
    if written.header {
        let end = start + reader.position().byte() as usize;
        // The parser stops within a line end of two characters.
        let end = end + usize::from(bytes.get(end) == Some(&b'\n') && bytes[..end].ends_with(b"\r"));
        let lines = memchr::memchr_iter(b'\n', &bytes[..end]).count() as u64;
        // A header without a line end is the whole table.
        return Ok(((written, names), lines.max(1), end));
    }
    Ok(((written, names), u64::from(mapping.table.skip_lines) + u64::from(stated.is_some()), start))
}

impl Reader for Table {
    fn read(&mut self, bytes: &[u8], is_last: bool, out: &mut Output<'_>) -> Result<usize, FormatError> {
        let whole: Cow<'_, [u8]> = if self.ends_with_returns(bytes, is_last) {
            Cow::Owned(bytes.iter().map(|byte| if *byte == b'\r' { b'\n' } else { *byte }).collect())
        } else {
            Cow::Borrowed(bytes)
        };
        let bytes = &*whole;
        let mut at = 0;
        if self.head.is_none() {
            at = self.begin(bytes, is_last, out.sink, out.tally)?;
        }
        let Some(head) = &self.head else { return Ok(0) };
        loop {
            if self.is_skipping {
                // The rest of a line that is too long.
                let Some(end) = memchr::memchr(b'\n', &bytes[at..]) else { return Ok(bytes.len()) };
                at += end + 1;
                self.line += 1;
                self.is_skipping = false;
            }
            let body = &bytes[at..];
            let scan = rows::scan(body, head.written.delimiter, head.written.quote);
            let end = if is_last && !scan.is_open { body.len() } else { scan.end };
            let body = &body[..end];
            if memchr::memchr(head.written.quote, body).is_none() {
                head.read_plain(body, self.line, out);
            } else {
                head.read_quoted(body, self.line, out);
            }
            self.line += memchr::memchr_iter(b'\n', body).count() as u64;
            at += end;
            let is_long = bytes.len() - at > MAX_ROW_BYTES;
            if !(is_long || is_last && scan.is_open) {
                break;
            }
            // Only this row is at fault: reading continues with the next line.
            out.tally.rows += 1;
            let reason = match scan.is_open {
                true if is_last => "a quoted cell begins in this row and is never closed".to_owned(),
                true => format!("a quoted cell begins in this row and is not closed within {} MB", MAX_ROW_BYTES >> 20),
                false => format!("the row is longer than {} MB", MAX_ROW_BYTES >> 20),
            };
            out.tally.reject(self.line, None, format!("{reason}; the rows after it are read from the next line on"));
            self.is_skipping = true;
        }
        if is_last {
            head.rows.note_now(out.now, out.tally);
        }
        Ok(at)
    }
}

impl Head {
    /// Rows without quotes: each line is a row, each delimiter parts two cells. Most tables are so, and are read in half the time.
    fn read_plain(&self, body: &[u8], first_line: u64, out: &mut Output<'_>) {
        let ends = memchr::memchr_iter(b'\n', body).chain([body.len()]);
        let (mut cells, mut tags) = (Vec::new(), Vec::new());
        let mut at = 0;
        for (line, end) in (first_line..).zip(ends) {
            let bytes = &body[at..end];
            let bytes = bytes.strip_suffix(b"\r").unwrap_or(bytes);
            at = end + 1;
            if !bytes.is_empty() {
                cells.clear();
                let mut start = 0;
                for end in memchr::memchr_iter(self.written.delimiter, bytes).chain([bytes.len()]) {
                    cells.push(start..end);
                    start = end + 1;
                }
                self.read_row(bytes, &cells, &mut tags, &mut || line, out);
            }
        }
    }

    /// Rows of any table.
    fn read_quoted(&self, body: &[u8], first_line: u64, out: &mut Output<'_>) {
        let mut reader =
            ReaderBuilder::new().flexible(true).has_headers(false).delimiter(self.written.delimiter).quote(self.written.quote).from_reader(body);
        let mut lines = LineCounter { body, at: 0, line: first_line };
        let (mut record, mut cells) = (ByteRecord::new(), Vec::new());
        loop {
            match reader.read_byte_record(&mut record) {
                Ok(false) => return,
                Ok(true) => {
                    cells.clear();
                    cells.extend((0..record.len()).filter_map(|cell| record.range(cell)));
                    self.read_row(record.as_slice(), &cells, &mut Vec::new(), &mut || lines.line_of(&record), out);
                }
                Err(error) => {
                    let line = error.position().map_or(0, ::csv::Position::line);
                    return out.tally.reject(first_line + line, None, format!("the row cannot be read: {error}"));
                }
            }
        }
    }

    /// Reads a row, whose cells stand at those places in its bytes, into the sink; `tags` is used again and again.
    fn read_row<'r>(
        &'r self,
        bytes: &'r [u8],
        cells: &[Range<usize>],
        tags: &mut Vec<(&'r str, &'r str)>,
        line: &mut dyn FnMut() -> u64,
        out: &mut Output<'_>,
    ) {
        if cells.len() != self.names.len() {
            out.tally.rows += 1;
            return out.tally.reject(line(), None, format!("the row has {} cells, the header {}", cells.len(), self.names.len()));
        }
        // One look at the whole row instead of one at each cell.
        let whole = std::str::from_utf8(bytes);
        let cell = |at: usize| {
            let range = cells[at].clone();
            let text = match &whole {
                Ok(whole) => whole.get(range),
                Err(_) => std::str::from_utf8(&bytes[range]).ok(),
            };
            text.map_or(Cell::Unusable("not UTF-8"), |text| Cell::Text(trimmed(text)))
        };
        self.rows.take(&cell, tags, line, out);
    }
}

/// Counts the lines of a body on the way through it, when they are asked for. The parser's own count stops before blank lines, and within `\r\n`.
struct LineCounter<'b> {
    body: &'b [u8],
    at: usize,
    line: u64,
}

impl LineCounter<'_> {
    /// The line on which the row begins that was found at or after a byte; rows come in order.
    fn line_of(&mut self, row: &ByteRecord) -> u64 {
        let from = row.position().map_or(self.at, |position| position.byte() as usize).clamp(self.at, self.body.len());
        let line_ends = self.body[from..].iter().take_while(|byte| matches!(**byte, b'\r' | b'\n')).count();
        let start = from + line_ends;
        self.line += self.body[self.at..start].iter().filter(|byte| **byte == b'\n').count() as u64;
        self.at = start;
        self.line
    }
}

/// Without spaces around it. Most cells have none, which their ends show.
fn trimmed(text: &str) -> &str {
    let is_plain = |byte: &u8| byte.is_ascii_graphic();
    if text.as_bytes().first().is_none_or(is_plain) && text.as_bytes().last().is_none_or(is_plain) { text } else { text.trim() }
}

/// The first rows of a table as they stand, with the names of its columns.
///
/// # Errors
/// [`FormatError::Table`] if there is no usable header.
pub fn look(start: &[u8], mapping: &Mapping, default_delimiter: Option<u8>, most: usize) -> Result<crate::Look, FormatError> {
    let unified: Vec<u8>;
    let start = if memchr::memchr(b'\n', start).is_none() && memchr::memchr(b'\r', start).is_some() {
        unified = start.iter().map(|byte| if *byte == b'\r' { b'\n' } else { *byte }).collect();
        &unified
    } else {
        start
    };
    let ((written, names), _, first) = read_head(start, mapping, default_delimiter)?;
    let reader =
        ReaderBuilder::new().flexible(true).has_headers(false).delimiter(written.delimiter).quote(written.quote).from_reader(&start[first..]);
    let cells = |row: ByteRecord| row.iter().map(|cell| String::from_utf8_lossy(cell).trim().to_owned()).collect();
    let rows = reader.into_byte_records().map_while(Result::ok).take(most).map(cells).collect();
    let notes = written.describe(&mapping.table).into_iter().collect();
    Ok(crate::Look { names, rows, notation: written.notation, groups: written.groups, notes })
}
