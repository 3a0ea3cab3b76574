//! Tables: RFC 4180, with a header row. A mapping says what each column is.

use std::ops::Range;

use ::csv::{ByteRecord, ReaderBuilder};
use fenetre_core::{
    model::{PointRef, PointSink, ValueRef},
    suggest::{closest, listing},
    time::{Nanos, format_utc, parse_rfc3339},
};

use crate::{FormatError, Tally};

/// What the columns of a table are.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Mapping {
    /// The column of the time, RFC 3339. Without one, a column called `time` is it; without that either, every row is of now.
    pub time: Option<String>,
    /// Columns that are tags of that key.
    pub tags: Vec<String>,
    /// Columns of values.
    pub values: Vec<ValueColumn>,
    /// Tags that every row has.
    pub constants: Vec<(String, String)>,
}

/// A column of values and the metric that they are of.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ValueColumn {
    /// Name in the header.
    pub column: String,
    /// Name of the metric.
    pub metric: String,
    /// Whether its cells are words of a state, and not numbers.
    pub words: bool,
}

impl ValueColumn {
    /// Reads `COLUMN` or `COLUMN=METRIC`.
    pub fn parse(text: &str, words: bool) -> Self {
        let (column, metric) = text.rsplit_once('=').unwrap_or((text, text));
        Self { column: column.to_owned(), metric: metric.to_owned(), words }
    }
}

const BYTE_ORDER_MARK: &[u8] = &[0xef, 0xbb, 0xbf];

/// Reads a table.
///
/// # Errors
/// [`FormatError::Table`] where there is no header, or it lacks a column that the mapping names.
pub fn read(body: &[u8], mapping: &Mapping, now: Nanos, sink: &mut dyn PointSink) -> Result<Tally, FormatError> {
    let body = body.strip_prefix(BYTE_ORDER_MARK).unwrap_or(body);
    let mut reader = ReaderBuilder::new().flexible(true).from_reader(body);
    let header = reader.byte_headers().map_err(|error| FormatError::Table(format!("the header cannot be read: {error}")))?.clone();
    let columns = Columns::find(&header, mapping)?;
    let mut tally = Tally::default();
    let start = reader.position().byte() as usize;
    if memchr::memchr(b'"', &body[start..]).is_none() {
        read_plain(body, start, &columns, now, sink, &mut tally);
    } else {
        read_quoted(&mut reader, body, &columns, now, sink, &mut tally);
    }
    if columns.time.is_none() && tally.accepted > 0 {
        tally.notes.push(format!("no column is the time, so every row is of now, {}: name one with time=COLUMN", format_utc(now)));
    }
    Ok(tally)
}

/// Rows of a table without quotes: each line is a row, each comma parts two cells. Most tables are so, and are read in half the time.
fn read_plain<'b>(body: &'b [u8], start: usize, columns: &Columns<'b>, now: Nanos, sink: &mut dyn PointSink, tally: &mut Tally) {
    let first_line = 1 + memchr::memchr_iter(b'\n', &body[..start]).count() as u64;
    let ends = memchr::memchr_iter(b'\n', &body[start..]).map(|end| start + end).chain([body.len()]);
    let (mut cells, mut tags) = (Vec::new(), Vec::new());
    let mut at = start;
    for (line, end) in (first_line..).zip(ends) {
        let bytes = &body[at..end];
        let bytes = bytes.strip_suffix(b"\r").unwrap_or(bytes);
        at = end + 1;
        if !bytes.is_empty() {
            split(bytes, &mut cells);
            columns.read_row(Row { bytes, cells: &cells }, &mut tags, &mut || line, now, sink, tally);
        }
    }
}

fn split(bytes: &[u8], cells: &mut Vec<Range<usize>>) {
    cells.clear();
    let mut start = 0;
    for end in memchr::memchr_iter(b',', bytes).chain([bytes.len()]) {
        cells.push(start..end);
        start = end + 1;
    }
}

/// Rows of any table.
fn read_quoted(reader: &mut ::csv::Reader<&[u8]>, body: &[u8], columns: &Columns<'_>, now: Nanos, sink: &mut dyn PointSink, tally: &mut Tally) {
    let mut lines = LineCounter { body, at: 0, line: 1 };
    let (mut record, mut cells) = (ByteRecord::new(), Vec::new());
    loop {
        match reader.read_byte_record(&mut record) {
            Ok(false) => return,
            Ok(true) => {
                cells.clear();
                cells.extend((0..record.len()).filter_map(|cell| record.range(cell)));
                let row = Row { bytes: record.as_slice(), cells: &cells };
                columns.read_row(row, &mut Vec::new(), &mut || lines.line_of(&record), now, sink, tally);
            }
            Err(error) => {
                let line = error.position().map_or(0, ::csv::Position::line);
                return tally.reject(line, None, format!("the row cannot be read: {error}"));
            }
        }
    }
}

/// A row, and where its cells stand in its bytes.
struct Row<'r, 'c> {
    bytes: &'r [u8],
    cells: &'c [Range<usize>],
}

/// Counts the lines of a body on the way through it, when they are asked for. The parser's own count stops before blank lines, and within `\r\n`.
struct LineCounter<'b> {
    body: &'b [u8],
    at: usize,
    line: u64,
}

impl LineCounter<'_> {
    /// The line, from 1, on which the row begins that was found at or after a byte; rows come in order.
    fn line_of(&mut self, row: &ByteRecord) -> u64 {
        let from = row.position().map_or(self.at, |position| position.byte() as usize).clamp(self.at, self.body.len());
        let line_ends = self.body[from..].iter().take_while(|byte| matches!(**byte, b'\r' | b'\n')).count();
        let start = from + line_ends;
        self.line += self.body[self.at..start].iter().filter(|byte| **byte == b'\n').count() as u64;
        self.at = start;
        self.line
    }
}

/// Where each column of the mapping stands.
struct Columns<'m> {
    width: usize,
    time: Option<(usize, &'m str)>,
    tags: Vec<(usize, &'m str)>,
    values: Vec<(usize, &'m ValueColumn)>,
    constants: &'m [(String, String)],
}

impl<'m> Columns<'m> {
    fn find(header: &ByteRecord, mapping: &'m Mapping) -> Result<Self, FormatError> {
        let fault = |text: String| Err(FormatError::Table(text));
        let mut names = Vec::with_capacity(header.len());
        for (i, cell) in header.iter().enumerate() {
            let Ok(name) = std::str::from_utf8(cell) else { return fault(format!("column {} of the header is not UTF-8", i + 1)) };
            names.push(name.trim());
        }
        if names.is_empty() || names == [""] {
            return fault("there is no header: the first row names the columns".to_owned());
        }
        if let Some(twice) = (1..names.len()).map(|i| (names[i], &names[..i])).find(|(name, before)| before.contains(name)) {
            return fault(format!("the header has the column `{}` twice: rename one", twice.0));
        }
        let place = |wanted: &str| match names.iter().position(|name| *name == wanted) {
            Some(at) => Ok(at),
            None => {
                let hint = match (closest(wanted, names.iter().copied()), names.as_slice()) {
                    (Some(name), _) => format!(" Did you mean `{name}`?"),
                    (None, [one]) if one.contains([';', '\t', '|']) => " Its columns seem to be parted by something else than commas.".to_owned(),
                    _ => String::new(),
                };
                let known = listing(names.iter().copied(), 20);
                Err(FormatError::Table(format!("the header has no column `{wanted}`: it has {known}.{hint}")))
            }
        };
        let time = match &mapping.time {
            Some(column) => Some((place(column)?, column.as_str())),
            None => names.iter().position(|name| *name == "time").map(|at| (at, "time")),
        };
        if mapping.values.is_empty() {
            let known = listing(names.iter().copied(), 20);
            return fault(format!("no column is a value: name at least one with value=COLUMN (or state=COLUMN for words). The columns are {known}"));
        }
        let tags = mapping.tags.iter().map(|key| Ok((place(key)?, key.as_str()))).collect::<Result<_, _>>()?;
        let values = mapping.values.iter().map(|value| Ok((place(&value.column)?, value))).collect::<Result<_, _>>()?;
        Ok(Self { width: names.len(), time, tags, values, constants: &mapping.constants })
    }

    /// Reads a row into the sink; `tags` is used again and again.
    fn read_row<'r>(
        &self,
        row: Row<'r, '_>,
        tags: &mut Vec<(&'r str, &'r str)>,
        line: &mut dyn FnMut() -> u64,
        now: Nanos,
        sink: &mut dyn PointSink,
        tally: &mut Tally,
    ) where
        'm: 'r,
    {
        if row.cells.len() != self.width {
            return tally.reject(line(), None, format!("the row has {} cells, the header {}", row.cells.len(), self.width));
        }
        // One look at the whole row instead of one at each cell.
        let whole = std::str::from_utf8(row.bytes);
        let cell = |at: usize, column: &str| {
            let range = row.cells[at].clone();
            let text = match &whole {
                Ok(whole) => whole.get(range),
                Err(_) => std::str::from_utf8(&row.bytes[range]).ok(),
            };
            text.map(trimmed).ok_or_else(|| (column.to_owned(), "is not UTF-8".to_owned()))
        };
        let time = match self.time.map(|(at, column)| cell(at, column).and_then(|text| time_of(text, column))) {
            None => now,
            Some(Ok(time)) => time,
            Some(Err((column, reason))) => return tally.reject(line(), Some(column), reason),
        };
        tags.clear();
        tags.extend(self.constants.iter().map(|(key, value)| (key.as_str(), value.as_str())));
        for &(at, key) in &self.tags {
            match cell(at, key) {
                // An empty cell is a row without that tag.
                Ok("") => {}
                Ok(value) => tags.push((key, value)),
                Err((column, reason)) => return tally.reject(line(), Some(column), reason),
            }
        }
        for &(at, target) in &self.values {
            match cell(at, &target.column) {
                Ok("") => tally.empty_cells += 1,
                Ok(text) => match value_of(text, target) {
                    Ok(value) => tally.count(&mut *line, sink.accept(PointRef { metric: &target.metric, tags, time, value })),
                    Err(reason) => tally.reject(line(), Some(target.column.clone()), reason),
                },
                Err((column, reason)) => tally.reject(line(), Some(column), reason),
            }
        }
    }
}

/// Without spaces around it. Most cells have none, which their ends show.
fn trimmed(text: &str) -> &str {
    let is_plain = |byte: &u8| byte.is_ascii_graphic();
    if text.as_bytes().first().is_none_or(is_plain) && text.as_bytes().last().is_none_or(is_plain) { text } else { text.trim() }
}

fn time_of(text: &str, column: &str) -> Result<Nanos, (String, String)> {
    if text.is_empty() {
        return Err((column.to_owned(), "is empty: every row needs a time".to_owned()));
    }
    parse_rfc3339(text).map_err(|error| (column.to_owned(), error.to_string()))
}

fn value_of<'c>(text: &'c str, column: &ValueColumn) -> Result<ValueRef<'c>, String> {
    if column.words {
        return Ok(ValueRef::Word(text));
    }
    // Integers that no double holds have more digits than this.
    if text.len() > 15
        && let Ok(integer) = text.parse::<i128>()
        && (i128::from(i64::MIN)..=i128::from(u64::MAX)).contains(&integer)
    {
        return Ok(ValueRef::Integer(integer));
    }
    match text.parse() {
        Ok(number) => Ok(ValueRef::Number(number)),
        Err(_) => Err(format!("`{text}` is not a number (if the column holds words of a state, name it with state={})", column.column)),
    }
}
