//! How a table is written, found out from its first rows.

use fenetre_core::time::{TimeFormat, TimeRule};

use crate::mapping::{Dialect, Evidence, Grouped, Notation};

/// A dialect with nothing left open.
#[derive(Clone, Debug, PartialEq)]
pub struct Written {
    pub delimiter: u8,
    pub quote: u8,
    pub notation: Notation,
    /// A cell whose thousands are grouped, if any are.
    pub groups: Option<Grouped>,
    pub header: bool,
}

/// Rows that are looked at.
const SAMPLE_ROWS: usize = 200;
const DELIMITERS: [u8; 4] = *b",;\t|";

impl Written {
    /// What the first bytes of a table show, where the mapping leaves it open.
    pub fn detect(start: &[u8], wanted: &Dialect, default_delimiter: Option<u8>) -> Self {
        let quote = wanted.quote.map_or(b'"', ascii);
        let delimiter = wanted.delimiter.map(ascii).or(default_delimiter).unwrap_or_else(|| delimiter_of(start, quote));
        let rows: Vec<Vec<String>> = sample(start, delimiter, quote);
        let evidence = Evidence::of(rows.get(1..).unwrap_or_default().iter().flatten().map(String::as_str));
        let notation = match wanted.decimal {
            Some(decimal) => Notation { decimal_comma: decimal == ',', is_known: true },
            None => evidence.notation(delimiter == b','),
        };
        let groups = evidence.grouped(notation);
        let header = wanted.header.unwrap_or_else(|| !rows.first().is_some_and(|first| first.iter().any(|cell| is_data(cell))));
        Self { delimiter, quote, notation, groups, header }
    }

    /// What of it is out of the ordinary, for a note.
    pub fn describe(&self, wanted: &Dialect) -> Option<String> {
        let mut found = Vec::new();
        if wanted.delimiter.is_none() && self.delimiter != b',' {
            found.push(format!("the delimiter is {}", name_of(self.delimiter)));
        }
        if wanted.decimal.is_none() && self.notation.decimal_comma {
            found.push("numbers have decimal commas".to_owned());
        }
        if wanted.decimal.is_none() {
            found.extend(self.groups.as_ref().map(ToString::to_string));
        }
        if wanted.header.is_none() && !self.header {
            found.push("there is no header, so the columns are named column1, column2 and so on".to_owned());
        }
        (!found.is_empty()).then(|| format!("detected: {} (override it under [table] of a mapping)", found.join("; ")))
    }
}

/// The delimiter that a first line `sep=;` states, which spreadsheets write and obey, and the length of that line in bytes.
pub fn stated_delimiter(start: &[u8]) -> Option<(u8, usize)> {
    let end = memchr::memchr(b'\n', start)?;
    let line = start[..end].trim_ascii_end();
    let line = line.strip_prefix(b"\"").and_then(|line| line.strip_suffix(b"\"")).unwrap_or(line);
    let (word, rest) = line.split_at_checked(4)?;
    // A tab is trimmed away with the end of the line.
    let delimiter = if rest.is_empty() { b'\t' } else { rest[0] };
    let is_one = rest.len() <= 1 && DELIMITERS.contains(&delimiter);
    (word.eq_ignore_ascii_case(b"sep=") && is_one).then_some((delimiter, end + 1))
}

fn ascii(character: char) -> u8 {
    // Mappings are checked for it.
    u8::try_from(character).unwrap_or(b',')
}

fn name_of(delimiter: u8) -> &'static str {
    match delimiter {
        b';' => "a semicolon",
        b'\t' => "a tab",
        b'|' => "a vertical bar",
        _ => "not a comma",
    }
}

/// The delimiter that parts the first rows into the most cells, as many in each.
fn delimiter_of(start: &[u8], quote: u8) -> u8 {
    let regular = |delimiter: &u8| {
        let rows = sample(start, *delimiter, quote);
        let width = rows.first().map_or(1, Vec::len);
        let fitting = rows.iter().filter(|row| row.len() == width).count();
        if width < 2 { 0 } else { fitting * 1_000 / rows.len().max(1) * 100 + width.min(99) }
    };
    // The earlier one where two are as good, and the comma where none parts anything.
    DELIMITERS.into_iter().rev().max_by_key(regular).filter(|delimiter| regular(delimiter) > 0).unwrap_or(b',')
}

fn sample(start: &[u8], delimiter: u8, quote: u8) -> Vec<Vec<String>> {
    let reader = ::csv::ReaderBuilder::new().flexible(true).has_headers(false).delimiter(delimiter).quote(quote).from_reader(start);
    let rows = reader.into_byte_records().take(SAMPLE_ROWS).map_while(Result::ok);
    let cells = |row: ::csv::ByteRecord| row.iter().map(|cell| String::from_utf8_lossy(cell).trim().to_owned()).collect();
    rows.map(cells).collect()
}

/// Whether a cell is a number or a time, which names of columns are not.
fn is_data(cell: &str) -> bool {
    let rule = TimeRule { format: TimeFormat::Iso, zone: Some(jiff::tz::TimeZone::UTC), ..TimeRule::default() };
    cell.parse::<f64>().is_ok_and(f64::is_finite) || rule.read(cell).is_ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn detect(text: &str) -> Written {
        Written::detect(text.as_bytes(), &Dialect::default(), None)
    }

    #[test]
    fn dialects_are_told_apart() {
        let plain = detect("time,lock,level\n2026-05-01T09:00:00Z,osier,3\n");
        assert_eq!(plain, Written { delimiter: b',', quote: b'"', notation: Notation::default(), groups: None, header: true });
        let german = detect("Zeit;Schleuse;Pegel\n01.05.2026 09:00;osier;3,5\n01.05.2026 09:10;osier;1.203,25\n");
        assert_eq!((german.delimiter, german.notation.decimal_comma, german.header), (b';', true, true));
        assert_eq!(detect("time\tnote\tlevel\n1\ta, b\t3\n2\tc\t4\n").delimiter, b'\t');
        assert_eq!(detect("a|b\n1|2\n").delimiter, b'|');
        assert!(!detect("2026-05-01 09:00:00,osier,3.5\n").header);
        assert_eq!(detect("level\n3\n"), Written { header: true, ..plain });
        assert_eq!(detect("").delimiter, b',');
    }

    #[test]
    fn a_first_line_may_state_the_delimiter() {
        assert_eq!(stated_delimiter(b"sep=;\nZeit;Pegel\n"), Some((b';', 6)));
        assert_eq!(stated_delimiter(b"\"SEP=|\"\r\nZeit"), Some((b'|', 9)));
        assert_eq!(stated_delimiter(b"sep=\t\na\tb\n"), Some((b'\t', 6)));
        for other in ["sep=;", "sep=ab\n", "september\n", "sep,level\n", "\n", ""] {
            assert_eq!(stated_delimiter(other.as_bytes()), None, "{other:?}");
        }
    }

    #[test]
    fn a_mapping_overrides_detection() {
        let wanted = Dialect { delimiter: Some(';'), header: Some(true), decimal: Some('.'), ..Dialect::default() };
        let found = Written::detect(b"1,2\n3,4\n", &wanted, None);
        assert_eq!(
            found,
            Written { delimiter: b';', quote: b'"', notation: Notation { decimal_comma: false, is_known: true }, groups: None, header: true }
        );
        assert_eq!(found.describe(&wanted), None);
        assert!(detect("1;2\n").describe(&Dialect::default()).unwrap().contains("a semicolon"));
    }
}
