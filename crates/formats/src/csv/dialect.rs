//! How a table is written, found out from its first rows.

use fenetre_core::time::{TimeFormat, TimeRule};

use crate::mapping::Dialect;

/// A dialect with nothing left open.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Written {
    pub delimiter: u8,
    pub quote: u8,
    pub decimal_comma: bool,
    pub header: bool,
}

/// Rows that are looked at.
const SAMPLE_ROWS: usize = 20;
const DELIMITERS: [u8; 4] = *b",;\t|";

impl Written {
    /// What the first bytes of a table show, where the mapping leaves it open.
    pub fn detect(start: &[u8], wanted: &Dialect, default_delimiter: Option<u8>) -> Self {
        let quote = wanted.quote.map_or(b'"', ascii);
        let delimiter = wanted.delimiter.map(ascii).or(default_delimiter).unwrap_or_else(|| delimiter_of(start, quote));
        let rows: Vec<Vec<String>> = sample(start, delimiter, quote);
        let decimal_comma = match wanted.decimal {
            Some(decimal) => decimal == ',',
            None => delimiter != b',' && has_decimal_commas(rows.get(1..).unwrap_or_default()),
        };
        let header = wanted.header.unwrap_or_else(|| !rows.first().is_some_and(|first| first.iter().any(|cell| is_data(cell))));
        Self { delimiter, quote, decimal_comma, header }
    }

    /// What of it is out of the ordinary, for a note.
    pub fn describe(self, wanted: &Dialect) -> Option<String> {
        let mut found = Vec::new();
        if wanted.delimiter.is_none() && self.delimiter != b',' {
            found.push(format!("cells are parted by {}", name_of(self.delimiter)));
        }
        if wanted.decimal.is_none() && self.decimal_comma {
            found.push("numbers have decimal commas".to_owned());
        }
        if wanted.header.is_none() && !self.header {
            found.push("there is no header, so columns are called column1, column2 and so on".to_owned());
        }
        (!found.is_empty()).then(|| format!("detected: {} (a mapping can say otherwise under [table])", found.join("; ")))
    }
}

fn ascii(character: char) -> u8 {
    // Mappings are checked for it.
    u8::try_from(character).unwrap_or(b',')
}

fn name_of(delimiter: u8) -> &'static str {
    match delimiter {
        b';' => "semicolons",
        b'\t' => "tabs",
        b'|' => "upright strokes",
        _ => "something else than commas",
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

fn has_decimal_commas(rows: &[Vec<String>]) -> bool {
    let is_number = |text: &str| {
        let digits = text.strip_prefix('-').unwrap_or(text);
        digits.split_once(',').is_some_and(|(whole, rest)| {
            !whole.is_empty() && !rest.is_empty() && whole.chars().all(|c| c.is_ascii_digit() || c == '.') && rest.chars().all(|c| c.is_ascii_digit())
        })
    };
    rows.iter().flatten().any(|cell| is_number(cell))
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
        let plain = detect("time,lock,level\n2026-05-01T09:00:00Z,osier,3.5\n");
        assert_eq!(plain, Written { delimiter: b',', quote: b'"', decimal_comma: false, header: true });
        let german = detect("Zeit;Schleuse;Pegel\n01.05.2026 09:00;osier;3,5\n01.05.2026 09:10;osier;1.203,25\n");
        assert_eq!((german.delimiter, german.decimal_comma, german.header), (b';', true, true));
        assert_eq!(detect("time\tnote\tlevel\n1\ta, b\t3\n2\tc\t4\n").delimiter, b'\t');
        assert_eq!(detect("a|b\n1|2\n").delimiter, b'|');
        assert!(!detect("2026-05-01 09:00:00,osier,3.5\n").header);
        assert_eq!(detect("level\n3\n"), Written { header: true, ..plain });
        assert_eq!(detect("").delimiter, b',');
    }

    #[test]
    fn what_a_mapping_says_is_not_looked_for() {
        let wanted = Dialect { delimiter: Some(';'), header: Some(true), decimal: Some('.'), ..Dialect::default() };
        let found = Written::detect(b"1,2\n3,4\n", &wanted, None);
        assert_eq!(found, Written { delimiter: b';', quote: b'"', decimal_comma: false, header: true });
        assert_eq!(found.describe(&wanted), None);
        assert!(detect("1;2\n").describe(&Dialect::default()).unwrap().contains("semicolons"));
    }
}
